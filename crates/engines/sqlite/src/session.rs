//! An open database file.

use std::path::PathBuf;
use std::time::Instant;

use marktwice_core::hash::{Fingerprint, RowHash};
use marktwice_core::receipt::DatabaseId;
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::table::{KeyKind, Target};
use marktwice_core::way_back::WayBack;
use marktwice_core::{Code, Value};
use marktwice_port::engine::{ChangeSource, FoundSink, RowSink};
use marktwice_port::{
    EngineError, Held, Intent, Plan, Restore, Session, SideWrite, Stopper, Tx, Waits, Watch,
};
use rusqlite::{Connection, OpenFlags};

use crate::catalog::{Sort, describe, names};
use crate::error::engine;
use crate::names::quoted;
use crate::open::beside;
use crate::plan::{Detail, plan, schema_version};
use crate::reach::count_actions;
use crate::restore::Finder;
use crate::shape::{Shape, drop_held, hold};
use crate::tx::SqliteTx;
use crate::way_back::{by_definition, by_rows};
use crate::{look, values};

/// Virtual machine steps between two looks whether somebody asked to stop.
const STEPS: i32 = 10_000;

/// An open SQLite database.
pub(crate) struct SqliteSession {
    pub(crate) connection: Option<Connection>,
    pub(crate) database: DatabaseId,
    notes: Vec<String>,
    pub(crate) waits: Waits,
    intent: Intent,
    /// Asked while something is at work.
    stop: Option<Stopper>,
    /// Set when a reading session may leave log files of the engine's behind that were not there before.
    tidy: Option<PathBuf>,
}

impl SqliteSession {
    pub(crate) fn new(
        connection: Connection,
        database: DatabaseId,
        notes: Vec<String>,
        waits: Waits,
        intent: Intent,
        tidy: Option<PathBuf>,
    ) -> Self {
        SqliteSession { connection: Some(connection), database, notes, waits, intent, stop: None, tidy }
    }

    pub(crate) fn connection(&self) -> Result<&Connection, EngineError> {
        self.connection.as_ref().ok_or_else(closed)
    }

    /// From now on work is interrupted when somebody asks to stop, or when the limit on one statement is reached.
    pub(crate) fn limit_from_now(&mut self, stop: Option<Stopper>) -> Result<(), EngineError> {
        let until = self.waits.statement.map(|limit| Instant::now() + limit);
        let connection = self.connection_mut()?;
        if stop.is_none() && until.is_none() {
            return connection.progress_handler(0, None::<fn() -> bool>).map_err(engine);
        }
        let over = move || stop.as_ref().is_some_and(|s| s()) || until.is_some_and(|u| Instant::now() >= u);
        connection.progress_handler(STEPS, Some(over)).map_err(engine)
    }

    /// An interruption that nobody asked for is the limit's.
    pub(crate) fn too_long(&self, error: EngineError, stop: Option<&Stopper>) -> EngineError {
        match (error, self.waits.statement) {
            (EngineError::Interrupted, Some(limit)) if !stop.is_some_and(|s| s()) => EngineError::Other(
                format!("a statement took longer than {} s, the limit that was set", limit.as_secs_f64()),
            ),
            (error, _) => error,
        }
    }

    pub(crate) fn connection_mut(&mut self) -> Result<&mut Connection, EngineError> {
        self.connection.as_mut().ok_or_else(closed)
    }
}

fn closed() -> EngineError {
    EngineError::Other("the database is closed".to_owned())
}

impl Drop for SqliteSession {
    fn drop(&mut self) {
        self.connection = None;
        // A reader that may not write cannot remove the log files it had to make for a database in WAL mode. The
        // engine itself does, when a connection that may write is the last to close.
        if let Some(path) = self.tidy.take()
            && beside(&path, "-wal").exists()
        {
            let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            let read = |c: Connection| c.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()));
            let _ = Connection::open_with_flags(path, flags).and_then(read);
        }
    }
}

/// The engine's own part of a plan.
pub(crate) fn detail(plan: &Plan) -> Result<&Detail, EngineError> {
    plan.detail.downcast_ref().ok_or_else(|| EngineError::Other("the plan is another engine's".to_owned()))
}

/// How many rows a table has.
pub(crate) fn count(connection: &Connection, table: &str) -> Result<u64, EngineError> {
    let sql = format!("SELECT count(*) FROM main.{}", quoted(table));
    connection.query_row(&sql, [], |row| row.get::<_, i64>(0)).map(i64::unsigned_abs).map_err(engine)
}

/// Holds the rows of a plan, counts the target and foresees side effects, all in the transaction that is open.
pub(crate) fn hold_all(connection: &Connection, plan: &Plan) -> Result<(Shape, Held), EngineError> {
    let detail = detail(plan)?;
    if schema_version(connection)? != detail.schema {
        return Err(EngineError::SchemaChanged(
            "definitions in the database have changed since the preview".to_owned(),
        ));
    }
    let (shape, matched, many) = hold(connection, plan, detail)?;
    let total = count(connection, &plan.target.table)?;
    let assigned: Vec<(usize, Option<String>)> = plan
        .foreseen
        .iter()
        .map(|f| (f.column, shape.after.iter().find(|(at, _)| *at == f.column).map(|(_, name)| name.clone())))
        .collect();
    let mut side = detail.triggers.clone();
    side.extend(count_actions(connection, &detail.foreign_keys, &detail.table, plan.kind, &assigned)?);
    if matched == 0 {
        side.clear();
    }
    let back = by_rows(connection, plan, detail)?;
    let fires = matched > 0 && detail.fires;
    Ok((shape, Held { matched, total, side, many, back, fires }))
}

impl Session for SqliteSession {
    fn database(&self) -> &DatabaseId {
        &self.database
    }

    fn obey(&mut self, watch: &Watch) {
        self.stop = Some(watch.stop.clone());
    }

    fn notes(&self) -> &[String] {
        &self.notes
    }

    fn plan(&mut self, source: &str, _allow: &[Code]) -> Result<Plan, EngineError> {
        plan(self.connection_mut()?, source)
    }

    fn view(&mut self, plan: &Plan, sink: &mut RowSink<'_>) -> Result<Held, EngineError> {
        self.limit_from_now(self.stop.clone())?;
        let connection = self.connection()?;
        drop_held(connection)?;
        connection.execute_batch("BEGIN").map_err(engine)?;
        let held = hold_all(connection, plan).map_err(|e| self.too_long(e, self.stop.as_ref()));
        // COMMIT ends the reading and lets writers go on; what is held stays in the temporary table.
        let ended = connection.execute_batch(if held.is_ok() { "COMMIT" } else { "ROLLBACK" });
        let (shape, held) = held?;
        ended.map_err(engine)?;
        let streamed = shape.stream(connection, sink);
        drop_held(connection)?;
        streamed?;
        Ok(held)
    }

    fn peek(&mut self, plan: &Plan, limit: Option<u64>, sink: &mut RowSink<'_>) -> Result<u64, EngineError> {
        self.limit_from_now(self.stop.clone())?;
        look::peek(self.connection()?, plan, limit, sink)
    }

    fn study(&mut self, plan: &Plan, wish: &Wish) -> Result<Study, EngineError> {
        look::study(self, plan, wish)
    }

    fn tables(&mut self) -> Result<Vec<TableSummary>, EngineError> {
        look::tables(self.connection_mut()?)
    }

    fn survey(&mut self, _schema: Option<&str>, table: &str) -> Result<Survey, EngineError> {
        look::survey(self.connection_mut()?, table)
    }

    fn outcome(&mut self, _token: &str) -> Result<Option<bool>, EngineError> {
        Ok(None)
    }

    fn describe(&mut self, _schema: &str, table: &str) -> Result<Target, EngineError> {
        Ok(describe(self.connection()?, table)?.target)
    }

    fn sample(&mut self, target: &Target, limit: u32) -> Result<Vec<Vec<Value>>, EngineError> {
        let columns: Vec<String> = target.columns.iter().map(|c| quoted(&c.name)).collect();
        let order: Vec<String> = target.key.names.iter().map(|k| quoted(k)).collect();
        let sql = format!(
            "SELECT {} FROM main.{} ORDER BY {} LIMIT {limit}",
            columns.join(", "),
            quoted(&target.table),
            order.join(", ")
        );
        let connection = self.connection()?;
        let read = || -> rusqlite::Result<Vec<Vec<Value>>> {
            let mut statement = connection.prepare(&sql)?;
            let mut rows = statement.query([])?;
            let mut all = Vec::new();
            while let Some(row) = rows.next()? {
                let mut values = Vec::with_capacity(columns.len());
                values::read(row, 0, columns.len(), &mut values)?;
                all.push(values);
            }
            Ok(all)
        };
        read().map_err(engine)
    }

    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        let connection = self.connection()?;
        connection.execute_batch("BEGIN").map_err(engine)?;
        let mut all = || -> Result<(), EngineError> {
            let mut finder = Finder::new(connection, target)?;
            while let Some(change) = source().map_err(EngineError::Sink)? {
                let now = finder.find(&change.key)?;
                sink(&change, now).map_err(EngineError::Sink)?;
            }
            Ok(())
        };
        let result = all();
        let ended = connection.execute_batch("COMMIT").map_err(engine);
        result.and(ended)
    }

    fn restore_reach(&mut self, restore: &Restore) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
        let connection = self.connection_mut()?;
        let table = describe(connection, &restore.target.table)?;
        by_definition(connection, &table, restore)
    }

    fn contents(&mut self) -> Result<Vec<(String, Fingerprint)>, EngineError> {
        let connection = self.connection()?;
        let mut all = Vec::new();
        for name in names(connection, &[Sort::Table])? {
            let table = describe(connection, &name)?;
            let row = table.row.filter(|_| table.target.key.kind == KeyKind::RowIdentity);
            let first = row.map_or(String::new(), |row| format!("{}, ", quoted(&row)));
            let sql = format!("SELECT {first}* FROM main.{}", quoted(&name));
            let read = || -> rusqlite::Result<Fingerprint> {
                let mut fingerprint = Fingerprint::default();
                let mut statement = connection.prepare(&sql)?;
                let width = statement.column_count();
                let mut rows = statement.query([])?;
                let mut held = Vec::new();
                while let Some(row) = rows.next()? {
                    held.clear();
                    values::read(row, 0, width, &mut held)?;
                    fingerprint.add(&RowHash::of(&held));
                }
                Ok(fingerprint)
            };
            all.push((name.clone(), read().map_err(engine)?));
        }
        Ok(all)
    }

    fn begin(&mut self, stop: Stopper) -> Result<Box<dyn Tx + '_>, EngineError> {
        if self.intent != Intent::Write {
            return Err(EngineError::ReadOnly("this session was opened for reading".to_owned()));
        }
        Ok(Box::new(SqliteTx::begin(self, stop)?))
    }
}
