//! Steps that are held in a view, and what is held of them: the same for every relational engine.

use std::collections::BTreeMap;

use marktwice_core::asked::Answer;
use marktwice_core::breach::Breaches;
use marktwice_core::check::{CheckFound, EachCheck};
use marktwice_port::{EngineError, Hold, Plan, RowSink};

use crate::around::{plainly_held, surroundings};
use crate::asked;
use crate::breaches::{beside, breaches};
use crate::driver::Driver;
use crate::each;
use crate::held::{Held, stream_plainly};
use crate::statement::detail;

/// A view: all of it in one transaction of the caller's, who rolls it back.
pub struct View<'v, D: Driver> {
    driver: &'v mut D,
    plans: &'v [&'v Plan],
    kept: BTreeMap<usize, Held<D::Table>>,
}

impl<'v, D: Driver> View<'v, D> {
    /// A view of these plans; nothing is held yet.
    pub fn new(driver: &'v mut D, plans: &'v [&'v Plan]) -> Self {
        View { driver, plans, kept: BTreeMap::new() }
    }
}

impl<D: Driver> Hold for View<'_, D> {
    fn hold(&mut self, plan: &Plan) -> Result<marktwice_port::Matched, EngineError> {
        let detail = detail::<D::Table>(plan)?;
        let (held, about) = self.driver.acting(|driver| {
            // Where no temporary table can be made the rows are only counted.
            if driver.may_hold(detail).is_err() {
                return Ok((Vec::new(), plainly_held(driver, detail)?));
            }
            let filled = driver.fill(plan, detail, false)?;
            let (about, gathered) = surroundings(driver, plan, detail, &filled, false)?;
            let own = std::iter::once(filled.held);
            Ok((own.chain(gathered.into_iter().map(|rows| rows.held)).collect(), about))
        })?;
        self.kept.extend(held.into_iter().map(|held| (held.layout.step, held)));
        Ok(about)
    }

    fn each(&mut self, step: usize, check: &EachCheck) -> Result<CheckFound, EngineError> {
        let Some(held) = self.kept.get(&step) else {
            return Ok(CheckFound::open(check, "the rows cannot be held here".to_owned()));
        };
        self.driver.acting(|driver| each::ask(driver, held, check, false))
    }

    fn ask(&mut self, query: &str) -> Result<Answer, EngineError> {
        self.driver.acting(|driver| asked::ask(driver, query))
    }

    fn breaches(&mut self, plan: &Plan) -> Result<Breaches, EngineError> {
        let Some(held) = self.kept.get(&plan.step) else { return Ok(Breaches::default()) };
        let detail = detail::<D::Table>(plan)?;
        let beside = beside(detail, plan.step, |number| self.kept.get(&number));
        self.driver.acting(|driver| breaches(driver, plan, detail, held, &beside))
    }

    fn held(&mut self, step: usize, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        self.driver.handing_over()?;
        if let Some(held) = self.kept.get(&step) {
            return self.driver.pinned(|driver| held.stream(driver, sink));
        }
        let plan = self.plans.iter().find(|plan| plan.step == step);
        let plan = plan.ok_or_else(|| EngineError::Other("no rows are held".to_owned()))?;
        let detail = detail::<D::Table>(plan)?;
        self.driver.plainly(|driver| stream_plainly(driver, plan, detail, None, sink).map(|_| ()))
    }
}
