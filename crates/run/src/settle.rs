//! What became of runs that were cut off.
//!
//! A run that says `prepared` never asked for COMMIT: the engine has rolled it back, provably. A run that says
//! `committing` is decided by the engine's own record of its transaction where there is one, else by its rows: all as after it, or all as before it; anything else is undecidable, and
//! nobody guesses.

use std::cell::RefCell;

use marktwice_core::Value;
use marktwice_core::receipt::{Receipt, RunState};
use marktwice_core::table::KeyKind;
use marktwice_core::undo::RowChange;
use marktwice_port::{Intent, LogErrorKind, Logbook, Session, SinkError};

use crate::context::Context;
use crate::faults::NAMED;
use crate::outcome::Failure;
use crate::preview::unwrap_sink;

/// What was found out about one run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// It committed.
    Committed,
    /// It was rolled back.
    RolledBack,
    /// Its rows fit neither; the keys of the first of them.
    Undecidable(Vec<Vec<Value>>),
}

/// One run that was looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settled {
    /// Its receipt, as it stands now.
    pub receipt: Receipt,
    /// What was found out.
    pub verdict: Verdict,
}

/// What was found among runs that were cut off.
#[derive(Debug, Default)]
pub(crate) struct Tidied {
    /// What a person should know.
    pub(crate) notes: Vec<String>,
    /// A run that must be settled before another is begun.
    pub(crate) unsettled: Option<String>,
}

impl Tidied {
    /// Refuses where a run must be settled first: before anybody is asked anything.
    pub(crate) fn settled(&self) -> Result<(), Failure> {
        match &self.unsettled {
            Some(run) => Err(Failure::Unsettled { run: run.clone() }),
            None => Ok(()),
        }
    }
}

/// Writes down what became of runs that never asked for COMMIT. While another process has the lock, its run is
/// alive and left alone.
pub(crate) fn tidy_up(book: &dyn Logbook, context: &Context<'_>) -> Result<Tidied, Failure> {
    let mut tidied = Tidied::default();
    let _lock = match book.lock() {
        Ok(lock) => lock,
        Err(error) if error.kind == LogErrorKind::Busy => return Ok(tidied),
        Err(error) => return Err(error.into()),
    };
    let notes = &mut tidied.notes;
    for receipt in book.unsettled()? {
        let run = receipt.run.clone();
        match receipt.state {
            RunState::Prepared => {
                conclude(book, context, receipt, RunState::RolledBack, "cut off before COMMIT")?;
                notes.push(format!(
                    "run {run} was cut off before its COMMIT: it was rolled back, nothing changed"
                ));
            }
            RunState::Committing => {
                tidied.unsettled = Some(run.clone());
                notes.push(format!(
                    "run {run} was cut off while it committed: marktwice settle finds out what became of it"
                ));
            }
            RunState::Committed | RunState::RolledBack => {}
        }
    }
    Ok(tidied)
}

fn conclude(
    book: &dyn Logbook,
    context: &Context<'_>,
    mut receipt: Receipt,
    state: RunState,
    why: &str,
) -> Result<Receipt, Failure> {
    receipt.state = state;
    receipt.ended = Some(context.ambient.now().rfc3339);
    receipt.why = Some(why.to_owned());
    book.open_run(&receipt.run)?.receipt(&receipt)?;
    Ok(receipt)
}

/// Finds out what became of every run whose outcome is not written down. Only receipts are changed.
///
/// # Errors
/// When another process is at work, or the database or the logbook fails.
pub fn settle(context: &Context<'_>) -> Result<Vec<Settled>, Failure> {
    let mut session = context.engine.open(context.address, Intent::Read, context.waits)?;
    let book = (context.book)(session.database())?;
    let _lock = book.lock()?;
    let mut all = Vec::new();
    for receipt in book.unsettled()? {
        let verdict = match receipt.state {
            RunState::Prepared => Verdict::RolledBack,
            _ => decide(&mut *session, &*book, &receipt)?,
        };
        let receipt = match (&verdict, receipt.state) {
            (Verdict::RolledBack, RunState::Prepared) => {
                conclude(&*book, context, receipt, RunState::RolledBack, "cut off before COMMIT")?
            }
            (Verdict::RolledBack, _) => {
                conclude(&*book, context, receipt, RunState::RolledBack, "settled: it did not commit")?
            }
            (Verdict::Committed, _) => {
                conclude(&*book, context, receipt, RunState::Committed, "settled: it committed")?
            }
            (Verdict::Undecidable(_), _) => receipt,
        };
        all.push(Settled { receipt, verdict });
    }
    Ok(all)
}

/// Asks the engine for the outcome of the transaction, and the rows where it cannot tell.
fn decide(session: &mut dyn Session, book: &dyn Logbook, receipt: &Receipt) -> Result<Verdict, Failure> {
    let known = match &receipt.token {
        Some(token) => session.outcome(token)?,
        None => None,
    };
    match known {
        Some(true) => Ok(Verdict::Committed),
        Some(false) => Ok(Verdict::RolledBack),
        None => by_rows(session, book, receipt),
    }
}

/// Compares the rows of a run with its snapshot.
fn by_rows(session: &mut dyn Session, book: &dyn Logbook, receipt: &Receipt) -> Result<Verdict, Failure> {
    let (Some(snapshot), true) = (&receipt.snapshot, receipt.steps.iter().any(|s| s.changed > 0)) else {
        return Ok(Verdict::Undecidable(Vec::new()));
    };
    let target = match book.snapshot(&receipt.run, snapshot)?.header().tables.first() {
        Some(target) => target.clone(),
        None => return Ok(Verdict::Undecidable(Vec::new())),
    };
    if target.key.kind == KeyKind::WholeRow {
        // Nobody can tell a row of the run from an equal one that was always there.
        return Ok(Verdict::Undecidable(Vec::new()));
    }
    let mut strangers: Vec<Vec<Value>> = Vec::new();
    for (after, verdict) in [(true, Verdict::Committed), (false, Verdict::RolledBack)] {
        let reader = RefCell::new(book.snapshot(&receipt.run, snapshot)?);
        let mut source = || -> Result<Option<RowChange>, SinkError> {
            loop {
                match reader.borrow_mut().next().map_err(Box::new)? {
                    None => return Ok(None),
                    // Asked for by the key that the row has if this verdict is true, with what it then holds.
                    Some(change) if change.differs() => {
                        return Ok(Some(if after { change.inverse() } else { change }));
                    }
                    Some(_) => {}
                }
            }
        };
        let mut differing = Vec::new();
        let mut count = 0u64;
        session
            .look_up(&target, &mut source, &mut |change, now| {
                if change.before.as_deref() != now {
                    count += 1;
                    if differing.len() < NAMED {
                        differing.push(change.key.clone());
                    }
                }
                Ok(())
            })
            .map_err(unwrap_sink)?;
        if count == 0 {
            return Ok(verdict);
        }
        strangers = differing;
    }
    Ok(Verdict::Undecidable(strangers))
}
