//! A target table as the rest of the program sees it: columns, key, and what its definition hashes to.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::near::nearest;
use crate::value::Value;
use crate::veil::Veil;

/// One column of a target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Column {
    /// Its name as declared.
    pub name: String,
    /// Its declared type, as the engine's catalogue writes it; may be empty.
    #[serde(rename = "type")]
    pub declared: String,
    /// Whether the engine computes it (a generated column): it can be read but not assigned.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub generated: bool,
    /// Whether NULL is refused.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub not_null: bool,
}

/// What tells one row of a target from another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeyKind {
    /// The declared primary key.
    Primary,
    /// A unique key over columns that refuse NULL, or hold none.
    Unique,
    /// The engine's own row identity, for a table that declares neither.
    RowIdentity,
    /// The whole row with its multiplicity, for a table that declares neither and whose engine has no row identity
    /// that lasts. Rows that are equal in every byte are then one another's equals.
    WholeRow,
}

/// The key of a target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Key {
    /// What kind it is.
    pub kind: KeyKind,
    /// The key's column names; for [`KeyKind::RowIdentity`] the one name under which the engine gives it;
    /// empty for [`KeyKind::WholeRow`].
    pub names: Vec<String>,
    /// Positions of the key's columns among the target's; empty for [`KeyKind::RowIdentity`]
    /// and [`KeyKind::WholeRow`].
    pub columns: Vec<usize>,
}

/// A target table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Target {
    /// The table's name as the catalogue has it.
    pub table: String,
    /// The schema (or attached database) it lives in.
    pub schema: String,
    /// All columns, in the table's order.
    pub columns: Vec<Column>,
    /// What tells its rows apart.
    pub key: Key,
    /// Hash of all definitions that bear on what a statement means here: the table, its indexes, its triggers.
    pub definition: String,
    /// The column that names a row to a person (a name, a title), where there is one.
    pub naming: Option<usize>,
    /// Columns that refer to other tables: their numbers are names, and no amounts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub refers: Vec<usize>,
    /// Columns whose values are never shown: a secret is assigned to them, or somebody has said so.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hidden: Vec<usize>,
    /// What stands for a key that is hidden itself.
    #[serde(skip)]
    pub veil: Veil,
    /// Tables that have rows in common with it, with their schemas: what it is a part of, its parts, and theirs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub family: Vec<(String, String)>,
}

/// How many rows a table has. A large one is not counted for what is only shown: then it is what the engine reckons.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Extent {
    /// Rows.
    pub rows: u64,
    /// Whether that is reckoned.
    pub about: bool,
}

/// Rows up to which a table is counted.
pub const COUNTED: u64 = 10_000;

impl Extent {
    /// A table that was counted.
    pub fn exact(rows: u64) -> Extent {
        Extent { rows, about: false }
    }

    /// The rows besides so many; `None` where there are none, and where they were estimated: an estimate may count rows that are gone, and
    /// proves nothing.
    #[must_use]
    pub fn without(self, rows: u64) -> Option<Extent> {
        let left = self.rows.saturating_sub(rows);
        (left > 0 && !self.about).then_some(Extent { rows: left, ..self })
    }
}

/// The column that names a row to a person: one that is called so, or a text that is called like its table, and not part of
/// the key.
pub fn naming(table: &str, columns: &[Column], key: &Key) -> Option<usize> {
    let find = |wanted: &str, text: bool| {
        let called = |c: &Column| c.name.eq_ignore_ascii_case(wanted) && (!text || is_text(&c.declared));
        columns.iter().position(called).filter(|at| !key.columns.contains(at))
    };
    let usual = ["name", "title", "label", "full_name", "description"];
    let one = table.strip_suffix('s').unwrap_or(table);
    let own = [table, one, &format!("{table}_name"), &format!("{one}_name")].map(str::to_owned);
    usual.iter().find_map(|wanted| find(wanted, false)).or_else(|| own.iter().find_map(|w| find(w, true)))
}

/// Which column names the rows of a table, as far as somebody has said so: by table, or by schema and table with a point
/// between.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NamedBy(pub BTreeMap<String, String>);

impl NamedBy {
    /// The column that was said for a table.
    fn said(&self, target: &Target) -> Option<&str> {
        let whole = format!("{}.{}", target.schema, target.table);
        let is = |(table, _): &(&String, &String)| {
            table.eq_ignore_ascii_case(&target.table) || table.eq_ignore_ascii_case(&whole)
        };
        self.0.iter().find(is).map(|(_, column)| column.as_str())
    }

    /// Lets the rows of a table be named by what was said; tells where that is no column of it.
    pub fn apply(&self, target: &mut Target) -> Option<String> {
        let column = self.said(target)?;
        let Some(at) = target.position(column) else {
            return Some(format!("{} is to be named by {column}, which is no column of it", target.table));
        };
        target.naming = Some(at).filter(|at| !target.key.columns.contains(at));
        None
    }
}

impl Column {
    /// Whether a value of this column is equal to itself in any engine, once it is written down and read again: numbers that are
    /// not rounded, moments, and texts that are not filled up with blanks.
    pub fn compares(&self, value: &Value) -> bool {
        let declared = self.declared.to_ascii_lowercase();
        let padded = ["char(", "character(", "bpchar"].iter().any(|kind| declared.starts_with(kind));
        let moment = ["date", "time"].iter().any(|kind| declared.contains(kind));
        match value {
            Value::Null | Value::Bool(_) | Value::Int(_) | Value::Decimal(_) => true,
            Value::Text(_) => (is_text(&declared) || moment) && !padded,
            _ => false,
        }
    }
}

/// Whether a declared type is one of texts.
fn is_text(declared: &str) -> bool {
    let declared = declared.to_ascii_lowercase();
    ["char", "text", "clob"].iter().any(|word| declared.contains(word))
}

impl Target {
    /// Hides columns, besides those that are hidden already; a hidden one names no row.
    pub fn hide(&mut self, columns: impl IntoIterator<Item = usize>) {
        self.hidden.extend(columns);
        self.hidden.sort_unstable();
        self.hidden.dedup();
        self.naming = self.naming.filter(|at| !self.hidden.contains(at));
    }

    /// Whether what tells its rows is never shown.
    pub fn hides_key(&self) -> bool {
        let whole = self.key.kind == KeyKind::WholeRow && !self.hidden.is_empty();
        whole || self.key.columns.iter().any(|at| self.hidden.contains(at))
    }

    /// What a row is told by: its key, or a number in its place where that is never shown.
    pub fn shown_key(&self, key: &[Value]) -> Vec<Value> {
        if !self.hides_key() || key.is_empty() {
            return key.to_vec();
        }
        self.veil.key(key)
    }

    /// The names of its hidden columns.
    pub fn hidden_names(&self) -> Vec<String> {
        self.names(&self.hidden)
    }

    /// The position of a column by name: the very name, else one that differs in ASCII case only.
    pub fn position(&self, name: &str) -> Option<usize> {
        let exact = self.columns.iter().position(|c| c.name == name);
        exact.or_else(|| self.columns.iter().position(|c| c.name.eq_ignore_ascii_case(name)))
    }

    /// That there is no column of this name, and what to do: the one that was meant, or those that there are.
    pub fn no_column(&self, name: &str) -> (String, String) {
        let all: Vec<&str> = self.columns.iter().map(|c| c.name.as_str()).collect();
        let hint = match nearest(name, all.iter().copied()) {
            Some(near) => format!("did you mean {near}?"),
            None => format!("there are: {}", all.join(", ")),
        };
        (format!("{} has no column {name}", self.table), hint)
    }

    /// Those of some columns whose numbers are amounts that can be added up: they are neither a key nor refer to one, and not hidden.
    pub fn amounts(&self, columns: impl IntoIterator<Item = usize>) -> Vec<usize> {
        let named = |at: &usize| {
            self.key.columns.contains(at) || self.refers.contains(at) || self.hidden.contains(at)
        };
        columns.into_iter().filter(|at| !named(at)).collect()
    }

    /// Whether both are the same table, however it is defined now.
    pub fn same_table(&self, other: &Target) -> bool {
        (&self.schema, &self.table) == (&other.schema, &other.table)
    }

    /// Whether a row of the one may be a row of the other, and looks the same there.
    pub fn shares_rows(&self, other: &Target) -> bool {
        let related =
            self.family.iter().any(|(schema, table)| *schema == other.schema && *table == other.table);
        let same = |(a, b): (&Column, &Column)| a.name == b.name;
        let alike = || {
            self.columns.len() == other.columns.len()
                && self.key.columns == other.key.columns
                && self.columns.iter().zip(&other.columns).all(same)
        };
        self.same_table(other) || (related && alike())
    }

    /// The column names at `positions`.
    pub fn names(&self, positions: &[usize]) -> Vec<String> {
        positions.iter().filter_map(|&p| self.columns.get(p)).map(|c| c.name.clone()).collect()
    }
}

/// What in a filter pins its rows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "by", content = "columns")]
pub enum Pin {
    /// The whole primary key is compared with values.
    PrimaryKey(Vec<String>),
    /// All columns of a unique key are.
    UniqueKey(Vec<String>),
    /// The engine's row identity is.
    RowIdentity(Vec<String>),
    /// No key is.
    Nothing,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_estimate_says_nothing_of_the_rest() {
        let about = |rows| Extent { rows, about: true };
        assert_eq!(Extent::exact(12).without(11), Some(Extent::exact(1)));
        assert_eq!(Extent::exact(12).without(12), None);
        assert_eq!(about(100_000).without(40), None, "it may as well be none");
        assert_eq!(about(90).without(100), None);
    }
}
