//! Temporary tables that a server opens only once in a statement (MySQL's error 1137): a second reading is of a copy.
//!
//! Every statement of ours passes here on its way out. Names of our tables are this process's own, so that a text can be searched for
//! them. A copy is filled before the statement that needs it, and only where the table has been written since.

use std::borrow::Cow;
use std::ops::RangeInclusive;

use marktwice_port::EngineError;
use marktwice_sql::dialect::ours;

use crate::catalog::{cell, ident};
use crate::client::{My, TextRow};

/// How many copies are made with each table: while a transaction only reads, none can be.
const AT_ONCE: usize = 2;

/// A temporary table of ours.
#[derive(Debug)]
pub(crate) struct Temporary {
    /// As it stands in statements, with its schema.
    full: String,
    /// Without it.
    name: String,
    /// The columns that can be filled, once they are asked for; what the server computes it computes in the copy as well.
    columns: String,
    /// How many copies there are, and how many of them hold what the table holds.
    made: usize,
    filled: usize,
}

impl Temporary {
    fn copy(&self, nth: usize) -> String {
        format!("{}_copy{nth}", self.full)
    }

    /// Where a text reads or writes the table. Before a column its name stands for a reading that is there already.
    fn places(&self, sql: &str) -> Vec<usize> {
        let ends = |at: usize| {
            let next = sql.get(at + self.name.len()..).and_then(|rest| rest.chars().next());
            next.is_none_or(|c| !c.is_ascii_alphanumeric() && c != '_' && c != '.')
        };
        sql.match_indices(&self.name).map(|(at, _)| at).filter(|at| ends(*at)).collect()
    }
}

const MAKE: &str = "CREATE TEMPORARY TABLE ";
const DROP: &str = "DROP TEMPORARY TABLE IF EXISTS ";

impl My {
    /// The text of a statement of ours as this server takes it; copies that it needs are filled.
    pub(crate) fn as_read_once<'s>(&mut self, sql: &'s str) -> Result<Cow<'s, str>, EngineError> {
        if !self.traits.reads_temporary_once {
            return Ok(Cow::Borrowed(sql));
        }
        if sql.starts_with("ROLLBACK") {
            self.temporary.iter_mut().for_each(|table| table.filled = 0);
            return Ok(Cow::Borrowed(sql));
        }
        if let Some(names) = sql.strip_prefix(DROP) {
            return Ok(self.with_copies(names));
        }
        let mut text = Cow::Borrowed(sql);
        for nth in 0..self.temporary.len() {
            text = self.read_once(nth, text)?;
        }
        Ok(text)
    }

    /// The text that drops tables together with their copies.
    fn with_copies<'s>(&mut self, names: &str) -> Cow<'s, str> {
        let mut all: Vec<String> = names.split(", ").map(str::to_owned).collect();
        self.temporary.retain(|table| {
            let goes = names.split(", ").any(|name| name == table.full);
            if goes {
                all.extend((1..=table.made).map(|nth| table.copy(nth)));
            }
            !goes
        });
        Cow::Owned(format!("{DROP}{}", all.join(", ")))
    }

    fn read_once<'s>(&mut self, nth: usize, sql: Cow<'s, str>) -> Result<Cow<'s, str>, EngineError> {
        let Some(table) = self.temporary.get_mut(nth) else { return Ok(sql) };
        let places = table.places(&sql);
        let copies = places.len().saturating_sub(1);
        let writes = !sql.trim_start().starts_with("SELECT") && !sql.starts_with("WITH");
        let other =
            sql.starts_with("INSERT INTO") && !sql.starts_with(&format!("INSERT INTO {}", table.full));
        let stale = writes && !other && !places.is_empty();
        if copies == 0 {
            table.filled = if stale { 0 } else { table.filled };
            return Ok(sql);
        }
        let mut text = String::with_capacity(sql.len() + 8 * copies);
        let mut from = 0;
        for (nth, at) in places.iter().enumerate() {
            let end = at + table.name.len();
            text.push_str(sql.get(from..end).unwrap_or_default());
            if nth > 0 {
                text.push_str(&format!("_copy{nth}"));
            }
            from = end;
        }
        text.push_str(sql.get(from..).unwrap_or_default());
        self.fill_copies(nth, copies)?;
        if stale && let Some(table) = self.temporary.get_mut(nth) {
            table.filled = 0;
        }
        Ok(Cow::Owned(text))
    }

    /// Makes copies of a table that was just made.
    pub(crate) fn copies_of(&mut self, sql: &str) -> Result<(), EngineError> {
        let Some(rest) = sql.strip_prefix(MAKE).filter(|_| self.traits.reads_temporary_once) else {
            return Ok(());
        };
        let full = rest.split([' ', '(']).next().unwrap_or_default().to_owned();
        // The user's statement names a sheet; what it says stays what it says.
        if !ours::is_ours(&full) {
            return Ok(());
        }
        let name = full.rsplit('.').next().unwrap_or(&full).trim_matches('`').to_owned();
        self.temporary.retain(|table| table.full != full);
        self.temporary.push(Temporary { full, name, columns: String::new(), made: 0, filled: 0 });
        // In the transaction of a run they can still be made once something needs them.
        if self.open { Ok(()) } else { self.make_copies(self.temporary.len() - 1, AT_ONCE) }
    }

    /// Sends what each of these copies of a table needs, in one message.
    fn for_each_copy(
        &mut self,
        nth: usize,
        copies: RangeInclusive<usize>,
        text: impl Fn(&Temporary, &str) -> String,
    ) -> Result<(), EngineError> {
        let Some(table) = self.temporary.get(nth) else { return Ok(()) };
        let all: Vec<String> = copies.map(|n| text(table, &table.copy(n))).collect();
        if all.is_empty() { Ok(()) } else { self.plainly(&all.join("; ")) }
    }

    fn make_copies(&mut self, nth: usize, wanted: usize) -> Result<(), EngineError> {
        let made = self.temporary.get(nth).map_or(0, |table| table.made);
        self.for_each_copy(nth, made + 1..=wanted, |table, copy| {
            format!("{DROP}{copy}; {MAKE}{copy} LIKE {}", table.full)
        })?;
        if let Some(table) = self.temporary.get_mut(nth) {
            table.made = made.max(wanted);
        }
        Ok(())
    }

    fn learn_columns(&mut self, nth: usize) -> Result<(), EngineError> {
        let Some(table) = self.temporary.get(nth).filter(|table| table.columns.is_empty()) else {
            return Ok(());
        };
        let shown = format!("SHOW COLUMNS FROM {}", table.full);
        let rows = self.rows(&shown)?;
        let computed =
            |row: &&TextRow| !["VIRTUAL", "STORED"].iter().any(|kind| cell(row, 5).starts_with(kind));
        let columns: Vec<String> = rows.iter().filter(computed).map(|row| ident(cell(row, 0))).collect();
        if let Some(table) = self.temporary.get_mut(nth) {
            table.columns = columns.join(", ");
        }
        Ok(())
    }

    fn fill_copies(&mut self, nth: usize, wanted: usize) -> Result<(), EngineError> {
        self.make_copies(nth, wanted)?;
        self.learn_columns(nth)?;
        let filled = self.temporary.get(nth).map_or(0, |table| table.filled);
        self.for_each_copy(nth, filled + 1..=wanted, |table, copy| {
            let (columns, full) = (&table.columns, &table.full);
            format!("DELETE FROM {copy}; INSERT INTO {copy} ({columns}) SELECT {columns} FROM {full}")
        })?;
        if let Some(table) = self.temporary.get_mut(nth) {
            table.filled = filled.max(wanted);
        }
        Ok(())
    }
}
