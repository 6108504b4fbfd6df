//! What an undo may do: each row of a run is put back only where it is still exactly as the run left it.

use crate::cell::{CellDiff, diff};
use crate::mark::StepKind;
use crate::value::Value;

/// The record of one row of a run, as its snapshot has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowChange {
    /// The row's number in the run, from 1.
    pub ordinal: i64,
    /// Its key before the run (for a row that came in: its key after).
    pub key: Vec<Value>,
    /// Its key after the run, where that is another.
    pub key_after: Option<Vec<Value>>,
    /// The whole row before; `None` when the run brought it in.
    pub before: Option<Vec<Value>>,
    /// The whole row after; `None` when the run took it away.
    pub after: Option<Vec<Value>>,
}

impl RowChange {
    /// The key by which the row is found after the run.
    pub fn key_now(&self) -> &[Value] {
        self.key_after.as_deref().unwrap_or(&self.key)
    }

    /// Whether the run made any difference to the row.
    pub fn differs(&self) -> bool {
        self.before != self.after
    }

    /// The change that takes this one back.
    #[must_use]
    pub fn inverse(self) -> RowChange {
        let (key, key_after) = match self.key_after {
            Some(after) => (after, Some(self.key)),
            None => (self.key, None),
        };
        RowChange { ordinal: self.ordinal, key, key_after, before: self.after, after: self.before }
    }
}

/// What an undo of a step does.
pub fn inverse_kind(kind: StepKind) -> StepKind {
    match kind {
        StepKind::Update => StepKind::Update,
        StepKind::Delete => StepKind::Insert,
        StepKind::Insert => StepKind::Delete,
    }
}

/// Why one row cannot be put back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Conflict {
    /// It holds something else than the run left: the cells, as left and as they are now.
    Changed(Vec<CellDiff>),
    /// It is gone.
    Gone,
    /// A row with its key has come in since.
    KeyTaken,
}

/// Compares what the run left with what is there now.
///
/// # Errors
/// The conflict, where the two differ.
pub fn compare(left: Option<&[Value]>, now: Option<&[Value]>) -> Result<(), Conflict> {
    match (left, now) {
        (None, None) => Ok(()),
        (Some(_), None) => Err(Conflict::Gone),
        (None, Some(_)) => Err(Conflict::KeyTaken),
        (Some(left), Some(now)) => {
            let cells = diff(left, now);
            if cells.is_empty() { Ok(()) } else { Err(Conflict::Changed(cells)) }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn conflicts() {
        let (a, b) = (vec![Value::Int(1), Value::Null], vec![Value::Int(1), Value::Int(0)]);
        assert_eq!(compare(Some(&a), Some(&a)), Ok(()));
        assert_eq!(compare(None, None), Ok(()));
        assert_eq!(compare(Some(&a), None), Err(Conflict::Gone));
        assert_eq!(compare(None, Some(&a)), Err(Conflict::KeyTaken));
        let Err(Conflict::Changed(cells)) = compare(Some(&a), Some(&b)) else { panic!("differs") };
        assert_eq!((cells.len(), cells[0].column), (1, 1));
    }

    #[test]
    fn the_inverse_of_the_inverse_is_the_change() {
        let change = RowChange {
            ordinal: 3,
            key: vec![Value::Int(1)],
            key_after: Some(vec![Value::Int(2)]),
            before: Some(vec![Value::Int(1)]),
            after: Some(vec![Value::Int(2)]),
        };
        assert_eq!(change.clone().inverse().key_now(), [Value::Int(1)]);
        assert_eq!(change.clone().inverse().inverse(), change);
    }
}
