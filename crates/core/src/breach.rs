//! Constraints that a step would break, row by row, as it is known before anything runs.

use serde::Serialize;

use crate::finding::Code;
use crate::value::Value;

/// What kind of constraint it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Rule {
    /// Values that no other row may hold.
    Unique,
    /// A column that refuses NULL.
    NotNull,
    /// A condition that every row must keep.
    Check,
    /// A reference whose row must be there.
    Parent,
    /// Rows of another table that refer to a row, and hold it.
    Children,
}

/// One row that breaks a constraint.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Breaker {
    /// Its key.
    pub key: Vec<Value>,
    /// What it would hold in the constraint's columns; empty where that says nothing.
    pub holds: Vec<Option<String>>,
    /// The key of the row that it collides with, or that holds it.
    pub with: Option<String>,
}

/// A constraint that would be broken.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Breach {
    /// Its kind.
    pub rule: Rule,
    /// Its columns: those of the target, for children those of the table that refers.
    pub columns: Vec<String>,
    /// The other table: the parent that lacks a row, or the one that refers.
    pub other: Option<String>,
    /// What a check demands.
    pub text: Option<String>,
    /// Whether the rows break it among themselves.
    pub among: bool,
    /// The rows that break it; for children the rows that refer.
    pub rows: u64,
    /// The first of them.
    pub first: Vec<Breaker>,
    /// Why it is not certain: what only the run can tell.
    pub unless: Option<String>,
}

impl Breach {
    /// The code of the finding that says it.
    pub fn code(&self) -> Code {
        match self.rule {
            Rule::Unique => Code::TakenAlready,
            Rule::NotNull => Code::NullRefused,
            Rule::Check => Code::CheckRefused,
            Rule::Parent => Code::NoParent,
            Rule::Children => Code::HasChildren,
        }
    }
}

/// What was asked about a step's constraints.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Breaches {
    /// Those that would be broken.
    pub found: Vec<Breach>,
    /// Those that were not looked at to the end, in words.
    pub open: Vec<String>,
}
