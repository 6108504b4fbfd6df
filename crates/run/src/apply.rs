//! The application of a change: preview, agreement, and the run.

use marktwice_core::Expect;
use marktwice_core::asked::QueryFound;
use marktwice_core::change::Change;
use marktwice_core::mark::{Comparison, agreement};
use marktwice_core::param::to_map;
use marktwice_core::receipt::{Previewed, Receipt, RunKind};
use marktwice_core::secret::Secrets;
use marktwice_core::words;
use marktwice_port::{Logbook, Mark, Phase};

use crate::context::{Answer, Context, Question, Shown, Spare, Talk};
use crate::mark::{Agreed, ground_shifted, moved_between};
use crate::outcome::{End, Failure, RunOutcome};
use crate::phases::{Ended, Prepared, StepFacts, other_along};
use crate::planned::{made_first, set_up, step_receipts};
use crate::preview::{Preview, Show, StepPreview, Unmet};
use crate::sheets::spread;
use crate::taking::{APPLY, Taken, Way, take};

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
    /// A new file that the whole database is copied into first.
    pub copy_database: Option<String>,
    /// A table that is made of the matched rows as they are, in the same transaction.
    pub keep_copy: Option<String>,
    /// Rows that it may match at most, over all steps.
    pub most_rows: Option<u64>,
    /// Who had previewed it elsewhere, where it was handed over.
    pub previewed: Option<Previewed>,
}

/// Whether every step, or every one of those, says how many rows it expects.
fn counted(change: &Change, steps: impl IntoIterator<Item = usize>) -> Result<(), Failure> {
    let without = steps.into_iter().find(|at| change.terms(*at).rows.is_none());
    let Some(at) = without else { return Ok(()) };
    if change.steps.len() == 1 {
        return Err(Failure::usage(
            "--yes needs to know what was agreed to",
            "add an expected count (--rows N, or rows = N in the change file) or the mark of a preview (--mark ID)",
        ));
    }
    Err(Failure::usage(
        format!("--yes needs to know what was agreed to, and step {} says no expected count", at + 1),
        "say rows = N in a block before each step, or name a mark that covers every step (--mark ID)",
    ))
}

/// Why no copy can be kept under a name.
fn no_name(typed: &str) -> Option<&'static str> {
    let parts: Vec<&str> =
        typed.split('.').map(|part| part.trim().trim_matches(['"', '`', '[', ']'])).collect();
    let schema = parts.split_last().and_then(|(_, ahead)| ahead.last());
    if parts.iter().any(|part| part.is_empty()) {
        Some("the table that is to keep a copy has no name")
    } else if typed.chars().any(char::is_control) {
        Some("there is a control character in the name of the table that is to keep a copy")
    } else if schema
        .is_some_and(|schema| ["temp", "pg_temp"].iter().any(|own| schema.eq_ignore_ascii_case(own)))
    {
        Some("a table of the session's own would be gone with it")
    } else {
        None
    }
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
    let given = options.agreement == Agreement::Given;
    if options.keep_copy.is_some() && change.steps.len() > 1 {
        let hint = "copy the whole database, or apply the steps one by one";
        return Err(Failure::usage("a copy is kept of the rows of one step, and there are several", hint));
    }
    if let Some(why) = options.keep_copy.as_deref().and_then(no_name) {
        return Err(Failure::usage(why, "name a new table that stays: --keep-copy NAME"));
    }
    if given && options.mark.is_none() {
        counted(change, 0..change.steps.len())?;
    }
    // Nobody reads the closer look where nobody is asked.
    let quick = change.quick || given;
    let held = options.mark.as_deref();
    let hurried = Change { quick, ..change.clone() };
    let mut taken = take(context, &hurried, options.show, (APPLY, held), Way::IfItMust(talk))?;
    let ended = taken.ended.take();
    // While somebody thinks no connection is held open, and what a rehearsal has made is not built upon.
    let mut session = taken.session.take().filter(|_| given && !taken.preview.rehearsed);
    // Whoever reads what is shown may take their time too.
    if let Some(session) = &mut session {
        session.rest()?;
    }
    let Taken { preview, steps, totals, tidied, book, .. } = &taken;
    tidied.settled()?;
    talk.show(&Shown::Change(preview));
    if let Some(ended) = ended {
        return Ok(ended);
    }
    if preview.mark.is_none()
        && let Some((end, step)) = refusal(preview)
    {
        return Ok(RunOutcome { step, ..RunOutcome::of(end) });
    }
    let shown: Vec<_> = preview.steps.iter().map(|step| step.block.rows.as_slice()).collect();
    let mark = preview.mark.clone().unwrap_or_default();
    let own = Agreed { name: mark, totals: totals.clone(), book: &**book, shown };
    let (agreed, by) = match taken.held_to.as_deref() {
        None => {
            let counted = counted(change, 0..change.steps.len()).is_ok();
            (own, if counted { "expected count" } else { "answered" })
        }
        Some(kept) => {
            if given {
                counted(change, kept.header().open.iter().copied())?;
            }
            if let Some((end, step)) = held_to(kept, &taken)? {
                let step = step.filter(|_| steps.len() > 1);
                return Ok(RunOutcome { step, ..RunOutcome::of(end) });
            }
            // A mark that leaves steps open agrees with this one in all others.
            match kept.header().open.as_slice() {
                [] => (
                    Agreed { name: kept.header().mark.clone(), totals: kept.totals().to_vec(), ..own },
                    "mark",
                ),
                _ => (own, "mark"),
            }
        }
    };
    if let Some((end, step)) = refusal(preview) {
        return Ok(RunOutcome { step, ..RunOutcome::of(end) });
    }
    let matched = preview.steps.iter().map(|step| step.block.matched).sum();
    if let Some(most) = options.most_rows.filter(|most| matched > *most) {
        let unmet = Unmet { what: "rows", expected: Expect::Range(0, Some(most)), found: matched };
        return Ok(RunOutcome::of(End::Expectation(vec![unmet])));
    }
    let by = if given { by } else { "answered" };
    if !given && !options.hold {
        let answer = talk.ask(&Question::Before(&Shown::Change(preview)));
        if answer != Answer::Yes {
            return Ok(RunOutcome::of(End::Declined(answer)));
        }
    }
    let keep_copy = options.keep_copy.clone();
    let facts = steps
        .iter()
        .map(|step| StepFacts { keep_copy: keep_copy.clone(), ..StepFacts::of(step, &taken.change) });
    let facts = facts.collect();
    let mark = agreed.name.clone();
    let mut prepared = Prepared::new(context, &**book as &dyn Logbook, facts, &change.source, &mut |run| {
        let mut receipt = first_receipt(context, change, &taken, run, (&mark, by, options.previewed.clone()));
        receipt.scrub(&Secrets::of(&change.params));
        receipt
    })?
    .of(&taken.change);
    let opened = context.to_write(session).and_then(|(mut session, fresh)| {
        if fresh {
            set_up(&mut *session, change)?;
        }
        Ok((session, fresh))
    });
    let (mut session, fresh) = match opened {
        Ok(opened) => opened,
        Err(error) => return Ok(prepared.failed(error)),
    };
    if fresh && let Err(failure) = spread(context, &mut *session, change) {
        return Ok(prepared.failed_by(failure));
    }
    if let Some(file) = &options.copy_database {
        let stop = context.ambient.stopper();
        let copied = session.copy_database(file, &mut |done, of| {
            context.ambient.progress(Phase::Copying, done, Some(of));
            stop()
        });
        match copied {
            Ok(bytes) => prepared.copied(file, bytes),
            Err(error) => return Ok(prepared.failed(error)),
        }
    }
    let hold = options.hold && !given;
    let run = || -> Result<RunOutcome, Ended> {
        let mut begun = prepared.begin(&mut *session)?;
        for step in steps {
            begun = begun.mark(&step.plan, &agreed, talk)?.execute(&step.plan)?.prove()?;
        }
        let proven = begun.finish()?;
        let proven = if hold { proven.ask(talk)? } else { proven };
        Ok(proven.commit())
    };
    let mut outcome = run().unwrap_or_else(|ended| *ended);
    if matches!(outcome.end, End::Committed) {
        outcome.session = Spare(Some(session));
    }
    Ok(outcome)
}

/// Why a previewed change is not begun, and the step that it is about where it is about one.
fn refusal(preview: &Preview) -> Option<(End, Option<usize>)> {
    let several = preview.steps.len() > 1;
    let stops = preview.stops();
    if !stops.is_empty() {
        let by = preview.steps.iter().position(|step| !step.block.stops().is_empty());
        return Some((End::Stopped(stops), by.filter(|_| several)));
    }
    if let Some((at, _)) = preview.unmet().first() {
        let unmet = preview.steps.get(*at).map_or_else(Vec::new, |step| step.block.unmet.clone());
        return Some((End::Expectation(unmet), Some(*at).filter(|_| several)));
    }
    let failing = preview.steps.iter().enumerate().map(|(at, step)| (at, step.block.failing()));
    if let Some((at, failing)) = failing.into_iter().find(|(_, failing)| !failing.is_empty()) {
        let table = preview.steps.get(at).map_or_else(String::new, |step| step.block.target.table.clone());
        return Some((End::Checks(table, failing), Some(at).filter(|_| several)));
    }
    let queries: Vec<QueryFound> = preview.checks_failing().cloned().collect();
    if !queries.is_empty() {
        return Some((End::Queries(queries), None));
    }
    if !preview.nothing_to_do() {
        return None;
    }
    Some((End::NothingToDo(why_nothing(preview)), None))
}

fn why_nothing(preview: &Preview) -> String {
    let [step] = preview.steps.as_slice() else {
        return "no step would change anything: no row matches, or all already hold the new values; nothing \
                was begun"
            .to_owned();
    };
    let (null, operands) = &step.stays_null;
    if *null > 0 {
        let what = format!("{} {}", words::rows(*null), words::either(*null, "stays", "stay"));
        let names = operands.join(", ");
        return format!("{what} NULL, because {names} is NULL there; nothing was begun");
    }
    let StepPreview { block, already_run, .. } = step;
    let (rows, s) = match block.matched {
        1 => ("the row".to_owned(), "s"),
        n => (format!("all {}", words::rows(n)), ""),
    };
    match (already_run, block.matched) {
        (Some((run, when)), 0) => {
            let when = words::moment(when);
            format!("no row matches any more: committed as {run} on {when}; nothing was begun")
        }
        (None, 0) => "no row matches, which was within what was expected; nothing was begun".to_owned(),
        (Some((run, when)), _) => {
            let when = words::moment(when);
            format!("{rows} already hold{s} the new values: committed as {run} on {when}; nothing was begun")
        }
        (None, _) => format!("{rows} already hold{s} the new values; nothing was begun"),
    }
}

/// Compares the fresh preview with the mark that the application is held to.
fn held_to(kept: &dyn Mark, taken: &Taken) -> Result<Option<(End, Option<usize>)>, Failure> {
    let header = kept.header();
    let hashes = header.steps.iter().map(|step| &step.statement_hash);
    if !hashes.eq(taken.steps.iter().map(|step| &step.plan.statement_hash)) {
        let given = match (header.params.is_empty(), header.sheets.is_empty()) {
            (true, true) => "",
            (false, true) => ", or with other values",
            (true, false) => ", or with another sheet",
            (false, false) => ", or with other values or another sheet",
        };
        return Err(Failure::usage(
            format!("mark {} was taken of another statement{given}", header.mark),
            "preview this one, or leave --mark out",
        ));
    }
    let mut own = None;
    for (at, step) in taken.steps.iter().enumerate() {
        if let Some(shift) = ground_shifted(header, at, &step.plan, taken.book.key_name().as_ref()) {
            return Ok(Some((End::Changed(shift), Some(at))));
        }
        let both = kept.totals().get(at).zip(taken.totals.get(at));
        let Some((first, second)) = both.filter(|_| !header.open.contains(&at)) else { continue };
        let compared = agreement(first, second);
        if compared == Comparison::Along {
            return Ok(Some((End::Changed(other_along()), Some(at))));
        }
        if compared == Comparison::Moved {
            let fresh = match &own {
                Some(fresh) => fresh,
                None => own.insert(taken.book.mark(taken.preview.mark.as_deref())?),
            };
            return Ok(Some((End::Moved(moved_between(kept, &**fresh, at)?), Some(at))));
        }
    }
    Ok(None)
}

fn first_receipt(
    context: &Context<'_>,
    change: &Change,
    taken: &Taken,
    run: &str,
    (mark, agreed, previewed): (&str, &str, Option<Previewed>),
) -> Receipt {
    let preview = &taken.preview;
    let started = context.ambient.now().rfc3339;
    let mut allowed = Vec::new();
    for code in (0..change.steps.len()).flat_map(|at| change.allowed(at)) {
        if !allowed.contains(&code) {
            allowed.push(code);
        }
    }
    Receipt {
        title: change.title.clone(),
        reason: change.reason.clone(),
        user: context.user.clone(),
        mark: Some(mark.to_owned()),
        previewed,
        agreed: agreed.to_owned(),
        allowed,
        rehearsed: preview.rehearsed,
        findings: preview.findings().cloned().collect(),
        back: Some(preview.back()),
        params: to_map(&change.params),
        sheets: change.sheets.clone(),
        makes: made_first(&taken.steps),
        ..Receipt::prepared(
            run,
            RunKind::Apply,
            &preview.database,
            started,
            step_receipts(&taken.steps, change),
        )
    }
}
