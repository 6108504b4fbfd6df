//! The witness: a table in the database in which each run leaves one row, in the same transaction. It is a diary, and tells whether a
//! run that was cut off has committed; what is due it never decides.

use serde::{Deserialize, Serialize};

use crate::hash::fresh_seed;
use crate::receipt::{Receipt, RunKind};
use crate::value::Value;

/// Where a run leaves its row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Witness {
    /// The table, with its schema where that was said.
    pub table: String,
    /// What tells its row from all others: 32 hexadecimal digits.
    pub id: String,
}

/// The table's columns, each with its definition; they mean the same on every engine.
pub const COLUMNS: [(&str, &str); 9] = [
    ("id", "varchar(32) NOT NULL PRIMARY KEY"),
    ("run", "varchar(16) NOT NULL"),
    ("kind", "varchar(8) NOT NULL"),
    ("title", "varchar(200)"),
    ("statement_hash", "varchar(64) NOT NULL"),
    ("matched", "bigint NOT NULL"),
    ("changed", "bigint NOT NULL"),
    ("started", "varchar(30) NOT NULL"),
    ("who", "varchar(100)"),
];

impl Witness {
    /// One in this table, of a run that nobody else can name.
    pub fn in_table(table: &str) -> Witness {
        Witness { table: table.to_owned(), id: format!("{:016x}{:016x}", fresh_seed(), fresh_seed()) }
    }

    /// What a run leaves there, in the order of [`COLUMNS`].
    pub fn row(&self, receipt: &Receipt) -> Vec<Value> {
        let text = |text: &str, most: usize| Value::Text(text.chars().take(most).collect());
        let maybe = |of: &Option<String>, most| of.as_deref().map_or(Value::Null, |of| text(of, most));
        let (matched, changed) = receipt.rows();
        let number = |n: u64| Value::Int(i64::try_from(n).unwrap_or(i64::MAX));
        let kind = if receipt.kind == RunKind::Undo { "undo" } else { "apply" };
        let hashes: Vec<&str> = receipt.steps.iter().map(|step| step.statement_hash.as_str()).collect();
        let hash = match hashes.as_slice() {
            [one] => (*one).to_owned(),
            several => crate::hash::texts(several.iter().copied()),
        };
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
        ]
    }
}
