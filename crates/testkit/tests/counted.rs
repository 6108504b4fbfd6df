//! What the work costs, counted and not timed: memory that is asked for and bytes that are read and written for each row, and how
//! often a server is asked and waited for. Bounds are what was counted when they were written, and a tenth more.

use std::alloc::System;
use std::io::{Read, Write};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use marktwice_core::{Change, Expect, Terms};
use marktwice_run::{End, RunOutcome, Show, preview};
use marktwice_testkit::Fuse;
use marktwice_testkit::attempt::{applied, undo_once, with};
use marktwice_testkit::stage::{On, Stage};
use stats_alloc::{INSTRUMENTED_SYSTEM, Region, StatsAlloc};

#[global_allocator]
static ALLOCATOR: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

/// Counts are those of the whole process.
static ALONE: Mutex<()> = Mutex::new(());

/// What some work has cost.
#[derive(Debug, Clone, Copy)]
struct Cost {
    /// How often memory was asked for.
    allocations: u64,
    /// Bytes that went through reading and writing calls.
    read: u64,
    written: u64,
}

/// Bytes that this process has read and written so far; none where the system does not tell.
fn traffic() -> (u64, u64) {
    let told = std::fs::read_to_string("/proc/self/io").unwrap_or_default();
    let of = |name: &str| {
        let line = told.lines().find_map(|line| line.strip_prefix(name));
        line.and_then(|n| n.trim().parse().ok()).unwrap_or_default()
    };
    (of("rchar:"), of("wchar:"))
}

fn cost(work: impl FnOnce()) -> Cost {
    let (read, written) = traffic();
    let region = Region::new(ALLOCATOR);
    work();
    let allocations = region.change().allocations as u64;
    let (read_then, written_then) = traffic();
    Cost { allocations, read: read_then - read, written: written_then - written }
}

fn committed(outcome: &RunOutcome) {
    assert!(matches!(outcome.end, End::Committed), "{:?}", outcome.end);
}

fn healthy(folder: &Path, work: impl FnOnce(&marktwice_run::Context<'_>)) {
    with(folder, &Fuse::at(0), &Fuse::at(0), false, work);
}

fn change(rows: u64, filter: &str) -> Change {
    let terms = Terms { rows: Some(Expect::Range(rows, Some(rows))), ..Terms::default() };
    Change::of(format!("UPDATE inspection SET weight = weight + 1 WHERE {filter}")).with(terms)
}

const TABLE: &str = "CREATE TABLE inspection (inspection_id INTEGER PRIMARY KEY, hive VARCHAR(40) NOT NULL, \
    words VARCHAR(200) NOT NULL, weight INTEGER, season INTEGER);";

/// What the application of a change to so many rows costs, and its undo.
fn of_rows(rows: u64) -> [Cost; 2] {
    let stage = Stage::on(On::Sqlite, "no program").expect("the embedded engine");
    stage.run(&format!(
        "{TABLE} WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows}) \
         INSERT INTO inspection SELECT i, 'hive ' || (i % 50), 'brood before eggs, frame ' || i || ', calm, seen by the keepers', i, 2026 FROM n;"
    ));
    let folder = stage.scene.path(".");
    let apply = cost(|| {
        healthy(&folder, |context| {
            committed(&applied(context, &change(rows, "season = 2026")).expect("a run"))
        });
    });
    let undo = cost(|| healthy(&folder, |context| committed(&undo_once(context).expect("an undo"))));
    [apply, undo]
}

#[test]
fn what_each_row_costs() {
    if std::env::var("MARKTWICE_TEST_ENGINES").is_ok_and(|only| !only.eq_ignore_ascii_case("sqlite")) {
        return;
    }
    let _alone = ALONE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let (few, many) = (of_rows(4_000), of_rows(20_000));
    // What a row more costs: what is paid once is in both.
    let each = |of: fn(&Cost) -> u64, at: usize| (of(&many[at]) - of(&few[at])) / 16_000;
    for (work, at, bounds) in [("apply", 0, [30, 183, 207]), ("undo", 1, [35, 210, 181])] {
        let found = [each(|c| c.allocations, at), each(|c| c.read, at), each(|c| c.written, at)];
        for (what, (found, bound)) in
            ["allocations", "bytes read", "bytes written"].into_iter().zip(found.into_iter().zip(bounds))
        {
            eprintln!("{work}: {found} {what} a row, {bound} at most");
            assert!(found <= bound, "{work}: {found} {what} a row, where {bound} were enough");
        }
    }
}

/// A logbook that has been in use for long makes no command slow: receipts that were read are not read again.
#[test]
fn what_earlier_runs_cost() {
    let _alone = ALONE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let stage = Stage::on(On::Sqlite, "no program");
    let Some(stage) = stage else { return };
    stage.run(&format!("{TABLE} INSERT INTO inspection VALUES (1, 'hive 3', 'calm', 0, 2026);"));
    let folder = stage.scene.path(".");
    let look = || {
        let change = change(1, "inspection_id = 1");
        cost(|| {
            healthy(&folder, |context| drop(preview(context, &change, Show::First(0)).expect("a preview")));
        })
    };
    let without = look();
    for n in 0..RUNS {
        // The same again would be asked about.
        let change = change(1, &format!("inspection_id = 1 AND season < {}", 3_000 + n));
        healthy(&folder, |context| committed(&applied(context, &change).expect("a run")));
    }
    // What was written just now is not taken for what will always be there.
    std::thread::sleep(Duration::from_millis(2_200));
    let (each, known) = (look(), look());
    let of_one = |cost: Cost| (cost.read - without.read) / RUNS;
    eprintln!("{} bytes read for an earlier run, {} where it is known", of_one(each), of_one(known));
    assert!(of_one(known) * 4 < of_one(each), "{known:?} {each:?} {without:?}");
}

/// Earlier runs.
const RUNS: u64 = 40;

/// Stands between a client and a server, and counts how often the one has to wait for the other.
fn between(path: &Path, server: &Path) -> Arc<AtomicU64> {
    let turns = Arc::new(AtomicU64::new(0));
    let (listener, server, counted) =
        (UnixListener::bind(path).expect("a socket"), server.to_owned(), turns.clone());
    std::thread::spawn(move || {
        for client in listener.incoming().flatten() {
            let server = UnixStream::connect(&server).expect("the server");
            let asks = Arc::new(AtomicBool::new(false));
            let pair = |stream: &UnixStream| stream.try_clone().expect("a socket");
            for (from, to, is_client) in [(pair(&client), pair(&server), true), (server, client, false)] {
                let (asks, turns) = (asks.clone(), counted.clone());
                std::thread::spawn(move || {
                    carry(from, to, &|| {
                        if asks.swap(is_client, Ordering::SeqCst) != is_client && is_client {
                            turns.fetch_add(1, Ordering::SeqCst);
                        }
                    })
                });
            }
        }
    });
    turns
}

fn carry(mut from: UnixStream, mut to: UnixStream, seen: &dyn Fn()) {
    let mut buffer = vec![0; 1 << 16];
    while let Ok(read @ 1..) = from.read(&mut buffer) {
        seen();
        if to.write_all(&buffer[..read]).is_err() {
            break;
        }
    }
    let _ = to.shutdown(std::net::Shutdown::Both);
}

#[test]
fn how_often_a_server_is_waited_for() {
    let _alone = ALONE.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    for (on, name, bounds) in [(On::Postgres, ".s.PGSQL.5432", [69, 56]), (On::Maria, "s", [53, 57])] {
        let Some(stage) = Stage::on(on, "no program") else { continue };
        stage.run(TABLE);
        stage.run("INSERT INTO inspection VALUES (1, 'Foxglove', 'eggs seen', 12, 2026), (2, 'Bramble', 'calm', 14, 2026);");
        let folder = stage.scene.path(".");
        let real = stage.server.expect("a server").socket();
        let turns = between(&folder.join(name), &real.join(name));
        let url = stage.url.replace(&real.display().to_string(), &folder.display().to_string());
        stage.scene.write("address", &url);
        let mut found = Vec::new();
        healthy(&folder, |context| {
            committed(&applied(context, &change(1, "inspection_id = 2")).expect("a run"));
            found.push(turns.swap(0, Ordering::SeqCst));
            committed(&undo_once(context).expect("an undo"));
            found.push(turns.swap(0, Ordering::SeqCst));
        });
        for (work, (found, bound)) in ["apply", "undo"].into_iter().zip(found.into_iter().zip(bounds)) {
            eprintln!("{on:?}, {work}: {found} round trips, {bound} at most");
            assert!(
                found <= bound,
                "{on:?}: {work} waits {found} times for the server, where {bound} were enough"
            );
        }
    }
}
