//! Checks of the whole change before it is run: which of them can be judged already, and why the others cannot.

use marktwice_core::archive::Archive;
use marktwice_core::asked::{Answer, QueryCheck, QueryFound};
use marktwice_core::change::Change;
use marktwice_core::steps::{Touches, waits};
use marktwice_port::{EngineError, Hold, Session};

use crate::outcome::Failure;
use crate::planned::Planned;
use crate::sheets::names;

/// A check's query that cannot be asked.
fn unasked(check: &QueryCheck, error: EngineError) -> Failure {
    match error {
        EngineError::Refused(_) | EngineError::Interrupted => error.into(),
        other => Failure::usage(
            format!("the check \"{}\" cannot be asked: {other}", check.title()),
            "correct its query: `marktwice look` shows tables and columns",
        ),
    }
}

/// What can be said of a check before the change has run.
pub(crate) enum Beforehand {
    /// Nothing that it reads is written.
    Sure,
    /// It can be asked, but nobody can judge it, for this reason.
    Open(String),
    /// It cannot even be asked, for this reason.
    Later(String),
}

/// What can be said of each check before the change has run.
///
/// # Errors
/// When a check's query is refused, or the database fails.
pub(crate) fn open_ones(
    session: &mut dyn Session,
    steps: &[Planned],
    change: &Change,
) -> Result<Vec<Beforehand>, Failure> {
    if change.checks.is_empty() {
        return Ok(Vec::new());
    }
    let touched = steps.iter().map(|step| session.touches(&step.plan));
    let touched: Vec<Touches> = touched.collect::<Result<_, _>>()?;
    let mut all = Vec::new();
    let archives: Vec<&Archive> = steps.iter().filter_map(|step| step.plan.archive.as_ref()).collect();
    for check in &change.checks {
        let reads = session.reads(&check.sql);
        // A query that names a table which is not there yet is asked once it is.
        let mut named = archives.iter().filter(|archive| names(&check.sql, &archive.target.table));
        let making = named.find_map(|archive| archive.making.as_ref());
        if let Some(making) = making.filter(|_| !matches!(reads, Err(EngineError::Refused(_)))) {
            all.push(Beforehand::Later(format!("it reads {}, which is made first", making.table)));
            continue;
        }
        let reads = reads.map_err(|error| unasked(check, error))?;
        let mut why = touched.iter().enumerate().filter_map(|(at, step)| waits(step, at, &reads));
        let why = why.next().map(|dependence| match steps.len() {
            1 => dependence
                .why
                .replace(
                    "and step 1 changes which rows are there",
                    "to which the change adds rows, or takes some away",
                )
                .replace("step 1", "the change"),
            _ => dependence.why,
        });
        all.push(why.map_or(Beforehand::Sure, Beforehand::Open));
    }
    Ok(all)
}

/// Asks the checks that can be asked, as things stand.
pub(crate) fn asked(
    hold: &mut dyn Hold,
    change: &Change,
    open: &[Beforehand],
) -> Vec<Option<Result<Answer, EngineError>>> {
    let checks = change.checks.iter().zip(open);
    let ask = |(check, open): (&QueryCheck, &Beforehand)| match open {
        Beforehand::Later(_) => None,
        Beforehand::Sure | Beforehand::Open(_) => Some(hold.ask(&check.sql)),
    };
    checks.map(ask).collect()
}

/// What the answers say of the checks, as things stand.
///
/// # Errors
/// The first that could not be asked.
pub(crate) fn foreseen(
    change: &Change,
    open: &[Beforehand],
    answers: Vec<Option<Result<Answer, EngineError>>>,
) -> Result<Vec<QueryFound>, Failure> {
    let mut all = Vec::new();
    for ((check, beforehand), answer) in change.checks.iter().zip(open).zip(answers) {
        let answer = answer.transpose().map_err(|error| unasked(check, error))?;
        all.push(match (beforehand, &answer) {
            (Beforehand::Sure, Some(answer)) => check.judge(Some(answer), answer),
            (Beforehand::Sure, None) => check.open("it was not asked", None),
            (Beforehand::Open(why) | Beforehand::Later(why), answer) => check.open(why, answer.as_ref()),
        });
    }
    Ok(all)
}
