//! The undo of a run: every row is compared with what the run left, then put back, as a run of its own.

use std::cell::RefCell;

use marktwice_core::cell::{CellDiff, diff};
use marktwice_core::hash::{Fingerprint, RowHash};
use marktwice_core::mark::{After, Foreseen, Label, StepKind};
use marktwice_core::receipt::{Receipt, RunKind, RunState, SnapshotRef, StepReceipt};
use marktwice_core::record::{SnapshotHeader, StepRecord};
use marktwice_core::study::Study;
use marktwice_core::totals::Totals;
use marktwice_core::undo::{OnChanged, OnGone, Policy, RowChange, Treatment, inverse_kind, treat};
use marktwice_core::way_back::WayBack;
use marktwice_core::{Code, Expect, Value, hash};
use marktwice_port::{
    EngineError, Intent, Keep, Logbook, Phase, Restore, Session, SideWrite, SinkError, SnapshotReader, Tx,
};

use crate::apply::Agreement;
use crate::context::{Answer, Context, Question, Talk};
use crate::faults::Conflicts;
use crate::history::{Entry, find_run, history};
use crate::noticed::{no_way_back, side_findings};
use crate::outcome::{End, Failure, RunOutcome};
use crate::phases::{Ended, Prepared, StepFacts};
use crate::preview::{Preview, Show, ShownRow, unwrap_sink};
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
    /// What to do with rows that changed since, or are gone.
    pub policy: Policy,
    /// The keys of the rows to put back, as they are shown; all without one.
    pub only: Vec<String>,
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
    let mut session = context.open(Intent::Read)?;
    let book = (context.book)(session.database())?;
    let mut notes = session.notes().to_vec();
    let tidied = tidy_up(&*book, context)?;
    tidied.settled()?;
    notes.extend(tidied.notes);
    let mut back = match what_to_take_back(&mut *session, &*book, options)? {
        Ok(back) => back,
        Err(end) => return Ok(RunOutcome::not_begun(end)),
    };
    let reach = session.restore_reach(&back.restore)?;
    leave_to_the_database(&mut back, &reach.1);
    let (preview, seen) = look(context, &mut *session, &*book, &back, options, (notes, &reach))?;
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
    put_back(context, &*book, &back, options, (&preview, seen), talk)
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
    if !book.is_of(&receipt.database.identity) {
        return Err(Failure::usage(
            format!("run {run} was made on another database ({})", receipt.database.name),
            "it is taken back there; how its folder came into this logbook only a person can tell",
        ));
    }
    if let Some(by) = &entry.undone_by {
        return Err(Failure::usage(
            format!("run {run} was taken back already, by {by}"),
            format!("to apply it again, take that undo back: marktwice undo {by}"),
        ));
    }
    if let Some(when) = &receipt.forgotten {
        return Err(Failure::usage(
            format!("the rows of run {run} were forgotten on {when}"),
            "it cannot be taken back any more",
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
            .map(|f| {
                // Where somebody's edits stay in other columns, what is derived from them is not known beforehand.
                let unknown = f.derived && options.policy.changed == OnChanged::Overwrite;
                let label = if unknown { Label::Unknown } else { Label::Exact };
                Foreseen { column: f.column, label, derived: f.derived, why: None }
            })
            .collect(),
        // An undone DELETE brings whole rows back; the columns matter when that undo is itself taken back.
        StepKind::Insert | StepKind::Delete => Vec::new(),
    };
    let inserts = kind == StepKind::Update && options.policy.gone == OnGone::Insert;
    Ok(Ok(Back { entry, snapshot, restore: Restore { target, kind, columns, inserts }, foreseen }))
}

/// Columns that something in the database sets whenever a row is written: what they will hold only the undo can tell.
fn leave_to_the_database(back: &mut Back, way: &WayBack) {
    for owned in &way.owned {
        let Some(column) = back.restore.target.position(&owned.column) else { continue };
        let derived = !back.restore.columns.contains(&column);
        back.foreseen.retain(|f| f.column != column);
        back.foreseen.push(Foreseen { column, label: Label::Unknown, derived, why: Some(owned.why.clone()) });
    }
    back.foreseen.sort_by_key(|f| f.column);
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

/// A key as a person writes it: `418`, or `12,2026`.
pub(crate) fn key_text(key: &[Value]) -> String {
    let one = |value: &Value| match value {
        Value::Text(text) | Value::Decimal(text) => text.clone(),
        other => other.to_json().to_string(),
    };
    key.iter().map(one).collect::<Vec<_>>().join(",")
}

/// Decides about every row, in the preview and again inside the transaction, and keeps a fingerprint of what it saw:
/// the two must be the same, so that nothing is overwritten that was not shown.
struct Judge<'a> {
    options: &'a UndoOptions,
    columns: &'a [usize],
    conflicts: Conflicts,
    left_alone: Conflicts,
    already_back: u64,
    not_asked: u64,
    seen: Fingerprint,
    buffer: Vec<u8>,
    found: Vec<String>,
}

impl<'a> Judge<'a> {
    fn new(options: &'a UndoOptions, restore: &'a Restore) -> Self {
        Judge {
            options,
            columns: &restore.columns,
            conflicts: Conflicts::none(&restore.target),
            left_alone: Conflicts::none(&restore.target),
            already_back: 0,
            not_asked: 0,
            seen: Fingerprint::default(),
            buffer: Vec::new(),
            found: Vec::new(),
        }
    }

    fn decide(&mut self, change: &RowChange, now: Option<&[Value]>) -> Keep {
        if !self.options.only.is_empty() {
            let keys = [key_text(&change.key), key_text(change.key_now())];
            match self.options.only.iter().find(|o| keys.contains(&o.replace(", ", ","))) {
                Some(only) => self.found.push(only.clone()),
                None => {
                    self.not_asked += 1;
                    return Keep::Leave;
                }
            }
        }
        self.seen.add(&RowHash::with(&mut self.buffer, change.key.iter().chain(now.unwrap_or_default())));
        match treat(change, now, self.columns, self.options.policy) {
            Treatment::Put(wanted) => Keep::Hold(wanted),
            Treatment::AlreadyBack => {
                self.already_back += 1;
                Keep::Leave
            }
            Treatment::Leave(conflict) => {
                self.left_alone.add(&change.key, conflict);
                Keep::Leave
            }
            Treatment::Stop(conflict) => {
                self.conflicts.add(&change.key, conflict);
                Keep::Leave
            }
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
    (notes, (side, way)): (Vec<String>, &(Vec<SideWrite>, WayBack)),
) -> Result<(Preview, Fingerprint), Failure> {
    let run = &back.entry.receipt.run;
    let target = &back.restore.target;
    let reader = RefCell::new(book.snapshot(run, &back.snapshot)?);
    let mut judge = Judge::new(options, &back.restore);
    let mut rows: Vec<ShownRow> = Vec::new();
    let mut totals = Totals::new(back.restore.columns.iter().copied());
    let (mut matched, mut seen) = (0u64, 0u64);
    session
        .look_up(target, &mut || inverse(&reader), &mut |change, now| {
            seen += 1;
            if seen.is_multiple_of(4096) {
                context.ambient.progress(Phase::Comparing, seen, Some(back.snapshot.rows));
            }
            let stopped = judge.conflicts.count;
            let wanted = match judge.decide(change, now) {
                Keep::Hold(wanted) => wanted,
                // A row that stops the undo is shown as it was meant to be put back.
                Keep::Leave if judge.conflicts.count > stopped => change.after.clone(),
                Keep::Leave => return Ok(()),
            };
            matched += 1;
            let before = if judge.conflicts.count > stopped { change.before.as_deref() } else { now };
            if let (Some(before), Some(after)) = (before, &wanted) {
                totals.add(before, after);
            }
            if options.show.wants(rows.len()) {
                let before = before.map(<[Value]>::to_vec).unwrap_or_default();
                rows.push(ShownRow { key: change.key.clone(), before, after: wanted });
            }
            Ok(())
        })
        .map_err(unwrap_sink)?;
    if let Some(missing) = options.only.iter().find(|o| !judge.found.contains(o)) {
        return Err(Failure::usage(
            format!("run {run} changed no row with the key {missing}"),
            "write keys as they are shown: 418, or 12,2026",
        ));
    }
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
        findings: side_findings(side).into_iter().chain(no_way_back(way)).collect(),
        allowed: options.allow.clone(),
        matched,
        changes: matched,
        total: matched,
        rows,
        totals: totals.finish(|c| target.columns.get(c).map_or(String::new(), |c| c.name.clone())),
        side: side.clone(),
        many: None,
        study: Study::default(),
        unmet: Vec::new(),
        leave_out: None,
        already_run: None,
        mark: None,
        undo_of: Some(run.clone()),
        conflicts: (judge.conflicts.count > 0).then(|| judge.conflicts.clone()),
        left_alone: (judge.left_alone.count > 0).then(|| judge.left_alone.clone()),
        already_back: judge.already_back,
        not_asked: judge.not_asked,
        // What taking the undo back would meet is judged when it is asked for.
        back: WayBack::default(),
        fires: false,
        stays_null: (0, Vec::new()),
    };
    if let Some(expected) = options.rows.filter(|e| !e.met(matched, matched)) {
        preview.unmet.push(crate::preview::Unmet { what: "rows", expected, found: matched });
    }
    Ok((preview, judge.seen))
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
    (preview, seen): (&Preview, Fingerprint),
    talk: &mut dyn Talk,
) -> Result<RunOutcome, Failure> {
    let statement = sentence(back);
    let record = StepRecord {
        kind: back.restore.kind,
        statement: statement.clone(),
        statement_hash: hash::texts(["undo", back.entry.receipt.run.as_str()]),
        table: 0,
        foreseen: back.foreseen.clone(),
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
    let mut session = match context.open(Intent::Write) {
        Ok(session) => session,
        Err(error) => return Ok(prepared.failed(error)),
    };
    let reader = match book.snapshot(&back.entry.receipt.run, &back.snapshot) {
        Ok(reader) => RefCell::new(reader),
        Err(error) => return Ok(prepared.failed(EngineError::Sink(Box::new(error)))),
    };
    let judge = RefCell::new(Judge::new(options, &back.restore));
    let mut keep = |change: &RowChange, now: Option<&[Value]>| Ok(judge.borrow_mut().decide(change, now));
    let hold = options.hold && options.agreement == Agreement::Ask;
    let run = || -> Result<RunOutcome, Ended> {
        let begun = prepared.begin(&mut *session)?;
        let mut differing = |tx: &mut dyn Tx| first_differing(tx, book, back);
        let marked = begun.hold_rows(&back.restore, &mut || inverse(&reader), &mut keep, &mut differing)?;
        let judge = judge.borrow();
        if judge.conflicts.count > 0 {
            return Err(marked.end(End::Conflicts(judge.conflicts.clone())));
        }
        if judge.seen != seen {
            return Err(
                marked.end(End::Changed("rows have changed since the preview of this undo".to_owned()))
            );
        }
        let proven = marked.put(&back.restore)?.prove()?;
        let proven = if hold { proven.ask(talk)? } else { proven };
        Ok(proven.commit())
    };
    Ok(run().unwrap_or_else(|ended| *ended))
}

/// The first held row that does not say what the snapshot says. Both come in the order of their numbers.
fn first_differing(tx: &mut dyn Tx, book: &dyn Logbook, back: &Back) -> Result<String, EngineError> {
    let failed = |error: marktwice_port::LogError| EngineError::Sink(Box::new(error));
    let reader = RefCell::new(book.snapshot(&back.entry.receipt.run, &back.snapshot).map_err(failed)?);
    let target = &back.restore.target;
    let mut found = None;
    let mut kept = None;
    tx.held(&mut |row| {
        while found.is_none()
            && kept.as_ref().is_none_or(|kept: &RowChange| kept.ordinal < row.ordinal)
            && let Some(next) = inverse(&reader)?
        {
            kept = Some(next);
        }
        let (Some(kept), After::Row(after), None) = (&kept, &row.after, &found) else { return Ok(()) };
        let wanted = kept.after.as_deref().unwrap_or_default();
        let looked = |cell: &CellDiff| {
            back.restore.kind != StepKind::Update || back.restore.columns.contains(&cell.column)
        };
        let cell = diff(wanted, after).into_iter().find(looked);
        found = cell.filter(|_| kept.ordinal == row.ordinal).map(|cell| {
            let name = target.columns.get(cell.column).map_or("", |c| c.name.as_str());
            let text = |value: &Value| value.to_json().to_string();
            format!(
                "row {} of {}: {name} was {} before the run, and the engine reads that back as {}",
                key_text(&row.key),
                target.table,
                text(&cell.before),
                text(&cell.after)
            )
        });
        Ok(())
    })?;
    Ok(found.unwrap_or_else(|| {
        format!(
            "what is in {} now does not read back as it was read, so nothing could be verified",
            target.table
        )
    }))
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
        schema: Some(back.restore.target.schema.clone()),
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
        partial: preview.not_asked > 0 || preview.left_alone.is_some(),
        undo_of: Some(of.run.clone()),
        agreed: if options.agreement == Agreement::Ask { "answered" } else { "run named" }.to_owned(),
        allowed: options.allow.clone(),
        findings: preview.findings.clone(),
        ..Receipt::prepared(run, RunKind::Undo, &preview.database, started, step)
    }
}
