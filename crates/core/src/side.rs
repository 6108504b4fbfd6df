//! Writes outside the matched rows or outside the target: a trigger's, a cascade's, a function's.

use serde::{Deserialize, Serialize};

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
}
