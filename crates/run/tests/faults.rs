//! Every call of the logbook, and every call of the engine, fails once, at its turn: the database is then wholly
//! before or wholly after, the outcome says which, and the next command finds the truth.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    reason = "a test that cannot go on is to fail"
)]

use marktwice_core::archive::Made;
use marktwice_core::{Change, RunState};
use marktwice_port::Intent;
use marktwice_run::{
    Agreement, ApplyOptions, Context, End, Failure, RunOutcome, Show, Verdict, apply, history, settle,
};
use marktwice_testkit::Fuse;
use marktwice_testkit::attempt::{Ground, Yes, apply_once, make_once, undo_once};

/// What an attempt must have left behind, by what it says of itself.
fn check(
    g: &Ground,
    what: &str,
    result: &Result<RunOutcome, Failure>,
    before: &[String],
    after: &[String],
    went_through: bool,
) {
    let now = g.dump();
    match result.as_ref().map(|o| &o.end) {
        Ok(End::Committed | End::ReceiptIncomplete(_)) => assert_eq!(now, after, "{what}"),
        Ok(End::Unknown(_)) => assert_eq!(now, if went_through { after } else { before }, "{what}"),
        _ => assert_eq!(now, before, "{what}: {result:?}"),
    }
    // A table that was made for rows that are put away is there, or it is rolled back, or it is said that it may be there.
    if let Ok(Some(receipt)) = result.as_ref().map(|outcome| &outcome.receipt)
        && let Some(making) = receipt.makes.first()
    {
        let there = g.is_there("made");
        let said = match (making.inside, making.made) {
            (_, Made::Unknown) => there,
            (true, _) => now == after,
            (false, made) => made == Made::Yes,
        };
        assert_eq!(there, said, "{what}: {making:?}");
    }
    // The next commands, on a healthy machine, find the truth.
    let settled = g.healthy(|context| settle(context, None)).unwrap_or_else(|e| panic!("{what}: {e}")).runs;
    for one in &settled {
        let truth = if now == after { Verdict::Committed } else { Verdict::RolledBack };
        assert_eq!(one.verdict, truth, "{what}");
    }
    g.healthy(|context| {
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

/// The attempts: what they start from, what they leave, and how many calls they make.
struct Attempt {
    what: &'static str,
    run: fn(&Context<'_>) -> Result<RunOutcome, Failure>,
    prepare: fn(&Ground),
    before: Vec<String>,
    after: Vec<String>,
    book_calls: u64,
    engine_calls: u64,
}

fn attempts(g: &Ground) -> [Attempt; 3] {
    let applied = |g: &Ground| {
        g.reset();
        g.healthy(apply_once).unwrap();
    };
    let one = |what, run: fn(&Context<'_>) -> Result<RunOutcome, Failure>, prepare: fn(&Ground)| {
        prepare(g);
        let before = g.dump();
        let (book, engine) = (Fuse::at(0), Fuse::at(0));
        g.with(&book, &engine, false, run).unwrap();
        Attempt {
            what,
            run,
            prepare,
            before,
            after: g.dump(),
            book_calls: book.calls(),
            engine_calls: engine.calls(),
        }
    };
    let all = [
        one("apply", apply_once, Ground::reset),
        one("undo", undo_once, applied),
        one("make", make_once, Ground::reset),
    ];
    assert_eq!(all[1].after, all[0].before, "an undo brings back the start");
    all
}

#[test]
fn each_call_of_the_logbook_fails_once() {
    for g in Ground::all() {
        for a in attempts(&g) {
            assert!(
                a.book_calls >= 9 || a.what == "undo",
                "mark, run, snapshot, two receipts: {}",
                a.book_calls
            );
            for (n, late) in g.points(a.book_calls).into_iter().flat_map(|n| [(n, false), (n, true)]) {
                (a.prepare)(&g);
                let fuse = if late { Fuse::late(n) } else { Fuse::at(n) };
                let result = g.with(&fuse, &Fuse::at(0), false, a.run);
                let incomplete = matches!(result.as_ref().map(|o| &o.end), Ok(End::ReceiptIncomplete(_)));
                assert_eq!(
                    incomplete,
                    n == a.book_calls,
                    "only the final receipt may fail after COMMIT: call {n}"
                );
                let point = format!("{:?} {}, logbook call {n}, late {late}", g.engine(), a.what);
                check(&g, &point, &result, &a.before, &a.after, false);
            }
        }
    }
}

#[test]
fn each_call_of_the_engine_fails_once() {
    for g in Ground::all() {
        for a in attempts(&g) {
            for n in g.points(a.engine_calls) {
                for (went_through, late) in [(false, false), (true, false), (false, true)] {
                    (a.prepare)(&g);
                    let fuse = if late { Fuse::late(n) } else { Fuse::at(n) };
                    let result = g.with(&Fuse::at(0), &fuse, went_through, a.run);
                    let committed = matches!(result.as_ref().map(|o| &o.end), Ok(End::Committed));
                    assert!(!committed, "call {n} failed and it committed all the same");
                    let point =
                        format!("{:?} {}, engine call {n}, {went_through}, late {late}", g.engine(), a.what);
                    check(&g, &point, &result, &a.before, &a.after, went_through);
                }
            }
        }
    }
}

/// While one run's outcome is unknown, no other is begun.
#[test]
fn nothing_is_begun_over_an_unknown_outcome() {
    for g in Ground::all() {
        let calls = Fuse::at(0);
        g.with(&Fuse::at(0), &calls, false, apply_once).unwrap();
        g.reset();
        let lost = g.with(&Fuse::at(0), &Fuse::at(calls.calls()), true, apply_once).unwrap();
        assert!(matches!(lost.end, End::Unknown(_)), "{:?}", lost.end);
        let next = Change::of("DELETE FROM t WHERE id < 3");
        let options = ApplyOptions {
            agreement: Agreement::Ask,
            mark: None,
            hold: false,
            show: Show::First(5),
            copy_database: None,
            keep_copy: None,
            most_rows: None,
            previewed: None,
        };
        let refused = g.healthy(|c| apply(c, &next, &options, &mut Yes));
        assert!(matches!(refused, Err(Failure::Unsettled { .. })), "{refused:?}");
    }
}
