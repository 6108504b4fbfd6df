//! `not-unique`: nothing in the filter pins single rows.

use marktwice_core::table::Pin;
use marktwice_core::{Code, Finding};

use super::Facts;

/// Looks whether a filter names a key.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    match (&seen.step.filter, seen.pin) {
        (Some(filter), Pin::Nothing) if seen.step.sources.is_none() => {
            let key = seen.target.key.names.join(", ");
            let message = if key.is_empty() {
                format!("{} has no key, and no unique column is compared with a value", seen.target.table)
            } else {
                format!("the filter compares neither the key ({key}) nor a unique column with a value")
            };
            vec![Finding::new(Code::NotUnique, message).at(seen.step.place(filter.slice))]
        }
        _ => Vec::new(),
    }
}
