//! Rows that a step takes along: nobody wrote a statement for them, and foreign keys' actions write them with the step's own.
//! They are held, verified, kept in the snapshot and brought back like those.

use serde::{Deserialize, Serialize};

use crate::image::Role;
use crate::mark::{Foreseen, StepKind};
use crate::table::{KeyKind, Target};

/// A table of which a step may take rows along.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Along {
    /// The table.
    pub target: Target,
    /// What is done to its rows: `Delete` where all of them go, else `Update`, and then some may go all the same.
    pub kind: StepKind,
    /// Columns that the actions may set, and how their values will be known.
    pub foreseen: Vec<Foreseen>,
    /// Those of them that only ever follow the columns that they refer to: what takes those back takes these back too.
    pub follows: Vec<usize>,
}

impl Along {
    /// Whether what tells its rows only ever follows: then they are found under their old keys once what they follow is
    /// taken back.
    pub fn found_as_before(&self) -> bool {
        let set = self.foreseen.iter().filter(|f| !f.derived).map(|f| f.column);
        let tells =
            |at: &usize| self.target.key.kind == KeyKind::WholeRow || self.target.key.columns.contains(at);
        set.into_iter().filter(tells).all(|at| self.follows.contains(&at))
    }
}

/// Held rows that are taken along carry numbers behind those of steps.
const BEHIND: usize = 1_000_000;

/// The number that the held rows of a step's `nth` table carry, as its own rows carry the number of the step.
pub fn number(step: usize, nth: usize) -> usize {
    (nth + 1) * BEHIND + step
}

/// Tables of which a step has taken rows along, each with the number that its held rows carry, and with how many they are.
pub fn numbered<'a>(
    step: usize,
    along: &'a [Along],
    counts: &'a [AlongCount],
) -> impl Iterator<Item = (usize, &'a Along, &'a AlongCount)> {
    along.iter().zip(counts).enumerate().map(move |(nth, (along, count))| (number(step, nth), along, count))
}

/// Whether a number is that of a table of this step's.
pub fn is_of(step: usize, number: usize) -> bool {
    number >= BEHIND && number % BEHIND == step
}

/// A table of which a step may take rows along, in the header of a snapshot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AlongRecord {
    /// The step that takes the rows along, from 0.
    pub step: usize,
    /// Position of the table among the header's.
    pub table: usize,
    /// The part that its rows play.
    pub role: Role,
    /// What is done to them.
    pub kind: StepKind,
    /// Columns that may be set.
    pub foreseen: Vec<Foreseen>,
}

/// Rows of one table that a step took along, in its receipt.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AlongReceipt {
    /// The table.
    pub table: String,
    /// Rows that went.
    pub deleted: u64,
    /// Rows that stayed and hold something else.
    pub changed: u64,
}

/// How many rows of a table are taken along.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct AlongCount {
    /// Rows that go.
    pub deleted: u64,
    /// Rows that stay and are written.
    pub written: u64,
}

impl AlongCount {
    /// Both together.
    pub fn rows(&self) -> u64 {
        self.deleted + self.written
    }
}
