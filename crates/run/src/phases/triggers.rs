//! Tables that triggers write, in the phases of a run: held before the first statement that may write them, looked at again when
//! all steps have run, and put right at the end of an undo.

use marktwice_core::Code;
use marktwice_core::along::AlongRecord;
use marktwice_core::archive::{Archive, PutAway};
use marktwice_core::asked::QueryFound;
use marktwice_core::cell::diff;
use marktwice_core::image::{Place, Role};
use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_core::side::{AlsoWrites, SideHow, SideWrite};
use marktwice_core::table::Target;
use marktwice_core::triggered::{Triggered, TriggeredReceipt, is_fired};
use marktwice_core::verify::Fault;
use marktwice_port::{Batch, ChangeSource, EngineError, KeepSink, Phase, Tx};

use super::proof::row_change;
use super::records::Records;
use super::{Begun, Ended, StepFacts, ended_by, no_step, read_back, tick};
use crate::collect::{Fired, unwrap_sink};
use crate::faults::Faults;
use crate::outcome::End;

impl<'a, 's> Begun<'a, 's> {
    /// Tables that triggers are about to write are held as a whole, those that can be.
    pub(super) fn before_triggers(&mut self, side: &[SideWrite]) -> Result<(), EngineError> {
        let Some(facts) = self.run.steps.get(self.proven) else { return Ok(()) };
        let mut tables = Vec::new();
        for table in &facts.triggered {
            let archive = table.target.as_ref().is_ok_and(|target| facts.archives_to(target));
            if !archive && !side.iter().any(|write| is_fired(write) && write.table == table.shown) {
                continue;
            }
            match &table.target {
                Ok(target) => tables.push(target.clone()),
                Err(why) => {
                    let unheld = TriggeredReceipt::unheld(&table.shown, why);
                    if !self.unheld.contains(&unheld) {
                        self.unheld.push(unheld);
                    }
                }
            }
        }
        if tables.is_empty() { Ok(()) } else { self.tx.hold_triggered(&tables) }
    }

    /// The same for an undo, which knows them all beforehand.
    pub(crate) fn hold_triggered(
        mut self,
        tables: &[Target],
        unheld: &[Triggered],
    ) -> Result<Begun<'a, 's>, Ended> {
        let why = |table: &Triggered| {
            let why = table.target.as_ref().err()?;
            Some(TriggeredReceipt::unheld(&table.shown, why))
        };
        self.unheld.extend(unheld.iter().filter_map(why));
        if tables.is_empty() {
            return Ok(self);
        }
        match self.tx.hold_triggered(tables) {
            Ok(()) => Ok(self),
            Err(error) => Err(self.end(ended_by(error))),
        }
    }

    /// Holds rows of such a table that go back, or that are left as they are.
    pub(crate) fn hold_triggered_rows(
        mut self,
        (batch, left): (&Batch, bool),
        source: &mut ChangeSource<'_>,
        keep: &mut KeepSink<'_>,
        differing: &mut dyn FnMut(&mut dyn Tx, usize) -> Result<String, EngineError>,
    ) -> Result<Begun<'a, 's>, Ended> {
        let mut number = batch.step;
        let held = read_back(
            &mut *self.tx,
            &mut |tx, sink| {
                number = tx.hold_triggered_rows(batch, left, source, sink)?;
                Ok(((), number))
            },
            keep,
        );
        match held {
            Ok(Some(())) => Ok(self),
            Ok(None) => {
                let end = match differing(&mut *self.tx, number) {
                    Ok(what) => End::Verification(Faults::whole(&batch.target, what)),
                    Err(error) => ended_by(error),
                };
                Err(self.end(end))
            }
            Err(error) => Err(self.end(ended_by(error))),
        }
    }

    /// The end of an undo's writing: those tables are put back, and proven to be as they should.
    pub(crate) fn restore_triggered(mut self) -> Result<Begun<'a, 's>, Ended> {
        self.run.context.ambient.progress(Phase::Restoring, 0, None);
        let tx = &mut self.tx;
        match tx.restore_triggered().and_then(|_| tx.settle_constraints()) {
            Ok(()) => Ok(self),
            Err(error) => Err(self.end(ended_by(error))),
        }
    }

    /// The end of an undo's writing for rows of tables that triggers write too, and that are not put right as a whole: what went back
    /// may have been written again since.
    pub(crate) fn still_put<'b>(
        mut self,
        batches: impl Iterator<Item = (&'b Batch, &'b [Foreseen])>,
    ) -> Result<Begun<'a, 's>, Ended> {
        let all = self.proven;
        for (batch, foreseen) in batches {
            // What ends it here is told of this part.
            self.proven = batch.step;
            let mut faults = Faults::none(&batch.target);
            let stored = |at: &usize| batch.target.columns.get(*at).is_some_and(|column| !column.generated);
            let mut columns: Vec<usize> = match batch.kind {
                StepKind::Update => batch.columns.clone(),
                StepKind::Insert | StepKind::Delete => {
                    (0..batch.target.columns.len()).filter(stored).collect()
                }
            };
            columns.retain(|at| !foreseen.iter().any(|f| f.column == *at && f.label == Label::Unknown));
            let done = self.tx.pair(batch.step, &mut |held, now| {
                match (held.image.after(), now) {
                    (Some(wanted), Some(now)) => {
                        let cells = diff(wanted, now).into_iter();
                        if let Some(cell) = cells.into_iter().find(|cell| columns.contains(&cell.column)) {
                            faults.add(&held.key, Fault::Unforeseen(cell));
                        }
                    }
                    (Some(_), None) => faults.add(&held.key, Fault::Vanished),
                    (None, Some(_)) => faults.add(&held.key, Fault::StillThere),
                    (None, None) => {}
                }
                Ok(())
            });
            if let Err(error) = done {
                return Err(self.end(ended_by(error)));
            }
            if faults.count > 0 {
                return Err(self.end(End::Verification(faults)));
            }
        }
        self.proven = all;
        Ok(self)
    }

    /// What triggers have made of other tables, now that all steps have run: it goes into the snapshot, and before the eyes
    /// of a rehearsal.
    pub(super) fn fired(&mut self, mut looking: Option<&mut Fired>) -> Result<(), Box<End>> {
        let step = self.proven.saturating_sub(1);
        let tables = self.tx.triggered().map_err(|error| Box::new(ended_by(error)))?;
        let mut receipts = std::mem::take(&mut self.unheld);
        for (number, target) in tables {
            let Records { along, tables, .. } = &self.run.records;
            let of = |record: &&AlongRecord| {
                let table = tables.get(record.table);
                record.role == Role::Trigger && table.is_some_and(|table| table.same_table(&target))
            };
            let Some(table) = along.iter().find(of).map(|record| record.table) else {
                return Err(Box::new(End::Failed(no_step())));
            };
            // As it was planned it says what of it is hidden.
            let hidden = tables.get(table).map(|known| known.hidden.clone()).unwrap_or_default();
            let target = Target { hidden, ..target };
            let place = Place { step, table, role: Role::Trigger };
            let stop = self.run.context.ambient.stopper();
            let (context, snapshot, kept) = (self.run.context, &mut self.snapshot, &mut self.kept);
            let mut receipt = TriggeredReceipt::unheld(&target.table, "");
            receipt.unheld = None;
            let mut seen = 0;
            let steps = &self.run.steps;
            let archive =
                steps.iter().find_map(|f| f.archive.clone().filter(|a| a.target.same_table(&target)));
            let mut arrived = PutAway::default();
            let paired = self.tx.pair(number, &mut |held, now| {
                seen += 1;
                tick(context, Phase::Proving, seen, None, &*stop)?;
                let before = held.image.before();
                if before == now {
                    return Ok(());
                }
                if let (Some(archive), None, Some(now)) = (&archive, before, now) {
                    arrived.add(archive.columns.iter().map(|(_, place)| now.get(*place)));
                }
                match (before, now) {
                    (None, _) => receipt.inserted += 1,
                    (_, None) => receipt.deleted += 1,
                    _ => receipt.changed += 1,
                }
                if let Some(looking) = looking.as_deref_mut() {
                    looking.row(&target, &held.key, (before, now));
                }
                if let Some(row) = row_change(place, &target, held, now) {
                    if kept.wants() {
                        kept.add(row.clone());
                    }
                    if let Some(snapshot) = snapshot.as_mut() {
                        snapshot.row(row)?;
                    }
                }
                Ok(())
            });
            paired.map_err(|error| Box::new(End::Failed(unwrap_sink(error))))?;
            if let Some(archive) = &archive {
                self.as_put_away(archive, &arrived, &receipt)?;
                receipt.archive = true;
            }
            self.beside += receipt.rows();
            receipts.push(receipt);
        }
        if let Some(what) = self.unexplained(&receipts) {
            return Err(Box::new(End::SideEffects(what, Code::UndeclaredWrite)));
        }
        if let Some(what) = self.not_as_declared(&receipts) {
            return Err(Box::new(End::SideEffects(what, Code::UndeclaredWrite)));
        }
        self.run.receipt(|receipt| receipt.triggered = Some(receipts));
        Ok(())
    }

    /// Whether a declared number of rows is of a table that is held as a whole, and declared by one step only.
    pub(super) fn counted_in_the_end(&self, declared: &AlsoWrites) -> bool {
        let steps = &self.run.steps;
        let names = |facts: &StepFacts| {
            facts.terms.also_writes.iter().any(|other| other.table.eq_ignore_ascii_case(&declared.table))
        };
        let mut tables = steps.iter().flat_map(|facts| &facts.triggered);
        tables.any(|table| table.target.is_ok() && declared.names(&table.shown))
            && steps.iter().filter(|facts| names(facts)).count() == 1
    }

    /// Rows that were counted and that no compared table shows: something was written where nobody looked. A table that is not
    /// compared, and was declared, may hold them; so may one whose rows were written and put back on the way.
    fn unexplained(&self, written: &[TriggeredReceipt]) -> Option<String> {
        let seen =
            written.is_empty() || written.iter().any(|table| table.unheld.is_some() || table.rows() > 0);
        let (_, write) = self.to_explain.first().filter(|_| !seen)?;
        let SideHow::Measured(what) = &write.how else { return None };
        Some(format!(
            "{what} in a table that no trigger is known to write; none of the tables that were compared has changed"
        ))
    }

    /// A table of which another number of rows was written than was declared.
    fn not_as_declared(&self, written: &[TriggeredReceipt]) -> Option<String> {
        let declared = self.run.steps.iter().flat_map(|facts| &facts.terms.also_writes);
        for (declared, rows) in declared.filter_map(|d| Some((d, d.rows?))) {
            // A table that no trigger came to write was not even held.
            let found = written.iter().find(|w| w.unheld.is_none() && declared.names(&w.table));
            let found = found.map_or(0, TriggeredReceipt::rows);
            if self.counted_in_the_end(declared) && !rows.met(found, found) {
                let table = &declared.table;
                return Some(format!("{found} rows of {table} were written, where {rows} were declared"));
            }
        }
        None
    }

    /// What has arrived in a table is what steps have put away there, and nothing else of it was written.
    fn as_put_away(
        &self,
        archive: &Archive,
        arrived: &PutAway,
        receipt: &TriggeredReceipt,
    ) -> Result<(), Box<End>> {
        let table = &archive.target;
        let gone = self.put_away.iter().find(|(to, _)| to.fills_like(archive));
        let agrees = match gone {
            Some((_, gone)) => gone == arrived,
            None => arrived.rows == 0,
        };
        if agrees && receipt.deleted + receipt.changed == 0 {
            return Ok(());
        }
        let what = format!("what was put away in {} does not hold what the rows held", table.table);
        Err(Box::new(End::Verification(Faults::whole(table, what))))
    }

    /// The end of a rehearsal of a change: what triggers have written is looked at before nothing of it is left.
    pub(crate) fn end_rehearsal_before(mut self, looking: &mut Fired) -> Result<Vec<QueryFound>, Ended> {
        if let Err(end) = self.fired(Some(looking)) {
            return Err(self.end(*end));
        }
        if let Err(error) = self.tx.would_commit() {
            return Err(self.end(ended_by(error)));
        }
        if let Err(end) = self.try_undo() {
            return Err(self.over(*end));
        }
        match self.ask_last() {
            Ok(found) => self.end_rehearsal().map(|()| found),
            Err(end) => Err(self.over(*end)),
        }
    }
}
