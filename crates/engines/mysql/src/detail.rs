//! What is remembered of a plan, beside what all engines remember.

use crate::catalog::{NoTemporary, Table};

/// What is remembered of a plan.
pub(crate) type Detail = marktwice_relational::detail::Detail<Table>;

/// What only this server remembers of a plan.
#[derive(Debug)]
pub(crate) struct Own {
    /// Why no rows can be held in a temporary table, where that is so.
    pub(crate) no_temporary: Option<NoTemporary>,
    /// Whether the assignments must be run in their order, because one reads what an earlier one sets.
    pub(crate) trial: bool,
    /// Whether the session stores another value for NULL where a column takes none.
    pub(crate) bends: bool,
}
