//! An open connection to a database.

use std::time::{Duration, Instant};

use marktwice_core::hash::{Fingerprint, RowHash};
use marktwice_core::mark::StepKind;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::table::Target;
use marktwice_core::way_back::WayBack;
use marktwice_core::{Code, Value};
use marktwice_port::engine::{ChangeSource, FoundSink, RowSink};
use marktwice_port::{Constraint, EngineError, Plan, Restore, Session, SideWrite, Stopper, Tx, Watch};
use marktwice_server::statement::{detail, plainly_held};
use marktwice_server::way_back::with_insert;

use crate::catalog::{describe, ident};
use crate::client::{Pg, READING};
use crate::copy::quoted;
use crate::finder::Finder;
use crate::held;
use crate::look;
use crate::plan::{Detail, plan};
use crate::published;
use crate::surroundings::{count, surroundings};
use crate::tx::PgTx;
use crate::way_back::by_definition;

/// One consistent view of everything; temporary tables can be made, and so the transaction may write for a moment.
const TEMPORARY: &str = "ISOLATION LEVEL REPEATABLE READ READ WRITE";

/// How long it is waited for the server to notice that a client died.
const NOTICED: Duration = Duration::from_secs(30);

pub(crate) struct PgSession {
    pub(crate) pg: Pg,
    database: DatabaseId,
    notes: Vec<String>,
    /// Whether temporary tables can be made here.
    temp: bool,
}

impl PgSession {
    pub(crate) fn new(pg: Pg, database: DatabaseId, notes: Vec<String>, temp: bool) -> Self {
        PgSession { pg, database, notes, temp }
    }
}

impl PgSession {
    /// All of it in one transaction, which is rolled back: nothing that a function in the statement did is left, and the
    /// temporary table goes with it.
    fn view_held(
        &mut self,
        plan: &Plan,
        sink: &mut RowSink<'_>,
    ) -> Result<marktwice_port::Held, EngineError> {
        let detail: &Detail = detail(plan)?;
        self.pg.within(TEMPORARY, |pg| {
            held::create(pg, plan, detail)?;
            // From here on no real table can be written; the temporary one can.
            pg.run("SET TRANSACTION READ ONLY")?;
            let filled = held::fill(pg, plan, detail, false)?;
            let about = surroundings(pg, plan, detail, &filled)?;
            pg.canonical(|pg| filled.held.stream(pg, sink))?;
            Ok(about)
        })
    }

    fn view_plainly(
        &mut self,
        plan: &Plan,
        sink: &mut RowSink<'_>,
    ) -> Result<marktwice_port::Held, EngineError> {
        let detail: &Detail = detail(plan)?;
        self.pg.plainly(|pg| {
            let matched = held::stream_plainly(pg, plan, detail, None, sink)?;
            let total = count(pg, &detail.table)?;
            Ok(plainly_held((matched, total), &detail.writes, &detail.back, detail.fires))
        })
    }
}

impl Session for PgSession {
    fn database(&self) -> &DatabaseId {
        &self.database
    }

    fn obey(&mut self, watch: &Watch) {
        self.pg.stop = Some(watch.stop.clone());
        self.pg.silent = Some(watch.silent.clone());
    }

    fn notes(&self) -> &[String] {
        &self.notes
    }

    fn plan(&mut self, source: &str, allow: &[Code]) -> Result<Plan, EngineError> {
        let temp = self.temp;
        let mode = if temp { TEMPORARY } else { READING };
        self.pg.within(mode, |pg| plan(pg, source, allow, temp))
    }

    fn view(&mut self, plan: &Plan, sink: &mut RowSink<'_>) -> Result<marktwice_port::Held, EngineError> {
        if detail::<Detail>(plan)?.temp { self.view_held(plan, sink) } else { self.view_plainly(plan, sink) }
    }

    fn peek(&mut self, plan: &Plan, limit: Option<u64>, sink: &mut RowSink<'_>) -> Result<u64, EngineError> {
        look::peek(&mut self.pg, plan, limit, sink)
    }

    fn study(&mut self, plan: &Plan, wish: &Wish) -> Result<Study, EngineError> {
        self.pg.looking(|pg| look::study(pg, plan, wish))
    }

    fn tables(&mut self) -> Result<Vec<TableSummary>, EngineError> {
        self.pg.looking(look::tables)
    }

    fn survey(&mut self, schema: Option<&str>, table: &str) -> Result<Survey, EngineError> {
        self.pg.looking(|pg| look::survey(pg, schema, table))
    }

    fn outcome(&mut self, token: &str) -> Result<Option<bool>, EngineError> {
        let sql = format!("SELECT pg_xact_status({}::xid8)", quoted(token));
        let until = Instant::now() + NOTICED;
        loop {
            match self.pg.looking(|pg| pg.one(&sql)) {
                Ok(Some(status)) if status == "committed" => return Ok(Some(true)),
                Ok(Some(status)) if status == "aborted" => return Ok(Some(false)),
                // The server has not noticed yet that its client is gone.
                Ok(Some(_)) if Instant::now() < until => std::thread::sleep(Duration::from_millis(200)),
                Ok(Some(_)) => {
                    return Err(EngineError::Locked(format!(
                        "the transaction is still in progress on the server after {} s",
                        NOTICED.as_secs()
                    )));
                }
                // So long ago that the server has forgotten it, or a database that was put back from a backup.
                Ok(None) => return Ok(None),
                Err(EngineError::Constraint { kind: Constraint::Type, message })
                    if message.contains("future") =>
                {
                    return Ok(None);
                }
                Err(error) => return Err(error),
            }
        }
    }

    fn describe(&mut self, schema: &str, table: &str) -> Result<Target, EngineError> {
        self.pg.looking(|pg| Ok(describe(pg, schema, table)?.target))
    }

    fn sample(&mut self, target: &Target, limit: u32) -> Result<Vec<Vec<Value>>, EngineError> {
        let table = self.pg.looking(|pg| describe(pg, &target.schema, &target.table))?;
        let columns: Vec<String> = target.columns.iter().map(|c| ident(&c.name)).collect();
        let keys: Vec<String> = target.key.names.iter().map(|k| ident(k)).collect();
        let order = if keys.is_empty() { String::new() } else { format!(" ORDER BY {}", keys.join(", ")) };
        let sql = format!("SELECT {} FROM {}{order} LIMIT {limit}", columns.join(", "), table.from);
        let mut all = Vec::new();
        self.pg.reading(|pg| {
            pg.stream(&sql, &table.forms(), &mut |row| {
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
        let temp = self.temp;
        let mode = if temp { TEMPORARY } else { READING };
        self.pg.within(mode, |pg| {
            pg.canonical(|pg| {
                let table = describe(pg, &target.schema, &target.table)?;
                let mut finder = Finder::new(&table, false);
                if temp {
                    finder.list(pg)?;
                    pg.run("SET TRANSACTION READ ONLY")?;
                }
                loop {
                    let chunk = finder.next(pg, source)?;
                    if chunk.is_empty() {
                        return Ok(());
                    }
                    for (change, now) in &chunk {
                        sink(change, now.as_ref().map(|row| row.values.as_slice()))
                            .map_err(EngineError::Sink)?;
                    }
                }
            })
        })
    }

    fn restore_reach(&mut self, restore: &Restore) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
        self.pg.looking(|pg| {
            let table = describe(pg, &restore.target.schema, &restore.target.table)?;
            let mut first = by_definition(pg, &table, restore.kind, &restore.columns)?;
            first.1.obstacles.extend(published::refusal(
                pg,
                &table,
                restore.kind,
                restore.columns.first().copied(),
            )?);
            let insert =
                restore.inserts.then(|| by_definition(pg, &table, StepKind::Insert, &restore.columns));
            Ok(with_insert(first, insert.transpose()?))
        })
    }

    fn contents(&mut self) -> Result<Vec<(String, Fingerprint)>, EngineError> {
        self.pg.looking(|pg| {
            let names = pg.rows(
                "SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
                 WHERE c.relkind = 'r' AND n.nspname = ANY (current_schemas(false)) ORDER BY 2, 1",
            )?;
            let mut all = Vec::new();
            for row in names {
                let name = |at: usize| row.get(at).cloned().flatten().unwrap_or_default();
                let table = describe(pg, &name(0), &name(1))?;
                let columns: Vec<String> = table.target.columns.iter().map(|c| ident(&c.name)).collect();
                let sql = format!("SELECT {} FROM {}", columns.join(", "), table.from);
                let mut fingerprint = Fingerprint::default();
                pg.reading(|pg| {
                    pg.stream(&sql, &table.forms(), &mut |row| {
                        fingerprint.add(&RowHash::of(row));
                        Ok(())
                    })
                })?;
                all.push((name(1), fingerprint));
            }
            Ok(all)
        })
    }

    fn begin(&mut self, stop: Stopper) -> Result<Box<dyn Tx + '_>, EngineError> {
        Ok(Box::new(PgTx::begin(&mut self.pg, stop)?))
    }
}
