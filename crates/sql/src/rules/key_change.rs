//! `key-change`: the target's key is assigned.

use marktwice_core::{Code, Finding};

use super::Facts;

/// Looks for assigned key columns.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let assigned = seen.step.assignments.iter().flat_map(|a| &a.columns);
    assigned
        .filter(|name| seen.target.key.names.iter().any(|k| k.eq_ignore_ascii_case(&name.text)))
        .map(|name| {
            Finding::new(
                Code::KeyChange,
                format!("{} is part of the key of {}", name.text, seen.target.table),
            )
            .at(seen.step.place(name.slice))
        })
        .collect()
}
