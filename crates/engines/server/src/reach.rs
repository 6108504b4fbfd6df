//! Foreign keys' actions: which rows of other tables a statement takes along.

use marktwice_core::mark::StepKind;
use marktwice_core::table::Target;
use marktwice_port::{EngineError, SideHow, SideWrite};
use marktwice_sql::Language;

use marktwice_core::survey::Reference;

use crate::layout::{HELD, before};

/// A foreign key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ForeignKey {
    /// The table that refers, as it is shown.
    pub child: String,
    /// The same, quoted, to stand in a statement.
    pub child_sql: String,
    /// Its columns.
    pub child_columns: Vec<String>,
    /// The table that is referred to, as it is shown.
    pub parent: String,
    /// Its schema and its name, as the catalogue has them.
    pub parent_name: (String, String),
    /// Its columns.
    pub parent_columns: Vec<String>,
    /// The action in capitals: `CASCADE`, `SET NULL`, `SET DEFAULT`, `RESTRICT`, `NO ACTION`.
    pub on_update: String,
    /// The same for a DELETE.
    pub on_delete: String,
}

impl ForeignKey {
    /// The same for people.
    pub fn reference(&self) -> Reference {
        Reference {
            child: self.child.clone(),
            child_columns: self.child_columns.clone(),
            parent: self.parent.clone(),
            parent_columns: self.parent_columns.clone(),
            on_update: self.on_update.clone(),
            on_delete: self.on_delete.clone(),
        }
    }
}

/// How rows are compared and counted.
pub struct Counter<'a> {
    /// The language.
    pub language: Language,
    /// The held table, as it stands in a statement.
    pub held: &'a str,
    /// Runs a statement that gives one number.
    pub count: &'a mut dyn FnMut(&str) -> Result<u64, EngineError>,
}

fn acts(action: &str) -> bool {
    ["CASCADE", "SET NULL", "SET DEFAULT"].contains(&action)
}

/// Counts the rows that foreign keys' actions would write, from the held rows; keys without any are left out. `shown`
/// is the target as foreign keys name it; `assigned` are the columns that an UPDATE may change, with the name of their
/// after-value in the held table where it is known.
///
/// # Errors
/// When the engine fails.
pub fn count_actions(
    counter: &mut Counter<'_>,
    keys: &[ForeignKey],
    target: &Target,
    shown: &str,
    kind: StepKind,
    assigned: &[(usize, Option<String>)],
) -> Result<Vec<SideWrite>, EngineError> {
    let mut all: Vec<SideWrite> = Vec::new();
    for key in keys.iter().filter(|k| k.parent == shown) {
        let (word, action) = match kind {
            StepKind::Delete => ("DELETE", &key.on_delete),
            StepKind::Update => ("UPDATE", &key.on_update),
            StepKind::Insert => continue,
        };
        let parents: Vec<usize> = key.parent_columns.iter().filter_map(|c| target.position(c)).collect();
        let touched = kind == StepKind::Delete || assigned.iter().any(|(at, _)| parents.contains(at));
        if !touched || !acts(action) || parents.len() != key.child_columns.len() {
            continue;
        }
        let query = children(counter, key, target, shown, &parents, assigned);
        let rows = (counter.count)(&query)?;
        if rows == 0 {
            continue;
        }
        let how = SideHow::ForeignKey(format!("ON {word} {action}"));
        all.push(SideWrite { table: key.child.clone(), how, rows: Some(rows) });
        if kind == StepKind::Delete && action == "CASCADE" {
            let mut seen = vec![key.child.as_str()];
            for further in deeper(keys, &key.child, &mut seen) {
                let how = SideHow::ForeignKey(format!("ON DELETE {}", further.on_delete));
                all.push(SideWrite { table: further.child.clone(), how, rows: None });
            }
        }
    }
    Ok(all)
}

/// Tables that a cascade reaches from `child` on, further down.
fn deeper<'k>(keys: &'k [ForeignKey], child: &str, seen: &mut Vec<&'k str>) -> Vec<&'k ForeignKey> {
    let mut all = Vec::new();
    for key in keys.iter().filter(|k| k.parent == child && acts(&k.on_delete)) {
        if !seen.contains(&key.child.as_str()) {
            seen.push(&key.child);
            all.push(key);
            if key.on_delete == "CASCADE" {
                all.extend(deeper(keys, &key.child, seen));
            }
        }
    }
    all
}

/// Counts child rows of the held rows; for an UPDATE only of those whose parent key becomes another.
fn children(
    counter: &Counter<'_>,
    key: &ForeignKey,
    target: &Target,
    shown: &str,
    parents: &[usize],
    assigned: &[(usize, Option<String>)],
) -> String {
    let language = counter.language;
    let on: Vec<String> = key
        .child_columns
        .iter()
        .zip(parents)
        .map(|(child, at)| format!("c.{} = h.{}", language.quoted(child), before(*at)))
        .collect();
    let changes: Vec<String> = assigned
        .iter()
        .filter(|(at, _)| parents.contains(at))
        .map(|(at, after)| match after {
            Some(after) => language.differs(&format!("h.{}", before(*at)), &format!("h.{after}")),
            None => "1 = 1".to_owned(),
        })
        .collect();
    let changes = if changes.is_empty() { "1 = 1".to_owned() } else { changes.join(" OR ") };
    let mut sql = format!(
        "SELECT count(*) FROM {} AS h JOIN {} AS c ON {} WHERE ({changes})",
        counter.held,
        key.child_sql,
        on.join(" AND "),
    );
    // A row of the target itself that is matched anyway is no side effect. MariaDB cannot read a temporary table
    // twice in one statement, so there such rows are counted too.
    if key.child == shown && language == Language::Postgres && !target.key.columns.is_empty() {
        let same: Vec<String> = target
            .key
            .columns
            .iter()
            .zip(&target.key.names)
            .map(|(at, name)| format!("o.{} = c.{}", before(*at), language.quoted(name)))
            .collect();
        sql.push_str(&format!(" AND NOT EXISTS (SELECT 1 FROM {HELD} AS o WHERE {})", same.join(" AND ")));
    }
    sql
}
