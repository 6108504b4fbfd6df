//! The connection: queries about the catalogue in text, rows by COPY, settings that are pinned while values are read
//! or written, and asking the server to stop.

use marktwice_core::Value;
use marktwice_core::param::Bound;
use marktwice_network::Address;
use marktwice_network::watch::{GRACE, GiveUp, watched};
use marktwice_port::{EngineError, Silent, Stopper};
use marktwice_sql::query::ask::Texts;
use postgres::{Client, NoTls, SimpleQueryMessage};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::copy::{self, Form};
use crate::error::engine;
use crate::open::connect;

/// Settings under which values are read and written, so that their text is exact and the same everywhere.
const PINNED: &[(&str, &str)] = &[
    ("DateStyle", "'ISO, YMD'"),
    ("IntervalStyle", "'postgres'"),
    ("TimeZone", "'UTC'"),
    ("extra_float_digits", "3"),
    ("bytea_output", "'hex'"),
    ("lc_monetary", "'C'"),
    ("xmloption", "'content'"),
    // Off, the word NULL in an array is read as a text.
    ("array_nulls", "on"),
    ("quote_all_identifiers", "off"),
    // Held rows are sorted and joined in memory, as far as that is not too much for one session.
    ("work_mem", "'32MB'"),
    // Names of tables, functions and types in values and definitions are then written with their schema, and mean the
    // same whoever reads them.
    ("search_path", "pg_catalog"),
];

/// How the connection is encrypted, kept for requests to stop.
#[derive(Clone)]
pub(crate) enum Wire {
    Plain,
    Encrypted(MakeRustlsConnect),
}

/// A row of texts.
pub(crate) type TextRow = Vec<Option<String>>;

/// An open connection.
pub(crate) struct Pg {
    pub(crate) client: Client,
    pub(crate) wire: Wire,
    /// Asked while a statement is at work.
    pub(crate) stop: Option<Stopper>,
    /// The limit on one statement, for telling it apart from a request to stop.
    pub(crate) limit: Option<std::time::Duration>,
    /// Told when the server has gone silent.
    pub(crate) silent: Option<Silent>,
    /// How long a lock may be waited for.
    pub(crate) lock: std::time::Duration,
    /// For a second connection that asks the server to stop this one's statement.
    pub(crate) address: Option<Address>,
    /// Settings of ours, made in each transaction: a session may be somebody else's the next moment.
    pub(crate) locals: String,
    /// What stands for `:name`.
    pub(crate) params: Vec<Bound>,
    /// Settings that a change makes, with their values as literals.
    pub(crate) own: Vec<(String, String)>,
    /// Whether temporary tables can be made here.
    pub(crate) temp: bool,
    /// Whether it is a replica, and whether transactions only read where nothing else is said.
    pub(crate) replica: bool,
    pub(crate) read_only: bool,
    /// The server session that this connection has always had.
    pub(crate) backend: Option<String>,
    /// Whether a transaction is open, and whether settings are to be pinned in it.
    pub(crate) inside: bool,
    pub(crate) pinned: bool,
    /// Whether they are, where that is known. They change together with the next statement of ours, or just before one of the user's:
    /// most turns are taken back before that, and none is waited for.
    pub(crate) pins: Option<bool>,
}

impl Pg {
    /// Runs statements of our own, none of the user's text.
    pub(crate) fn run(&mut self, sql: &str) -> Result<(), EngineError> {
        // Of a transaction that has failed nothing but its end is heard; what settings are then is as it was at the savepoint.
        if sql.starts_with("ROLLBACK") {
            self.pins = None;
            return self.bounded(|pg| pg.client.batch_execute(sql).map_err(engine));
        }
        let sql = format!("{}{sql}", self.turn());
        self.bounded(|pg| pg.client.batch_execute(&sql).map_err(engine))
    }

    /// What is to be sent before a statement so that it meets the settings that are meant.
    fn turn(&mut self) -> String {
        if !self.inside || self.pins == Some(self.pinned) {
            return String::new();
        }
        self.pins = Some(self.pinned);
        let one = |(name, value): &(&str, &str)| {
            // The default is what the session began with, not what a change has set since.
            let set = self.own.iter().rev().find(|(known, _)| known == name);
            let own = set.map_or("DEFAULT", |(_, value)| value);
            format!("SET LOCAL {name} TO {}; ", if self.pinned { value } else { own })
        };
        PINNED.iter().map(one).collect()
    }

    /// Makes the settings those that are meant, before a statement that is sent in another way than ours are.
    pub(crate) fn settle(&mut self) -> Result<(), EngineError> {
        let turn = self.turn();
        if turn.is_empty() { Ok(()) } else { self.run(&turn) }
    }

    /// Does something short, which a server that has gone silent does not hold up for ever where there is a limit.
    fn bounded<T>(&mut self, work: impl FnOnce(&mut Pg) -> Result<T, EngineError>) -> Result<T, EngineError> {
        match self.give_up(false) {
            None => work(self),
            Some(give_up) => watched(None, Some(&give_up), &|| (), || work(self)),
        }
    }

    /// When the server counts as silent.
    fn give_up(&self, commit: bool) -> Option<GiveUp> {
        let after = self.limit? + self.lock + GRACE;
        Some(GiveUp { after, silent: self.silent.clone()?, commit })
    }

    /// Asks for COMMIT. It is not stopped any more; where there is a limit, silence is told.
    pub(crate) fn commit_now(&mut self) -> Result<(), postgres::Error> {
        self.stop = None;
        self.inside = false;
        match self.give_up(true) {
            None => self.client.batch_execute("COMMIT"),
            Some(give_up) => watched(None, Some(&give_up), &|| (), || self.client.batch_execute("COMMIT")),
        }
    }

    /// Rows of a query of our own, as texts; for few rows.
    pub(crate) fn rows(&mut self, sql: &str) -> Result<Vec<TextRow>, EngineError> {
        let mut all = Vec::new();
        let sql = &format!("{}{}", self.turn(), self.sent(sql));
        for message in self.bounded(|pg| pg.client.simple_query(sql).map_err(engine))? {
            if let SimpleQueryMessage::Row(row) = message {
                let cell = |at| row.try_get(at).map(|t| t.map(str::to_owned)).map_err(engine);
                all.push((0..row.len()).map(cell).collect::<Result<TextRow, _>>()?);
            }
        }
        Ok(all)
    }

    /// Rows of a small question, with the names of their columns.
    pub(crate) fn ask(&mut self, sql: &str) -> Result<Texts, EngineError> {
        self.settle()?;
        let sql = &*self.sent(sql);
        self.watched(|pg| {
            let mut answer = Texts::default();
            for message in pg.client.simple_query(sql).map_err(engine)? {
                match message {
                    SimpleQueryMessage::RowDescription(columns) => {
                        answer.columns = columns.iter().map(|c| c.name().to_owned()).collect();
                    }
                    SimpleQueryMessage::Row(row) => {
                        let cell = |at| row.try_get(at).map(|t| t.map(str::to_owned)).map_err(engine);
                        answer.rows.push((0..row.len()).map(cell).collect::<Result<_, _>>()?);
                    }
                    _ => {}
                }
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
        let text = self.watched(|pg| pg.one(sql))?;
        text.and_then(|t| t.parse().ok())
            .ok_or_else(|| EngineError::Other("the server gave no count".to_owned()))
    }

    /// Executes one statement that may hold the user's text: an interface that takes one statement only.
    pub(crate) fn execute_one(&mut self, sql: &str) -> Result<u64, EngineError> {
        self.settle()?;
        let sql = &*self.sent(sql);
        self.watched(|pg| pg.client.execute(sql, &[]).map_err(engine))
    }

    /// Streams a query's rows. It may hold the user's text: COPY is prepared, which takes one statement only.
    pub(crate) fn stream(
        &mut self,
        query: &str,
        forms: &[Form],
        give: &mut dyn FnMut(Vec<Value>) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        self.settle()?;
        // The line break ends a comment that the user's text may end in.
        let sql = format!("COPY (\n{}\n) TO STDOUT", self.sent(query));
        self.watched(|pg| {
            let mut reader = pg.client.copy_out(&sql).map_err(engine)?;
            copy::read(&mut reader, forms, give)
        })
    }

    /// Does something while it is looked whether somebody asked to stop.
    pub(crate) fn watched<T>(
        &mut self,
        work: impl FnOnce(&mut Pg) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        let Some(stop) = self.stop.clone() else { return self.bounded(work) };
        let (token, wire) = (self.client.cancel_token(), self.wire.clone());
        let (address, give_up) = (self.address.clone(), self.give_up(false));
        let backend = self.backend.as_deref().and_then(|b| b.split(' ').next()).map(str::to_owned);
        let cancel = move || {
            // Another connection asks first: it ends in order, which some poolers need. Where none is to be had, the
            // protocol's own request goes out. Should neither get through, the next look ends the run.
            let asked = backend.as_ref().and_then(|backend| {
                let mut other = connect(address.as_ref()?, &mut Vec::new()).ok()?;
                other.one(&format!("SELECT pg_cancel_backend({backend})")).ok()
            });
            if asked.is_some() {
                return;
            }
            let _ = match &wire {
                Wire::Plain => token.cancel_query(NoTls),
                Wire::Encrypted(tls) => token.cancel_query(tls.clone()),
            };
        };
        let done = watched(Some(&stop), give_up.as_ref(), &cancel, || work(self));
        match (done, self.limit) {
            (Err(EngineError::Interrupted), Some(limit)) if !stop() => Err(EngineError::Other(format!(
                "a statement took longer than {} s, the limit that was set",
                limit.as_secs_f64()
            ))),
            (done, _) => done,
        }
    }

    /// Begins a transaction, and makes sure that it is on the server session that this connection has always had: a
    /// pooler may hand every transaction to another one, with another client's settings and temporary tables.
    pub(crate) fn begin(&mut self, mode: &str) -> Result<(), EngineError> {
        let sql = format!(
            "BEGIN {mode}; {}; SELECT pid || ' ' || extract(epoch FROM backend_start) FROM pg_stat_get_activity(pg_backend_pid())",
            self.locals
        );
        let now = self.one(&sql).map_err(|error| match error {
            EngineError::Other(said) if said.contains("pooling") => pooled(&said),
            EngineError::Other(said) if self.backend.is_none() && said.contains("was lost") => {
                pooled("the connection was ended as soon as a transaction began")
            }
            other => other,
        })?;
        self.inside = true;
        self.pins = Some(false);
        self.set_params()?;
        match (&self.backend, now) {
            (Some(then), Some(now)) if *then != now => {
                self.end()?;
                Err(pooled("two transactions of one connection came to two sessions of the server"))
            }
            (None, now) => {
                self.backend = now;
                Ok(())
            }
            _ => Ok(()),
        }
    }

    /// Ends a transaction so that nothing of it is left.
    pub(crate) fn end(&mut self) -> Result<(), EngineError> {
        self.inside = false;
        self.pinned = false;
        self.run("ROLLBACK")
    }

    /// Does something inside a transaction that is then rolled back, or in the one that is open.
    pub(crate) fn within<T>(
        &mut self,
        mode: &str,
        work: impl FnOnce(&mut Pg) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        if self.inside {
            return work(self);
        }
        self.begin(mode)?;
        let done = work(self);
        let ended = self.end();
        let done = done?;
        ended.map(|()| done)
    }

    /// Does something in a transaction that only reads, under pinned settings.
    pub(crate) fn reading<T>(
        &mut self,
        work: impl FnOnce(&mut Pg) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        self.within(READING, |pg| pg.canonical(work))
    }

    /// Does something under pinned settings, all but the search path: names in a text of the user's keep their meaning.
    pub(crate) fn in_own_path<T>(
        &mut self,
        work: impl FnOnce(&mut Pg) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        self.reading(|pg| {
            pg.run("SET LOCAL search_path TO DEFAULT")?;
            let done = work(pg)?;
            pg.run("SET LOCAL search_path TO pg_catalog")?;
            Ok(done)
        })
    }

    /// Does something in the transaction that is open, under pinned settings.
    pub(crate) fn canonical<T>(
        &mut self,
        work: impl FnOnce(&mut Pg) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        if !self.inside {
            return self.reading(work);
        }
        if self.pinned {
            return work(self);
        }
        self.pinned = true;
        let done = work(self);
        self.pinned = false;
        done
    }
}

/// One consistent view of everything, without the right to write a real table.
pub(crate) const READING: &str = "ISOLATION LEVEL REPEATABLE READ READ ONLY";

/// One consistent view of everything; temporary tables can be made, and so the transaction may write for a moment.
pub(crate) const TEMPORARY: &str = "ISOLATION LEVEL REPEATABLE READ READ WRITE";

/// The refusal to work through a pooler that hands out sessions by the transaction.
pub(crate) fn pooled(said: &str) -> EngineError {
    EngineError::Other(format!(
        "a pooler stands before this server and hands its sessions out by the transaction or statement ({said}): what is \
         read would not be what is written; connect to the server itself, or have the pooler keep sessions (session pooling)"
    ))
}
