//! What a closer look at the database tells about a step: how the filter works, what it barely misses, what would pin
//! the rows. None of it decides anything; it helps a person to decide.

use serde::Serialize;

use crate::expect::Expect;
use crate::finding::Finding;
use crate::value::Value;

/// How many values of a column are looked up in the table that it refers to.
pub const LOOKED_UP: usize = 200;

/// How much is looked for.
#[derive(Debug, Clone, Default, PartialEq)]
pub enum Scope {
    /// All of it.
    #[default]
    Whole,
    /// Only what may stop a change.
    Brief,
    /// Only what values refer to.
    Meanings,
    /// Only what these rows, all that match, have in common.
    Alike(Vec<Vec<Value>>),
}

/// What to look for.
#[derive(Debug, Clone, Default)]
pub struct Wish {
    /// How much.
    pub scope: Scope,
    /// Rows that match.
    pub matched: u64,
    /// Rows of the whole target.
    pub total: u64,
    /// The expected count, where it is not met: what sets some of the rows apart is then looked for.
    pub expected: Option<Expect>,
    /// A condition for the rows that do not hold the new values yet, where their number is the expected one; and that number.
    pub leave_out: Option<(String, u64)>,
    /// Keys of all rows that would break a constraint, and how many rows there are without them.
    pub broken: Option<(Vec<Vec<Value>>, u64)>,
    /// One of the matched rows, as an example in a filter to paste.
    pub example: Vec<Value>,
    /// Keys of all matched rows, where they are few.
    pub keys: Vec<Vec<Value>>,
    /// Values of columns that may refer to other tables.
    pub references: Vec<(usize, Vec<Value>)>,
    /// Columns whose other values are wanted, to compare new ones with.
    pub known: Vec<usize>,
    /// Tables whose rows are the lines of a sheet, with their numbers.
    pub numbered: Vec<String>,
}

/// What was found.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Study {
    /// The filter's conditions, each with the rows that it and those before it leave.
    pub funnel: Vec<FunnelStep>,
    /// Of a join: the target's rows and those of its one source, and how many of each find no partner.
    pub partners: Vec<Partnerless>,
    /// Rows that are barely kept out.
    pub near: Vec<NearMiss>,
    /// What would pin the rows.
    pub pins: Vec<PinOffer>,
    /// Rows that are different in kind, with a filter that leaves them out.
    pub kinds: Vec<KindOffer>,
    /// The filter that leaves out rows which already hold the new values.
    pub leave_out: Option<String>,
    /// The filter that leaves out rows which would break a constraint.
    pub unbroken: Option<Unbroken>,
    /// What the matched rows have in common, where that was asked for.
    #[serde(skip)]
    pub common: Vec<Alike>,
    /// What values refer to: column, value, and the name of the row it refers to.
    #[serde(skip)]
    pub meanings: Vec<(usize, Value, String)>,
    /// Some of the values that columns hold.
    #[serde(skip)]
    pub known: Vec<(usize, Vec<String>)>,
    /// What was noticed on the way.
    #[serde(skip)]
    pub findings: Vec<Finding>,
    /// What was left out, and why.
    pub skipped: Option<String>,
}

/// A filter without the rows that would break a constraint.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Unbroken {
    /// The whole of it; the engine was asked.
    pub filter: String,
    /// How many rows it matches.
    pub rows: u64,
    /// The statement with it, which is tried as a whole before any of this is offered.
    #[serde(skip)]
    pub statement: String,
}

/// One condition of a filter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct FunnelStep {
    /// The condition, verbatim.
    pub condition: String,
    /// Rows for which it and all before it hold.
    pub rows: u64,
    /// Rows for which it holds by itself; not told in a join, where it would be counted against every combination of rows.
    pub alone: Option<u64>,
}

/// Which rows of a join.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// The target's.
    Target,
    /// Those of what it is joined to.
    Source,
}

/// Rows of one side of a join that find no row of the other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Partnerless {
    /// Which side.
    pub side: Side,
    /// The source, where it is one.
    pub source: Option<String>,
    /// How many they are.
    pub rows: u64,
    /// Of how many.
    pub of: u64,
    /// Whether those are not all, but what conditions on that side alone let through.
    pub narrowed: bool,
    /// Whether they are matched all the same, by an outer join.
    pub kept: bool,
    /// What names a row of that side.
    pub columns: Vec<String>,
    /// The first of them.
    pub examples: Vec<Vec<Option<String>>>,
}

/// Rows that one condition barely keeps out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct NearMiss {
    /// The condition that keeps them out, verbatim.
    pub condition: String,
    /// What keeps them out: letter case, blanks, NULL.
    pub by: String,
    /// How many they are.
    pub rows: u64,
    /// The first of them: key and value.
    pub examples: Vec<(String, Option<String>)>,
}

/// Columns that pin the matched rows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct PinOffer {
    /// The columns.
    pub columns: Vec<String>,
    /// Whether that is declared, or only so in the data as it is.
    pub declared: bool,
    /// A whole filter to paste; the engine was asked that it matches the same rows.
    pub filter: String,
}

/// Matched rows that are different in kind from the others.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct KindOffer {
    /// How they differ.
    pub what: String,
    /// How many they are.
    pub rows: u64,
    /// The whole filter that leaves them out, and nothing else: the engine was asked.
    pub filter: String,
    /// Whether what remains is what is expected.
    pub fits: bool,
}

/// A condition that holds for all matched rows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Alike {
    /// It; the engine was asked.
    pub condition: String,
    /// For how many other rows it holds.
    pub others: u64,
    /// The first of those, by key.
    pub examples: Vec<String>,
}
