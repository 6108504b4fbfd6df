//! Whether an undo will succeed here: triggers and rights, rows that are older than a constraint, and values that their
//! own text does not give back.

use marktwice_core::mark::StepKind;
use marktwice_core::way_back::WayBack;
use marktwice_port::{EngineError, Plan, SideWrite};
use marktwice_relational::shell::Tabled;
use marktwice_relational::way_back;
use marktwice_sql::dialect::ours::{self, before};

use crate::calls::reached;
use crate::catalog::{Table, triggers};
use crate::client::Pg;
use crate::detail::Detail;

/// What definitions and rights say of putting rows back by a statement of this kind, and what it would write elsewhere.
pub(crate) fn by_definition(
    pg: &mut Pg,
    table: &Table,
    kind: StepKind,
    columns: &[usize],
) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
    let fired = triggers(pg, table, kind, columns)?;
    let reached = reached(pg, fired.iter().map(|t| t.body.clone()).collect(), &[])?;
    let side = reached.side_writes();
    let mut back = way_back::by_definition(&table.target, &fired, &reached, &side);
    let verb = kind.verb();
    let may = if kind == StepKind::Delete {
        format!("SELECT pg_catalog.has_table_privilege({}, 'DELETE')", table.oid)
    } else {
        format!(
            "SELECT pg_catalog.has_table_privilege({0}, '{verb}') OR (SELECT bool_and(pg_catalog.has_column_privilege({0}, attnum, '{verb}')) \
             FROM pg_catalog.pg_attribute WHERE attrelid = {0} AND attnum > 0 AND NOT attisdropped AND attgenerated = '')",
            table.oid
        )
    };
    // Of an UPDATE only some columns are needed, and the statement itself needs the same ones.
    if kind != StepKind::Update && pg.one(&may)?.as_deref() != Some("t") {
        back.obstacles.push(format!("{verb} on {} is missing, which putting rows back needs", table.shown));
    }
    Ok((side, back))
}

/// Adds what the held rows say.
pub(crate) fn by_rows(pg: &mut Pg, plan: &Plan, detail: &Detail) -> Result<WayBack, EngineError> {
    let mut back = detail.back.clone();
    let table = &detail.table;
    back.obstacles.extend(way_back::by_rows(table, plan, &detail.foreign_keys, &mut |sql| pg.count(sql))?);
    let kept = ours::held(plan.step);
    older_than_checks(pg, &kept, table, &mut back)?;
    values_that_read_back(pg, &kept, table, &mut back)?;
    Ok(back)
}

/// Rows that break a check which was added without looking at them.
fn older_than_checks(pg: &mut Pg, kept: &str, table: &Table, back: &mut WayBack) -> Result<(), EngineError> {
    let checks = pg.canonical(|pg| {
        pg.rows(&format!(
            "SELECT conname, pg_catalog.pg_get_expr(conbin, conrelid) FROM pg_catalog.pg_constraint WHERE conrelid = {} AND contype = 'c' \
             AND NOT convalidated ORDER BY 1",
            table.oid
        ))
    })?;
    let same = table.identity().into_iter().map(|(held, own)| format!("h.{held} = {}.{own}", table.name));
    let same: Vec<String> = same.collect();
    let same = same.join(" AND ");
    let text = |row: &Vec<Option<String>>, at: usize| row.get(at).cloned().flatten().unwrap_or_default();
    let checks: Vec<(String, String)> = checks.iter().map(|row| (text(row, 0), text(row, 1))).collect();
    let held = format!("pg_temp.{kept}");
    back.obstacles.extend(pg.canonical(|pg| {
        let names = (table.from.as_str(), held.as_str(), same.as_str());
        way_back::by_checks(names, &checks, &mut |sql| pg.count(sql))
    })?);
    let domains = || table.types.iter().enumerate().filter(|(_, of)| of.declared != of.base);
    let younger = match domains().next() {
        Some(_) => {
            pg.one("SELECT 1 FROM pg_catalog.pg_constraint WHERE contypid <> 0 AND NOT convalidated LIMIT 1")?
        }
        None => None,
    };
    for (at, of) in domains().filter(|_| younger.is_some()) {
        let sql = format!("SELECT count(h.{}::{}) FROM pg_temp.{kept} AS h", before(at), of.declared);
        let name = table.target.columns.get(at).map_or("", |c| c.name.as_str());
        if let Err(said) = attempt(pg, &sql)? {
            back.obstacles.push(format!("what {name} holds does not fit its type any more: {said}"));
        }
    }
    Ok(())
}

/// Values whose text means something else, or nothing, when it is read again: names of functions with several forms, and
/// types that are not the server's own.
fn values_that_read_back(
    pg: &mut Pg,
    kept: &str,
    table: &Table,
    back: &mut WayBack,
) -> Result<(), EngineError> {
    for (at, of) in table.types.iter().enumerate() {
        if !(of.base.contains('.') || of.base.starts_with("reg")) {
            continue;
        }
        let (x, base) = (before(at), &of.base);
        let name = table.target.columns.get(at).map_or("", |c| c.name.as_str());
        let sql = format!(
            "SELECT count(*) FROM pg_temp.{kept} AS h WHERE (h.{x}::text::{base})::text IS DISTINCT FROM h.{x}::text"
        );
        match attempt(pg, &sql)? {
            Ok(0) => {}
            Ok(n) => back.obstacles.push(format!("{n} values of {name} do not read back from their text")),
            Err(said) => {
                back.obstacles.push(format!("what {name} holds does not read back from its text: {said}"))
            }
        }
    }
    Ok(())
}

/// Counts under pinned settings; an error of the server's is an answer too.
fn attempt(pg: &mut Pg, sql: &str) -> Result<Result<u64, String>, EngineError> {
    pg.canonical(|pg| {
        pg.later("SAVEPOINT marktwice_attempt");
        match pg.count(sql) {
            Ok(n) => {
                pg.later("RELEASE SAVEPOINT marktwice_attempt");
                Ok(Ok(n))
            }
            Err(EngineError::Interrupted) => Err(EngineError::Interrupted),
            Err(error) => {
                pg.later("ROLLBACK TO SAVEPOINT marktwice_attempt; RELEASE SAVEPOINT marktwice_attempt");
                Ok(Err(error.to_string()))
            }
        }
    })
}
