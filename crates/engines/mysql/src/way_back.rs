//! Whether an undo will succeed here: triggers, rights, and rows without the parents that their keys name.

use marktwice_core::mark::StepKind;
use marktwice_core::way_back::WayBack;
use marktwice_port::{EngineError, Plan, SideWrite, Unusable};
use marktwice_relational::shell::Tabled;
use marktwice_relational::way_back;
use marktwice_sql::dialect::ours::before;

use crate::calls::{reached, triggers};
use crate::catalog::{Table, checks, ident};
use crate::client::My;
use crate::detail::Detail;
use crate::grants::Grants;

/// What definitions and rights say of putting rows back by a statement of this kind, and what it would write elsewhere.
pub(crate) fn by_definition(
    my: &mut My,
    grants: &Grants,
    own: &str,
    table: &Table,
    kind: StepKind,
) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
    let target = &table.target;
    let fired = triggers(grants, table, kind);
    let reached = reached(my, grants, own, fired.iter().map(|t| t.body.clone()).collect(), &[])?;
    let side = reached.side_writes();
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
    back.obstacles.extend(way_back::by_rows(&detail.table, plan, &detail.foreign_keys, &mut |sql| match my
        .count(sql)
    {
        // A parent that this user may not read tells nothing.
        Err(EngineError::Unusable(Unusable::Denied, _)) => Ok(0),
        other => other,
    })?);
    let table = &detail.table;
    let checks = if table.checked { checks(my, &table.target) } else { Vec::new() };
    // A row without a key is told by all that it holds.
    let key = &table.target.key.columns;
    let all: Vec<usize> = (0..table.target.columns.len()).collect();
    let columns = if key.is_empty() { &all } else { key };
    let own = |at: usize| table.target.columns.get(at).map(|c| ident(&c.name)).unwrap_or_default();
    let same: Vec<String> = columns
        .iter()
        .map(|at| format!("h.{} <=> {}.{}", before(*at), ident(&table.target.table), own(*at)))
        .collect();
    let from = format!("{}.{}", ident(&table.target.schema), ident(&table.target.table));
    let names = (from.as_str(), table.held_name(plan.step), same.join(" AND "));
    back.obstacles.extend(my.with_pins(|my| {
        way_back::by_checks((names.0, &names.1, &names.2), &checks, &mut |sql| my.count(sql))
    })?);
    Ok(back)
}
