//! Putting back rows of tables without a key: nothing but their contents tells them here.

use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_port::{Batch, EngineError};
use marktwice_sql::dialect::ours::{IS_WANTED, ORDINAL, THERE, WAS, before, wanted};

use crate::catalog::ident;
use crate::client::My;
use crate::content::content;
use crate::finder::found_name;
use crate::held::Held;
use crate::values::Form;

fn stored(batch: &Batch, at: usize) -> bool {
    batch.target.columns.get(at).is_some_and(|c| !c.generated)
}

fn name(batch: &Batch, at: usize) -> String {
    batch.target.columns.get(at).map_or(String::new(), |c| ident(&c.name))
}

/// The statement that changes one row of the contents of the held row of an ordinal, for a table without a key. The
/// contents go in as a literal, because the table of held rows cannot be joined to it with a limit.
fn by_content(held: &Held, batch: &Batch, kind: StepKind, was: &str) -> String {
    let there = content(&held.table, |at| name(batch, at));
    let marks: Vec<String> = batch
        .columns
        .iter()
        .filter(|at| stored(batch, **at))
        .map(|&at| format!("{} = ?", name(batch, at)))
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
pub(crate) fn single_contents(held: &Held, batch: &Batch, kind: StepKind) -> String {
    let (table, rows) = (&held.table, held.name());
    let there = content(table, |at| format!("t.{}", name(batch, at)));
    let from = format!(
        "{} AS t JOIN {rows} AS h ON h.{WAS} = {there} JOIN {} AS f ON f.c = h.{WAS} AND f.n = 1",
        table.name,
        found_name(table)
    );
    if kind == StepKind::Delete {
        return format!("DELETE t FROM {from} WHERE h.{THERE} AND NOT h.{IS_WANTED}");
    }
    let written = batch.columns.iter().filter(|at| stored(batch, **at));
    let sets: Vec<String> = written.map(|&at| format!("t.{} = h.{}", name(batch, at), wanted(at))).collect();
    format!("UPDATE {from} SET {} WHERE h.{THERE} AND h.{IS_WANTED}", sets.join(", "))
}

/// Of the others one row of several must be taken, one at a time.
pub(crate) fn several_of_a_content(held: &Held) -> String {
    format!("{WAS} IN (SELECT f.c FROM {} AS f WHERE f.n > 1)", found_name(&held.table))
}

/// Puts the held row of an ordinal back, by its contents.
pub(crate) fn put_by_content(
    my: &mut My,
    held: &Held,
    batch: &Batch,
    kind: StepKind,
    ordinal: &str,
) -> Result<u64, EngineError> {
    let written: Vec<usize> = batch.columns.iter().copied().filter(|at| stored(batch, *at)).collect();
    let mut columns: Vec<String> = vec![content(&held.table, |at| format!("h.{}", before(at)))];
    let mut forms = vec![Form::Text];
    if kind == StepKind::Update {
        columns.extend(written.iter().map(|&at| format!("h.{}", wanted(at))));
        forms.extend(written.iter().filter_map(|&at| held.table.types.get(at)).map(|t| t.form));
    }
    let sql =
        format!("SELECT {} FROM {} AS h WHERE h.{ORDINAL} = {ordinal}", columns.join(", "), held.name());
    let mut row = Vec::new();
    my.stream(&sql, &[], &forms, &mut |values| {
        row = values.to_vec();
        Ok(())
    })?;
    let Some((Value::Text(was), values)) = row.split_first() else { return Ok(0) };
    my.execute_one(&by_content(held, batch, kind, was), values)
}
