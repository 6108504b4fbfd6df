//! The last phases of a run: every row of a step is judged and goes into the snapshot; when that is so of all steps the
//! snapshot is finished, and only the commit is left.

use marktwice_core::Code;
use marktwice_core::along::{AlongReceipt, numbered};
use marktwice_core::archive::PutAway;
use marktwice_core::change::AlreadySo;
use marktwice_core::check::CheckFound;
use marktwice_core::image::{Image, Place, Role};
use marktwice_core::mark::{Foreseen, HeldRow, StepKind};
use marktwice_core::param::Bound;
use marktwice_core::receipt::{Came, RunState};
use marktwice_core::side::{AlsoWrites, ELSEWHERE, SideWrite};
use marktwice_core::table::{KeyKind, Target};
use marktwice_core::triggered::Triggered;
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;
use marktwice_core::verify::{Fate, judge};
use marktwice_core::witness::Witness;
use marktwice_port::{CommitOutcome, CommitState, EngineError, Matched, Phase, SnapshotWriter, Tx};

use super::odd::Odd;
use super::prepared::Record;
use super::records::Records;
use super::{
    Begun, Ended, Prepared, Readback, Sent, StepFacts, ended_by, first_undeclared, no_step, roll_back, tick,
};
use crate::collect::{Collector, unwrap_sink};
use crate::context::{Answer, Question, Talk};
use crate::faults::Faults;
use crate::outcome::{End, Failure, RunOutcome};
use crate::preview::Unmet;

/// The statement of a step ran; nothing of it is proven yet.
pub(crate) struct Written<'a, 's> {
    pub(super) begun: Begun<'a, 's>,
    pub(super) held: Matched,
    pub(super) sent: Option<Readback>,
    pub(super) count: u64,
}

/// Rows that are proven in one pass: a step's own, or those of a table that it takes along.
struct Rows<'a> {
    number: usize,
    along: Option<usize>,
    target: &'a Target,
    foreseen: &'a [Foreseen],
}

/// What one pass over the pairs of a step has found.
struct Pass {
    faults: Faults,
    /// Rows that came in, less those that went.
    net: i64,
    pairs: u64,
    changed: u64,
    /// The keys of the first rows that came in.
    came: Vec<Vec<serde_json::Value>>,
}

/// Rows that came in whose keys are told.
const NAMED: usize = 10;

impl<'a, 's> Written<'a, 's> {
    fn end(self, end: End) -> Ended {
        self.begun.end(end)
    }

    /// Steps 8 and 9: one paired pass verifies every row and writes it into the snapshot; the counts are compared as
    /// evidence; the transaction is still ours. The next step may then be held.
    pub(crate) fn prove(self) -> Result<Begun<'a, 's>, Ended> {
        self.prove_to(None)
    }

    /// The same where rows were sent to be held: what was held of them is what was sent, or it is said which one is not.
    pub(crate) fn prove_sent(self, source: &mut dyn Sent) -> Result<Begun<'a, 's>, Ended> {
        self.prove_with(None, Some(source))
    }

    /// The same before the eyes of a rehearsal.
    pub(crate) fn prove_to(self, looking: Option<&mut Collector<'_>>) -> Result<Begun<'a, 's>, Ended> {
        self.prove_with(looking, None)
    }

    fn prove_with(
        mut self,
        mut looking: Option<&mut Collector<'_>>,
        mut source: Option<&mut dyn Sent>,
    ) -> Result<Begun<'a, 's>, Ended> {
        let step = self.begun.proven;
        let Some(facts) = self.begun.facts().cloned() else { return Err(self.end(End::Failed(no_step()))) };
        let own = Rows { number: step, along: None, target: &facts.target, foreseen: facts.foreseen() };
        let sent = self.sent.take();
        let mut loaded = sent.is_some().then(Readback::default);
        let eyes = (looking.as_deref_mut(), loaded.as_mut());
        let passed = match &mut source {
            Some(source) => self.pass(&own, self.held.matched, eyes, Some(&mut **source)),
            None => self.pass(&own, self.held.matched, eyes, None),
        };
        // What is wrong with a row that was held as another one is that, whatever has come of it.
        let judged = !matches!(passed.as_ref().map_err(|end| &**end), Err(End::Failed(_)));
        if let Some(source) = source.filter(|_| judged && sent != loaded) {
            return Err(match source.differing(&mut *self.begun.tx) {
                Ok(what) => self.end(End::Verification(Faults::whole(&facts.target, what))),
                Err(error) => self.end(ended_by(error)),
            });
        }
        let mut pass = match passed {
            Ok(pass) => pass,
            Err(end) => return Err(self.end(*end)),
        };
        let mut net = pass.net;
        let mut taken = Vec::new();
        let counts = self.held.along.clone();
        for (nth, (number, along, count)) in numbered(step, &facts.along, &counts).enumerate() {
            let rows = Rows { number, along: Some(nth), target: &along.target, foreseen: &along.foreseen };
            let pass = match self.pass(&rows, count.rows(), (None, None), None) {
                Ok(pass) => pass,
                Err(end) => return Err(self.end(*end)),
            };
            net += if along.target.same_table(&facts.target) { pass.net } else { 0 };
            self.begun.beside += pass.pairs;
            if pass.changed > 0 {
                let changed = pass.changed.saturating_sub(count.deleted);
                let table = along.target.table.clone();
                taken.push(AlongReceipt { table, deleted: count.deleted, changed });
            }
        }
        self.begun.run.step_receipt(step, |step| step.along = taken);
        match self.whole(&facts, net) {
            Ok(None) => {}
            Ok(Some(what)) => {
                return Err(self.end(End::Verification(Faults::whole(&facts.target, what))));
            }
            Err(error) => return Err(self.end(End::Failed(error.into()))),
        }
        if facts.terms.already_so == Some(AlreadySo::Refuse) && pass.changed < self.held.matched {
            return Err(self.end(End::Stopped(vec![Code::AlreadySo])));
        }
        let expected = facts.terms.changes.filter(|e| !e.met(pass.changed, self.held.matched));
        if let Some(expected) = expected {
            let unmet = Unmet { what: "changes", expected, found: pass.changed };
            return Err(self.end(End::Expectation(vec![unmet])));
        }
        match self.effects(&facts, looking.as_deref_mut()) {
            Ok(None) => {}
            Ok(Some((what, code))) => return Err(self.end(End::SideEffects(what, code))),
            Err(error) => return Err(self.end(ended_by(error))),
        }
        // Where something else was let pass that writes the same table, nobody can say so.
        let table = &facts.target.table;
        let alone = |writes: &[SideWrite]| {
            // Rows of which nobody says where they are may be its own.
            let own = |w: &SideWrite| w.table.eq_ignore_ascii_case(table) || w.table == ELSEWHERE;
            writes.iter().all(|w| !own(w) && w.how.code() != Code::UnmeasuredWrite)
        };
        let own = if facts.record.kind == StepKind::Insert { 0 } else { self.held.matched };
        let (total, others) = (self.held.total, self.held.total.without(own));
        // That there are none is known only where they were counted.
        let others = others.map(|others| others.rows).or((!total.about).then_some(0));
        let held_alone = alone(&self.held.side);
        let came = std::mem::take(&mut pass.came);
        if facts.record.kind == StepKind::Insert && !came.is_empty() {
            let columns = facts.target.key.names.clone();
            self.begun.run.step_receipt(step, |step| step.came = Some(Came { columns, keys: came }));
        }
        self.begun.run.step_receipt(step, |step| {
            step.untouched = others.filter(|_| held_alone && alone(&step.also_written));
            step.about = total.about && step.untouched.is_some();
        });
        let mut checks = Vec::new();
        for check in &facts.terms.each {
            match self.begun.tx.each(step, check) {
                Ok(mut found) => {
                    found.hide(&facts.target);
                    checks.push(found);
                }
                Err(error) => return Err(self.end(ended_by(error))),
            }
        }
        let failing: Vec<CheckFound> = checks.iter().filter(|found| found.failing > 0).cloned().collect();
        if let Some(collector) = &mut looking {
            collector.checks.clone_from(&checks);
        }
        self.begun.run.step_receipt(step, |step| step.checks = checks);
        if !failing.is_empty() {
            return Err(self.end(End::Checks(facts.target.table.clone(), failing)));
        }
        if let Err(error) = self.begun.tx.intact() {
            return Err(self.end(End::Failed(error.into())));
        }
        self.begun.run.step_receipt(step, |step| step.changed = pass.changed);
        if let Some(keep) = &facts.keep
            && let Err(error) = self.keep(keep)
        {
            return Err(self.end(End::Failed(error.into())));
        }
        self.begun.proven += 1;
        Ok(self.begun)
    }

    /// Gives the key of the step's one row to the steps behind it.
    fn keep(&mut self, keep: &Bound) -> Result<(), EngineError> {
        let mut keys: Vec<Vec<Value>> = Vec::new();
        self.begun.tx.held(self.begun.proven, &mut |row| {
            keys.push(row.key.clone());
            Ok(())
        })?;
        let [key] = keys.as_slice() else {
            return Err(EngineError::Other(format!(
                "{} rows came in, and :{} is the key of one",
                keys.len(),
                keep.name
            )));
        };
        let value = key.first().filter(|value| !value.is_null()).cloned();
        let value = value
            .ok_or_else(|| EngineError::Other(format!("nobody knows the key that is :{}", keep.name)))?;
        self.begun.tx.bind(Bound { value, ..keep.clone() })
    }

    /// Step 9: writes that were measured. One that nobody declared ends the run; one that was let pass stands in the
    /// receipt.
    fn effects(
        &mut self,
        facts: &StepFacts,
        looking: Option<&mut Collector<'_>>,
    ) -> Result<Option<(String, Code)>, EngineError> {
        let step = self.begun.proven;
        let mut measured = self.begun.tx.effects(step)?;
        // What is put away is compared row by row in the end.
        if let Some(archive) = &facts.archive {
            let is_it =
                |table: &&Triggered| table.target.as_ref().is_ok_and(|t| t.same_table(&archive.target));
            let shown = facts.triggered.iter().find(is_it).map(|table| table.shown.as_str());
            measured.retain(|write| Some(write.table.as_str()) != shown);
        }
        if let Some(collector) = looking {
            collector.measured(&measured);
        }
        let all_declared = facts.terms.declares_all(&self.held.side);
        let nameless = measured.iter().find(|write| write.table == ELSEWHERE).filter(|_| all_declared);
        // What a trigger writes in the table itself is compared with the step's own rows.
        let bare = |table: &str| table.rsplit('.').next().unwrap_or(table).to_ascii_lowercase();
        let own = self.held.side.iter().any(|write| bare(&write.table) == bare(&facts.target.table));
        if let Some(write) = nameless.filter(|_| !own).cloned() {
            self.begun.to_explain.push((step, write));
        }
        // A table that was made here holds copies, and was counted.
        if let Some(name) = &facts.keep_copy {
            let made = AlsoWrites { table: name.clone(), rows: None };
            let bare = AlsoWrites { table: name.rsplit('.').next().unwrap_or(name).to_owned(), rows: None };
            // The engine may write the name with quotes.
            let plain = |table: &str| table.replace(['"', '`'], "");
            measured.retain(|write| {
                let table = plain(&write.table);
                !made.names(&write.table)
                    && !bare.names(&write.table)
                    && table != *name
                    && table != bare.table
            });
        }
        // What is compared row by row in the end is counted then, each row once.
        let later = |write: &SideWrite| {
            let mut declared = facts.terms.also_writes.iter().filter(|d| d.rows.is_some());
            declared.any(|d| d.names(&write.table) && self.begun.counted_in_the_end(d))
        };
        let counted = measured.iter().filter(|write| !(all_declared && write.table == ELSEWHERE));
        let counted = counted.filter(|write| !later(write)).cloned();
        if let Some(write) = first_undeclared(facts, &counted.collect::<Vec<_>>()) {
            return Ok(Some(write));
        }
        if let Some(write) = self.uncounted(facts, &measured) {
            return Ok(Some(write));
        }
        self.begun.run.step_receipt(step, |step| step.also_written.extend(measured));
        Ok(None)
    }

    /// A declared number of rows that nothing here has counted, or that is another.
    fn uncounted(&self, facts: &StepFacts, measured: &[SideWrite]) -> Option<(String, Code)> {
        for declared in &facts.terms.also_writes {
            let Some(rows) = declared.rows else { continue };
            // Rows that are compared once all steps have run are counted then, each once.
            if self.begun.counted_in_the_end(declared) {
                continue;
            }
            let of = |writes: &[SideWrite]| -> Vec<SideWrite> {
                writes.iter().filter(|write| declared.names(&write.table)).cloned().collect()
            };
            let counted = match (of(&self.held.side), of(measured)) {
                (foreseen, measured)
                    if measured.is_empty() && foreseen.iter().all(|write| write.rows.is_some()) =>
                {
                    Some(foreseen.iter().filter_map(|write| write.rows).sum())
                }
                (_, measured) if !measured.is_empty() => measured.iter().map(|write| write.rows).sum(),
                _ => self.begun.tx.counts_tables().then_some(0),
            };
            let table = &declared.table;
            match counted {
                Some(n) if rows.met(n, n) => {}
                Some(n) => {
                    let what = format!("{n} rows of {table} were written, where {rows} were declared");
                    return Some((what, Code::UndeclaredWrite));
                }
                None => {
                    let what = format!(
                        "how many rows of {table} were written is not counted here; declare it without a number"
                    );
                    return Some((what, Code::UndeclaredWrite));
                }
            }
        }
        None
    }

    /// The run's snapshot, opened by the first step that comes here.
    fn snapshot(&mut self) -> Result<(), Failure> {
        let Some(record) = &mut self.begun.run.record else { return Ok(()) };
        if self.begun.snapshot.is_none() {
            let header = self.begun.run.records.header(&record.receipt);
            self.begun.snapshot = Some(record.folder.snapshot(&header)?);
        }
        Ok(())
    }

    /// One pass over the pairs of some rows: all of them must be as they should be.
    fn pass(
        &mut self,
        rows: &Rows<'_>,
        matched: u64,
        (mut looking, mut loaded): (Option<&mut Collector<'_>>, Option<&mut Readback>),
        source: Option<&mut dyn Sent>,
    ) -> Result<Pass, Box<End>> {
        self.snapshot().map_err(End::Failed)?;
        let step = self.begun.proven;
        let Records { steps, along: taken, .. } = &self.begun.run.records;
        let (table, role) = match rows.along {
            None => (steps.get(step).map(|record| record.table), Role::Target),
            Some(nth) => {
                let mut taken = taken.iter().filter(|a| a.step == step && a.role == Role::Cascade);
                (taken.nth(nth).map(|a| a.table), Role::Cascade)
            }
        };
        let place = Place { step, table: table.unwrap_or_default(), role };
        let Begun { run, tx, snapshot, put_away, kept, .. } = &mut self.begun;
        let context = run.context;
        let stop = context.ambient.stopper();
        let mut pass =
            Pass { faults: Faults::none(rows.target), net: 0, pairs: 0, changed: 0, came: Vec::new() };
        let facts = run.steps.get(step);
        let archive = facts.and_then(|facts| facts.archive.clone()).filter(|_| rows.along.is_none());
        let mut put_away = archive.as_ref().map(|archive| {
            let known = put_away.iter().position(|(to, _)| to.fills_like(archive));
            let at = known.unwrap_or_else(|| {
                put_away.push((archive.clone(), PutAway::default()));
                put_away.len() - 1
            });
            (archive, put_away.get_mut(at))
        });
        let mut odd = Odd::default();
        let mut buffer = Vec::new();
        tx.pair(rows.number, &mut |held, now| {
            pass.pairs += 1;
            // What is not held is as it was where the sum says so, and told from what is there then.
            let whole = match (&held.rest, now) {
                (Some(_), Some(now)) => match held.completed(&mut buffer, now) {
                    Some(whole) => Some(whole),
                    None => {
                        odd.add(held, now);
                        return tick(context, Phase::Proving, pass.pairs, Some(matched), &*stop);
                    }
                },
                _ => None,
            };
            let held = whole.as_ref().unwrap_or(held);
            if let Some(loaded) = &mut loaded {
                loaded.held(held);
            }
            if let Some(collector) = looking.as_deref_mut() {
                collector.became(held, now);
            }
            if let (Some((archive, Some((_, away)))), Some(before)) = (&mut put_away, held.image.before()) {
                away.add(archive.columns.iter().map(|(own, _)| before.get(*own)));
            }
            match judge(rows.foreseen, held, now) {
                Ok(fate) => {
                    pass.changed += u64::from(fate != Fate::Same);
                    if fate == Fate::Inserted
                        && pass.came.len() < NAMED
                        && rows.along.is_none()
                        && !rows.target.hides_key()
                    {
                        pass.came.push(held.key.iter().map(Value::to_json).collect());
                    }
                    pass.net += match fate {
                        Fate::Inserted => 1,
                        Fate::Deleted => -1,
                        Fate::Changed | Fate::Same => 0,
                    };
                    // Once a row is not as it should be, all is rolled back, and the snapshot goes with it.
                    let keeps = kept.wants() && fate != Fate::Same;
                    if pass.faults.count + odd.count == 0 && (keeps || snapshot.is_some()) {
                        let row = row_change(place, rows.target, held, now);
                        if keeps && let Some(row) = &row {
                            kept.add(row.clone());
                        }
                        if let (Some(snapshot), Some(row)) = (snapshot.as_mut(), row) {
                            snapshot.row(row)?;
                        }
                    }
                }
                Err(fault) => pass.faults.add(&held.key, fault),
            }
            tick(context, Phase::Proving, pass.pairs, Some(matched), &*stop)
        })
        .map_err(|error| End::Failed(unwrap_sink(error)))?;
        if odd.count > 0 {
            odd.judge(rows.foreseen, source, &mut pass.faults)
                .map_err(|error| End::Failed(unwrap_sink(error)))?;
        }
        if pass.faults.count > 0 {
            return Err(Box::new(End::Verification(pass.faults)));
        }
        if pass.pairs != matched {
            let read = pass.pairs;
            let message =
                format!("{matched} rows of {} were held and {read} were read again", rows.target.table);
            return Err(Box::new(End::Failed(EngineError::Other(message).into())));
        }
        Ok(pass)
    }

    /// Counts as evidence: the engine wrote no more rows than were marked, and the table has as many rows as it
    /// should. Where side effects on the same table were allowed, its size proves nothing.
    fn whole(&mut self, facts: &StepFacts, net: i64) -> Result<Option<String>, EngineError> {
        let (matched, count) = (self.held.matched, self.count);
        if count > matched {
            return Ok(Some(format!("the statement wrote {count} rows where {matched} were marked")));
        }
        let table = &facts.target.table;
        if self.held.side.iter().any(|write| !write.held && write.table.eq_ignore_ascii_case(table)) {
            return Ok(None);
        }
        // A table that is large is not counted: what the engine says it wrote, and each row, are the evidence.
        if self.held.total.about {
            return Ok(None);
        }
        let expected = self.held.total.rows.saturating_add_signed(net);
        let found = self.begun.tx.total(self.begun.proven)?;
        Ok((found != expected)
            .then(|| format!("{table} has {found} rows where {expected} were to be expected")))
    }
}

/// The snapshot's record of one row; `None` for one that is nowhere.
pub(super) fn row_change(
    place: Place,
    target: &Target,
    held: &HeldRow,
    now: Option<&[Value]>,
) -> Option<RowChange> {
    let key_now = match (now, target.key.kind) {
        (Some(now), KeyKind::Primary | KeyKind::Unique) => {
            Some(target.key.columns.iter().filter_map(|&at| now.get(at).cloned()).collect::<Vec<_>>())
        }
        (Some(now), KeyKind::WholeRow) => Some(now.to_vec()),
        _ => None,
    };
    let before = held.image.before().map(<[Value]>::to_vec);
    Some(RowChange {
        place,
        ordinal: held.ordinal,
        key: held.key.clone(),
        key_after: key_now.filter(|key| *key != held.key),
        image: Image::of(before, now.map(<[Value]>::to_vec))?,
    })
}

impl<'a, 's> Begun<'a, 's> {
    /// Step 8, its end: every step is proven, and the snapshot is synced, named and read back.
    pub(crate) fn finish(mut self) -> Result<AllProven<'a, 's>, Ended> {
        if let Err(end) = self.fired(None) {
            return Err(self.end(*end));
        }
        if let Err(error) = self.tx.would_commit() {
            return Err(self.end(ended_by(error)));
        }
        if let Err(end) = self.try_undo() {
            return Err(self.over(*end));
        }
        if let Err(end) = self.ask_last() {
            return Err(self.over(*end));
        }
        let (proven, snapshot) = (self.proven, self.snapshot.take());
        let whole = proven == self.run.steps.len();
        let (Some(snapshot), true) = (snapshot, whole) else { return Err(self.end(End::Failed(no_step()))) };
        self.run.context.ambient.progress(Phase::ReadingBack, 0, None);
        let (reference, totals) = match SnapshotWriter::finish(snapshot) {
            Ok(done) => done,
            Err(error) => return Err(self.end(End::Failed(error.into()))),
        };
        let receipt = self.run.record.as_ref().map(|record| &record.receipt);
        let matched = receipt.map_or(0, |receipt| receipt.rows().0) + self.beside;
        if totals.rows != matched {
            let message = format!("{matched} rows were held and {} are in the snapshot", totals.rows);
            return Err(self.end(End::Failed(EngineError::Other(message).into())));
        }
        let Begun { mut run, tx, .. } = self;
        // Of rows with a secret only the snapshot tells anything: without a key they could be tried out.
        let hides = run.records.tables.iter().any(|table| !table.hidden.is_empty());
        run.receipt(|receipt| {
            receipt.before = Some(totals.before).filter(|_| !hides);
            receipt.after = Some(totals.after).filter(|_| !hides);
            receipt.snapshot = Some(reference);
        });
        let Some(record) = run.record.take() else {
            return Err(roll_back(run, tx, End::Failed(no_step()), None));
        };
        Ok(AllProven { run, record, tx })
    }

    /// The end of an undo's rehearsal: constraints that only COMMIT looks at are asked, and nothing of it is left.
    pub(crate) fn end_undo_rehearsal(mut self) -> Result<(), Ended> {
        match self.tx.would_commit() {
            Ok(()) => self.end_rehearsal(),
            Err(error) => Err(self.end(ended_by(error))),
        }
    }

    /// The end of a rehearsal: nothing of it is left.
    pub(crate) fn end_rehearsal(self) -> Result<(), Ended> {
        match self.tx.rollback() {
            Ok(()) => Ok(()),
            Err(error) => Err(Box::new(self.run.ended(ended_by(error), None))),
        }
    }
}

/// Everything is proven; only the commit is left.
pub(crate) struct AllProven<'a, 's> {
    run: Prepared<'a>,
    record: Record,
    tx: Box<dyn Tx + 's>,
}

impl<'a, 's> AllProven<'a, 's> {
    fn roll_back(mut self, end: End) -> Ended {
        self.run.record = Some(self.record);
        roll_back(self.run, self.tx, end, None)
    }

    /// Step 10: asks inside the open transaction and asserts again that it is still ours.
    pub(crate) fn ask(mut self, talk: &mut dyn Talk) -> Result<AllProven<'a, 's>, Ended> {
        let (matched, changed) = self.record.receipt.rows();
        let answer = talk.ask(&Question::Inside { run: &self.record.receipt.run, matched, changed });
        if answer != Answer::Yes {
            return Err(self.roll_back(End::Declined(answer)));
        }
        match self.tx.intact() {
            Ok(()) => Ok(self),
            Err(error) => Err(self.roll_back(End::Failed(error.into()))),
        }
    }

    /// The row that was left by the run that this one takes back, where it takes all of it back.
    fn undone(&self) -> Option<String> {
        let receipt = &self.record.receipt;
        let of = receipt.undo_of.as_ref().filter(|_| !receipt.partial)?;
        let receipts = (self.run.context.book)(&receipt.database).ok()?.receipts().ok()?;
        let undone = receipts.into_iter().find(|known| known.run == *of)?;
        undone.witness.map(|witness| witness.id)
    }

    /// Steps 11 to 13: `committing` on disk, COMMIT, and the receipt in its final state.
    pub(crate) fn commit(mut self) -> RunOutcome {
        if (self.run.context.ambient.stopper())() {
            return *self.roll_back(End::Failed(EngineError::Interrupted.into()));
        }
        if let Some(table) = self.run.context.witness {
            let witness = Witness::in_table(table);
            let row = witness.row(&self.record.receipt, self.undone());
            if let Err(error) = self.tx.leave(table, row).and_then(|()| self.tx.intact()) {
                let what = format!("no row could be left in {table}, the witness: {error}");
                return *self.roll_back(End::Failed(EngineError::Other(what).into()));
            }
            self.record.receipt.witness = Some(witness);
        }
        self.record.receipt.token = self.tx.token();
        self.record.receipt.state = RunState::Committing;
        self.record.receipt.scrub(&self.run.secrets);
        let ambient = self.run.context.ambient;
        ambient.commit_state(CommitState::Asked);
        if let Err(error) = self.record.folder.receipt(&self.record.receipt) {
            let ended = self.roll_back(End::Failed(error.into()));
            ambient.commit_state(CommitState::NotAsked);
            return *ended;
        }
        let AllProven { mut run, record, tx } = self;
        ambient.progress(Phase::Committing, 0, None);
        match tx.commit() {
            CommitOutcome::Committed => {
                ambient.commit_state(CommitState::Answered);
                let Record { mut folder, mut receipt, _lock } = record;
                receipt.state = RunState::Committed;
                receipt.ended = Some(run.context.ambient.now().rfc3339);
                let end = match folder.receipt(&receipt) {
                    Ok(()) => {
                        ambient.commit_state(CommitState::Recorded);
                        End::Committed
                    }
                    Err(error) => End::ReceiptIncomplete(error),
                };
                // What makes a commit less than safe was found out when the transaction was begun.
                let notes = receipt.warnings.clone();
                RunOutcome { notes, receipt: Some(receipt), ..RunOutcome::of(end) }
            }
            CommitOutcome::RolledBack(error) => {
                ambient.commit_state(CommitState::NotAsked);
                run.record = Some(record);
                run.ended(ended_by(error), None)
            }
            // `committing` stays on disk for `settle`.
            CommitOutcome::Unknown(error) => {
                RunOutcome { receipt: Some(record.receipt), ..RunOutcome::of(End::Unknown(error)) }
            }
        }
    }
}
