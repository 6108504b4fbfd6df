//! `compare`: do two ways of writing a change match the same rows, and give the same values?

use marktwice_core::Change;
use marktwice_run::compare;

use crate::args::{Common, CompareArgs};
use crate::desk::{Desk, Text, give_params, given};
use crate::exit;
use crate::report::Trouble;
use crate::screen::{Screen, show};

/// Compares.
pub(crate) fn run(common: &Common, args: &CompareArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let files = args.files.iter().map(|path| Text::of_file(path));
    let lines = args.sql.iter().map(|sql| Ok(Text::of_line(sql)));
    let texts: Vec<Text> = files.chain(lines).collect::<Result<_, _>>()?;
    let language = desk.engine.language();
    let given = given(&args.with, &args.with_file, &args.with_null)?;
    let changes = texts.iter().map(|text| {
        let (mut change, more) = text.change(language, &args.allow)?;
        let named = language.placeholders(&change.source);
        // One of the two may use what the other does not.
        let own: Vec<_> =
            given.iter().filter(|(name, _)| named.iter().any(|(_, n)| n == name)).cloned().collect();
        give_params(&mut change, (&more.params, &own), language, &text.name)?;
        Ok(change)
    });
    let changes: Vec<Change> = changes.collect::<Result<_, _>>()?;
    match (texts.as_slice(), changes.as_slice()) {
        ([one, two], [first, second]) => {
            let found = desk.with(|context| compare(context, [first, second]));
            let found = found.map_err(|(which, failure)| {
                let text = if which == 0 { one } else { two };
                Trouble::failure(&failure, &text.name).on(&desk.shown)
            })?;
            let status = exit::of_comparison(found.same());
            show(common, &Screen::Comparison(&found, [&one.name, &two.name], status));
            Ok(status)
        }
        ([text], [change]) if text.origin.is_some() => with_the_last(common, &desk, (change, &text.name)),
        ([_], _) => Err(Trouble::usage(
            "one statement by itself is compared with nothing",
            "name two changes, or a file that was previewed before",
        )),
        _ => Err(Trouble::usage(
            "one or two changes are compared",
            "name one or two change files, or --sql TEXT once or twice",
        )),
    }
}

/// A file as it is now, with the last preview of it.
fn with_the_last(common: &Common, desk: &Desk, (change, name): (&Change, &str)) -> Result<u8, Trouble> {
    let failed = |failure: marktwice_run::Failure| Trouble::failure(&failure, name).on(&desk.shown);
    let change = Change { quick: true, ..change.clone() };
    let preview = desk
        .with(|context| marktwice_run::preview_again(context, &change, marktwice_run::Show::First(20)))
        .map_err(failed)?;
    let status = exit::of_comparison(preview.as_before());
    show(common, &Screen::Again(&preview, name, status));
    Ok(status)
}
