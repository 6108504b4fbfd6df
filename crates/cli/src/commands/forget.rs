//! `forget`: removes the row contents of runs and keeps their receipts.

use marktwice_core::words;
use marktwice_run::{Answer, Chosen, forget, forgettable};

use crate::args::{Common, ForgetArgs};
use crate::desk::Desk;
use crate::out::{print, tell};
use crate::past::past;
use crate::report::Trouble;
use crate::{exit, human, talk};

/// Forgets runs, after asking.
pub(crate) fn run(common: &Common, args: &ForgetArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let past = past(&desk)?;
    let which = match &args.before {
        Some(day) => Chosen::Before(day.clone()),
        None => Chosen::Runs(args.runs.clone()),
    };
    let failed = |failure| Trouble::failure(&failure, "the logbook").on(&desk.shown);
    let runs = forgettable(&past.entries, &which).map_err(failed)?;
    if runs.is_empty() {
        print("Nothing to forget: none of these runs has rows in the logbook.\n");
        return Ok(exit::DONE);
    }
    let names: Vec<&str> = runs.iter().map(|r| r.run.as_str()).collect();
    let bytes: u64 = runs.iter().filter_map(|r| r.snapshot.as_ref()).map(|s| s.bytes).sum();
    let undoable =
        past.entries.iter().filter(|e| e.can_undo && names.contains(&e.receipt.run.as_str())).count() as u64;
    print(&human::to_forget(&past.database, &names, bytes, undoable));
    if !args.yes {
        let answer = talk::ask_plainly("Remove these rows for good?");
        if answer != Answer::Yes {
            tell(if answer == Answer::NobodyThere {
                "Nobody is there to ask. Agree with --yes. Nothing was removed.\n"
            } else {
                "Declined. Nothing was removed.\n"
            });
            return Ok(exit::DECLINED);
        }
    }
    desk.with(|context| forget(context, &runs)).map_err(failed)?;
    print(&format!(
        "{} forgotten; the receipts stay.\n",
        words::either(runs.len() as u64, "1 run", "The runs are")
    ));
    Ok(exit::DONE)
}
