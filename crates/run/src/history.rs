//! The history of a database: its runs, newest first, with which can still be taken back.

use marktwice_core::receipt::{Receipt, RunKind, RunState};
use marktwice_port::Logbook;

use crate::outcome::Failure;

/// One run in the history.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its receipt.
    pub receipt: Receipt,
    /// The undo that took it back and stands.
    pub undone_by: Option<String>,
    /// Whether it can still be taken back, as far as the logbook knows.
    pub can_undo: bool,
}

/// Whether a committed run still stands: no undo of it does.
pub(crate) fn standing(receipts: &[Receipt], run: &str) -> bool {
    undone_by(receipts, run).is_none()
}

/// The committed undo of a run that itself still stands.
pub(crate) fn undone_by<'r>(receipts: &'r [Receipt], run: &str) -> Option<&'r Receipt> {
    receipts
        .iter()
        .filter(|r| {
            // An undo that left rows out leaves the run standing in part.
            r.kind == RunKind::Undo
                && r.state == RunState::Committed
                && !r.partial
                && r.undo_of.as_deref() == Some(run)
        })
        // A run cannot take back a later one, so this ends.
        .find(|r| standing(receipts, &r.run))
}

/// All runs of a logbook, newest first.
///
/// # Errors
/// When a receipt cannot be read.
pub fn history(book: &dyn Logbook) -> Result<Vec<Entry>, Failure> {
    let receipts = book.receipts()?;
    Ok(receipts
        .iter()
        .map(|receipt| {
            let undone_by = undone_by(&receipts, &receipt.run).map(|r| r.run.clone());
            let can_undo = receipt.can_be_undone() && undone_by.is_none();
            Entry { receipt: receipt.clone(), undone_by, can_undo }
        })
        .collect())
}

/// The run that a name, or a part of one, means; the last run without a name.
///
/// # Errors
/// When there is none, or more than one.
pub fn find_run(entries: &[Entry], name: Option<&str>) -> Result<Entry, Failure> {
    let Some(name) = name else {
        return entries.first().cloned().ok_or_else(|| {
            Failure::usage(
                "there is no run on this database yet",
                "apply a change first: marktwice apply CHANGE",
            )
        });
    };
    if let Some(exact) = entries.iter().find(|e| e.receipt.run == name) {
        return Ok(exact.clone());
    }
    let found: Vec<&Entry> =
        entries.iter().filter(|e| !name.is_empty() && e.receipt.run.contains(name)).collect();
    match found.as_slice() {
        [one] => Ok((*one).clone()),
        [] => Err(Failure::usage(
            format!("there is no run {name} on this database"),
            "marktwice history lists them",
        )),
        many => {
            let names: Vec<&str> = many.iter().map(|e| e.receipt.run.as_str()).collect();
            Err(Failure::usage(format!("{name} may mean {}", names.join(", ")), "write more of the name"))
        }
    }
}
