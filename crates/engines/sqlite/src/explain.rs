//! Which row breaks a constraint: SQLite's own message names columns at best, so the held rows are asked.

use marktwice_core::Value;
use marktwice_core::words;
use marktwice_port::{Broken, Constraint, EngineError};
use rusqlite::Connection;

use crate::held::Held;
use crate::names::quoted;
use crate::values::from_ref;
use marktwice_relational::layout::Layout;
use marktwice_relational::reach::ForeignKey;
use marktwice_sql::dialect::ours::{ORDINAL, before};

/// Adds the row to a constraint's message where the held rows can tell it. The statement has failed and is undone;
/// the transaction is still open.
pub(crate) fn explain(
    connection: &Connection,
    held: &Held,
    keys: &[ForeignKey],
    error: EngineError,
) -> EngineError {
    let EngineError::Constraint(broken) = error else { return error };
    let detail = match broken.kind {
        Constraint::Unique => unique(connection, held, &broken.columns),
        Constraint::NotNull => not_null(connection, held, &broken.columns),
        Constraint::ForeignKey => {
            children(connection, held, keys).or_else(|| orphans(connection, held, keys))
        }
        Constraint::Check | Constraint::Type | Constraint::Trigger | Constraint::OneValue => None,
    };
    let message = match detail {
        Some(detail) => format!("{}: {detail}", broken.message),
        None => broken.message,
    };
    EngineError::Constraint(Box::new(Broken { message, ..*broken }))
}

fn after_name(shape: &Layout, column: &str) -> Option<(usize, String)> {
    let at = shape.target.position(column)?;
    shape.after.iter().find(|(c, _)| *c == at).map(|(at, name)| (*at, name.clone()))
}

/// The key of a row as text, by the columns of an alias.
fn key_of(shape: &Layout, alias: &str, held: bool) -> Vec<String> {
    if shape.target.key.columns.is_empty() {
        return vec![if held {
            format!("{alias}.{}", marktwice_sql::dialect::ours::ROW)
        } else {
            format!("{alias}.rowid")
        }];
    }
    let pairs = shape.target.key.columns.iter().zip(&shape.target.key.names);
    pairs.map(|(at, name)| format!("{alias}.{}", if held { before(*at) } else { quoted(name) })).collect()
}

fn first_row(connection: &Connection, sql: &str) -> Option<Vec<Value>> {
    let mut statement = connection.prepare(sql).ok()?;
    let width = statement.column_count();
    let mut rows = statement.query([]).ok()?;
    let row = rows.next().ok()??;
    (0..width).map(|at| row.get_ref(at).ok().map(from_ref)).collect()
}

fn show(values: &[Value]) -> String {
    let one = |value: &Value| match value {
        Value::Text(text) => format!("'{}'", text.escape_debug()),
        other => other.to_json().to_string(),
    };
    values.iter().map(one).collect::<Vec<_>>().join(", ")
}

fn unique(connection: &Connection, held: &Held, named: &[String]) -> Option<String> {
    let (shape, kept) = (&held.layout, held.name());
    let columns: Vec<(usize, String)> = named
        .iter()
        .map(|c| {
            after_name(shape, c).or_else(|| {
                let at = shape.target.position(c)?;
                Some((at, before(at)))
            })
        })
        .collect::<Option<_>>()?;
    let table = &shape.target.table;
    let values: Vec<String> = columns.iter().map(|(_, held)| format!("h.{held}")).collect();
    let on = |other: &dyn Fn(usize, &str) -> String| {
        columns
            .iter()
            .map(|(at, held)| format!("h.{held} = {}", other(*at, held)))
            .collect::<Vec<_>>()
            .join(" AND ")
    };
    let name = |at: usize| shape.target.columns.get(at).map_or(String::new(), |c| quoted(&c.name));
    let key = key_of(shape, "h", true);
    let size = key.len();
    // Another row of the table that is not itself matched has the value.
    let sql = format!(
        "SELECT {}, {}, {} FROM {kept} AS h JOIN main.{} AS t ON {} WHERE NOT EXISTS (SELECT 1 FROM {kept} AS h2 WHERE {}) LIMIT 1",
        key.join(", "),
        key_of(shape, "t", false).join(", "),
        values.join(", "),
        quoted(table),
        on(&|at, _| format!("t.{}", name(at))),
        key_of(shape, "h2", true)
            .iter()
            .zip(key_of(shape, "t", false))
            .map(|(a, b)| format!("{a} = {b}"))
            .collect::<Vec<_>>()
            .join(" AND "),
    );
    if let Some(row) = first_row(connection, &sql) {
        let (mine, rest) = row.split_at_checked(size)?;
        let (theirs, value) = rest.split_at_checked(size)?;
        return Some(format!(
            "{table} {} would become {}, which {table} {} has",
            show(mine),
            show(value),
            show(theirs)
        ));
    }
    // Two matched rows become the same.
    let sql = format!(
        "SELECT {}, {}, {} FROM {kept} AS h JOIN {kept} AS o ON o.{ORDINAL} > h.{ORDINAL} AND {} LIMIT 1",
        key.join(", "),
        key_of(shape, "o", true).join(", "),
        values.join(", "),
        on(&|_, held| format!("o.{held}")),
    );
    let row = first_row(connection, &sql)?;
    let (mine, rest) = row.split_at_checked(size)?;
    let (theirs, value) = rest.split_at_checked(size)?;
    Some(format!("{table} {} and {table} {} would both become {}", show(mine), show(theirs), show(value)))
}

fn not_null(connection: &Connection, held: &Held, named: &[String]) -> Option<String> {
    let (shape, kept) = (&held.layout, held.name());
    let (_, held) = after_name(shape, named.first()?)?;
    let key = key_of(shape, "h", true).join(", ");
    let sql = format!("SELECT {key} FROM {kept} AS h WHERE h.{held} IS NULL ORDER BY h.{ORDINAL} LIMIT 1");
    first_row(connection, &sql).map(|key| format!("{} {} would become NULL", shape.target.table, show(&key)))
}

/// Rows elsewhere that refer to a held row that goes or changes its key.
fn children(connection: &Connection, held: &Held, keys: &[ForeignKey]) -> Option<String> {
    let (shape, kept) = (&held.layout, held.name());
    keys.iter().filter(|k| k.parent.eq_ignore_ascii_case(&shape.target.table)).find_map(|key| {
        let mut on = Vec::new();
        let mut changes = Vec::new();
        for (child, parent) in key.child_columns.iter().zip(&key.parent_columns) {
            let at = shape.target.position(parent)?;
            on.push(format!("c.{} = h.{}", quoted(child), before(at)));
            match after_name(shape, parent) {
                Some((at, held)) => changes.push(format!("h.{} IS NOT h.{held}", before(at))),
                None if shape.after.is_empty() => changes.push("1".to_owned()),
                None => {}
            }
        }
        if changes.is_empty() {
            return None;
        }
        let sql = format!(
            "SELECT count(*), {} FROM {kept} AS h JOIN main.{} AS c ON {} WHERE {}",
            key_of(shape, "min(h", true).iter().map(|k| format!("{k})")).collect::<Vec<_>>().join(", "),
            quoted(&key.child),
            on.join(" AND "),
            changes.join(" OR "),
        );
        let row = first_row(connection, &sql)?;
        let (count, key_values) = row.split_first()?;
        let Value::Int(count) = *count else { return None };
        (count > 0).then(|| {
            let n = count.unsigned_abs();
            format!(
                "{} of {} {} to such rows, the first to {} {}",
                words::rows(n),
                key.child,
                words::either(n, "refers", "refer"),
                shape.target.table,
                show(key_values)
            )
        })
    })
}

/// Held rows whose new value refers to nothing.
fn orphans(connection: &Connection, held: &Held, keys: &[ForeignKey]) -> Option<String> {
    let (shape, kept) = (&held.layout, held.name());
    keys.iter().filter(|k| k.child.eq_ignore_ascii_case(&shape.target.table)).find_map(|key| {
        let mut on = Vec::new();
        let mut present = Vec::new();
        let mut values = Vec::new();
        for (child, parent) in key.child_columns.iter().zip(&key.parent_columns) {
            let at = shape.target.position(child)?;
            let held = after_name(shape, child).map_or_else(|| before(at), |(_, name)| name);
            on.push(format!("p.{} = h.{held}", quoted(parent)));
            present.push(format!("h.{held} IS NOT NULL"));
            values.push(format!("h.{held}"));
        }
        let mine = key_of(shape, "h", true);
        let sql = format!(
            "SELECT {}, {} FROM {kept} AS h WHERE {} AND NOT EXISTS (SELECT 1 FROM main.{} AS p WHERE {}) LIMIT 1",
            mine.join(", "),
            values.join(", "),
            present.join(" AND "),
            quoted(&key.parent),
            on.join(" AND "),
        );
        let row = first_row(connection, &sql)?;
        let (mine, value) = row.split_at_checked(mine.len())?;
        Some(format!("{} {} would refer to {} {}, which is not there", shape.target.table, show(mine), key.parent, show(value)))
    })
}
