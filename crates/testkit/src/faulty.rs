//! A logbook and an engine that fail at the nth call, whichever that is: what is enumerated cannot be forgotten.

use std::any::Any;
use std::cell::Cell;
use std::rc::Rc;

use marktwice_core::hash::HashKey;
use marktwice_core::mark::{MarkRow, MarkSummary};
use marktwice_core::receipt::{Receipt, SnapshotRef};
use marktwice_core::record::{MarkHeader, SnapshotHeader, SnapshotTotals};
use marktwice_core::undo::RowChange;
use marktwice_port::around::{Around, AroundSession};
use marktwice_port::{
    CommitOutcome, DraftMark, Engine, EngineError, Intent, Language, Limits, LogError, LogErrorKind, Logbook,
    Mark, RunFolder, Session, SnapshotReader, SnapshotWriter,
};

/// Counts calls and says which one fails.
#[derive(Debug, Clone, Default)]
pub struct Fuse {
    calls: Rc<Cell<u64>>,
    blows_at: u64,
    dies: bool,
    late: bool,
}

impl Fuse {
    /// A fuse that blows at the nth call, from 1; 0 never.
    pub fn at(n: u64) -> Fuse {
        Fuse { calls: Rc::default(), blows_at: n, dies: false, late: false }
    }

    /// A fuse that ends the whole process at the nth call, at once and without any cleaning up.
    pub fn deadly(n: u64) -> Fuse {
        Fuse { dies: true, ..Fuse::at(n) }
    }

    /// A fuse that lets the nth call do its work, and then says that it failed.
    pub fn late(n: u64) -> Fuse {
        Fuse { late: true, ..Fuse::at(n) }
    }

    /// How many calls there were.
    pub fn calls(&self) -> u64 {
        self.calls.get()
    }

    fn blows(&self) -> bool {
        self.calls.set(self.calls.get() + 1);
        let blows = self.calls.get() == self.blows_at;
        if blows && self.dies {
            std::process::abort();
        }
        blows
    }

    fn around<T, E>(&self, error: impl Fn() -> E, work: impl FnOnce() -> Result<T, E>) -> Result<T, E> {
        let blows = self.blows();
        if blows && !self.late {
            return Err(error());
        }
        let done = work()?;
        if blows { Err(error()) } else { Ok(done) }
    }

    fn log<T>(&self, work: impl FnOnce() -> Result<T, LogError>) -> Result<T, LogError> {
        self.around(|| LogError::new(LogErrorKind::NoSpace, "no space left (a test's fault)"), work)
    }

    fn engine<T>(&self, work: impl FnOnce() -> Result<T, EngineError>) -> Result<T, EngineError> {
        self.around(|| EngineError::Other("a test's fault".to_owned()), work)
    }
}

/// A logbook whose writes can fail.
pub struct FaultyBook {
    /// The real one.
    pub inner: Box<dyn Logbook>,
    /// What fails.
    pub fuse: Fuse,
}

struct FaultyDraft(Box<dyn DraftMark>, Fuse);

impl DraftMark for FaultyDraft {
    fn row(&mut self, step: usize, row: MarkRow) -> Result<(), LogError> {
        self.1.log(|| self.0.row(step, row))
    }

    fn finish(self: Box<Self>, totals: &[MarkSummary]) -> Result<(), LogError> {
        self.1.clone().log(|| self.0.finish(totals))
    }
}

struct FaultySnapshot(Box<dyn SnapshotWriter>, Fuse);

impl SnapshotWriter for FaultySnapshot {
    fn row(&mut self, row: RowChange) -> Result<(), LogError> {
        self.1.log(|| self.0.row(row))
    }

    fn finish(self: Box<Self>) -> Result<(SnapshotRef, SnapshotTotals), LogError> {
        self.1.clone().log(|| self.0.finish())
    }
}

struct FaultyFolder(Box<dyn RunFolder>, Fuse);

impl RunFolder for FaultyFolder {
    fn run(&self) -> &str {
        self.0.run()
    }

    fn receipt(&mut self, receipt: &Receipt) -> Result<(), LogError> {
        self.1.log(|| self.0.receipt(receipt))
    }

    fn snapshot(&mut self, header: &SnapshotHeader) -> Result<Box<dyn SnapshotWriter>, LogError> {
        let inner = self.1.log(|| self.0.snapshot(header))?;
        Ok(Box::new(FaultySnapshot(inner, self.1.clone())))
    }
}

impl Logbook for FaultyBook {
    fn lock(&self) -> Result<Box<dyn Any>, LogError> {
        self.inner.lock()
    }

    fn key_name(&self) -> Option<String> {
        self.inner.key_name()
    }

    fn hash_key(&self) -> Result<HashKey, LogError> {
        self.fuse.log(|| self.inner.hash_key())
    }

    fn draft_mark(&self, header: MarkHeader, stamp: &str) -> Result<(String, Box<dyn DraftMark>), LogError> {
        let (name, draft) = self.fuse.log(|| self.inner.draft_mark(header, stamp))?;
        Ok((name, Box::new(FaultyDraft(draft, self.fuse.clone()))))
    }

    fn give_mark(&self, name: &str) -> Result<(String, Vec<u8>), LogError> {
        self.inner.give_mark(name)
    }

    fn take_mark(&self, file: &str, bytes: &[u8]) -> Result<String, LogError> {
        self.fuse.log(|| self.inner.take_mark(file, bytes))
    }

    fn last_of(&self, origin: &str) -> Result<Option<Box<dyn Mark>>, LogError> {
        self.fuse.log(|| self.inner.last_of(origin))
    }

    fn mark(&self, name: Option<&str>) -> Result<Box<dyn Mark>, LogError> {
        self.inner.mark(name)
    }

    fn begin_run(
        &self,
        stamp: &str,
        change: &str,
        make: &mut dyn FnMut(&str) -> Receipt,
    ) -> Result<Box<dyn RunFolder>, LogError> {
        let inner = self.fuse.log(|| self.inner.begin_run(stamp, change, make))?;
        Ok(Box::new(FaultyFolder(inner, self.fuse.clone())))
    }

    fn open_run(&self, run: &str) -> Result<Box<dyn RunFolder>, LogError> {
        self.inner.open_run(run)
    }

    fn receipts(&self) -> Result<Vec<Receipt>, LogError> {
        self.inner.receipts()
    }

    fn is_of(&self, identity: &str) -> bool {
        self.inner.is_of(identity)
    }

    fn damaged(&self) -> Result<Vec<marktwice_port::Damaged>, LogError> {
        self.fuse.log(|| self.inner.damaged())
    }

    fn set_aside(&self, receipt: &Receipt) -> Result<(), LogError> {
        self.fuse.log(|| self.inner.set_aside(receipt))
    }

    fn unsettled(&self) -> Result<Vec<Receipt>, LogError> {
        self.inner.unsettled()
    }

    fn forget(&self, receipt: &Receipt) -> Result<(), LogError> {
        self.inner.forget(receipt)
    }

    fn size(&self) -> Result<u64, LogError> {
        self.inner.size()
    }

    fn change(&self, run: &str) -> Result<String, LogError> {
        self.inner.change(run)
    }

    fn snapshot(&self, run: &str, expected: &SnapshotRef) -> Result<Box<dyn SnapshotReader>, LogError> {
        self.fuse.log(|| self.inner.snapshot(run, expected))
    }
}

/// An engine whose calls can fail. With `after` the call does its work first, and only its answer is lost.
pub struct FaultyEngine<'a> {
    /// The real one.
    pub inner: &'a dyn Engine,
    /// What fails.
    pub fuse: Fuse,
    /// Whether a failing COMMIT has in truth gone through, and its answer is lost.
    pub after: bool,
}

/// Faults around each call.
#[derive(Clone)]
struct Faults(Fuse, bool);

impl Around for Faults {
    fn call<R>(&self, work: impl FnOnce() -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.0.engine(work)
    }

    fn commit(&self, commit: impl FnOnce() -> CommitOutcome) -> CommitOutcome {
        match self.0.engine(|| Ok(())) {
            Ok(()) => commit(),
            Err(error) if self.1 => match commit() {
                CommitOutcome::Committed => CommitOutcome::Unknown(error),
                other => other,
            },
            Err(error) => CommitOutcome::Unknown(error),
        }
    }
}

impl Engine for FaultyEngine<'_> {
    fn language(&self) -> &dyn Language {
        self.inner.language()
    }

    fn open(&self, address: &str, intent: Intent, waits: Limits) -> Result<Box<dyn Session>, EngineError> {
        let inner = self.fuse.engine(|| self.inner.open(address, intent, waits))?;
        Ok(Box::new(AroundSession { inner, around: Faults(self.fuse.clone(), self.after) }))
    }
}
