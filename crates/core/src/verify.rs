//! The judge of a step: every marked row, read again, must be as it should be.

use crate::cell::{CellDiff, diff};
use crate::image::Image;
use crate::mark::{Foreseen, HeldRow, Label};
use crate::value::Value;

/// What became of one row, and rightly.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fate {
    /// Some cells differ.
    Changed,
    /// The row is as it was.
    Same,
    /// The row is gone, as it should be.
    Deleted,
    /// The row came in, as it should.
    Inserted,
}

/// What is wrong with one row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fault {
    /// It cannot be found any more.
    Vanished,
    /// It should be gone and is still there.
    StillThere,
    /// A column differs that the statement does not assign.
    Outside(CellDiff),
    /// A column does not hold what was foreseen.
    Unforeseen(CellDiff),
}

/// Judges one row after the step.
///
/// # Errors
/// The first fault found.
pub fn judge(foreseen: &[Foreseen], held: &HeldRow, actual: Option<&[Value]>) -> Result<Fate, Fault> {
    match (&held.image, actual) {
        (Image::Delete { .. }, None) => Ok(Fate::Deleted),
        (Image::Delete { .. }, Some(_)) => Err(Fault::StillThere),
        (Image::Update { .. } | Image::Insert { .. }, None) => Err(Fault::Vanished),
        (Image::Update { before, after: expected }, Some(now)) => {
            for cell in diff(expected, now) {
                match foreseen.iter().find(|f| f.column == cell.column) {
                    None => return Err(Fault::Outside(cell)),
                    Some(f) if f.label == Label::Exact => return Err(Fault::Unforeseen(cell)),
                    Some(_) => {}
                }
            }
            Ok(if before == now { Fate::Same } else { Fate::Changed })
        }
        (Image::Insert { after: expected }, Some(now)) => {
            let unknown =
                |column: usize| foreseen.iter().any(|f| f.column == column && f.label == Label::Unknown);
            match diff(expected, now).into_iter().find(|cell| !unknown(cell.column)) {
                Some(cell) => Err(Fault::Unforeseen(cell)),
                None => Ok(Fate::Inserted),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(a: i64, b: i64) -> Vec<Value> {
        vec![Value::Int(a), Value::Int(b)]
    }

    fn held(image: Image) -> HeldRow {
        HeldRow { ordinal: 1, key: vec![Value::Int(1)], image, rest: None }
    }

    #[test]
    fn updates() {
        let exact = [Foreseen { column: 1, label: Label::Exact, derived: false, why: None }];
        let unknown = [Foreseen { column: 1, label: Label::Unknown, derived: false, why: None }];
        let h = held(Image::Update { before: row(1, 2), after: row(1, 3) });
        let judge = |f: &[Foreseen], now: Option<Vec<Value>>| super::judge(f, &h, now.as_deref());
        assert_eq!(judge(&exact, Some(row(1, 3))), Ok(Fate::Changed));
        assert!(matches!(judge(&exact, Some(row(1, 4))), Err(Fault::Unforeseen(_))));
        assert_eq!(judge(&unknown, Some(row(1, 4))), Ok(Fate::Changed));
        assert_eq!(judge(&unknown, Some(row(1, 2))), Ok(Fate::Same));
        assert!(matches!(judge(&unknown, Some(row(9, 3))), Err(Fault::Outside(_))));
        assert_eq!(judge(&exact, None), Err(Fault::Vanished));
    }

    #[test]
    fn deletes_and_inserts() {
        let gone = held(Image::Delete { before: row(1, 2) });
        assert_eq!(judge(&[], &gone, None), Ok(Fate::Deleted));
        assert_eq!(judge(&[], &gone, Some(&row(1, 2))), Err(Fault::StillThere));
        let back = held(Image::Insert { after: row(1, 2) });
        assert_eq!(judge(&[], &back, Some(&row(1, 2))), Ok(Fate::Inserted));
        assert!(judge(&[], &back, Some(&row(1, 5))).is_err());
        // What a trigger sets when a row comes in is not promised.
        let unknown = [Foreseen { column: 1, label: Label::Unknown, derived: true, why: None }];
        assert_eq!(judge(&unknown, &back, Some(&row(1, 5))), Ok(Fate::Inserted));
        assert!(judge(&unknown, &back, Some(&row(2, 5))).is_err());
    }
}
