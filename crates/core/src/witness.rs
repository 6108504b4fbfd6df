//! The witness: a table in the database in which each run leaves one row, in the same transaction. It is a diary, and tells whether a
//! run that was cut off has committed; what is due it never decides.

use serde::Serialize;

use crate::hash::fresh_seed;
pub use crate::receipt::Witness;
use crate::receipt::{Receipt, RunKind};
use crate::value::Value;

/// The table's columns, each with its definition; they mean the same on every engine.
pub const COLUMNS: [(&str, &str); 10] = [
    ("id", "varchar(32) NOT NULL PRIMARY KEY"),
    ("run", "varchar(16) NOT NULL"),
    ("kind", "varchar(8) NOT NULL"),
    ("title", "varchar(200)"),
    ("statement_hash", "varchar(64) NOT NULL"),
    ("matched", "bigint NOT NULL"),
    ("changed", "bigint NOT NULL"),
    ("started", "varchar(30) NOT NULL"),
    ("who", "varchar(100)"),
    ("undo_of", "varchar(32)"),
];

impl Witness {
    /// One in this table, of a run that nobody else can name.
    pub fn in_table(table: &str) -> Witness {
        Witness { table: table.to_owned(), id: format!("{:016x}{:016x}", fresh_seed(), fresh_seed()) }
    }

    /// What a run leaves there, in the order of [`COLUMNS`]; `undone` is the row of the run that it takes back, all of it.
    pub fn row(&self, receipt: &Receipt, undone: Option<String>) -> Vec<Value> {
        let text = |text: &str, most: usize| Value::Text(text.chars().take(most).collect());
        let maybe = |of: &Option<String>, most| of.as_deref().map_or(Value::Null, |of| text(of, most));
        let (matched, changed) = receipt.rows();
        let number = |n: u64| Value::Int(i64::try_from(n).unwrap_or(i64::MAX));
        let kind = if receipt.kind == RunKind::Undo { "undo" } else { "apply" };
        let hashes: Vec<&str> = receipt.steps.iter().map(|step| step.statement_hash.as_str()).collect();
        let hash = of_all(&hashes);
        vec![
            text(&self.id, 32),
            text(&receipt.run, 16),
            text(kind, 8),
            maybe(&receipt.title, 200),
            text(&hash, 64),
            number(matched),
            number(changed),
            text(&receipt.started, 30),
            maybe(&receipt.user, 100),
            maybe(&undone, 32),
        ]
    }
}

/// The one hash of all statements of a change.
pub fn of_all(hashes: &[&str]) -> String {
    match hashes {
        [one] => (*one).to_owned(),
        several => crate::hash::texts(several.iter().copied()),
    }
}

/// A row that a run has left, from this machine or another.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Left {
    /// What tells the row.
    pub id: String,
    /// The run's name in the logbook of whoever did it.
    pub run: String,
    /// `apply` or `undo`.
    pub kind: String,
    /// What it was for.
    pub title: Option<String>,
    /// Of all its statements.
    pub statement_hash: String,
    /// Rows that matched.
    pub matched: u64,
    /// Rows that changed.
    pub changed: u64,
    /// When it began, UTC, RFC 3339.
    pub started: String,
    /// Who it was, as that machine said.
    pub who: Option<String>,
    /// The row of the run that it takes back.
    pub undo_of: Option<String>,
}

impl Left {
    /// A row of the table, each value as text in the order of [`COLUMNS`]; `None` where that is none.
    pub fn of(row: &[Option<String>]) -> Option<Left> {
        let [id, run, kind, title, hash, matched, changed, started, who, undo_of] = row else { return None };
        Some(Left {
            id: id.clone()?,
            run: run.clone()?,
            kind: kind.clone()?,
            title: title.clone(),
            statement_hash: hash.clone()?,
            matched: matched.as_ref()?.parse().ok()?,
            changed: changed.as_ref()?.parse().ok()?,
            started: started.clone()?,
            who: who.clone(),
            undo_of: undo_of.clone(),
        })
    }

    /// Whether it stands: nothing among `all`, newest first, that stands takes it back.
    pub fn stands(&self, all: &[Left]) -> bool {
        self.stands_within(all, DEPTH)
    }

    /// The same, looked at no deeper than that: whoever can write the table can write rows that take each other back.
    fn stands_within(&self, all: &[Left], depth: usize) -> bool {
        let Some(depth) = depth.checked_sub(1) else { return true };
        let takes = |left: &&Left| left.undo_of.as_ref() == Some(&self.id) && left.id != self.id;
        !all.iter().filter(takes).take(WIDTH).any(|left| left.stands_within(all, depth))
    }
}

/// Undos of undos that are followed.
const DEPTH: usize = 6;
/// Undos of one run that are looked at, the newest.
const WIDTH: usize = 3;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_taken_back_stands_again_with_its_undo_undone() {
        let left = |id: &str, undo_of: Option<&str>| Left {
            id: id.to_owned(),
            started: id.to_owned(),
            undo_of: undo_of.map(str::to_owned),
            ..Left::default()
        };
        let mut all = vec![left("1", None), left("2", Some("1"))];
        assert_eq!(all.iter().map(|l| l.stands(&all)).collect::<Vec<_>>(), [false, true]);
        all.push(left("3", Some("2")));
        assert_eq!(all.iter().map(|l| l.stands(&all)).collect::<Vec<_>>(), [true, false, true]);
        // One that would take itself back does not, and rows that take each other back are no end of a search.
        let odd = [left("4", Some("4"))];
        assert!(odd[0].stands(&odd));
        let round: Vec<Left> =
            (0..5_000).map(|n| left(&n.to_string(), Some(&((n + 1) % 5_000).to_string()))).collect();
        assert_eq!(round[0].stands(&round), round[1].stands(&round));
    }
}
