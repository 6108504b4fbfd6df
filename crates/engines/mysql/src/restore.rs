//! Putting rows back. Never by replacing rows: a row is updated, inserted or deleted by its key (or its contents)
//! after what is there was compared and locked.

use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_core::table::KeyKind;
use marktwice_port::engine::{ChangeSource, KeepSink};
use marktwice_port::{Constraint, EngineError, Keep, Restore};
use marktwice_server::layout::{Layout, image, images, twice};
use marktwice_sql::ours::{IS_WANTED, ORDINAL, THERE, WAS, before, wanted};

use marktwice_server::putting::{self, PutBack, Together};
use marktwice_server::statement::same_definition;

use crate::catalog::{Table, describe, held_name, ident};
use crate::client::My;
use crate::content::content;
use crate::finder::{Finder, Lock, found_name};
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
    let mut columns = vec![format!("{ORDINAL} bigint PRIMARY KEY")];
    columns
        .extend(table.types.iter().enumerate().map(|(at, of)| format!("{} {} NULL", before(at), of.roomy)));
    let twice = twice(restore);
    let of = |at: &usize| Some(format!("{} {} NULL", wanted(*at), table.types.get(*at)?.roomy));
    columns.extend(twice.iter().filter_map(of));
    columns.extend([format!("{THERE} tinyint"), format!("{IS_WANTED} tinyint")]);
    let marks = vec!["?"; columns.len()].join(", ");
    let names: Vec<String> = columns.iter().filter_map(|c| c.split(' ').next()).map(str::to_owned).collect();
    columns.extend(content_columns());
    define(my, &table, &columns)?;
    let insert = format!("INSERT INTO {} ({}) VALUES ({marks})", held_name(&table), names.join(", "));
    let mut finder = Finder::new(my, &table, Lock::Update)?;
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
            row.extend(images(&twice, now.as_deref(), wanted.as_deref()).cloned());
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
        after: twice.iter().map(|at| (*at, wanted(*at))).collect(),
    };
    let held_rows = Held::new(layout, &table);
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
fn statement(held: &Held, restore: &Restore, kind: StepKind, one: Option<&str>) -> String {
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
            let twice = twice(restore);
            let values: Vec<String> = columns.iter().map(|&at| format!("h.{}", image(&twice, at))).collect();
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

/// The statement that puts back all held rows of a table without a key whose contents no other row has: their contents
/// alone tell which they are, and the table is read once.
fn single_contents(held: &Held, restore: &Restore, kind: StepKind) -> String {
    let (table, rows) = (&held.table, held_name(&held.table));
    let there = content(table, |at| format!("t.{}", name(restore, at)));
    let from = format!(
        "{} AS t JOIN {rows} AS h ON h.{WAS} = {there} JOIN {} AS f ON f.c = h.{WAS} AND f.n = 1",
        table.name,
        found_name(table)
    );
    if kind == StepKind::Delete {
        return format!("DELETE t FROM {from} WHERE h.{THERE} AND NOT h.{IS_WANTED}");
    }
    let written = restore.columns.iter().filter(|at| stored(restore, **at));
    let sets: Vec<String> =
        written.map(|&at| format!("t.{} = h.{}", name(restore, at), wanted(at))).collect();
    format!("UPDATE {from} SET {} WHERE h.{THERE} AND h.{IS_WANTED}", sets.join(", "))
}

/// Of the others one row of several must be taken, one at a time.
fn several_of_a_content(held: &Held) -> String {
    format!("{WAS} IN (SELECT f.c FROM {} AS f WHERE f.n > 1)", found_name(&held.table))
}

/// Puts all held rows back. Settings must be pinned.
pub(crate) fn put(my: &mut My, held: &Held, restore: &Restore) -> Result<u64, EngineError> {
    putting::put(&mut Putting { my, held, restore })
}

struct Putting<'a> {
    my: &'a mut My,
    held: &'a Held,
    restore: &'a Restore,
}

/// Whether another row may only have to go first. The server takes a statement that failed so back by itself.
fn waits(error: &EngineError) -> bool {
    matches!(error, EngineError::Constraint { kind: Constraint::Unique | Constraint::ForeignKey, .. })
}

impl PutBack for Putting<'_> {
    fn list(&mut self, sql: &str) -> Result<Vec<String>, EngineError> {
        Ok(self.my.rows(sql)?.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect())
    }

    fn held(&self) -> String {
        held_name(&self.held.table)
    }

    fn all(&mut self, kind: StepKind) -> Result<Together, EngineError> {
        let whole = self.restore.target.key.kind == KeyKind::WholeRow && kind != StepKind::Insert;
        let sql = if whole {
            single_contents(self.held, self.restore, kind)
        } else {
            statement(self.held, self.restore, kind, None)
        };
        match self.my.execute_one(&sql, &[]) {
            Err(error) if waits(&error) => Ok(Together::None),
            Ok(count) if whole => Ok(Together::Some(count, several_of_a_content(self.held))),
            other => other.map(Together::All),
        }
    }

    fn one(&mut self, kind: StepKind, ordinal: &str) -> Result<Result<u64, EngineError>, EngineError> {
        let done = if self.restore.target.key.kind == KeyKind::WholeRow && kind != StepKind::Insert {
            put_by_content(self.my, self.held, self.restore, kind, ordinal)
        } else {
            self.my.execute_one(&statement(self.held, self.restore, kind, Some(ordinal)), &[])
        };
        match done {
            Err(error) if waits(&error) => Ok(Err(error)),
            other => other.map(Ok),
        }
    }
}

/// Puts the held row of an ordinal back, by its contents.
fn put_by_content(
    my: &mut My,
    held: &Held,
    restore: &Restore,
    kind: StepKind,
    ordinal: &str,
) -> Result<u64, EngineError> {
    let written: Vec<usize> = restore.columns.iter().copied().filter(|at| stored(restore, *at)).collect();
    let mut columns: Vec<String> = vec![content(&held.table, |at| format!("h.{}", before(at)))];
    let mut forms = vec![Form::Text];
    if kind == StepKind::Update {
        columns.extend(written.iter().map(|&at| format!("h.{}", wanted(at))));
        forms.extend(written.iter().filter_map(|&at| held.table.types.get(at)).map(|t| t.form));
    }
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
    let Some((Value::Text(was), values)) = row.split_first() else { return Ok(0) };
    my.execute_one(&by_content(held, restore, kind, was), values)
}
