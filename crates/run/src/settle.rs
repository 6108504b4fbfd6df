//! What became of runs that were cut off.
//!
//! A run that says `prepared` never asked for COMMIT: the engine has rolled it back, provably. A run that says
//! `committing` is decided by the engine's own record of its transaction where there is one, else by its rows: all as after
//! it, or all as before it; anything else is undecidable, and nobody guesses. The rows are compared in any case: where they
//! contradict the engine's record (a server that was put back from a backup) nobody decides either. A person may then set
//! the run aside, with a reason; what is known is written down, and nothing is lost.

use std::cell::RefCell;
use std::collections::HashMap;

use marktwice_core::Value;
use marktwice_core::archive::{Made, stays};
use marktwice_core::image::{Place, Role};
use marktwice_core::receipt::{Receipt, RunState};
use marktwice_core::table::KeyKind;
use marktwice_core::undo::RowChange;
use marktwice_port::{Damaged, Intent, LogErrorKind, Logbook, Session, SinkError};

use crate::collect::unwrap_sink;
use crate::context::Context;
use crate::faults::NAMED;
use crate::outcome::Failure;

/// Differing rows whose keys are remembered while they are compared.
const KEYS: usize = 10_000;

/// What was found out about one run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It committed.
    Committed,
    /// It was rolled back.
    RolledBack,
    /// Nobody can tell.
    Undecidable,
    /// A person has set it aside.
    SetAside,
}

/// What the rows of a run say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Compared {
    /// All are as the run left them.
    AsLeft,
    /// All are as they were before the run.
    AsBefore,
    /// Neither is true of all of them.
    Mixed {
        /// Rows as the run left them.
        left: u64,
        /// Rows as they were before the run.
        before: u64,
        /// Rows that fit neither.
        neither: u64,
        /// Keys of the first of those.
        named: Vec<Vec<Value>>,
    },
    /// They were not compared, for this reason.
    Not(String),
}

/// One run that was looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settled {
    /// Its receipt, as it stands now.
    pub receipt: Receipt,
    /// What was found out.
    pub verdict: Verdict,
    /// What the engine's own record of the transaction says, where there is one.
    pub record: Option<bool>,
    /// Whether that is the row which the run left in its own transaction.
    pub witnessed: bool,
    /// What its rows say; `None` for a run that never asked for COMMIT.
    pub rows: Option<Compared>,
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

fn in_words(Damaged { run, why, .. }: &Damaged) -> String {
    format!(
        "what the receipt of run {run} says is not known ({why}): \
         marktwice settle {run} --aside --reason TEXT sets it aside"
    )
}

/// What is said of runs whose receipts cannot be read, and whether one of them may be a run that is not settled.
///
/// # Errors
/// When the logbook cannot be read.
pub fn damaged(book: &dyn Logbook) -> Result<(Vec<String>, bool), Failure> {
    let all = book.damaged()?;
    Ok((all.iter().map(in_words).collect(), all.iter().any(|one| one.open)))
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
    for damaged in book.damaged()? {
        if damaged.open {
            tidied.unsettled = Some(damaged.run.clone());
        }
        tidied.notes.push(in_words(&damaged));
    }
    let notes = &mut tidied.notes;
    for receipt in book.unsettled()? {
        let run = receipt.run.clone();
        match receipt.state {
            RunState::Prepared => {
                let receipt =
                    conclude(book, context, receipt, RunState::RolledBack, "cut off before COMMIT")?;
                let what = match stays(&receipt.makes) {
                    None => "it was rolled back, nothing changed".to_owned(),
                    Some(stays) => format!("it was rolled back, but {stays}"),
                };
                notes.push(format!("run {run} was cut off before its COMMIT: {what}"));
            }
            RunState::Committing => {
                tidied.unsettled = Some(run.clone());
                notes.push(format!(
                    "run {run} was cut off while it committed: marktwice settle finds out what became of it"
                ));
            }
            RunState::Committed | RunState::RolledBack | RunState::SetAside => {}
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
    // What is made before the transaction is written down before that, and may be there since.
    for making in receipt.makes.iter_mut().filter(|making| !making.inside && making.made == Made::No) {
        making.made = Made::Unknown;
    }
    receipt.ended = Some(context.ambient.now().rfc3339);
    receipt.why = Some(why.to_owned());
    book.open_run(&receipt.run)?.receipt(&receipt)?;
    Ok(receipt)
}

/// What settling has found.
#[derive(Debug)]
pub struct Settling {
    /// Runs whose outcome was not written down.
    pub runs: Vec<Settled>,
    /// What is said of receipts that cannot be read.
    pub notes: Vec<String>,
    /// Whether one of those may hide a run that is not settled.
    pub hidden: bool,
}

/// Finds out what became of every run whose outcome is not written down, or of one. Only receipts are changed.
///
/// # Errors
/// When another process is at work, or the database or the logbook fails.
pub fn settle(context: &Context<'_>, only: Option<&str>) -> Result<Settling, Failure> {
    let mut session = context.open(Intent::Settle)?;
    let book = (context.book)(session.database())?;
    let _lock = book.lock()?;
    let mut all = Vec::new();
    for receipt in book.unsettled()? {
        if only.is_some_and(|run| run != receipt.run) {
            continue;
        }
        if receipt.state == RunState::Prepared {
            let receipt = conclude(&*book, context, receipt, RunState::RolledBack, "cut off before COMMIT")?;
            all.push(Settled {
                receipt,
                verdict: Verdict::RolledBack,
                record: None,
                witnessed: false,
                rows: None,
            });
            continue;
        }
        if !book.is_of(&receipt.database.identity) {
            let why = format!("the run was made on another database ({})", receipt.database.name);
            let rows = Some(Compared::Not(why));
            all.push(Settled {
                receipt,
                verdict: Verdict::Undecidable,
                record: None,
                witnessed: false,
                rows,
            });
            continue;
        }
        let record = match &receipt.token {
            Some(token) => session.outcome(token)?,
            None => None,
        };
        // What a run has left in its own transaction tells as well.
        let (record, witnessed) = match (record, &receipt.witness) {
            (None, Some(witness)) => {
                let left = session.was_left(&witness.table, &witness.id)?;
                (left, left.is_some())
            }
            (record, _) => (record, false),
        };
        let rows = by_rows(&mut *session, &*book, &receipt)?;
        let verdict = decide(record, &rows);
        let receipt = match verdict {
            Verdict::Committed => {
                conclude(&*book, context, receipt, RunState::Committed, "settled: it committed")?
            }
            Verdict::RolledBack => {
                conclude(&*book, context, receipt, RunState::RolledBack, "settled: it did not commit")?
            }
            Verdict::Undecidable | Verdict::SetAside => receipt,
        };
        all.push(Settled { receipt, verdict, record, witnessed, rows: Some(rows) });
    }
    let (notes, hidden) = damaged(&*book)?;
    Ok(Settling { runs: all, notes, hidden })
}

/// Sets a run aside by a person's word: nobody asks about it any more, and nothing of it is lost.
///
/// # Errors
/// When there is no such run, its outcome is known, or the logbook fails.
pub fn set_aside(context: &Context<'_>, run: &str, reason: &str) -> Result<Settled, Failure> {
    let session = context.open(Intent::Read)?;
    let book = (context.book)(session.database())?;
    let _lock = book.lock()?;
    let who = context.user.clone().map_or(String::new(), |user| format!(" by {user}"));
    let now = context.ambient.now().rfc3339;
    let known = book.receipts()?.into_iter().find(|r| r.run == run);
    let mut receipt = match known {
        Some(receipt) if !receipt.state.is_final() => receipt,
        Some(receipt) => {
            return Err(Failure::usage(
                format!("the outcome of run {run} is known: {}", receipt.state.as_str()),
                "only a run whose outcome nobody knows is set aside",
            ));
        }
        None if book.damaged()?.iter().any(|damaged| damaged.run == run) => {
            Receipt::unknown(run, session.database(), now.clone())
        }
        None => {
            return Err(Failure::usage(
                format!("there is no run {run} on this database"),
                "`marktwice history` lists them",
            ));
        }
    };
    let then = match receipt.state {
        RunState::Prepared => "it had not asked for COMMIT",
        RunState::Committing if receipt.steps.is_empty() => "its receipt could not be read",
        _ => "it was about to commit",
    };
    receipt.state = RunState::SetAside;
    receipt.ended = Some(now);
    receipt.why = Some(format!("set aside{who}: {reason} (known: {then})"));
    book.set_aside(&receipt)?;
    Ok(Settled { receipt, verdict: Verdict::SetAside, record: None, witnessed: false, rows: None })
}

/// The engine's record decides, unless all rows say the opposite.
fn decide(record: Option<bool>, rows: &Compared) -> Verdict {
    match (record, rows) {
        (Some(true), Compared::AsBefore) | (Some(false), Compared::AsLeft) => Verdict::Undecidable,
        (Some(true), _) | (None, Compared::AsLeft) => Verdict::Committed,
        (Some(false), _) | (None, Compared::AsBefore) => Verdict::RolledBack,
        (None, Compared::Mixed { .. } | Compared::Not(_)) => Verdict::Undecidable,
    }
}

/// Compares the rows of a run with its snapshot. A table that several steps wrote is as it was left where the last of them
/// left it, and as before where the first of them found it.
fn by_rows(session: &mut dyn Session, book: &dyn Logbook, receipt: &Receipt) -> Result<Compared, Failure> {
    let not = |why: &str| Ok(Compared::Not(why.to_owned()));
    let (Some(snapshot), true) = (&receipt.snapshot, receipt.rows().1 > 0) else {
        return not("the run changed nothing");
    };
    let header = match book.snapshot(&receipt.run, snapshot) {
        Ok(reader) => reader.header().clone(),
        Err(error) => return not(&error.to_string()),
    };
    // Steps that changed something, with their tables.
    let wrote = |at: &usize| receipt.steps.get(*at).is_none_or(|step| step.changed > 0);
    let own = header.steps.iter().enumerate().filter(|(at, _)| wrote(at)).map(|(at, step)| (at, step.table));
    let mut steps: Vec<(usize, usize)> = own.collect();
    // What they took along says the same, where it can be told again.
    let by_content =
        |table: usize| header.tables.get(table).is_none_or(|target| target.key.kind == KeyKind::WholeRow);
    let taken = header.along.iter().filter(|along| along.role == Role::Cascade);
    for along in taken.filter(|along| !by_content(along.table)) {
        if !steps.contains(&(along.step, along.table)) {
            steps.push((along.step, along.table));
        }
    }
    steps.sort_by_key(|(at, _)| *at);
    let mut last: Vec<(usize, usize)> = Vec::new();
    let mut first: Vec<(usize, usize)> = Vec::new();
    for (at, table) in steps {
        last.retain(|(_, of)| *of != table);
        last.push((at, table));
        if !first.iter().any(|(_, of)| *of == table) {
            first.push((at, table));
        }
    }
    if last.iter().any(|(_, table)| by_content(*table)) {
        return not("nobody can tell a row of the run from an equal one that was always there");
    }
    let mut differing = |steps: &[(usize, usize)], after: bool| -> Result<(u64, Differing), Failure> {
        let mut rows = 0u64;
        let mut found = Differing::new();
        for &(step, table) in steps {
            let Some(target) = header.tables.get(table) else { continue };
            let reader = RefCell::new(book.snapshot(&receipt.run, snapshot)?);
            let mut source = || -> Result<Option<RowChange>, SinkError> {
                loop {
                    match reader.borrow_mut().next().map_err(Box::new)? {
                        None => return Ok(None),
                        // Asked for by the key that the row has if this is true, with what it then holds.
                        Some(change)
                            if (change.place.step, change.place.table) == (step, table)
                                && change.differs() =>
                        {
                            return Ok(Some(if after { change.inverse() } else { change }));
                        }
                        Some(_) => {}
                    }
                }
            };
            session
                .look_up(target, &mut source, &mut |change, now| {
                    rows += 1;
                    if change.image.before() != now {
                        // Numbers of all, keys of as many as are ever named.
                        let key = if found.len() < KEYS { target.shown_key(&change.key) } else { Vec::new() };
                        found.insert((change.place, change.ordinal), key);
                    }
                    Ok(())
                })
                .map_err(unwrap_sink)?;
        }
        Ok((rows, found))
    };
    let (rows, not_left) = differing(&last, true)?;
    if not_left.is_empty() {
        return Ok(Compared::AsLeft);
    }
    let (rows_before, not_before) = differing(&first, false)?;
    if not_before.is_empty() {
        return Ok(Compared::AsBefore);
    }
    // Rows of a table that only one step wrote were compared with both.
    let mut neither: Vec<((Place, i64), Vec<Value>)> = not_before
        .iter()
        .filter(|((place, n), _)| {
            !last.contains(&(place.step, place.table)) || not_left.contains_key(&(*place, *n))
        })
        .map(|(at, key)| (*at, key.clone()))
        .collect();
    neither.sort_by_key(|(at, _)| *at);
    let count = |n: usize| n as u64;
    Ok(Compared::Mixed {
        left: rows - count(not_left.len()),
        before: rows_before - count(not_before.len()),
        neither: count(neither.len()),
        named: neither.into_iter().map(|(_, key)| key).filter(|key| !key.is_empty()).take(NAMED).collect(),
    })
}

/// Rows that do not hold what they should, by place and number, with their keys.
type Differing = HashMap<(Place, i64), Vec<Value>>;
