//! The phases of a run. Each is a type that its transition consumes, so that an illegal order does not compile:
//! `Prepared` → `Begun` → `Marked` → `Written` → `Proven` → the end. Whatever fails on the way rolls back and
//! writes why into the receipt.

use std::any::Any;

use marktwice_core::cell::diff;
use marktwice_core::hash::{Fingerprint, RowHash};
use marktwice_core::mark::{After, Agreement, Foreseen, MarkSummary, Marker, agreement};
use marktwice_core::moved::How;
use marktwice_core::receipt::{Receipt, RunState};
use marktwice_core::record::StepRecord;
use marktwice_core::table::Target;
use marktwice_core::value::Value;
use marktwice_core::{Code, Expect};
use marktwice_port::engine::{ChangeSource, KeepSink};
use marktwice_port::{
    EngineError, Held, Keep, Logbook, Phase, Plan, Restore, RunFolder, Session, SideWrite, Tx,
};

use crate::context::{Answer, Context, Talk};
use crate::faults::Faults;
use crate::mark::{Agreed, moved};
use crate::noticed::side_text;
use crate::outcome::{End, Failure, RunOutcome};
use crate::preview::{Change, Stopped, unmet, unwrap_sink};

mod proof;

use proof::Written;

/// A run that ended before its commit.
pub(crate) type Ended = Box<RunOutcome>;

/// What the step of a run is to the phases: the same for an application and an undo.
#[derive(Clone)]
pub(crate) struct StepFacts {
    pub(crate) target: Target,
    pub(crate) record: StepRecord,
    pub(crate) allowed: Vec<Code>,
    pub(crate) changes: Option<Expect>,
}

impl StepFacts {
    fn foreseen(&self) -> &[Foreseen] {
        &self.record.foreseen
    }
}

/// Locked, with a folder and a receipt that says `prepared`.
pub(crate) struct Prepared<'a> {
    context: &'a Context<'a>,
    folder: Box<dyn RunFolder>,
    receipt: Receipt,
    facts: StepFacts,
    _lock: Box<dyn Any>,
}

impl<'a> Prepared<'a> {
    /// Steps 1 and 2: the lock, no unsettled run, the folder, the text, the receipt.
    pub(crate) fn new(
        context: &'a Context<'a>,
        book: &dyn Logbook,
        facts: StepFacts,
        text: &str,
        make: &mut dyn FnMut(&str) -> Receipt,
    ) -> Result<Prepared<'a>, Failure> {
        let lock = book.lock()?;
        if let Some(open) = book.unsettled()?.first() {
            return Err(Failure::Unsettled { run: open.run.clone() });
        }
        if let Some(open) = book.damaged()?.into_iter().find(|d| d.open) {
            return Err(Failure::Unsettled { run: open.run });
        }
        let mut first = None;
        let stamp = context.ambient.now();
        let folder = book.begin_run(&stamp.compact, text, &mut |run| {
            let receipt = make(run);
            first = Some(receipt.clone());
            receipt
        })?;
        let receipt = first.ok_or_else(|| Failure::usage("the run has no receipt", "try again"))?;
        Ok(Prepared { context, folder, receipt, facts, _lock: lock })
    }

    /// Step 3: BEGIN.
    pub(crate) fn begin<'s>(mut self, session: &'s mut dyn Session) -> Result<Begun<'a, 's>, Ended> {
        match session.begin(self.context.ambient.stopper()) {
            Ok(tx) => {
                self.receipt.settings = tx.settings();
                Ok(Begun { run: self, tx })
            }
            Err(error) => Err(Box::new(self.ended(ended_by(error)))),
        }
    }

    /// Opening the database for writing failed.
    pub(crate) fn failed(self, error: EngineError) -> RunOutcome {
        self.ended(End::Failed(error.into()))
    }

    /// Writes the end of a run that did not commit.
    fn ended(mut self, end: End) -> RunOutcome {
        self.receipt.state = RunState::RolledBack;
        self.receipt.ended = Some(self.context.ambient.now().rfc3339);
        self.receipt.why = Some(reason(&end));
        let mut notes = Vec::new();
        if let Err(error) = self.folder.receipt(&self.receipt) {
            // The receipt on disk still says `prepared`, which means the same; the next command writes it down.
            notes.push(format!("the receipt could not be completed ({error}); the next command will"));
        }
        RunOutcome { end, receipt: Some(self.receipt), notes }
    }

    fn step_receipt(&mut self, with: impl FnOnce(&mut marktwice_core::receipt::StepReceipt)) {
        if let Some(step) = self.receipt.steps.first_mut() {
            with(step);
        }
    }
}

/// Why a run did not commit, in one sentence for its receipt.
fn reason(end: &End) -> String {
    match end {
        End::Committed | End::ReceiptIncomplete(_) => String::new(),
        End::NothingToDo(why) | End::Changed(why) | End::SideEffects(why, _) => why.clone(),
        End::Stopped(codes) => {
            format!("stopped by {}", codes.iter().map(|c| c.as_str()).collect::<Vec<_>>().join(", "))
        }
        End::Expectation(all) => all
            .iter()
            .map(|u| format!("{}: {} expected, {} found", u.what, u.expected, u.found))
            .collect::<Vec<_>>()
            .join("; "),
        End::Moved(moved) => format!("{} rows have moved since the preview", moved.total()),
        End::Conflicts(conflicts) => format!("{} rows have changed since the run", conflicts.count),
        End::Verification(faults) => match &faults.whole {
            Some(whole) => whole.clone(),
            None => format!("{} rows are not as they should be after the statement", faults.count),
        },
        End::Declined(Answer::TooLate) => "nobody answered in time".to_owned(),
        End::Declined(_) => "declined".to_owned(),
        End::Failed(failure) => failure.to_string(),
        End::Unknown(error) => error.to_string(),
    }
}

/// In an open transaction.
pub(crate) struct Begun<'a, 's> {
    run: Prepared<'a>,
    tx: Box<dyn Tx + 's>,
}

/// The end that an engine's error means while rows are held.
fn ended_by(error: EngineError) -> End {
    match error {
        EngineError::SchemaChanged(what) | EngineError::Moved(what) => End::Changed(what),
        other => End::Failed(unwrap_sink(other)),
    }
}

fn roll_back(run: Prepared<'_>, tx: Box<dyn Tx + '_>, end: End) -> Ended {
    // Should ROLLBACK fail, closing the connection does it; without a COMMIT there is no other end.
    let failed = tx.rollback().err();
    let mut outcome = run.ended(end);
    outcome
        .notes
        .extend(failed.map(|e| format!("ROLLBACK answered: {e}; closing the connection rolls back")));
    Box::new(outcome)
}

impl<'a, 's> Begun<'a, 's> {
    fn end(self, end: End) -> Ended {
        roll_back(self.run, self.tx, end)
    }

    /// Steps 4 and 5 of an application: hold the rows, take the second mark, compare it with the first, look at
    /// expected counts and at writes outside the rows.
    pub(crate) fn mark(
        mut self,
        plan: &Plan,
        change: &Change,
        agreed: &Agreed<'_>,
        talk: &mut dyn Talk,
    ) -> Result<Marked<'a, 's>, Ended> {
        let context = self.run.context;
        let mut marker = Marker::new(plan.parts.clone());
        let stop = context.ambient.stopper();
        let held = self.tx.hold(plan, &mut |row| {
            marker.take(row);
            tick(context, Phase::Holding, marker.summary().matched, Some(agreed.summary.matched), &*stop)
        });
        let held = match held {
            Ok(held) => held,
            Err(error) => return Err(self.end(ended_by(error))),
        };
        let summary = *marker.summary();
        match agreement(&agreed.summary, &summary) {
            Agreement::Same => {}
            Agreement::UnrelatedOnly => match self.changed_elsewhere(plan, agreed) {
                Ok(notes) => {
                    for note in notes {
                        talk.tell(&note);
                        self.run.receipt.settings.push(note);
                    }
                }
                Err(error) => return Err(self.end(End::Failed(unwrap_sink(error)))),
            },
            Agreement::Moved => {
                return Err(match moved(agreed, &mut *self.tx, plan) {
                    Ok(moved) => self.end(End::Moved(moved)),
                    Err(error) => self.end(End::Failed(unwrap_sink(error))),
                });
            }
        }
        let unmet = unmet(change, held.matched, None, held.total);
        if !unmet.is_empty() {
            return Err(self.end(End::Expectation(unmet)));
        }
        self.marked(held, summary)
    }

    /// What somebody has changed since the preview in columns that do not matter to the statement: by row and column, with
    /// what it was where the preview showed it.
    fn changed_elsewhere(&mut self, plan: &Plan, agreed: &Agreed<'_>) -> Result<Vec<String>, EngineError> {
        let moved = moved(agreed, &mut *self.tx, plan)?;
        let named: Vec<&Vec<Value>> =
            moved.named.iter().filter(|m| m.how == How::Elsewhere).map(|m| &m.key).collect();
        let mut notes = Vec::new();
        let text = |value: &Value| value.to_json().to_string();
        self.tx.held(&mut |row| {
            if !named.contains(&&row.key) {
                return Ok(());
            }
            let name = format!("{} {}", plan.target.table, crate::undo::key_text(&row.key));
            let shown = agreed.shown.iter().find(|shown| shown.key == row.key);
            let cells = shown.map(|shown| diff(&shown.before, &row.before)).unwrap_or_default();
            for cell in cells.iter().filter(|cell| plan.parts.rest.contains(&cell.column)) {
                let column = plan.target.columns.get(cell.column).map_or("", |c| c.name.as_str());
                let (was, now) = (text(&cell.before), text(&cell.after));
                notes.push(format!("since the preview somebody changed {name}: {column} was {was} and is {now}"));
            }
            if cells.is_empty() {
                notes.push(format!(
                    "since the preview somebody changed {name}, in a column that the statement neither reads nor writes"
                ));
            }
            Ok(())
        })?;
        let more = moved.elsewhere.saturating_sub(named.len() as u64);
        if more > 0 {
            notes.push(format!("and {more} more rows so"));
        }
        Ok(notes)
    }

    /// The same for an undo: hold the rows that are to be put back; the caller decides about each in `keep`.
    pub(crate) fn hold_rows(
        mut self,
        restore: &Restore,
        source: &mut ChangeSource<'_>,
        keep: &mut KeepSink<'_>,
        differing: &mut Differing<'_>,
    ) -> Result<Marked<'a, 's>, Ended> {
        let mut sent = Readback::default();
        let held = self.tx.hold_rows(restore, source, &mut |change, now| {
            let kept = keep(change, now)?;
            if let Keep::Hold(wanted) = &kept {
                sent.add(change.ordinal, now, wanted.as_deref());
            }
            Ok(kept)
        });
        // What was loaded is read again: the rows are put back from there, and verified against it.
        let mut loaded = Readback::default();
        let again = held.and_then(|held| {
            self.tx.held(&mut |row| {
                let before = Some(row.before.as_slice()).filter(|b| !b.is_empty());
                let after = match &row.after {
                    After::Row(after) => Some(after.as_slice()),
                    After::Gone => None,
                };
                loaded.add(row.ordinal, before, after);
                Ok(())
            })?;
            Ok(held)
        });
        match again {
            Ok(_) if sent != loaded => {
                let what = match differing(&mut *self.tx) {
                    Ok(what) => what,
                    Err(error) => return Err(self.end(ended_by(error))),
                };
                let faults = Faults::whole(&self.run.facts.target, what);
                Err(self.end(End::Verification(faults)))
            }
            Ok(held) => {
                let matched = held.matched;
                self.marked(held, MarkSummary { matched, changes: matched, ..MarkSummary::default() })
            }
            Err(error) => Err(self.end(ended_by(error))),
        }
    }

    fn marked(mut self, held: Held, summary: MarkSummary) -> Result<Marked<'a, 's>, Ended> {
        if let Some(write) = first_undeclared(&self.run.facts, &held.side) {
            return Err(self.end(End::SideEffects(write.0, write.1)));
        }
        if !held.back.obstacles.is_empty() && !self.run.facts.allowed.contains(&Code::NoWayBack) {
            return Err(self.end(End::Stopped(vec![Code::NoWayBack])));
        }
        self.run.step_receipt(|step| step.matched = summary.matched);
        Ok(Marked { run: self.run, tx: self.tx, held })
    }
}

/// Says which row, and which column of it, does not read back from where it was loaded to.
pub(crate) type Differing<'a> = dyn FnMut(&mut dyn Tx) -> Result<String, EngineError> + 'a;

/// Rows as they were sent, or as they were read again, in a sum that no order changes.
#[derive(Default, PartialEq, Eq)]
struct Readback {
    rows: Fingerprint,
    buffer: Vec<u8>,
}

impl Readback {
    fn add(&mut self, ordinal: i64, now: Option<&[Value]>, wanted: Option<&[Value]>) {
        let first = [Value::Int(ordinal), Value::Bool(now.is_some()), Value::Bool(wanted.is_some())];
        let all = first.iter().chain(now.unwrap_or_default()).chain(wanted.unwrap_or_default());
        self.rows.add(&RowHash::with(&mut self.buffer, all));
        self.buffer.clear();
    }
}

fn first_undeclared(facts: &StepFacts, side: &[SideWrite]) -> Option<(String, Code)> {
    let undeclared = side.iter().find(|write| !facts.allowed.contains(&write.how.code()));
    undeclared.map(|write| (side_text(write), write.how.code()))
}

/// Shows progress and looks whether somebody asked to stop, now and then.
fn tick(
    context: &Context<'_>,
    phase: Phase,
    done: u64,
    of: Option<u64>,
    stop: &(dyn Fn() -> bool + Send + Sync),
) -> Result<(), marktwice_port::SinkError> {
    if done.is_multiple_of(4096) {
        context.ambient.progress(phase, done, of);
        if stop() {
            return Err(Box::new(Stopped));
        }
    }
    Ok(())
}

/// The rows are held and are those that were agreed to.
pub(crate) struct Marked<'a, 's> {
    run: Prepared<'a>,
    tx: Box<dyn Tx + 's>,
    held: Held,
}

impl<'a, 's> Marked<'a, 's> {
    /// Ends it here, for a reason that the caller found while it compared.
    pub(crate) fn end(self, end: End) -> Ended {
        roll_back(self.run, self.tx, end)
    }

    /// Step 6: the statement, verbatim.
    pub(crate) fn execute(mut self, plan: &Plan) -> Result<Written<'a, 's>, Ended> {
        self.run.context.ambient.progress(Phase::Executing, 0, None);
        let count = self.tx.execute(plan);
        self.written(count)
    }

    /// Step 6 of an undo: the rows, one by one.
    pub(crate) fn put(mut self, restore: &Restore) -> Result<Written<'a, 's>, Ended> {
        self.run.context.ambient.progress(Phase::Restoring, 0, None);
        let count = self.tx.put(restore);
        self.written(count)
    }

    /// Steps 6 and 7: the transaction is still ours, and constraints that wait have spoken.
    fn written(mut self, count: Result<u64, EngineError>) -> Result<Written<'a, 's>, Ended> {
        let result = count.and_then(|count| {
            self.tx.intact()?;
            self.tx.settle_constraints()?;
            Ok(count)
        });
        match result {
            Ok(count) => {
                self.run.step_receipt(|step| step.engine_count = Some(count));
                Ok(Written { run: self.run, tx: self.tx, held: self.held, count })
            }
            Err(error) => Err(self.end(ended_by(error))),
        }
    }
}
