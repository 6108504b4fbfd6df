//! `preview`: which rows, with what contents, and what they would become.

use marktwice_core::Change;

use crate::args::{ChangeArgs, Common, PreviewArgs};
use crate::desk::{Desk, change_of, read_text};
use crate::exit;
use crate::report::Trouble;
use crate::screen::{Screen, show};

/// Previews a change.
pub(crate) fn run(common: &Common, args: PreviewArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let (change, name) = change_and_name(&desk, &args.change)?;
    let preview = desk
        .with(|context| marktwice_run::preview(context, &change, args.change.show))
        .map_err(|failure| Trouble::failure(&failure, &name).on(&desk.shown))?;
    let status = exit::of_preview(&preview);
    let again = format!("{}{}", common.on_again(), args.change.said_again());
    show(common, &Screen::Preview(&preview, status, &again));
    Ok(status)
}

/// The change that is named, and what its text is called.
pub(super) fn change_and_name(desk: &Desk, args: &ChangeArgs) -> Result<(Change, String), Trouble> {
    let Some(text) = read_text(args)? else {
        return Err(Trouble::usage(
            "no change is named",
            "name a change file, - for standard input, or --sql TEXT",
        ));
    };
    Ok((change_of(&text, args, desk.engine.language(), Vec::new())?, text.name))
}
