//! The application of a change: preview, agreement, and the run.

use marktwice_core::mark::{Agreement as MarkAgreement, agreement};
use marktwice_core::receipt::{Receipt, RunKind, StepReceipt};
use marktwice_port::{Intent, Logbook, Mark};

use crate::context::{Answer, Context, Question, Talk};
use crate::mark::{Agreed, ground_shifted, moved_between, step_record};
use crate::outcome::{End, Failure, RunOutcome};
use crate::phases::{Ended, Prepared, StepFacts};
use crate::preview::{APPLY, Change, Preview, Show, Taken, take};

/// What an application rests on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Agreement {
    /// A person is asked.
    Ask,
    /// It was agreed to beforehand: an expected count or a mark says to what.
    Given,
}

/// How to apply.
#[derive(Debug, Clone)]
pub struct ApplyOptions {
    /// What it rests on.
    pub agreement: Agreement,
    /// The mark that it is held to.
    pub mark: Option<String>,
    /// Whether to ask inside the open transaction.
    pub hold: bool,
    /// How many rows to show.
    pub show: Show,
}

/// Applies a change.
///
/// # Errors
/// When it fails before a run is begun; a run's own failure is in the outcome.
pub fn apply(
    context: &Context<'_>,
    change: &Change,
    options: &ApplyOptions,
    talk: &mut dyn Talk,
) -> Result<RunOutcome, Failure> {
    if options.agreement == Agreement::Given && options.mark.is_none() && change.rows.is_none() {
        return Err(Failure::usage(
            "--yes needs to know what was agreed to",
            "add an expected count (--rows N, or rows = N in the change file) or the mark of a preview (--mark ID)",
        ));
    }
    // Nobody reads the closer look where nobody is asked.
    let quick = change.quick || options.agreement == Agreement::Given;
    let taken = take(context, &Change { quick, ..change.clone() }, options.show, APPLY)?;
    let Taken { preview, plan, summary, tidied, book } = &taken;
    tidied.settled()?;
    talk.show(preview);
    let own = preview.mark.clone().unwrap_or_default();
    let (agreed, by) = match &options.mark {
        None => {
            let by = if change.rows.is_some() { "expected count" } else { "answered" };
            (Agreed { name: own, summary: *summary, book: &**book, shown: &preview.rows }, by)
        }
        Some(name) => {
            let kept = book.mark(Some(name))?;
            if let Some(end) = held_to(&*kept, &taken)? {
                return Ok(RunOutcome::not_begun(end));
            }
            (
                Agreed { name: name.clone(), summary: *kept.summary(), book: &**book, shown: &preview.rows },
                "mark",
            )
        }
    };
    if let Some(end) = refusal(preview) {
        return Ok(RunOutcome::not_begun(end));
    }
    let by = if options.agreement == Agreement::Ask { "answered" } else { by };
    if options.agreement == Agreement::Ask && !options.hold {
        let answer = talk.ask(&Question::Before(preview));
        if answer != Answer::Yes {
            return Ok(RunOutcome::not_begun(End::Declined(answer)));
        }
    }
    let facts = StepFacts {
        target: plan.target.clone(),
        record: step_record(plan),
        allowed: preview.allowed.clone(),
        changes: change.changes,
    };
    let mark = agreed.name.clone();
    let prepared = Prepared::new(context, &**book as &dyn Logbook, facts, &change.source, &mut |run| {
        first_receipt(context, change, &taken, run, &mark, by)
    })?;
    let mut session = match context.open(Intent::Write) {
        Ok(session) => session,
        Err(error) => return Ok(prepared.failed(error)),
    };
    let hold = options.hold && options.agreement == Agreement::Ask;
    let run = || -> Result<RunOutcome, Ended> {
        let proven =
            prepared.begin(&mut *session)?.mark(plan, change, &agreed, talk)?.execute(plan)?.prove()?;
        let proven = if hold { proven.ask(talk)? } else { proven };
        Ok(proven.commit())
    };
    Ok(run().unwrap_or_else(|ended| *ended))
}

/// Why a previewed change is not begun.
pub(crate) fn refusal(preview: &Preview) -> Option<End> {
    let stops = preview.stops();
    if !stops.is_empty() {
        return Some(End::Stopped(stops));
    }
    if !preview.unmet.is_empty() {
        return Some(End::Expectation(preview.unmet.clone()));
    }
    if !preview.nothing_to_do() {
        return None;
    }
    if let Some(run) = &preview.undo_of {
        return Some(End::NothingToDo(format!(
            "no row of run {run} is left to be put back; nothing was begun"
        )));
    }
    let (null, operands) = &preview.stays_null;
    if *null > 0 {
        let what = if *null == 1 { "row stays".to_owned() } else { "rows stay".to_owned() };
        return Some(End::NothingToDo(format!(
            "{null} {what} NULL, because {} is NULL there; nothing was begun",
            operands.join(", ")
        )));
    }
    let rows =
        if preview.matched == 1 { "the row".to_owned() } else { format!("all {} rows", preview.matched) };
    Some(End::NothingToDo(match (&preview.already_run, preview.matched) {
        (_, 0) => "no row matches, which was within what was expected; nothing was begun".to_owned(),
        (Some((run, when)), _) => {
            format!(
                "{rows} already hold{} the new values: committed as {run} on {when}; nothing was begun",
                s(preview)
            )
        }
        (None, _) => format!("{rows} already hold{} the new values; nothing was begun", s(preview)),
    }))
}

fn s(preview: &Preview) -> &'static str {
    if preview.matched == 1 { "s" } else { "" }
}

/// Compares the fresh preview with the mark that the application is held to.
fn held_to(kept: &dyn Mark, taken: &Taken) -> Result<Option<End>, Failure> {
    let header = kept.header();
    let same = header.steps.first().is_some_and(|s| s.statement_hash == taken.plan.statement_hash);
    if !same {
        return Err(Failure::usage(
            format!("mark {} was taken of another statement", header.mark),
            "preview this one, or leave --mark out",
        ));
    }
    if let Some(shift) = ground_shifted(header, &taken.plan) {
        return Ok(Some(End::Changed(shift)));
    }
    match agreement(kept.summary(), &taken.summary) {
        MarkAgreement::Moved => {
            let own = taken.book.mark(taken.preview.mark.as_deref())?;
            Ok(Some(End::Moved(moved_between(kept, &*own)?)))
        }
        MarkAgreement::Same | MarkAgreement::UnrelatedOnly => Ok(None),
    }
}

fn first_receipt(
    context: &Context<'_>,
    change: &Change,
    taken: &Taken,
    run: &str,
    mark: &str,
    agreed: &str,
) -> Receipt {
    let (preview, plan) = (&taken.preview, &taken.plan);
    let step = StepReceipt {
        kind: plan.kind,
        table: plan.target.table.clone(),
        schema: Some(plan.target.schema.clone()),
        statement: plan.statement.clone(),
        statement_hash: plan.statement_hash.clone(),
        definition: plan.target.definition.clone(),
        expected_rows: change.rows,
        expected_changes: change.changes,
        matched: 0,
        changed: 0,
        engine_count: None,
    };
    let started = context.ambient.now().rfc3339;
    Receipt {
        title: change.title.clone(),
        reason: change.reason.clone(),
        user: context.user.clone(),
        mark: Some(mark.to_owned()),
        agreed: agreed.to_owned(),
        allowed: change.allowed(),
        findings: preview.findings.clone(),
        back: Some(preview.back.clone()),
        ..Receipt::prepared(run, RunKind::Apply, &preview.database, started, step)
    }
}
