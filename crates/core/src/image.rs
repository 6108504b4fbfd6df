//! Where a row of a run stands, and what became of it there.

use serde::{Deserialize, Serialize};

use crate::kind::StepKind;
use crate::value::Value;

/// The part that a row plays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// A row that the step itself matched.
    #[default]
    Target,
    /// A row that a foreign key's action took along.
    Cascade,
    /// A row that a trigger wrote.
    Trigger,
    /// A copy that was put away before its row was deleted.
    Archive,
}

/// Where a row of a run stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
pub struct Place {
    /// The step, from 0.
    pub step: usize,
    /// Position of the table among those of the run.
    pub table: usize,
    /// The part that it plays.
    pub role: Role,
}

/// What becomes of a row, or became of it. Rows are whole: all columns, in the order of the table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Image {
    /// It stays, and holds something else or the same.
    Update {
        /// What it held.
        before: Vec<Value>,
        /// What it holds then; columns that nobody can foresee hold their old values.
        after: Vec<Value>,
    },
    /// It goes.
    Delete {
        /// What it held.
        before: Vec<Value>,
    },
    /// It comes in.
    Insert {
        /// What it holds then.
        after: Vec<Value>,
    },
}

impl Image {
    /// How many bytes of memory its values take: what bounds how many rows are held at once.
    pub fn weight(&self) -> usize {
        let rows = [self.before(), self.after()];
        rows.into_iter().flatten().flatten().map(Value::weight).sum()
    }

    /// The image of a row that was `before` and is `after`; `None` for a row that is in neither.
    pub fn of(before: Option<Vec<Value>>, after: Option<Vec<Value>>) -> Option<Image> {
        match (before, after) {
            (Some(before), Some(after)) => Some(Image::Update { before, after }),
            (Some(before), None) => Some(Image::Delete { before }),
            (None, Some(after)) => Some(Image::Insert { after }),
            (None, None) => None,
        }
    }

    /// What the row held; `None` for one that comes in.
    pub fn before(&self) -> Option<&[Value]> {
        match self {
            Image::Update { before, .. } | Image::Delete { before } => Some(before),
            Image::Insert { .. } => None,
        }
    }

    /// What the row holds then; `None` for one that goes.
    pub fn after(&self) -> Option<&[Value]> {
        match self {
            Image::Update { after, .. } | Image::Insert { after } => Some(after),
            Image::Delete { .. } => None,
        }
    }

    /// What is done to the row.
    pub fn kind(&self) -> StepKind {
        match self {
            Image::Update { .. } => StepKind::Update,
            Image::Delete { .. } => StepKind::Delete,
            Image::Insert { .. } => StepKind::Insert,
        }
    }

    /// Whether it makes any difference.
    pub fn differs(&self) -> bool {
        match self {
            Image::Update { before, after } => before != after,
            Image::Delete { .. } | Image::Insert { .. } => true,
        }
    }

    /// What takes it back.
    #[must_use]
    pub fn inverse(self) -> Image {
        match self {
            Image::Update { before, after } => Image::Update { before: after, after: before },
            Image::Delete { before } => Image::Insert { after: before },
            Image::Insert { after } => Image::Delete { before: after },
        }
    }

    /// The row as it is shown: what it held, or what comes in.
    pub fn row(&self) -> &[Value] {
        self.before().or(self.after()).unwrap_or_default()
    }
}
