//! The transaction of a run.

use marktwice_core::mark::StepKind;
use marktwice_core::way_back::WayBack;
use marktwice_port::engine::{ChangeSource, KeepSink, PairSink, RowSink};
use marktwice_port::{
    CommitOutcome, EngineError, Held as Rows, Plan, Restore, SideHow, SideWrite, Stopper, Tx,
};
use marktwice_server::reach::{ForeignKey, onto_itself};
use marktwice_server::statement::{detail, may_write};
use marktwice_sql::ours::wanted;

use crate::catalog::foreign_keys;
use crate::client::Pg;
use crate::error::{engine, is_lost};
use crate::held::{self, Held};
use crate::measured::{Books, Measured, between, books};
use crate::plan::Detail;
use crate::restore;
use crate::surroundings::{actions, count, still_defined, surroundings};

pub(crate) struct PgTx<'s> {
    pg: &'s mut Pg,
    /// The transaction's own number on the server.
    xid: String,
    settings: Vec<String>,
    held: Option<Held>,
    /// What the server's books said before the statement.
    baseline: Option<Books>,
    executed: u64,
    /// Tables that foreign keys' actions look at, and whether one of them acts on the target itself.
    children: Vec<String>,
    onto_itself: bool,
    open: bool,
}

impl<'s> PgTx<'s> {
    /// Begins. REPEATABLE READ keeps rows that come in later out of sight, and lets the server refuse to overwrite what
    /// another transaction changed meanwhile.
    pub(crate) fn begin(pg: &'s mut Pg, stop: Stopper) -> Result<Self, EngineError> {
        pg.stop = Some(stop);
        // Counters of earlier transactions would leak in; older servers do not have the function.
        let _ = pg.run("SELECT pg_stat_force_next_flush()");
        let mut settings = Vec::new();
        pg.begin("ISOLATION LEVEL REPEATABLE READ READ WRITE")?;
        // From here on dropping `tx` rolls back.
        let mut tx = PgTx {
            pg,
            xid: String::new(),
            settings: Vec::new(),
            held: None,
            baseline: None,
            executed: 0,
            children: Vec::new(),
            onto_itself: false,
            open: true,
        };
        let now = tx.pg.rows(
            "SELECT current_setting('track_counts'), current_setting('synchronous_commit'), current_setting('fsync')",
        )?;
        let now = |at: usize| now.first().and_then(|r| r.get(at)?.as_deref()).unwrap_or_default();
        let (counts, commits, fsync) = (now(0) == "on", now(1), now(2));
        if commits == "off" {
            tx.pg.run("SET LOCAL synchronous_commit TO on")?;
            settings.push("synchronous_commit: on for this transaction (off by default here)".to_owned());
        } else {
            settings.push(format!("synchronous_commit: {commits}"));
        }
        if fsync == "off" {
            settings.push(
                "warning: fsync is off on this server, so nothing it commits is safe from a power cut"
                    .to_owned(),
            );
        }
        settings.push("isolation: repeatable read".to_owned());
        tx.xid = tx.pg.one("SELECT pg_current_xact_id()")?.unwrap_or_default();
        if !counts {
            settings.push("rows written elsewhere were not counted: track_counts is off".to_owned());
        }
        tx.settings = settings;
        Ok(tx)
    }

    fn rows_held(&self) -> Result<Held, EngineError> {
        self.held.clone().ok_or_else(|| EngineError::Other("no rows are held".to_owned()))
    }

    /// Under pinned settings.
    fn pinned<T>(&mut self, work: impl FnOnce(&mut Pg) -> Result<T, EngineError>) -> Result<T, EngineError> {
        self.pg.canonical(work)
    }

    /// Opens the books, once everything of our own is done.
    fn prepare_books(
        &mut self,
        keys: &[ForeignKey],
        held: &Held,
        kind: StepKind,
        assigned: &[usize],
    ) -> Result<(), EngineError> {
        self.onto_itself = !onto_itself(keys, &held.table.target, kind, assigned).is_empty();
        let children = self.pg.rows(&format!(
            "WITH RECURSIVE t(oid) AS (SELECT {}::oid UNION SELECT k.conrelid FROM t JOIN pg_constraint k \
             ON k.confrelid = t.oid AND k.contype = 'f' AND (k.confupdtype IN ('c', 'n', 'd') \
             OR k.confdeltype IN ('c', 'n', 'd'))) SELECT oid FROM t",
            held.table.oid
        ))?;
        self.children = children.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect();
        self.baseline = Some(books(self.pg)?);
        Ok(())
    }

    fn end(&mut self) -> Result<(), EngineError> {
        self.open = false;
        self.pg.stop = None;
        self.pg.end()
    }
}

impl Drop for PgTx<'_> {
    fn drop(&mut self) {
        if self.open {
            // Closing the connection rolls back as well; nothing is lost when this fails.
            let _ = self.end();
        }
    }
}

impl Tx for PgTx<'_> {
    fn settings(&self) -> Vec<String> {
        self.settings.clone()
    }

    fn hold(&mut self, plan: &Plan, sink: &mut RowSink<'_>) -> Result<Rows, EngineError> {
        may_write(plan)?;
        let detail: &Detail = detail(plan)?;
        if !detail.temp {
            return Err(EngineError::Denied(
                "TEMP on the database is missing: the rows cannot be held, so nothing is applied; a preview works".to_owned(),
            ));
        }
        still_defined(self.pg, &detail.table)?;
        held::create(self.pg, plan, detail)?;
        let filled = held::fill(self.pg, plan, detail, detail.lock)?;
        let about = surroundings(self.pg, plan, detail, &filled)?;
        let held = filled.held;
        self.pinned(|pg| held.stream(pg, sink))?;
        let assigned: Vec<usize> = plan.foreseen.iter().map(|f| f.column).collect();
        self.prepare_books(&detail.foreign_keys, &held, plan.kind, &assigned)?;
        self.held = Some(held);
        Ok(about)
    }

    fn held(&mut self, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        let held = self.rows_held()?;
        self.pinned(|pg| held.stream(pg, sink))
    }

    fn hold_rows(
        &mut self,
        restore: &Restore,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<Rows, EngineError> {
        let (held, matched) = self.pinned(|pg| restore::hold_rows(pg, restore, source, sink))?;
        let assigned: Vec<(usize, Option<String>)> =
            restore.columns.iter().map(|&at| (at, Some(wanted(at)))).collect();
        let keys = foreign_keys(self.pg)?;
        let side = actions(self.pg, &keys, &held.table, restore.kind, &assigned)?;
        let total = count(self.pg, &held.table)?;
        self.prepare_books(&keys, &held, restore.kind, &restore.columns)?;
        self.held = Some(held);
        Ok(Rows { matched, total, side, many: None, back: WayBack::default(), fires: false })
    }

    fn execute(&mut self, plan: &Plan) -> Result<u64, EngineError> {
        self.executed = self.pg.execute_one(&plan.statement)?;
        self.intact()?;
        Ok(self.executed)
    }

    fn put(&mut self, restore: &Restore) -> Result<u64, EngineError> {
        let held = self.rows_held()?;
        self.executed = restore::put(self.pg, &held, restore)?;
        self.intact()?;
        Ok(self.executed)
    }

    fn settle_constraints(&mut self) -> Result<(), EngineError> {
        self.pg.watched(|pg| pg.run("SET CONSTRAINTS ALL IMMEDIATE"))
    }

    fn pair(&mut self, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        let held = self.rows_held()?;
        self.pinned(|pg| held.pairs(pg, sink))
    }

    fn effects(&mut self) -> Result<Vec<SideWrite>, EngineError> {
        let held = self.rows_held()?;
        let Some(baseline) = &self.baseline else { return Ok(Vec::new()) };
        let now = books(self.pg)?;
        let tree = self.pg.rows(&format!(
            "SELECT relid::oid FROM pg_partition_tree({0}) UNION SELECT {0}::oid",
            held.table.oid
        ))?;
        let own: Vec<String> = tree.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect();
        let Measured { elsewhere: mut all, own: target, counted } =
            between(baseline, &now, &own, &self.children);
        // A row that moves to another partition is deleted here and inserted there. Savepoints that were rolled back stay
        // counted, so what an undo did twice is no evidence; nor is what a key does that cascades onto its own table.
        let [inserted, updated, deleted] = target;
        let written = updated + inserted.max(deleted);
        let restoring = held.layout.flags && held.layout.kind != StepKind::Delete;
        if counted && written > self.executed && !restoring && !self.onto_itself {
            let more = written - self.executed;
            let how = SideHow::Measured(format!("{more} more written than the statement matched"));
            all.push(SideWrite { table: held.table.shown.clone(), how, rows: None });
        }
        Ok(all)
    }

    fn total(&mut self) -> Result<u64, EngineError> {
        let held = self.rows_held()?;
        count(self.pg, &held.table)
    }

    fn intact(&mut self) -> Result<(), EngineError> {
        let now = self.pg.one("SELECT pg_current_xact_id_if_assigned()")?;
        if now.as_deref() == Some(self.xid.as_str()) {
            return Ok(());
        }
        Err(EngineError::TransactionGone(
            "the transaction on the server is not the one that was begun".to_owned(),
        ))
    }

    fn token(&mut self) -> Option<String> {
        Some(self.xid.clone())
    }

    fn commit(mut self: Box<Self>) -> CommitOutcome {
        // A transaction that failed would answer COMMIT by rolling back, and call that a success.
        if let Err(error) = self.intact() {
            return CommitOutcome::RolledBack(error);
        }
        match self.pg.commit() {
            Ok(()) => {
                self.open = false;
                match self.pg.one(&format!("SELECT pg_xact_status('{}'::xid8)", self.xid)) {
                    Ok(Some(status)) if status == "aborted" => CommitOutcome::RolledBack(EngineError::Other(
                        "the server rolled the transaction back instead of committing it".to_owned(),
                    )),
                    _ => CommitOutcome::Committed,
                }
            }
            Err(error) if is_lost(&error) => {
                self.open = false;
                CommitOutcome::Unknown(engine(error))
            }
            Err(error) => {
                self.open = false;
                CommitOutcome::RolledBack(engine(error))
            }
        }
    }

    fn rollback(mut self: Box<Self>) -> Result<(), EngineError> {
        self.end()
    }
}
