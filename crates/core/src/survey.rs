//! What a look at a database tells: its tables, and everything about one of them that a change may run into.

use serde::Serialize;

use crate::table::Target;

/// A table in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct TableSummary {
    /// Its name, with its schema where that is not the connection's own.
    pub table: String,
    /// Its rows; `None` where they were not counted.
    pub rows: Option<u64>,
    /// The columns of its primary key, or of what stands for one.
    pub key: Vec<String>,
    /// How many columns it has.
    pub columns: usize,
    /// Whether it is a view.
    pub view: bool,
}

/// What a view is made of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct OfView {
    /// Its definition, as the engine keeps it.
    pub definition: String,
    /// The tables that it reads, and views where the engine names no tables behind them.
    pub reads: Vec<String>,
}

/// A foreign key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Reference {
    /// The table that refers.
    pub child: String,
    /// Its columns.
    pub child_columns: Vec<String>,
    /// The table that is referred to.
    pub parent: String,
    /// Its columns.
    pub parent_columns: Vec<String>,
    /// What happens to the child when the parent's key changes, in the engine's words: `CASCADE`, `NO ACTION`.
    pub on_update: String,
    /// What happens to the child when the parent goes.
    pub on_delete: String,
}

/// A declared key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct DeclaredKey {
    /// Whether it is the primary one.
    pub primary: bool,
    /// Its columns.
    pub columns: Vec<String>,
}

/// What the catalogue says about a table beyond its columns.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Declared {
    /// Unique keys, the primary one among them.
    pub keys: Vec<DeclaredKey>,
    /// Defaults by column, as the catalogue writes them.
    pub defaults: Vec<Option<String>>,
    /// Foreign keys of this table.
    pub refers: Vec<Reference>,
    /// Foreign keys of other tables to this one.
    pub referred: Vec<Reference>,
    /// Conditions that rows must keep.
    pub checks: Vec<String>,
    /// Triggers: name, and when they fire.
    pub triggers: Vec<String>,
}

/// A table in full.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Survey {
    /// Columns and key.
    pub target: Target,
    /// The catalogue's part.
    pub declared: Declared,
    /// What it is made of, where it is a view.
    pub view: Option<OfView>,
    /// Its rows.
    pub rows: u64,
    /// Columns, or pairs of them, that are unique in the data although nobody declared it.
    pub unique_in_fact: Vec<Vec<String>>,
    /// What was not looked at, and why.
    pub skipped: Option<String>,
}
