//! One application and one undo on a small database, with a logbook and an engine that fail, or end the process, as
//! their fuses say.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use marktwice_core::Expect;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::undo::Policy;
use marktwice_logbook::Shelf;
use marktwice_port::{Ambient, LogError, Logbook, Phase, Stamp, Stopper, Waits};
use marktwice_run::{
    Agreement, Answer, ApplyOptions, Change, Context, Failure, Preview, Question, RunOutcome, Show, Talk,
    UndoOptions, apply, undo,
};
use marktwice_sqlite::Sqlite;

use crate::faulty::{FaultyBook, FaultyEngine, Fuse};

/// The database of an attempt.
pub const SCRIPT: &str =
    "CREATE TABLE t (id INTEGER PRIMARY KEY, a INT); INSERT INTO t VALUES (1, 1), (2, 2), (3, 3);";

/// Surroundings without a clock, a terminal or anybody who stops.
pub struct Quiet;

impl Ambient for Quiet {
    fn now(&self) -> Stamp {
        Stamp { rfc3339: "2026-05-11T08:30:00Z".into(), compact: "20260511T083000.000000Z".into() }
    }

    fn stopper(&self) -> Stopper {
        Arc::new(|| false)
    }

    fn progress(&self, _: Phase, _: u64, _: Option<u64>) {}
}

/// Somebody who always says yes.
pub struct Yes;

impl Talk for Yes {
    fn show(&mut self, _: &Preview) {}

    fn ask(&mut self, _: &Question<'_>) -> Answer {
        Answer::Yes
    }
}

/// Does `work` in `folder` (with `coop.db` and `book` in it) with a logbook and an engine on their fuses. With
/// `goes_through` a COMMIT whose fuse blows is carried out, and only its answer is lost.
pub fn with<T>(
    folder: &Path,
    book: &Fuse,
    engine: &Fuse,
    goes_through: bool,
    work: impl FnOnce(&Context<'_>) -> T,
) -> T {
    let open = |id: &DatabaseId| -> Result<Box<dyn Logbook>, LogError> {
        let inner = Box::new(Shelf::open(&folder.join("book"), id)?);
        Ok(Box::new(FaultyBook { inner, fuse: book.clone() }))
    };
    let address = folder.join("coop.db").display().to_string();
    let engine = FaultyEngine { inner: &Sqlite, fuse: engine.clone(), after: goes_through };
    work(&Context {
        engine: &engine,
        address: &address,
        book: &open,
        ambient: &Quiet,
        waits: Waits { lock: Duration::from_millis(200), statement: None },
        user: None,
    })
}

/// The change of an attempt.
pub fn change() -> Change {
    Change {
        source: "UPDATE t SET a = a * 10 WHERE id < 3".into(),
        title: None,
        reason: None,
        rows: Some(Expect::Range(2, Some(2))),
        changes: None,
        allow: vec![],
        again: false,
    }
}

/// Applies it.
///
/// # Errors
/// As [`apply`].
pub fn apply_once(context: &Context<'_>) -> Result<RunOutcome, Failure> {
    let options = ApplyOptions { agreement: Agreement::Given, mark: None, hold: false, show: Show::First(5) };
    apply(context, &change(), &options, &mut Yes)
}

/// Takes the last application back, asking inside the open transaction.
///
/// # Errors
/// As [`undo`].
pub fn undo_once(context: &Context<'_>) -> Result<RunOutcome, Failure> {
    let options = UndoOptions {
        run: None,
        agreement: Agreement::Ask,
        allow: vec![],
        rows: None,
        policy: Policy::default(),
        only: vec![],
        hold: true,
        show: Show::First(5),
    };
    undo(context, &options, &mut Yes)
}
