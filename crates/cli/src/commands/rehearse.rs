//! `rehearse`: the whole application for real, and then always rolled back.

use marktwice_run::{Shown, rehearse_change};

use crate::args::{Common, PreviewArgs};
use crate::desk::Desk;
use crate::exit;
use crate::html::{self, About};
use crate::report::Trouble;
use crate::screen::{Screen, show};
use crate::talk::Terminal;

use super::preview::change_and_name;

/// Rehearses a change.
pub(crate) fn run(common: &Common, args: PreviewArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let (change, name) = change_and_name(&desk, &args.change)?;
    let mut nothing = |_: &Shown<'_>| {};
    let mut talk = Terminal { show: &mut nothing, ambient: &desk.ambient, name: None, edits: None };
    let wanted = args.gathered(&change)?;
    let mut seen = desk
        .with(|context| rehearse_change(context, &change, wanted, &mut talk))
        .map_err(|failure| Trouble::failure(&failure, &name).on(&desk.shown))?;
    let status =
        seen.ended.as_ref().map_or(exit::of_preview(&seen.preview), |ended| exit::of_end(&ended.end));
    let again = format!("{}{}", common.on_again(), args.change.said_again());
    if let Some(file) = &args.html {
        html::rehearsal(
            file,
            &seen,
            &About::of(change.reason.as_deref(), &again, &common.on_again()),
            &name,
        )?;
        html::cut(&mut seen.preview, args.change.show);
    }
    args.hand_on(&desk, (&seen.preview, &change), &name, &common.on_again())?;
    show(common, &Screen::Rehearsal(&seen, status, &name, &again));
    Ok(status)
}
