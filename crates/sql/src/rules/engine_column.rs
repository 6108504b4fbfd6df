//! `engine-column`: a column that the engine fills by itself is assigned.

use marktwice_core::finding::Level;
use marktwice_core::{Code, Finding};

use super::Facts;

/// Looks for assigned columns that are generated, or that the engine counts up.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let names = seen.step.assignments.iter().flat_map(|a| {
        let value = |nth| a.parts.as_ref().and_then(|p| p.get(nth));
        a.columns.iter().enumerate().map(move |(nth, name)| (name, value(nth)))
    });
    names
        // DEFAULT leaves it to the engine.
        .filter(|(_, value)| !value.is_some_and(|v| seen.step.text(*v).eq_ignore_ascii_case("default")))
        .filter_map(|(name, _)| {
            let at = seen.target.position(&name.text)?;
            let place = seen.step.place(name.slice);
            if seen.target.columns.get(at)?.generated {
                let message = format!("{} is computed by the engine and cannot be assigned", name.text);
                let finding = Finding::new(Code::EngineColumn, message).at(place);
                return Some(
                    finding.weighing(Level::Stop).hint("assign the columns that it is computed from"),
                );
            }
            seen.counted.contains(&at).then(|| {
                let message = format!(
                    "the engine numbers {} by itself: a number that it gives later may be taken",
                    name.text
                );
                Finding::new(Code::EngineColumn, message).at(place)
            })
        })
        .collect()
}
