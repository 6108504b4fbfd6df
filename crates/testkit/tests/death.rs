//! The process ends before each call of the logbook and of the engine, in apply and in undo: what is left is what
//! `docs/FAULTS.md` allows, and `settle` says which.

use std::process::Command;

use marktwice_core::RunState;
use marktwice_logbook::faults::{self, Fault};
use marktwice_port::Intent;
use marktwice_run::{End, Verdict, history, settle};
use marktwice_testkit::Fuse;
use marktwice_testkit::attempt::{Ground, apply_once, undo_once};
use marktwice_testkit::stage::On;

fn calls(g: &Ground, undoing: bool) -> (u64, u64) {
    let (book, engine) = (Fuse::at(0), Fuse::at(0));
    g.reset();
    if undoing {
        g.healthy(apply_once).expect("applied");
        g.with(&book, &engine, false, undo_once).expect("undone");
    } else {
        g.with(&book, &engine, false, apply_once).expect("applied");
    }
    (book.calls(), engine.calls())
}

fn die(g: &Ground, undoing: bool, place: &str, n: u64) -> bool {
    g.reset();
    let start = g.dump();
    g.healthy(apply_once).expect("applied");
    let applied = g.dump();
    if !undoing {
        g.reset();
    }
    let (before, after) = if undoing { (applied, start) } else { (start, applied) };
    let what = if undoing { "undo" } else { "apply" };
    let output = Command::new(env!("CARGO_BIN_EXE_crash"))
        .arg(g.path())
        .args([what, place, &n.to_string()])
        .output()
        .expect("started");
    let point = format!("{:?}, {what}, before call {n} of the {place}", g.engine());
    assert_eq!(
        output.status.code(),
        None,
        "{point}: it did not die: {}",
        String::from_utf8_lossy(&output.stdout)
    );
    let settled = g.healthy(|context| settle(context, None)).expect(&point).runs;
    // Reading opens the database first, so a hot journal is rolled back by now.
    let now = g.dump();
    assert!(now == before || now == after, "{point}: neither before nor after");
    assert_eq!(
        g.left(),
        usize::from(undoing) + usize::from(now == after),
        "{point}: each that committed left a row"
    );
    for one in &settled {
        let truth = if now == after { Verdict::Committed } else { Verdict::RolledBack };
        assert_eq!(one.verdict, truth, "{point}");
    }
    g.healthy(|context| {
        let session = context.engine.open(context.address, Intent::Read, context.waits).expect(&point);
        let book = (context.book)(session.database()).expect(&point);
        assert!(book.unsettled().expect(&point).is_empty(), "{point}");
        let kind = if undoing { marktwice_core::RunKind::Undo } else { marktwice_core::RunKind::Apply };
        let entries = history(&*book).expect(&point);
        let committed =
            entries.iter().any(|e| e.receipt.kind == kind && e.receipt.state == RunState::Committed);
        assert_eq!(committed, now == after, "{point}: the history knows what is in the database");
    });
    // And the next attempt works.
    let next = if undoing || now == after { undo_once } else { apply_once };
    if !(undoing && now == after) {
        g.healthy(next).expect(&point);
    }
    now == after
}

#[test]
fn the_process_dies_before_each_call() {
    for g in Ground::all() {
        for undoing in [false, true] {
            let (book, engine) = calls(&g, undoing);
            let points = g.points(book).into_iter();
            let after_commit: Vec<u64> = points.filter(|n| die(&g, undoing, "book", *n)).collect();
            assert_eq!(after_commit, [book], "only the final receipt comes after COMMIT");
            let points = g.points(engine).into_iter();
            let after_commit: Vec<u64> = points.filter(|n| die(&g, undoing, "engine", *n)).collect();
            assert!(after_commit.is_empty(), "COMMIT is the engine's last call");
        }
    }
}

/// How many actions on the file system an attempt takes.
fn actions(g: &Ground, undoing: bool) -> u64 {
    g.reset();
    if undoing {
        g.healthy(apply_once).expect("applied");
    }
    faults::arm(None);
    g.healthy(if undoing { undo_once } else { apply_once }).expect("done");
    faults::actions()
}

#[test]
fn the_process_dies_before_each_action_on_a_file() {
    let g = Ground::on(On::Sqlite).expect("SQLite is always there");
    for undoing in [false, true] {
        let all = actions(&g, undoing);
        assert!(all > 20, "folders, drafts, writes, syncs, renames: {all}");
        let after_commit: Vec<u64> = (1..=all).filter(|n| die(&g, undoing, "file", *n)).collect();
        // The final receipt: draft, write, sync, rename, sync of the folder; and the note that is removed.
        assert_eq!(after_commit, (all - 5..=all).collect::<Vec<_>>());
    }
}

#[test]
fn each_action_on_a_file_fails_for_want_of_room() {
    let g = Ground::on(On::Sqlite).expect("SQLite is always there");
    for undoing in [false, true] {
        for n in 1..=actions(&g, undoing) {
            g.reset();
            if undoing {
                g.healthy(apply_once).expect("applied");
            }
            let before = g.dump();
            faults::arm(Some((n, Fault::NoSpace)));
            let outcome = g.healthy(if undoing { undo_once } else { apply_once });
            faults::arm(None);
            let committed =
                matches!(outcome.as_ref().map(|o| &o.end), Ok(End::Committed | End::ReceiptIncomplete(_)));
            assert_eq!(g.dump() != before, committed, "action {n}: {outcome:?}");
            for one in g.healthy(|context| settle(context, None)).expect("settled").runs {
                assert_eq!(one.verdict == Verdict::Committed, committed, "action {n}");
            }
        }
    }
}
