//! What this server gives to the sessions, transactions and held rows that are the same for every relational engine.

use std::io::Write as _;
use std::time::{Duration, Instant};

use marktwice_core::Value;
use marktwice_core::finding::Code;
use marktwice_core::mark::StepKind;
use marktwice_core::param::Bound;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::steps::Touches;
use marktwice_core::survey::Declared;
use marktwice_core::table::Target;
use marktwice_core::way_back::WayBack;
use marktwice_port::{
    Batch, ChangeSource, CommitOutcome, Constraint, EngineError, FoundSink, PATIENCE, Plan, Settings,
    SideHow, SideWrite, Stopper, Watch,
};
use marktwice_relational::breaches::Rules;
use marktwice_relational::driver::{Driver, Listed, Origin, Viewed, Working};
use marktwice_relational::finder::{Asked, Finder, Found, Lock};
use marktwice_relational::held::create;
use marktwice_relational::insert::giving;
use marktwice_relational::reach::{ForeignKey, onto_itself};
use marktwice_relational::recipe::Recipe;
use marktwice_relational::shell::Tabled;
use marktwice_relational::statement::detail;
use marktwice_relational::transaction::OfStep;
use marktwice_relational::walk::{Start, walk};
use marktwice_relational::way_back::with_insert;
use marktwice_sql::Step;
use marktwice_sql::dialect::ours::ORDINAL;
use marktwice_sql::query::ask::Texts;
use marktwice_sql::query::check::Question;
use marktwice_sql::statement::routine::Written;

use crate::calls::Asking;
use crate::catalog::{Table, describe, describe_found, find, foreign_keys};
use crate::client::{Pg, READING, TEMPORARY, TextRow};
use crate::copy::{self, quoted};
use crate::detail::Detail;
use crate::error::{engine, is_lost};
use crate::held::{Filled, Held, define, fill, recipe};
use crate::listing::{listed, rules, viewed};
use crate::measured::{Books, Measured, between, books};
use crate::open::may_write;
use crate::plan::{called_by, elsewhere, plan};
use crate::touches::{origin, reads, reads_as_resolved, relatives, touches};
use crate::way_back::{by_definition, by_rows};
use crate::{finder, published};

/// How long it is waited for the server to notice that a client died.
const NOTICED: Duration = Duration::from_secs(30);

/// What the server's books said before a statement, and what it may write besides the target.
#[derive(Debug, Default)]
pub(crate) struct Baseline {
    books: Books,
    /// Tables that foreign keys' actions look at, and whether one of them acts on the target itself.
    children: Vec<String>,
    onto_itself: bool,
}

/// The first column of rows.
fn first_of(rows: Vec<TextRow>) -> Vec<String> {
    rows.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect()
}

impl Driver for Pg {
    /// The transaction's own number on the server.
    type Here = String;
    type Books = Baseline;

    const COUNTS_TABLES: bool = true;

    fn obey(&mut self, watch: &Watch) {
        self.stop = Some(watch.stop.clone());
        self.silent = Some(watch.silent.clone());
    }

    fn pinned<R>(&mut self, work: impl FnOnce(&mut Pg) -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.canonical(work)
    }

    fn looking<R>(&mut self, work: impl FnOnce(&mut Pg) -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.within(READING, work)
    }

    fn peeking<R>(&mut self, work: impl FnOnce(&mut Pg) -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.in_own_path(work)
    }

    fn plainly<R>(&mut self, work: impl FnOnce(&mut Pg) -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.in_own_path(work)
    }

    /// Under the user's settings.
    fn ask_until(&mut self, sql: &str, until: Instant) -> Result<Texts, EngineError> {
        let left = until.saturating_duration_since(Instant::now()).min(PATIENCE).as_millis();
        if left == 0 {
            return Err(EngineError::Interrupted);
        }
        self.looking(|pg| {
            pg.later(&format!("SAVEPOINT marktwice_ask; SET LOCAL statement_timeout = {left}"));
            let answer = pg.ask(sql);
            pg.later("ROLLBACK TO SAVEPOINT marktwice_ask; RELEASE SAVEPOINT marktwice_ask");
            answer
        })
    }

    fn rest(&mut self) -> Result<(), EngineError> {
        self.settle()
    }

    fn bind(&mut self, value: Bound) -> Result<(), EngineError> {
        Pg::bind(self, value)
    }

    const ASKS_KEYS_AGAIN: bool = true;

    const SETTINGS: &'static [&'static str] = &["TimeZone", "DateStyle", "IntervalStyle"];

    const HOME: &'static str = "SELECT pg_catalog.current_schema()";

    fn may_write(&mut self, database: &DatabaseId) -> Result<bool, EngineError> {
        may_write(self, database).map(|()| true)
    }

    fn reckoned(&mut self, table: &Table) -> Result<Option<u64>, EngineError> {
        // The planner looks at how large the file is now, too.
        let plan = self.one(&format!("EXPLAIN SELECT 1 FROM {}", table.from()))?.unwrap_or_default();
        let rows = plan.split(" rows=").nth(1).and_then(|rest| rest.split(' ').next());
        Ok(rows.and_then(|rows| rows.parse().ok()))
    }

    fn set(&mut self, name: &str, value: &str) -> Result<(), EngineError> {
        let value = format!("E'{}'", value.replace('\\', "\\\\").replace('\'', "''"));
        // For each transaction anew, so that nothing of it stays in the session.
        self.locals.push_str(&format!("; SET LOCAL {name} TO {value}"));
        self.own.push((name.to_owned(), value));
        self.within(READING, |pg| pg.settle())
    }

    fn type_values(&mut self, statement: &str) -> Result<(), EngineError> {
        self.type_params(statement)
    }

    fn described(&mut self, schema: &str, table: &str) -> Result<Table, EngineError> {
        describe(self, schema, table)
    }

    fn named(&mut self, schema: Option<&str>, table: &str) -> Result<Table, EngineError> {
        let found = find(self, schema, table)?;
        let found = found.ok_or_else(|| EngineError::missing(format!("there is no table {table}")))?;
        describe_found(self, &found)
    }

    fn foreign_keys(&mut self, _: &Table) -> Result<Vec<ForeignKey>, EngineError> {
        foreign_keys(self)
    }

    fn names(&mut self, parts: bool) -> Result<Vec<(String, String)>, EngineError> {
        let which =
            if parts { "c.relkind = 'r'" } else { "c.relkind IN ('r', 'p') AND NOT c.relispartition" };
        let rows = self.rows(&format!(
            "SELECT n.nspname, c.relname FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
             WHERE {which} AND n.nspname = ANY (pg_catalog.current_schemas(false)) ORDER BY 2, 1"
        ))?;
        let name = |row: &[Option<String>], at: usize| row.get(at).cloned().flatten().unwrap_or_default();
        Ok(rows.iter().map(|row| (name(row, 0), name(row, 1))).collect())
    }

    fn listed(&mut self) -> Result<Vec<Listed>, EngineError> {
        listed(self)
    }

    fn viewed(&mut self, schema: Option<&str>, name: &str) -> Result<Option<Viewed<Table>>, EngineError> {
        viewed(self, schema, name)
    }

    fn only_reads(&mut self, step: &Step) -> Result<(), EngineError> {
        let temp = self.temp;
        self.within(if temp { TEMPORARY } else { READING }, |pg| called_by(pg, step, &[], temp).map(|_| ()))
    }

    /// In a part of the transaction that may only read, and that is taken back.
    fn guarded<R>(&mut self, work: impl FnOnce(&mut Pg) -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.later("SAVEPOINT marktwice_check; SET TRANSACTION READ ONLY");
        let done = work(self);
        self.later("ROLLBACK TO SAVEPOINT marktwice_check; RELEASE SAVEPOINT marktwice_check");
        done
    }

    fn reads(&mut self, question: &Question) -> Result<Touches, EngineError> {
        let temp = self.temp;
        self.within(if temp { TEMPORARY } else { READING }, |pg| reads(pg, question, temp))
    }

    fn reads_as_resolved(&mut self, question: &Question) -> Result<Touches, EngineError> {
        let temp = self.temp;
        self.within(if temp { TEMPORARY } else { READING }, |pg| reads_as_resolved(pg, question, temp))
    }

    fn rules(&mut self, table: &Table) -> Result<Rules, EngineError> {
        self.canonical(|pg| rules(pg, table))
    }

    fn declared(&mut self, table: &Table) -> Result<Declared, EngineError> {
        let oid = quoted(&table.oid);
        let checks = format!(
            "SELECT pg_catalog.pg_get_constraintdef(oid) FROM pg_catalog.pg_constraint WHERE conrelid = {oid}::pg_catalog.oid \
             AND contype IN ('c', 'x') ORDER BY conname"
        );
        let triggers = format!(
            "SELECT tgname || ': ' || substring(pg_catalog.pg_get_triggerdef(oid) FROM ' ((BEFORE|AFTER|INSTEAD OF) .*) ON ') \
             FROM pg_catalog.pg_trigger WHERE tgrelid = {oid}::pg_catalog.oid AND NOT tgisinternal ORDER BY tgname"
        );
        let mut answers = self.several(&[&checks, &triggers])?.into_iter();
        let mut next = || first_of(answers.next().unwrap_or_default());
        Ok(Declared {
            defaults: table.types.iter().map(|t| t.default.clone()).collect(),
            checks: next(),
            triggers: next(),
            ..Declared::default()
        })
    }

    fn unfit_witness(&mut self, table: &Table) -> Result<Option<String>, EngineError> {
        let oid = quoted(&table.oid);
        let rules = format!(
            "SELECT 'a rule (' || rulename || ')' FROM pg_catalog.pg_rewrite WHERE ev_class = {oid}::pg_catalog.oid \
             UNION ALL SELECT 'a trigger (' || tgname || ')' FROM pg_catalog.pg_trigger WHERE tgrelid = {oid}::pg_catalog.oid \
             AND NOT tgisinternal UNION ALL SELECT 'row security' FROM pg_catalog.pg_class \
             WHERE oid = {oid}::pg_catalog.oid AND relrowsecurity AND pg_catalog.row_security_active(oid)"
        );
        Ok(self.one(&rules)?.map(|what| format!("it has {what}")))
    }

    fn still(&mut self, table: &Table) -> Result<(), EngineError> {
        elsewhere(table).map_or(Ok(()), |said| Err(EngineError::redefined(said)))
    }

    fn plan(&mut self, source: &str, allow: &[Code], earlier: &[Plan]) -> Result<Plan, EngineError> {
        let temp = self.temp;
        self.within(if temp { TEMPORARY } else { READING }, |pg| plan(pg, source, allow, earlier, temp))
    }

    fn origin(&mut self, head: &str, name: &str, tail: &str) -> Result<Option<Origin>, EngineError> {
        self.within(READING, |pg| origin(pg, &format!("{head}\nSELECT {name}\n{tail}")))
    }

    fn relatives(&mut self, table: &Table) -> Result<Vec<String>, EngineError> {
        relatives(self, &table.oid)
    }

    fn touches(&mut self, plan: &Plan) -> Result<Touches, EngineError> {
        touches(self, plan)
    }

    fn restore_reach(&mut self, batch: &Batch) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
        let mut table = describe(self, &batch.target.schema, &batch.target.table)?;
        table.tell_by(&batch.target.key);
        let mut first = by_definition(self, &table, batch.kind, &batch.columns)?;
        let refusal = published::refusal(self, &table, batch.kind, batch.columns.first().copied())?;
        first.1.obstacles.extend(refusal);
        let insert = batch.inserts.then(|| by_definition(self, &table, StepKind::Insert, &batch.columns));
        Ok(with_insert(first, insert.transpose()?))
    }

    fn rows_back(&mut self, plan: &Plan, detail: &Detail) -> Result<WayBack, EngineError> {
        by_rows(self, plan, detail)
    }

    fn further(&mut self, written: &Written) -> Result<Vec<SideWrite>, EngineError> {
        let start = vec![Start::Table(written.clone(), true)];
        Ok(walk(&mut Asking(self), start)?.side_writes())
    }

    fn may_hold(&self, detail: &Detail) -> Result<(), EngineError> {
        if detail.own.temp {
            return Ok(());
        }
        Err(EngineError::denied(
            "TEMP on the database is missing: the rows cannot be held, so nothing is applied; a preview works".to_owned(),
        ))
    }

    fn recipe(&self, plan: &Plan, detail: &Detail) -> Recipe {
        recipe(plan, detail)
    }

    fn define(&mut self, _: &Table, step: usize, columns: &[String]) -> Result<(), EngineError> {
        define(self, step, columns)
    }

    fn fill(&mut self, plan: &Plan, detail: &Detail, lock: bool) -> Result<Filled, EngineError> {
        fill(self, plan, detail, lock && detail.own.lock)
    }

    /// Nothing that a function in the statement did is left, and the temporary tables go with it.
    fn viewing(&mut self, plans: &[&Plan], work: &mut Working<'_, Pg>) -> Result<(), EngineError> {
        let temp = self.temp;
        self.within(if temp { TEMPORARY } else { READING }, |pg| {
            if temp {
                for plan in plans {
                    create(pg, plan, detail(plan)?)?;
                }
                // From here on no real table can be written; the temporary ones can.
                pg.later("SET TRANSACTION READ ONLY");
            }
            work(pg)
        })
    }

    fn room_to_find(&mut self, table: &Table) -> Result<(), EngineError> {
        finder::list(self, table)
    }

    fn find(&mut self, table: &Table, asked: &Asked<'_>) -> Result<Vec<Option<Found>>, EngineError> {
        finder::find(self, table, asked)
    }

    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        let temp = self.temp;
        self.within(if temp { TEMPORARY } else { READING }, |pg| {
            pg.canonical(|pg| {
                let mut table = describe(pg, &target.schema, &target.table)?;
                table.tell_by(&target.key);
                if temp {
                    pg.room_to_find(&table)?;
                    pg.later("SET TRANSACTION READ ONLY");
                }
                Finder::new(&table, Lock::None, temp).hand_over(pg, source, sink)
            })
        })
    }

    fn load(&mut self, held: &str, _: &[String], rows: Vec<Vec<Value>>) -> Result<(), EngineError> {
        let mut wire = Vec::new();
        for row in &rows {
            copy::write(&mut wire, row).map_err(|e| EngineError::Other(e.to_string()))?;
        }
        copy_in(self, held, &wire)
    }

    fn loaded(&mut self, held: &str, matters: bool) -> Result<(), EngineError> {
        let columns = if matters { String::new() } else { format!(" ({ORDINAL})") };
        self.run(&format!("ANALYZE {held}{columns}"))
    }

    /// Not under pinned settings: triggers see the user's own. Foreign keys that can wait do.
    fn putting<R>(&mut self, work: impl FnOnce(&mut Pg) -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.later("SET CONSTRAINTS ALL DEFERRED");
        work(self)
    }

    /// The places of rows without a key hold until they are written.
    fn attempt(&mut self, sql: &str) -> Result<Result<u64, EngineError>, EngineError> {
        self.later("SAVEPOINT marktwice_put");
        match self.execute_one(sql) {
            Err(error) if Self::waits(&error) => {
                self.later("ROLLBACK TO SAVEPOINT marktwice_put");
                Ok(Err(error))
            }
            Err(error) => Err(error),
            Ok(count) => {
                self.later("RELEASE SAVEPOINT marktwice_put");
                Ok(Ok(count))
            }
        }
    }

    /// REPEATABLE READ keeps rows that come in later out of sight, and lets the server refuse to overwrite what another
    /// transaction changed meanwhile.
    fn start(&mut self, stop: Stopper) -> Result<(), EngineError> {
        self.stop = Some(stop);
        // Counters of earlier transactions would leak in; older servers do not have the function.
        let _ = self.run("SELECT pg_catalog.pg_stat_force_next_flush()");
        self.begin("ISOLATION LEVEL REPEATABLE READ READ WRITE")
    }

    fn arrive(&mut self) -> Result<(String, Settings), EngineError> {
        let mut settings = Settings::default();
        let mut answers = self
            .several(&[
                "SELECT pg_catalog.current_setting('track_counts'), pg_catalog.current_setting('synchronous_commit'), pg_catalog.current_setting('fsync')",
                "SELECT pg_catalog.pg_current_xact_id()",
            ])?
            .into_iter();
        let now = answers.next().unwrap_or_default();
        let now = |at: usize| now.first().and_then(|r| r.get(at)?.as_deref()).unwrap_or_default();
        if now(1) == "off" {
            self.later("SET LOCAL synchronous_commit TO on");
            settings
                .said
                .push("synchronous_commit: on for this transaction (off by default here)".to_owned());
        } else {
            settings.said.push(format!("synchronous_commit: {}", now(1)));
        }
        if now(2) == "off" {
            settings.warnings.push(
                "fsync is off on this server, so nothing it commits is safe from a power cut".to_owned(),
            );
        }
        settings.said.push("isolation: repeatable read".to_owned());
        if now(0) != "on" {
            settings.said.push("rows written elsewhere were not counted: track_counts is off".to_owned());
        }
        let here = first_of(answers.next().unwrap_or_default()).into_iter().next();
        Ok((here.unwrap_or_default(), settings))
    }

    fn kept(
        &mut self,
        held: &Held,
        keys: &[ForeignKey],
        kind: StepKind,
        assigned: &[usize],
    ) -> Result<Baseline, EngineError> {
        let onto_itself = !onto_itself(keys, &held.table.target, kind, assigned).is_empty();
        let children = format!(
            "WITH RECURSIVE t(oid) AS (SELECT {}::pg_catalog.oid UNION SELECT k.conrelid FROM t JOIN pg_catalog.pg_constraint k \
             ON k.confrelid = t.oid AND k.contype = 'f' AND (k.confupdtype IN ('c', 'n', 'd') \
             OR k.confdeltype IN ('c', 'n', 'd'))) SELECT oid FROM t",
            held.table.oid
        );
        let (books, children) = books(self, &children)?;
        Ok(Baseline { books, children, onto_itself })
    }

    fn run(&mut self, plan: &Plan, _: &mut OfStep<Pg>) -> Result<u64, EngineError> {
        if let Some(giving) = giving::<Table>(plan)? {
            return giving.run(self, plan);
        }
        self.execute_one(&plan.statement)
    }

    fn effects(&mut self, of: &OfStep<Pg>) -> Result<Vec<SideWrite>, EngineError> {
        let OfStep { held, executed, books: before, .. } = of;
        let own = format!(
            "SELECT relid::pg_catalog.oid FROM pg_catalog.pg_partition_tree({0}) UNION SELECT {0}::pg_catalog.oid",
            held.table.oid
        );
        let (now, own) = books(self, &own)?;
        let Measured { elsewhere: mut all, own: target, counted } =
            between(&before.books, &now, &own, (&before.children, &of.fired));
        // A row that moves to another partition is deleted here and inserted there. Savepoints that were rolled back stay
        // counted, so what an undo did twice is no evidence; nor is what a key does that cascades onto its own table.
        let [inserted, updated, deleted] = target;
        let written = updated + inserted.max(deleted);
        let restoring = held.layout.flags && held.layout.kind != StepKind::Delete;
        if counted && written > *executed && !restoring && !before.onto_itself {
            let more = written - executed;
            let how = SideHow::Measured(format!("{more} more written than the statement matched"));
            all.push(SideWrite::new(held.table.shown.clone(), how, None));
        }
        Ok(all)
    }

    fn settle_constraints(&mut self) -> Result<(), EngineError> {
        self.watched(|pg| pg.run("SET CONSTRAINTS ALL IMMEDIATE"))
    }

    fn begin_trial(&mut self, _: &[Target]) -> Result<(), EngineError> {
        self.settle()?;
        self.run("SAVEPOINT marktwice_trial")
    }

    fn drop_held(&mut self, names: &[String]) -> Result<(), EngineError> {
        if !names.is_empty() {
            self.later(&format!("DROP TABLE IF EXISTS {}", names.join(", ")));
        }
        Ok(())
    }

    fn end_trial(&mut self) -> Result<(), EngineError> {
        // Whatever has not been sent belongs to the trial; settings go back with the savepoint.
        self.drop_ahead();
        self.pins = None;
        let ended = self.bounded(|pg| {
            pg.client
                .batch_execute("ROLLBACK TO SAVEPOINT marktwice_trial; RELEASE SAVEPOINT marktwice_trial")
                .map_err(engine)
        });
        self.pins = None;
        ended
    }

    fn intact(&mut self, here: &String) -> Result<(), EngineError> {
        if self.one("SELECT pg_catalog.pg_current_xact_id_if_assigned()")?.as_ref() == Some(here) {
            return Ok(());
        }
        Err(EngineError::transaction_gone(
            "the transaction on the server is not the one that was begun".to_owned(),
        ))
    }

    fn token(&mut self, here: &String) -> Option<String> {
        Some(here.clone())
    }

    fn commit(&mut self, here: &String) -> CommitOutcome {
        if let Err(error) = self.settle() {
            return CommitOutcome::RolledBack(error);
        }
        match self.commit_now() {
            Ok(()) => match self.one(&format!("SELECT pg_catalog.pg_xact_status('{here}'::pg_catalog.xid8)"))
            {
                // A transaction that failed answers COMMIT by rolling back, and calls that a success.
                Ok(Some(status)) if status == "aborted" => CommitOutcome::RolledBack(EngineError::Other(
                    "the server rolled the transaction back instead of committing it".to_owned(),
                )),
                _ => CommitOutcome::Committed,
            },
            Err(error) if is_lost(&error) => CommitOutcome::Unknown(engine(error)),
            Err(error) => CommitOutcome::RolledBack(engine(error)),
        }
    }

    fn roll_back(&mut self) -> Result<(), EngineError> {
        self.stop = None;
        self.end();
        self.settle()
    }

    fn outcome(&mut self, token: &str) -> Result<Option<bool>, EngineError> {
        let sql = format!("SELECT pg_catalog.pg_xact_status({}::pg_catalog.xid8)", quoted(token));
        let until = Instant::now() + NOTICED;
        loop {
            match self.looking(|pg| pg.one(&sql)) {
                Ok(Some(status)) if status == "committed" => return Ok(Some(true)),
                Ok(Some(status)) if status == "aborted" => return Ok(Some(false)),
                // The server has not noticed yet that its client is gone.
                Ok(Some(_)) if Instant::now() < until => std::thread::sleep(Duration::from_millis(200)),
                Ok(Some(_)) => {
                    return Err(EngineError::locked(format!(
                        "the transaction is still in progress on the server after {} s",
                        NOTICED.as_secs()
                    )));
                }
                // So long ago that the server has forgotten it, or a database that was put back from a backup.
                Ok(None) => return Ok(None),
                Err(error) => {
                    let broken = error.broken(Constraint::Type);
                    let future = broken.is_some_and(|b| b.message.contains("future"));
                    return if future { Ok(None) } else { Err(error) };
                }
            }
        }
    }
}

/// Sends rows in COPY's text format into a table, and looks that all of them arrived.
pub(crate) fn copy_in(pg: &mut Pg, into: &str, wire: &[u8]) -> Result<(), EngineError> {
    if wire.is_empty() {
        return Ok(());
    }
    pg.settle()?;
    let mut writer = pg.client.copy_in(&format!("COPY {into} FROM STDIN")).map_err(engine)?;
    writer.write_all(wire).map_err(|e| EngineError::Other(format!("rows could not be sent: {e}")))?;
    let arrived = writer.finish().map_err(engine)?;
    let sent = wire.iter().filter(|b| **b == b'\n').count() as u64;
    if arrived != sent {
        return Err(EngineError::Other(format!("{sent} rows were sent and {arrived} arrived")));
    }
    Ok(())
}
