//! Rows that are put away: copied into another table before a DELETE takes them away, in the same transaction.

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
}

impl Archive {
    /// Whether rows of both fill the same columns of the same table.
    pub fn fills_like(&self, other: &Archive) -> bool {
        let places = |archive: &Archive| archive.columns.iter().map(|(_, place)| *place).collect::<Vec<_>>();
        self.target.same_table(&other.target) && places(self) == places(other)
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
