//! `undo`: puts the rows of a run back.

use marktwice_core::undo::{OnChanged, OnGone, Policy};
use marktwice_run::{Agreement, Preview, UndoOptions, undo};

use super::Desk;
use super::apply::{finish, show_preview};
use crate::args::{Changed, Common, Gone, UndoArgs};
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
    let mut shown = None;
    let outcome = {
        let mut show = |preview: &Preview| show_preview(common, preview, &mut shown);
        let mut talk = Terminal { show: &mut show, ambient: &desk.ambient };
        desk.with(|context| undo(context, &options, &mut talk))
            .map_err(|failure| Trouble::failure(&failure, "the logbook").on(&desk))?
    };
    Ok(finish(common, "marktwice-undo", shown.as_ref(), &outcome, "the logbook"))
}
