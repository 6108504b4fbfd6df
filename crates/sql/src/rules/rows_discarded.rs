//! `rows-discarded`: RETURNING, whose rows nobody reads.

use marktwice_core::{Code, Finding};

use super::Facts;

/// Looks for RETURNING.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let returning = seen.step.returning.iter();
    let message = "the rows that RETURNING gives back are discarded";
    returning.map(|at| Finding::new(Code::RowsDiscarded, message).at(seen.step.place(*at))).collect()
}
