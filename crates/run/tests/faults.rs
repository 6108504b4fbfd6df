//! Every call of the logbook, and every call of the engine, fails once, at its turn: the database is then wholly
//! before or wholly after, the outcome says which, and the next command finds the truth.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    reason = "a test that cannot go on is to fail"
)]

use marktwice_core::RunState;
use marktwice_port::Intent;
use marktwice_run::{
    Agreement, ApplyOptions, Context, End, Failure, RunOutcome, Show, Verdict, apply, history, settle,
};
use marktwice_testkit::attempt::{SCRIPT, Yes, apply_once, change, undo_once};
use marktwice_testkit::{Fuse, Scene};

fn scene() -> Scene {
    Scene::with("no program", SCRIPT)
}

fn with<T>(
    s: &Scene,
    book: &Fuse,
    engine: &Fuse,
    goes_through: bool,
    work: impl FnOnce(&Context<'_>) -> T,
) -> T {
    marktwice_testkit::attempt::with(&s.path("."), book, engine, goes_through, work)
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
    for (n, late) in (1..=applying).flat_map(|n| [(n, false), (n, true)]) {
        let s = scene();
        let fuse = if late { Fuse::late(n) } else { Fuse::at(n) };
        let result = with(&s, &fuse, &Fuse::at(0), false, apply_once);
        let last = n == applying;
        let incomplete = matches!(result.as_ref().map(|o| &o.end), Ok(End::ReceiptIncomplete(_)));
        assert_eq!(incomplete, last, "only the final receipt may fail after COMMIT: call {n}");
        check(&s, &format!("apply, logbook call {n}, late {late}"), &result, &before, &after, false);
    }
    let undoing = Fuse::at(0);
    with(&s, &undoing, &Fuse::at(0), false, undo_once).unwrap();
    assert_eq!(s.dump(), before);
    for (n, late) in (1..=undoing.calls()).flat_map(|n| [(n, false), (n, true)]) {
        let s = scene();
        with(&s, &Fuse::at(0), &Fuse::at(0), false, apply_once).unwrap();
        let fuse = if late { Fuse::late(n) } else { Fuse::at(n) };
        let result = with(&s, &fuse, &Fuse::at(0), false, undo_once);
        check(&s, &format!("undo, logbook call {n}, late {late}"), &result, &after, &before, false);
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
        for (went_through, late) in [(false, false), (true, false), (false, true)] {
            let s = scene();
            let fuse = if late { Fuse::late(n) } else { Fuse::at(n) };
            let result = with(&s, &Fuse::at(0), &fuse, went_through, apply_once);
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
        for (went_through, late) in [(false, false), (true, false), (false, true)] {
            let s = scene();
            with(&s, &Fuse::at(0), &Fuse::at(0), false, apply_once).unwrap();
            let fuse = if late { Fuse::late(n) } else { Fuse::at(n) };
            let result = with(&s, &Fuse::at(0), &fuse, went_through, undo_once);
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
