//! The connection: queries about the catalogue in text, rows by COPY, settings that are pinned while values are read
//! or written, and asking the server to stop.

use marktwice_core::Value;
use marktwice_core::param::Bound;
use marktwice_network::Address;
use marktwice_network::watch::{GRACE, GiveUp, watched};
use marktwice_port::{EngineError, Silent, Stopper};
use marktwice_sql::query::ask::Texts;
use postgres::fallible_iterator::FallibleIterator;
use postgres::types::Type;
use postgres::{Client, NoTls, SimpleQueryMessage};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::copy::{self, Form};
use crate::error::engine;
use crate::open::connect;
use crate::sending::Ahead;

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
    /// Statements of ours that go out in front of the next one.
    pub(crate) ahead: Ahead,
}

impl Pg {
    /// Does something short, which a server that has gone silent does not hold up for ever where there is a limit.
    pub(crate) fn bounded<T>(
        &mut self,
        work: impl FnOnce(&mut Pg) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
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
        self.watched(|pg| {
            // Prepared and executed in one message, which is waited for once; a second statement is refused all the same.
            let none: [(&str, Type); 0] = [];
            let mut rows = pg.client.query_typed_raw(sql, none).map_err(engine)?;
            while rows.next().map_err(engine)?.is_some() {}
            Ok(rows.rows_affected().unwrap_or(0))
        })
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
                other.one(&format!("SELECT pg_catalog.pg_cancel_backend({backend})")).ok()
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
        self.end();
        done
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
            pg.pins_first();
            pg.later("SET LOCAL search_path TO DEFAULT");
            let done = work(pg)?;
            pg.later("SET LOCAL search_path TO pg_catalog");
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
