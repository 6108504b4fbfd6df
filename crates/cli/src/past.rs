//! What a logbook holds about one database, for the commands that list runs or pick one.

use marktwice_core::receipt::DatabaseId;
use marktwice_core::witness::Left;
use marktwice_port::Intent;
use marktwice_run::{Entry, Failure, damaged, history, look_at_definitions};

use crate::desk::Desk;
use crate::report::Trouble;

/// What a logbook holds about one database.
pub(crate) struct Past {
    pub(crate) database: DatabaseId,
    pub(crate) entries: Vec<Entry>,
    /// What is said of runs whose receipts cannot be read.
    pub(crate) notes: Vec<String>,
    /// Bytes of its part of the logbook.
    pub(crate) size: u64,
    /// Runs that a filter keeps out.
    pub(crate) left_out: usize,
}

/// What everybody's runs have left in a database, newest first.
pub(crate) struct Shared {
    pub(crate) database: DatabaseId,
    /// The table.
    pub(crate) table: String,
    pub(crate) all: Vec<Left>,
    /// What tells those of this logbook.
    pub(crate) own: Vec<String>,
    /// Which of them were asked for.
    pub(crate) chosen: Vec<usize>,
}

impl Shared {
    /// Those that were asked for.
    pub(crate) fn rows(&self) -> Vec<&Left> {
        self.chosen.iter().filter_map(|at| self.all.get(*at)).collect()
    }
}

/// The runs of the database.
pub(crate) fn past(desk: &Desk) -> Result<Past, Trouble> {
    let read = || -> Result<Past, Failure> {
        desk.with(|context| {
            let mut session = context.open(Intent::Read)?;
            let database = session.database().clone();
            let book = (context.book)(&database)?;
            let mut entries = history(&*book)?;
            look_at_definitions(&mut *session, &mut entries);
            Ok(Past { database, entries, notes: damaged(&*book)?.0, size: book.size()?, left_out: 0 })
        })
    };
    read().map_err(|failure| Trouble::failure(&failure, "the logbook").on(&desk.shown))
}
