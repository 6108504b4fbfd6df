//! The undo of a run: every row is compared with what the run left, then put back, as a run of its own.

use std::cell::RefCell;

use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_core::receipt::{Receipt, RunKind, RunState, SnapshotRef, StepReceipt};
use marktwice_core::record::{SnapshotHeader, StepRecord};
use marktwice_core::totals::Totals;
use marktwice_core::undo::{RowChange, compare, inverse_kind};
use marktwice_core::{Code, Expect, Value, hash};
use marktwice_port::{EngineError, Intent, Logbook, Phase, Restore, Session, SinkError, SnapshotReader};

use crate::apply::Agreement;
use crate::context::{Answer, Context, Question, Talk};
use crate::faults::Conflicts;
use crate::history::{Entry, find_run, history};
use crate::outcome::{End, Failure, RunOutcome};
use crate::phases::{Ended, Prepared, StepFacts};
use crate::preview::{Preview, Show, ShownRow, side_findings, unwrap_sink};
use crate::settle::tidy_up;

/// How to undo.
#[derive(Debug, Clone)]
pub struct UndoOptions {
    /// The run, or a unique part of its name; the last standing application without one.
    pub run: Option<String>,
    /// What it rests on. Without a question, the run must be named.
    pub agreement: Agreement,
    /// Findings that are let pass.
    pub allow: Vec<Code>,
    /// Expected rows.
    pub rows: Option<Expect>,
    /// Whether to ask inside the open transaction.
    pub hold: bool,
    /// How many rows to show.
    pub show: Show,
}

/// What is taken back, and how.
struct Back {
    entry: Entry,
    snapshot: SnapshotRef,
    restore: Restore,
    foreseen: Vec<Foreseen>,
}

/// Takes a run back.
///
/// # Errors
/// When it fails before a run is begun; a run's own failure is in the outcome.
pub fn undo(
    context: &Context<'_>,
    options: &UndoOptions,
    talk: &mut dyn Talk,
) -> Result<RunOutcome, Failure> {
    if options.agreement == Agreement::Given && options.run.is_none() && options.rows.is_none() {
        return Err(Failure::usage(
            "--yes needs to know what was agreed to",
            "name the run (marktwice undo RUN --yes) or say an expected count (--rows N)",
        ));
    }
    let mut session = context.engine.open(context.address, Intent::Read, context.waits)?;
    let book = (context.book)(session.database())?;
    let mut notes = session.notes().to_vec();
    notes.extend(tidy_up(&*book, context)?);
    let back = match what_to_take_back(&mut *session, &*book, options)? {
        Ok(back) => back,
        Err(end) => return Ok(RunOutcome::not_begun(end)),
    };
    let preview = look(context, &mut *session, &*book, &back, options, notes)?;
    drop(session);
    talk.show(&preview);
    if let Some(conflicts) = preview.conflicts.clone() {
        return Ok(RunOutcome::not_begun(End::Conflicts(conflicts)));
    }
    if let Some(end) = crate::apply::refusal(&preview) {
        return Ok(RunOutcome::not_begun(end));
    }
    if options.agreement == Agreement::Ask && !options.hold {
        let answer = talk.ask(&Question::Before(&preview));
        if answer != Answer::Yes {
            return Ok(RunOutcome::not_begun(End::Declined(answer)));
        }
    }
    put_back(context, &*book, &back, options, &preview, talk)
}

/// Finds the run and makes sure that it can be taken back at all.
fn what_to_take_back(
    session: &mut dyn Session,
    book: &dyn Logbook,
    options: &UndoOptions,
) -> Result<Result<Back, End>, Failure> {
    let entries = history(book)?;
    let entry = match &options.run {
        Some(name) => find_run(&entries, Some(name))?,
        None => {
            let last = entries.iter().find(|e| e.receipt.kind == RunKind::Apply && e.can_undo);
            last.cloned().ok_or_else(|| {
                Failure::usage(
                    "there is no committed application that still stands",
                    "marktwice history shows the runs",
                )
            })?
        }
    };
    let receipt = &entry.receipt;
    let run = &receipt.run;
    if receipt.state != RunState::Committed {
        return Err(Failure::usage(
            format!(
                "run {run} was not committed ({}); there is nothing to take back",
                receipt.state.as_str()
            ),
            "marktwice history shows the runs",
        ));
    }
    if let Some(by) = &entry.undone_by {
        return Err(Failure::usage(
            format!("run {run} was taken back already, by {by}"),
            format!("to apply it again, take that undo back: marktwice undo {by}"),
        ));
    }
    let Some(snapshot) = receipt.snapshot.clone().filter(|_| receipt.can_be_undone()) else {
        return Err(Failure::usage(format!("run {run} changed nothing"), "there is nothing to take back"));
    };
    let header = book.snapshot(run, &snapshot)?.header().clone();
    let SnapshotHeader { steps, tables, .. } = header;
    let (Some(step), Some(target)) = (steps.into_iter().next(), tables.into_iter().next()) else {
        return Err(Failure::usage(
            format!("the snapshot of {run} holds no step"),
            "it cannot be taken back",
        ));
    };
    let now = session.describe(&target.schema, &target.table)?;
    if now.definition != target.definition {
        return Ok(Err(End::Changed(format!(
            "the definition of {} has changed since run {run}",
            target.table
        ))));
    }
    let kind = inverse_kind(step.kind);
    let written = |f: &&Foreseen| target.columns.get(f.column).is_some_and(|c| !c.generated);
    let columns: Vec<usize> = step.foreseen.iter().filter(written).map(|f| f.column).collect();
    let foreseen = match kind {
        StepKind::Update => step
            .foreseen
            .iter()
            .map(|f| Foreseen { column: f.column, label: Label::Exact, derived: f.derived, why: None })
            .collect(),
        // An undone DELETE brings whole rows back; the columns matter when that undo is itself taken back.
        StepKind::Insert | StepKind::Delete => Vec::new(),
    };
    Ok(Ok(Back { entry, snapshot, restore: Restore { target, kind, columns }, foreseen }))
}

/// The rows to put back: the inverse of each change that made a difference.
fn inverse(reader: &RefCell<Box<dyn SnapshotReader>>) -> Result<Option<RowChange>, SinkError> {
    loop {
        match reader.borrow_mut().next().map_err(Box::new)? {
            None => return Ok(None),
            Some(change) if change.differs() => return Ok(Some(change.inverse())),
            Some(_) => {}
        }
    }
}

/// Compares every row with what the run left; nothing is written.
fn look(
    context: &Context<'_>,
    session: &mut dyn Session,
    book: &dyn Logbook,
    back: &Back,
    options: &UndoOptions,
    notes: Vec<String>,
) -> Result<Preview, Failure> {
    let run = &back.entry.receipt.run;
    let target = &back.restore.target;
    let reader = RefCell::new(book.snapshot(run, &back.snapshot)?);
    let mut conflicts = Conflicts::none(target);
    let mut rows: Vec<ShownRow> = Vec::new();
    let mut totals = Totals::new(back.restore.columns.iter().copied());
    let mut matched = 0u64;
    session
        .look_up(target, &mut || inverse(&reader), &mut |change, now| {
            matched += 1;
            if let Err(conflict) = compare(change.before.as_deref(), now) {
                conflicts.add(&change.key, conflict);
            }
            if let (Some(before), Some(after)) = (&change.before, &change.after) {
                totals.add(before, after);
            }
            let wanted = match options.show {
                Show::First(most) => rows.len() < most,
                Show::All => true,
            };
            if wanted {
                rows.push(ShownRow {
                    key: change.key.clone(),
                    before: change.before.clone().unwrap_or_default(),
                    after: change.after.clone(),
                });
            }
            if matched.is_multiple_of(4096) {
                context.ambient.progress(Phase::Comparing, matched, Some(back.snapshot.rows));
            }
            Ok(())
        })
        .map_err(unwrap_sink)?;
    let side = session.restore_reach(&back.restore)?;
    let mut preview = Preview {
        database: session.database().clone(),
        notes,
        title: back.entry.receipt.title.clone(),
        kind: back.restore.kind,
        target: target.clone(),
        statement: sentence(back),
        pin: None,
        foreseen: back.foreseen.clone(),
        filter: Vec::new(),
        findings: side_findings(&side),
        allowed: options.allow.clone(),
        matched,
        changes: matched,
        total: matched,
        rows,
        totals: totals.finish(|c| target.columns.get(c).map_or(String::new(), |c| c.name.clone())),
        side,
        unmet: Vec::new(),
        leave_out: None,
        already_run: None,
        mark: None,
        undo_of: Some(run.clone()),
        conflicts: (conflicts.count > 0).then_some(conflicts),
    };
    if let Some(expected) = options.rows.filter(|e| !e.met(matched, matched)) {
        preview.unmet.push(crate::preview::Unmet { what: "rows", expected, found: matched });
    }
    Ok(preview)
}

/// What an undo does, in words, in place of a statement.
fn sentence(back: &Back) -> String {
    let (table, run) = (&back.restore.target.table, &back.entry.receipt.run);
    match back.restore.kind {
        StepKind::Update => format!("put the rows of {table} back as they were before run {run}"),
        StepKind::Insert => format!("bring back the rows of {table} that run {run} took away"),
        StepKind::Delete => format!("take away the rows of {table} that run {run} brought in"),
    }
}

fn put_back(
    context: &Context<'_>,
    book: &dyn Logbook,
    back: &Back,
    options: &UndoOptions,
    preview: &Preview,
    talk: &mut dyn Talk,
) -> Result<RunOutcome, Failure> {
    let statement = sentence(back);
    let record = StepRecord {
        kind: back.restore.kind,
        statement: statement.clone(),
        statement_hash: hash::texts(["undo", back.entry.receipt.run.as_str()]),
        table: 0,
        foreseen: if back.restore.kind == StepKind::Update { back.foreseen.clone() } else { Vec::new() },
    };
    let facts = StepFacts {
        target: back.restore.target.clone(),
        record: record.clone(),
        allowed: options.allow.clone(),
        changes: None,
    };
    let text = format!("-- {statement}\n");
    let prepared = Prepared::new(context, book, facts, &text, &mut |run| {
        undo_receipt(context, back, options, preview, &record, run)
    })?;
    let mut session = match context.engine.open(context.address, Intent::Write, context.waits) {
        Ok(session) => session,
        Err(error) => return Ok(prepared.failed(error)),
    };
    let reader = match book.snapshot(&back.entry.receipt.run, &back.snapshot) {
        Ok(reader) => RefCell::new(reader),
        Err(error) => return Ok(prepared.failed(EngineError::Sink(Box::new(error)))),
    };
    let conflicts = RefCell::new(Conflicts::none(&back.restore.target));
    let mut found = |change: &RowChange, now: Option<&[Value]>| -> Result<(), SinkError> {
        if let Err(conflict) = compare(change.before.as_deref(), now) {
            conflicts.borrow_mut().add(&change.key, conflict);
        }
        Ok(())
    };
    let hold = options.hold && options.agreement == Agreement::Ask;
    let run = || -> Result<RunOutcome, Ended> {
        let begun = prepared.begin(&mut *session)?;
        let marked = begun.hold_rows(&back.restore, &mut || inverse(&reader), &mut found)?;
        if conflicts.borrow().count > 0 {
            return Err(marked.end(End::Conflicts(conflicts.replace(Conflicts::none(&back.restore.target)))));
        }
        let proven = marked.put(&back.restore)?.prove()?;
        let proven = if hold { proven.ask(talk)? } else { proven };
        Ok(proven.commit())
    };
    Ok(run().unwrap_or_else(|ended| *ended))
}

fn undo_receipt(
    context: &Context<'_>,
    back: &Back,
    options: &UndoOptions,
    preview: &Preview,
    record: &StepRecord,
    run: &str,
) -> Receipt {
    let of = &back.entry.receipt;
    let step = StepReceipt {
        kind: record.kind,
        table: back.restore.target.table.clone(),
        statement: record.statement.clone(),
        statement_hash: record.statement_hash.clone(),
        definition: back.restore.target.definition.clone(),
        expected_rows: options.rows,
        expected_changes: None,
        matched: 0,
        changed: 0,
        engine_count: None,
    };
    let started = context.ambient.now().rfc3339;
    Receipt {
        title: of.title.clone(),
        user: context.user.clone(),
        undo_of: Some(of.run.clone()),
        agreed: if options.agreement == Agreement::Ask { "answered" } else { "run named" }.to_owned(),
        allowed: options.allow.clone(),
        findings: preview.findings.clone(),
        ..Receipt::prepared(run, RunKind::Undo, &preview.database, started, step)
    }
}
