//! `preview`: which rows, with what contents, and what they would become.

use crate::args::{Common, PreviewArgs};
use crate::desk::{Desk, change_of, read_text};
use crate::exit;
use crate::report::Trouble;
use crate::screen::{Screen, show};

/// Previews a change.
pub(crate) fn run(common: &Common, args: PreviewArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let Some(text) = read_text(&args.change)? else {
        return Err(Trouble::usage(
            "no change is named",
            "name a change file, - for standard input, or --sql TEXT",
        ));
    };
    let change = change_of(&text, &args.change, desk.engine.language())?;
    let preview = desk
        .with(|context| marktwice_run::preview(context, &change, args.change.show))
        .map_err(|failure| Trouble::failure(&failure, &text.name).on(&desk.shown))?;
    let status = exit::of_preview(&preview);
    show(common, &Screen::Preview(&preview, status, &common.on_again()));
    Ok(status)
}
