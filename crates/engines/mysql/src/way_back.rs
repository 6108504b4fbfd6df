//! Whether an undo will succeed here: triggers, rights, and rows without the parents that their keys name.

use marktwice_core::mark::StepKind;
use marktwice_core::way_back::WayBack;
use marktwice_port::{EngineError, Plan, SideWrite};
use marktwice_server::way_back;
use marktwice_sql::Language;

use crate::calls::{reached, triggers};
use crate::catalog::{Table, held_name};
use crate::client::My;
use crate::grants::Grants;
use crate::plan::Detail;

/// What definitions and rights say of putting rows back by a statement of this kind, and what it would write elsewhere.
pub(crate) fn by_definition(
    my: &mut My,
    grants: &Grants,
    own: &str,
    table: &Table,
    kind: StepKind,
) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
    let target = &table.target;
    let fired = triggers(my, grants, table, kind)?;
    let reached = reached(my, grants, own, fired.iter().map(|t| t.body.clone()).collect(), &[])?;
    let side = reached.side_writes(false);
    let mut back = way_back::by_definition(target, &fired, &reached, &side);
    let verb = kind.verb();
    // Of an UPDATE only some columns are needed, and the statement itself needs the same ones.
    if kind != StepKind::Update && !grants.has(verb, &target.schema, &target.table) {
        back.obstacles.push(format!("{verb} on {} is missing, which putting rows back needs", table.shown));
    }
    Ok((side, back))
}

/// Adds what the held rows say.
pub(crate) fn by_rows(my: &mut My, plan: &Plan, detail: &Detail) -> Result<WayBack, EngineError> {
    let mut back = detail.back.clone();
    let assigned: Vec<usize> = plan.foreseen.iter().map(|f| f.column).collect();
    back.obstacles.extend(way_back::by_rows(
        Language::Mysql,
        &held_name(&detail.table),
        &detail.table.target,
        plan.kind,
        &assigned,
        &detail.foreign_keys,
        &mut |sql| match my.count(sql) {
            // A parent that this user may not read tells nothing.
            Err(EngineError::Denied(_)) => Ok(0),
            other => other,
        },
    )?);
    Ok(back)
}
