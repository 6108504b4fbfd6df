//! Where an undo finds the rows of a run, and who it asks about tables: a logbook and a session, or, while the run is still open, memory
//! and its own transaction.

use std::rc::Rc;

use marktwice_core::record::SnapshotHeader;
use marktwice_core::side::SideWrite;
use marktwice_core::table::Target;
use marktwice_core::triggered::Triggered;
use marktwice_core::undo::RowChange;
use marktwice_port::{Batch, EngineError, LogError, Logbook, Reach, Session, SnapshotReader, Tx};

use super::Undoing;

/// The rows of a run, from the first one each time they are opened.
pub(super) trait KeptRows {
    fn open(&self) -> Result<Box<dyn SnapshotReader + '_>, LogError>;
}

/// Those of a run in the logbook.
pub(super) struct RowsOf<'a> {
    book: &'a dyn Logbook,
    undoing: &'a Undoing,
}

impl<'a> RowsOf<'a> {
    pub(super) fn new(book: &'a dyn Logbook, undoing: &'a Undoing) -> Self {
        RowsOf { book, undoing }
    }
}

impl KeptRows for RowsOf<'_> {
    fn open(&self) -> Result<Box<dyn SnapshotReader + '_>, LogError> {
        self.book.snapshot(self.undoing.run(), &self.undoing.snapshot)
    }
}

/// Those of a run that is not committed yet.
pub(super) struct InMemory {
    pub(super) header: SnapshotHeader,
    pub(super) rows: Rc<Vec<RowChange>>,
}

struct Reading<'a> {
    of: &'a InMemory,
    at: usize,
}

impl SnapshotReader for Reading<'_> {
    fn header(&self) -> &SnapshotHeader {
        &self.of.header
    }

    fn next(&mut self) -> Result<Option<RowChange>, LogError> {
        self.at += 1;
        Ok(self.of.rows.get(self.at - 1).cloned())
    }
}

impl KeptRows for InMemory {
    fn open(&self) -> Result<Box<dyn SnapshotReader + '_>, LogError> {
        Ok(Box::new(Reading { of: self, at: 0 }))
    }
}

/// Who tells how tables are defined, and what putting rows back reaches.
pub(super) enum Definitions<'a> {
    /// A session that reads.
    Session(&'a mut dyn Session),
    /// The transaction of a run.
    Tx(&'a mut dyn Tx),
}

impl Definitions<'_> {
    pub(super) fn describe(&mut self, schema: &str, table: &str) -> Result<Target, EngineError> {
        match self {
            Definitions::Session(session) => session.describe(schema, table),
            Definitions::Tx(tx) => tx.describe(schema, table),
        }
    }

    pub(super) fn restore_reach(&mut self, batch: &Batch) -> Result<Reach, EngineError> {
        match self {
            Definitions::Session(session) => session.restore_reach(batch),
            Definitions::Tx(tx) => tx.restore_reach(batch),
        }
    }

    pub(super) fn restorable(
        &mut self,
        written: &[SideWrite],
        known: &[Target],
        own: &[Target],
    ) -> Result<Vec<Triggered>, EngineError> {
        match self {
            Definitions::Session(session) => session.restorable(written, known, own),
            Definitions::Tx(tx) => tx.restorable(written, known, own),
        }
    }
}
