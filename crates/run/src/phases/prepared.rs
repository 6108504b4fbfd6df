//! The first phase of a run: the logbook is locked, a folder and a receipt say `prepared`, and nothing is begun. And the end of one that
//! did not commit.

use std::any::Any;

use marktwice_core::archive::{Archive, Making};
use marktwice_core::asked::{QueryCheck, QueryFound};
use marktwice_core::change::Change;
use marktwice_core::check::CheckFound;
use marktwice_core::receipt::{Receipt, RunState, StepReceipt};
use marktwice_core::secret::Secrets;
use marktwice_core::triggered::Triggered;
use marktwice_core::words;
use marktwice_port::{EngineError, Logbook, RunFolder, Session, Tx};

use super::records::{Records, records};
use super::{Begun, Ended, StepFacts, ended_by};
use crate::context::{Answer, Context};
use crate::outcome::{End, Failure, RunOutcome};

/// Where a run is written down. A rehearsal on the way to an application is not.
pub(super) struct Record {
    pub(super) folder: Box<dyn RunFolder>,
    pub(super) receipt: Receipt,
    pub(super) _lock: Box<dyn Any>,
}

/// Locked, with a folder and a receipt that says `prepared`.
pub(crate) struct Prepared<'a> {
    pub(super) context: &'a Context<'a>,
    pub(super) record: Option<Record>,
    /// What its receipt would say, where it is not recorded.
    pub(super) notes: Option<Receipt>,
    /// What a snapshot records of the steps.
    pub(super) records: Records,
    pub(super) steps: Vec<StepFacts>,
    /// Checks of the whole change.
    pub(super) checks: Vec<QueryCheck>,
    /// What stands in no receipt.
    pub(super) secrets: Secrets,
}

impl<'a> Prepared<'a> {
    /// The same for a change: with its checks as a whole, and with what it keeps secret.
    pub(crate) fn of(self, change: &Change) -> Prepared<'a> {
        Prepared { checks: change.checks.clone(), secrets: Secrets::of(&change.params), ..self }
    }

    /// Steps 1 and 2: the lock, no unsettled run, the folder, the text, the receipt.
    pub(crate) fn new(
        context: &'a Context<'a>,
        book: &dyn Logbook,
        steps: Vec<StepFacts>,
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
        let records = records(&steps);
        let record = Some(Record { folder, receipt, _lock: lock });
        let (notes, checks) = (None, Vec::new());
        Ok(Prepared { context, record, notes, records, steps, checks, secrets: Secrets::default() })
    }

    /// Notes a copy of the whole database that was made before anything began.
    pub(crate) fn copied(&mut self, file: &str, bytes: u64) {
        self.receipt(|receipt| receipt.copy = Some((file.to_owned(), bytes)));
    }

    /// The same with what a receipt of it would say, where somebody reads that before nothing of it is left.
    pub(crate) fn noting(self, receipt: Receipt) -> Prepared<'a> {
        Prepared { notes: Some(receipt), ..self }
    }

    /// A rehearsal: nothing of it is written down.
    pub(crate) fn unrecorded(context: &'a Context<'a>, steps: Vec<StepFacts>) -> Prepared<'a> {
        Prepared {
            context,
            record: None,
            notes: None,
            records: records(&steps),
            steps,
            checks: Vec::new(),
            secrets: Secrets::default(),
        }
    }

    /// Step 3: BEGIN, with tables made for rows that are put away: before it where the engine cannot take them back.
    pub(crate) fn begin<'s>(mut self, session: &'s mut dyn Session) -> Result<Begun<'a, 's>, Ended> {
        let made = make(&mut self.steps, false, &mut |archive, held, there| {
            session.make_archive(archive, held, there)
        });
        self.has_made();
        if let Err(error) = made {
            return Err(Box::new(self.ended(ended_by(error), None)));
        }
        let (mut run, mut tx) = self.opened(session)?;
        let made =
            make(&mut run.steps, true, &mut |archive, held, there| tx.make_archive(archive, held, there));
        run.has_made();
        let begun = Begun::new(run, tx);
        match made {
            Ok(()) => begun.asked_first(),
            Err(error) => Err(begun.over(ended_by(error))),
        }
    }

    /// Takes over what became of tables that were to be made.
    fn has_made(&mut self) {
        let makings = makings(self.steps.iter().filter_map(|facts| facts.archive.as_ref()));
        if !makings.is_empty() {
            self.receipt(|receipt| receipt.makes = makings);
            self.records = records(&self.steps);
        }
    }

    fn opened<'s>(mut self, session: &'s mut dyn Session) -> Result<(Self, Box<dyn Tx + 's>), Ended> {
        match session.begin(self.context.ambient.stopper()) {
            Ok(tx) => {
                let settings = tx.settings();
                self.receipt(|receipt| {
                    receipt.settings = settings.said;
                    receipt.warnings = settings.warnings;
                });
                Ok((self, tx))
            }
            Err(error) => Err(Box::new(self.ended(ended_by(error), None))),
        }
    }

    /// Opening the database for writing failed.
    pub(crate) fn failed(self, error: EngineError) -> RunOutcome {
        self.failed_by(error.into())
    }

    /// The same for another reason.
    pub(crate) fn failed_by(self, failure: Failure) -> RunOutcome {
        self.ended(End::Failed(failure), None)
    }

    /// Writes the end of a run that did not commit; `step` is the one that it ended in.
    pub(super) fn ended(self, end: End, step: Option<usize>) -> RunOutcome {
        let step = step.filter(|_| self.steps.len() > 1);
        let Some(Record { mut folder, mut receipt, _lock }) = self.record else {
            return RunOutcome { step, ..RunOutcome::of(end) };
        };
        receipt.state = RunState::RolledBack;
        receipt.ended = Some(self.context.ambient.now().rfc3339);
        let why = reason(&end);
        receipt.why = Some(match step {
            Some(step) => format!("step {}: {why}", step + 1),
            None => why,
        });
        receipt.scrub(&self.secrets);
        let mut notes = Vec::new();
        if let Err(error) = folder.receipt(&receipt) {
            // The receipt on disk still says `prepared`, which means the same; the next command writes it down.
            notes.push(format!("the receipt could not be completed ({error}); the next command will"));
        }
        RunOutcome { step, receipt: Some(receipt), notes, ..RunOutcome::of(end) }
    }

    pub(super) fn receipt(&mut self, with: impl FnOnce(&mut Receipt)) {
        match (&mut self.record, &mut self.notes) {
            (Some(record), _) => with(&mut record.receipt),
            (None, Some(receipt)) => with(receipt),
            (None, None) => {}
        }
    }

    pub(super) fn step_receipt(&mut self, step: usize, with: impl FnOnce(&mut StepReceipt)) {
        self.receipt(|receipt| {
            if let Some(step) = receipt.steps.get_mut(step) {
                with(step);
            }
        });
    }
}

/// Makes one table: what it is to be, the tables that are held, and whether it is there already.
type MakeOne<'w> = dyn FnMut(&mut Archive, &mut [Triggered], bool) -> Result<(), EngineError> + 'w;

/// Makes the tables that steps put rows away in and that are not there yet, each once: those that are made `inside` the
/// transaction, or those that are not.
fn make(steps: &mut [StepFacts], inside: bool, work: &mut MakeOne<'_>) -> Result<(), EngineError> {
    let mut there: Vec<String> = Vec::new();
    for StepFacts { archive, triggered, .. } in steps {
        let Some(archive) = archive else { continue };
        let Some(making) = archive.making.as_ref().filter(|making| making.inside == inside) else { continue };
        let table = making.table.clone();
        work(archive, triggered, there.contains(&table))?;
        there.push(table);
    }
    Ok(())
}

/// The tables that are made for rows that are put away, each once.
pub(crate) fn makings<'m>(archives: impl Iterator<Item = &'m Archive>) -> Vec<Making> {
    let mut all: Vec<Making> = Vec::new();
    for making in archives.filter_map(|archive| archive.making.as_ref()) {
        if !all.iter().any(|known| known.table == making.table) {
            all.push(making.clone());
        }
    }
    all
}

/// Why a run did not commit, in one sentence for its receipt.
pub(crate) fn reason(end: &End) -> String {
    match end {
        End::Committed | End::ReceiptIncomplete(_) => String::new(),
        End::NothingToDo(why) | End::Changed(why) | End::SideEffects(why, _) => why.clone(),
        End::NoUndo(why) => format!("an undo would fail: {why}"),
        End::Stopped(codes) => {
            format!("stopped by {}", codes.iter().map(|c| c.as_str()).collect::<Vec<_>>().join(", "))
        }
        End::Expectation(all) => all
            .iter()
            .map(|u| format!("{}: {} expected, {} found", u.what, u.expected, u.found))
            .collect::<Vec<_>>()
            .join("; "),
        End::Checks(table, checks) => {
            let one = |found: &CheckFound| format!("check {}", found.told(table));
            checks.iter().map(one).collect::<Vec<_>>().join("; ")
        }
        End::Queries(all) => {
            let one = |found: &QueryFound| format!("check {}", found.told());
            all.iter().map(one).collect::<Vec<_>>().join("; ")
        }
        End::Moved(moved) => {
            let n = moved.total();
            format!("{} {} moved since the preview", words::rows(n), words::either(n, "has", "have"))
        }
        End::Conflicts(conflicts) => {
            let n = conflicts.count;
            format!("{} {} changed since the run", words::rows(n), words::either(n, "has", "have"))
        }
        End::Verification(faults) => match &faults.whole {
            Some(whole) => whole.clone(),
            None => {
                let (rows, are) = (words::rows(faults.count), words::either(faults.count, "is", "are"));
                format!("{rows} {are} not as should be after the statement")
            }
        },
        End::Declined(Answer::TooLate) => "nobody answered in time".to_owned(),
        End::Declined(_) => "declined".to_owned(),
        End::Failed(failure) => failure.to_string(),
        End::Unknown(error) => error.to_string(),
    }
}
