//! The transaction of a run.

use std::time::{Duration, Instant};

use marktwice_core::mark::{Label, StepKind};
use marktwice_core::way_back::WayBack;
use marktwice_port::engine::{ChangeSource, KeepSink, PairSink, RowSink};
use marktwice_port::{CommitOutcome, EngineError, Held, Plan, Restore, SideWrite, Stopper, Tx};
use rusqlite::{Connection, ErrorCode};

use crate::catalog::{describe, foreign_keys};
use crate::error::{engine, locked};
use crate::explain::explain;
use crate::reach::count_actions;
use crate::restore;
use crate::session::{SqliteSession, count, detail, hold_all};
use crate::shape::{Shape, drop_held};
use marktwice_sql::ours::wanted;

pub(crate) struct SqliteTx<'s> {
    session: &'s mut SqliteSession,
    stop: Stopper,
    shape: Option<Shape>,
    open: bool,
}

impl<'s> SqliteTx<'s> {
    /// BEGIN IMMEDIATE takes the writer's place at once: from here on nobody else can change a row.
    pub(crate) fn begin(session: &'s mut SqliteSession, stop: Stopper) -> Result<Self, EngineError> {
        session
            .connection()?
            .execute_batch("BEGIN IMMEDIATE")
            .map_err(|e| locked(e, &session.database.name, session.waits.lock))?;
        let mut tx = SqliteTx { session, stop, shape: None, open: true };
        tx.watch()?;
        Ok(tx)
    }

    /// Each action of the transaction has the whole limit for itself.
    fn watch(&mut self) -> Result<(), EngineError> {
        let stop = self.stop.clone();
        self.session.limit_from_now(Some(stop))
    }

    fn rest(&mut self) -> Result<(), EngineError> {
        let connection = self.session.connection_mut()?;
        connection.progress_handler(0, None::<fn() -> bool>).map_err(engine)
    }

    fn connection(&self) -> Result<&Connection, EngineError> {
        self.session.connection()
    }

    fn shape(&self) -> Result<&Shape, EngineError> {
        self.shape.as_ref().ok_or_else(|| EngineError::Other("no rows are held".to_owned()))
    }

    fn end(&mut self) -> Result<(), EngineError> {
        self.open = false;
        let _ = self.rest();
        let connection = self.connection()?;
        if connection.is_autocommit() {
            // The engine has rolled back by itself (after an I/O error, an interrupt, or RAISE(ROLLBACK)).
            return Ok(());
        }
        connection.execute_batch("ROLLBACK").map_err(engine)
    }
}

impl Drop for SqliteTx<'_> {
    fn drop(&mut self) {
        if self.open {
            // Closing the connection rolls back as well; nothing is lost when this fails.
            let _ = self.end();
        }
    }
}

impl Tx for SqliteTx<'_> {
    fn settings(&self) -> Vec<String> {
        let Ok(connection) = self.connection() else { return Vec::new() };
        let journal = connection.query_row("PRAGMA journal_mode", [], |row| row.get::<_, String>(0));
        let journal = journal.unwrap_or_else(|_| "unknown".to_owned());
        vec![
            format!("journal: {journal}"),
            "synchronous: extra".to_owned(),
            "foreign keys: enforced".to_owned(),
        ]
    }

    fn hold(&mut self, plan: &Plan, sink: &mut RowSink<'_>) -> Result<Held, EngineError> {
        self.watch()?;
        let connection = self.connection()?;
        drop_held(connection)?;
        let (shape, held) =
            hold_all(connection, plan).map_err(|e| self.session.too_long(e, Some(&self.stop)))?;
        shape.stream(connection, sink)?;
        self.shape = Some(shape);
        Ok(held)
    }

    fn held(&mut self, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        self.shape()?.stream(self.connection()?, sink)
    }

    fn hold_rows(
        &mut self,
        restore: &Restore,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<Held, EngineError> {
        self.watch()?;
        let connection = self.connection()?;
        let (shape, matched) = restore::hold_rows(connection, restore, source, sink)?;
        let table = describe(connection, &restore.target.table)?;
        let assigned: Vec<(usize, Option<String>)> =
            restore.columns.iter().map(|&at| (at, Some(wanted(at)))).collect();
        let keys = foreign_keys(connection)?;
        let side: Vec<SideWrite> = count_actions(connection, &keys, &table, restore.kind, &assigned)?;
        let total = count(connection, &restore.target.table)?;
        self.shape = Some(shape);
        Ok(Held { matched, total, side, many: None, back: WayBack::default(), fires: false })
    }

    fn execute(&mut self, plan: &Plan) -> Result<u64, EngineError> {
        self.watch()?;
        let connection = self.connection()?;
        // `prepare` refuses a second statement behind the first.
        let mut statement = connection.prepare(&plan.statement).map_err(engine)?;
        let count = match statement.execute([]) {
            Ok(count) => count as u64,
            Err(error) => {
                let plain = self.session.too_long(engine(error), Some(&self.stop));
                let foreseen =
                    plan.foreseen.iter().any(|f| f.label == Label::Exact) || plan.kind == StepKind::Delete;
                if connection.is_autocommit() || !foreseen {
                    return Err(plain);
                }
                return Err(explain(connection, self.shape()?, &detail(plan)?.foreign_keys, plain));
            }
        };
        drop(statement);
        self.intact()?;
        Ok(count)
    }

    fn put(&mut self, restore: &Restore) -> Result<u64, EngineError> {
        self.watch()?;
        let done = restore::put(self.connection()?, restore)?;
        self.intact()?;
        Ok(done)
    }

    fn settle_constraints(&mut self) -> Result<(), EngineError> {
        // SQLite's only constraints that wait are deferred foreign keys, and only COMMIT makes them speak; it refuses
        // definitely, and the transaction is then rolled back.
        Ok(())
    }

    fn pair(&mut self, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        self.watch()?;
        self.shape()?.pairs(self.connection()?, sink)
    }

    fn effects(&mut self) -> Result<Vec<SideWrite>, EngineError> {
        // The compile step has named them all beforehand; the library has no counters by table.
        Ok(Vec::new())
    }

    fn total(&mut self) -> Result<u64, EngineError> {
        count(self.connection()?, &self.shape()?.target.table)
    }

    fn intact(&mut self) -> Result<(), EngineError> {
        if self.connection()?.is_autocommit() {
            return Err(EngineError::TransactionGone(
                "the transaction was ended from inside (a trigger's RAISE(ROLLBACK), or ON CONFLICT ROLLBACK)".to_owned(),
            ));
        }
        Ok(())
    }

    fn token(&mut self) -> Option<String> {
        None
    }

    fn commit(mut self: Box<Self>) -> CommitOutcome {
        if let Err(error) = self.rest() {
            return CommitOutcome::RolledBack(error);
        }
        let wait = self.session.waits.lock;
        let until = Instant::now() + wait;
        loop {
            let connection = match self.connection() {
                Ok(connection) => connection,
                Err(error) => return CommitOutcome::Unknown(error),
            };
            let Err(error) = connection.execute_batch("COMMIT") else {
                self.open = false;
                return CommitOutcome::Committed;
            };
            let busy = error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy);
            // A reader's lock makes COMMIT answer BUSY and leaves the transaction open.
            if busy && Instant::now() < until && !connection.is_autocommit() {
                std::thread::sleep(Duration::from_millis(20));
                continue;
            }
            let definite =
                !connection.is_autocommit() || error.sqlite_error_code() == Some(ErrorCode::DiskFull);
            let error = match locked(error, &self.session.database.name, wait) {
                EngineError::Locked(_) => EngineError::Locked(format!(
                    "{} is being read by another process, and COMMIT waited {} s for it in vain",
                    self.session.database.name,
                    wait.as_secs_f64()
                )),
                other => other,
            };
            return match self.end() {
                Ok(()) if definite => CommitOutcome::RolledBack(error),
                _ => CommitOutcome::Unknown(error),
            };
        }
    }

    fn rollback(mut self: Box<Self>) -> Result<(), EngineError> {
        self.end()
    }
}
