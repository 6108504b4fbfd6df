//! `preview`: which rows, with what contents, and what they would become.

use marktwice_core::Code;
use marktwice_core::mark::Label;
use marktwice_run::Preview;

use super::{Desk, change_of, print, print_json, read_text};
use crate::args::{Common, Format, PreviewArgs};
use crate::human::{BOLD, styled};
use crate::report::Trouble;
use crate::{exit, human, json};

/// Previews a change.
pub(crate) fn run(common: &Common, args: PreviewArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let Some(text) = read_text(&args.change)? else {
        return Err(Trouble::usage(
            "no change is named",
            "name a change file, - for standard input, or --sql TEXT",
        ));
    };
    let change = change_of(&text, &args.change, desk.kind.language)?;
    let preview = desk
        .with(|context| marktwice_run::preview(context, &change, args.change.show))
        .map_err(|failure| Trouble::failure(&failure, &text.name).on(&desk))?;
    let status = exit::of_preview(&preview);
    match common.format {
        Format::Json => print_json(&json::preview(&preview, status)),
        Format::Human => {
            print(&format!("{}\n{}", human::preview(&preview, common.verbose), next_step(&preview)))
        }
    }
    Ok(status)
}

/// The one next step.
pub(crate) fn next_step(preview: &Preview) -> String {
    let stops = preview.stops();
    if !stops.is_empty() {
        let names: Vec<&str> = stops.iter().map(|c| c.as_str()).collect();
        return format!(
            "It would not be applied: {} {} it.\n",
            names.join(", "),
            if stops.len() == 1 { "stops" } else { "stop" }
        );
    }
    if !preview.unmet.is_empty() {
        return "It would not be applied: another count is expected.\n".to_owned();
    }
    if preview.nothing_to_do() {
        return "There is nothing to apply.\n".to_owned();
    }
    let missing = preview.findings.iter().find(|f| f.code == Code::MissingPrivilege);
    let unheld = preview.foreseen.iter().find(|f| f.label == Label::Computed);
    if let Some(why) = missing.map(|f| f.message.clone()).or_else(|| unheld.and_then(|f| f.why.clone())) {
        return format!("Nothing was written. It cannot be applied here: {why}.\n");
    }
    let mark = preview.mark.as_deref().unwrap_or("");
    format!(
        "Nothing was written. Mark {} is taken; to apply exactly this: {}\n",
        styled(BOLD, mark),
        styled(BOLD, "marktwice apply")
    )
}
