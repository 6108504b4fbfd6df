//! Looking rows up, a chunk at a time: by key, or by their whole contents where there is no key.

use std::collections::HashMap;

use marktwice_core::Value;
use marktwice_core::hash::Sum;
use marktwice_core::table::KeyKind;
use marktwice_core::undo::RowChange;
use marktwice_port::EngineError;
use marktwice_relational::finder::{Asked, Lock};
use marktwice_relational::shell::forms;
use marktwice_sql::dialect::ours::{ASKED, FOUND, before};

use crate::catalog::{Table, ident};
use crate::client::My;
use crate::content::content;
use crate::values::Form;

fn clause(lock: Lock) -> &'static str {
    match lock {
        Lock::None => "",
        Lock::Shared => " LOCK IN SHARE MODE",
        Lock::Update => " FOR UPDATE",
    }
}

/// Makes what is needed for a table without a key; not inside a transaction that only reads.
pub(crate) fn make_room(my: &mut My, table: &Table) -> Result<(), EngineError> {
    if table.target.key.kind != KeyKind::WholeRow {
        return Ok(());
    }
    let columns: Vec<String> =
        table.types.iter().enumerate().map(|(at, of)| format!("{} {} NULL", before(at), of.roomy)).collect();
    let hash = "char(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin";
    for (name, columns) in [
        (asked_name(table), format!("o bigint, n bigint, {}", columns.join(", "))),
        (found_name(table), format!("c {hash} PRIMARY KEY, n bigint")),
    ] {
        my.later(&format!("DROP TEMPORARY TABLE IF EXISTS {name}"))?;
        my.run(&format!("CREATE TEMPORARY TABLE {name} ({columns}) ENGINE=InnoDB"))?;
    }
    Ok(())
}

/// Counts the rows of each content that is there: the table is read once, however many chunks are asked for.
fn count_contents(my: &mut My, table: &Table, lock: Lock) -> Result<(), EngineError> {
    let found = found_name(table);
    if my.one(&format!("SELECT 1 FROM {found} LIMIT 1"))?.is_some() {
        return Ok(());
    }
    let there = content(table, |at| {
        table.target.columns.get(at).map_or(String::new(), |c| format!("t.{}", ident(&c.name)))
    });
    let sql = format!(
        "INSERT INTO {found} SELECT {there} AS marktwice_c, count(*) FROM {} AS t GROUP BY marktwice_c{}",
        table.name,
        clause(lock)
    );
    my.execute_one(&sql, &[]).map(|_| ())
}

fn columns(table: &Table) -> String {
    table.target.columns.iter().map(|c| ident(&c.name)).collect::<Vec<_>>().join(", ")
}

fn read(
    my: &mut My,
    table: &Table,
    lock: Lock,
    changes: &[&RowChange],
) -> Result<Vec<Vec<Value>>, EngineError> {
    let key = &table.target.key;
    let bit = |at: &usize| table.types.get(*at).is_some_and(|t| t.kind == "bit");
    // A BIT is compared as the number that it is; as a text it equals nothing.
    let mark = |at: &usize| if bit(at) { "CAST(CONV(HEX(?), 16, 10) AS UNSIGNED)" } else { "?" };
    let one: Vec<String> =
        key.names.iter().zip(&key.columns).map(|(k, at)| format!("{} = {}", ident(k), mark(at))).collect();
    let filter = match (key.names.as_slice(), key.columns.as_slice()) {
        ([only], [at]) => format!("{} IN ({})", ident(only), vec![mark(at); changes.len()].join(", ")),
        _ => vec![format!("({})", one.join(" AND ")); changes.len()].join(" OR "),
    };
    let lock = clause(lock);
    let sql = format!("SELECT {} FROM {} WHERE {filter}{lock}", columns(table), table.name);
    let keys: Vec<Value> = changes.iter().flat_map(|c| c.key.iter().cloned()).collect();
    let mut rows = Vec::new();
    my.stream(&sql, &keys, &forms(table), &mut |row| {
        rows.push(row);
        Ok(())
    })?;
    Ok(rows)
}

pub(crate) fn by_key(
    my: &mut My,
    table: &Table,
    asked: &Asked<'_>,
) -> Result<Vec<Option<Vec<Value>>>, EngineError> {
    let changes = asked.changes;
    let all: Vec<&RowChange> = changes.iter().collect();
    let mut buffer = Vec::new();
    let mut rows: HashMap<Sum, Vec<Value>> = read(my, table, asked.lock, &all)?
        .into_iter()
        .map(|row| (Sum::of(&mut buffer, table.target.key.columns.iter().filter_map(|&at| row.get(at))), row))
        .collect();
    let mut found: Vec<Option<Vec<Value>>> =
        changes.iter().map(|change| rows.remove(&Sum::of(&mut buffer, &change.key))).collect();
    if !rows.is_empty() {
        // The same key by the collation, in other letters: such rows are asked for one by one.
        for (change, slot) in changes.iter().zip(&mut found).filter(|(_, slot)| slot.is_none()) {
            *slot = read(my, table, asked.lock, &[change])?.into_iter().next();
        }
    }
    Ok(found)
}

pub(crate) fn by_content(
    my: &mut My,
    table: &Table,
    asked: &Asked<'_>,
) -> Result<Vec<Option<Vec<Value>>>, EngineError> {
    count_contents(my, table, asked.lock)?;
    let (name, changes) = (asked_name(table), asked.changes);
    my.run(&format!("DELETE FROM {name}"))?;
    let marks = vec!["?"; 2 + table.types.len()].join(", ");
    let mut rows = Vec::new();
    for ((at, change), nth) in (0i64..).zip(changes).zip(asked.nth) {
        let Some(nth) = nth else { continue };
        let mut values = vec![Value::Int(at), Value::Int(i64::from(*nth))];
        values.extend(change.key.iter().cloned());
        rows.push(values);
    }
    if rows.is_empty() {
        return Ok(vec![None; changes.len()]);
    }
    my.execute_many(&format!("INSERT INTO {name} VALUES ({marks})"), &rows)?;
    let wanted = content(table, |at| format!("a.{}", before(at)));
    let sql =
        format!("SELECT a.o, a.n <= f.n FROM {name} AS a JOIN {} AS f ON f.c = {wanted}", found_name(table));
    let mut found = vec![None; changes.len()];
    my.stream(&sql, &[], &[Form::Number, Form::Number], &mut |row| {
        if let [Value::Int(at), Value::Int(1)] = row.as_slice() {
            let at = usize::try_from(*at).unwrap_or(usize::MAX);
            if let (Some(slot), Some(change)) = (found.get_mut(at), changes.get(at)) {
                *slot = Some(change.key.clone());
            }
        }
        Ok(())
    })?;
    Ok(found)
}
/// The temporary table of the contents that are there, with how many rows have each.
pub(crate) fn found_name(table: &Table) -> String {
    format!("{}.{FOUND}", ident(&table.target.schema))
}

fn asked_name(table: &Table) -> String {
    format!("{}.{ASKED}", ident(&table.target.schema))
}
