//! `assigned-twice`: one column is assigned twice.

use marktwice_core::{Code, Finding};

use super::Facts;

/// Looks for a column that stands on the left a second time.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let mut set: Vec<usize> = Vec::new();
    let mut found = Vec::new();
    // Two parts of one value are two values.
    let whole = seen.step.assignments.iter().filter(|a| a.pieces.is_empty());
    for name in whole.flat_map(|a| &a.columns) {
        let Some(at) = seen.target.position(&name.text) else { continue };
        if set.contains(&at) {
            let message =
                format!("{} is assigned twice, and only one of the values can be stored", name.text);
            found.push(Finding::new(Code::AssignedTwice, message).at(seen.step.place(name.slice)));
        }
        set.push(at);
    }
    found
}
