//! Constraints that a step would break, row by row, as it is known before anything runs.

use serde::Serialize;

use crate::finding::Code;
use crate::secret::HIDDEN;
use crate::secret::HiddenColumns;
use crate::table::Target;
use crate::value::{Value, key_text};
use crate::words;

/// What kind of constraint it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Rule {
    /// Values that no other row may hold.
    Unique,
    /// A column that refuses NULL.
    NotNull,
    /// A condition that every row must keep.
    Check,
    /// A reference whose row must be there.
    Parent,
    /// Rows of another table that refer to a row, and hold it.
    Children,
    /// No constraint: rows that are there already in everything but what is given by the engine.
    Twins,
}

/// One row that breaks a constraint.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Breaker {
    /// Its key.
    pub key: Vec<Value>,
    /// What it would hold in the constraint's columns; empty where that says nothing.
    pub holds: Vec<Option<String>>,
    /// The key of the row that it collides with, or that holds it.
    pub with: Option<String>,
}

/// A constraint that would be broken.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Breach {
    /// Its kind.
    pub rule: Rule,
    /// Its columns: those of the target, for children those of the table that refers.
    pub columns: Vec<String>,
    /// The table, where it is not the step's own: rows that it takes along.
    pub table: Option<String>,
    /// The other table: the parent that lacks a row, the one that refers, or the one that rows are put away in.
    pub other: Option<String>,
    /// What a check demands, or an exclusion.
    pub text: Option<String>,
    /// Which conditions of a check are false, where it has several.
    pub parts: Vec<String>,
    /// Whether the rows break it among themselves.
    pub among: bool,
    /// Whether the rows come in: they are then told by their number among those that do, from 1.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub comes: bool,
    /// The rows that break it; for children the rows that refer.
    pub rows: u64,
    /// The first of them.
    pub first: Vec<Breaker>,
    /// Why it is not certain: what only the run can tell.
    pub unless: Option<String>,
}

impl Breach {
    /// The code of the finding that says it.
    pub fn code(&self) -> Code {
        match self.rule {
            Rule::Unique => Code::TakenAlready,
            Rule::NotNull => Code::NullRefused,
            Rule::Check => Code::CheckRefused,
            Rule::Parent => Code::NoParent,
            Rule::Children => Code::HasChildren,
            Rule::Twins => Code::TwinRows,
        }
    }
}

impl Breach {
    /// Hides what rows hold in hidden columns, and what tells rows where that is hidden: of the target, and of other tables that have
    /// hidden `columns`.
    pub fn hide(&mut self, target: &Target, columns: &HiddenColumns) {
        let hidden = target.hidden_names();
        let tables = columns.tables();
        let has_hidden = |name: &Option<String>| {
            let bare = name.as_deref().map(|name| name.rsplit('.').next().unwrap_or(name));
            bare.is_some_and(|bare| tables.iter().any(|table| table.eq_ignore_ascii_case(bare)))
        };
        let theirs = has_hidden(&self.table);
        let own = self.table.is_none() && self.columns.iter().any(|column| hidden.contains(column));
        let twins = !hidden.is_empty() && self.rule == Rule::Twins;
        if own || twins || theirs || target.hides_key() {
            for cell in self.first.iter_mut().flat_map(|row| &mut row.holds) {
                *cell = Some(HIDDEN.to_owned());
            }
        }
        if target.hides_key() || theirs || has_hidden(&self.other) {
            self.first.iter_mut().for_each(|row| row.with = None);
        }
        for row in &mut self.first {
            row.key = match &self.table {
                None => target.shown_key(&row.key),
                Some(_) if theirs => target.veil.key(&row.key),
                Some(_) => continue,
            };
        }
    }

    /// What is said of it: how many rows break it, and the first of them by key.
    pub fn sentence(&self, table: &str) -> String {
        let table = self.table.as_deref().unwrap_or(table);
        let (n, columns, rows) = (self.rows, self.columns.join(", "), words::rows(self.rows));
        let other = self.other.as_deref().unwrap_or_default();
        let said = match self.rule {
            Rule::Unique if self.text.is_some() => {
                let exclusion = self.text.as_deref().unwrap_or_default();
                let whom = if self.among { "each other" } else { "another row" };
                format!("{rows} would exclude {whom} by {columns} ({exclusion})")
            }
            Rule::Unique if self.among => format!("{rows} would hold the same {columns}"),
            Rule::Unique if self.other.is_some() => {
                let go = words::either(n, "goes", "go");
                format!("{rows} that {go} into {other} would have the {columns} of rows that are there")
            }
            Rule::Unique => format!("{columns} of {rows} would be what another row holds"),
            Rule::Twins => {
                let is = words::either(n, "is", "are");
                format!("{rows} {is} there already in all of {columns}")
            }
            Rule::NotNull => format!("{columns} of {rows} would be NULL, which it refuses"),
            Rule::Check => {
                let check = self.text.as_deref().unwrap_or_default();
                let plain = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
                let parts: Vec<String> = self.parts.iter().map(|part| plain(part)).collect();
                let (check, holds) = (plain(check), words::either(parts.len() as u64, "does", "do"));
                let parts = match parts.as_slice() {
                    [] => String::new(),
                    all => format!(", of which {} {holds} not hold", all.join(" and ")),
                };
                format!("{rows} would break the check {check}{parts}")
            }
            Rule::Parent => format!("{columns} of {rows} would refer to what {other} does not have"),
            Rule::Children => {
                let (refer, hold) = (words::either(n, "refers", "refer"), words::either(n, "holds", "hold"));
                let these = match &self.table {
                    None => "these".to_owned(),
                    Some(table) => format!("rows of {table} that are taken along"),
                };
                format!("{rows} of {other} {refer} to {these} by {columns}, and {hold} them there")
            }
        };
        let named: Vec<String> = self.first.iter().map(|row| self.named(row, table)).collect();
        // Rows that meet among themselves are named two by two.
        let more = if self.among { 0 } else { n.saturating_sub(named.len() as u64) };
        match (named.as_slice(), more) {
            ([], _) => said,
            (_, 0) => format!("{said}: {}", named.join(", ")),
            (_, more) => format!("{said}: {}, and {} more", named.join(", "), words::number(more)),
        }
    }

    /// One row: `keeper 3 (ann@heather.example, as keeper 7)`.
    fn named(&self, row: &Breaker, table: &str) -> String {
        let key = key_text(&row.key);
        if self.comes {
            let with = row.with.as_ref();
            let with = with
                .map(|other| if self.among { format!("and {other}") } else { format!("as {table} {other}") });
            let holds = (!short(&row.holds).is_empty()).then(|| short(&row.holds));
            let parts: Vec<String> = match self.among {
                true => {
                    return format!(
                        "rows {key} {} ({})",
                        with.unwrap_or_default(),
                        holds.unwrap_or_default()
                    );
                }
                false => holds.into_iter().chain(with).collect(),
            };
            let parts = parts.join(", ");
            return if parts.is_empty() { format!("row {key}") } else { format!("row {key} ({parts})") };
        }
        let short = short(&row.holds);
        match (self.rule, &row.with) {
            (Rule::Children, Some(child)) => {
                format!("{} {child} to {table} {key}", self.other.as_deref().unwrap_or_default())
            }
            (Rule::Unique, Some(there)) if self.other.is_some() => {
                format!("{table} {key} (as {} {there})", self.other.as_deref().unwrap_or_default())
            }
            (_, Some(other)) if self.among => format!("{table} {key} and {other} ({short})"),
            (_, Some(other)) => format!("{table} {key} ({short}, as {table} {other})"),
            (_, None) if short.is_empty() => format!("{table} {key}"),
            (_, None) => format!("{table} {key} ({short})"),
        }
    }
}

/// What a row holds, in a few words.
fn short(holds: &[Option<String>]) -> String {
    let holds = holds.iter().map(|cell| cell.as_deref().unwrap_or("NULL")).collect::<Vec<_>>().join(", ");
    if holds.chars().count() > SHOWN {
        return holds.chars().take(SHOWN - 3).chain("...".chars()).collect();
    }
    holds
}

/// Characters of a value that are shown in a sentence.
const SHOWN: usize = 60;

/// The keys of all rows that would break one of these constraints; `None` where not all of them are named.
pub fn breakers(breaches: &[Breach]) -> Option<Vec<Vec<Value>>> {
    let mut keys: Vec<Vec<Value>> = Vec::new();
    for breach in breaches.iter().filter(|breach| breach.unless.is_none()) {
        let named = breach.first.len() as u64;
        // Which of the step's rows take along what breaks it is not told.
        if breach.table.is_some()
            || breach.comes
            || breach.among && named * 2 > breach.rows
            || !breach.among && named < breach.rows
        {
            return None;
        }
        for row in &breach.first {
            if !keys.contains(&row.key) {
                keys.push(row.key.clone());
            }
        }
    }
    (!keys.is_empty()).then_some(keys)
}

/// What was asked about a step's constraints.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Breaches {
    /// Those that would be broken.
    pub found: Vec<Breach>,
    /// Those that were not looked at to the end, in words.
    pub open: Vec<String>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_named_and_the_others_counted() {
        let row = |key: i64, holds: &str, with: Option<&str>| Breaker {
            key: vec![Value::Int(key)],
            holds: vec![Some(holds.to_owned())],
            with: with.map(str::to_owned),
        };
        let breach = Breach {
            rule: Rule::Unique,
            columns: vec!["email".into()],
            parts: Vec::new(),
            table: None,
            other: None,
            text: None,
            among: false,
            comes: false,
            rows: 3,
            first: vec![row(3, "ada@x", Some("7"))],
            unless: None,
        };
        assert_eq!(
            breach.sentence("keeper"),
            "email of 3 rows would be what another row holds: keeper 3 (ada@x, as keeper 7), and 2 more"
        );
        let among = Breach { among: true, rows: 2, ..breach };
        assert_eq!(among.sentence("keeper"), "2 rows would hold the same email: keeper 3 and 7 (ada@x)");
    }
}
