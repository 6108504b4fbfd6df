//! What is remembered of a plan, beside what all engines remember.

use crate::catalog::Table;

/// What is remembered of a plan.
pub(crate) type Detail = marktwice_relational::detail::Detail<Table>;

/// What only this server remembers of a plan.
#[derive(Debug)]
pub(crate) struct Own {
    /// Whether rows can be held in a temporary table.
    pub(crate) temp: bool,
    /// Whether rows can be locked, which takes the right to update.
    pub(crate) lock: bool,
}
