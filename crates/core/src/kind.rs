//! What a step does: the one word that marks, images, receipts and undos share.

use serde::{Deserialize, Serialize};

/// What a step does to the rows it matches.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StepKind {
    /// It changes cells.
    Update,
    /// It takes rows away.
    Delete,
    /// It brings rows in (the undo of a DELETE).
    Insert,
}

impl StepKind {
    /// The SQL verb in capitals.
    pub fn verb(self) -> &'static str {
        match self {
            StepKind::Update => "UPDATE",
            StepKind::Delete => "DELETE",
            StepKind::Insert => "INSERT",
        }
    }
}
