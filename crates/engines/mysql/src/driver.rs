//! What this server gives to the sessions, transactions and held rows that are the same for every relational engine.

use std::time::{Duration, Instant};

use marktwice_core::Value;
use marktwice_core::finding::Code;
use marktwice_core::mark::StepKind;
use marktwice_core::param::Bound;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::side::ELSEWHERE;
use marktwice_core::steps::Touches;
use marktwice_core::survey::Declared;
use marktwice_core::table::{Column, KeyKind, Target};
use marktwice_core::way_back::WayBack;
use marktwice_port::{
    Batch, ChangeSource, CommitOutcome, Constraint, EngineError, FoundSink, Intent, PATIENCE, Plan, Settings,
    SideHow, SideWrite, Stopper, Watch,
};
use marktwice_relational::breaches::Rules;
use marktwice_relational::driver::{Driver, Listed, Origin, Viewed, Working};
use marktwice_relational::finder::{Asked, Finder, Found, Lock};
use marktwice_relational::held::{create, names as held_names};
use marktwice_relational::insert::giving;
use marktwice_relational::params::keep;
use marktwice_relational::put::{self, Together};
use marktwice_relational::reach::ForeignKey;
use marktwice_relational::recipe::Recipe;
use marktwice_relational::shell::Tabled;
use marktwice_relational::statement::detail;
use marktwice_relational::transaction::OfStep;
use marktwice_relational::way_back::with_insert;
use marktwice_sql::Step;
use marktwice_sql::query::ask::Texts;
use marktwice_sql::query::check::Question;
use mysql::prelude::Queryable;

use crate::catalog::{NoTemporary, Table, checks, describe, describe_found, find, foreign_keys};
use crate::client::{My, literal};
use crate::detail::Detail;
use crate::error::{code, engine, is_lost};
use crate::finder;
use crate::grants::grants;
use crate::held::{Filled, Held, content_columns, define, expect_contents, fill, recipe};
use crate::listing::{listed, rules, viewed};
use crate::nameless::{put_by_content, several_of_a_content, single_contents};
use crate::numbers::bring_in;
use crate::open::may_write;
use crate::plan::{called_by, plan};
use crate::touches::{origin, reads, reads_as_resolved, touches};
use crate::way_back::{by_definition, by_rows};

/// How long it is waited for the server to end the connection of a client that died.
const NOTICED: Duration = Duration::from_secs(30);

/// Rows written, updated and deleted, as the session counts them, rows of temporary tables included; and tables that the server
/// has made for itself, whose rows MySQL counts among the others.
type Counters = [u64; 4];

/// The first column of rows.
fn texts(my: &mut My, sql: &str) -> Result<Vec<String>, EngineError> {
    Ok(my.rows(sql)?.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect())
}

fn counters(my: &mut My) -> Result<Counters, EngineError> {
    let mut all = [0; 4];
    let rows = my.rows(
        "SHOW SESSION STATUS WHERE Variable_name IN ('Handler_write', 'Handler_update', 'Handler_delete', 'Created_tmp_tables')",
    )?;
    if rows.len() < 3 {
        return Err(EngineError::Other(format!(
            "{} does not count the rows that it writes: nothing is applied; a preview works",
            my.brand
        )));
    }
    for row in rows {
        let text = |at: usize| row.get(at).and_then(Option::as_deref).unwrap_or("");
        let at = match text(0) {
            "Handler_write" => 0,
            "Handler_update" => 1,
            "Handler_delete" => 2,
            _ => 3,
        };
        if let Some(slot) = all.get_mut(at) {
            *slot = text(1).parse().unwrap_or(0);
        }
    }
    Ok(all)
}

/// Whether rows are told by their contents alone when they are put back by a statement of this kind.
fn by_content(batch: &Batch, kind: StepKind) -> bool {
    batch.target.key.kind == KeyKind::WholeRow && kind != StepKind::Insert
}

/// Bytes of values from which on no more rows go into one statement.
const HEAVY: usize = 256 * 1024;

impl Driver for My {
    const MAKES_TABLES_INSIDE: bool = false;
    type Here = ();
    /// What was written while the statement was at work; `None` where that is not known.
    type Books = Option<Counters>;

    /// A silent server is noticed by the time-out of reading.
    fn obey(&mut self, watch: &Watch) {
        self.stop = Some(watch.stop.clone());
    }

    fn pinned<R>(&mut self, work: impl FnOnce(&mut My) -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.with_pins(work)
    }

    fn peeking<R>(&mut self, work: impl FnOnce(&mut My) -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.reading(work)
    }

    /// Under the user's settings. A session that reads is in no transaction here.
    fn ask_until(&mut self, sql: &str, until: Instant) -> Result<Texts, EngineError> {
        let left = until.saturating_duration_since(Instant::now()).min(PATIENCE);
        if left.is_zero() {
            return Err(EngineError::Interrupted);
        }
        if self.open {
            return self.within_limit(left, |my| my.ask(sql));
        }
        self.within_limit(left, |my| {
            my.later("START TRANSACTION READ ONLY")?;
            let answer = my.ask(sql);
            my.run("ROLLBACK")?;
            answer
        })
    }

    const AND_WAIT: &'static str = " LOCK IN SHARE MODE";

    fn may_write(&mut self, database: &DatabaseId) -> Result<bool, EngineError> {
        may_write(self, database)?;
        self.intent = Intent::Write;
        Ok(true)
    }

    fn bind(&mut self, value: Bound) -> Result<(), EngineError> {
        keep(&mut self.params, value);
        Ok(())
    }

    const SETTINGS: &'static [&'static str] = &["sql_mode", "time_zone"];

    const TABLES_ARE: &'static str = " ENGINE=InnoDB";

    const HOME: &'static str = "SELECT database()";

    fn reckoned(&mut self, table: &Table) -> Result<Option<u64>, EngineError> {
        let rows = self.one(&format!(
            "SELECT TABLE_ROWS FROM information_schema.TABLES WHERE TABLE_SCHEMA = {} AND TABLE_NAME = {}",
            literal(&table.target.schema),
            literal(&table.target.table)
        ))?;
        Ok(rows.and_then(|rows| rows.parse().ok()))
    }

    fn stored_types(&mut self, own: &Target) -> Result<Vec<String>, EngineError> {
        // A column that is not of the database's own character set could not take every text of its table.
        let sql = format!(
            "SELECT COLUMN_NAME, CHARACTER_SET_NAME, COLLATION_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = {} \
             AND TABLE_NAME = {} AND COLLATION_NAME <> @@collation_database",
            literal(&own.schema),
            literal(&own.table)
        );
        let other = self.rows(&sql)?;
        let of = |(at, column): (usize, &Column)| {
            if column.declared.starts_with("timestamp") && !own.key.columns.contains(&at) {
                // Without that word some servers take it for one that they set by themselves.
                return format!("{} NULL", column.declared);
            }
            let told = other.iter().find(|row| row.first().and_then(Option::as_deref) == Some(&*column.name));
            match told.map(Vec::as_slice) {
                Some([_, Some(set), Some(collation)]) => {
                    format!("{} CHARACTER SET {set} COLLATE {collation}", column.declared)
                }
                _ => column.declared.clone(),
            }
        };
        Ok(own.columns.iter().enumerate().map(of).collect())
    }

    fn set(&mut self, name: &str, value: &str) -> Result<(), EngineError> {
        self.run(&format!("SET SESSION {name} = {}", literal(value)))?;
        self.learn_own()
    }

    fn described(&mut self, schema: &str, table: &str) -> Result<Table, EngineError> {
        describe(self, schema, table)
    }

    fn named(&mut self, schema: Option<&str>, table: &str) -> Result<Table, EngineError> {
        let found = find(self, schema, table)?;
        let found = found.ok_or_else(|| EngineError::missing(format!("there is no table {table}")))?;
        describe_found(self, &found)
    }

    fn foreign_keys(&mut self, table: &Table) -> Result<Vec<ForeignKey>, EngineError> {
        foreign_keys(self, table)
    }

    fn names(&mut self, _: bool) -> Result<Vec<(String, String)>, EngineError> {
        let names = texts(
            self,
            "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = database() \
             AND TABLE_TYPE = 'BASE TABLE' ORDER BY TABLE_NAME",
        )?;
        Ok(names.into_iter().map(|name| (String::new(), name)).collect())
    }

    fn listed(&mut self) -> Result<Vec<Listed>, EngineError> {
        listed(self)
    }

    fn viewed(&mut self, schema: Option<&str>, name: &str) -> Result<Option<Viewed<Table>>, EngineError> {
        viewed(self, schema, name)
    }

    fn only_reads(&mut self, step: &Step) -> Result<(), EngineError> {
        let grants = grants(self)?;
        let own = self.schema.clone();
        called_by(self, step, &[], (&grants, &own)).map(|_| ())
    }

    fn reads(&mut self, question: &Question) -> Result<Touches, EngineError> {
        reads(self, question)
    }

    fn reads_as_resolved(&mut self, question: &Question) -> Result<Touches, EngineError> {
        reads_as_resolved(self, question)
    }

    fn ask_here(&mut self, sql: &str, until: Instant) -> Result<Texts, EngineError> {
        let left = until.saturating_duration_since(Instant::now()).min(PATIENCE);
        if left.is_zero() {
            return Err(EngineError::Interrupted);
        }
        self.within_limit(left, |my| my.ask(sql))
    }

    fn rules(&mut self, table: &Table) -> Result<Rules, EngineError> {
        rules(self, table)
    }

    fn declared(&mut self, table: &Table) -> Result<Declared, EngineError> {
        let (schema, name) = (literal(&table.target.schema), literal(&table.target.table));
        Ok(Declared {
            defaults: table.types.iter().map(|t| t.default.clone()).collect(),
            // Older servers of the family have no such view.
            checks: checks(self, &table.target)
                .into_iter()
                .map(|(_, clause)| format!("CHECK ({clause})"))
                .collect(),
            triggers: texts(
                self,
                &format!(
                    "SELECT concat(TRIGGER_NAME, ': ', ACTION_TIMING, ' ', EVENT_MANIPULATION) \
                     FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = {schema} \
                     AND EVENT_OBJECT_TABLE = {name} ORDER BY TRIGGER_NAME"
                ),
            )?,
            ..Declared::default()
        })
    }

    fn unfit_witness(&mut self, table: &Table) -> Result<Option<String>, EngineError> {
        let (schema, name) = (&table.target.schema, &table.target.table);
        let found = find(self, Some(schema), name)?.map(|found| found.engine).unwrap_or_default();
        if !found.eq_ignore_ascii_case("InnoDB") {
            return Ok(Some(format!("its rows are kept by {found}, which does not roll them back")));
        }
        Ok(self.declared(table)?.triggers.first().map(|trigger| format!("it has a trigger ({trigger})")))
    }

    fn plan(&mut self, source: &str, allow: &[Code], earlier: &[Plan]) -> Result<Plan, EngineError> {
        plan(self, source, allow, earlier)
    }

    fn origin(&mut self, head: &str, name: &str, tail: &str) -> Result<Option<Origin>, EngineError> {
        origin(self, head, name, tail)
    }

    fn touches(&mut self, plan: &Plan) -> Result<Touches, EngineError> {
        touches(self, plan)
    }

    fn restore_reach(&mut self, batch: &Batch) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
        let mut table = describe(self, &batch.target.schema, &batch.target.table)?;
        table.tell_by(&batch.target.key);
        let grants = grants(self)?;
        let own = self.schema.clone();
        let mut said = |kind| by_definition(self, &grants, &own, &table, kind);
        let first = said(batch.kind)?;
        let insert = batch.inserts.then(|| said(StepKind::Insert)).transpose()?;
        Ok(with_insert(first, insert))
    }

    fn rows_back(&mut self, plan: &Plan, detail: &Detail) -> Result<WayBack, EngineError> {
        by_rows(self, plan, detail)
    }

    fn may_hold(&self, detail: &Detail) -> Result<(), EngineError> {
        let Some(NoTemporary { why, right }) = &detail.own.no_temporary else { return Ok(()) };
        let said = format!("{why}: the rows cannot be held, so nothing is applied; a preview works");
        Err(if *right { EngineError::denied(said) } else { EngineError::Other(said) })
    }

    fn recipe(&self, plan: &Plan, detail: &Detail) -> Recipe {
        recipe(plan, detail)
    }

    fn define(&mut self, table: &Table, step: usize, columns: &[String]) -> Result<(), EngineError> {
        define(self, step, table, columns)
    }

    fn fill(&mut self, plan: &Plan, detail: &Detail, lock: bool) -> Result<Filled, EngineError> {
        fill(self, plan, detail, lock)
    }

    fn viewing(&mut self, plans: &[&Plan], work: &mut Working<'_, My>) -> Result<(), EngineError> {
        self.not_inside()?;
        // Inside a transaction that only reads no table can be made; writing into a temporary one is allowed there.
        let mut made = Vec::new();
        for plan in plans {
            let detail = detail::<Table>(plan)?;
            if detail.own.no_temporary.is_none() {
                create(self, plan, detail)?;
                made.extend(held_names::<Table>(plan)?);
            }
        }
        if made.is_empty() {
            return self.reading(|my| work(my));
        }
        // READ COMMITTED keeps the reading of INSERT … SELECT from locking the rows it reads. Each step is then read as of
        // one moment, and several steps one after the other: a snapshot for all of them would lock.
        self.later("SET TRANSACTION ISOLATION LEVEL READ COMMITTED")?;
        self.later("START TRANSACTION READ ONLY")?;
        // What is held is handed over inside the transaction. Nothing but temporary tables can be written in it; they are dropped
        // behind it, and taking their rows back before that, one by one, would take as long as writing them.
        let done = work(self);
        let mut ended = self.later(if done.is_ok() { "COMMIT" } else { "ROLLBACK" });
        for name in made {
            ended = ended.and(self.later(&format!("DROP TEMPORARY TABLE IF EXISTS {name}")));
        }
        let sent = self.settle();
        done.and(ended).and(sent)
    }

    fn room_to_find(&mut self, table: &Table) -> Result<(), EngineError> {
        finder::make_room(self, table)
    }

    fn find(&mut self, table: &Table, asked: &Asked<'_>) -> Result<Vec<Option<Found>>, EngineError> {
        let found = if table.target.key.kind == KeyKind::WholeRow {
            finder::by_content(self, table, asked)
        } else {
            finder::by_key(self, table, asked)
        };
        Ok(found?.into_iter().map(|row| row.map(Found::of)).collect())
    }

    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        self.not_inside()?;
        let mut table = describe(self, &target.schema, &target.table)?;
        table.tell_by(&target.key);
        self.room_to_find(&table)?;
        if self.intent == Intent::Settle {
            // Read with locks: whoever has written a row and not committed yet is waited for.
            self.later("START TRANSACTION")?;
            let mut finder = Finder::new(&table, Lock::Shared, true);
            let done = self.with_pins(|my| finder.hand_over(my, source, sink));
            let ended = self.run("ROLLBACK");
            return done.and(ended);
        }
        // What is copied into a temporary table is not locked so.
        if table.target.key.kind == KeyKind::WholeRow {
            self.later("SET TRANSACTION ISOLATION LEVEL READ COMMITTED")?;
        }
        let mut finder = Finder::new(&table, Lock::None, true);
        self.reading(|my| finder.hand_over(my, source, sink))
    }

    fn behind(&self) -> Vec<String> {
        content_columns()
    }

    fn load(&mut self, held: &str, names: &[String], rows: Vec<Vec<Value>>) -> Result<(), EngineError> {
        // Many rows in one statement, as far as the protocol carries them.
        let width = names.len().max(1);
        let (names, most) = (names.join(", "), (60_000 / width).clamp(1, 250));
        let marks = format!("({})", vec!["?"; width].join(", "));
        let mut rows = rows.into_iter().peekable();
        while rows.peek().is_some() {
            let (mut values, mut some, mut weight) = (Vec::new(), 0, 0);
            while some < most && weight < HEAVY {
                let Some(row) = rows.next() else { break };
                weight += row.iter().map(Value::weight).sum::<usize>();
                values.extend(row);
                some += 1;
            }
            let sql =
                format!("INSERT INTO {held} ({names}) VALUES {}", vec![marks.as_str(); some].join(", "));
            self.execute_many(&sql, &[values])?;
        }
        Ok(())
    }

    fn putting<R>(&mut self, work: impl FnOnce(&mut My) -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.with_pins(work)
    }

    /// The server takes a statement that failed so back by itself.
    fn waits(error: &EngineError) -> bool {
        error.broken(Constraint::Unique).or_else(|| error.broken(Constraint::ForeignKey)).is_some()
    }

    fn put_unchecked(&mut self, held: &Held, batch: &Batch, ordinals: &[String]) -> Result<u64, EngineError> {
        self.run("SET SESSION foreign_key_checks = 0")?;
        let mut put = || -> Result<u64, EngineError> {
            let mut done = 0;
            for ordinal in ordinals {
                done += self.put_one(held, batch, StepKind::Insert, ordinal)??;
            }
            Ok(done)
        };
        let done = put();
        let ended = self.checking_keys();
        ended.and(done)
    }

    fn put_all(&mut self, held: &Held, batch: &Batch, kind: StepKind) -> Result<Together, EngineError> {
        if !by_content(batch, kind) {
            let sql = put::statement(held, batch, kind, None);
            return Ok(self.attempt(&sql)?.map_or(Together::None, Together::All));
        }
        let sql = single_contents(held, batch, kind);
        let rest = several_of_a_content(held);
        Ok(self.attempt(&sql)?.map_or(Together::None, |count| Together::Some(count, rest)))
    }

    fn put_one(
        &mut self,
        held: &Held,
        batch: &Batch,
        kind: StepKind,
        ordinal: &str,
    ) -> Result<Result<u64, EngineError>, EngineError> {
        if !by_content(batch, kind) {
            let sql = put::statement(held, batch, kind, Some(ordinal));
            return self.attempt(&sql);
        }
        match put_by_content(self, held, batch, kind, ordinal) {
            Err(error) if Self::waits(&error) => Ok(Err(error)),
            other => other.map(Ok),
        }
    }

    /// SERIALIZABLE makes every plain SELECT see and lock the newest rows, as the statement itself does.
    fn start(&mut self, stop: Stopper) -> Result<(), EngineError> {
        self.stop = Some(stop);
        self.later("SET TRANSACTION ISOLATION LEVEL SERIALIZABLE")?;
        self.later("START TRANSACTION READ WRITE")?;
        self.open = true;
        Ok(())
    }

    fn arrive(&mut self) -> Result<((), Settings), EngineError> {
        let mut settings =
            Settings { said: vec!["isolation: serializable".to_owned()], warnings: Vec::new() };
        let flush = self.one("SELECT @@global.innodb_flush_log_at_trx_commit")?.unwrap_or_default();
        if flush == "1" {
            settings.said.push("innodb_flush_log_at_trx_commit: 1".to_owned());
        } else {
            settings.warnings.push(format!(
                "innodb_flush_log_at_trx_commit is {flush} on this server, so the last commits are not safe from a crash"
            ));
        }
        self.later("SAVEPOINT marktwice_here")?;
        Ok(((), settings))
    }

    fn expect(&mut self, held: &Held) -> Result<(), EngineError> {
        self.with_pins(|my| expect_contents(held, my))
    }

    fn kept(
        &mut self,
        held: &Held,
        _: &[ForeignKey],
        _: StepKind,
        _: &[usize],
    ) -> Result<Option<Counters>, EngineError> {
        self.with_pins(|my| expect_contents(held, my))?;
        Ok(None)
    }

    fn run(&mut self, plan: &Plan, of: &mut OfStep<My>) -> Result<u64, EngineError> {
        if self.own_guard {
            self.run("SET SESSION sql_safe_updates = 1")?;
        }
        let before = counters(self)?;
        let gives = detail::<Table>(plan)?.step.returning.is_some();
        let giving = giving::<Table>(plan)?;
        let mut came = None;
        let executed = if giving.is_some() && !self.traits.returning {
            bring_in(self, plan).map(|values| {
                came = Some(values);
                0
            })
        } else if let Some(giving) = &giving {
            giving.call(self).map(|values| {
                came = Some(values);
                0
            })
        } else if gives && !self.sent(&plan.statement, &[]).1.is_empty() {
            // With parameters what it gives back cannot be read; nobody does.
            let step = &detail::<Table>(plan)?.step;
            self.execute_one(step.text(step.without_returning()), &[])
        } else if gives {
            self.execute_giving(&plan.statement)
        } else {
            self.execute_one(&plan.statement, &[])
        };
        let count = executed.map_err(|e| self.cluster_words(e))?;
        if self.own_guard {
            self.run("SET SESSION sql_safe_updates = 0")?;
        }
        let mut written = counters(self)?;
        written.iter_mut().zip(before).for_each(|(now, before)| *now = now.saturating_sub(before));
        // What MySQL counts besides can be told from what triggers write only where there is none of it: rows of tables that it makes
        // for itself, and those that foreign keys' actions write.
        let takes_along = detail::<Table>(plan)?.along.as_ref().is_some_and(|graph| !graph.nodes.is_empty());
        let exact = !self.traits.mysql || (written[3] == 0 && !takes_along);
        of.books = exact.then_some(written);
        // What is noted of them is written to our own tables, which nobody counts.
        if let (Some(giving), Some(came)) = (giving, came) {
            return giving.note(self, plan, came);
        }
        Ok(count)
    }

    fn effects(&mut self, of: &OfStep<My>) -> Result<Vec<SideWrite>, EngineError> {
        // The session counts what triggers and functions write, without saying where; not what foreign keys' actions do.
        // A partitioned table counts its own rows more than once.
        let OfStep { held, kind, executed, books, .. } = of;
        let Some(written) = books.filter(|_| !held.table.partitioned) else { return Ok(Vec::new()) };
        let own = match kind {
            StepKind::Insert => [*executed, 0, 0],
            StepKind::Update => [0, *executed, 0],
            StepKind::Delete => [0, 0, *executed],
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
        Ok(vec![SideWrite::new(ELSEWHERE.to_owned(), how, None)])
    }

    /// The savepoint that tells the transaction is made anew behind the trial's own: releasing one releases those behind it too.
    fn begin_trial(&mut self, _: &[Target]) -> Result<(), EngineError> {
        self.settle()?;
        self.run("SAVEPOINT marktwice_trial")?;
        self.run("SAVEPOINT marktwice_here")
    }

    /// Without that word the server would commit.
    fn drop_held(&mut self, names: &[String]) -> Result<(), EngineError> {
        if names.is_empty() {
            return Ok(());
        }
        self.run(&format!("DROP TEMPORARY TABLE IF EXISTS {}", names.join(", ")))
    }

    fn end_trial(&mut self) -> Result<(), EngineError> {
        self.settle()?;
        self.run("ROLLBACK TO SAVEPOINT marktwice_trial")?;
        self.checking_keys()?;
        self.run("SAVEPOINT marktwice_here")
    }

    /// A savepoint goes with the transaction it was made in.
    fn intact(&mut self, (): &()) -> Result<(), EngineError> {
        match self.run_as_told("RELEASE SAVEPOINT marktwice_here") {
            Ok(()) => self.later("SAVEPOINT marktwice_here"),
            // There is no such savepoint.
            Err(error) if code(&error) == Some(1305) => Err(EngineError::transaction_gone(
                "the transaction on the server is not the one that was begun".to_owned(),
            )),
            Err(error) => Err(engine(error)),
        }
    }

    fn token(&mut self, (): &()) -> Option<String> {
        Some(format!("connection {}", self.conn.connection_id()))
    }

    fn commit(&mut self, (): &()) -> CommitOutcome {
        self.stop = None;
        self.open = false;
        // A savepoint that waits to be made is of no use any more.
        self.ahead.clear();
        match self.conn.query_drop("COMMIT") {
            Ok(()) => CommitOutcome::Committed,
            Err(error) if is_lost(&error) => CommitOutcome::Unknown(engine(error)),
            Err(error) => CommitOutcome::RolledBack(self.cluster_words(engine(error))),
        }
    }

    fn roll_back(&mut self) -> Result<(), EngineError> {
        self.stop = None;
        self.open = false;
        self.run("ROLLBACK")
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
        while self.one(&sql)?.is_some() {
            if Instant::now() >= until {
                return Err(EngineError::locked(format!(
                    "the connection {id} of that run is still at work on the server after {} s",
                    NOTICED.as_secs()
                )));
            }
            std::thread::sleep(Duration::from_millis(200));
        }
        Ok(None)
    }
}
