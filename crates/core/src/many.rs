//! Target rows that several rows of a join match.

use serde::{Deserialize, Serialize};

use crate::secret::HIDDEN;
use crate::table::Target;
use crate::value::Value;

/// What a join's repeated matches come to.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Many {
    /// Target rows that more than one row of the join matches.
    pub rows: u64,
    /// Those of them for which the matches give different values, so that it is open which one is stored; all of them
    /// where the values are not known beforehand.
    pub differing: u64,
    /// The first of them, those with different values before the others.
    pub examples: Vec<ManyExample>,
}

/// A row of joined tables: names and values as text.
pub type SourceRow = Vec<(String, Option<String>)>;

/// One target row with the rows that match it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ManyExample {
    /// The row's key.
    pub key: Vec<Value>,
    /// The matching rows of the joined tables, at most [`ManyExample::SHOWN`] of them: names and values as text.
    pub sources: Vec<SourceRow>,
}

impl Many {
    /// Hides what identifies the target's rows, where that is hidden, and, where the statement reaches tables with hidden columns, what
    /// the rows hold that match them.
    pub fn hide(&mut self, target: &Target, reads_hidden: bool) {
        for example in &mut self.examples {
            example.key = target.shown_key(&example.key);
            for (_, value) in example.sources.iter_mut().flatten().filter(|_| reads_hidden) {
                *value = Some(HIDDEN.to_owned());
            }
        }
    }
}

impl ManyExample {
    /// How many matching rows are shown for one target row.
    pub const SHOWN: usize = 4;
}
