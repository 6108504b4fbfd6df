//! The connection: queries about the catalogue in text, rows through the binary protocol, settings that are pinned
//! while values are read or written, and asking the server to stop.

use std::sync::Arc;
use std::time::{Duration, Instant};

use marktwice_core::Value;
use marktwice_core::param::Bound;
use marktwice_network::watch::watched;
use marktwice_port::{EngineError, Intent, Stopper, Unusable};
use marktwice_sql::query::ask::Texts;
use mysql::prelude::Queryable;
use mysql::{Conn, OptsBuilder, Params};

use crate::catalog::Known;
use crate::copies::Temporary;
use crate::error::engine;
use crate::server::Traits;
use crate::values::{Form, bind};

/// A row of texts.
pub(crate) type TextRow = Vec<Option<String>>;

/// An open connection.
pub(crate) struct My {
    pub(crate) conn: Conn,
    /// For a second connection that asks the server to stop this one's statement.
    pub(crate) options: OptsBuilder,
    /// Asked while a statement is at work.
    pub(crate) stop: Option<Stopper>,
    /// The user's own settings, to be given back: SQL mode and time zone.
    pub(crate) own: (String, String),
    /// Whether settings are to be pinned, and whether they are, where that is known. Both are brought together only when a statement is sent for which
    /// it matters: most turns are taken back before that.
    pub(crate) pinned: bool,
    pub(crate) pins_set: Option<bool>,
    /// Statements of ours that go out in front of the next one.
    pub(crate) ahead: String,
    /// Whether the server takes several statements at once.
    pub(crate) together: bool,
    /// The server's own identifier, where it was told on the way.
    pub(crate) server: Option<String>,
    /// Tables that were described, as they were then.
    pub(crate) described: Vec<Known>,
    /// The schema in which names without one are looked up. Nothing of ours ever changes it.
    pub(crate) schema: String,
    /// What the server calls itself.
    pub(crate) brand: String,
    /// How it differs from others of the family.
    pub(crate) traits: Traits,
    /// The temporary tables that there are, where a second reading of one is of a copy.
    pub(crate) temporary: Vec<Temporary>,
    /// Its version, as it tells it.
    pub(crate) version: String,
    /// The cluster that the server is a node of.
    pub(crate) cluster: Option<String>,
    /// Whether the user's own session refuses statements without a key in their filter.
    pub(crate) own_guard: bool,
    /// Whether the session checks foreign keys, as it came.
    pub(crate) checks_keys: bool,
    /// What stands for `:name`.
    pub(crate) params: Vec<Bound>,
    /// Whether the transaction of a run is open: nothing may begin another one then.
    pub(crate) open: bool,
    /// The limit on one statement.
    pub(crate) limit: Option<Duration>,
    /// What the connection is for.
    pub(crate) intent: Intent,
}

/// A text as a literal. Written in hexadecimal, so that no SQL mode reads it in another way.
pub(crate) fn literal(text: &str) -> String {
    if text.is_empty() {
        return "''".to_owned();
    }
    let hex: String = text.bytes().map(|b| format!("{b:02X}")).collect();
    format!("CONVERT(X'{hex}' USING utf8mb4)")
}

pub(crate) fn text(value: mysql::Value) -> Option<String> {
    match value {
        mysql::Value::NULL => None,
        mysql::Value::Bytes(bytes) => Some(String::from_utf8_lossy(&bytes).into_owned()),
        other => Some(other.as_sql(false).trim_matches('\'').to_owned()),
    }
}

/// Values for the marks of a statement.
pub(crate) fn positional(values: &[Value]) -> Params {
    match values {
        [] => Params::Empty,
        some => Params::Positional(some.iter().map(bind).collect()),
    }
}

impl My {
    /// Rows of a small question, with the names of their columns. Preparing takes one statement only.
    pub(crate) fn ask(&mut self, sql: &str) -> Result<Texts, EngineError> {
        let sql = &*self.as_read_once(sql)?;
        self.settle()?;
        let (sql, values) = self.sent(sql, &[]);
        self.watched(|my| {
            let mut result = my.conn.exec_iter(&*sql, positional(&values)).map_err(engine)?;
            let mut answer = Texts::default();
            let Some(rows) = result.iter() else { return Ok(answer) };
            answer.columns = rows.columns().as_ref().iter().map(|c| c.name_str().into_owned()).collect();
            for row in rows {
                answer.rows.push(row.map_err(engine)?.unwrap().into_iter().map(text).collect());
            }
            Ok(answer)
        })
    }

    /// The first value of a query of our own.
    pub(crate) fn one(&mut self, sql: &str) -> Result<Option<String>, EngineError> {
        Ok(self.rows(sql)?.into_iter().next().and_then(|row| row.into_iter().next()).flatten())
    }

    /// One number.
    pub(crate) fn count(&mut self, sql: &str) -> Result<u64, EngineError> {
        let text = self.watched(|my| my.one(sql))?;
        text.and_then(|t| t.parse().ok())
            .ok_or_else(|| EngineError::Other("the server gave no count".to_owned()))
    }

    /// Executes one statement that may hold the user's text: preparing takes one statement only.
    pub(crate) fn execute_one(&mut self, sql: &str, values: &[Value]) -> Result<u64, EngineError> {
        let (made, sql) = (sql, &*self.as_read_once(sql)?);
        self.settle()?;
        let (sql, values) = self.sent(sql, values);
        let params = Params::Positional(values.iter().map(bind).collect());
        self.watched(|my| {
            let statement = my.conn.prep(&*sql).map_err(engine)?;
            let params = if statement.num_params() == 0 { Params::Empty } else { params };
            let done = my.conn.exec_drop(&statement, params).map_err(engine);
            let count = my.conn.affected_rows();
            let closed = my.conn.close(statement).map_err(engine);
            done.and(closed).map(|()| count)
        })
        .and_then(|count| self.copies_of(made).map(|()| count))
    }

    /// Executes one statement that gives rows back for those it writes, and counts them. It has been prepared before, which
    /// takes one statement only; executed so, the server announces no columns for what it then sends.
    pub(crate) fn execute_giving(&mut self, sql: &str) -> Result<u64, EngineError> {
        self.settle()?;
        self.watched(|my| {
            let mut result = my.conn.query_iter(sql).map_err(engine)?;
            let mut rows = 0;
            for row in result.by_ref() {
                row.map_err(engine)?;
                rows += 1;
            }
            Ok(rows)
        })
    }

    /// Executes one statement of our own for each row of values.
    pub(crate) fn execute_many(&mut self, sql: &str, rows: &[Vec<Value>]) -> Result<(), EngineError> {
        let sql = &*self.as_read_once(sql)?;
        self.settle()?;
        self.watched(|my| {
            // It is prepared once, and kept while others do not take its place.
            let statement = my.conn.prep(sql).map_err(engine)?;
            for row in rows {
                let params = Params::Positional(row.iter().map(bind).collect());
                my.conn.exec_drop(&statement, params).map_err(engine)?;
            }
            Ok(())
        })
    }

    /// Streams a query's rows as values in the given forms.
    pub(crate) fn stream(
        &mut self,
        query: &str,
        values: &[Value],
        forms: &[Form],
        give: &mut dyn FnMut(Vec<Value>) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let query = &*self.as_read_once(query)?;
        self.settle()?;
        let (query, values) = self.sent(query, values);
        self.watched(|my| {
            let rows = my.conn.exec_iter(&*query, positional(&values)).map_err(engine)?;
            for row in rows {
                let row = row.map_err(engine)?.unwrap();
                if row.len() != forms.len() {
                    return Err(EngineError::Other(format!(
                        "the server sent a row of {} columns where {} were to be expected",
                        row.len(),
                        forms.len()
                    )));
                }
                give(row.into_iter().zip(forms).map(|(wire, form)| form.value(wire)).collect())?;
            }
            Ok(())
        })
    }

    /// Does something while it is looked whether somebody asked to stop.
    pub(crate) fn watched<T>(
        &mut self,
        work: impl FnOnce(&mut My) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        // There a limit of time ends statements that read; others are ended from here.
        let until =
            self.limit.filter(|_| self.traits.limits_reading_only).map(|limit| Instant::now() + limit);
        if self.stop.is_none() && until.is_none() {
            return work(self);
        }
        let asked = self.stop.clone();
        let asked = move || asked.as_ref().is_some_and(|stop| stop());
        let late = move || until.is_some_and(|until| Instant::now() >= until);
        let stop: Stopper = {
            let asked = asked.clone();
            Arc::new(move || asked() || late())
        };
        let (options, id) = (self.options.clone(), self.conn.connection_id());
        let cancel = move || {
            // Should the request not get through, the statement goes on, and the next look ends the run.
            let _ =
                Conn::new(options.clone()).and_then(|mut other| other.query_drop(format!("KILL QUERY {id}")));
        };
        match watched(Some(&stop), None, &cancel, || work(self)) {
            Err(EngineError::Interrupted) if late() && !asked() => {
                Err(EngineError::Other("a statement took longer than the limit that was set".to_owned()))
            }
            done => done,
        }
    }

    /// Refuses what begins a transaction of its own while one is open, which the server would commit without a word.
    pub(crate) fn not_inside(&self) -> Result<(), EngineError> {
        match self.open {
            true => Err(EngineError::Other("a transaction is open, and reading would end it".to_owned())),
            false => Ok(()),
        }
    }

    /// On a cluster what looks like a deadlock may be another node's change that came first.
    pub(crate) fn cluster_words(&self, error: EngineError) -> EngineError {
        match error {
            EngineError::Unusable(Unusable::Locked, said)
                if self.cluster.is_some() && said.contains("deadlock") =>
            {
                EngineError::locked(format!(
                    "{said}; on this cluster that is also what happens when a change of another node came first"
                ))
            }
            other => other,
        }
    }

    /// Has foreign keys checked as the session does of itself.
    pub(crate) fn checking_keys(&mut self) -> Result<(), EngineError> {
        self.run(&format!("SET SESSION foreign_key_checks = {}", u8::from(self.checks_keys)))
    }

    /// Learns the user's own settings.
    pub(crate) fn learn_own(&mut self) -> Result<(), EngineError> {
        let own = self.rows("SELECT @@session.sql_mode, @@session.time_zone")?;
        let cell = |at: usize| own.first().and_then(|r| r.get(at).cloned().flatten()).unwrap_or_default();
        self.own = (cell(0), cell(1));
        Ok(())
    }

    /// Does something under a limit of ours on each statement; the next statement behind it has the user's own again.
    pub(crate) fn within_limit<T>(
        &mut self,
        limit: Duration,
        work: impl FnOnce(&mut My) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        self.run(&self.traits.limit(limit))?;
        let done = work(self);
        self.later(&self.traits.limit(self.limit.unwrap_or_default()))?;
        done
    }

    /// Under pinned settings.
    pub(crate) fn with_pins<T>(
        &mut self,
        work: impl FnOnce(&mut My) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        if self.pinned {
            return work(self);
        }
        self.pinned = true;
        let done = work(self);
        self.pinned = false;
        done
    }

    /// Does something inside a transaction of its own that only reads, under pinned settings.
    pub(crate) fn reading<T>(
        &mut self,
        work: impl FnOnce(&mut My) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        if self.open {
            // Beginning another transaction would commit the one that is open.
            return self.with_pins(work);
        }
        self.later("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")?;
        let done = self.with_pins(work);
        let ended = self.run("ROLLBACK");
        let done = done?;
        ended.map(|()| done)
    }
}

/// Whole seconds for settings that know no others, at least one: none would mean not to wait at all.
pub(crate) fn seconds(duration: Duration) -> u64 {
    duration.as_secs().saturating_add(u64::from(duration.subsec_nanos() > 0)).clamp(1, 86_400)
}
