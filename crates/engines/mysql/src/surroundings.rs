//! What stands around the held rows: how many rows the table has, whether it is still the one that was planned with,
//! and what foreign keys' actions would write.

use marktwice_core::mark::StepKind;
use marktwice_port::{EngineError, Plan, SideWrite};
use marktwice_server::reach::{Counter, ForeignKey, count_actions};
use marktwice_server::statement::{self, same_definition};
use marktwice_sql::Language;
use marktwice_sql::ours::before;

use crate::catalog::{Table, describe, held_name, ident};
use crate::client::My;
use crate::held::Filled;
use crate::plan::Detail;
use crate::way_back::by_rows;

/// How many rows a table has.
pub(crate) fn count(my: &mut My, table: &Table) -> Result<u64, EngineError> {
    my.count(&format!("SELECT count(*) FROM {}", table.name))
}

/// Refuses when definitions have changed since the plan was made.
pub(crate) fn still_defined(my: &mut My, table: &Table) -> Result<(), EngineError> {
    let now = describe(my, &table.target.schema, &table.target.table)?;
    same_definition(&now.target, &table.target, "the preview")
}

/// Foreign keys' actions on the held rows.
pub(crate) fn actions(
    my: &mut My,
    keys: &[ForeignKey],
    table: &Table,
    kind: StepKind,
    assigned: &[(usize, Option<String>)],
) -> Result<Vec<SideWrite>, EngineError> {
    let key = &table.target.key;
    let identity: Vec<(String, String)> =
        key.columns.iter().zip(&key.names).map(|(at, name)| (before(*at), ident(name))).collect();
    let mut counter = Counter {
        language: Language::Mysql,
        held: &held_name(table),
        identity: &identity,
        count: &mut |sql| my.count(sql),
        // A foreign key's action fires no trigger on this engine.
        further: &mut |_| Ok(Vec::new()),
    };
    count_actions(&mut counter, keys, &table.target, kind, assigned)
}

/// What is held, counted, and foreseen to be written elsewhere, once the held table is full.
pub(crate) fn surroundings(
    my: &mut My,
    plan: &Plan,
    detail: &Detail,
    filled: &Filled,
) -> Result<marktwice_port::Held, EngineError> {
    let total = count(my, &detail.table)?;
    let (layout, counts) = (&filled.held.layout, (filled.matched, total));
    let back = by_rows(my, plan, detail)?;
    statement::surroundings(
        plan,
        layout,
        &detail.writes,
        counts,
        filled.many.clone(),
        (back, detail.fires),
        |assigned| actions(my, &detail.foreign_keys, &detail.table, plan.kind, assigned),
    )
}
