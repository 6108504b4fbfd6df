//! Putting rows back. Never by replacing rows: a row is updated, inserted or deleted by its key (or its contents)
//! after what is there was compared and locked.

use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_core::table::KeyKind;
use marktwice_port::engine::{ChangeSource, KeepSink};
use marktwice_port::{Constraint, EngineError, Keep, Restore};
use marktwice_server::layout::{IS_WANTED, Layout, ORDINAL, THERE, before, wanted};

use marktwice_server::statement::same_definition;

use crate::catalog::{Table, describe, held_name, ident};
use crate::client::My;
use crate::content::content;
use crate::finder::Finder;
use crate::held::{Held, content_columns, define};
use crate::values::Form;

/// The table as it is now, if its definition is still the one that the run was made with.
fn table_of(my: &mut My, restore: &Restore) -> Result<Table, EngineError> {
    let table = describe(my, &restore.target.schema, &restore.target.table)?;
    same_definition(&table.target, &restore.target, "the run")?;
    Ok(table)
}

/// Makes the held table of rows that are to be put back, and fills it with what is there and what is wanted. Settings
/// must be pinned.
pub(crate) fn hold_rows(
    my: &mut My,
    restore: &Restore,
    source: &mut ChangeSource<'_>,
    sink: &mut KeepSink<'_>,
) -> Result<(Held, u64), EngineError> {
    let table = table_of(my, restore)?;
    let width = table.types.len();
    let mut columns = vec![format!("{ORDINAL} bigint PRIMARY KEY")];
    columns
        .extend(table.types.iter().enumerate().map(|(at, of)| format!("{} {} NULL", before(at), of.roomy)));
    columns
        .extend(table.types.iter().enumerate().map(|(at, of)| format!("{} {} NULL", wanted(at), of.roomy)));
    columns.extend([format!("{THERE} tinyint"), format!("{IS_WANTED} tinyint")]);
    let marks = vec!["?"; columns.len()].join(", ");
    let names: Vec<String> = columns.iter().filter_map(|c| c.split(' ').next()).map(str::to_owned).collect();
    columns.extend(content_columns());
    define(my, &table, &columns)?;
    let insert = format!("INSERT INTO {} ({}) VALUES ({marks})", held_name(&table), names.join(", "));
    let mut finder = Finder::new(my, &table, true)?;
    let nothing = vec![Value::Null; width];
    let mut held = 0;
    loop {
        let chunk = finder.next(my, source)?;
        if chunk.is_empty() {
            break;
        }
        let mut batch: Vec<Vec<Value>> = Vec::new();
        for (change, now) in chunk {
            let wanted = match sink(&change, now.as_deref()).map_err(EngineError::Sink)? {
                Keep::Hold(wanted) => wanted,
                Keep::Leave => continue,
            };
            let mut row = vec![Value::Int(change.ordinal)];
            let flags = [Value::Int(i64::from(now.is_some())), Value::Int(i64::from(wanted.is_some()))];
            row.extend(now.unwrap_or_else(|| nothing.clone()));
            row.extend(wanted.unwrap_or_else(|| nothing.clone()));
            row.extend(flags);
            batch.push(row);
            held += 1;
        }
        my.execute_many(&insert, &batch)?;
    }
    let layout = Layout {
        target: restore.target.clone(),
        kind: restore.kind,
        flags: true,
        after: (0..width).map(|at| (at, wanted(at))).collect(),
    };
    let held_rows = Held::new(layout, &table, true);
    held_rows.expect_contents(my)?;
    Ok((held_rows, held))
}

fn stored(restore: &Restore, at: usize) -> bool {
    restore.target.columns.get(at).is_some_and(|c| !c.generated)
}

fn name(restore: &Restore, at: usize) -> String {
    restore.target.columns.get(at).map_or(String::new(), |c| ident(&c.name))
}

/// The statement that puts held rows of one kind back, all at once or the one of an ordinal.
fn statement(held: &Held, restore: &Restore, kind: StepKind, one: Option<i64>) -> String {
    let table = &held.table;
    let key = &restore.target.key;
    let pairs = key.columns.iter().zip(&key.names);
    let on: Vec<String> = pairs.map(|(&at, key)| format!("t.{} = h.{}", ident(key), before(at))).collect();
    let on = on.join(" AND ");
    let one = one.map_or(String::new(), |o| format!(" AND h.{ORDINAL} = {o}"));
    let rows = held_name(table);
    match kind {
        StepKind::Update => {
            let sets: Vec<String> = restore
                .columns
                .iter()
                .filter(|at| stored(restore, **at))
                .map(|&at| format!("t.{} = h.{}", name(restore, at), wanted(at)))
                .collect();
            format!(
                "UPDATE {} AS t JOIN {rows} AS h ON {on} SET {} WHERE h.{THERE} AND h.{IS_WANTED}{one}",
                table.name,
                sets.join(", ")
            )
        }
        StepKind::Delete => format!(
            "DELETE t FROM {} AS t JOIN {rows} AS h ON {on} WHERE h.{THERE} AND NOT h.{IS_WANTED}{one}",
            table.name
        ),
        StepKind::Insert => {
            let columns: Vec<usize> =
                (0..restore.target.columns.len()).filter(|at| stored(restore, *at)).collect();
            let names: Vec<String> = columns.iter().map(|&at| name(restore, at)).collect();
            let values: Vec<String> = columns.iter().map(|&at| format!("h.{}", wanted(at))).collect();
            format!(
                "INSERT INTO {} ({}) SELECT {} FROM {rows} AS h WHERE NOT h.{THERE} AND h.{IS_WANTED}{one} \
                 ORDER BY h.{ORDINAL}",
                table.name,
                names.join(", "),
                values.join(", ")
            )
        }
    }
}

/// The statement that changes one row of the contents of the held row of an ordinal, for a table without a key. The
/// contents go in as a literal, because the table of held rows cannot be joined to it with a limit.
fn by_content(held: &Held, restore: &Restore, kind: StepKind, was: &str) -> String {
    let there = content(&held.table, |at| name(restore, at));
    let marks: Vec<String> = restore
        .columns
        .iter()
        .filter(|at| stored(restore, **at))
        .map(|&at| format!("{} = ?", name(restore, at)))
        .collect();
    match kind {
        StepKind::Update => {
            format!("UPDATE {} SET {} WHERE {there} = '{was}' LIMIT 1", held.table.name, marks.join(", "))
        }
        _ => format!("DELETE FROM {} WHERE {there} = '{was}' LIMIT 1", held.table.name),
    }
}

/// Puts all held rows back. All rows go at once; when rows stand in each other's way (a unique value that is handed on,
/// a parent that comes after its child) they go one by one, and one that has to wait for another does: since the run
/// itself got from there to here one row at a time, there is an order that works. Settings must be pinned.
pub(crate) fn put(my: &mut My, held: &Held, restore: &Restore) -> Result<u64, EngineError> {
    let kinds = [StepKind::Delete, StepKind::Update, StepKind::Insert];
    let conditions = [
        format!("{THERE} AND NOT {IS_WANTED}"),
        format!("{THERE} AND {IS_WANTED}"),
        format!("NOT {THERE} AND {IS_WANTED}"),
    ];
    let rows = held_name(&held.table);
    let mut done = 0;
    for (kind, condition) in kinds.into_iter().zip(conditions) {
        let expected = my.count(&format!("SELECT count(*) FROM {rows} WHERE {condition}"))?;
        if expected == 0 {
            continue;
        }
        let count = if restore.target.key.kind == KeyKind::WholeRow && kind != StepKind::Insert {
            put_by_content(my, held, restore, kind, &condition)?
        } else {
            match my.execute_one(&statement(held, restore, kind, None), &[]) {
                Err(error) if waits(&error) => one_by_one(my, held, restore, kind, &condition)?,
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

/// Whether another row may only have to go first. The server takes a statement that failed so back by itself.
fn waits(error: &EngineError) -> bool {
    matches!(error, EngineError::Constraint { kind: Constraint::Unique | Constraint::ForeignKey, .. })
}

fn ordinals(my: &mut My, held: &Held, condition: &str, order: &str) -> Result<Vec<i64>, EngineError> {
    let sql =
        format!("SELECT {ORDINAL} FROM {} WHERE {condition} ORDER BY 1 {order}", held_name(&held.table));
    let rows = my.rows(&sql)?;
    Ok(rows.into_iter().filter_map(|row| row.into_iter().next().flatten()?.parse().ok()).collect())
}

fn one_by_one(
    my: &mut My,
    held: &Held,
    restore: &Restore,
    kind: StepKind,
    condition: &str,
) -> Result<u64, EngineError> {
    let order = if kind == StepKind::Update { "DESC" } else { "ASC" };
    let mut waiting = ordinals(my, held, condition, order)?;
    let mut done = 0;
    while !waiting.is_empty() {
        let before = waiting.len();
        let mut still = Vec::new();
        let mut last = None;
        for ordinal in waiting {
            match my.execute_one(&statement(held, restore, kind, Some(ordinal)), &[]) {
                Ok(count) => done += count,
                Err(error) if waits(&error) => {
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

fn put_by_content(
    my: &mut My,
    held: &Held,
    restore: &Restore,
    kind: StepKind,
    condition: &str,
) -> Result<u64, EngineError> {
    let written: Vec<usize> = restore.columns.iter().copied().filter(|at| stored(restore, *at)).collect();
    let mut columns: Vec<String> = vec![content(&held.table, |at| format!("h.{}", before(at)))];
    let mut forms = vec![Form::Text];
    if kind == StepKind::Update {
        columns.extend(written.iter().map(|&at| format!("h.{}", wanted(at))));
        forms.extend(written.iter().filter_map(|&at| held.table.types.get(at)).map(|t| t.form));
    }
    let mut done = 0;
    for ordinal in ordinals(my, held, condition, "ASC")? {
        let sql = format!(
            "SELECT {} FROM {} AS h WHERE h.{ORDINAL} = {ordinal}",
            columns.join(", "),
            held_name(&held.table)
        );
        let mut row = Vec::new();
        my.stream(&sql, &[], &forms, &mut |values| {
            row = values.to_vec();
            Ok(())
        })?;
        let Some((Value::Text(was), values)) = row.split_first() else { continue };
        done += my.execute_one(&by_content(held, restore, kind, was), values)?;
    }
    Ok(done)
}
