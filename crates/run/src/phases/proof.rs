//! The last phases of a run: every row is judged and the snapshot written, then only the commit is left.

use marktwice_core::Code;
use marktwice_core::mark::HeldRow;
use marktwice_core::receipt::{RunState, SnapshotRef};
use marktwice_core::record::{SNAPSHOT_FORMAT, SNAPSHOT_VERSION, SnapshotHeader, SnapshotTotals};
use marktwice_core::table::KeyKind;
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;
use marktwice_core::verify::{Fate, judge};
use marktwice_port::{CommitOutcome, EngineError, Held, Phase, Tx};

use super::{Ended, Prepared, StepFacts, ended_by, first_undeclared, roll_back, tick};
use crate::context::{Answer, Question, Talk};
use crate::faults::Faults;
use crate::noticed::side_text;
use crate::outcome::{End, Failure, RunOutcome};
use crate::preview::unwrap_sink;

/// The statement ran; nothing is proven yet.
pub(crate) struct Written<'a, 's> {
    pub(super) run: Prepared<'a>,
    pub(super) tx: Box<dyn Tx + 's>,
    pub(super) held: Held,
    pub(super) count: u64,
}

impl<'a, 's> Written<'a, 's> {
    fn end(self, end: End) -> Ended {
        roll_back(self.run, self.tx, end)
    }

    /// Steps 8 and 9: one paired pass verifies every row and writes the snapshot, which is then synced, named, and
    /// read back; the counts are compared as evidence; the transaction is still ours.
    pub(crate) fn prove(mut self) -> Result<Proven<'a, 's>, Ended> {
        let mut faults = Faults::none(&self.run.facts.target);
        let mut net = 0;
        let pass = self.pass(&mut faults, &mut net);
        let (reference, totals) = match pass {
            Ok(done) => done,
            Err(failure) => return Err(self.end(End::Failed(failure))),
        };
        if faults.count > 0 {
            return Err(self.end(End::Verification(faults)));
        }
        if let Some(what) = match self.whole(net) {
            Ok(what) => what,
            Err(error) => return Err(self.end(End::Failed(error.into()))),
        } {
            let faults = Faults::whole(&self.run.facts.target, what);
            return Err(self.end(End::Verification(faults)));
        }
        let expected = self.run.facts.changes.filter(|e| !e.met(totals.changed, self.held.matched));
        if let Some(expected) = expected {
            let unmet = crate::preview::Unmet { what: "changes", expected, found: totals.changed };
            return Err(self.end(End::Expectation(vec![unmet])));
        }
        match self.effects() {
            Ok(None) => {}
            Ok(Some((what, code))) => return Err(self.end(End::SideEffects(what, code))),
            Err(error) => return Err(self.end(ended_by(error))),
        }
        if let Err(error) = self.tx.intact() {
            return Err(self.end(End::Failed(error.into())));
        }
        self.run.step_receipt(|step| step.changed = totals.changed);
        self.run.receipt.before = Some(totals.before);
        self.run.receipt.after = Some(totals.after);
        self.run.receipt.snapshot = Some(reference);
        Ok(Proven { run: self.run, tx: self.tx })
    }

    /// Step 9: writes that were measured. One that nobody declared ends the run; one that was let pass stands in the
    /// receipt.
    fn effects(&mut self) -> Result<Option<(String, Code)>, EngineError> {
        let measured = self.tx.effects()?;
        if let Some(write) = first_undeclared(&self.run.facts, &measured) {
            return Ok(Some(write));
        }
        self.run
            .receipt
            .settings
            .extend(measured.iter().map(|write| format!("also written: {}", side_text(write))));
        Ok(None)
    }

    fn pass(&mut self, faults: &mut Faults, net: &mut i64) -> Result<(SnapshotRef, SnapshotTotals), Failure> {
        let run = &mut self.run;
        let facts = run.facts.clone();
        let header = SnapshotHeader {
            format: SNAPSHOT_FORMAT.to_owned(),
            version: SNAPSHOT_VERSION,
            run: run.receipt.run.clone(),
            database: run.receipt.database.clone(),
            params: serde_json::Map::new(),
            steps: vec![facts.record.clone()],
            tables: vec![facts.target.clone()],
        };
        let mut snapshot = run.folder.snapshot(&header)?;
        let (context, matched) = (run.context, self.held.matched);
        let stop = context.ambient.stopper();
        let mut pairs = 0;
        self.tx
            .pair(&mut |held, now| {
                pairs += 1;
                match judge(facts.foreseen(), held, now) {
                    Ok(fate) => {
                        *net += match fate {
                            Fate::Inserted => 1,
                            Fate::Deleted => -1,
                            Fate::Changed | Fate::Same => 0,
                        };
                        snapshot.row(&row_change(&facts, held, now))?;
                    }
                    Err(fault) => faults.add(&held.key, fault),
                }
                tick(context, Phase::Proving, pairs, Some(matched), &*stop)
            })
            .map_err(unwrap_sink)?;
        if faults.count > 0 {
            // The run is rolled back; what was written of the snapshot goes with it.
            return Ok((
                SnapshotRef { file: String::new(), bytes: 0, checksum: String::new(), rows: 0 },
                SnapshotTotals::default(),
            ));
        }
        let (reference, totals) = snapshot.finish()?;
        if totals.rows != matched {
            let message = format!("{} rows were held and {} were read again", matched, totals.rows);
            return Err(Failure::Engine(EngineError::Other(message)));
        }
        Ok((reference, totals))
    }

    /// Counts as evidence: the engine wrote no more rows than were marked, and the table has as many rows as it
    /// should. Where side effects on the same table
    /// were allowed, its size proves nothing.
    fn whole(&mut self, net: i64) -> Result<Option<String>, EngineError> {
        let (matched, count) = (self.held.matched, self.count);
        if count > matched {
            return Ok(Some(format!("the statement wrote {count} rows where {matched} were marked")));
        }
        let table = &self.run.facts.target.table;
        if self.held.side.iter().any(|write| write.table.eq_ignore_ascii_case(table)) {
            return Ok(None);
        }
        let expected = self.held.total.saturating_add_signed(net);
        let found = self.tx.total()?;
        Ok((found != expected).then(|| {
            format!("{} has {found} rows where {expected} were to be expected", self.run.facts.target.table)
        }))
    }
}

/// The snapshot's record of one row.
fn row_change(facts: &StepFacts, held: &HeldRow, now: Option<&[Value]>) -> RowChange {
    let key_now = match (now, facts.target.key.kind) {
        (Some(now), KeyKind::Primary | KeyKind::Unique) => {
            Some(facts.target.key.columns.iter().filter_map(|&at| now.get(at).cloned()).collect::<Vec<_>>())
        }
        (Some(now), KeyKind::WholeRow) => Some(now.to_vec()),
        _ => None,
    };
    RowChange {
        ordinal: held.ordinal,
        key: held.key.clone(),
        key_after: key_now.filter(|key| *key != held.key),
        before: (!held.before.is_empty()).then(|| held.before.clone()),
        after: now.map(<[Value]>::to_vec),
    }
}

/// Everything is proven; only the commit is left.
pub(crate) struct Proven<'a, 's> {
    run: Prepared<'a>,
    tx: Box<dyn Tx + 's>,
}

impl<'a, 's> Proven<'a, 's> {
    /// Step 10: asks inside the open transaction and asserts again that it is still ours.
    pub(crate) fn ask(mut self, talk: &mut dyn Talk) -> Result<Proven<'a, 's>, Ended> {
        let step = self.run.receipt.steps.first();
        let (matched, changed) = step.map_or((0, 0), |s| (s.matched, s.changed));
        let answer = talk.ask(&Question::Inside { run: &self.run.receipt.run, matched, changed });
        if answer != Answer::Yes {
            return Err(roll_back(self.run, self.tx, End::Declined(answer)));
        }
        match self.tx.intact() {
            Ok(()) => Ok(self),
            Err(error) => Err(roll_back(self.run, self.tx, End::Failed(error.into()))),
        }
    }

    /// Steps 11 to 13: `committing` on disk, COMMIT, and the receipt in its final state.
    pub(crate) fn commit(mut self) -> RunOutcome {
        if (self.run.context.ambient.stopper())() {
            return *roll_back(self.run, self.tx, End::Failed(EngineError::Interrupted.into()));
        }
        self.run.receipt.token = self.tx.token();
        self.run.receipt.state = RunState::Committing;
        if let Err(error) = self.run.folder.receipt(&self.run.receipt) {
            return *roll_back(self.run, self.tx, End::Failed(error.into()));
        }
        match self.tx.commit() {
            CommitOutcome::Committed => {
                self.run.receipt.state = RunState::Committed;
                self.run.receipt.ended = Some(self.run.context.ambient.now().rfc3339);
                let end = match self.run.folder.receipt(&self.run.receipt) {
                    Ok(()) => End::Committed,
                    Err(error) => End::ReceiptIncomplete(error),
                };
                // What makes a commit less than safe was found out when the transaction was begun.
                let settings = &self.run.receipt.settings;
                let notes = settings.iter().filter_map(|s| s.strip_prefix("warning: ")).map(str::to_owned);
                RunOutcome { end, notes: notes.collect(), receipt: Some(self.run.receipt) }
            }
            CommitOutcome::RolledBack(error) => self.run.ended(ended_by(error)),
            CommitOutcome::Unknown(error) => {
                // `committing` stays on disk for `settle`.
                RunOutcome { end: End::Unknown(error), receipt: Some(self.run.receipt), notes: Vec::new() }
            }
        }
    }
}
