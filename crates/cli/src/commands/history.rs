//! `history`: runs on a database, newest first.

use marktwice_core::receipt::{DatabaseId, RunState};
use marktwice_port::Intent;
use marktwice_run::{Entry, Failure, damaged, history, look_at_definitions};

use super::{Desk, print, print_json};
use crate::args::{Common, Format, HistoryArgs, Outcome};
use crate::report::Trouble;
use crate::{exit, human, json};

/// What a logbook holds about one database.
pub(crate) struct Past {
    pub(crate) database: DatabaseId,
    pub(crate) entries: Vec<Entry>,
    /// What is said of runs whose receipts cannot be read.
    pub(crate) notes: Vec<String>,
    /// Bytes of its part of the logbook.
    pub(crate) size: u64,
}

/// Lists the runs.
pub(crate) fn run(common: &Common, args: &HistoryArgs) -> Result<u8, Trouble> {
    let mut past = past(&Desk::find(common)?)?;
    past.entries.retain(|entry| wanted(entry, args));
    match common.format {
        Format::Json => print_json(&json::history(&past.database, &past.entries, past.size, &past.notes)),
        Format::Human => print(&human::history(&past.database, &past.entries, past.size, &past.notes)),
    }
    Ok(exit::DONE)
}

fn wanted(entry: &Entry, args: &HistoryArgs) -> bool {
    let receipt = &entry.receipt;
    let title = receipt.title.as_deref().unwrap_or("").to_lowercase();
    let outcome = |o: Outcome| match o {
        Outcome::Committed => receipt.state == RunState::Committed,
        Outcome::RolledBack => receipt.state == RunState::RolledBack,
        Outcome::Undone => entry.undone_by.is_some(),
        Outcome::Unknown => !receipt.state.is_final(),
    };
    args.title.as_ref().is_none_or(|t| title.contains(&t.to_lowercase()))
        && args.table.as_ref().is_none_or(|t| receipt.steps.iter().any(|s| s.table.eq_ignore_ascii_case(t)))
        && args.since.as_ref().is_none_or(|since| receipt.started.as_str() >= since.as_str())
        && args.outcome.is_none_or(outcome)
}

/// The runs of the database.
pub(crate) fn past(desk: &Desk) -> Result<Past, Trouble> {
    let read = || -> Result<Past, Failure> {
        desk.with(|context| {
            let mut session = context.open(Intent::Read)?;
            let database = session.database().clone();
            let book = (context.book)(&database)?;
            let mut entries = history(&*book)?;
            look_at_definitions(&mut *session, &mut entries);
            Ok(Past { database, entries, notes: damaged(&*book)?.0, size: book.size()? })
        })
    };
    read().map_err(|failure| Trouble::failure(&failure, "the logbook").on(desk))
}
