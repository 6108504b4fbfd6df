//! The phases of a run. Each is a type that its transition consumes, so that an illegal order does not compile:
//! `Prepared` → `Begun`; for each step `Marked` → `Written` → back to `Begun`; when every step is proven `AllProven` → the
//! end. Whatever fails on the way rolls back and writes why into the receipt. A rehearsal goes the same way without a record,
//! and ends with a rollback.

use marktwice_core::Code;
use marktwice_core::along::{Along, numbered};
use marktwice_core::archive::{Archive, PutAway};
use marktwice_core::cell::diff;
use marktwice_core::change::{Change, Terms};
use marktwice_core::hash::Tally;
use marktwice_core::mark::{Comparison, Foreseen, HeldRow, MarkSummary, Marker, agreement};
use marktwice_core::moved::How;
use marktwice_core::param::Bound;
use marktwice_core::record::StepRecord;
use marktwice_core::side::SideWrite;
use marktwice_core::table::Target;
use marktwice_core::triggered::{Triggered, TriggeredReceipt};
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;
use marktwice_core::words;
use marktwice_port::{
    Batch, ChangeSource, DraftMark, EngineError, Keep, KeepSink, Matched, Overtaken, Phase, Plan, SinkError,
    SnapshotWriter, Tx,
};

use crate::broken::{afterwards, inside};
use crate::collect::{Collector, Stopped, unmet, unwrap_sink};
use crate::context::{Context, Talk};
use crate::faults::Faults;
use crate::mark::{Agreed, moved};
use crate::noticed::side_text;
use crate::outcome::{End, Failure, RunOutcome};
use crate::planned::{Planned, kept, record};

pub(crate) mod checks;
mod odd;
mod prepared;
mod proof;
mod records;
mod trial;
mod triggers;

pub(crate) use prepared::{Prepared, makings, reason};

use proof::Written;
use trial::Kept;

/// A run that ended before its commit.
pub(crate) type Ended = Box<RunOutcome>;

/// What a step of a run is to the phases: the same for an application and an undo.
#[derive(Clone)]
pub(crate) struct StepFacts {
    pub(crate) target: Target,
    /// The name under which later steps have the key of its one row, with how it is bound.
    pub(crate) keep: Option<Bound>,
    pub(crate) record: StepRecord,
    pub(crate) along: Vec<Along>,
    pub(crate) triggered: Vec<Triggered>,
    /// Where the rows are put away before they go.
    pub(crate) archive: Option<Archive>,
    /// The table that is made of them as they are.
    pub(crate) keep_copy: Option<String>,
    /// Whether definitions leave doubt that an undo would go through.
    pub(crate) doubt: bool,
    pub(crate) allowed: Vec<Code>,
    pub(crate) terms: Terms,
}

impl StepFacts {
    /// A step of a change.
    pub(crate) fn of(step: &Planned, change: &Change) -> StepFacts {
        let plan = &step.plan;
        StepFacts {
            target: plan.target.clone(),
            keep: change.terms(plan.step).keep.and_then(|name| kept(plan, &name).ok()),
            record: record(plan, 0),
            along: plan.along.clone(),
            triggered: plan.triggered.clone(),
            archive: plan.archive.clone(),
            keep_copy: None,
            doubt: plan.doubt,
            allowed: change.allowed(plan.step),
            terms: change.terms(plan.step),
        }
    }

    /// Whether rows of it are put away in a table.
    fn archives_to(&self, target: &Target) -> bool {
        self.archive.as_ref().is_some_and(|archive| archive.target.same_table(target))
    }

    fn foreseen(&self) -> &[Foreseen] {
        &self.record.foreseen
    }
}

/// In an open transaction, with so many steps proven.
pub(crate) struct Begun<'a, 's> {
    run: Prepared<'a>,
    tx: Box<dyn Tx + 's>,
    /// Opened by the first step that is proven, and written on by all of them.
    snapshot: Option<Box<dyn SnapshotWriter>>,
    proven: usize,
    /// Rows in it that are no step's own.
    beside: u64,
    /// Tables that triggers write, and that are not held.
    unheld: Vec<TriggeredReceipt>,
    /// What steps have put away, each with where.
    put_away: Vec<(Archive, PutAway)>,
    /// Rows that the engine has counted without saying where, by step: what is compared in the end has to explain them.
    to_explain: Vec<(usize, SideWrite)>,
    /// The rows that the run has changed, where its undo is to be tried.
    kept: Kept,
    /// What checks gave at the beginning that compare the end with it.
    first_answers: Vec<Option<marktwice_core::asked::Answer>>,
}

/// The end that an engine's error means while rows are held.
fn ended_by(error: EngineError) -> End {
    match error {
        EngineError::Overtaken(Overtaken::Definitions | Overtaken::Rows, what) => End::Changed(what),
        other => End::Failed(unwrap_sink(other)),
    }
}

fn roll_back(run: Prepared<'_>, tx: Box<dyn Tx + '_>, end: End, step: Option<usize>) -> Ended {
    roll_back_and(run, tx, step, |_| end)
}

/// Rolls back, and finds out why when that is done.
fn roll_back_and<'a>(
    run: Prepared<'a>,
    tx: Box<dyn Tx + '_>,
    step: Option<usize>,
    end: impl FnOnce(&Context<'a>) -> End,
) -> Ended {
    // Should ROLLBACK fail, closing the connection does it; without a COMMIT there is no other end.
    let failed = tx.rollback().err();
    let end = end(run.context);
    let mut outcome = run.ended(end, step);
    outcome
        .notes
        .extend(failed.map(|e| format!("ROLLBACK answered: {e}; closing the connection rolls back")));
    Box::new(outcome)
}

impl<'a, 's> Begun<'a, 's> {
    pub(crate) fn new(run: Prepared<'a>, tx: Box<dyn Tx + 's>) -> Self {
        let (unheld, put_away, first_answers) = (Vec::new(), Vec::new(), Vec::new());
        let (to_explain, kept) = (Vec::new(), Kept::of(&run.steps));
        Begun {
            run,
            tx,
            snapshot: None,
            proven: 0,
            beside: 0,
            unheld,
            put_away,
            to_explain,
            kept,
            first_answers,
        }
    }

    /// Ends it here, for a reason that has come up before a step is held.
    pub(crate) fn end(self, end: End) -> Ended {
        let step = self.proven;
        roll_back(self.run, self.tx, end, Some(step))
    }

    fn facts(&self) -> Option<&StepFacts> {
        self.run.steps.get(self.proven)
    }

    /// Steps 4 and 5 of a rehearsal: hold the rows, and take the first mark.
    pub(crate) fn look(
        mut self,
        plan: &Plan,
        draft: &mut dyn DraftMark,
        collector: &mut Collector<'_>,
    ) -> Result<Marked<'a, 's>, Ended> {
        self.run.context.ambient.progress(Phase::Finding, 0, None);
        let held = self.tx.hold(plan).and_then(|held| {
            self.tx.held(plan.step, &mut |row| collector.row(draft, row))?;
            collector.along(&mut *self.tx, plan, &held)?;
            Ok(held)
        });
        match held {
            Ok(held) => {
                collector.held = Some(held.clone());
                // What is foreseen and not let pass stops the change where it is previewed; here it is to be seen.
                if let Some(facts) = self.run.steps.get_mut(self.proven) {
                    facts.allowed.extend(held.side.iter().map(|write| write.how.code()));
                }
                Ok(Marked { begun: self, held, sent: None })
            }
            Err(error) => Err(self.end(ended_by(error))),
        }
    }

    /// Steps 4 and 5 of an application: hold the rows, take the second mark, compare it with the first, look at
    /// expected counts and at writes outside the rows.
    pub(crate) fn mark(
        mut self,
        plan: &Plan,
        agreed: &Agreed<'_>,
        talk: &mut dyn Talk,
    ) -> Result<Marked<'a, 's>, Ended> {
        let context = self.run.context;
        let first = agreed.totals.get(plan.step).copied().unwrap_or_default();
        let mut marker = Marker::new(plan.parts.clone());
        context.ambient.progress(Phase::Finding, 0, None);
        let stop = context.ambient.stopper();
        let held = self.tx.hold(plan).and_then(|held| {
            self.tx.held(plan.step, &mut |row| {
                marker.take(row);
                tick(context, Phase::Holding, marker.summary().matched, Some(first.matched), &*stop)
            })?;
            for (number, along, _) in numbered(plan.step, &plan.along, &held.along) {
                self.tx.held(number, &mut |row| {
                    marker.take_along(along, row);
                    tick(context, Phase::Holding, marker.summary().along.rows(), None, &*stop)
                })?;
            }
            Ok(held)
        });
        let held = match held {
            Ok(held) => held,
            Err(error) => return Err(self.end(ended_by(error))),
        };
        let summary = *marker.summary();
        match agreement(&first, &summary) {
            Comparison::Same => {}
            Comparison::UnrelatedOnly => match self.changed_elsewhere(plan, agreed) {
                Ok(notes) => {
                    notes.iter().for_each(|note| talk.tell(note));
                    self.run.receipt(|receipt| receipt.changed_elsewhere.extend(notes));
                }
                Err(error) => return Err(self.end(End::Failed(unwrap_sink(error)))),
            },
            Comparison::Along => return Err(self.end(End::Changed(other_along()))),
            Comparison::Moved => {
                return Err(match moved(agreed, &mut *self.tx, plan) {
                    Ok(moved) => self.end(End::Moved(moved)),
                    Err(error) => self.end(End::Failed(unwrap_sink(error))),
                });
            }
        }
        let terms = self.facts().map(|facts| facts.terms.clone()).unwrap_or_default();
        let unmet = unmet((terms.rows, None), held.matched, None, held.total.rows);
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
        let shown = agreed.shown.get(plan.step).map_or(&[][..], |rows| rows);
        self.tx.held(plan.step, &mut |row| {
            let key = plan.target.shown_key(&row.key);
            if !named.contains(&&key) {
                return Ok(());
            }
            let name = format!("{} {}", plan.target.table, marktwice_core::value::key_text(&key));
            let shown = shown.iter().find(|shown| shown.key == key);
            let cells = shown.map(|shown| diff(shown.image.row(), row.image.row())).unwrap_or_default();
            // What was shown of a hidden column says nothing about what it holds now.
            let seen = cells.into_iter().filter(|cell| !plan.target.hidden.contains(&cell.column));
            let cells = seen.collect::<Vec<_>>();
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
        batch: &Batch,
        source: &mut ChangeSource<'_>,
        keep: &mut KeepSink<'_>,
    ) -> Result<Marked<'a, 's>, Ended> {
        let mut sent = Readback::default();
        let (context, stop) = (self.run.context, self.run.context.ambient.stopper());
        let mut seen = 0;
        let held = self.tx.hold_rows(batch, source, &mut |change, now| {
            seen += 1;
            tick(context, Phase::Holding, seen, None, &*stop)?;
            sent.keep(change, now, keep)
        });
        match held {
            Ok(held) => {
                let matched = held.matched;
                let summary = MarkSummary { matched, changes: matched, ..MarkSummary::default() };
                let marked = self.marked(held, summary)?;
                Ok(Marked { sent: Some(sent), ..marked })
            }
            Err(error) => Err(self.end(ended_by(error))),
        }
    }

    fn marked(mut self, held: Matched, summary: MarkSummary) -> Result<Marked<'a, 's>, Ended> {
        let Some(facts) = self.facts() else { return Err(self.end(End::Failed(no_step()))) };
        if let Some(write) = first_undeclared(facts, &held.side) {
            return Err(self.end(End::SideEffects(write.0, write.1)));
        }
        if !held.back.obstacles.is_empty() && !facts.allowed.contains(&Code::NoWayBack) {
            return Err(self.end(End::Stopped(vec![Code::NoWayBack])));
        }
        let step = self.proven;
        self.run.step_receipt(step, |step| step.matched = summary.matched);
        Ok(Marked { begun: self, held, sent: None })
    }
}

/// Why a run ends whose foreign keys take others along than were seen.
pub(crate) fn other_along() -> String {
    "the rows that foreign keys take along are not those of the preview".to_owned()
}

/// A phase that was reached without a step is a mistake of ours, and nothing is written then.
fn no_step() -> Failure {
    Failure::Engine(EngineError::Other("the run has no such step".to_owned()))
}

/// Where rows come from that were sent to be held.
pub(crate) trait Sent {
    /// Says which row, and which column of it, does not read back from where it was loaded to.
    fn differing(&mut self, tx: &mut dyn Tx) -> Result<String, EngineError>;

    /// All of them, as they were sent: what was there, and what is wanted.
    fn each(&mut self, sink: &mut dyn FnMut(&RowChange)) -> Result<(), EngineError>;
}

/// Rows as they were sent, or as they were read again, in a sum that no order changes.
#[derive(Default)]
pub(crate) struct Readback {
    rows: Tally,
    buffer: Vec<u8>,
}

impl PartialEq for Readback {
    fn eq(&self, other: &Readback) -> bool {
        self.rows == other.rows
    }
}

impl Readback {
    /// Decides about a row, and adds it where it is held.
    fn keep(
        &mut self,
        change: &RowChange,
        now: Option<&[Value]>,
        keep: &mut KeepSink<'_>,
    ) -> Result<Keep, SinkError> {
        let kept = keep(change, now)?;
        match &kept {
            Keep::Hold(wanted) => self.add(change.ordinal, now, wanted.as_deref()),
            Keep::Anew(wanted) => self.add(change.ordinal, None, Some(wanted)),
            Keep::Leave => {}
        }
        Ok(kept)
    }

    fn held(&mut self, row: &HeldRow) {
        self.add(row.ordinal, row.image.before(), row.image.after());
    }

    fn add(&mut self, ordinal: i64, now: Option<&[Value]>, wanted: Option<&[Value]>) {
        let first = [Value::Int(ordinal), Value::Bool(now.is_some()), Value::Bool(wanted.is_some())];
        let all = first.iter().chain(now.unwrap_or_default()).chain(wanted.unwrap_or_default());
        self.rows.add(&mut self.buffer, all);
    }
}

/// What loads rows, and gives the number under which they can be read again.
type Loading<'a, T> = dyn FnMut(&mut dyn Tx, &mut KeepSink<'_>) -> Result<(T, usize), EngineError> + 'a;

/// Loads rows and reads them again: they are put back from there, and verified against it. `None` where they do not read back
/// as they were sent.
fn read_back<T>(
    tx: &mut dyn Tx,
    load: &mut Loading<'_, T>,
    keep: &mut KeepSink<'_>,
) -> Result<Option<T>, EngineError> {
    let (mut sent, mut loaded) = (Readback::default(), Readback::default());
    let (held, number) = load(tx, &mut |change, now| sent.keep(change, now, keep))?;
    tx.held(number, &mut |row| {
        loaded.held(row);
        Ok(())
    })?;
    Ok((sent == loaded).then_some(held))
}

fn first_undeclared(facts: &StepFacts, side: &[SideWrite]) -> Option<(String, Code)> {
    let undeclared = side
        .iter()
        .find(|write| !facts.allowed.contains(&write.how.code()) && !facts.terms.declares(write, side));
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

/// The rows of a step are held and are those that were agreed to.
pub(crate) struct Marked<'a, 's> {
    begun: Begun<'a, 's>,
    held: Matched,
    /// Rows that were sent to be held: they have to be those that are read again when they are proven.
    sent: Option<Readback>,
}

impl<'a, 's> Marked<'a, 's> {
    /// Ends it here, for a reason that the caller found while it compared.
    pub(crate) fn end(self, end: End) -> Ended {
        self.begun.end(end)
    }

    /// The end of a rehearsal that need not go on.
    pub(crate) fn end_rehearsal(self) -> Result<(), Ended> {
        self.begun.end_rehearsal()
    }

    /// Step 6: the statement, verbatim.
    pub(crate) fn execute(mut self, plan: &Plan) -> Result<Written<'a, 's>, Ended> {
        if let Err(error) = self.begun.before_triggers(&self.held.side) {
            return Err(self.end(ended_by(error)));
        }
        self.begun.run.context.ambient.progress(Phase::Executing, 0, None);
        if let Some(name) = self.begun.facts().and_then(|facts| facts.keep_copy.clone()) {
            match self.begun.tx.keep_copy(plan, &name) {
                Ok(count) if count == self.held.matched => {
                    self.begun.run.receipt(|receipt| receipt.kept_copy = Some((name, count)));
                }
                Ok(count) => {
                    let rows = words::rows(self.held.matched);
                    let what = format!("{name} holds {count} rows where {rows} match");
                    return Err(self.end(End::Verification(Faults::whole(&plan.target, what))));
                }
                Err(error) => return Err(self.end(ended_by(error))),
            }
        }
        if let Some(archive) = &self.begun.facts().and_then(|facts| facts.archive.clone()) {
            match self.begun.tx.archive(plan.step, archive) {
                Ok(count) if count == self.held.matched => {}
                Ok(count) => {
                    let rows = words::rows(self.held.matched);
                    let what =
                        format!("{count} rows were put away in {} where {rows} go", archive.target.table);
                    return Err(self.end(End::Verification(Faults::whole(&archive.target, what))));
                }
                Err(error) => return self.written(Some(plan), Err(error)),
            }
        }
        let count = self.begun.tx.execute(plan);
        self.written(Some(plan), count)
    }

    /// Step 6 of an undo: the rows, one by one.
    pub(crate) fn put(mut self, batch: &Batch) -> Result<Written<'a, 's>, Ended> {
        self.begun.run.context.ambient.progress(Phase::Restoring, 0, None);
        let count = self.begun.tx.put(batch);
        self.written(None, count)
    }

    /// Steps 6 and 7: the transaction is still ours, and constraints that wait have spoken.
    fn written(
        mut self,
        plan: Option<&Plan>,
        count: Result<u64, EngineError>,
    ) -> Result<Written<'a, 's>, Ended> {
        let step = self.begun.proven;
        // What waits may wait until the last step has put right what an earlier one leaves open.
        let last = step + 1 >= self.begun.run.steps.len();
        let tx = &mut self.begun.tx;
        let result = count.and_then(|count| {
            tx.intact()?;
            if last {
                tx.settle_constraints()?;
            }
            Ok(count)
        });
        match result {
            Ok(count) => {
                self.begun.run.step_receipt(step, |step| step.engine_count = Some(count));
                Ok(Written { begun: self.begun, held: self.held, sent: self.sent, count })
            }
            Err(EngineError::Constraint(mut broken)) => {
                let Begun { run, mut tx, .. } = self.begun;
                let rows = plan.and_then(|plan| inside(run.context, &mut *tx, plan, &broken));
                // What a step meets behind others nobody can ask once all is rolled back.
                let plan = plan.filter(|_| rows.is_none() && last && step == 0);
                Err(roll_back_and(run, tx, Some(step), |context| {
                    let rows = rows.or_else(|| plan.and_then(|plan| afterwards(context, plan, &broken)));
                    broken.message.extend(rows.map(|rows| format!(": {rows}")));
                    ended_by(EngineError::Constraint(broken))
                }))
            }
            Err(error) => Err(self.end(ended_by(error))),
        }
    }
}
