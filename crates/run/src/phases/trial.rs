//! The undo of a run, carried out for real after the change and before its checks and COMMIT, and taken back again: what definitions
//! leave in doubt (triggers, cycles of foreign keys, conditions that are younger than the rows) nobody has to predict then.
//!
//! It happens inside a savepoint, with the phases of any undo, over the rows that were just proven. Nothing that it writes counts for
//! the proof of the run: side effects have been compared before.

use marktwice_core::Code;
use marktwice_core::receipt::UndoProof;
use marktwice_core::undo::RowChange;
use marktwice_core::words;

use super::{Begun, StepFacts, ended_by};
use crate::outcome::End;
use crate::undo::trial::{Tried, attempt};

/// Rows up to which an undo is tried.
const MOST: usize = 10_000;

/// The rows that a run has changed, as far as they are kept for a trial of its undo.
pub(super) enum Kept {
    /// Nothing leaves doubt.
    NotNeeded,
    /// These.
    Rows(Vec<RowChange>),
    /// There are too many.
    TooMany,
}

impl Kept {
    /// What is to be kept of a run of these steps.
    pub(super) fn of(steps: &[StepFacts]) -> Kept {
        if steps.iter().any(|facts| facts.doubt) { Kept::Rows(Vec::new()) } else { Kept::NotNeeded }
    }

    /// Whether rows are still kept.
    pub(super) fn wants(&self) -> bool {
        matches!(self, Kept::Rows(_))
    }

    /// Keeps a row.
    pub(super) fn add(&mut self, row: RowChange) {
        match self {
            Kept::Rows(rows) if rows.len() < MOST => rows.push(row),
            Kept::Rows(_) => *self = Kept::TooMany,
            Kept::NotNeeded | Kept::TooMany => {}
        }
    }
}

impl Begun<'_, '_> {
    /// Tries the undo where definitions leave doubt. One that fails ends the run, unless that was allowed.
    pub(super) fn try_undo(&mut self) -> Result<(), Box<End>> {
        let proof = match std::mem::replace(&mut self.kept, Kept::NotNeeded) {
            Kept::NotNeeded => self
                .run
                .steps
                .iter()
                .any(|facts| facts.doubt)
                .then(|| UndoProof::NotTried("nothing was changed".to_owned())),
            Kept::TooMany => {
                let most = words::number(MOST as u64);
                Some(UndoProof::NotTried(format!("more than {most} rows were changed")))
            }
            Kept::Rows(rows) => Some(self.tried(rows)?),
        };
        let proof = proof.unwrap_or(UndoProof::Expected);
        let allowed = self.run.steps.iter().all(|facts| facts.allowed.contains(&Code::NoWayBack));
        if let (UndoProof::Fails(why), false) = (&proof, allowed) {
            return Err(Box::new(End::NoUndo(why.clone())));
        }
        self.run.receipt(|receipt| receipt.undo_proof = Some(proof));
        Ok(())
    }

    fn tried(&mut self, rows: Vec<RowChange>) -> Result<UndoProof, Box<End>> {
        let receipt = match (&self.run.record, &self.run.notes) {
            (Some(record), _) => record.receipt.clone(),
            (None, Some(notes)) => notes.clone(),
            (None, None) => return Ok(UndoProof::NotTried("nothing is written down of this run".to_owned())),
        };
        let unmeasured = |write: &marktwice_core::side::SideWrite| write.how.code() == Code::UnmeasuredWrite;
        if receipt.steps.iter().flat_map(|step| &step.also_written).any(unmeasured) {
            return Ok(UndoProof::NotTried(
                "its triggers do more than write rows, and would do it again".to_owned(),
            ));
        }
        let tried =
            attempt(self.run.context, &mut *self.tx, (&receipt, self.run.records.header(&receipt)), rows);
        match tried {
            Ok(Tried::Proven) => Ok(UndoProof::Proven),
            Ok(Tried::No(why)) => Ok(UndoProof::NotTried(why)),
            Ok(Tried::Fails(why)) => Ok(UndoProof::Fails(why)),
            // What the trial has written could not be taken back: nothing of the run may be committed.
            Err(error) => Err(Box::new(ended_by(error))),
        }
    }
}
