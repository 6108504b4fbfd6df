//! `not-unique`: nothing in the filter pins single rows.

use marktwice_core::table::Pin;
use marktwice_core::{Code, Finding};

use super::Seen;

/// Looks whether a filter names a key.
pub fn look(seen: Seen<'_>) -> Vec<Finding> {
    match (&seen.step.filter, seen.pin) {
        (Some(filter), Pin::Nothing) => {
            let key = seen.target.key.names.join(", ");
            let message =
                format!("the filter compares neither the key ({key}) nor a unique column with a value");
            vec![Finding::new(Code::NotUnique, message).at(seen.step.place(filter.slice))]
        }
        _ => Vec::new(),
    }
}
