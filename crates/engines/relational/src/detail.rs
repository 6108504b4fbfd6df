//! What a relational engine remembers of a plan.

use marktwice_core::way_back::WayBack;
use marktwice_port::SideWrite;
use marktwice_sql::Step;

use crate::along::Graph;
use crate::reach::ForeignKey;
use crate::shell::Tabled;
use crate::statement::Fires;
use crate::walk::Reached;

/// What is remembered of a plan.
#[derive(Debug)]
pub struct Detail<T: Tabled> {
    /// The understood statement.
    pub step: Step,
    /// The table that it writes.
    pub table: T,
    /// Foreign keys of and onto the table, and of what follows from those.
    pub foreign_keys: Vec<ForeignKey>,
    /// What foreign keys' actions may take along; `None` where not all of it can be held.
    pub along: Option<Graph<T>>,
    /// Writes by triggers, as far as is known.
    pub writes: Vec<SideWrite>,
    /// What its functions and its triggers do in the end.
    pub reached: [Reached; 2],
    /// Assigned expressions by column, those that can be told beforehand.
    pub values: Vec<(usize, String)>,
    /// What columns are filled with that rows which come in are given nothing for.
    pub defaults: Vec<Option<String>>,
    /// Which triggers the statement sets off.
    pub fires: Fires,
    /// What definitions and rights say of an undo.
    pub back: WayBack,
    /// Whether everything that the statement calls may be run while it is looked closer at.
    pub quiet: bool,
    /// What only this engine remembers.
    pub own: T::Own,
}
