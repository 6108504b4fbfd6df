//! `history`: runs on a database, newest first.

use marktwice_core::receipt::RunState;
use marktwice_core::witness::Left;
use marktwice_port::Intent;
use marktwice_run::{Entry, Failure};

use crate::args::{Common, HistoryArgs, Outcome};
use crate::desk::Desk;
use crate::exit;
use crate::past::{Shared, past};
use crate::report::Trouble;
use crate::screen::{Screen, show};

/// Lists the runs.
pub(crate) fn run(common: &Common, args: &HistoryArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    if args.shared {
        return shared(common, &desk, args);
    }
    let mut past = past(&desk)?;
    let all = past.entries.len();
    past.entries.retain(|entry| wanted(entry, args));
    past.left_out = all - past.entries.len();
    show(common, &Screen::History(&past));
    Ok(exit::DONE)
}

/// Rows of the witness that are listed at most.
const MOST: u32 = 1_000;

/// Lists what everybody's runs have left in the database.
fn shared(common: &Common, desk: &Desk, args: &HistoryArgs) -> Result<u8, Trouble> {
    let Some(table) = &desk.witness else {
        return Err(Trouble::usage(
            "no witness is named for this database, and a logbook knows its own runs only",
            "write witness = \"TABLE\" under its [database.NAME] in marktwice.toml",
        )
        .on(&desk.shown));
    };
    let read = desk.with(|context| -> Result<_, Failure> {
        let mut session = context.open(Intent::Read)?;
        let database = session.database().clone();
        let all = session.left(table, MOST)?;
        let book = (context.book)(&database)?;
        let receipts = book.receipts()?;
        let own =
            receipts.into_iter().filter_map(|receipt| receipt.witness).map(|witness| witness.id).collect();
        Ok(Shared { database, table: table.clone(), all, own, chosen: Vec::new() })
    });
    let mut shared = read.map_err(|failure| Trouble::failure(&failure, "the witness").on(&desk.shown))?;
    let title = args.title.as_ref().map(|title| title.to_lowercase());
    let fits = |left: &Left| {
        let has = |title: &String| left.title.as_ref().is_some_and(|own| own.to_lowercase().contains(title));
        title.as_ref().is_none_or(has) && args.since.as_ref().is_none_or(|since| left.started >= *since)
    };
    shared.chosen = (0..shared.all.len()).filter(|at| shared.all.get(*at).is_some_and(fits)).collect();
    show(common, &Screen::Shared(&shared));
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
