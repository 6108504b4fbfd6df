//! What a statement writes outside its matched rows: triggers, from the engine's compile step; actions of foreign
//! keys, from the catalogue.

use marktwice_core::mark::StepKind;
use marktwice_port::{EngineError, SideHow, SideWrite};
use marktwice_sql::text::tokenize;
use rusqlite::Connection;
use sqlparser::dialect::SQLiteDialect;

use crate::catalog::{ForeignKey, Table};
use crate::error::engine;
use crate::names::quoted;
use marktwice_sql::ours::{HELD, ROW, before};
use crate::probe::{Act, Step};

/// What the triggers that a statement fires would do.
#[derive(Debug, Default)]
pub(crate) struct Fired {
    /// Tables they write.
    pub(crate) writes: Vec<SideWrite>,
    /// Columns of the target that they update, with the trigger's name.
    pub(crate) target_columns: Vec<(usize, String)>,
    /// A trigger that may silently skip rows.
    pub(crate) skips: Option<String>,
}

/// Reads the triggers' part out of a compile step.
pub(crate) fn fired(connection: &Connection, acts: &[Step], table: &Table) -> Result<Fired, EngineError> {
    let mut fired = Fired::default();
    let mut seen: Vec<&str> = Vec::new();
    for step in acts {
        let Some(by) = step.by.as_deref() else { continue };
        let Some(text) = trigger_text(connection, by).map_err(engine)? else { continue };
        if !seen.contains(&by) {
            seen.push(by);
            if fired.skips.is_none() && may_ignore(&text) {
                fired.skips = Some(by.to_owned());
            }
        }
        let written = match &step.act {
            Act::Update { table: of, column } => {
                if of.eq_ignore_ascii_case(&table.target.table)
                    && let Some(at) = table.target.position(column)
                    && !fired.target_columns.iter().any(|(c, _)| *c == at)
                {
                    fired.target_columns.push((at, by.to_owned()));
                }
                of
            }
            Act::Insert { table } | Act::Delete { table } => table,
            Act::Read { .. } | Act::Other => continue,
        };
        let write = SideWrite { table: written.clone(), how: SideHow::Trigger(by.to_owned()), rows: None };
        if !fired.writes.contains(&write) {
            fired.writes.push(write);
        }
    }
    Ok(fired)
}

fn trigger_text(connection: &Connection, name: &str) -> rusqlite::Result<Option<String>> {
    let sql = "SELECT sql FROM main.sqlite_schema WHERE type = 'trigger' AND name = ?1 COLLATE NOCASE";
    match connection.query_row(sql, [name], |row| row.get(0)) {
        Ok(text) => Ok(Some(text)),
        Err(rusqlite::Error::QueryReturnedNoRows) => Ok(None),
        Err(error) => Err(error),
    }
}

fn may_ignore(trigger: &str) -> bool {
    // A text that cannot be cut into words counts as one that may.
    let Ok(tokens) = tokenize(trigger, &SQLiteDialect {}) else { return true };
    tokens.iter().any(|t| t.is_word("raise")) && tokens.iter().any(|t| t.is_word("ignore"))
}

/// The foreign keys whose action a statement on `table` would set off.
pub(crate) fn actions<'k>(
    keys: &'k [ForeignKey],
    table: &Table,
    kind: StepKind,
    assigned: &[usize],
) -> Vec<(&'k ForeignKey, String)> {
    keys.iter()
        .filter(|key| key.parent.eq_ignore_ascii_case(&table.target.table))
        .filter_map(|key| {
            let (word, action) = match kind {
                StepKind::Delete => ("DELETE", &key.on_delete),
                StepKind::Update => ("UPDATE", &key.on_update),
                StepKind::Insert => return None,
            };
            let touched = kind == StepKind::Delete
                || key
                    .parent_columns
                    .iter()
                    .any(|c| table.target.position(c).is_some_and(|at| assigned.contains(&at)));
            let acts = ["CASCADE", "SET NULL", "SET DEFAULT"].contains(&action.as_str());
            (touched && acts).then(|| (key, format!("ON {word} {action}")))
        })
        .collect()
}

/// Tables that an action reaches from `child` on, further down.
fn deeper<'k>(keys: &'k [ForeignKey], child: &str, seen: &mut Vec<&'k str>) -> Vec<&'k ForeignKey> {
    let mut all = Vec::new();
    for key in keys.iter().filter(|k| {
        k.parent.eq_ignore_ascii_case(child) && k.on_delete != "NO ACTION" && k.on_delete != "RESTRICT"
    }) {
        if !seen.contains(&key.child.as_str()) {
            seen.push(&key.child);
            all.push(key);
            if key.on_delete == "CASCADE" {
                all.extend(deeper(keys, &key.child, seen));
            }
        }
    }
    all
}

/// Counts the rows that foreign keys' actions would write, from the held rows; keys without any are left out.
pub(crate) fn count_actions(
    connection: &Connection,
    keys: &[ForeignKey],
    table: &Table,
    kind: StepKind,
    assigned: &[(usize, Option<String>)],
) -> Result<Vec<SideWrite>, EngineError> {
    let positions: Vec<usize> = assigned.iter().map(|(at, _)| *at).collect();
    let mut all = Vec::new();
    for (key, how) in actions(keys, table, kind, &positions) {
        let rows = count_children(connection, key, table, assigned).map_err(engine)?;
        if rows == 0 {
            continue;
        }
        all.push(SideWrite {
            table: key.child.clone(),
            how: SideHow::ForeignKey(how.clone()),
            rows: Some(rows),
        });
        if how == "ON DELETE CASCADE" {
            let mut seen = vec![key.child.as_str()];
            for further in deeper(keys, &key.child, &mut seen) {
                let how = SideHow::ForeignKey(format!("ON DELETE {}", further.on_delete));
                all.push(SideWrite { table: further.child.clone(), how, rows: None });
            }
        }
    }
    Ok(all)
}

/// Child rows of the held rows; for an UPDATE only of those whose parent key becomes another.
fn count_children(
    connection: &Connection,
    key: &ForeignKey,
    table: &Table,
    assigned: &[(usize, Option<String>)],
) -> rusqlite::Result<u64> {
    let on: Vec<String> = key
        .child_columns
        .iter()
        .zip(&key.parent_columns)
        .filter_map(|(child, parent)| {
            Some(format!("c.{} = h.{}", quoted(child), before(table.target.position(parent)?)))
        })
        .collect();
    let changes: Vec<String> = assigned
        .iter()
        .filter(|(at, _)| key.parent_columns.iter().any(|p| table.target.position(p) == Some(*at)))
        .map(|(at, after)| match after {
            Some(after) => format!("h.{} IS NOT h.{after}", before(*at)),
            None => "1".to_owned(),
        })
        .collect();
    let changes = if changes.is_empty() { "1".to_owned() } else { changes.join(" OR ") };
    // A row of the target itself that is matched anyway is no side effect.
    let outside = match &table.row {
        Some(row) if key.child.eq_ignore_ascii_case(&table.target.table) => {
            format!(" AND c.{} NOT IN (SELECT {ROW} FROM temp.{HELD})", quoted(row))
        }
        _ => String::new(),
    };
    let sql = format!(
        "SELECT count(*) FROM temp.{HELD} AS h JOIN main.{} AS c ON {} WHERE ({changes}){outside}",
        quoted(&key.child),
        on.join(" AND "),
    );
    connection.query_row(&sql, [], |row| row.get::<_, i64>(0)).map(i64::unsigned_abs)
}
