//! `undo`: puts the rows of a run back.

use marktwice_core::undo::{OnChanged, OnGone, Policy};
use marktwice_run::{Agreement, Shown, UndoOptions, undo};

use super::apply::{Stage, asks};
use crate::args::{Changed, Common, Gone, UndoArgs};
use crate::desk::Desk;
use crate::exit;
use crate::html::for_a_question;
use crate::report::Trouble;
use crate::talk::Terminal;

/// Takes a run back.
pub(crate) fn run(common: &Common, args: &UndoArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let options = UndoOptions {
        run: args.run.clone(),
        agreement: if args.yes { Agreement::Given } else { Agreement::Ask },
        allow: args.allow.clone(),
        rows: args.rows,
        policy: Policy {
            changed: match args.changed {
                Changed::Stop => OnChanged::Stop,
                Changed::Skip => OnChanged::Skip,
                Changed::Overwrite => OnChanged::Overwrite,
            },
            gone: match args.gone {
                Gone::Stop => OnGone::Stop,
                Gone::Skip => OnGone::Skip,
                Gone::Insert => OnGone::Insert,
            },
        },
        only: args.only.clone(),
        hold: args.hold,
        show: args.show,
    };
    let (show, first) = for_a_question(options.show, asks(common, options.agreement));
    let options = UndoOptions { show, ..options };
    let mut stage = Stage::showing(common, first);
    let outcome = {
        let mut show_it = |shown: &Shown<'_>| stage.before(shown);
        let mut talk = Terminal {
            show: &mut show_it,
            ambient: &desk.ambient,
            name: desk.guard.as_ref().map(|guard| guard.name.as_str()),
            edits: None,
        };
        desk.with(|context| undo(context, &options, &mut talk))
            .map_err(|failure| Trouble::failure(&failure, "the logbook").on(&desk.shown))?
    };
    let status = stage.finish("marktwice-undo", &outcome, "the logbook");
    if status == exit::DONE {
        desk.forget_old();
    }
    Ok(status)
}
