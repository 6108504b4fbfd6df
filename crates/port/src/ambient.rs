//! The surroundings of a run: the time, whether somebody asked to stop, and who is told about progress.

use std::sync::Arc;

use marktwice_core::sheet::Sheet;

/// Tells whether somebody asked to stop.
pub type Stopper = Arc<dyn Fn() -> bool + Send + Sync>;

/// Told when a server has not answered for much longer than the limit on a statement, and asking it to stop has not helped
/// either: nothing can be waited for any more. Whether COMMIT was asked for is told too.
pub type Silent = Arc<dyn Fn(bool) + Send + Sync>;

/// What a session looks at while it waits for its engine.
#[derive(Clone)]
pub struct Watch {
    /// Whether somebody asked to stop.
    pub stop: Stopper,
    /// Told when the engine has gone silent.
    pub silent: Silent,
}

/// A moment, in the two forms that are written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stamp {
    /// UTC, RFC 3339, whole seconds: `2026-05-11T08:30:00Z`.
    pub rfc3339: String,
    /// UTC, for file names; sorts by time: `20260511T083000.123Z`.
    pub compact: String,
}

/// What a run is busy with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Phase {
    /// Reading a sheet.
    Sheet,
    /// Connecting, and asking what the statement means here.
    Planning,
    /// The engine finds the rows that match.
    Finding,
    /// Reading the matched rows.
    Reading,
    /// Asking more about them, for somebody who reads it.
    Closer,
    /// Copying the whole database.
    Copying,
    /// Holding them inside the transaction.
    Holding,
    /// The statement is at work.
    Executing,
    /// Verifying every row and writing the snapshot.
    Proving,
    /// Reading a snapshot back that was written.
    ReadingBack,
    /// Comparing rows with what a run left.
    Comparing,
    /// Putting rows back.
    Restoring,
    /// COMMIT was asked for, and is not answered yet.
    Committing,
}

/// How far the commit of a run has come: what may be said of it when the process has to end at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CommitState {
    /// Nothing of it is decided: without COMMIT everything is rolled back.
    NotAsked,
    /// The receipt says `committing`, or is about to, and COMMIT is not answered: only `settle` knows.
    Asked,
    /// COMMIT was answered: it is committed, and the receipt does not say so yet.
    Answered,
    /// Committed, and the receipt says so.
    Recorded,
}

/// One line of a sheet: its number in the file, and its cells.
pub type SheetLine = (u64, Vec<String>);

/// The lines of a sheet, in order; an error says what is wrong, and in which line.
pub type SheetLines = Box<dyn Iterator<Item = Result<SheetLine, String>>>;

/// The surroundings.
pub trait Ambient {
    /// The lines of a sheet, from the file that it was first read from.
    ///
    /// # Errors
    /// Where it cannot be read, or is another one by now.
    fn sheet(&self, sheet: &Sheet) -> Result<SheetLines, String> {
        Err(format!("there is no {} here", sheet.file))
    }

    /// The time.
    fn now(&self) -> Stamp;

    /// Tells whether somebody asked to stop. Looked at between actions and by the engine while a statement is at
    /// work, never after the commit began.
    fn stopper(&self) -> Stopper;

    /// What is done when an engine has gone silent; it need not come back.
    fn silent(&self) -> Silent;

    /// Told how far the commit has come, each time before anything is done that depends on it.
    fn commit_state(&self, _state: CommitState) {}

    /// Told now and then how far a phase is: rows done, of how many where that is known.
    fn progress(&self, phase: Phase, done: u64, of: Option<u64>);
}
