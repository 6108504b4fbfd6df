//! Columns without a type of their own that hold nothing but days: there `today` is the engine's own day, and `+=7d` moves them.

use marktwice_core::Target;
use marktwice_port::{Draft, Which, Work};
use marktwice_run::rows;

use crate::desk::Desk;
use crate::report::Trouble;

/// The table, with columns as days where all that they hold are days, and something is to be set in them that only days know.
pub(crate) fn dated(desk: &Desk, target: &Target, schema: bool, sets: &[String]) -> Result<Target, Trouble> {
    let language = desk.engine.language();
    let mut dated = target.clone();
    for set in sets {
        let Some((name, value)) = set.split_once('=') else { continue };
        let moved = name.trim().strip_suffix(['+', '-']).map(str::trim_end);
        let name = match moved.filter(|_| target.position(name.trim()).is_none()) {
            Some(name) => name,
            None if ["now", "today"].contains(&value) => name.trim(),
            None => continue,
        };
        let Some(at) = target.position(name) else { continue };
        let Some(column) = target.columns.get(at) else { continue };
        let Some(days) = language.days(column) else { continue };
        let count = |condition: &str| -> Result<u64, Trouble> {
            let draft = Draft { target, schema, work: Work::Delete, rows: Which::Condition(condition) };
            let composed = language.compose(&draft);
            let text = composed.map_err(|wrong| Trouble::usage(wrong.message, wrong.hint))?.text;
            let found = desk.with(|context| rows(context, &text, Some(condition), Some(0)));
            Ok(found
                .map_err(|failure| Trouble::failure(&failure, "the column").on(&desk.shown))?
                .seen
                .matched)
        };
        let mut held = None;
        if count(&days.holds)? > 0 {
            for (unlike, kind) in days.unlike {
                if held.is_none() && count(&unlike)? == 0 {
                    held = Some(kind);
                }
            }
        }
        // A number may be added to one that holds numbers; what else is there is not.
        let plain = |value: &str| value.parse::<f64>().is_ok();
        let held = match (held, moved) {
            (Some(held), _) => held,
            (None, Some(_)) if !plain(value) => days.mixed,
            (None, _) => continue,
        };
        if let Some(column) = dated.columns.get_mut(at) {
            column.declared = held;
        }
    }
    Ok(dated)
}
