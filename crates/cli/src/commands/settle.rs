//! `settle`: what became of runs that were cut off.

use marktwice_run::{Verdict, settle};

use super::{Desk, print, print_json};
use crate::args::{Common, Format};
use crate::report::Trouble;
use crate::{exit, human, json};

/// Settles all runs of the database whose outcome is not written down.
pub(crate) fn run(common: &Common) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let all = desk.with(settle).map_err(|failure| Trouble::failure(&failure, "the logbook").on(&desk))?;
    let open = all.iter().any(|s| matches!(s.verdict, Verdict::Undecidable(_)));
    let status = if open { exit::UNKNOWN } else { exit::DONE };
    match common.format {
        Format::Json => print_json(&json::settled(&all, status)),
        Format::Human => print(&human::settled(&desk.shown, &all)),
    }
    Ok(status)
}
