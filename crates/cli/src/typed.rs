//! Rows that are named by keys on the command line.

use marktwice_core::{Code, Target};
use marktwice_port::{Draft, Which, Work};
use marktwice_run::rows;

use crate::desk::Desk;
use crate::exit;
use crate::report::Trouble;

/// Keys as they were typed.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Typed<'a> {
    /// The table.
    pub(crate) table: &'a Target,
    /// Whether its schema was named.
    pub(crate) schema: bool,
    /// The key, or several.
    pub(crate) key: &'a str,
    /// What tells one row: the columns of each key.
    pub(crate) keys: &'a [Vec<String>],
    /// Whether several rows may be named.
    pub(crate) several: bool,
}

impl<'a> Typed<'a> {
    /// The rows as a draft names them.
    pub(crate) fn which(self) -> Which<'a> {
        Which::Typed { key: self.key, keys: self.keys, several: self.several }
    }

    /// How many rows these keys have; `None` where they are none, or cannot be asked for.
    fn count(self, desk: &Desk) -> Option<u64> {
        let draft = Draft { target: self.table, schema: self.schema, work: Work::Delete, rows: self.which() };
        let text = desk.engine.language().compose(&draft).ok()?.text;
        Some(desk.with(|context| rows(context, &text, None, Some(0))).ok()?.seen.matched)
    }

    /// Every one of the `wanted` keys has a row: each that has none is asked for by itself, and named.
    pub(crate) fn there(self, desk: &Desk, wanted: Option<u64>) -> Result<(), Trouble> {
        let Some(found) = self.count(desk) else { return Ok(()) };
        if wanted.is_none_or(|wanted| found >= wanted) {
            return Ok(());
        }
        let each = self.key.split(if self.key.contains('=') { ';' } else { ',' });
        let one = |key| Typed { key, several: false, ..self };
        let gone: Vec<&str> = match self.several {
            true => each.map(str::trim).filter(|key| one(key).count(desk) == Some(0)).collect(),
            false => vec![self.key],
        };
        let message = match gone.as_slice() {
            [] => return Ok(()),
            [only] => format!("no row of {} has the key {only}", self.table.table),
            many => format!("no row of {} has the keys {}", self.table.table, many.join(", ")),
        };
        let hint = "look for the row first: `marktwice look TABLE --where CONDITION`";
        let usage = Trouble::usage(message, hint);
        let stopped = Trouble { status: exit::STOPPED, code: Some(Code::NothingMatched.as_str()), ..usage };
        Err(stopped.on(&desk.shown))
    }
}
