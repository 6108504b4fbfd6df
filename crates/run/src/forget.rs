//! Forgetting: the row contents of runs are removed, their receipts stay.

use marktwice_core::receipt::Receipt;

use crate::context::Context;
use crate::history::{Entry, find_run, history};
use crate::outcome::Failure;

/// Which runs are to be forgotten.
#[derive(Debug, Clone)]
pub enum Chosen {
    /// These, by name or a unique part of it.
    Runs(Vec<String>),
    /// All that began before this moment (RFC 3339, or the beginning of one: `2026-05`).
    Before(String),
}

/// The runs that would be forgotten: those with a snapshot. Nothing is written.
///
/// # Errors
/// When a run is not there, or its outcome is not known.
pub fn forgettable(entries: &[Entry], which: &Chosen) -> Result<Vec<Receipt>, Failure> {
    let wanted: Vec<Receipt> = match which {
        Chosen::Runs(names) => names
            .iter()
            .map(|name| find_run(entries, Some(name)).map(|e| e.receipt))
            .collect::<Result<_, _>>()?,
        Chosen::Before(moment) => entries
            .iter()
            .map(|e| &e.receipt)
            .filter(|r| r.started.as_str() < moment.as_str())
            .cloned()
            .collect(),
    };
    if let Some(open) = wanted.iter().find(|r| !r.state.is_final()) {
        return Err(Failure::Unsettled { run: open.run.clone() });
    }
    Ok(wanted.into_iter().filter(|r| r.snapshot.is_some() && r.forgotten.is_none()).collect())
}

/// Forgets the rows of these runs.
///
/// # Errors
/// When another process is at work on the database, or something cannot be written.
pub fn forget(context: &Context<'_>, runs: &[Receipt]) -> Result<(), Failure> {
    let session = context.open(marktwice_port::Intent::Read)?;
    let book = (context.book)(session.database())?;
    let _lock = book.lock()?;
    let now = history(&*book)?;
    for run in runs {
        // What was agreed to is looked at again under the lock.
        let which = Chosen::Runs(vec![run.run.clone()]);
        for mut receipt in forgettable(&now, &which)? {
            receipt.forgotten = Some(context.ambient.now().rfc3339);
            book.forget(&receipt)?;
        }
    }
    Ok(())
}
