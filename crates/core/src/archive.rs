//! Rows that are put away: copied into another table before a DELETE takes them away, in the same transaction.

use serde::{Deserialize, Serialize};

use crate::hash::{Fingerprint, RowHash};
use crate::table::Target;
use crate::value::Value;

/// Where a step's rows are put away.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Archive {
    /// The table.
    pub target: Target,
    /// Columns of the step's own table, each with its place there, in the order of the places.
    pub columns: Vec<(usize, usize)>,
    /// How it is made first, where it is not there yet.
    pub making: Option<Making>,
}

/// A table that a run makes for the rows that it puts away.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Making {
    /// The table, as it was named.
    pub table: String,
    /// The statement that makes it.
    pub definition: String,
    /// Whether it is made inside the transaction, so that it is rolled back with it.
    pub inside: bool,
    /// Whether it has been made.
    #[serde(default)]
    pub made: Made,
}

/// Whether a table has been made.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Made {
    /// It has not.
    #[default]
    No,
    /// Nobody knows: the engine did not answer.
    Unknown,
    /// It has.
    Yes,
}

/// What stays of tables that were made before a transaction that is rolled back; `None` where nothing does.
pub fn stays(makes: &[Making]) -> Option<String> {
    let outside = makes.iter().filter(|making| !making.inside);
    let texts = outside.filter_map(|making| match making.made {
        Made::No => None,
        Made::Unknown => Some(format!("the table {} may have been made before", making.table)),
        Made::Yes => Some(format!("the table {}, which was made before, stays", making.table)),
    });
    let texts: Vec<String> = texts.collect();
    (!texts.is_empty()).then(|| texts.join(", and "))
}

impl Archive {
    /// Whether rows of both fill the same columns of the same table.
    pub fn fills_like(&self, other: &Archive) -> bool {
        let places = |archive: &Archive| archive.columns.iter().map(|(_, place)| *place).collect::<Vec<_>>();
        let definition = |archive: &Archive| archive.making.as_ref().map(|making| making.definition.clone());
        self.target.same_table(&other.target)
            && places(self) == places(other)
            && definition(self) == definition(other)
    }

    /// The names of its columns that nothing of the rows goes into.
    pub fn left_to_defaults(&self) -> Vec<String> {
        let filled = |at: usize| self.columns.iter().any(|(_, place)| *place == at);
        let columns = self.target.columns.iter().enumerate();
        columns.filter(|(at, c)| !filled(*at) && !c.generated).map(|(_, c)| c.name.clone()).collect()
    }
}

/// The contents of rows that are put away: as they go, or as they have arrived.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PutAway {
    /// How many.
    pub rows: u64,
    contents: Fingerprint,
}

impl PutAway {
    /// One more row: the values of its columns in the order of [`Archive::columns`].
    pub fn add<'v>(&mut self, values: impl Iterator<Item = Option<&'v Value>>) {
        let row: Vec<Value> = values.map(|value| value.cloned().unwrap_or(Value::Null)).collect();
        self.contents.add(&RowHash::of(&row));
        self.rows += 1;
    }
}
