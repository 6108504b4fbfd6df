//! What a logbook must be able to do: keep marks, runs, snapshots and receipts of one database, durably.

use std::any::Any;

use marktwice_core::hash::HashKey;
use marktwice_core::mark::{MarkRow, MarkSummary};
use marktwice_core::receipt::{Receipt, SnapshotRef};
use marktwice_core::record::{MarkHeader, SnapshotHeader, SnapshotTotals};
use marktwice_core::undo::RowChange;

/// What kind of failure it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LogErrorKind {
    /// Nothing by that name.
    NotFound,
    /// More than one thing by that name.
    Ambiguous,
    /// A file is torn, altered or not ours.
    Damaged,
    /// A file is of a newer format.
    Newer,
    /// What is encrypted cannot be read with the key that is there, or the key itself cannot be.
    Key,
    /// Another process works on this database.
    Busy,
    /// The disk is full, or a file limit is reached.
    NoSpace,
    /// Anything else that the file system says.
    Io,
}

/// What went wrong in a logbook.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{message}")]
pub struct LogError {
    /// What kind of failure it was.
    pub kind: LogErrorKind,
    /// What happened, and where.
    pub message: String,
}

impl LogError {
    /// An error of `kind`.
    pub fn new(kind: LogErrorKind, message: impl Into<String>) -> Self {
        LogError { kind, message: message.into() }
    }
}

/// A mark that is being written.
pub trait DraftMark {
    /// Adds one row of a step.
    ///
    /// # Errors
    /// When it cannot be written.
    fn row(&mut self, step: usize, row: MarkRow) -> Result<(), LogError>;

    /// Completes the mark and makes it durable; until then nobody sees it.
    ///
    /// # Errors
    /// When it cannot be written.
    fn finish(self: Box<Self>, totals: &[MarkSummary]) -> Result<(), LogError>;
}

/// A mark that was kept, verified when it was opened.
pub trait Mark {
    /// What it says about itself.
    fn header(&self) -> &MarkHeader;

    /// Its totals, by step.
    fn totals(&self) -> &[MarkSummary];

    /// Reads its rows of a step from the first.
    ///
    /// # Errors
    /// When the file changed under the reader.
    fn rows(&self, step: usize, give: &mut dyn FnMut(&MarkRow)) -> Result<(), LogError>;
}

/// A snapshot that is being written.
pub trait SnapshotWriter {
    /// Adds one row.
    ///
    /// # Errors
    /// When it cannot be written.
    fn row(&mut self, row: RowChange) -> Result<(), LogError>;

    /// Writes the trailer, syncs, renames, syncs the folder, reopens the file and reads all of it back.
    ///
    /// # Errors
    /// When any of that fails, or what is read is not what was written.
    fn finish(self: Box<Self>) -> Result<(SnapshotRef, SnapshotTotals), LogError>;
}

/// A snapshot that was kept.
pub trait SnapshotReader {
    /// What it says about itself.
    fn header(&self) -> &SnapshotHeader;

    /// The next row; `None` at the end, after the trailer was found true.
    ///
    /// # Errors
    /// When the file is torn or altered.
    fn next(&mut self) -> Result<Option<RowChange>, LogError>;
}

/// The folder of one run.
pub trait RunFolder {
    /// The run's short name.
    fn run(&self) -> &str;

    /// Writes the receipt as it stands now, durably.
    ///
    /// # Errors
    /// When it cannot be written; the receipt before it stays whole.
    fn receipt(&mut self, receipt: &Receipt) -> Result<(), LogError>;

    /// Begins the snapshot.
    ///
    /// # Errors
    /// When it cannot be written.
    fn snapshot(&mut self, header: &SnapshotHeader) -> Result<Box<dyn SnapshotWriter>, LogError>;
}

/// A run whose receipt cannot be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Damaged {
    /// The run.
    pub run: String,
    /// What is wrong with its receipt.
    pub why: String,
    /// Whether a note says that its outcome was not known when the receipt was last whole.
    pub open: bool,
}

/// The logbook of one database.
pub trait Logbook {
    /// Keeps every other process from beginning a run on this database until the guard is dropped.
    ///
    /// # Errors
    /// [`LogErrorKind::Busy`] when another process has it.
    fn lock(&self) -> Result<Box<dyn Any>, LogError>;

    /// The key for hashes of what must not be guessed; made where there is none yet. It stands in no mark, receipt or snapshot.
    ///
    /// # Errors
    /// When it cannot be made or read.
    fn hash_key(&self) -> Result<HashKey, LogError>;

    /// What the key is called that encrypted snapshots are read with, where there is one.
    fn key_name(&self) -> Option<String> {
        None
    }

    /// Begins a mark. The header's name is filled in and given back.
    ///
    /// # Errors
    /// When it cannot be written.
    fn draft_mark(&self, header: MarkHeader, stamp: &str) -> Result<(String, Box<dyn DraftMark>), LogError>;

    /// A mark by name, or the last one; its checksum is verified.
    ///
    /// # Errors
    /// When there is none, or it is damaged or newer.
    fn mark(&self, name: Option<&str>) -> Result<Box<dyn Mark>, LogError>;

    /// A mark as it is kept: the name of its file, and its bytes.
    ///
    /// # Errors
    /// When there is none, or it is damaged or newer.
    fn give_mark(&self, name: &str) -> Result<(String, Vec<u8>), LogError>;

    /// Keeps a mark that another logbook of this database gave, under the same name; gives that name. One that is there already
    /// stays, and has to be the same.
    ///
    /// # Errors
    /// When it is damaged, newer, or not the one of that name that is there; when it cannot be written.
    fn take_mark(&self, file: &str, bytes: &[u8]) -> Result<String, LogError>;

    /// The last mark of a file by a preview or a rehearsal, where there is one that is not large: what an edit of it has made of
    /// its rows is told from it.
    ///
    /// # Errors
    /// When the folder cannot be read.
    fn last_of(&self, origin: &str) -> Result<Option<Box<dyn Mark>>, LogError>;

    /// Makes the folder of a new run, with the change's text in it, durable. `make` gives the first receipt for the
    /// run's short name.
    ///
    /// # Errors
    /// When it cannot be written.
    fn begin_run(
        &self,
        stamp: &str,
        change: &str,
        make: &mut dyn FnMut(&str) -> Receipt,
    ) -> Result<Box<dyn RunFolder>, LogError>;

    /// Opens the folder of a run again, to write what became of it.
    ///
    /// # Errors
    /// When there is no such run.
    fn open_run(&self, run: &str) -> Result<Box<dyn RunFolder>, LogError>;

    /// Whether this is the logbook of the database with that identity, under its present name or a former one.
    fn is_of(&self, identity: &str) -> bool;

    /// Receipts of all runs, newest first; damaged ones left out.
    ///
    /// # Errors
    /// When one is of a newer format, or a folder cannot be read.
    fn receipts(&self) -> Result<Vec<Receipt>, LogError>;

    /// Runs whose receipt is damaged, and what is wrong with it.
    ///
    /// # Errors
    /// When a folder cannot be read.
    fn damaged(&self) -> Result<Vec<Damaged>, LogError>;

    /// Receipts of runs whose outcome is not written down, whether a note of them is left or not.
    ///
    /// # Errors
    /// When one cannot be read.
    fn unsettled(&self) -> Result<Vec<Receipt>, LogError>;

    /// Writes the receipt of a run that a person has set aside. One that cannot be read is kept beside it.
    ///
    /// # Errors
    /// When there is no such run, or it cannot be written.
    fn set_aside(&self, receipt: &Receipt) -> Result<(), LogError>;

    /// Removes the snapshot of a run; its receipt, which must say so, is written first.
    ///
    /// # Errors
    /// When it cannot be written or removed.
    fn forget(&self, receipt: &Receipt) -> Result<(), LogError>;

    /// Bytes that this database's part of the logbook takes up.
    ///
    /// # Errors
    /// When it cannot be read.
    fn size(&self) -> Result<u64, LogError>;

    /// The change text of a run.
    ///
    /// # Errors
    /// When it cannot be read.
    fn change(&self, run: &str) -> Result<String, LogError>;

    /// The snapshot of a run, whose checksum must be the given one.
    ///
    /// # Errors
    /// When there is none, or it is damaged or newer.
    fn snapshot(&self, run: &str, expected: &SnapshotRef) -> Result<Box<dyn SnapshotReader>, LogError>;
}
