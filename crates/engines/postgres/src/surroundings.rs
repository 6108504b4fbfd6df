//! What stands around the held rows: how many rows the table has, whether it is still the one that was planned with,
//! and what foreign keys' actions would write.

use marktwice_core::mark::StepKind;
use marktwice_port::{EngineError, Plan, SideWrite};
use marktwice_server::layout::HELD;
use marktwice_server::reach::{Counter, ForeignKey, count_actions};
use marktwice_server::statement::{self, same_definition};
use marktwice_sql::Language;

use crate::catalog::{Table, describe};
use crate::client::Pg;
use crate::held::Filled;
use crate::plan::Detail;

/// How many rows a table has.
pub(crate) fn count(pg: &mut Pg, table: &Table) -> Result<u64, EngineError> {
    pg.count(&format!("SELECT count(*) FROM {}", table.from))
}

/// Refuses when definitions have changed since the plan was made.
pub(crate) fn still_defined(pg: &mut Pg, table: &Table) -> Result<(), EngineError> {
    let now = describe(pg, &table.target.schema, &table.target.table)?;
    same_definition(&now.target, &table.target, "the preview")
}

/// Foreign keys' actions on the held rows.
pub(crate) fn actions(
    pg: &mut Pg,
    keys: &[ForeignKey],
    table: &Table,
    kind: StepKind,
    assigned: &[(usize, Option<String>)],
) -> Result<Vec<SideWrite>, EngineError> {
    let mut counter = Counter {
        language: Language::Postgres,
        held: &format!("pg_temp.{HELD}"),
        count: &mut |sql| pg.count(sql),
    };
    count_actions(&mut counter, keys, &table.target, &table.shown, kind, assigned)
}

/// What is held, counted, and foreseen to be written elsewhere, once the held table is full.
pub(crate) fn surroundings(
    pg: &mut Pg,
    plan: &Plan,
    detail: &Detail,
    filled: &Filled,
) -> Result<marktwice_port::Held, EngineError> {
    let total = count(pg, &detail.table)?;
    let (layout, counts) = (&filled.held.layout, (filled.matched, total));
    statement::surroundings(plan, layout, &detail.writes, counts, filled.many.clone(), |assigned| {
        actions(pg, &detail.foreign_keys, &detail.table, plan.kind, assigned)
    })
}
