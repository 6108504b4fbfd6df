//! The one next step after a preview.

use marktwice_core::Code;
use marktwice_core::mark::Label;
use marktwice_run::{Preview, Rehearsal, StepPreview};

use super::{BOLD, GOOD, cells, styled};

/// How a rehearsal ended, and the one next step.
pub(crate) fn rehearsed(seen: &Rehearsal, file: &str, on: &str) -> String {
    let preview = &seen.preview;
    if let Some(ended) = &seen.ended {
        let table = |step: &StepPreview| step.block.target.table.clone();
        let tables: Vec<String> = preview.steps.iter().map(table).collect();
        let tables: Vec<&str> = tables.iter().map(String::as_str).collect();
        let how = super::outcome::ended(ended, true, (&tables, file), on);
        return format!("An application would end so:\n{how}");
    }
    if !preview.rehearsed {
        return next_step(preview, on);
    }
    let mut out = String::new();
    if !preview.stops().is_empty() || !preview.unmet().is_empty() || preview.fails() {
        out.push_str("Rehearsed and rolled back; nothing changed. ");
        out.push_str(&next_step(preview, on));
        return out;
    }
    let mark = preview.mark.as_deref().unwrap_or_default();
    let apply = styled(BOLD, &cells::escape(&format!("marktwice apply --mark {mark}{}{on}", again(preview))));
    let proven = "every row verified, every constraint kept";
    format!(
        "{}: {proven}. Rolled back; nothing changed.\nMark {} is taken; to apply exactly this: {apply}\n",
        styled(GOOD, "It would be committed"),
        styled(BOLD, mark),
    )
}

/// The one next step; `on` is what else stands in a command for the same database.
pub(crate) fn next_step(preview: &Preview, on: &str) -> String {
    let stops = preview.stops();
    if !stops.is_empty() {
        let names: Vec<&str> = stops.iter().map(|c| c.as_str()).collect();
        return format!(
            "It would not be applied: {} {} it.\n",
            names.join(", "),
            if stops.len() == 1 { "stops" } else { "stop" }
        );
    }
    if !preview.unmet().is_empty() {
        return "It would not be applied: another count is expected.\n".to_owned();
    }
    if preview.fails() {
        let mut failing = preview.steps.iter().flat_map(|step| step.block.failing());
        let queries = preview.checks_failing().next().is_some();
        let said = !queries && failing.all(|found| found.check.was.is_some());
        let why = if said { "what is there is not what was said" } else { "a check does not hold" };
        return format!("It would not be applied: {why}.\n");
    }
    if preview.nothing_to_do() {
        return "There is nothing to apply.\n".to_owned();
    }
    let missing = preview.findings().find(|f| f.code == Code::MissingPrivilege);
    let unheld = preview.steps.iter().flat_map(|step| &step.block.foreseen);
    let mut unheld = unheld.filter(|f| f.label == Label::Computed);
    if let Some(why) = missing.map(|f| f.message.clone()).or_else(|| unheld.find_map(|f| f.why.clone())) {
        return format!("Nothing was written. It cannot be applied here: {why}.\n");
    }
    let mark = preview.mark.as_deref().unwrap_or_default();
    let apply = styled(BOLD, &cells::escape(&format!("marktwice apply --mark {mark}{}{on}", again(preview))));
    if !preview.open().is_empty() {
        return format!(
            "Nothing was written. Mark {} is taken. To rehearse all steps, see their rows, and be asked: {}\n",
            styled(BOLD, mark),
            apply
        );
    }
    format!("Nothing was written. Mark {} is taken; to apply exactly this: {}\n", styled(BOLD, mark), apply)
}

/// Secrets that a mark does not keep, as they are given again.
fn again(preview: &Preview) -> String {
    let secret = preview.params.iter().filter(|param| param.secret);
    secret.map(|param| format!(" --with {}=...", param.name)).collect()
}
