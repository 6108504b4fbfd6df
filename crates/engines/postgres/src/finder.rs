//! Looking rows up, a chunk at a time: by key, or by their whole contents where there is no key.

use marktwice_core::Value;
use marktwice_core::table::KeyKind;
use marktwice_port::EngineError;
use marktwice_relational::finder::{Asked, Found, Lock};
use marktwice_sql::dialect::ours::FOUND;

use crate::catalog::{Table, ident};
use crate::client::{Pg, TextRow};
use crate::copy::literal;

/// Looks a chunk of rows up.
pub(crate) fn find(pg: &mut Pg, table: &Table, asked: &Asked<'_>) -> Result<Vec<Option<Found>>, EngineError> {
    let by_content = table.target.key.kind == KeyKind::WholeRow;
    let sql = if by_content { self::by_content(table, asked)? } else { by_key(table, asked)? };
    let mut found = vec![None; asked.changes.len()];
    for row in pg.rows(&sql)? {
        let (at, row) = read(table, &row, by_content)?;
        if let Some(slot) = found.get_mut(at) {
            *slot = Some(row);
        }
    }
    Ok(found)
}

/// Position in the chunk; partition and place; all columns.
fn read(table: &Table, row: &TextRow, by_content: bool) -> Result<(usize, Found), EngineError> {
    let text = |at: usize| row.get(at).and_then(Option::as_deref);
    let at = text(0).and_then(|t| t.parse().ok()).unwrap_or(usize::MAX);
    let values = table
        .types
        .iter()
        .zip(row.iter().skip(3))
        .map(|(of, cell)| of.form.value(cell.as_deref().map(str::as_bytes)))
        .collect::<Result<Vec<_>, _>>()?;
    let place = [1, 2].map(|at| Value::Text(text(at).unwrap_or("").to_owned().into()));
    Ok((at, Found { values, place: if by_content { place.to_vec() } else { Vec::new() } }))
}

fn columns(table: &Table) -> String {
    let names = table.target.columns.iter().map(|c| format!("t.{}", ident(&c.name)));
    names.collect::<Vec<_>>().join(", ")
}

fn lock(asked: &Asked<'_>) -> &'static str {
    match asked.lock {
        Lock::None => "",
        Lock::Shared => " FOR SHARE OF t",
        Lock::Update => " FOR UPDATE OF t",
    }
}

fn typed(table: &Table, value: &Value, column: usize) -> Result<String, EngineError> {
    let base = table.types.get(column).map_or("text", |t| t.base.as_str());
    Ok(format!("{}::{base}", literal(value)?))
}

fn by_key(table: &Table, asked: &Asked<'_>) -> Result<String, EngineError> {
    let key = &table.target.key;
    let mut rows = Vec::with_capacity(asked.changes.len());
    for (at, change) in asked.changes.iter().enumerate() {
        let mut cells = vec![at.to_string()];
        for (value, &column) in change.key.iter().zip(&key.columns) {
            cells.push(typed(table, value, column)?);
        }
        rows.push(format!("({})", cells.join(", ")));
    }
    let on: Vec<String> = key
        .names
        .iter()
        .zip(&table.equals)
        .enumerate()
        .map(|(n, (name, equals))| format!("t.{} {equals} u.k{n}", ident(name)))
        .collect();
    let names: Vec<String> = (0..key.names.len()).map(|n| format!("k{n}")).collect();
    Ok(format!(
        "SELECT u.o, NULL, NULL, {} FROM (VALUES {}) AS u(o, {}) JOIN {} AS t ON {}{}",
        columns(table),
        rows.join(", "),
        names.join(", "),
        table.from,
        on.join(" AND "),
        lock(asked),
    ))
}

fn by_content(table: &Table, asked: &Asked<'_>) -> Result<String, EngineError> {
    let mut rows = Vec::with_capacity(asked.changes.len());
    for (at, (change, nth)) in asked.changes.iter().zip(asked.nth).enumerate() {
        let mut cells = Vec::new();
        for (column, value) in change.key.iter().enumerate() {
            cells.push(typed(table, value, column)?);
        }
        // Of a row that is not looked for there is none.
        let nth = nth.unwrap_or(0);
        rows.push(format!("({at}, {nth}, ROW({})::text COLLATE \"C\")", cells.join(", ")));
    }
    // Locking is not allowed beside a window function, so the places found are read again.
    let found = if asked.listed { format!("pg_temp.{FOUND}") } else { format!("({})", contents(table)) };
    Ok(format!(
        "SELECT u.o, t.tableoid, t.ctid, {columns} FROM (VALUES {}) AS u(o, n, c) JOIN {found} AS f \
         ON f.c = md5(u.c) AND f.n = u.n JOIN {from} AS t ON t.tableoid = f.part AND t.ctid = f.place \
         WHERE ROW({columns})::text COLLATE \"C\" = u.c{}",
        rows.join(", "),
        lock(asked),
        columns = columns(table),
        from = table.from,
    ))
}

/// Every row's contents, shortened to a hash, with its place and its number among its equals.
fn contents(table: &Table) -> String {
    let content = format!("md5(ROW({})::text COLLATE \"C\")", columns(table));
    format!(
        "SELECT t.tableoid AS part, t.ctid AS place, {content} AS c, \
         row_number() OVER (PARTITION BY {content} ORDER BY t.tableoid, t.ctid) AS n FROM {} AS t",
        table.from
    )
}

/// Lists the contents of a table without a key once, however many chunks are asked for. Temporary tables must be
/// allowed here, and settings pinned.
pub(crate) fn list(pg: &mut Pg, table: &Table) -> Result<(), EngineError> {
    if table.target.key.kind != KeyKind::WholeRow {
        return Ok(());
    }
    // Another batch of the same undo may have listed another table.
    pg.run(&format!("DROP TABLE IF EXISTS pg_temp.{FOUND}"))?;
    pg.execute_one(&format!("CREATE TEMPORARY TABLE {FOUND} ON COMMIT DROP AS {}", contents(table)))?;
    pg.run(&format!("CREATE INDEX ON pg_temp.{FOUND} (c, n); ANALYZE pg_temp.{FOUND}"))
}
