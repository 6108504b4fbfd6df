//! `history`: runs on a database, newest first.

use marktwice_core::receipt::RunState;
use marktwice_run::Entry;

use crate::args::{Common, HistoryArgs, Outcome};
use crate::desk::Desk;
use crate::exit;
use crate::past::past;
use crate::report::Trouble;
use crate::screen::{Screen, show};

/// Lists the runs.
pub(crate) fn run(common: &Common, args: &HistoryArgs) -> Result<u8, Trouble> {
    let mut past = past(&Desk::find(common)?)?;
    let all = past.entries.len();
    past.entries.retain(|entry| wanted(entry, args));
    past.left_out = all - past.entries.len();
    show(common, &Screen::History(&past));
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
