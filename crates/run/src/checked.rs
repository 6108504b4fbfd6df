//! Checks of the whole change before it is run: which of them can be judged already, and why the others cannot.

use marktwice_core::asked::{Answer, QueryCheck, QueryFound};
use marktwice_core::change::Change;
use marktwice_core::steps::{Touches, waits};
use marktwice_port::{EngineError, Session};

use crate::outcome::Failure;
use crate::planned::Planned;

/// A check's query that cannot be asked.
fn unasked(check: &QueryCheck, error: EngineError) -> Failure {
    match error {
        EngineError::Refused(_) | EngineError::Interrupted => error.into(),
        other => Failure::usage(
            format!("the check \"{}\" cannot be asked: {other}", check.title()),
            "correct its query: marktwice look shows tables and columns",
        ),
    }
}

/// Of each check, why nobody can judge it before the change has run; `None` where nothing that it reads is written.
///
/// # Errors
/// When a check's query is refused, or the database fails.
pub(crate) fn open_ones(
    session: &mut dyn Session,
    steps: &[Planned],
    change: &Change,
) -> Result<Vec<Option<String>>, Failure> {
    if change.checks.is_empty() {
        return Ok(Vec::new());
    }
    let touched = steps.iter().map(|step| session.touches(&step.plan));
    let touched: Vec<Touches> = touched.collect::<Result<_, _>>()?;
    let mut all = Vec::new();
    for check in &change.checks {
        let reads = session.reads(&check.sql).map_err(|error| unasked(check, error))?;
        let mut why = touched.iter().enumerate().filter_map(|(at, step)| waits(step, at, &reads));
        all.push(why.next().map(|dependence| {
            match steps.len() {
                1 => dependence
                    .why
                    .replace(
                        "and step 1 changes which rows are there",
                        "to which the change adds rows, or takes some away",
                    )
                    .replace("step 1", "the change"),
                _ => dependence.why,
            }
        }));
    }
    Ok(all)
}

/// What the answers say of the checks, as things stand.
///
/// # Errors
/// The first that could not be asked.
pub(crate) fn foreseen(
    change: &Change,
    open: &[Option<String>],
    answers: Vec<Result<Answer, EngineError>>,
) -> Result<Vec<QueryFound>, Failure> {
    let mut all = Vec::new();
    for ((check, why), answer) in change.checks.iter().zip(open).zip(answers) {
        let answer = answer.map_err(|error| unasked(check, error))?;
        all.push(match why {
            Some(why) => check.open(why, Some(&answer)),
            None => check.judge(Some(&answer), &answer),
        });
    }
    Ok(all)
}
