//! What this engine gives to the sessions, transactions and held rows that are the same for every relational engine.

use std::time::{Duration, Instant};

use marktwice_core::Value;
use marktwice_core::finding::Code;
use marktwice_core::mark::StepKind;
use marktwice_core::param::Bound;
use marktwice_core::steps::Touches;
use marktwice_core::survey::Declared;
use marktwice_core::table::{COUNTED, Target};
use marktwice_core::way_back::WayBack;
use marktwice_port::{
    Batch, Broken, ChangeSource, CommitOutcome, Constraint, EngineError, FoundSink, Intent, PATIENCE, Plan,
    Settings, SideWrite, Stopper, Told, Unusable, Watch,
};
use marktwice_relational::breaches::Rules;
use marktwice_relational::driver::{Driver, Listed, Origin, Viewed, Working};
use marktwice_relational::finder::{Asked, Finder, Found, Lock};
use marktwice_relational::held::{create, names as held_names};
use marktwice_relational::insert::giving;
use marktwice_relational::params::keep;
use marktwice_relational::reach::ForeignKey;
use marktwice_relational::recipe::Recipe;
use marktwice_relational::shell::Tabled;
use marktwice_relational::statement::detail;
use marktwice_relational::transaction::OfStep;
use marktwice_sql::query::ask::Texts;
use marktwice_sql::query::check::Question;
use rusqlite::{ErrorCode, params_from_iter};

use crate::ask::ask;
use crate::backup::copy_database;
use crate::catalog::{
    Orphans, Sort, Table, defers, describe, foreign_keys, listed, names, orphans, orphans_of, viewed,
};
use crate::detail::Detail;
use crate::error::{engine, locked};
use crate::held::{Filled, Held, fill, recipe};
use crate::look::{checks, defaults, triggers};
use crate::names::quoted;
use crate::params::prepared;
use crate::plan::schema_version;
use crate::plan::{plan, sent};
use crate::rules::rules;
use crate::session::{Lite, STEPS};
use crate::touches::{of_text, origin, touches};
use crate::values::{self, Bind};
use crate::way_back::{by_definition, by_rows};

/// Places at which the rows of a table are looked at to reckon how many they are, and how many numbers of rows at each.
const SAMPLES: i128 = 8;
const SAMPLED: i128 = 32;
/// Places that are looked at first, and numbers there: a page each.
const GLANCE: (i128, i128) = (3, 8);

impl Driver for Lite {
    type Here = ();
    /// The compile step has named all writes elsewhere beforehand; the library has no counters by table.
    type Books = ();

    const HOME: &'static str = "SELECT 'main'";

    /// From the first and the last row's number, and how close they stand here and there between.
    fn reckoned(&mut self, table: &Table) -> Result<Option<u64>, EngineError> {
        let Some(row) = table.row_identity().map(quoted) else { return Ok(None) };
        let (connection, from) = (self.connection()?, table.from());
        let one =
            |sql: &str| connection.query_row(sql, [], |row| row.get::<_, Option<i64>>(0)).map_err(engine);
        let first = one(&format!("SELECT min({row}) FROM {from}"))?;
        let last = one(&format!("SELECT max({row}) FROM {from}"))?;
        let (Some(first), Some(last)) = (first, last) else { return Ok(Some(0)) };
        let width = i128::from(last) - i128::from(first) + 1;
        if width <= i128::from(COUNTED) {
            return Ok(None);
        }
        let standing = |samples: i128, each: i128| -> Result<i128, EngineError> {
            let mut found = 0i128;
            for part in 1..=samples {
                let at = i128::from(first) + width * part / (samples + 1);
                let sql =
                    format!("SELECT count(*) FROM {from} WHERE {row} >= {at} AND {row} < {}", at + each);
                found += one(&sql)?.map_or(0, i128::from);
            }
            Ok(found)
        };
        // Where no number is left out in a few places, none is counted as left out; else it is looked at more closely.
        let (few, each) = GLANCE;
        if standing(few, each)? == few * each {
            return Ok(u64::try_from(width).ok());
        }
        let found = standing(SAMPLES, SAMPLED)?;
        // Where they stand far apart nothing is known of them.
        Ok((found > 0).then(|| u64::try_from(width * found / (SAMPLES * SAMPLED)).unwrap_or(u64::MAX)))
    }

    fn make_table(&mut self, definition: &str) -> Result<(), EngineError> {
        let version = schema_version(self.connection()?)?;
        self.batch(definition)?;
        self.own_definitions += schema_version(self.connection()?)? - version;
        Ok(())
    }

    fn obey(&mut self, watch: &Watch) {
        self.stop = Some(watch.stop.clone());
    }

    /// Each action has the whole limit for itself.
    fn acting<R>(
        &mut self,
        work: impl FnOnce(&mut Lite) -> Result<R, EngineError>,
    ) -> Result<R, EngineError> {
        self.limit_from_now()?;
        let done = work(self).map_err(|error| self.too_long(error));
        self.unless_written(done)
    }

    fn peeking<R>(
        &mut self,
        work: impl FnOnce(&mut Lite) -> Result<R, EngineError>,
    ) -> Result<R, EngineError> {
        self.acting(work)
    }

    fn looking<R>(
        &mut self,
        work: impl FnOnce(&mut Lite) -> Result<R, EngineError>,
    ) -> Result<R, EngineError> {
        let done = work(self);
        self.unless_written(done)
    }

    fn ask_until(&mut self, sql: &str, until: Instant) -> Result<Texts, EngineError> {
        let until = until.min(Instant::now() + PATIENCE);
        self.connection_mut()?
            .progress_handler(STEPS, Some(move || Instant::now() >= until))
            .map_err(engine)?;
        let answer = ask(self.connection()?, sql, &self.params);
        self.unlimited()?;
        answer
    }

    fn bind(&mut self, value: Bound) -> Result<(), EngineError> {
        keep(&mut self.params, value);
        Ok(())
    }

    fn described(&mut self, _: &str, table: &str) -> Result<Table, EngineError> {
        describe(self.connection()?, table)
    }

    fn named(&mut self, _: Option<&str>, table: &str) -> Result<Table, EngineError> {
        describe(self.connection()?, table)
    }

    fn foreign_keys(&mut self, _: &Table) -> Result<Vec<ForeignKey>, EngineError> {
        foreign_keys(self.connection()?)
    }

    fn names(&mut self, _: bool) -> Result<Vec<(String, String)>, EngineError> {
        let names = names(self.connection()?, &[Sort::Table])?;
        Ok(names.into_iter().map(|name| ("main".to_owned(), name)).collect())
    }

    fn listed(&mut self) -> Result<Vec<Listed>, EngineError> {
        listed(self.connection()?)
    }

    fn viewed(&mut self, _: Option<&str>, name: &str) -> Result<Option<Viewed<Table>>, EngineError> {
        viewed(self.connection_mut()?, name)
    }

    fn rules(&mut self, table: &Table) -> Result<Rules, EngineError> {
        rules(self.connection()?, table)
    }

    fn declared(&mut self, table: &Table) -> Result<Declared, EngineError> {
        let (connection, name) = (self.connection()?, &table.target.table);
        Ok(Declared {
            defaults: defaults(connection, name)?,
            checks: checks(connection, name)?,
            triggers: triggers(connection, name)?,
            ..Declared::default()
        })
    }

    /// Whether anything is defined otherwise is looked at by the engine's own count, as rows are held.
    fn unchanged(&mut self, _: &Detail) -> Result<(), EngineError> {
        Ok(())
    }

    fn plan(&mut self, source: &str, _: &[Code], earlier: &[Plan]) -> Result<Plan, EngineError> {
        plan(self.connection_mut()?, source, earlier)
    }

    fn writes_views(&self) -> bool {
        false
    }

    /// While nothing may be written through the connection.
    fn guarded<R>(
        &mut self,
        work: impl FnOnce(&mut Lite) -> Result<R, EngineError>,
    ) -> Result<R, EngineError> {
        let before: bool =
            self.connection()?.pragma_query_value(None, "query_only", |row| row.get(0)).map_err(engine)?;
        self.connection()?.pragma_update(None, "query_only", true).map_err(engine)?;
        let done = work(self);
        self.connection()?.pragma_update(None, "query_only", before).map_err(engine)?;
        done
    }

    fn copy_database(&mut self, file: &str, told: &mut Told<'_>) -> Result<u64, EngineError> {
        copy_database(self.connection()?, file, told)
    }

    fn reads(&mut self, question: &Question) -> Result<Touches, EngineError> {
        of_text(self.connection_mut()?, &question.text)
    }

    fn origin(&mut self, head: &str, name: &str, tail: &str) -> Result<Option<Origin>, EngineError> {
        origin(self.connection_mut()?, head, name, tail)
    }

    fn touches(&mut self, plan: &Plan) -> Result<Touches, EngineError> {
        touches(self.connection_mut()?, plan)
    }

    fn restore_reach(&mut self, batch: &Batch) -> Result<(Vec<SideWrite>, WayBack), EngineError> {
        let connection = self.connection_mut()?;
        let table = describe(connection, &batch.target.table)?;
        by_definition(connection, &table, batch)
    }

    fn rows_back(&mut self, plan: &Plan, detail: &Detail) -> Result<WayBack, EngineError> {
        by_rows(self, plan, detail)
    }

    fn recipe(&self, plan: &Plan, detail: &Detail) -> Recipe {
        recipe(plan, detail)
    }

    fn define(&mut self, table: &Table, step: usize, columns: &[String]) -> Result<(), EngineError> {
        let (kept, strict) = (table.held_name(step), if table.strict { " STRICT" } else { "" });
        let columns = columns.join(", ");
        self.batch(&format!("DROP TABLE IF EXISTS {kept}; CREATE TABLE {kept} ({columns}){strict}"))
    }

    fn fill(&mut self, plan: &Plan, detail: &Detail, _: bool) -> Result<Filled, EngineError> {
        fill(self, plan, detail)
    }

    /// Reading ends when the first row is handed over: what is held stays in the temporary tables, and writers go on.
    fn viewing(&mut self, plans: &[&Plan], work: &mut Working<'_, Lite>) -> Result<(), EngineError> {
        for plan in plans {
            create(self, plan, detail(plan)?)?;
        }
        self.batch("BEGIN")?;
        self.reading = true;
        let done = work(self);
        let mut ended = self.handing_over();
        for plan in plans {
            for kept in held_names::<Table>(plan)? {
                ended = ended.and(self.batch(&format!("DROP TABLE IF EXISTS {kept}")));
            }
        }
        let done = done.and(ended);
        self.unless_written(done)
    }

    fn handing_over(&mut self) -> Result<(), EngineError> {
        if std::mem::take(&mut self.reading) { self.batch("COMMIT") } else { Ok(()) }
    }

    fn find(&mut self, table: &Table, asked: &Asked<'_>) -> Result<Vec<Option<Found>>, EngineError> {
        let columns: Vec<String> = table.target.columns.iter().map(|c| quoted(&c.name)).collect();
        let terms: Vec<String> =
            table.target.key.names.iter().map(|k| format!("{} = ?", quoted(k))).collect();
        let (from, filter) = (table.from(), terms.join(" AND "));
        let sql = format!("SELECT {} FROM {from} WHERE {filter}", columns.join(", "));
        let mut statement = self.connection()?.prepare(&sql).map_err(engine)?;
        let mut found = Vec::with_capacity(asked.changes.len());
        for change in asked.changes {
            let mut rows = statement.query(params_from_iter(change.key.iter().map(Bind))).map_err(engine)?;
            let Some(row) = rows.next().map_err(engine)? else {
                found.push(None);
                continue;
            };
            let mut read = Vec::with_capacity(columns.len());
            values::read(row, 0, columns.len(), &mut read).map_err(engine)?;
            found.push(Some(Found::of(read)));
        }
        Ok(found)
    }

    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        let mut table = describe(self.connection()?, &target.table)?;
        table.tell_by(&target.key);
        self.batch("BEGIN")?;
        let done = Finder::new(&table, Lock::None, false).hand_over(self, source, sink);
        let ended = self.batch("COMMIT");
        done.and(ended)
    }

    fn load(&mut self, held: &str, names: &[String], rows: Vec<Vec<Value>>) -> Result<(), EngineError> {
        let marks = vec!["?"; names.len()].join(", ");
        let sql = format!("INSERT INTO {held} ({}) VALUES ({marks})", names.join(", "));
        let mut insert = self.connection()?.prepare(&sql).map_err(engine)?;
        for row in &rows {
            insert.execute(params_from_iter(row.iter().map(Bind))).map_err(engine)?;
        }
        Ok(())
    }

    fn putting<R>(
        &mut self,
        work: impl FnOnce(&mut Lite) -> Result<R, EngineError>,
    ) -> Result<R, EngineError> {
        self.connection()?.pragma_update(None, "defer_foreign_keys", true).map_err(engine)?;
        work(self)
    }

    /// BEGIN IMMEDIATE takes the writer's place at once: from here on nobody else can change a row.
    fn start(&mut self, stop: Stopper) -> Result<(), EngineError> {
        if self.intent != Intent::Write {
            return Err(EngineError::read_only("this session was opened for reading".to_owned()));
        }
        self.stop = Some(stop);
        self.connection()?
            .execute_batch("BEGIN IMMEDIATE")
            .map_err(|e| locked(e, &self.name, self.waits.lock))?;
        self.orphans = match defers(self.connection()?)? {
            true => Some(orphans(self.connection()?)?),
            false => None,
        };
        Ok(())
    }

    fn arrive(&mut self) -> Result<((), Settings), EngineError> {
        let journal = self.connection()?.query_row("PRAGMA journal_mode", [], |row| row.get::<_, String>(0));
        let said = vec![
            format!("journal: {}", journal.map_err(engine)?),
            "synchronous: extra".to_owned(),
            "foreign keys: enforced".to_owned(),
        ];
        Ok(((), Settings { said, warnings: Vec::new() }))
    }

    fn kept(&mut self, _: &Held, _: &[ForeignKey], _: StepKind, _: &[usize]) -> Result<(), EngineError> {
        Ok(())
    }

    fn run(&mut self, plan: &Plan, _: &mut OfStep<Lite>) -> Result<u64, EngineError> {
        if let Some(giving) = giving::<Table>(plan)? {
            return giving.run(self, plan);
        }
        let connection = self.connection()?;
        // `prepare` refuses a second statement behind the first.
        let mut statement = prepared(connection, sent(plan), &self.params)?;
        // All rows are written before the first one that RETURNING gives back.
        let mut execute = || -> rusqlite::Result<()> {
            let mut rows = statement.raw_query();
            while rows.next()?.is_some() {}
            Ok(())
        };
        execute().map(|()| connection.changes()).map_err(engine)
    }

    // The engine's only constraints that wait are deferred foreign keys, and only COMMIT makes them speak; it refuses
    // definitely, and the transaction is then rolled back.

    fn intact(&mut self, (): &()) -> Result<(), EngineError> {
        if self.connection()?.is_autocommit() {
            return Err(EngineError::transaction_gone(
                "the transaction was ended from inside (a trigger's RAISE(ROLLBACK), or ON CONFLICT ROLLBACK)".to_owned(),
            ));
        }
        Ok(())
    }

    /// Rows that deferred foreign keys left without a parent, beside those that had none when the transaction began.
    fn would_commit(&mut self) -> Result<(), EngineError> {
        let Some(before) = self.orphans.clone() else { return Ok(()) };
        more_orphans(&before, &orphans(self.connection()?)?)
    }

    fn begin_trial(&mut self, tables: &[Target]) -> Result<(), EngineError> {
        let names = tables.iter().map(|target| target.table.as_str()).collect::<Vec<_>>();
        let connection = self.connection()?;
        let mut children: Vec<String> = Vec::new();
        for key in foreign_keys(connection)? {
            let reached = |name: &str| names.iter().any(|known| known.eq_ignore_ascii_case(name));
            if (reached(&key.child) || reached(&key.parent)) && !children.contains(&key.child) {
                children.push(key.child);
            }
        }
        let before = orphans_of(connection, &children)?;
        self.trial = Some((children, before));
        self.batch("SAVEPOINT marktwice_trial")
    }

    /// All foreign keys wait while rows are put back.
    fn would_commit_trial(&mut self) -> Result<(), EngineError> {
        let Some((children, before)) = self.trial.clone() else { return Ok(()) };
        more_orphans(&before, &orphans_of(self.connection()?, &children)?)
    }

    fn end_trial(&mut self) -> Result<(), EngineError> {
        self.trial = None;
        if self.connection()?.is_autocommit() {
            // A trigger has ended the transaction; what looks at it next says so.
            return Ok(());
        }
        self.batch("ROLLBACK TO marktwice_trial; RELEASE marktwice_trial")?;
        self.connection()?.pragma_update(None, "defer_foreign_keys", false).map_err(engine)
    }

    fn commit(&mut self, (): &()) -> CommitOutcome {
        if let Err(error) = self.unlimited() {
            let _ = self.roll_back();
            return CommitOutcome::RolledBack(error);
        }
        let until = Instant::now() + self.waits.lock;
        loop {
            let connection = match self.connection() {
                Ok(connection) => connection,
                Err(error) => return CommitOutcome::Unknown(error),
            };
            let Err(error) = connection.execute_batch("COMMIT") else { return CommitOutcome::Committed };
            let busy = error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy);
            // A reader's lock makes COMMIT answer BUSY and leaves the transaction open.
            if busy && Instant::now() < until && !connection.is_autocommit() {
                std::thread::sleep(Duration::from_millis(20));
                continue;
            }
            let definite =
                !connection.is_autocommit() || error.sqlite_error_code() == Some(ErrorCode::DiskFull);
            let error = match locked(error, &self.name, self.waits.lock) {
                EngineError::Unusable(Unusable::Locked, _) => EngineError::locked(format!(
                    "{} is being read by another process, and COMMIT waited {} s for it in vain",
                    self.name,
                    self.waits.lock.as_secs_f64()
                )),
                other => other,
            };
            return match self.roll_back() {
                Ok(()) if definite => CommitOutcome::RolledBack(error),
                _ => CommitOutcome::Unknown(error),
            };
        }
    }

    fn roll_back(&mut self) -> Result<(), EngineError> {
        let _ = self.unlimited();
        if self.connection()?.is_autocommit() {
            // The engine has rolled back by itself (after an I/O error, an interrupt, or RAISE(ROLLBACK)).
            return Ok(());
        }
        self.batch("ROLLBACK")
    }
}

/// A row without a parent that had one before, or was not there.
fn more_orphans(before: &Orphans, now: &Orphans) -> Result<(), EngineError> {
    let Some((table, parent)) =
        now.iter().find(|(of, n)| before.get(*of).is_none_or(|was| was < *n)).map(|(of, _)| of)
    else {
        return Ok(());
    };
    let message =
        format!("COMMIT would fail: a row of {table} refers to no row of {parent} (FOREIGN KEY constraint)");
    Err(EngineError::Constraint(Box::new(Broken::new(Constraint::ForeignKey, message))))
}
