//! Whether an undo will succeed here: triggers that set what is put back, and rows without the parents that their keys
//! name, since foreign keys are off on most connections and on in ours.

use marktwice_core::mark::StepKind;
use marktwice_core::way_back::WayBack;
use marktwice_port::{EngineError, Plan, Restore, SideWrite};
use marktwice_server::way_back;
use marktwice_sql::Language;
use marktwice_sql::ours::HELD;
use rusqlite::Connection;

use crate::catalog::Table;
use crate::error::engine;
use crate::plan::Detail;
use crate::probe;
use crate::reach::fired;
use crate::restore::put_statement;

/// What the compile step says of putting rows back, and what that would write elsewhere.
pub(crate) fn by_definition(
    connection: &mut Connection,
    table: &Table,
    restore: &Restore,
) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
    let mut side: Vec<SideWrite> = Vec::new();
    let mut back = WayBack::default();
    for kind in [Some(restore.kind), restore.inserts.then_some(StepKind::Insert)].into_iter().flatten() {
        if kind == StepKind::Update && restore.columns.is_empty() {
            continue;
        }
        let acts = probe::acts(connection, &put_statement(restore, kind)).map_err(engine)?;
        let fired = fired(connection, &acts, table)?;
        for (at, trigger) in &fired.target_columns {
            if let Some(column) = table.target.columns.get(*at) {
                back.owns(&column.name, format!("trigger {trigger} sets it"));
            }
        }
        back.unsure.extend(
            fired
                .skips
                .iter()
                .chain(&fired.takes)
                .map(|trigger| format!("trigger {trigger} may skip or take away what is put back")),
        );
        side.extend(fired.writes);
    }
    side.dedup();
    way_back::allowing(&mut back, &side);
    Ok((side, back))
}

/// Adds what the held rows say.
pub(crate) fn by_rows(connection: &Connection, plan: &Plan, detail: &Detail) -> Result<WayBack, EngineError> {
    let mut back = detail.back.clone();
    let assigned: Vec<usize> = plan.foreseen.iter().map(|f| f.column).collect();
    back.obstacles.extend(way_back::by_rows(
        Language::Sqlite,
        &format!("temp.{HELD}"),
        &detail.table.target,
        plan.kind,
        &assigned,
        &detail.foreign_keys,
        &mut |sql| {
            connection.query_row(sql, [], |row| row.get::<_, i64>(0)).map(i64::unsigned_abs).map_err(engine)
        },
    )?);
    Ok(back)
}
