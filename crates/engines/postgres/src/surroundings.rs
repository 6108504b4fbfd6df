//! What stands around the held rows: how many rows the table has, whether it is still the one that was planned with,
//! and what foreign keys' actions would write.

use marktwice_core::mark::StepKind;
use marktwice_port::{EngineError, Plan, SideWrite};
use marktwice_server::reach::{Counter, ForeignKey, count_actions};
use marktwice_server::statement::{self, same_definition};
use marktwice_server::walk::{Start, walk};
use marktwice_sql::Language;
use marktwice_sql::ours::HELD;

use crate::calls::Asking;
use crate::catalog::{Table, describe};
use crate::client::Pg;
use crate::held::{Filled, identity};
use crate::plan::{Detail, elsewhere};
use crate::way_back::by_rows;

/// How many rows a table has.
pub(crate) fn count(pg: &mut Pg, table: &Table) -> Result<u64, EngineError> {
    pg.count(&format!("SELECT count(*) FROM {}", table.from))
}

/// Refuses when definitions have changed since the plan was made.
pub(crate) fn still_defined(pg: &mut Pg, table: &Table) -> Result<(), EngineError> {
    let now = describe(pg, &table.target.schema, &table.target.table)?;
    same_definition(&now.target, &table.target, "the preview")?;
    elsewhere(&now).map_or(Ok(()), |said| Err(EngineError::SchemaChanged(said)))
}

/// Foreign keys' actions on the held rows.
pub(crate) fn actions(
    pg: &mut Pg,
    keys: &[ForeignKey],
    table: &Table,
    kind: StepKind,
    assigned: &[(usize, Option<String>)],
) -> Result<Vec<SideWrite>, EngineError> {
    let visible: Vec<(String, String)> = identity(table, "")
        .into_iter()
        .map(|(held, own)| (held, own.trim_start_matches('.').to_owned()))
        .collect();
    // Both closures ask the same connection, one after the other.
    let pg = std::cell::RefCell::new(pg);
    let mut counter = Counter {
        language: Language::Postgres,
        held: &format!("pg_temp.{HELD}"),
        identity: &visible,
        count: &mut |sql| pg.borrow_mut().count(sql),
        further: &mut |written| {
            let start = vec![Start::Table(written.clone(), true)];
            Ok(walk(&mut Asking(&mut pg.borrow_mut()), start)?.side_writes(true))
        },
    };
    count_actions(&mut counter, keys, &table.target, kind, assigned)
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
    let back = by_rows(pg, plan, detail)?;
    statement::surroundings(
        plan,
        layout,
        &detail.writes,
        counts,
        filled.many.clone(),
        (back, detail.fires),
        |assigned| actions(pg, &detail.foreign_keys, &detail.table, plan.kind, assigned),
    )
}
