//! Faults and conflicts by row, as many as a person can read, and all of them counted.

use marktwice_core::secret::hide_cell;
use marktwice_core::table::Target;
use marktwice_core::undo::Conflict;
use marktwice_core::value::Value;
use marktwice_core::verify::Fault;

/// How many are named.
pub(crate) const NAMED: usize = 20;

/// A row that is not as it should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedFault {
    /// Its key.
    pub key: Vec<Value>,
    /// What is wrong with it.
    pub fault: Fault,
}

/// All rows that are not as they should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Faults {
    /// The table.
    pub target: Target,
    /// How many.
    pub count: u64,
    /// The first of them.
    pub named: Vec<NamedFault>,
    /// What is wrong with the whole, where it is not about single rows.
    pub whole: Option<String>,
}

/// A row that cannot be put back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedConflict {
    /// Its key.
    pub key: Vec<Value>,
    /// Why.
    pub conflict: Conflict,
}

/// All rows that cannot be put back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conflicts {
    /// The table.
    pub target: Target,
    /// How many.
    pub count: u64,
    /// The first of them.
    pub named: Vec<NamedConflict>,
}

impl Conflicts {
    pub(crate) fn none(target: &Target) -> Self {
        Conflicts { target: target.clone(), count: 0, named: Vec::new() }
    }

    pub(crate) fn add(&mut self, key: &[Value], conflict: Conflict) {
        self.count += 1;
        if self.named.len() < NAMED {
            let conflict = match conflict {
                Conflict::Changed(cells) => {
                    Conflict::Changed(cells.into_iter().map(|cell| hide_cell(&self.target, cell)).collect())
                }
                other => other,
            };
            self.named.push(NamedConflict { key: self.target.shown_key(key), conflict });
        }
    }
}

impl Faults {
    pub(crate) fn none(target: &Target) -> Self {
        Faults { target: target.clone(), count: 0, named: Vec::new(), whole: None }
    }

    pub(crate) fn whole(target: &Target, what: String) -> Self {
        Faults { whole: Some(what), ..Faults::none(target) }
    }

    pub(crate) fn add(&mut self, key: &[Value], fault: Fault) {
        self.count += 1;
        if self.named.len() < NAMED {
            let fault = match fault {
                Fault::Outside(cell) => Fault::Outside(hide_cell(&self.target, cell)),
                Fault::Unforeseen(cell) => Fault::Unforeseen(hide_cell(&self.target, cell)),
                other => other,
            };
            self.named.push(NamedFault { key: self.target.shown_key(key), fault });
        }
    }
}
