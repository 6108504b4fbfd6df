//! What an undo may do: each row of a run is put back only where it is still exactly as the run left it.

use crate::cell::{CellDiff, diff};
use crate::image::{Image, Place};
use crate::mark::StepKind;
use crate::value::Value;

/// The record of one row of a run, as its snapshot has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowChange {
    /// Where it stands in the run.
    pub place: Place,
    /// The row's number in its step, from 1.
    pub ordinal: i64,
    /// Its key before the run (for a row that came in: its key after).
    pub key: Vec<Value>,
    /// Its key after the run, where that is another.
    pub key_after: Option<Vec<Value>>,
    /// What became of it.
    pub image: Image,
}

impl RowChange {
    /// The key by which the row is found after the run.
    pub fn key_now(&self) -> &[Value] {
        self.key_after.as_deref().unwrap_or(&self.key)
    }

    /// Whether the run made any difference to the row.
    pub fn differs(&self) -> bool {
        self.image.differs()
    }

    /// The change that takes this one back.
    #[must_use]
    pub fn inverse(self) -> RowChange {
        let (key, key_after) = match self.key_after {
            Some(after) => (after, Some(self.key)),
            None => (self.key, None),
        };
        RowChange { key, key_after, image: self.image.inverse(), ..self }
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

/// What to do with rows that hold something else than the run left.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum OnChanged {
    /// Nothing is put back at all.
    #[default]
    Stop,
    /// Those rows are left alone.
    Skip,
    /// The old values go back into the columns of the run, whatever they hold now.
    Overwrite,
}

/// What to do with rows that are gone.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum OnGone {
    /// Nothing is put back at all.
    #[default]
    Stop,
    /// Those rows are left alone.
    Skip,
    /// They are brought in again as they were before the run.
    Insert,
}

/// What to do with conflicts, by class.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Policy {
    /// With changed rows.
    pub changed: OnChanged,
    /// With rows that are gone.
    pub gone: OnGone,
}

/// What happens to one row of an undo.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Treatment {
    /// It becomes this row; `None` takes it away.
    Put(Option<Vec<Value>>),
    /// It comes in again under a new row number: its old one is another row's now.
    PutAnew(Vec<Value>),
    /// It is as it was before the run already.
    AlreadyBack,
    /// It is left alone, because of this.
    Leave(Conflict),
    /// It stops the undo.
    Stop(Conflict),
}

/// What matters of a table when its rows are compared.
#[derive(Debug, Clone, Copy, Default)]
pub struct Compared<'a> {
    /// The columns that an UPDATE puts back.
    pub columns: &'a [usize],
    /// Columns that are not compared.
    pub open: &'a [usize],
    /// Whether the engine numbers its rows, which have no key of their own: a number that is used again says nothing of the row.
    pub numbered: bool,
}

/// Decides about one row: `change` is the inverse of what the run did (before: as the run left it; after: what is
/// wanted), `now` what is there.
pub fn treat(
    change: &RowChange,
    now: Option<&[Value]>,
    Compared { columns, open, numbered }: Compared<'_>,
    policy: Policy,
) -> Treatment {
    let wanted = change.image.after();
    if wanted == now {
        return Treatment::AlreadyBack;
    }
    let put = || Treatment::Put(wanted.map(<[Value]>::to_vec));
    let Err(conflict) = compare(change.image.before(), now, open) else { return put() };
    match (&conflict, policy.changed, policy.gone) {
        (Conflict::Changed(_), OnChanged::Overwrite, _) => match (wanted, now) {
            (Some(wanted), Some(now)) => {
                let mut row = now.to_vec();
                for &at in columns {
                    if let (Some(cell), Some(old)) = (row.get_mut(at), wanted.get(at)) {
                        cell.clone_from(old);
                    }
                }
                if row == now { Treatment::AlreadyBack } else { Treatment::Put(Some(row)) }
            }
            _ => put(),
        },
        (Conflict::Gone, _, OnGone::Insert) => put(),
        (Conflict::KeyTaken, ..) if numbered => match wanted {
            Some(wanted) => Treatment::PutAnew(wanted.to_vec()),
            None => put(),
        },
        (Conflict::Changed(_) | Conflict::KeyTaken, OnChanged::Skip, _)
        | (Conflict::Gone, _, OnGone::Skip) => Treatment::Leave(conflict),
        // Another row's key is never taken from it.
        _ => Treatment::Stop(conflict),
    }
}

/// Compares what the run left with what is there now, `open` columns left out.
///
/// # Errors
/// The conflict, where the two differ.
pub fn compare(left: Option<&[Value]>, now: Option<&[Value]>, open: &[usize]) -> Result<(), Conflict> {
    match (left, now) {
        (None, None) => Ok(()),
        (Some(_), None) => Err(Conflict::Gone),
        (None, Some(_)) => Err(Conflict::KeyTaken),
        (Some(left), Some(now)) => {
            let mut cells = diff(left, now);
            cells.retain(|cell| !open.contains(&cell.column));
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
        assert_eq!(compare(Some(&a), Some(&a), &[]), Ok(()));
        assert_eq!(compare(None, None, &[]), Ok(()));
        assert_eq!(compare(Some(&a), None, &[]), Err(Conflict::Gone));
        assert_eq!(compare(None, Some(&a), &[]), Err(Conflict::KeyTaken));
        let Err(Conflict::Changed(cells)) = compare(Some(&a), Some(&b), &[]) else { panic!("differs") };
        assert_eq!((cells.len(), cells[0].column), (1, 1));
        assert_eq!(compare(Some(&a), Some(&b), &[1]), Ok(()));
    }

    const COLUMN: Compared<'_> = Compared { columns: &[1], open: &[], numbered: false };

    #[test]
    fn treatments_by_class() {
        let row = |a: i64, b: i64| vec![Value::Int(a), Value::Int(b)];
        let change = RowChange {
            place: Place::default(),
            ordinal: 1,
            key: vec![Value::Int(1)],
            key_after: None,
            image: Image::Update { before: row(1, 20), after: row(1, 2) },
        };
        let with =
            |now: Option<&[Value]>, changed, gone| treat(&change, now, COLUMN, Policy { changed, gone });
        use {OnChanged as C, OnGone as G};
        assert_eq!(with(Some(&row(1, 20)), C::Stop, G::Stop), Treatment::Put(Some(row(1, 2))));
        assert_eq!(with(Some(&row(1, 2)), C::Stop, G::Stop), Treatment::AlreadyBack);
        let edited = row(7, 30);
        assert!(matches!(with(Some(&edited), C::Stop, G::Insert), Treatment::Stop(Conflict::Changed(_))));
        assert!(matches!(with(Some(&edited), C::Skip, G::Stop), Treatment::Leave(Conflict::Changed(_))));
        // Only the run's own columns are overwritten; somebody else's edit of another column stays.
        assert_eq!(with(Some(&edited), C::Overwrite, G::Stop), Treatment::Put(Some(row(7, 2))));
        assert_eq!(with(None, C::Overwrite, G::Stop), Treatment::Stop(Conflict::Gone));
        assert_eq!(with(None, C::Stop, G::Skip), Treatment::Leave(Conflict::Gone));
        assert_eq!(with(None, C::Stop, G::Insert), Treatment::Put(Some(row(1, 2))));
        let deleted = RowChange { image: Image::Insert { after: row(1, 2) }, ..change.clone() };
        for changed in [C::Stop, C::Overwrite] {
            let policy = Policy { changed, gone: G::Insert };
            let taken = treat(&deleted, Some(&row(1, 9)), Compared::default(), policy);
            assert_eq!(taken, Treatment::Stop(Conflict::KeyTaken));
            // A number that the engine gave is no key: the row comes in under another.
            let numbered = Compared { numbered: true, ..Compared::default() };
            assert_eq!(treat(&deleted, Some(&row(1, 9)), numbered, policy), Treatment::PutAnew(row(1, 2)));
        }
    }

    #[test]
    fn the_inverse_of_the_inverse_is_the_change() {
        let change = RowChange {
            place: Place::default(),
            ordinal: 3,
            key: vec![Value::Int(1)],
            key_after: Some(vec![Value::Int(2)]),
            image: Image::Update { before: vec![Value::Int(1)], after: vec![Value::Int(2)] },
        };
        assert_eq!(change.clone().inverse().key_now(), [Value::Int(1)]);
        assert_eq!(change.clone().inverse().inverse(), change);
    }
}
