//! How statements of our own go out: what need not be waited for by itself goes in front of the next statement, in one message,
//! where the server takes several at once. The user's text never goes out so: it is prepared, which takes one statement only.

use marktwice_port::EngineError;
use mysql::prelude::Queryable;

use crate::client::{My, TextRow, literal, positional, text};
use crate::error::engine;

/// The settings under which values are read and written. They outlast a transaction.
const PINS: &str = "SET SESSION time_zone = '+00:00', SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO', SESSION sql_quote_show_create = 1";

/// How statements begin that do the same under any settings.
const INDIFFERENT: [&str; 7] = [
    "ROLLBACK",
    "COMMIT",
    "SAVEPOINT",
    "RELEASE SAVEPOINT",
    "START TRANSACTION",
    "SET TRANSACTION",
    "DROP TEMPORARY TABLE",
];

impl My {
    /// Sends a statement of ours that does the same under any settings in front of the next one.
    pub(crate) fn later(&mut self, sql: &str) -> Result<(), EngineError> {
        let sql = self.as_read_once(sql)?;
        if !self.together {
            return self.send(&sql).map(drop);
        }
        self.ahead.push_str(&sql);
        self.ahead.push_str("; ");
        Ok(())
    }

    /// Runs a statement of our own, none of the user's text.
    pub(crate) fn run(&mut self, sql: &str) -> Result<(), EngineError> {
        // Copies are filled under settings of their own.
        let read = self.as_read_once(sql)?;
        let turn = if INDIFFERENT.iter().any(|begins| sql.starts_with(begins)) {
            String::new()
        } else {
            self.turn()
        };
        self.go(turn, &[&read])?;
        self.copies_of(sql)
    }

    /// Pins settings, or gives the user's own back, as is meant now, and sends what has not been sent.
    pub(crate) fn settle(&mut self) -> Result<(), EngineError> {
        let turn = self.turn();
        self.go(turn, &[]).map(drop)
    }

    /// What is to be sent before a statement so that it meets the settings that are meant.
    fn turn(&mut self) -> String {
        if self.pins_set == Some(self.pinned) {
            return String::new();
        }
        self.pins_set = Some(self.pinned);
        if self.pinned {
            return PINS.to_owned();
        }
        let (mode, zone) = &self.own;
        format!("SET SESSION time_zone = {}, SESSION sql_mode = {}", literal(zone), literal(mode))
    }

    /// Sends what goes ahead, the settings and these statements, and gives the answers to these.
    fn go(&mut self, turn: String, all: &[&str]) -> Result<Vec<Vec<TextRow>>, EngineError> {
        let ahead = std::mem::take(&mut self.ahead);
        let turns = !turn.is_empty();
        let done = self.go_as(ahead, turn, all);
        if done.is_err() && turns {
            self.pins_set = None;
        }
        done
    }

    fn go_as(&mut self, ahead: String, turn: String, all: &[&str]) -> Result<Vec<Vec<TextRow>>, EngineError> {
        if !self.together {
            if !turn.is_empty() {
                self.send(&turn)?;
            }
            return all
                .iter()
                .map(|sql| Ok(self.send(sql)?.into_iter().next().unwrap_or_default()))
                .collect();
        }
        let sql = [&[turn.as_str()], all].concat();
        let sql: Vec<&str> = sql.into_iter().filter(|sql| !sql.is_empty()).collect();
        let sql = format!("{ahead}{}", sql.join("; "));
        let sql = sql.trim_end_matches("; ");
        if sql.is_empty() {
            return Ok(Vec::new());
        }
        let mut answers = self.send(sql)?;
        Ok(answers.split_off(answers.len().saturating_sub(all.len())))
    }

    /// Runs a statement that does the same under any settings, with what goes ahead of it; what the server says is given as it
    /// says it.
    pub(crate) fn run_as_told(&mut self, sql: &str) -> Result<(), mysql::Error> {
        let ahead = std::mem::take(&mut self.ahead);
        self.told(&format!("{ahead}{sql}")).map(drop)
    }

    fn send(&mut self, sql: &str) -> Result<Vec<Vec<TextRow>>, EngineError> {
        self.told(sql).map_err(engine)
    }

    /// Sends it as it is, and reads all answers.
    fn told(&mut self, sql: &str) -> Result<Vec<Vec<TextRow>>, mysql::Error> {
        let mut result = self.conn.query_iter(sql)?;
        let mut answers = Vec::new();
        while let Some(rows) = result.iter() {
            let rows = rows.map(|row| Ok(row?.unwrap().into_iter().map(text).collect()));
            answers.push(rows.collect::<Result<Vec<TextRow>, mysql::Error>>()?);
        }
        Ok(answers)
    }

    /// Rows of a query of our own, as texts; for few rows.
    pub(crate) fn rows(&mut self, sql: &str) -> Result<Vec<TextRow>, EngineError> {
        let (sent, values) = self.sent(sql, &[]);
        let sent = sent.into_owned();
        if values.is_empty() {
            return Ok(self.several(&[&sent])?.into_iter().next().unwrap_or_default());
        }
        self.settle()?;
        let rows: Vec<mysql::Row> = self.conn.exec(&*sent, positional(&values)).map_err(engine)?;
        Ok(rows.into_iter().map(|row| row.unwrap().into_iter().map(text).collect()).collect())
    }

    /// Rows of several queries of our own without parameters, as texts; all are asked at once where the server takes that.
    pub(crate) fn several(&mut self, all: &[&str]) -> Result<Vec<Vec<TextRow>>, EngineError> {
        let mut read = Vec::with_capacity(all.len());
        for sql in all {
            read.push(self.as_read_once(sql)?);
        }
        let turn = self.turn();
        self.go(turn, &read.iter().map(|sql| &**sql).collect::<Vec<_>>())
    }

    /// Sends statements of ours whose effect no setting may bear on, with what goes ahead of them.
    pub(crate) fn plainly(&mut self, sql: &str) -> Result<(), EngineError> {
        let ahead = std::mem::take(&mut self.ahead);
        self.pins_set = None;
        self.send(&format!("{ahead}{PINS}; {sql}")).map(drop)
    }
}
