//! How statements of our own go out: what need not be waited for by itself goes in front of the next statement, in one message,
//! the beginning of a transaction included.
//!
//! What goes ahead so cannot fail unless the transaction has, or the connection is lost; the statement behind it then tells.

use marktwice_port::EngineError;
use postgres::SimpleQueryMessage as Answer;

use crate::client::{Pg, TextRow};
use crate::error::engine;

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

/// What the column is called that tells the server session at the beginning of a transaction.
const BACKEND: &str = "marktwice_backend";

/// Statements that have not been sent yet.
#[derive(Debug, Default)]
pub(crate) struct Ahead {
    /// Whether a transaction that is over has yet to be ended on the server.
    ends: bool,
    /// Whether they begin a transaction.
    begins: bool,
    sql: String,
}

impl Pg {
    /// Sends a statement of ours in front of the next one: one that answers nothing, of which nothing but the next statement's
    /// success is of interest.
    pub(crate) fn later(&mut self, sql: &str) {
        if sql.starts_with("ROLLBACK") {
            // What settings are then is as it was at the savepoint.
            self.pins = None;
        }
        self.ahead.sql.push_str(sql);
        self.ahead.sql.push_str("; ");
    }

    /// Forgets what has not been sent yet, inside a transaction that has begun.
    pub(crate) fn drop_ahead(&mut self) {
        self.ahead.sql.clear();
    }

    /// Makes the settings those that are meant, in front of the next statement.
    pub(crate) fn pins_first(&mut self) {
        let turn = self.turn();
        self.ahead.sql.push_str(&turn);
    }

    /// Runs statements of our own, none of the user's text.
    pub(crate) fn run(&mut self, sql: &str) -> Result<(), EngineError> {
        self.send(sql).map(drop)
    }

    /// Sends statements of our own, and what goes ahead of them.
    fn send(&mut self, sql: &str) -> Result<Vec<Answer>, EngineError> {
        let turn = self.turn();
        let Ahead { ends, begins, sql: ahead } = std::mem::take(&mut self.ahead);
        let sql = format!("{}{ahead}{turn}{sql}", if ends { "ROLLBACK; " } else { "" });
        let answer = self.bounded(|pg| pg.client.simple_query(&sql).map_err(engine));
        if begins { self.on_own_session(answer) } else { answer }
    }

    /// What is to be sent before a statement so that it meets the settings that are meant.
    pub(crate) fn turn(&mut self) -> String {
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

    /// Makes the settings those that are meant, and sends what has not been sent, before a statement that is sent in another way
    /// than ours are.
    pub(crate) fn settle(&mut self) -> Result<(), EngineError> {
        let Ahead { ends, ref sql, .. } = self.ahead;
        let waits = ends || !sql.is_empty() || (self.inside && self.pins != Some(self.pinned));
        if waits { self.run("") } else { Ok(()) }
    }

    /// Rows of a query of our own, as texts; for few rows.
    pub(crate) fn rows(&mut self, sql: &str) -> Result<Vec<TextRow>, EngineError> {
        Ok(self.several(&[sql])?.into_iter().next().unwrap_or_default())
    }

    /// Rows of several queries of our own, as texts; all are asked at once.
    pub(crate) fn several(&mut self, all: &[&str]) -> Result<Vec<Vec<TextRow>>, EngineError> {
        let sql: Vec<_> = all.iter().map(|sql| self.sent(sql)).collect();
        let sql = sql.join("; ");
        let mut answers: Vec<Vec<TextRow>> = Vec::new();
        for message in self.send(&sql)? {
            match message {
                Answer::RowDescription(_) => answers.push(Vec::new()),
                Answer::Row(row) => {
                    let cell = |at| row.try_get(at).map(|t| t.map(str::to_owned)).map_err(engine);
                    let row = (0..row.len()).map(cell).collect::<Result<TextRow, _>>()?;
                    if let Some(rows) = answers.last_mut() {
                        rows.push(row);
                    }
                }
                _ => {}
            }
        }
        answers.resize(all.len(), Vec::new());
        Ok(answers)
    }

    /// The first value of a query of our own.
    pub(crate) fn one(&mut self, sql: &str) -> Result<Option<String>, EngineError> {
        Ok(self.rows(sql)?.into_iter().next().and_then(|row| row.into_iter().next()).flatten())
    }

    /// Begins a transaction with the next statement, and makes sure that it is on the server session that this connection has
    /// always had: a pooler may hand every transaction to another one, with another client's settings and temporary tables.
    pub(crate) fn begin(&mut self, mode: &str) -> Result<(), EngineError> {
        let sql = format!(
            "BEGIN {mode}; {}; SELECT pid || ' ' || extract(epoch FROM backend_start) AS {BACKEND} \
             FROM pg_stat_get_activity(pg_catalog.pg_backend_pid()); ",
            self.locals
        );
        self.ahead = Ahead { ends: self.ahead.ends, begins: true, sql };
        self.inside = true;
        self.pins = Some(false);
        self.set_params()
    }

    /// Takes the session's own name out of the answer to statements that began a transaction, and looks whether it is the same
    /// as ever.
    fn on_own_session(
        &mut self,
        answer: Result<Vec<Answer>, EngineError>,
    ) -> Result<Vec<Answer>, EngineError> {
        let answer = answer.map_err(|error| match error {
            EngineError::Other(said) if said.contains("pooling") => pooled(&said),
            EngineError::Other(said) if self.backend.is_none() && said.contains("was lost") => {
                pooled("the connection was ended as soon as a transaction began")
            }
            other => other,
        })?;
        let mut answer = answer.into_iter();
        let named = answer.by_ref().any(|message| {
            matches!(&message, Answer::RowDescription(columns) if columns.first().is_some_and(|c| c.name() == BACKEND))
        });
        let now = match answer.next() {
            Some(Answer::Row(row)) if named => row.try_get(0).map_err(engine)?.map(str::to_owned),
            _ => None,
        };
        match (&self.backend, now) {
            (Some(then), Some(now)) if *then != now => {
                self.end();
                Err(pooled("two transactions of one connection came to two sessions of the server"))
            }
            (None, now) => {
                self.backend = now;
                Ok(answer.collect())
            }
            _ => Ok(answer.collect()),
        }
    }

    /// Ends a transaction so that nothing of it is left, in front of the next statement or with the connection. One that nothing
    /// was asked in has never begun.
    pub(crate) fn end(&mut self) {
        self.inside = false;
        self.pinned = false;
        self.pins = None;
        let Ahead { ends, begins, .. } = std::mem::take(&mut self.ahead);
        self.ahead.ends = ends || !begins;
    }
}

/// The refusal to work through a pooler that hands out sessions by the transaction.
pub(crate) fn pooled(said: &str) -> EngineError {
    EngineError::Other(format!(
        "a pooler stands before this server and hands its sessions out by the transaction or statement ({said}): what is \
         read would not be what is written; connect to the server itself, or have the pooler keep sessions (session pooling)"
    ))
}
