//! `preview`: which rows, with what contents, and what they would become.

use marktwice_core::Change;
use marktwice_run::Show;

use crate::args::{ChangeArgs, Common, PreviewArgs};
use crate::desk::{Desk, change_of, read_text};
use crate::exit;
use crate::handover;
use crate::html::{self, About};
use crate::out::tell;
use crate::report::Trouble;
use crate::screen::{Screen, show};

/// Previews a change.
pub(crate) fn run(common: &Common, args: PreviewArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let (change, name) = change_and_name(&desk, &args.change)?;
    let wanted = args.gathered()?;
    if let Some(file) = &args.out {
        handover::can_be(file, &change)?;
    }
    let mut preview = desk
        .with(|context| marktwice_run::preview(context, &change, wanted))
        .map_err(|failure| Trouble::failure(&failure, &name).on(&desk.shown))?;
    let status = exit::of_preview(&preview);
    let again = format!("{}{}", common.on_again(), args.change.said_again());
    if let Some(file) = &args.html {
        html::preview(file, &preview, &About::of(change.reason.as_deref(), &again))?;
        html::cut(&mut preview, args.change.show);
    }
    if let Some(file) = &args.out {
        handover::write(file, &desk, (&preview, &change), &args.change, &name)?;
        tell(&format!("{} holds it with its mark, to be handed on: marktwice apply {0}\n", file.display()));
    }
    show(common, &Screen::Preview(&preview, status, &again));
    Ok(status)
}

impl PreviewArgs {
    /// How many rows are gathered: a page shows more of them. Where that file is there already, nothing is begun.
    pub(super) fn gathered(&self) -> Result<Show, Trouble> {
        let Some(file) = &self.html else { return Ok(self.change.show) };
        html::is_new(file)?;
        Ok(html::gathered(self.change.show))
    }
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
