//! A rehearsal, by itself or on the way to an application: every step for real in one transaction, held, marked, executed and proven as in
//! the run itself, and then always rolled back. So the rows of steps that rest on earlier ones are known before anybody is
//! asked.

use marktwice_core::asked::QueryFound;
use marktwice_core::change::Change;
use marktwice_core::finding::{Code, Finding};
use marktwice_core::mark::StepKind;
use marktwice_core::receipt::{Receipt, RunKind};
use marktwice_port::{DraftMark, EngineError, Intent};

use crate::collect::{Collector, Fired};
use crate::context::Context;
use crate::outcome::{Failure, RunOutcome};
use crate::phases::{Ended, Prepared, StepFacts};
use crate::planned::{Planned, made_first, set_up, step_receipts};
use crate::preview::{Block, Show};
use crate::sheets::spread;

/// How far a rehearsal came.
pub(crate) enum Rehearsed {
    /// To its end: the rows of all steps are known, these that triggers have written, and what checks have found.
    All(Vec<Block>, Vec<QueryFound>),
    /// To a step that is known to be stopped; what is behind it stays open.
    Stopped,
    /// It failed, as a run would have.
    Ended(Box<RunOutcome>),
}

/// Rehearses.
pub(crate) fn rehearse(
    context: &Context<'_>,
    change: &Change,
    steps: &[Planned],
    draft: &mut dyn DraftMark,
    (seen, show): (&mut [Collector<'_>], Show),
) -> Result<Rehearsed, Failure> {
    if let Some(making) = made_first(steps).into_iter().find(|making| !making.inside) {
        let message = format!(
            "a rehearsal would leave the table {} behind, which this engine does not roll back",
            making.table
        );
        let finding =
            Finding::new(Code::NoArchive, message).hint(format!("make it first: {}", making.definition));
        return Err(EngineError::Refused(Box::new(finding)).into());
    }
    let facts = steps.iter().map(|step| StepFacts::of(step, change)).collect();
    let mut session = context.open(Intent::Write)?;
    spread(context, &mut *session, change)?;
    set_up(&mut *session, change)?;
    let database = session.database().clone();
    let run = || -> Result<Rehearsed, Ended> {
        let started = context.ambient.now().rfc3339;
        let receipt =
            Receipt::prepared("rehearsal", RunKind::Apply, &database, started, step_receipts(steps, change));
        let prepared = Prepared::unrecorded(context, facts).of(change).noting(receipt);
        let mut begun = prepared.begin(&mut *session)?;
        for (planned, collector) in steps.iter().zip(seen) {
            let marked = begun.look(&planned.plan, draft, collector)?;
            if planned.plan.kind == StepKind::Update && collector.is_ambiguous() {
                marked.end_rehearsal()?;
                return Ok(Rehearsed::Stopped);
            }
            collector.rehearsed(&planned.plan);
            begun = marked.execute(&planned.plan)?.prove_to(Some(collector))?;
        }
        let mut fired = Fired::new(show.of_many());
        let checks = begun.end_rehearsal_before(&mut fired)?;
        Ok(Rehearsed::All(fired.blocks, checks))
    };
    Ok(run().unwrap_or_else(Rehearsed::Ended))
}
