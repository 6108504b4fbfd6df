//! The transaction of a run, the same for every relational engine.

use std::collections::BTreeMap;

use marktwice_core::Value;
use marktwice_core::along::{is_of, number};
use marktwice_core::archive::Archive;
use marktwice_core::asked::Answer;
use marktwice_core::breach::Breaches;
use marktwice_core::check::{CheckFound, EachCheck};
use marktwice_core::mark::StepKind;
use marktwice_core::param::Bound;
use marktwice_core::table::Target;
use marktwice_core::triggered::{self, Copied, Triggered};
use marktwice_core::way_back::WayBack;
use marktwice_port::{
    Batch, ChangeSource, CommitOutcome, EngineError, Hold, KeepSink, Matched, PairSink, Plan, Reach, RowSink,
    Settings, SideHow, SideWrite, Stopper, Tx,
};
use marktwice_sql::dialect::ours::wanted;

use crate::along::{self, Gathered};
use crate::archive;
use crate::around::{actions, count, extent, still_defined, surroundings};
use crate::asked;
use crate::breaches::{beside, breaches};
use crate::driver::Driver;
use crate::each;
use crate::held::{Held, create};
use crate::put;
use crate::session::reach_of;
use crate::shell::Tabled;
use crate::statement::{detail, may_write};
use crate::triggered::{arrivals, batch as triggered_batch, copy, restore, wanted as wanted_as};
use crate::witness;

/// What is kept of one step.
#[derive(Debug)]
pub struct OfStep<D: Driver> {
    /// Its rows.
    pub held: Held<D::Table>,
    /// What is done to them.
    pub kind: StepKind,
    /// Rows that its statement, or what put them back, answered for.
    pub executed: u64,
    /// Tables that triggers are known to write on the way.
    pub fired: Vec<String>,
    /// The engine's own counts.
    pub books: D::Books,
}

/// An open transaction.
pub struct Transaction<'d, D: Driver> {
    driver: &'d mut D,
    here: D::Here,
    settings: Settings,
    steps: BTreeMap<usize, OfStep<D>>,
    /// Rows that steps take along, by the numbers that they carry.
    along: BTreeMap<usize, Gathered<D::Table>>,
    /// Names of tables that were made for such rows, those included in which none came.
    made_along: Vec<String>,
    /// Tables that triggers write, as they were before that.
    triggered: Vec<Held<D::Table>>,
    /// Rows of those that go back, or are left, by the numbers that they carry.
    back: BTreeMap<usize, Held<D::Table>>,
    /// All of that of the run itself, while its undo is tried.
    aside: Option<Aside<D>>,
    open: bool,
}

/// What a run has held, put aside.
struct Aside<D: Driver> {
    steps: BTreeMap<usize, OfStep<D>>,
    along: BTreeMap<usize, Gathered<D::Table>>,
    triggered: Vec<Held<D::Table>>,
    back: BTreeMap<usize, Held<D::Table>>,
}

impl<'d, D: Driver> Transaction<'d, D> {
    /// Adds to the settings that are told.
    pub(crate) fn say(&mut self, more: Vec<String>) {
        self.settings.said.extend(more);
    }

    /// Begins one.
    ///
    /// # Errors
    /// What the engine says.
    pub fn begin(driver: &'d mut D, stop: Stopper) -> Result<Self, EngineError> {
        driver.start(stop)?;
        // From here on dropping it rolls back.
        let (here, settings) = (D::Here::default(), Settings::default());
        let (steps, along) = (BTreeMap::new(), BTreeMap::new());
        let (triggered, back) = (Vec::new(), BTreeMap::new());
        let (made_along, aside) = (Vec::new(), None);
        let mut tx = Transaction {
            driver,
            here,
            settings,
            steps,
            along,
            made_along,
            triggered,
            back,
            aside,
            open: true,
        };
        (tx.here, tx.settings) = tx.driver.arrive()?;
        Ok(tx)
    }

    fn of(&mut self, step: usize) -> Result<&mut OfStep<D>, EngineError> {
        of_step(&mut self.steps, step)
    }

    fn rows_held(&mut self, step: usize) -> Result<Held<D::Table>, EngineError> {
        if let Some(held) = self.along.get(&step) {
            return Ok(held.held.clone());
        }
        let of_table = self.triggered.iter().chain(self.back.values());
        if let Some(held) = of_table.into_iter().find(|held| held.layout.step == step) {
            return Ok(held.clone());
        }
        Ok(self.of(step)?.held.clone())
    }

    fn keep_along(&mut self, gathered: Vec<Gathered<D::Table>>) -> Result<(), EngineError> {
        for rows in gathered {
            self.driver.expect(&rows.held)?;
            self.along.insert(rows.held.layout.step, rows);
        }
        Ok(())
    }
}

/// The tables among writes outside the rows that triggers write.
fn tables_fired(side: &[SideWrite]) -> Vec<String> {
    side.iter().filter(|write| triggered::is_fired(write)).map(|write| write.table.clone()).collect()
}

fn of_step<T>(steps: &mut BTreeMap<usize, T>, step: usize) -> Result<&mut T, EngineError> {
    steps.get_mut(&step).ok_or_else(|| EngineError::Other("no rows are held".to_owned()))
}

impl<D: Driver> Drop for Transaction<'_, D> {
    fn drop(&mut self) {
        if self.open {
            // Closing the connection rolls back as well; nothing is lost when this fails.
            let _ = self.driver.roll_back();
        }
    }
}

impl<D: Driver> Hold for Transaction<'_, D> {
    fn each(&mut self, step: usize, check: &EachCheck) -> Result<CheckFound, EngineError> {
        let held = self.rows_held(step)?;
        self.driver.acting(|driver| each::ask(driver, &held, check, true))
    }

    fn ask(&mut self, query: &str) -> Result<Answer, EngineError> {
        self.driver.acting(|driver| asked::ask(driver, query))
    }

    fn breaches(&mut self, plan: &Plan) -> Result<Breaches, EngineError> {
        let held = self.rows_held(plan.step)?;
        let detail = detail::<D::Table>(plan)?;
        let beside = beside(detail, plan.step, |number| self.along.get(&number).map(|rows| &rows.held));
        self.driver.acting(|driver| breaches(driver, plan, detail, &held, &beside))
    }

    fn hold(&mut self, plan: &Plan) -> Result<Matched, EngineError> {
        may_write(plan)?;
        let detail = detail::<D::Table>(plan)?;
        self.driver.may_hold(detail)?;
        let (held, gathered, about) = self.driver.acting(|driver| {
            driver.unchanged(detail)?;
            driver.type_values(&plan.statement)?;
            let nodes = detail.along.iter().flat_map(|graph| &graph.nodes);
            nodes.into_iter().try_for_each(|node| still_defined(driver, &node.table))?;
            create(driver, plan, detail)?;
            let filled = driver.fill(plan, detail, true)?;
            let (about, gathered) = surroundings(driver, plan, detail, &filled, true)?;
            Ok((filled.held, gathered, about))
        })?;
        let nodes = detail.along.iter().flat_map(|graph| &graph.nodes).enumerate();
        self.made_along.extend(nodes.map(|(nth, node)| node.table.held_name(number(plan.step, nth))));
        self.keep_along(gathered)?;
        let assigned: Vec<usize> = plan.foreseen.iter().map(|f| f.column).collect();
        let books = self.driver.kept(&held, &detail.foreign_keys, plan.kind, &assigned)?;
        let fired = tables_fired(&about.side);
        self.steps.insert(plan.step, OfStep { held, kind: plan.kind, executed: 0, fired, books });
        Ok(about)
    }

    fn held(&mut self, step: usize, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        let held = self.rows_held(step)?;
        self.driver.pinned(|driver| held.stream(driver, sink))
    }
}

impl<D: Driver> Tx for Transaction<'_, D> {
    fn settings(&self) -> Settings {
        self.settings.clone()
    }

    fn hold_rows(
        &mut self,
        batch: &Batch,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<Matched, EngineError> {
        let driver = &mut *self.driver;
        let (held, matched, keys) = driver.acting(|driver| {
            let table = put::table_of(driver, batch)?;
            let keys = driver.foreign_keys(&table)?;
            let held = driver.pinned(|driver| put::hold_rows(driver, batch, (table, &keys), source, sink));
            held.map(|(held, matched)| (held, matched, keys))
        })?;
        let assigned: Vec<(usize, Option<String>)> =
            batch.columns.iter().map(|&at| (at, Some(wanted(at)))).collect();
        let graph = along::of_batch(driver, &held.table, &keys, batch)?;
        let mut gathered = Vec::new();
        let side = match &graph {
            Some(graph) if graph.nodes.is_empty() => Vec::new(),
            Some(graph) => driver.acting(|driver| {
                along::define(driver, graph, batch.step)?;
                gathered = driver.pinned(|driver| along::gather(driver, graph, &held, true))?;
                along::side(driver, graph, &gathered)
            })?,
            None => actions(driver, batch.step, &keys, &held.table, batch.kind, &assigned)?,
        };
        let along = gathered.iter().map(|rows| rows.count).collect();
        let total = extent(driver, &held.table)?;
        let books = driver.kept(&held, &keys, batch.kind, &batch.columns)?;
        // Only who counts by table asks for them.
        let known = if D::COUNTS_TABLES { driver.restore_reach(batch)?.0 } else { Vec::new() };
        let fired = [tables_fired(&known), tables_fired(&side)].concat();
        self.steps.insert(batch.step, OfStep { held, kind: batch.kind, executed: 0, fired, books });
        self.keep_along(gathered)?;
        Ok(Matched { matched, total, side, along, many: None, back: WayBack::default(), fires: false })
    }

    fn keep_copy(&mut self, plan: &Plan, name: &str) -> Result<u64, EngineError> {
        let held = self.rows_held(plan.step)?;
        self.driver.acting(|driver| archive::keep_copy(driver, &held, &plan.target, name))
    }

    fn make_archive(
        &mut self,
        archive: &mut Archive,
        held: &mut [Triggered],
        there: bool,
    ) -> Result<(), EngineError> {
        self.driver.acting(|driver| archive::make(driver, archive, held, there))
    }

    fn archive(&mut self, step: usize, to: &Archive) -> Result<u64, EngineError> {
        let held = self.rows_held(step)?;
        self.driver.acting(|driver| archive::put_away(driver, &held, to))
    }

    fn execute(&mut self, plan: &Plan) -> Result<u64, EngineError> {
        let of = of_step(&mut self.steps, plan.step)?;
        let count = self.driver.acting(|driver| driver.run(plan, of))?;
        of.executed = count;
        Ok(count)
    }

    fn bind(&mut self, value: Bound) -> Result<(), EngineError> {
        self.driver.bind(value)
    }

    fn put(&mut self, batch: &Batch) -> Result<u64, EngineError> {
        let held = self.rows_held(batch.step)?;
        let count = self.driver.acting(|driver| driver.putting(|driver| put::put(driver, &held, batch)))?;
        self.of(batch.step)?.executed = count;
        Ok(count)
    }

    fn hold_triggered(&mut self, tables: &[Target]) -> Result<(), EngineError> {
        for target in tables {
            if self.triggered.iter().any(|held| held.layout.target.same_table(target)) {
                continue;
            }
            let at = triggered::number(self.triggered.len(), Copied::Before);
            self.triggered.push(self.driver.acting(|driver| copy(driver, target, at))?);
        }
        Ok(())
    }

    fn triggered(&mut self) -> Result<Vec<(usize, Target)>, EngineError> {
        let driver = &mut *self.driver;
        let mut all = Vec::new();
        for held in &self.triggered {
            driver.acting(|driver| arrivals(driver, held, true))?;
            all.push((held.layout.step, held.layout.target.clone()));
        }
        Ok(all)
    }

    fn hold_triggered_rows(
        &mut self,
        batch: &Batch,
        left: bool,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<usize, EngineError> {
        let nth = self.triggered.iter().position(|held| held.layout.target.same_table(&batch.target));
        let nth = nth.ok_or_else(|| EngineError::Other(format!("{} is not held", batch.target.table)))?;
        let step = triggered::number(nth, if left { Copied::Left } else { Copied::Back });
        let batch = Batch { of: batch.of, ..triggered_batch(step, &batch.target, StepKind::Update) };
        let driver = &mut *self.driver;
        let (held, _) = driver.acting(|driver| {
            let table = put::table_of(driver, &batch)?;
            driver.pinned(|driver| put::hold_rows(driver, &batch, (table, &[]), source, sink))
        })?;
        self.back.insert(step, held);
        Ok(step)
    }

    fn restore_triggered(&mut self) -> Result<u64, EngineError> {
        let mut all = Vec::new();
        for (nth, start) in self.triggered.iter().enumerate() {
            let [back, left] =
                [Copied::Back, Copied::Left].map(|copied| self.back.get(&triggered::number(nth, copied)));
            let at = triggered::number(nth, Copied::Wanted);
            all.push((nth, self.driver.acting(|driver| wanted_as(driver, start, [back, left], at))?));
        }
        let done = restore(self.driver, &all)?;
        self.intact()?;
        Ok(done)
    }

    fn describe(&mut self, schema: &str, table: &str) -> Result<Target, EngineError> {
        Ok(self.driver.described(schema, table)?.target().clone())
    }

    fn restore_reach(&mut self, batch: &Batch) -> Result<Reach, EngineError> {
        reach_of(self.driver, batch)
    }

    fn restorable(
        &mut self,
        written: &[SideWrite],
        known: &[Target],
        own: &[Target],
    ) -> Result<Vec<Triggered>, EngineError> {
        crate::triggered::which(self.driver, written, known, own, true)
    }

    fn begin_trial(&mut self, tables: &[Target]) -> Result<bool, EngineError> {
        self.driver.begin_trial(tables)?;
        // What the run has held is not needed any more, and the undo holds its rows under the same names.
        let own = self.steps.values().map(|of| &of.held).chain(self.along.values().map(|rows| &rows.held));
        let held = own.chain(&self.triggered).chain(self.back.values());
        let mut names: Vec<String> = held.map(|held| held.table.held_name(held.layout.step)).collect();
        names.extend(self.made_along.drain(..).filter(|made| !names.contains(made)).collect::<Vec<_>>());
        self.driver.drop_held(&names)?;
        self.aside = Some(Aside {
            steps: std::mem::take(&mut self.steps),
            along: std::mem::take(&mut self.along),
            triggered: std::mem::take(&mut self.triggered),
            back: std::mem::take(&mut self.back),
        });
        Ok(true)
    }

    fn would_commit_trial(&mut self) -> Result<(), EngineError> {
        self.driver.would_commit_trial()
    }

    fn asks_keys_again(&self) -> bool {
        D::ASKS_KEYS_AGAIN
    }

    fn end_trial(&mut self) -> Result<(), EngineError> {
        if let Some(Aside { steps, along, triggered, back }) = self.aside.take() {
            (self.steps, self.along, self.triggered, self.back) = (steps, along, triggered, back);
        }
        self.driver.end_trial()?;
        self.intact()
    }

    fn settle_constraints(&mut self) -> Result<(), EngineError> {
        self.driver.settle_constraints()
    }

    fn would_commit(&mut self) -> Result<(), EngineError> {
        self.driver.would_commit()
    }

    fn pair(&mut self, step: usize, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        let held = self.rows_held(step)?;
        self.driver.acting(|driver| driver.pinned(|driver| held.pairs(driver, sink)))
    }

    fn effects(&mut self, step: usize) -> Result<Vec<SideWrite>, EngineError> {
        let mut measured = self.driver.effects(of_step(&mut self.steps, step)?)?;
        for (_, rows) in self.along.range(number(step, 0)..).filter(|(at, _)| is_of(step, **at)) {
            let (table, held) = (rows.held.table.shown(), rows.count.rows());
            let of = |write: &SideWrite| write.table == table && matches!(write.how, SideHow::Measured(_));
            // These are proven one by one. What is reached on two ways may be counted twice.
            measured.retain(|write| {
                !of(write) || write.rows.is_none_or(|n| n != held && !(rows.again && n > held))
            });
            for write in measured.iter_mut().filter(|write| of(write)) {
                write.rows = write.rows.map(|n| n.saturating_sub(held));
            }
        }
        // Of a table that is held as a whole its contents tell in the end.
        let whole = |table: &str| self.triggered.iter().any(|held| held.table.shown() == table);
        measured.retain(|write| !(matches!(write.how, SideHow::Unmeasured(_)) && whole(&write.table)));
        Ok(measured)
    }

    fn counts_tables(&self) -> bool {
        D::COUNTS_TABLES
    }

    fn total(&mut self, step: usize) -> Result<u64, EngineError> {
        let held = self.rows_held(step)?;
        count(self.driver, &held.table)
    }

    fn intact(&mut self) -> Result<(), EngineError> {
        self.driver.intact(&self.here)
    }

    fn leave(&mut self, table: &str, row: Vec<Value>) -> Result<(), EngineError> {
        self.driver.acting(|driver| witness::leave(driver, table, row))
    }

    fn token(&mut self) -> Option<String> {
        self.driver.token(&self.here)
    }

    fn commit(mut self: Box<Self>) -> CommitOutcome {
        // Of a transaction that is gone, or failed, some engines would take COMMIT without a word. Dropping rolls back.
        if let Err(error) = self.intact() {
            return CommitOutcome::RolledBack(error);
        }
        self.open = false;
        self.driver.commit(&self.here)
    }

    fn rollback(mut self: Box<Self>) -> Result<(), EngineError> {
        self.open = false;
        self.driver.roll_back()
    }
}
