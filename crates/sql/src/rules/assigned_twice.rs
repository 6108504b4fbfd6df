//! `assigned-twice`: one column is assigned twice.

use marktwice_core::{Code, Finding};

use super::Seen;

/// Looks for a column that stands on the left a second time.
pub fn look(seen: Seen<'_>) -> Vec<Finding> {
    let mut set: Vec<usize> = Vec::new();
    let mut found = Vec::new();
    for name in seen.step.assignments.iter().flat_map(|a| &a.columns) {
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
