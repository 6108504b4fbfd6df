//! Whether an undo will succeed here: triggers, rights, and rows without the parents that their keys name.

use marktwice_core::mark::StepKind;
use marktwice_core::way_back::WayBack;
use marktwice_core::words;
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
    if my.traits.mysql {
        back.obstacles.extend(by_documents(my, plan, table, (&from, &same.join(" AND ")))?);
    }
    Ok(back)
}

/// Documents that keep more than their text says: MySQL tells decimals, dates and bytes in them from numbers and texts, and what is read as
/// text comes back as those.
fn by_documents(
    my: &mut My,
    plan: &Plan,
    table: &Table,
    (from, same): (&str, &str),
) -> Result<Vec<String>, EngineError> {
    let written = |at: &usize| match plan.kind {
        StepKind::Delete => true,
        StepKind::Update => plan.foreseen.iter().any(|f| f.column == *at),
        StepKind::Insert => false,
    };
    let json = |at: &usize| table.types.get(*at).is_some_and(|of| of.kind == "json");
    let mut all = Vec::new();
    for at in (0..table.types.len()).filter(|at| json(at) && written(at)) {
        let name = table.target.columns.get(at).map_or("", |c| c.name.as_str());
        let column = format!("{}.{}", ident(&table.target.table), ident(name));
        let again = format!("CAST(CAST({column} AS CHAR) AS JSON)");
        let n = my.count(&format!(
            "SELECT count(*) FROM {from} WHERE {column} IS NOT NULL AND NOT ({column} = {again} AND \
             CAST({column} AS CHAR) = CAST({again} AS CHAR)) AND EXISTS (SELECT 1 FROM {} AS h WHERE {same})",
            table.held_name(plan.step)
        ))?;
        if n > 0 {
            let rows = format!("{} {}", words::rows(n), words::either(n, "holds", "hold"));
            all.push(format!(
                "{rows} a document in {name} with decimals, dates or bytes, which come back as other types from its text"
            ));
        }
    }
    Ok(all)
}
