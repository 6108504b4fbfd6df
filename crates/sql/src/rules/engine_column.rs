//! `engine-column`: a column that the engine fills by itself is assigned.

use marktwice_core::finding::Level;
use marktwice_core::{Code, Finding};

use super::Seen;

/// Looks for assigned columns that are generated, or that the engine counts up.
pub fn look(seen: Seen<'_>) -> Vec<Finding> {
    let names = seen.step.assignments.iter().flat_map(|a| &a.columns);
    names
        .filter_map(|name| {
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
