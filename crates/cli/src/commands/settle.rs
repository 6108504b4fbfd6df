//! `settle`: what became of runs that were cut off; and setting one aside where nobody can tell.

use marktwice_run::{Settling, Verdict, set_aside, settle};

use crate::args::{Common, SettleArgs};
use crate::desk::Desk;
use crate::exit;
use crate::report::Trouble;
use crate::screen::{Screen, show};

/// Settles all runs of the database whose outcome is not written down, or one; or sets one aside.
pub(crate) fn run(common: &Common, args: &SettleArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let done = desk.with(|context| match (&args.run, &args.reason) {
        (Some(run), Some(reason)) if args.aside => {
            let runs = vec![set_aside(context, run, reason)?];
            Ok(Settling { runs, notes: Vec::new(), hidden: false })
        }
        (run, _) => settle(context, run.as_deref()),
    });
    let all = done.map_err(|failure| Trouble::failure(&failure, "the logbook").on(&desk.shown))?;
    let open = all.hidden || all.runs.iter().any(|s| s.verdict == Verdict::Undecidable);
    let status = if open { exit::UNKNOWN } else { exit::DONE };
    show(common, &Screen::Settled(&desk.shown, &all, status, &common.on_again()));
    Ok(status)
}
