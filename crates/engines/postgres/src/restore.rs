//! Putting rows back. Never by replacing rows: a row is updated, inserted or deleted by its key (or its place) after
//! what is there was compared and locked.

use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_core::table::KeyKind;
use marktwice_port::engine::{ChangeSource, KeepSink};
use marktwice_port::{Constraint, EngineError, Keep, Restore};
use marktwice_server::layout::{Layout, image, images, twice};
use marktwice_sql::ours::{HELD, IS_WANTED, ORDINAL, PART, PLACE, THERE, before, wanted};

use marktwice_server::putting::{self, PutBack, Together};
use marktwice_server::statement::same_definition;

use crate::catalog::{Table, describe, ident};
use crate::client::Pg;
use crate::copy;
use crate::error::engine;
use crate::finder::{Finder, Row};
use crate::held::{Held, define};
use crate::plan::elsewhere;

/// The table as it is now, if its definition is still the one that the run was made with.
pub(crate) fn table_of(pg: &mut Pg, restore: &Restore) -> Result<Table, EngineError> {
    let table = describe(pg, &restore.target.schema, &restore.target.table)?;
    same_definition(&table.target, &restore.target, "the run")?;
    if let Some(said) = elsewhere(&table) {
        return Err(EngineError::SchemaChanged(said));
    }
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
    let mut columns = vec![format!("{ORDINAL} bigint"), format!("{PART} oid"), format!("{PLACE} tid")];
    columns.extend(table.types.iter().enumerate().map(|(at, of)| format!("{} {}", before(at), of.base)));
    let twice = twice(restore);
    let of = |at: &usize| Some(format!("{} {}", wanted(*at), table.types.get(*at)?.base));
    columns.extend(twice.iter().filter_map(of));
    columns.extend([format!("{THERE} boolean"), format!("{IS_WANTED} boolean")]);
    define(pg, &columns.join(", "))?;
    let mut finder = Finder::new(&table, true);
    finder.list(pg)?;
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
            let images = images(&twice, now_values, wanted.as_deref());
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
        after: twice.iter().map(|at| (*at, wanted(*at))).collect(),
    };
    Ok((Held::new(layout, &table), held))
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
        let pairs = target.key.columns.iter().zip(&target.key.names).zip(&table.equals);
        pairs
            .map(|((&at, key), equals)| format!("t.{} {equals} h.{}", ident(key), before(at)))
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
            let twice = twice(restore);
            let values: Vec<String> = columns.iter().map(|&at| format!("h.{}", image(&twice, at))).collect();
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

/// Puts all held rows back. Foreign keys that can wait do.
pub(crate) fn put(pg: &mut Pg, held: &Held, restore: &Restore) -> Result<u64, EngineError> {
    pg.run("SET CONSTRAINTS ALL DEFERRED")?;
    putting::put(&mut Putting { pg, held, restore })
}

struct Putting<'a> {
    pg: &'a mut Pg,
    held: &'a Held,
    restore: &'a Restore,
}

impl Putting<'_> {
    /// Runs a statement so that nothing is left of it when a unique value is in the way. The places of rows without a key
    /// hold until they are written.
    fn attempt(&mut self, sql: &str) -> Result<Result<u64, EngineError>, EngineError> {
        self.pg.run("SAVEPOINT marktwice_put")?;
        match self.pg.execute_one(sql) {
            Err(error @ EngineError::Constraint { kind: Constraint::Unique, .. }) => {
                self.pg.run("ROLLBACK TO SAVEPOINT marktwice_put")?;
                Ok(Err(error))
            }
            Err(error) => Err(error),
            Ok(count) => {
                self.pg.run("RELEASE SAVEPOINT marktwice_put")?;
                Ok(Ok(count))
            }
        }
    }
}

impl PutBack for Putting<'_> {
    fn list(&mut self, sql: &str) -> Result<Vec<String>, EngineError> {
        Ok(self.pg.rows(sql)?.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect())
    }

    fn held(&self) -> String {
        format!("pg_temp.{HELD}")
    }

    fn all(&mut self, kind: StepKind) -> Result<Together, EngineError> {
        let sql = statement(self.held, self.restore, kind, None);
        Ok(self.attempt(&sql)?.map_or(Together::None, Together::All))
    }

    fn one(&mut self, kind: StepKind, ordinal: &str) -> Result<Result<u64, EngineError>, EngineError> {
        let sql = statement(self.held, self.restore, kind, Some(ordinal));
        self.attempt(&sql)
    }
}
