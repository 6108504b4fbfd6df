//! Whether an undo will succeed here: triggers that set what is put back, and rows without the parents that their keys
//! name, since foreign keys are off on most connections and on in ours.

use marktwice_core::mark::StepKind;
use marktwice_core::table::{KeyKind, Target};
use marktwice_core::way_back::WayBack;
use marktwice_port::{Batch, EngineError, Plan, SideWrite};
use marktwice_relational::shell::Shell;
use marktwice_relational::way_back;
use rusqlite::Connection;

use crate::catalog::Table;
use crate::detail::Detail;
use crate::error::engine;
use crate::names::quoted;
use crate::probe;
use crate::reach::fired;
use crate::session::Lite;

fn keyed(target: &Target) -> String {
    let terms: Vec<String> = target.key.names.iter().map(|k| format!("{} = ?", quoted(k))).collect();
    terms.join(" AND ")
}

/// A statement that puts one row back, for the compile step: what is run for all of them together sets off the same.
fn put_statement(batch: &Batch, kind: StepKind) -> String {
    let target = &batch.target;
    let table = quoted(&target.table);
    let stored = |at: &usize| target.columns.get(*at).is_some_and(|c| !c.generated);
    let names = |all: &[usize]| target.names(all).iter().map(|n| quoted(n)).collect::<Vec<String>>();
    match kind {
        StepKind::Update => {
            let written: Vec<usize> = batch.columns.iter().copied().filter(stored).collect();
            let sets: Vec<String> = names(&written).iter().map(|n| format!("{n} = ?")).collect();
            format!("UPDATE OR ABORT main.{table} SET {} WHERE {}", sets.join(", "), keyed(target))
        }
        StepKind::Delete => format!("DELETE FROM main.{table} WHERE {}", keyed(target)),
        StepKind::Insert => {
            let written: Vec<usize> = (0..target.columns.len()).filter(stored).collect();
            let mut names = names(&written);
            if target.key.kind == KeyKind::RowIdentity {
                names.extend(target.key.names.iter().map(|n| quoted(n)));
            }
            let marks = vec!["?"; names.len()].join(", ");
            format!("INSERT OR ABORT INTO main.{table} ({}) VALUES ({marks})", names.join(", "))
        }
    }
}

/// What the compile step says of putting rows back, and what that would write elsewhere.
pub(crate) fn by_definition(
    connection: &mut Connection,
    table: &Table,
    batch: &Batch,
) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
    let mut side: Vec<SideWrite> = Vec::new();
    let mut back = WayBack::default();
    for kind in [Some(batch.kind), batch.inserts.then_some(StepKind::Insert)].into_iter().flatten() {
        if kind == StepKind::Update && batch.columns.is_empty() {
            continue;
        }
        let acts = probe::acts(connection, &put_statement(batch, kind)).map_err(engine)?;
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
pub(crate) fn by_rows(lite: &mut Lite, plan: &Plan, detail: &Detail) -> Result<WayBack, EngineError> {
    let mut back = detail.back.clone();
    back.obstacles
        .extend(way_back::by_rows(&detail.table, plan, &detail.foreign_keys, &mut |sql| lite.number(sql))?);
    Ok(back)
}
