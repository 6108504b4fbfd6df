//! `apply`: preview, agreement, and the run.

use marktwice_run::{Agreement, ApplyOptions, Change, Preview, RunOutcome, apply, mark_text};

use super::{Desk, Text, change_of, print, print_json, read_text, tell};
use crate::args::{ApplyArgs, Common, Format};
use crate::report::Trouble;
use crate::talk::Terminal;
use crate::{exit, human, json};

/// Applies a change.
pub(crate) fn run(common: &Common, args: ApplyArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let (text, last) = match read_text(&args.change)? {
        Some(text) => (text, None),
        None => {
            let (name, text) = desk
                .with(|context| mark_text(context, args.mark.as_deref()))
                .map_err(|failure| Trouble::failure(&failure, "the logbook").on(&desk))?;
            (Text { text, name: format!("mark {name}") }, Some(name))
        }
    };
    let change = change_of(&text, &args.change, desk.kind.language)?;
    let agreement = if args.yes { Agreement::Given } else { Agreement::Ask };
    // Without a change the last preview is meant, and held to. It is no agreement by itself: --yes needs more.
    let implied = last.filter(|_| !args.yes || change.rows.is_some());
    let mark = args.mark.clone().or(implied);
    let options = ApplyOptions { agreement, mark, hold: args.hold, show: args.change.show };
    carry_out(common, &desk, &change, &options, ("marktwice-apply", &text.name))
}

/// Previews, asks and applies; tells how it ended, and gives the exit status. `told` is the format of the JSON document
/// and what the text is called.
pub(super) fn carry_out(
    common: &Common,
    desk: &Desk,
    change: &Change,
    options: &ApplyOptions,
    told: (&str, &str),
) -> Result<u8, Trouble> {
    let (format, name) = told;
    let mut shown = None;
    let outcome = {
        let mut show = |preview: &Preview| show_preview(common, preview, &mut shown);
        let mut talk = Terminal { show: &mut show, ambient: &desk.ambient };
        desk.with(|context| apply(context, change, options, &mut talk))
            .map_err(|failure| Trouble::failure(&failure, name).on(desk))?
    };
    Ok(finish(common, format, shown.as_ref(), &outcome, name))
}

/// Shows a preview now, for people, or keeps it for the JSON document.
pub(crate) fn show_preview(common: &Common, preview: &Preview, keep: &mut Option<Preview>) {
    if common.format == Format::Human {
        print(&format!("{}\n", human::preview(preview, common.verbose)));
    }
    *keep = Some(preview.clone());
}

/// Tells how it ended and gives the exit status.
pub(crate) fn finish(
    common: &Common,
    format: &str,
    shown: Option<&Preview>,
    outcome: &RunOutcome,
    file: &str,
) -> u8 {
    let status = exit::of_end(&outcome.end);
    let table = shown.map_or("", |p| p.target.table.as_str());
    let text = human::outcome(outcome, table, file, &common.on_again());
    match common.format {
        Format::Json => {
            print_json(&json::outcome(format, shown, outcome, status));
            if status != exit::DONE {
                tell(&text);
            }
        }
        Format::Human if status == exit::DONE || status == exit::RECEIPT_INCOMPLETE => print(&text),
        Format::Human => tell(&text),
    }
    status
}
