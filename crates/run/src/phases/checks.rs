//! Checks of the whole change, inside its transaction: what compares the end with the beginning is asked at both.

use marktwice_core::asked::{Answer, QueryCheck, QueryFound};
use marktwice_port::{EngineError, Hold};

use super::{Begun, Ended, ended_by, roll_back};
use crate::outcome::End;

/// What a check's query gives; an error says which check it was.
pub(crate) fn answer(hold: &mut dyn Hold, check: &QueryCheck) -> Result<Answer, EngineError> {
    hold.ask(&check.sql).map_err(|error| match error {
        EngineError::Other(what) => EngineError::Other(format!("the check \"{}\": {what}", check.title())),
        other => other,
    })
}

impl Begun<'_, '_> {
    /// Asks, at the beginning, what is compared with the end.
    pub(super) fn asked_first(mut self) -> Result<Self, Ended> {
        match self.ask_first() {
            Ok(()) => Ok(self),
            Err(error) => Err(self.over(ended_by(error))),
        }
    }

    fn ask_first(&mut self) -> Result<(), EngineError> {
        for check in &self.run.checks {
            let first = if check.compares() { Some(answer(&mut *self.tx, check)?) } else { None };
            self.first_answers.push(first);
        }
        Ok(())
    }

    /// Ends it, for a reason that is no step's.
    pub(super) fn over(self, end: End) -> Ended {
        roll_back(self.run, self.tx, end, None)
    }

    /// Asks all of them at the end. They go into the receipt; one that does not hold ends the run.
    pub(super) fn ask_last(&mut self) -> Result<Vec<QueryFound>, Box<End>> {
        let mut all = Vec::new();
        for (check, first) in self.run.checks.iter().zip(&self.first_answers) {
            let last = answer(&mut *self.tx, check).map_err(ended_by)?;
            all.push(check.judge(first.as_ref(), &last));
        }
        self.run.receipt(|receipt| receipt.checks.clone_from(&all));
        let failing: Vec<QueryFound> =
            all.iter().filter(|found| found.holds == Some(false)).cloned().collect();
        if failing.is_empty() { Ok(all) } else { Err(Box::new(End::Queries(failing))) }
    }
}
