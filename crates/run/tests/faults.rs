//! Every call of the logbook, and every call of the engine, fails once, at its turn: the database is then wholly
//! before or wholly after, the outcome says which, and the next command finds the truth.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    reason = "a test that cannot go on is to fail"
)]

use std::sync::Arc;
use std::time::Duration;

use marktwice_core::{Expect, RunState};
use marktwice_logbook::Shelf;
use marktwice_port::{Ambient, Intent, LogError, Logbook, Phase, Stamp, Stopper, Waits};
use marktwice_run::{
    Agreement, Answer, ApplyOptions, Change, Context, End, Failure, Preview, Question, RunOutcome, Show,
    Talk, UndoOptions, Verdict, apply, history, settle, undo,
};
use marktwice_sqlite::Sqlite;
use marktwice_testkit::{FaultyBook, FaultyEngine, Fuse, Scene};

struct Clock;

impl Ambient for Clock {
    fn now(&self) -> Stamp {
        Stamp { rfc3339: "2026-05-11T08:30:00Z".into(), compact: "20260511T083000.000000Z".into() }
    }

    fn stopper(&self) -> Stopper {
        Arc::new(|| false)
    }

    fn progress(&self, _: Phase, _: u64, _: Option<u64>) {}
}

struct Yes;

impl Talk for Yes {
    fn show(&mut self, _: &Preview) {}

    fn ask(&mut self, _: &Question<'_>) -> Answer {
        Answer::Yes
    }
}

const SCRIPT: &str =
    "CREATE TABLE t (id INTEGER PRIMARY KEY, a INT); INSERT INTO t VALUES (1, 1), (2, 2), (3, 3);";

fn scene() -> Scene {
    Scene::with("no program", SCRIPT)
}

/// Does `work` on a scene with a logbook and an engine that fail as their fuses say.
fn with<T>(s: &Scene, book: &Fuse, engine: &Fuse, after: bool, work: impl FnOnce(&Context<'_>) -> T) -> T {
    let open = |id: &marktwice_core::receipt::DatabaseId| -> Result<Box<dyn Logbook>, LogError> {
        let inner = Box::new(Shelf::open(&s.path("book"), id)?);
        Ok(Box::new(FaultyBook { inner, fuse: book.clone() }))
    };
    let address = s.path("coop.db").display().to_string();
    let engine = FaultyEngine { inner: &Sqlite, fuse: engine.clone(), after };
    let context = Context {
        engine: &engine,
        address: &address,
        book: &open,
        ambient: &Clock,
        waits: Waits { lock: Duration::from_millis(200) },
        user: None,
    };
    work(&context)
}

fn change() -> Change {
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

fn apply_once(context: &Context<'_>) -> Result<RunOutcome, Failure> {
    let options = ApplyOptions { agreement: Agreement::Given, mark: None, hold: false, show: Show::First(5) };
    apply(context, &change(), &options, &mut Yes)
}

fn undo_once(context: &Context<'_>) -> Result<RunOutcome, Failure> {
    let options = UndoOptions {
        run: None,
        agreement: Agreement::Ask,
        allow: vec![],
        rows: None,
        policy: marktwice_core::undo::Policy::default(),
        only: Vec::new(),
        hold: true,
        show: Show::First(5),
    };
    undo(context, &options, &mut Yes)
}

/// What an attempt must have left behind, by what it says of itself.
fn check(
    s: &Scene,
    what: &str,
    result: &Result<RunOutcome, Failure>,
    before: &[String],
    after: &[String],
    went_through: bool,
) {
    let now = s.dump();
    match result.as_ref().map(|o| &o.end) {
        Ok(End::Committed | End::ReceiptIncomplete(_)) => assert_eq!(now, after, "{what}"),
        Ok(End::Unknown(_)) => assert_eq!(now, if went_through { after } else { before }, "{what}"),
        _ => assert_eq!(now, before, "{what}: {result:?}"),
    }
    // The next commands, on a healthy machine, find the truth.
    let settled =
        with(s, &Fuse::at(0), &Fuse::at(0), false, settle).unwrap_or_else(|e| panic!("{what}: {e}"));
    for one in &settled {
        let truth = if now == after { Verdict::Committed } else { Verdict::RolledBack };
        assert_eq!(one.verdict, truth, "{what}");
    }
    with(s, &Fuse::at(0), &Fuse::at(0), false, |context| {
        let session = context.engine.open(context.address, Intent::Read, context.waits).unwrap();
        let book = (context.book)(session.database()).unwrap();
        assert!(book.unsettled().unwrap().is_empty(), "{what}");
        let committed = history(&*book)
            .unwrap()
            .iter()
            .any(|e| e.receipt.state == RunState::Committed && !e.receipt.run.is_empty());
        if now == after && before != after {
            assert!(committed, "{what}: a committed run must be in the history");
        }
    });
}

#[test]
fn each_call_of_the_logbook_fails_once() {
    let healthy = Fuse::at(0);
    let s = scene();
    let before = s.dump();
    with(&s, &healthy, &Fuse::at(0), false, apply_once).unwrap();
    let after = s.dump();
    let applying = healthy.calls();
    assert!(applying >= 9, "mark (1 + 2 + 1), run, snapshot (1 + 2 + 1), two receipts: {applying}");
    for n in 1..=applying {
        let s = scene();
        let result = with(&s, &Fuse::at(n), &Fuse::at(0), false, apply_once);
        let last = n == applying;
        let incomplete = matches!(result.as_ref().map(|o| &o.end), Ok(End::ReceiptIncomplete(_)));
        assert_eq!(incomplete, last, "only the final receipt may fail after COMMIT: call {n}");
        check(&s, &format!("apply, logbook call {n}"), &result, &before, &after, false);
    }
    let undoing = Fuse::at(0);
    with(&s, &undoing, &Fuse::at(0), false, undo_once).unwrap();
    assert_eq!(s.dump(), before);
    for n in 1..=undoing.calls() {
        let s = scene();
        with(&s, &Fuse::at(0), &Fuse::at(0), false, apply_once).unwrap();
        let result = with(&s, &Fuse::at(n), &Fuse::at(0), false, undo_once);
        check(&s, &format!("undo, logbook call {n}"), &result, &after, &before, false);
    }
}

#[test]
fn each_call_of_the_engine_fails_once() {
    let s = scene();
    let before = s.dump();
    let healthy = Fuse::at(0);
    with(&s, &Fuse::at(0), &healthy, false, apply_once).unwrap();
    let after = s.dump();
    for n in 1..=healthy.calls() {
        for went_through in [false, true] {
            let s = scene();
            let result = with(&s, &Fuse::at(0), &Fuse::at(n), went_through, apply_once);
            let committed = matches!(result.as_ref().map(|o| &o.end), Ok(End::Committed));
            assert!(!committed, "call {n} failed and it committed all the same");
            check(
                &s,
                &format!("apply, engine call {n}, {went_through}"),
                &result,
                &before,
                &after,
                went_through,
            );
        }
    }
    let undoing = Fuse::at(0);
    with(&s, &Fuse::at(0), &undoing, false, undo_once).unwrap();
    for n in 1..=undoing.calls() {
        for went_through in [false, true] {
            let s = scene();
            with(&s, &Fuse::at(0), &Fuse::at(0), false, apply_once).unwrap();
            let result = with(&s, &Fuse::at(0), &Fuse::at(n), went_through, undo_once);
            check(
                &s,
                &format!("undo, engine call {n}, {went_through}"),
                &result,
                &after,
                &before,
                went_through,
            );
        }
    }
}

/// While one run's outcome is unknown, no other is begun.
#[test]
fn nothing_is_begun_over_an_unknown_outcome() {
    let s = scene();
    let calls = Fuse::at(0);
    with(&scene(), &Fuse::at(0), &calls, false, apply_once).unwrap();
    let lost = with(&s, &Fuse::at(0), &Fuse::at(calls.calls()), true, apply_once).unwrap();
    assert!(matches!(lost.end, End::Unknown(_)), "{:?}", lost.end);
    let mut next = change();
    next.source = "DELETE FROM t WHERE id < 3".into();
    let options = ApplyOptions { agreement: Agreement::Ask, mark: None, hold: false, show: Show::First(5) };
    let refused = with(&s, &Fuse::at(0), &Fuse::at(0), false, |c| apply(c, &next, &options, &mut Yes));
    assert!(matches!(refused, Err(Failure::Unsettled { .. })), "{refused:?}");
}
