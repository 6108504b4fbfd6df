//! A target table as the rest of the program sees it: columns, key, and what its definition hashes to.

use serde::{Deserialize, Serialize};

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
    /// A unique key over columns that refuse NULL.
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
}

/// The column that names a row to a person: one that is called so, and not part of the key.
pub fn naming(columns: &[Column], key: &Key) -> Option<usize> {
    ["name", "title", "label", "full_name", "description"].iter().find_map(|wanted| {
        columns
            .iter()
            .position(|c| c.name.eq_ignore_ascii_case(wanted))
            .filter(|at| !key.columns.contains(at))
    })
}

impl Target {
    /// The position of a column by name: the very name, else one that differs in ASCII case only.
    pub fn position(&self, name: &str) -> Option<usize> {
        let exact = self.columns.iter().position(|c| c.name == name);
        exact.or_else(|| self.columns.iter().position(|c| c.name.eq_ignore_ascii_case(name)))
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
