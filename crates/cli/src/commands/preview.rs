//! `preview`: which rows, with what contents, and what they would become.

use marktwice_core::Change;
use marktwice_run::{Preview, Show};

use crate::args::{ChangeArgs, Common, PreviewArgs};
use crate::desk::{Desk, change_of, read_text};
use crate::exit;
use crate::handover;
use crate::html::{self, About};
use crate::out::tell;
use crate::printed;
use crate::report::Trouble;
use crate::screen::{Screen, show};

/// Previews a change.
pub(crate) fn run(common: &Common, args: PreviewArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let (change, name) = change_and_name(&desk, &args.change)?;
    let wanted = args.gathered(&change)?;
    let mut preview = desk
        .with(|context| marktwice_run::preview(context, &change, wanted))
        .map_err(|failure| Trouble::failure(&failure, &name).on(&desk.shown))?;
    let status = exit::of_preview(&preview);
    let again = format!("{}{}", common.on_again(), args.change.said_again());
    if let Some(file) = &args.html {
        html::preview(file, &preview, &About::of(change.reason.as_deref(), &again, &common.on_again()))?;
        html::cut(&mut preview, args.change.show);
    }
    args.hand_on(&desk, (&preview, &change), &name, &common.on_again())?;
    show(common, &Screen::Preview(&preview, status, &again));
    Ok(status)
}

impl PreviewArgs {
    /// How many rows are gathered: a page shows more of them. Where a file that is wanted cannot be, nothing is begun.
    pub(super) fn gathered(&self, change: &Change) -> Result<Show, Trouble> {
        if let Some(file) = &self.out {
            handover::can_be(file, change)?;
        }
        let Some(file) = &self.html else { return Ok(self.change.show) };
        html::is_new(file)?;
        Ok(html::gathered(self.change.show))
    }

    /// Writes a preview down for somebody else, where that is wanted.
    pub(super) fn hand_on(
        &self,
        desk: &Desk,
        seen: (&Preview, &Change),
        name: &str,
        on: &str,
    ) -> Result<(), Trouble> {
        let Some(file) = &self.out else { return Ok(()) };
        handover::write(file, desk, seen, &self.change, name)?;
        let apply = printed::apply_handed(file, on);
        tell(&format!("{} holds it with its mark, to be handed on: {apply}\n", file.display()));
        Ok(())
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
