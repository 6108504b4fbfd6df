//! Rows that foreign keys' actions take along, to any depth: which tables they are in is known from the catalogue when a step
//! is planned (the graph here); which rows they are, and what becomes of each, the held tables say once the step's own rows
//! are held ([`gather()`]). Nobody writes a statement for them; all the rest is done with them as with a step's own rows.

use marktwice_core::along::Along;
use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_port::{Batch, EngineError, Plan};

use crate::detail::Detail;
use crate::driver::Driver;
use crate::reach::{ForeignKey, acts};
use crate::shell::{Joining, Tabled};

mod gather;
mod search;

pub use gather::{Gathered, define, fired_by, gather, side};
pub use search::graph;

/// Where rows are reached from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum From {
    /// The step's own rows.
    Step,
    /// Rows of another table of the graph.
    Node(usize),
}

/// What becomes of a row that is reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Act {
    /// It goes.
    Delete,
    /// Columns become NULL.
    Null,
    /// Columns become their defaults; `None` for one that only the run can tell.
    Default(Vec<Option<String>>),
    /// Columns follow those that are referred to.
    Follow,
}

/// A foreign key, from rows that are written to those that refer to them.
#[derive(Debug, Clone)]
pub struct Edge {
    /// Whose rows are referred to.
    pub from: From,
    /// Which table refers.
    pub to: usize,
    /// The columns referred to, and those that refer.
    pub columns: Vec<(usize, usize)>,
    /// What becomes of the rows when theirs go.
    pub on_delete: Option<Action>,
    /// What becomes of them when the columns that they refer to change.
    pub on_update: Option<Action>,
}

/// An action of a foreign key.
#[derive(Debug, Clone)]
pub struct Action {
    /// What becomes of a row.
    pub act: Act,
    /// The columns that it sets.
    pub sets: Vec<usize>,
    /// Whether it can be set off here.
    pub live: bool,
    /// It in words for people.
    pub words: String,
}

impl Edge {
    /// What can be set off.
    pub fn live(&self) -> impl Iterator<Item = &Action> {
        self.on_delete.iter().chain(&self.on_update).filter(|action| action.live)
    }
}

/// A table of which rows are taken along.
#[derive(Debug, Clone)]
pub struct Node<T> {
    /// It.
    pub table: T,
    /// Columns that actions set, with values that can be told.
    pub known: Vec<usize>,
    /// What the rest of the program sees.
    pub along: Along,
    /// Whether a row may be reached on more ways than one.
    pub again: bool,
}

/// What a step may take along.
#[derive(Debug, Clone)]
pub struct Graph<T> {
    /// The tables, parents before children.
    pub nodes: Vec<Node<T>>,
    /// How they are reached.
    pub edges: Vec<Edge>,
}

impl<T> Default for Graph<T> {
    fn default() -> Self {
        Graph { nodes: Vec::new(), edges: Vec::new() }
    }
}

impl<T> Graph<T> {
    /// The tables as the rest of the program sees them.
    pub fn along(&self) -> Vec<Along> {
        self.nodes.iter().map(|node| node.along.clone()).collect()
    }
}

/// Adds to a plan what it takes along.
///
/// # Errors
/// What the engine says.
pub fn settle<D: Driver>(driver: &mut D, plan: &mut Plan) -> Result<(), EngineError> {
    let known = |f: &Foreseen| (f.column, f.label != Label::Unknown);
    let (kind, assigned) = (plan.kind, plan.foreseen.iter().map(known).collect::<Vec<_>>());
    let Some(detail) = plan.detail.downcast_mut::<Detail<D::Table>>() else { return Ok(()) };
    if driver.may_hold(detail).is_err() {
        return Ok(());
    }
    let target = detail.table.target();
    let acting = |key: &ForeignKey| match kind {
        StepKind::Delete => acts(&key.on_delete),
        StepKind::Update => acts(&key.on_update),
        StepKind::Insert => false,
    };
    // The commonest case costs no question.
    if !detail.foreign_keys.iter().filter(|key| key.leads_to(target)).any(acting) {
        detail.along = Some(Graph::default());
        return Ok(());
    }
    let (keys, table) = (&detail.foreign_keys, &detail.table);
    let graph = driver.looking(|driver| graph(driver, keys, table, kind, &assigned))?;
    plan.along = graph.as_ref().map(Graph::along).unwrap_or_default();
    detail.along = graph;
    Ok(())
}

/// What putting rows back takes along.
///
/// # Errors
/// What the engine says.
pub fn of_batch<D: Driver>(
    driver: &mut D,
    table: &D::Table,
    keys: &[ForeignKey],
    batch: &Batch,
) -> Result<Option<Graph<D::Table>>, EngineError> {
    let assigned: Vec<(usize, bool)> = batch.columns.iter().map(|at| (*at, true)).collect();
    graph(driver, keys, table, batch.kind, &assigned)
}

/// A list of columns of a table under an alias, compared as one.
fn row_of(alias: &str, names: &[String]) -> String {
    let names: Vec<String> = names.iter().map(|n| format!("{alias}.{n}")).collect();
    match names.as_slice() {
        [only] => only.clone(),
        all => format!("({})", all.join(", ")),
    }
}

/// A condition that no row of `table` is the one that `c` is. `identity` is what tells it: columns of `table`, and the row's.
pub fn not_among<T: Tabled>(table: &str, identity: &[(String, String)]) -> String {
    if T::JOINING != Joining::From {
        // Such a list is made once; the other form would be searched through for each row. Where that is so for the list,
        // the other form is joined.
        let (held, own): (Vec<String>, Vec<String>) = identity.iter().cloned().unzip();
        return format!("{} NOT IN (SELECT {} FROM {table} AS m)", row_of("c", &own), held.join(", "));
    }
    let same: Vec<String> = identity.iter().map(|(held, own)| format!("c.{own} = m.{held}")).collect();
    format!("NOT EXISTS (SELECT 1 FROM {table} AS m WHERE {})", same.join(" AND "))
}
