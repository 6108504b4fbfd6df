//! What is remembered of a plan, beside what all engines remember.

use crate::catalog::Table;

/// What is remembered of a plan.
pub(crate) type Detail = marktwice_relational::detail::Detail<Table>;

/// What only this engine remembers of a plan.
#[derive(Debug)]
pub(crate) struct Own {
    /// The engine's count of schema changes when the plan was made.
    pub(crate) schema: i64,
}
