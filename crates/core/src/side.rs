//! Writes outside the matched rows or outside the target: a trigger's, a cascade's, a function's.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::expect::{Expect, NotAnExpectation};
use crate::finding::Code;

/// How a write outside the matched rows comes about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", tag = "by", content = "name")]
pub enum SideHow {
    /// A trigger, by name.
    Trigger(String),
    /// A foreign key's action, such as `ON DELETE CASCADE`.
    ForeignKey(String),
    /// It was measured in the transaction; this says as what.
    Measured(String),
    /// A routine that the statement itself calls, by name.
    Routine(String),
    /// It cannot be measured; this says what it is, in words for people.
    Unmeasured(String),
}

impl SideHow {
    /// The finding that it is, by which it can be let pass.
    pub fn code(&self) -> Code {
        match self {
            SideHow::Unmeasured(_) => Code::UnmeasuredWrite,
            SideHow::Trigger(_) | SideHow::ForeignKey(_) | SideHow::Measured(_) | SideHow::Routine(_) => {
                Code::UndeclaredWrite
            }
        }
    }
}

/// What stands for a table where an engine counts rows without saying of which.
pub const ELSEWHERE: &str = "rows elsewhere";

/// A write outside the matched rows or outside the target.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SideWrite {
    /// The table that is written.
    pub table: String,
    /// How.
    #[serde(flatten)]
    pub how: SideHow,
    /// How many rows, where that can be told beforehand.
    pub rows: Option<u64>,
    /// Whether the rows are held like the step's own: then they are in the snapshot, and an undo brings them back.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub held: bool,
    /// Why rows that could be held are not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unheld: Option<String>,
}

impl SideWrite {
    /// One whose rows are not held, as far as is known.
    pub fn new(table: impl Into<String>, how: SideHow, rows: Option<u64>) -> SideWrite {
        SideWrite { table: table.into(), how, rows, held: false, unheld: None }
    }
}

/// A table that is said to be written besides: `price_log`, or `price_log=12` with how many rows of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct AlsoWrites {
    /// Its name, with or without its schema.
    pub table: String,
    /// How many of its rows, where that is said.
    pub rows: Option<Expect>,
}

impl AlsoWrites {
    /// Whether a table is meant.
    pub fn names(&self, table: &str) -> bool {
        let bare = table.rsplit('.').next().unwrap_or(table);
        self.table.eq_ignore_ascii_case(table) || self.table.eq_ignore_ascii_case(bare)
    }
}

impl FromStr for AlsoWrites {
    type Err = NotAnExpectation;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        match text.rsplit_once('=') {
            Some((table, rows)) => {
                Ok(AlsoWrites { table: table.trim().to_owned(), rows: Some(rows.parse()?) })
            }
            None => Ok(AlsoWrites { table: text.trim().to_owned(), rows: None }),
        }
    }
}

impl TryFrom<String> for AlsoWrites {
    type Error = NotAnExpectation;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<AlsoWrites> for String {
    fn from(declared: AlsoWrites) -> String {
        declared.to_string()
    }
}

impl fmt::Display for AlsoWrites {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.rows {
            Some(rows) => write!(f, "{}={rows}", self.table),
            None => f.write_str(&self.table),
        }
    }
}

/// How many rows of a table a list of writes is about; `None` where it is not told of all of them.
pub fn rows_of(table: &str, writes: &[SideWrite]) -> Option<u64> {
    writes.iter().filter(|write| write.table == table).map(|write| write.rows).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn declared_tables() {
        let of = |text: &str| text.parse::<AlsoWrites>();
        assert_eq!(of("price_log").unwrap(), AlsoWrites { table: "price_log".into(), rows: None });
        let counted = of("price_log=1-3").unwrap();
        assert_eq!(
            (counted.rows, counted.to_string().as_str()),
            (Some(Expect::Range(1, Some(3))), "price_log=1-3")
        );
        assert!(counted.names("public.price_log") && counted.names("PRICE_LOG") && !counted.names("log"));
        assert!(of("price_log=many").is_err());
        let write = |rows| SideWrite::new("a", SideHow::Trigger("t".into()), rows);
        assert_eq!(rows_of("a", &[write(Some(2)), write(Some(3))]), Some(5));
        assert_eq!(rows_of("a", &[write(Some(2)), write(None)]), None);
    }
}
