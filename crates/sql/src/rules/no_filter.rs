//! `no-filter`: a statement without WHERE.

use marktwice_core::{Code, Finding};

use super::Seen;

/// Looks for a missing filter.
pub fn look(seen: Seen<'_>) -> Vec<Finding> {
    if seen.step.filter.is_some() {
        return Vec::new();
    }
    let message = format!(
        "there is no WHERE: this {} is for every row of {}",
        seen.step.kind.verb(),
        seen.target.table
    );
    vec![Finding::new(Code::NoFilter, message).at(seen.step.place(seen.step.statement))]
}
