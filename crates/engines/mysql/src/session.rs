//! An open connection to a database.

use std::time::{Duration, Instant};

use marktwice_core::hash::{Fingerprint, RowHash};
use marktwice_core::mark::StepKind;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::table::{KeyKind, Target};
use marktwice_core::way_back::WayBack;
use marktwice_core::{Code, Value};
use marktwice_port::engine::{ChangeSource, FoundSink, RowSink};
use marktwice_port::{EngineError, Intent, Plan, Restore, Session, SideWrite, Stopper, Tx, Watch};
use marktwice_server::statement::{detail, plainly_held};
use marktwice_server::way_back::with_insert;

use crate::catalog::{Table, describe, held_name, ident};
use crate::client::My;
use crate::finder::{Finder, Lock};
use crate::grants::grants;
use crate::held;
use crate::look;
use crate::plan::{Detail, plan};
use crate::surroundings::{count, surroundings};
use crate::tx::MyTx;
use crate::values::Form;
use crate::way_back::by_definition;

pub(crate) struct MySession {
    my: My,
    database: DatabaseId,
    notes: Vec<String>,
    intent: Intent,
}

/// How long it is waited for the server to end the connection of a client that died.
const NOTICED: Duration = Duration::from_secs(30);

impl MySession {
    pub(crate) fn new(my: My, database: DatabaseId, notes: Vec<String>, intent: Intent) -> Self {
        MySession { my, database, notes, intent }
    }
}

impl MySession {
    /// Reads rows with locks: whoever has written one and not committed yet is waited for.
    fn look_up_and_wait(
        &mut self,
        table: &Table,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        let mut finder = Finder::new(&mut self.my, table, Lock::Shared)?;
        self.my.run("START TRANSACTION")?;
        let done = self.my.pinned(|my| hand_over(my, &mut finder, source, sink));
        let ended = self.my.run("ROLLBACK");
        done.and(ended)
    }
}

/// Looks all rows up, a chunk at a time.
fn hand_over(
    my: &mut My,
    finder: &mut Finder,
    source: &mut ChangeSource<'_>,
    sink: &mut FoundSink<'_>,
) -> Result<(), EngineError> {
    loop {
        let chunk = finder.next(my, source)?;
        if chunk.is_empty() {
            return Ok(());
        }
        for (change, now) in &chunk {
            sink(change, now.as_deref()).map_err(EngineError::Sink)?;
        }
    }
}

impl Session for MySession {
    fn database(&self) -> &DatabaseId {
        &self.database
    }

    fn obey(&mut self, watch: &Watch) {
        // A silent server is noticed by the time-out of reading.
        self.my.stop = Some(watch.stop.clone());
    }

    fn notes(&self) -> &[String] {
        &self.notes
    }

    fn plan(&mut self, source: &str, allow: &[Code]) -> Result<Plan, EngineError> {
        plan(&mut self.my, source, allow)
    }

    fn view(&mut self, plan: &Plan, sink: &mut RowSink<'_>) -> Result<marktwice_port::Held, EngineError> {
        let detail: &Detail = detail(plan)?;
        let my = &mut self.my;
        if detail.no_temporary.is_some() {
            return my.reading(|my| {
                let matched = held::stream_plainly(my, plan, detail, None, sink)?;
                let total = count(my, &detail.table)?;
                Ok(plainly_held((matched, total), &detail.writes, &detail.back, detail.fires))
            });
        }
        // Inside a transaction that only reads no table can be made; writing into a temporary one is allowed there.
        // READ COMMITTED keeps the reading of INSERT … SELECT from locking the rows it reads.
        held::create(my, plan, detail)?;
        my.run("SET TRANSACTION ISOLATION LEVEL READ COMMITTED")?;
        my.run("START TRANSACTION READ ONLY")?;
        let filled = held::fill(my, plan, detail, false)
            .and_then(|filled| Ok((surroundings(my, plan, detail, &filled)?, filled.held)));
        // What is held is handed over inside the transaction, and all of it is rolled back.
        let done = filled.and_then(|(about, held)| my.pinned(|my| held.stream(my, sink)).map(|()| about));
        let ended = my.run("ROLLBACK");
        let dropped = my.run(&format!("DROP TEMPORARY TABLE IF EXISTS {}", held_name(&detail.table)));
        let about = done?;
        ended.and(dropped).map(|()| about)
    }

    fn peek(&mut self, plan: &Plan, limit: Option<u64>, sink: &mut RowSink<'_>) -> Result<u64, EngineError> {
        look::peek(&mut self.my, plan, limit, sink)
    }

    fn study(&mut self, plan: &Plan, wish: &Wish) -> Result<Study, EngineError> {
        look::study(&mut self.my, plan, wish)
    }

    fn tables(&mut self) -> Result<Vec<TableSummary>, EngineError> {
        look::tables(&mut self.my)
    }

    fn survey(&mut self, schema: Option<&str>, table: &str) -> Result<Survey, EngineError> {
        look::survey(&mut self.my, schema, table)
    }

    /// The server keeps no record of a transaction; but its connection may still be at work on the COMMIT, although its
    /// client is dead, and until it has ended nothing is decided.
    fn outcome(&mut self, token: &str) -> Result<Option<bool>, EngineError> {
        let Some(id) = token.strip_prefix("connection ").and_then(|id| id.parse::<u64>().ok()) else {
            return Ok(None);
        };
        let until = Instant::now() + NOTICED;
        let sql =
            format!("SELECT 1 FROM information_schema.PROCESSLIST WHERE ID = {id} AND INFO IS NOT NULL");
        while self.my.one(&sql)?.is_some() {
            if Instant::now() >= until {
                return Err(EngineError::Locked(format!(
                    "the connection {id} of that run is still at work on the server after {} s",
                    NOTICED.as_secs()
                )));
            }
            std::thread::sleep(Duration::from_millis(200));
        }
        Ok(None)
    }

    fn describe(&mut self, schema: &str, table: &str) -> Result<Target, EngineError> {
        Ok(describe(&mut self.my, schema, table)?.target)
    }

    fn sample(&mut self, target: &Target, limit: u32) -> Result<Vec<Vec<Value>>, EngineError> {
        let table = describe(&mut self.my, &target.schema, &target.table)?;
        let columns: Vec<String> = target.columns.iter().map(|c| ident(&c.name)).collect();
        let keys: Vec<String> = target.key.names.iter().map(|k| ident(k)).collect();
        let order = if keys.is_empty() { String::new() } else { format!(" ORDER BY {}", keys.join(", ")) };
        let sql = format!("SELECT {} FROM {}{order} LIMIT {limit}", columns.join(", "), table.name);
        let mut all = Vec::new();
        self.my.pinned(|my| {
            my.stream(&sql, &[], &table.forms(), &mut |row| {
                all.push(row.to_vec());
                Ok(())
            })
        })?;
        Ok(all)
    }

    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        let table = describe(&mut self.my, &target.schema, &target.table)?;
        if self.intent == Intent::Settle {
            return self.look_up_and_wait(&table, source, sink);
        }
        let mut finder = Finder::new(&mut self.my, &table, Lock::None)?;
        // What is copied into a temporary table is not locked so.
        if table.target.key.kind == KeyKind::WholeRow {
            self.my.run("SET TRANSACTION ISOLATION LEVEL READ COMMITTED")?;
        }
        self.my.reading(|my| hand_over(my, &mut finder, source, sink))
    }

    fn restore_reach(&mut self, restore: &Restore) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
        let my = &mut self.my;
        let table = describe(my, &restore.target.schema, &restore.target.table)?;
        let grants = grants(my)?;
        let own = my.one("SELECT database()")?.unwrap_or_default();
        let mut said = |kind| by_definition(my, &grants, &own, &table, kind);
        let first = said(restore.kind)?;
        let insert = restore.inserts.then(|| said(StepKind::Insert)).transpose()?;
        Ok(with_insert(first, insert))
    }

    fn contents(&mut self) -> Result<Vec<(String, Fingerprint)>, EngineError> {
        let names = self.my.rows(
            "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = database() \
             AND TABLE_TYPE = 'BASE TABLE' ORDER BY 1",
        )?;
        let mut all = Vec::new();
        for name in names.into_iter().flatten().flatten() {
            let table = describe(&mut self.my, "", &name)?;
            let columns: Vec<String> = table.target.columns.iter().map(|c| ident(&c.name)).collect();
            let sql = format!("SELECT {} FROM {}", columns.join(", "), table.name);
            let forms: Vec<Form> = table.forms();
            let mut fingerprint = Fingerprint::default();
            self.my.pinned(|my| {
                my.stream(&sql, &[], &forms, &mut |row| {
                    fingerprint.add(&RowHash::of(row));
                    Ok(())
                })
            })?;
            all.push((name, fingerprint));
        }
        Ok(all)
    }

    fn begin(&mut self, stop: Stopper) -> Result<Box<dyn Tx + '_>, EngineError> {
        Ok(Box::new(MyTx::begin(&mut self.my, stop)?))
    }
}
