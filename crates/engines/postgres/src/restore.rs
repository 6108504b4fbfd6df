//! Putting rows back. Never by replacing rows: a row is updated, inserted or deleted by its key (or its place) after
//! what is there was compared and locked.

use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_core::table::KeyKind;
use marktwice_port::engine::{ChangeSource, KeepSink};
use marktwice_port::{Constraint, EngineError, Keep, Restore};
use marktwice_server::layout::{HELD, IS_WANTED, Layout, ORDINAL, THERE, before, wanted};

use marktwice_server::statement::same_definition;

use crate::catalog::{Table, describe, ident};
use crate::client::Pg;
use crate::copy;
use crate::error::engine;
use crate::finder::{Finder, Row};
use crate::held::{Held, PART, PLACE, define};

/// The table as it is now, if its definition is still the one that the run was made with.
pub(crate) fn table_of(pg: &mut Pg, restore: &Restore) -> Result<Table, EngineError> {
    let table = describe(pg, &restore.target.schema, &restore.target.table)?;
    same_definition(&table.target, &restore.target, "the run")?;
    Ok(table)
}

/// Makes the held table of rows that are to be put back, and fills it with what is there and what is wanted. Settings
/// must be pinned.
pub(crate) fn hold_rows(
    pg: &mut Pg,
    restore: &Restore,
    source: &mut ChangeSource<'_>,
    sink: &mut KeepSink<'_>,
) -> Result<(Held, u64), EngineError> {
    let table = table_of(pg, restore)?;
    let width = table.types.len();
    let mut columns = vec![format!("{ORDINAL} bigint"), format!("{PART} oid"), format!("{PLACE} tid")];
    columns.extend(table.types.iter().enumerate().map(|(at, of)| format!("{} {}", before(at), of.base)));
    columns.extend(table.types.iter().enumerate().map(|(at, of)| format!("{} {}", wanted(at), of.base)));
    columns.extend([format!("{THERE} boolean"), format!("{IS_WANTED} boolean")]);
    define(pg, &columns.join(", "), true)?;
    let mut finder = Finder::new(&table, true);
    let nothing = vec![Value::Null; width];
    let mut held = 0;
    loop {
        let chunk = finder.next(pg, source)?;
        if chunk.is_empty() {
            break;
        }
        let mut wire = Vec::new();
        for (change, now) in chunk {
            let now_values = now.as_ref().map(|row| row.values.as_slice());
            let wanted = match sink(&change, now_values).map_err(EngineError::Sink)? {
                Keep::Hold(wanted) => wanted,
                Keep::Leave => continue,
            };
            let place = now.as_ref().and_then(|row: &Row| row.place.clone());
            let (part, place) = place
                .map_or((Value::Null, Value::Null), |(part, place)| (Value::Text(part), Value::Text(place)));
            let first = [Value::Int(change.ordinal), part, place];
            let flags = [Value::Bool(now.is_some()), Value::Bool(wanted.is_some())];
            let images = now_values.unwrap_or(&nothing).iter().chain(wanted.as_deref().unwrap_or(&nothing));
            copy::write(&mut wire, first.iter().chain(images).chain(&flags))
                .map_err(|e| EngineError::Other(e.to_string()))?;
            held += 1;
        }
        copy_in(pg, &format!("pg_temp.{HELD}"), &wire)?;
    }
    pg.run(&format!("ANALYZE pg_temp.{HELD}"))?;
    let layout = Layout {
        target: restore.target.clone(),
        kind: restore.kind,
        flags: true,
        after: (0..width).map(|at| (at, wanted(at))).collect(),
    };
    Ok((Held::new(layout, &table, true), held))
}

/// Sends rows in COPY's text format into a table, and looks that all of them arrived.
pub(crate) fn copy_in(pg: &mut Pg, into: &str, wire: &[u8]) -> Result<(), EngineError> {
    use std::io::Write as _;
    if wire.is_empty() {
        return Ok(());
    }
    let mut writer = pg.client.copy_in(&format!("COPY {into} FROM STDIN")).map_err(engine)?;
    writer.write_all(wire).map_err(|e| EngineError::Other(format!("rows could not be sent: {e}")))?;
    let arrived = writer.finish().map_err(engine)?;
    let sent = wire.iter().filter(|b| **b == b'\n').count() as u64;
    if arrived != sent {
        return Err(EngineError::Other(format!("{sent} rows were sent and {arrived} arrived")));
    }
    Ok(())
}

/// The statement that puts held rows of one kind back, all at once or the one of an ordinal.
fn statement(held: &Held, restore: &Restore, kind: StepKind, ordinal: Option<&str>) -> String {
    let (table, target) = (&held.table, &restore.target);
    let stored = |at: &usize| target.columns.get(*at).is_some_and(|c| !c.generated);
    let name = |at: usize| target.columns.get(at).map_or(String::new(), |c| ident(&c.name));
    let on = if target.key.kind == KeyKind::WholeRow {
        format!("t.tableoid = h.{PART} AND t.ctid = h.{PLACE}")
    } else {
        let pairs = target.key.columns.iter().zip(&target.key.names);
        pairs
            .map(|(&at, key)| format!("t.{} = h.{}", ident(key), before(at)))
            .collect::<Vec<_>>()
            .join(" AND ")
    };
    let one = ordinal.map_or(String::new(), |o| format!(" AND h.{ORDINAL} = {o}"));
    let held = format!("pg_temp.{HELD} AS h");
    match kind {
        StepKind::Update => {
            let written = restore.columns.iter().filter(|at| stored(at));
            let sets: Vec<String> = written
                .filter(|at| !table.types.get(**at).is_some_and(|t| t.identity_always))
                .map(|&at| format!("{} = h.{}", name(at), wanted(at)))
                .collect();
            format!(
                "UPDATE {} AS t SET {} FROM {held} WHERE {on} AND h.{THERE} AND h.{IS_WANTED}{one}",
                table.from,
                sets.join(", ")
            )
        }
        StepKind::Delete => {
            format!(
                "DELETE FROM {} AS t USING {held} WHERE {on} AND h.{THERE} AND NOT h.{IS_WANTED}{one}",
                table.from
            )
        }
        StepKind::Insert => {
            let columns: Vec<usize> = (0..target.columns.len()).filter(stored).collect();
            let names: Vec<String> = columns.iter().map(|&at| name(at)).collect();
            let values: Vec<String> = columns.iter().map(|&at| format!("h.{}", wanted(at))).collect();
            format!(
                "INSERT INTO {} ({}) OVERRIDING SYSTEM VALUE SELECT {} FROM {held} \
                 WHERE NOT h.{THERE} AND h.{IS_WANTED}{one} ORDER BY h.{ORDINAL}",
                table.name,
                names.join(", "),
                values.join(", ")
            )
        }
    }
}

/// Puts all held rows back. Foreign keys that can wait do. All rows go at once; when rows stand in each other's way (a
/// unique value that is handed on) they go one by one, and one that has to wait for another does: since the run itself
/// got from there to here one row at a time, there is an order that works.
pub(crate) fn put(pg: &mut Pg, held: &Held, restore: &Restore) -> Result<u64, EngineError> {
    pg.run("SET CONSTRAINTS ALL DEFERRED")?;
    let kinds = [StepKind::Delete, StepKind::Update, StepKind::Insert];
    let conditions = [
        format!("{THERE} AND NOT {IS_WANTED}"),
        format!("{THERE} AND {IS_WANTED}"),
        format!("NOT {THERE} AND {IS_WANTED}"),
    ];
    let mut done = 0;
    for (kind, condition) in kinds.into_iter().zip(conditions) {
        let expected = pg.count(&format!("SELECT count(*) FROM pg_temp.{HELD} WHERE {condition}"))?;
        if expected == 0 {
            continue;
        }
        let all = statement(held, restore, kind, None);
        // A row's place without a key is only good until it is written, and such a table has no unique values that could
        // be in the way, or nobody could say which row has them.
        let count = if restore.target.key.kind == KeyKind::WholeRow {
            pg.execute_one(&all)?
        } else {
            pg.run("SAVEPOINT marktwice_put")?;
            match pg.execute_one(&all) {
                Err(EngineError::Constraint { kind: Constraint::Unique, .. }) => {
                    pg.run("ROLLBACK TO SAVEPOINT marktwice_put")?;
                    one_by_one(pg, held, restore, kind, &condition)?
                }
                other => other?,
            }
        };
        if count != expected {
            return Err(EngineError::Other(format!("{count} rows answered where {expected} were put back")));
        }
        done += count;
    }
    Ok(done)
}

fn one_by_one(
    pg: &mut Pg,
    held: &Held,
    restore: &Restore,
    kind: StepKind,
    condition: &str,
) -> Result<u64, EngineError> {
    let order = if kind == StepKind::Update { "DESC" } else { "ASC" };
    let rows =
        pg.rows(&format!("SELECT {ORDINAL} FROM pg_temp.{HELD} WHERE {condition} ORDER BY 1 {order}"))?;
    let mut waiting: Vec<String> =
        rows.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect();
    let mut done = 0;
    while !waiting.is_empty() {
        let before = waiting.len();
        let mut still = Vec::new();
        let mut last = None;
        for ordinal in waiting {
            pg.run("SAVEPOINT marktwice_row")?;
            match pg.execute_one(&statement(held, restore, kind, Some(&ordinal))) {
                Ok(count) => {
                    pg.run("RELEASE SAVEPOINT marktwice_row")?;
                    done += count;
                }
                Err(error @ EngineError::Constraint { kind: Constraint::Unique, .. }) => {
                    pg.run("ROLLBACK TO SAVEPOINT marktwice_row")?;
                    last = Some(error);
                    still.push(ordinal);
                }
                Err(error) => return Err(error),
            }
        }
        if still.len() == before {
            return Err(
                last.unwrap_or_else(|| EngineError::Other("rows stand in each other's way".to_owned()))
            );
        }
        waiting = still;
    }
    Ok(done)
}
