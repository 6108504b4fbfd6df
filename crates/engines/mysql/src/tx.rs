//! The transaction of a run.

use marktwice_core::mark::StepKind;
use marktwice_core::way_back::WayBack;
use marktwice_port::engine::{ChangeSource, KeepSink, PairSink, RowSink};
use marktwice_port::{
    CommitOutcome, EngineError, Held as Rows, Plan, Restore, SideHow, SideWrite, Stopper, Tx,
};
use marktwice_server::statement::{detail, may_write};
use marktwice_sql::ours::wanted;
use mysql::prelude::Queryable;

use crate::catalog::{NoTemporary, foreign_keys};
use crate::client::My;
use crate::error::{engine, is_lost};
use crate::held::{self, Held};
use crate::plan::Detail;
use crate::restore;
use crate::surroundings::{actions, count, still_defined, surroundings};

/// Rows written, updated and deleted, as the session counts them; rows of temporary tables included.
type Counters = [u64; 3];

pub(crate) struct MyTx<'s> {
    my: &'s mut My,
    settings: Vec<String>,
    held: Option<Held>,
    /// What was written while the statement was at work, and how many rows it matched; `None` where that is not known.
    executed: Option<(Counters, u64)>,
    kind: StepKind,
    open: bool,
}

impl<'s> MyTx<'s> {
    /// Begins. SERIALIZABLE makes every plain SELECT see and lock the newest rows, as the statement itself does.
    pub(crate) fn begin(my: &'s mut My, stop: Stopper) -> Result<Self, EngineError> {
        let mut settings = vec!["isolation: serializable".to_owned()];
        let flush = my.one("SELECT @@global.innodb_flush_log_at_trx_commit")?.unwrap_or_default();
        if flush == "1" {
            settings.push("innodb_flush_log_at_trx_commit: 1".to_owned());
        } else {
            settings.push(format!(
                "warning: innodb_flush_log_at_trx_commit is {flush} on this server, so the last commits are not safe from a crash"
            ));
        }
        my.stop = Some(stop);
        my.run("SET TRANSACTION ISOLATION LEVEL SERIALIZABLE")?;
        my.run("START TRANSACTION READ WRITE")?;
        // From here on dropping `tx` rolls back.
        let tx = MyTx { my, settings, held: None, executed: None, kind: StepKind::Update, open: true };
        tx.my.run("SAVEPOINT marktwice_here")?;
        Ok(tx)
    }

    fn rows_held(&self) -> Result<Held, EngineError> {
        self.held.clone().ok_or_else(|| EngineError::Other("no rows are held".to_owned()))
    }

    fn end(&mut self) -> Result<(), EngineError> {
        self.open = false;
        self.my.stop = None;
        self.my.run("ROLLBACK")
    }

    fn counters(&mut self) -> Result<Counters, EngineError> {
        let mut all = [0; 3];
        let rows = self.my.rows(
            "SHOW SESSION STATUS WHERE Variable_name IN ('Handler_write', 'Handler_update', 'Handler_delete')",
        )?;
        if rows.len() < all.len() {
            return Err(EngineError::Other(format!(
                "{} does not count the rows that it writes: nothing is applied; a preview works",
                self.my.brand
            )));
        }
        for row in rows {
            let text = |at: usize| row.get(at).and_then(Option::as_deref).unwrap_or("");
            let at = match text(0) {
                "Handler_write" => 0,
                "Handler_update" => 1,
                _ => 2,
            };
            if let Some(slot) = all.get_mut(at) {
                *slot = text(1).parse().unwrap_or(0);
            }
        }
        Ok(all)
    }
}

impl Drop for MyTx<'_> {
    fn drop(&mut self) {
        if self.open {
            // Closing the connection rolls back as well; nothing is lost when this fails.
            let _ = self.end();
        }
    }
}

impl Tx for MyTx<'_> {
    fn settings(&self) -> Vec<String> {
        self.settings.clone()
    }

    fn hold(&mut self, plan: &Plan, sink: &mut RowSink<'_>) -> Result<Rows, EngineError> {
        may_write(plan)?;
        let detail: &Detail = detail(plan)?;
        if let Some(NoTemporary { why, right }) = &detail.no_temporary {
            let said = format!("{why}: the rows cannot be held, so nothing is applied; a preview works");
            return Err(if *right { EngineError::Denied(said) } else { EngineError::Other(said) });
        }
        still_defined(self.my, &detail.table)?;
        held::create(self.my, plan, detail)?;
        let filled = held::fill(self.my, plan, detail, true)?;
        let about = surroundings(self.my, plan, detail, &filled)?;
        let held = filled.held;
        self.my.pinned(|my| {
            held.expect_contents(my)?;
            held.stream(my, sink)
        })?;
        self.held = Some(held);
        Ok(about)
    }

    fn held(&mut self, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        let held = self.rows_held()?;
        self.my.pinned(|my| held.stream(my, sink))
    }

    fn hold_rows(
        &mut self,
        restore: &Restore,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<Rows, EngineError> {
        let (held, matched) = self.my.pinned(|my| restore::hold_rows(my, restore, source, sink))?;
        let assigned: Vec<(usize, Option<String>)> =
            restore.columns.iter().map(|&at| (at, Some(wanted(at)))).collect();
        let keys = foreign_keys(self.my, &held.table)?;
        let side = actions(self.my, &keys, &held.table, restore.kind, &assigned)?;
        let total = count(self.my, &held.table)?;
        self.held = Some(held);
        Ok(Rows { matched, total, side, many: None, back: WayBack::default(), fires: false })
    }

    fn execute(&mut self, plan: &Plan) -> Result<u64, EngineError> {
        if self.my.own_guard {
            self.my.run("SET SESSION sql_safe_updates = 1")?;
        }
        let before = self.counters()?;
        let count = self.my.execute_one(&plan.statement, &[]).map_err(|e| self.my.cluster_words(e))?;
        if self.my.own_guard {
            self.my.run("SET SESSION sql_safe_updates = 0")?;
        }
        let mut written = self.counters()?;
        written.iter_mut().zip(before).for_each(|(now, before)| *now = now.saturating_sub(before));
        self.executed = Some((written, count));
        self.kind = plan.kind;
        self.intact()?;
        Ok(count)
    }

    fn put(&mut self, restore: &Restore) -> Result<u64, EngineError> {
        let held = self.rows_held()?;
        let done = self.my.pinned(|my| restore::put(my, &held, restore))?;
        self.intact()?;
        Ok(done)
    }

    fn settle_constraints(&mut self) -> Result<(), EngineError> {
        // Constraints never wait on this engine.
        Ok(())
    }

    fn pair(&mut self, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        let held = self.rows_held()?;
        self.my.pinned(|my| held.pairs(my, sink))
    }

    fn effects(&mut self) -> Result<Vec<SideWrite>, EngineError> {
        // The session counts what triggers and functions write, without saying where; not what foreign keys' actions do.
        // A partitioned table counts its own rows more than once.
        let (Some((written, count)), Some(held)) = (self.executed, &self.held) else { return Ok(Vec::new()) };
        if held.table.partitioned {
            return Ok(Vec::new());
        }
        let own = match self.kind {
            StepKind::Insert => [count, 0, 0],
            StepKind::Update => [0, count, 0],
            StepKind::Delete => [0, 0, count],
        };
        let more: Vec<String> = written
            .iter()
            .zip(own)
            .zip(["inserted", "updated", "deleted"])
            .filter(|((written, own), _)| *written > own)
            .map(|((written, own), what)| format!("{} {what}", written - own))
            .collect();
        if more.is_empty() {
            return Ok(Vec::new());
        }
        let how = SideHow::Measured(more.join(", "));
        Ok(vec![SideWrite { table: "rows elsewhere".to_owned(), how, rows: None }])
    }

    fn total(&mut self) -> Result<u64, EngineError> {
        let held = self.rows_held()?;
        count(self.my, &held.table)
    }

    fn intact(&mut self) -> Result<(), EngineError> {
        // A savepoint goes with the transaction it was made in.
        let there = self
            .my
            .run("RELEASE SAVEPOINT marktwice_here")
            .and_then(|()| self.my.run("SAVEPOINT marktwice_here"));
        there.map_err(|error| {
            EngineError::TransactionGone(format!(
                "the transaction on the server is not the one that was begun: {error}"
            ))
        })
    }

    fn token(&mut self) -> Option<String> {
        Some(format!("connection {}", self.my.conn.connection_id()))
    }

    fn commit(mut self: Box<Self>) -> CommitOutcome {
        // After a statement that ended the transaction COMMIT would succeed and mean nothing.
        if let Err(error) = self.intact() {
            return CommitOutcome::RolledBack(error);
        }
        self.my.stop = None;
        self.open = false;
        match self.my.conn.query_drop("COMMIT") {
            Ok(()) => CommitOutcome::Committed,
            Err(error) if is_lost(&error) => CommitOutcome::Unknown(engine(error)),
            Err(error) => CommitOutcome::RolledBack(self.my.cluster_words(engine(error))),
        }
    }

    fn rollback(mut self: Box<Self>) -> Result<(), EngineError> {
        self.end()
    }
}
