//! A session with something around each call: a test's faults, or a cleaning of what the engine says. One list of all calls, so
//! that a new one cannot be forgotten in the one or the other.

use marktwice_core::archive::Archive;
use marktwice_core::asked::Answer;
use marktwice_core::breach::Breaches;
use marktwice_core::change::Setting;
use marktwice_core::check::{CheckFound, EachCheck};
use marktwice_core::finding::Code;
use marktwice_core::hash::{Fingerprint, HashKey};
use marktwice_core::param::Bound;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::secret::HiddenColumns;
use marktwice_core::side::SideWrite;
use marktwice_core::steps::Touches;
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::table::{Column, NamedBy, Target};
use marktwice_core::triggered::Triggered;
use marktwice_core::value::Value;
use marktwice_core::witness::Left;

use crate::ambient::{Stopper, Watch};
use crate::error::EngineError;
use crate::plan::{Batch, Matched, Plan, Reach};
use crate::session::{FoundSink, Session, SheetRows, SheetTable, Told, Viewing};
use crate::transaction::{ChangeSource, CommitOutcome, Hold, KeepSink, PairSink, RowSink, Settings, Tx};

/// What is done around each call.
pub trait Around: Clone {
    /// Around a call that a run depends on.
    ///
    /// # Errors
    /// Those of the call, or of whatever stands around it.
    fn call<R>(&self, work: impl FnOnce() -> Result<R, EngineError>) -> Result<R, EngineError>;

    /// Around a call that changes nothing and decides nothing.
    ///
    /// # Errors
    /// As [`Around::call`].
    fn look<R>(&self, work: impl FnOnce() -> Result<R, EngineError>) -> Result<R, EngineError> {
        work()
    }

    /// Around COMMIT.
    fn commit(&self, commit: impl FnOnce() -> CommitOutcome) -> CommitOutcome {
        commit()
    }
}

/// A session with something around each call.
pub struct AroundSession<A> {
    /// The session itself.
    pub inner: Box<dyn Session>,
    /// What is around its calls.
    pub around: A,
}

/// Held rows with something around each call.
struct AroundHold<'h, A> {
    inner: &'h mut dyn Hold,
    around: A,
}

/// A transaction that is one's own, or somebody else's who goes on with it.
enum Held<'s> {
    Own(Box<dyn Tx + 's>),
    Lent(&'s mut dyn Tx),
}

impl Held<'_> {
    fn tx(&mut self) -> &mut dyn Tx {
        match self {
            Held::Own(tx) => &mut **tx,
            Held::Lent(tx) => &mut **tx,
        }
    }

    fn as_tx(&self) -> &dyn Tx {
        match self {
            Held::Own(tx) => &**tx,
            Held::Lent(tx) => &**tx,
        }
    }
}

/// A transaction with something around each call.
pub struct AroundTx<'s, A> {
    inner: Held<'s>,
    around: A,
}

impl<'s, A: Around> AroundTx<'s, A> {
    /// One that is lent: rolling it back, or dropping it, leaves it open for its owner, and it cannot be committed.
    pub fn lent(tx: &'s mut dyn Tx, around: A) -> AroundTx<'s, A> {
        AroundTx { inner: Held::Lent(tx), around }
    }
}

/// Nothing around any call.
#[derive(Debug, Clone, Copy)]
pub struct Plainly;

impl Around for Plainly {
    fn call<R>(&self, work: impl FnOnce() -> Result<R, EngineError>) -> Result<R, EngineError> {
        work()
    }
}

impl<A: Around> Session for AroundSession<A> {
    fn database(&self) -> &DatabaseId {
        self.inner.database()
    }

    fn obey(&mut self, watch: &Watch) {
        self.inner.obey(watch);
    }

    fn bind(&mut self, values: &[Bound]) -> Result<(), EngineError> {
        self.around.call(|| self.inner.bind(values))
    }

    fn set_up(&mut self, settings: &[Setting]) -> Result<(), EngineError> {
        self.around.call(|| self.inner.set_up(settings))
    }

    fn column(
        &mut self,
        schema: Option<&str>,
        table: &str,
        column: &str,
    ) -> Result<Option<Column>, EngineError> {
        self.around.call(|| self.inner.column(schema, table, column))
    }

    fn spread(&mut self, sheet: &SheetTable, rows: &mut SheetRows<'_>) -> Result<u64, EngineError> {
        self.around.call(|| self.inner.spread(sheet, rows))
    }

    fn hide(&mut self, columns: &HiddenColumns, key: HashKey) {
        self.inner.hide(columns, key);
    }

    fn name_by(&mut self, names: &NamedBy) {
        self.inner.name_by(names);
    }

    fn conceal(&mut self, plan: &mut Plan, also: &[(String, String)]) -> Result<(), EngineError> {
        self.around.look(|| self.inner.conceal(plan, also))
    }

    fn shown_name(&mut self, typed: &str) -> Result<Option<String>, EngineError> {
        self.around.look(|| self.inner.shown_name(typed))
    }

    fn discloses(&mut self, query: &str, also: &[(String, String)]) -> Result<bool, EngineError> {
        self.around.look(|| self.inner.discloses(query, also))
    }

    fn notes(&self) -> &[String] {
        self.inner.notes()
    }

    fn plan(&mut self, source: &str, allow: &[Code], earlier: &[Plan]) -> Result<Plan, EngineError> {
        self.around.call(|| self.inner.plan(source, allow, earlier))
    }

    fn view(&mut self, plans: &[&Plan], work: &mut Viewing<'_>) -> Result<(), EngineError> {
        let around = self.around.clone();
        self.around.call(|| {
            let around = around.clone();
            self.inner.view(plans, &mut |hold| work(&mut AroundHold { inner: hold, around: around.clone() }))
        })
    }

    fn archive(&mut self, plan: &mut Plan, table: &str, make: bool) -> Result<(), EngineError> {
        self.around.call(|| self.inner.archive(plan, table, make))
    }

    fn make_archive(
        &mut self,
        archive: &mut Archive,
        held: &mut [Triggered],
        there: bool,
    ) -> Result<(), EngineError> {
        self.around.call(|| self.inner.make_archive(archive, held, there))
    }

    fn copy_database(&mut self, file: &str, told: &mut Told<'_>) -> Result<u64, EngineError> {
        self.around.call(|| self.inner.copy_database(file, told))
    }

    fn reads(&mut self, query: &str) -> Result<Touches, EngineError> {
        self.around.call(|| self.inner.reads(query))
    }

    fn rest(&mut self) -> Result<(), EngineError> {
        self.around.call(|| self.inner.rest())
    }

    fn may_write(&mut self) -> Result<bool, EngineError> {
        self.around.call(|| self.inner.may_write())
    }

    fn touches(&mut self, plan: &Plan) -> Result<Touches, EngineError> {
        self.around.call(|| self.inner.touches(plan))
    }

    fn matched_rows(
        &mut self,
        plan: &Plan,
        limit: Option<u64>,
        sink: &mut RowSink<'_>,
    ) -> Result<u64, EngineError> {
        self.around.look(|| self.inner.matched_rows(plan, limit, sink))
    }

    fn study(&mut self, plan: &Plan, wish: &Wish) -> Result<Study, EngineError> {
        self.around.look(|| self.inner.study(plan, wish))
    }

    fn view_rows(
        &mut self,
        schema: Option<&str>,
        view: &str,
        statement: &str,
        limit: Option<u64>,
        sink: &mut RowSink<'_>,
    ) -> Result<u64, EngineError> {
        self.around.look(|| self.inner.view_rows(schema, view, statement, limit, sink))
    }

    fn tables(&mut self) -> Result<Vec<TableSummary>, EngineError> {
        self.around.look(|| self.inner.tables())
    }

    fn survey(&mut self, schema: Option<&str>, table: &str) -> Result<Survey, EngineError> {
        self.around.look(|| self.inner.survey(schema, table))
    }

    fn left(&mut self, table: &str, most: u32) -> Result<Vec<Left>, EngineError> {
        self.around.call(|| self.inner.left(table, most))
    }

    fn was_left(&mut self, table: &str, id: &str) -> Result<Option<bool>, EngineError> {
        self.around.call(|| self.inner.was_left(table, id))
    }

    fn table_to_leave_in(&mut self, table: &str, make: bool) -> Result<String, EngineError> {
        self.around.look(|| self.inner.table_to_leave_in(table, make))
    }

    fn outcome(&mut self, token: &str) -> Result<Option<bool>, EngineError> {
        self.around.call(|| self.inner.outcome(token))
    }

    fn describe(&mut self, schema: &str, table: &str) -> Result<Target, EngineError> {
        self.around.call(|| self.inner.describe(schema, table))
    }

    fn first_rows(&mut self, target: &Target, limit: u32) -> Result<Vec<Vec<Value>>, EngineError> {
        self.around.look(|| self.inner.first_rows(target, limit))
    }

    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        self.around.call(|| self.inner.look_up(target, source, sink))
    }

    fn restore_reach(&mut self, batch: &Batch) -> Result<Reach, EngineError> {
        self.around.call(|| self.inner.restore_reach(batch))
    }

    fn restorable(
        &mut self,
        written: &[SideWrite],
        known: &[Target],
        own: &[Target],
    ) -> Result<Vec<Triggered>, EngineError> {
        self.around.call(|| self.inner.restorable(written, known, own))
    }

    fn contents(&mut self) -> Result<Vec<(String, Fingerprint)>, EngineError> {
        self.around.look(|| self.inner.contents())
    }

    fn begin(&mut self, stop: Stopper) -> Result<Box<dyn Tx + '_>, EngineError> {
        let inner = self.around.call(|| self.inner.begin(stop))?;
        Ok(Box::new(AroundTx { inner: Held::Own(inner), around: self.around.clone() }))
    }
}

impl<A: Around> Hold for AroundHold<'_, A> {
    fn hold(&mut self, plan: &Plan) -> Result<Matched, EngineError> {
        self.around.call(|| self.inner.hold(plan))
    }

    fn held(&mut self, step: usize, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        self.around.call(|| self.inner.held(step, sink))
    }

    fn each(&mut self, step: usize, check: &EachCheck) -> Result<CheckFound, EngineError> {
        self.around.call(|| self.inner.each(step, check))
    }

    fn ask(&mut self, query: &str) -> Result<Answer, EngineError> {
        self.around.call(|| self.inner.ask(query))
    }

    fn breaches(&mut self, plan: &Plan) -> Result<Breaches, EngineError> {
        self.around.call(|| self.inner.breaches(plan))
    }
}

impl<A: Around> Hold for AroundTx<'_, A> {
    fn hold(&mut self, plan: &Plan) -> Result<Matched, EngineError> {
        self.around.call(|| self.inner.tx().hold(plan))
    }

    fn held(&mut self, step: usize, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().held(step, sink))
    }

    fn each(&mut self, step: usize, check: &EachCheck) -> Result<CheckFound, EngineError> {
        self.around.call(|| self.inner.tx().each(step, check))
    }

    fn ask(&mut self, query: &str) -> Result<Answer, EngineError> {
        self.around.call(|| self.inner.tx().ask(query))
    }

    fn breaches(&mut self, plan: &Plan) -> Result<Breaches, EngineError> {
        self.around.call(|| self.inner.tx().breaches(plan))
    }
}

impl<A: Around> Tx for AroundTx<'_, A> {
    fn settings(&self) -> Settings {
        self.inner.as_tx().settings()
    }

    fn hold_rows(
        &mut self,
        batch: &Batch,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<Matched, EngineError> {
        self.around.call(|| self.inner.tx().hold_rows(batch, source, sink))
    }

    fn keep_copy(&mut self, plan: &Plan, name: &str) -> Result<u64, EngineError> {
        self.around.call(|| self.inner.tx().keep_copy(plan, name))
    }

    fn make_archive(
        &mut self,
        archive: &mut Archive,
        held: &mut [Triggered],
        there: bool,
    ) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().make_archive(archive, held, there))
    }

    fn archive(&mut self, step: usize, archive: &Archive) -> Result<u64, EngineError> {
        self.around.call(|| self.inner.tx().archive(step, archive))
    }

    fn execute(&mut self, plan: &Plan) -> Result<u64, EngineError> {
        self.around.call(|| self.inner.tx().execute(plan))
    }

    fn bind(&mut self, value: Bound) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().bind(value))
    }

    fn put(&mut self, batch: &Batch) -> Result<u64, EngineError> {
        self.around.call(|| self.inner.tx().put(batch))
    }

    fn hold_triggered(&mut self, tables: &[Target]) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().hold_triggered(tables))
    }

    fn triggered(&mut self) -> Result<Vec<(usize, Target)>, EngineError> {
        self.around.call(|| self.inner.tx().triggered())
    }

    fn hold_triggered_rows(
        &mut self,
        batch: &Batch,
        left: bool,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<usize, EngineError> {
        self.around.call(|| self.inner.tx().hold_triggered_rows(batch, left, source, sink))
    }

    fn restore_triggered(&mut self) -> Result<u64, EngineError> {
        self.around.call(|| self.inner.tx().restore_triggered())
    }

    fn describe(&mut self, schema: &str, table: &str) -> Result<Target, EngineError> {
        self.around.call(|| self.inner.tx().describe(schema, table))
    }

    fn restore_reach(&mut self, batch: &Batch) -> Result<Reach, EngineError> {
        self.around.call(|| self.inner.tx().restore_reach(batch))
    }

    fn restorable(
        &mut self,
        written: &[SideWrite],
        known: &[Target],
        own: &[Target],
    ) -> Result<Vec<Triggered>, EngineError> {
        self.around.call(|| self.inner.tx().restorable(written, known, own))
    }

    fn begin_trial(&mut self, tables: &[Target]) -> Result<bool, EngineError> {
        self.around.call(|| self.inner.tx().begin_trial(tables))
    }

    fn would_commit_trial(&mut self) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().would_commit_trial())
    }

    fn asks_keys_again(&self) -> bool {
        self.inner.as_tx().asks_keys_again()
    }

    fn end_trial(&mut self) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().end_trial())
    }

    fn settle_constraints(&mut self) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().settle_constraints())
    }

    fn would_commit(&mut self) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().would_commit())
    }

    fn pair(&mut self, step: usize, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().pair(step, sink))
    }

    fn effects(&mut self, step: usize) -> Result<Vec<SideWrite>, EngineError> {
        self.around.call(|| self.inner.tx().effects(step))
    }

    fn counts_tables(&self) -> bool {
        self.inner.as_tx().counts_tables()
    }

    fn total(&mut self, step: usize) -> Result<u64, EngineError> {
        self.around.call(|| self.inner.tx().total(step))
    }

    fn intact(&mut self) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().intact())
    }

    fn leave(&mut self, table: &str, row: Vec<Value>) -> Result<(), EngineError> {
        self.around.call(|| self.inner.tx().leave(table, row))
    }

    fn token(&mut self) -> Option<String> {
        self.inner.tx().token()
    }

    fn commit(self: Box<Self>) -> CommitOutcome {
        let AroundTx { inner, around } = *self;
        match inner {
            Held::Own(tx) => around.commit(|| tx.commit()),
            Held::Lent(_) => CommitOutcome::RolledBack(EngineError::Other(
                "a lent transaction is not committed".to_owned(),
            )),
        }
    }

    fn rollback(self: Box<Self>) -> Result<(), EngineError> {
        match self.inner {
            Held::Own(tx) => tx.rollback(),
            // Whoever lent it goes on with it.
            Held::Lent(_) => Ok(()),
        }
    }
}
