//! A logbook and an engine that fail at the nth call, whichever that is: what is enumerated cannot be forgotten.

use std::any::Any;
use std::cell::Cell;
use std::rc::Rc;

use marktwice_core::Code;
use marktwice_core::archive::Archive;
use marktwice_core::asked::Answer;
use marktwice_core::breach::Breaches;
use marktwice_core::check::{CheckFound, EachCheck};
use marktwice_core::hash::Fingerprint;
use marktwice_core::hash::HashKey;
use marktwice_core::mark::{MarkRow, MarkSummary};
use marktwice_core::param::Bound;
use marktwice_core::receipt::{DatabaseId, Receipt, SnapshotRef};
use marktwice_core::record::{MarkHeader, SnapshotHeader, SnapshotTotals};
use marktwice_core::steps::Touches;
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::table::Target;
use marktwice_core::triggered::Triggered;
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;
use marktwice_port::{
    Batch, ChangeSource, CommitOutcome, DraftMark, Engine, EngineError, FoundSink, Hold, Intent, KeepSink,
    Language, Limits, LogError, LogErrorKind, Logbook, Mark, Matched, PairSink, Plan, Reach, RowSink,
    RunFolder, Session, Settings, SheetRows, SheetTable, SideWrite, SnapshotReader, SnapshotWriter, Stopper,
    Tx, Viewing,
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

struct FaultySession(Box<dyn Session>, Fuse, bool);

impl Engine for FaultyEngine<'_> {
    fn language(&self) -> &dyn Language {
        self.inner.language()
    }

    fn open(&self, address: &str, intent: Intent, waits: Limits) -> Result<Box<dyn Session>, EngineError> {
        let inner = self.fuse.engine(|| self.inner.open(address, intent, waits))?;
        Ok(Box::new(FaultySession(inner, self.fuse.clone(), self.after)))
    }
}

impl Session for FaultySession {
    fn database(&self) -> &DatabaseId {
        self.0.database()
    }

    fn obey(&mut self, watch: &marktwice_port::Watch) {
        self.0.obey(watch);
    }

    fn bind(&mut self, values: &[Bound]) -> Result<(), EngineError> {
        self.1.engine(|| self.0.bind(values))
    }

    fn set_up(&mut self, settings: &[marktwice_core::change::Setting]) -> Result<(), EngineError> {
        self.1.engine(|| self.0.set_up(settings))
    }

    fn column(
        &mut self,
        schema: Option<&str>,
        table: &str,
        column: &str,
    ) -> Result<Option<marktwice_core::table::Column>, EngineError> {
        self.1.engine(|| self.0.column(schema, table, column))
    }

    fn spread(&mut self, sheet: &SheetTable, rows: &mut SheetRows<'_>) -> Result<u64, EngineError> {
        self.1.engine(|| self.0.spread(sheet, rows))
    }

    fn hide(&mut self, columns: &marktwice_core::secret::HiddenColumns, key: marktwice_core::hash::HashKey) {
        self.0.hide(columns, key);
    }

    fn name_by(&mut self, names: &marktwice_core::table::NamedBy) {
        self.0.name_by(names);
    }

    fn notes(&self) -> &[String] {
        self.0.notes()
    }

    fn plan(&mut self, source: &str, allow: &[Code], earlier: &[Plan]) -> Result<Plan, EngineError> {
        self.1.engine(|| self.0.plan(source, allow, earlier))
    }

    fn view(&mut self, plans: &[&Plan], work: &mut Viewing<'_>) -> Result<(), EngineError> {
        let fuse = self.1.clone();
        self.1.engine(|| self.0.view(plans, &mut |hold| work(&mut FaultyHold(hold, fuse.clone()))))
    }

    fn archive(&mut self, plan: &mut Plan, table: &str, make: bool) -> Result<(), EngineError> {
        self.1.engine(|| self.0.archive(plan, table, make))
    }

    fn make_archive(
        &mut self,
        archive: &mut Archive,
        held: &mut [Triggered],
        there: bool,
    ) -> Result<(), EngineError> {
        self.1.engine(|| self.0.make_archive(archive, held, there))
    }

    fn copy_database(&mut self, file: &str, told: &mut marktwice_port::Told<'_>) -> Result<u64, EngineError> {
        self.1.engine(|| self.0.copy_database(file, told))
    }

    fn reads(&mut self, query: &str) -> Result<Touches, EngineError> {
        self.1.engine(|| self.0.reads(query))
    }

    fn rest(&mut self) -> Result<(), EngineError> {
        self.1.engine(|| self.0.rest())
    }

    fn may_write(&mut self) -> Result<bool, EngineError> {
        self.1.engine(|| self.0.may_write())
    }

    fn touches(&mut self, plan: &Plan) -> Result<Touches, EngineError> {
        self.1.engine(|| self.0.touches(plan))
    }

    // Looking changes nothing and decides nothing, so it is no place to fail at.
    fn matched_rows(
        &mut self,
        plan: &Plan,
        limit: Option<u64>,
        sink: &mut RowSink<'_>,
    ) -> Result<u64, EngineError> {
        self.0.matched_rows(plan, limit, sink)
    }

    fn study(&mut self, plan: &Plan, wish: &Wish) -> Result<Study, EngineError> {
        self.0.study(plan, wish)
    }

    fn view_rows(
        &mut self,
        schema: Option<&str>,
        view: &str,
        statement: &str,
        limit: Option<u64>,
        sink: &mut RowSink<'_>,
    ) -> Result<u64, EngineError> {
        self.0.view_rows(schema, view, statement, limit, sink)
    }

    fn tables(&mut self) -> Result<Vec<TableSummary>, EngineError> {
        self.0.tables()
    }

    fn survey(&mut self, schema: Option<&str>, table: &str) -> Result<Survey, EngineError> {
        self.0.survey(schema, table)
    }

    fn left(&mut self, table: &str, most: u32) -> Result<Vec<marktwice_core::witness::Left>, EngineError> {
        self.1.engine(|| self.0.left(table, most))
    }

    fn was_left(&mut self, table: &str, id: &str) -> Result<Option<bool>, EngineError> {
        self.1.engine(|| self.0.was_left(table, id))
    }

    fn table_to_leave_in(&mut self, table: &str, make: bool) -> Result<String, EngineError> {
        self.0.table_to_leave_in(table, make)
    }

    fn outcome(&mut self, token: &str) -> Result<Option<bool>, EngineError> {
        self.1.engine(|| self.0.outcome(token))
    }

    fn describe(&mut self, schema: &str, table: &str) -> Result<Target, EngineError> {
        self.1.engine(|| self.0.describe(schema, table))
    }

    fn first_rows(&mut self, target: &Target, limit: u32) -> Result<Vec<Vec<Value>>, EngineError> {
        self.0.first_rows(target, limit)
    }

    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        self.1.engine(|| self.0.look_up(target, source, sink))
    }

    fn restore_reach(&mut self, batch: &Batch) -> Result<Reach, EngineError> {
        self.1.engine(|| self.0.restore_reach(batch))
    }

    fn restorable(
        &mut self,
        written: &[SideWrite],
        known: &[Target],
        own: &[Target],
    ) -> Result<Vec<Triggered>, EngineError> {
        self.1.engine(|| self.0.restorable(written, known, own))
    }

    fn contents(&mut self) -> Result<Vec<(String, Fingerprint)>, EngineError> {
        self.0.contents()
    }

    fn begin(&mut self, stop: Stopper) -> Result<Box<dyn Tx + '_>, EngineError> {
        let inner = self.1.engine(|| self.0.begin(stop))?;
        Ok(Box::new(FaultyTx(inner, self.1.clone(), self.2)))
    }
}

struct FaultyTx<'s>(Box<dyn Tx + 's>, Fuse, bool);

struct FaultyHold<'h>(&'h mut dyn Hold, Fuse);

impl Hold for FaultyHold<'_> {
    fn hold(&mut self, plan: &Plan) -> Result<Matched, EngineError> {
        self.1.engine(|| self.0.hold(plan))
    }

    fn held(&mut self, step: usize, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        self.1.engine(|| self.0.held(step, sink))
    }

    fn each(&mut self, step: usize, check: &EachCheck) -> Result<CheckFound, EngineError> {
        self.1.engine(|| self.0.each(step, check))
    }

    fn ask(&mut self, query: &str) -> Result<Answer, EngineError> {
        self.1.engine(|| self.0.ask(query))
    }

    fn breaches(&mut self, plan: &Plan) -> Result<Breaches, EngineError> {
        self.1.engine(|| self.0.breaches(plan))
    }
}

impl Hold for FaultyTx<'_> {
    fn hold(&mut self, plan: &Plan) -> Result<Matched, EngineError> {
        self.1.engine(|| self.0.hold(plan))
    }

    fn held(&mut self, step: usize, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        self.1.engine(|| self.0.held(step, sink))
    }

    fn each(&mut self, step: usize, check: &EachCheck) -> Result<CheckFound, EngineError> {
        self.1.engine(|| self.0.each(step, check))
    }

    fn ask(&mut self, query: &str) -> Result<Answer, EngineError> {
        self.1.engine(|| self.0.ask(query))
    }

    fn breaches(&mut self, plan: &Plan) -> Result<Breaches, EngineError> {
        self.1.engine(|| self.0.breaches(plan))
    }
}

impl Tx for FaultyTx<'_> {
    fn settings(&self) -> Settings {
        self.0.settings()
    }

    fn hold_rows(
        &mut self,
        batch: &Batch,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<Matched, EngineError> {
        self.1.engine(|| self.0.hold_rows(batch, source, sink))
    }

    fn keep_copy(&mut self, plan: &Plan, name: &str) -> Result<u64, EngineError> {
        self.1.engine(|| self.0.keep_copy(plan, name))
    }

    fn make_archive(
        &mut self,
        archive: &mut Archive,
        held: &mut [Triggered],
        there: bool,
    ) -> Result<(), EngineError> {
        self.1.engine(|| self.0.make_archive(archive, held, there))
    }

    fn archive(&mut self, step: usize, archive: &Archive) -> Result<u64, EngineError> {
        self.1.engine(|| self.0.archive(step, archive))
    }

    fn execute(&mut self, plan: &Plan) -> Result<u64, EngineError> {
        self.1.engine(|| self.0.execute(plan))
    }

    fn bind(&mut self, value: Bound) -> Result<(), EngineError> {
        self.1.engine(|| self.0.bind(value))
    }

    fn put(&mut self, batch: &Batch) -> Result<u64, EngineError> {
        self.1.engine(|| self.0.put(batch))
    }

    fn hold_triggered(&mut self, tables: &[Target]) -> Result<(), EngineError> {
        self.1.engine(|| self.0.hold_triggered(tables))
    }

    fn triggered(&mut self) -> Result<Vec<(usize, Target)>, EngineError> {
        self.1.engine(|| self.0.triggered())
    }

    fn hold_triggered_rows(
        &mut self,
        batch: &Batch,
        left: bool,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<usize, EngineError> {
        self.1.engine(|| self.0.hold_triggered_rows(batch, left, source, sink))
    }

    fn restore_triggered(&mut self) -> Result<u64, EngineError> {
        self.1.engine(|| self.0.restore_triggered())
    }

    fn settle_constraints(&mut self) -> Result<(), EngineError> {
        self.1.engine(|| self.0.settle_constraints())
    }

    fn pair(&mut self, step: usize, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        self.1.engine(|| self.0.pair(step, sink))
    }

    fn effects(&mut self, step: usize) -> Result<Vec<SideWrite>, EngineError> {
        self.1.engine(|| self.0.effects(step))
    }

    fn counts_tables(&self) -> bool {
        self.0.counts_tables()
    }

    fn total(&mut self, step: usize) -> Result<u64, EngineError> {
        self.1.engine(|| self.0.total(step))
    }

    fn intact(&mut self) -> Result<(), EngineError> {
        self.1.engine(|| self.0.intact())
    }

    fn leave(&mut self, table: &str, row: Vec<Value>) -> Result<(), EngineError> {
        self.1.engine(|| self.0.leave(table, row))
    }

    fn token(&mut self) -> Option<String> {
        self.0.token()
    }

    fn commit(self: Box<Self>) -> CommitOutcome {
        let FaultyTx(inner, fuse, after) = *self;
        match fuse.engine(|| Ok(())) {
            Ok(()) => inner.commit(),
            Err(error) if after => match inner.commit() {
                CommitOutcome::Committed => CommitOutcome::Unknown(error),
                other => other,
            },
            Err(error) => CommitOutcome::Unknown(error),
        }
    }

    fn rollback(self: Box<Self>) -> Result<(), EngineError> {
        self.0.rollback()
    }
}
