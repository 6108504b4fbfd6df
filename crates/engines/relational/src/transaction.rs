//! The transaction of a run, the same for every relational engine.

use std::collections::BTreeMap;

use marktwice_core::breach::Breaches;
use marktwice_core::check::{CheckFound, EachCheck};
use marktwice_core::mark::StepKind;
use marktwice_core::way_back::WayBack;
use marktwice_port::{
    Batch, ChangeSource, CommitOutcome, EngineError, Hold, KeepSink, Matched, PairSink, Plan, RowSink,
    Settings, SideWrite, Stopper, Tx,
};
use marktwice_sql::dialect::ours::wanted;

use crate::around::{actions, count, surroundings};
use crate::breaches::breaches;
use crate::driver::Driver;
use crate::each;
use crate::held::{Held, create};
use crate::put;
use crate::statement::{detail, may_write};

/// What is kept of one step.
#[derive(Debug)]
pub struct OfStep<D: Driver> {
    /// Its rows.
    pub held: Held<D::Table>,
    /// What is done to them.
    pub kind: StepKind,
    /// Rows that its statement, or what put them back, answered for.
    pub executed: u64,
    /// The engine's own counts.
    pub books: D::Books,
}

/// An open transaction.
pub struct Transaction<'d, D: Driver> {
    driver: &'d mut D,
    here: D::Here,
    settings: Settings,
    steps: BTreeMap<usize, OfStep<D>>,
    open: bool,
}

impl<'d, D: Driver> Transaction<'d, D> {
    /// Begins one.
    ///
    /// # Errors
    /// What the engine says.
    pub fn begin(driver: &'d mut D, stop: Stopper) -> Result<Self, EngineError> {
        driver.start(stop)?;
        // From here on dropping it rolls back.
        let (here, settings) = (D::Here::default(), Settings::default());
        let mut tx = Transaction { driver, here, settings, steps: BTreeMap::new(), open: true };
        (tx.here, tx.settings) = tx.driver.arrive()?;
        Ok(tx)
    }

    fn of(&mut self, step: usize) -> Result<&mut OfStep<D>, EngineError> {
        of_step(&mut self.steps, step)
    }

    fn rows_held(&mut self, step: usize) -> Result<Held<D::Table>, EngineError> {
        Ok(self.of(step)?.held.clone())
    }
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

    fn breaches(&mut self, plan: &Plan) -> Result<Breaches, EngineError> {
        let held = self.rows_held(plan.step)?;
        let detail = detail::<D::Table>(plan)?;
        self.driver.acting(|driver| breaches(driver, plan, detail, &held))
    }

    fn hold(&mut self, plan: &Plan) -> Result<Matched, EngineError> {
        may_write(plan)?;
        let detail = detail::<D::Table>(plan)?;
        self.driver.may_hold(detail)?;
        let (held, about) = self.driver.acting(|driver| {
            driver.unchanged(detail)?;
            create(driver, plan, detail)?;
            let filled = driver.fill(plan, detail, true)?;
            let about = surroundings(driver, plan, detail, &filled)?;
            Ok((filled.held, about))
        })?;
        let assigned: Vec<usize> = plan.foreseen.iter().map(|f| f.column).collect();
        let books = self.driver.kept(&held, &detail.foreign_keys, plan.kind, &assigned)?;
        self.steps.insert(plan.step, OfStep { held, kind: plan.kind, executed: 0, books });
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
        let (held, matched) =
            driver.acting(|driver| driver.pinned(|driver| put::hold_rows(driver, batch, source, sink)))?;
        let assigned: Vec<(usize, Option<String>)> =
            batch.columns.iter().map(|&at| (at, Some(wanted(at)))).collect();
        let keys = driver.foreign_keys(&held.table)?;
        let side = actions(driver, batch.step, &keys, &held.table, batch.kind, &assigned)?;
        let total = count(driver, &held.table)?;
        let books = driver.kept(&held, &keys, batch.kind, &batch.columns)?;
        self.steps.insert(batch.step, OfStep { held, kind: batch.kind, executed: 0, books });
        Ok(Matched { matched, total, side, many: None, back: WayBack::default(), fires: false })
    }

    fn execute(&mut self, plan: &Plan) -> Result<u64, EngineError> {
        let of = of_step(&mut self.steps, plan.step)?;
        let count = self.driver.acting(|driver| driver.run(plan, of))?;
        of.executed = count;
        self.intact()?;
        Ok(count)
    }

    fn put(&mut self, batch: &Batch) -> Result<u64, EngineError> {
        let held = self.rows_held(batch.step)?;
        let count = self.driver.acting(|driver| driver.putting(|driver| put::put(driver, &held, batch)))?;
        self.of(batch.step)?.executed = count;
        self.intact()?;
        Ok(count)
    }

    fn settle_constraints(&mut self) -> Result<(), EngineError> {
        self.driver.settle_constraints()
    }

    fn pair(&mut self, step: usize, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        let held = self.rows_held(step)?;
        self.driver.acting(|driver| driver.pinned(|driver| held.pairs(driver, sink)))
    }

    fn effects(&mut self, step: usize) -> Result<Vec<SideWrite>, EngineError> {
        self.driver.effects(of_step(&mut self.steps, step)?)
    }

    fn total(&mut self, step: usize) -> Result<u64, EngineError> {
        let held = self.rows_held(step)?;
        count(self.driver, &held.table)
    }

    fn intact(&mut self) -> Result<(), EngineError> {
        self.driver.intact(&self.here)
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
