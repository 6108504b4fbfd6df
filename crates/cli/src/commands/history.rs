//! `history`: runs on a database, newest first.

use marktwice_core::receipt::DatabaseId;
use marktwice_port::Intent;
use marktwice_run::{Entry, Failure, history};

use super::{Desk, print, print_json};
use crate::args::{Common, Format};
use crate::report::Trouble;
use crate::{exit, human, json};

/// Lists the runs.
pub(crate) fn run(common: &Common) -> Result<u8, Trouble> {
    let (database, entries) = entries(&Desk::find(common)?)?;
    match common.format {
        Format::Json => print_json(&json::history(&database, &entries)),
        Format::Human => print(&human::history(&database, &entries)),
    }
    Ok(exit::DONE)
}

/// The runs of the database.
pub(crate) fn entries(desk: &Desk) -> Result<(DatabaseId, Vec<Entry>), Trouble> {
    let read = || -> Result<(DatabaseId, Vec<Entry>), Failure> {
        desk.with(|context| {
            let session = context.engine.open(context.address, Intent::Read, context.waits)?;
            let database = session.database().clone();
            let book = (context.book)(&database)?;
            Ok((database, history(&*book)?))
        })
    };
    read().map_err(|failure| Trouble::failure(&failure, "the logbook").on(desk))
}
