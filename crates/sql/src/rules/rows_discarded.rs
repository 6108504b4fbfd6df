//! `rows-discarded`: RETURNING, whose rows nobody reads.

use marktwice_core::{Code, Finding};

use super::Facts;

/// Looks for RETURNING.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let returning = seen.step.returning.iter();
    let message = "RETURNING is run as written, and its rows are discarded";
    returning.map(|at| Finding::new(Code::RowsDiscarded, message).at(seen.step.place(*at))).collect()
}
