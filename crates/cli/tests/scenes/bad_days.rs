//! Bad input and bad days: one clear error, the right status, nothing changed, nothing lost.

use std::time::Duration;

use crate::{PROGRAM, demo, scene};
use marktwice_testkit::{Scene, finished};

const SQL: &str = "UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5)";
const APPLY: [&str; 6] = ["apply", "--sql", SQL, "--rows", "2", "--yes"];

#[test]
fn databases_that_are_none() {
    let s = demo();
    s.run(&["preview", "--sql", SQL, "--on", "none.db"]).expect(1).says("there is no file none.db");
    assert!(!s.path("none.db").exists(), "it is not made");
    s.write(
        "text.db",
        "This is no database, only a longer text than a header has, so that the engine reads it whole.",
    );
    s.run(&["preview", "--sql", SQL, "--on", "text.db"]).expect(1).says("text.db is not a SQLite database");
    s.run(&["preview", "--sql", SQL, "--on", "."]).expect(1).says("is a folder");
    s.write("empty.db", "");
    s.run(&["preview", "--sql", SQL, "--on", "empty.db"]).expect(3).says("no table keeper");
}

#[test]
fn locked_by_another_writer_beyond_the_waiting_time() {
    let s = demo();
    let before = s.dump();
    let writer = s.db();
    writer.execute_batch("BEGIN IMMEDIATE").unwrap();
    s.run(&[&APPLY[..], &["--wait", "0.2"]].concat())
        .expect(1)
        .says("coop.db is locked by another process; waited 0.2 s")
        .says("Rolled back");
    drop(writer);
    assert_eq!(s.dump(), before);
    s.run(&APPLY).expect(0);
}

#[test]
fn commit_answered_busy() {
    let s = demo();
    let before = s.dump();
    let reader = s.db();
    reader.execute_batch("BEGIN").unwrap();
    let count: i64 = reader.query_row("SELECT count(*) FROM keeper", [], |r| r.get(0)).unwrap();
    assert_eq!(count, 24);
    s.run(&[&APPLY[..], &["--wait", "0.3"]].concat())
        .expect(1)
        .says("being read by another process")
        .says("Rolled back");
    assert_eq!(s.receipt(&s.runs()[0])["state"], "rolled-back");
    // A reader that goes in time is waited for.
    let waiting = std::thread::spawn(move || {
        std::thread::sleep(Duration::from_millis(700));
        drop(reader);
    });
    assert_eq!(s.dump(), before);
    s.run(&[&APPLY[..], &["--wait", "60"]].concat()).expect(0);
    waiting.join().unwrap();
}

#[test]
fn a_preview_gets_past_a_writer() {
    let s = demo();
    let writer = s.db();
    writer.execute_batch("BEGIN IMMEDIATE; UPDATE keeper SET region = 'x' WHERE keeper_id = 1").unwrap();
    s.run(&["preview", "--sql", SQL]).expect(0).says("2 of 24");
    writer.execute_batch("ROLLBACK").unwrap();
    writer.execute_batch("BEGIN EXCLUSIVE").unwrap();
    s.run(&["preview", "--sql", SQL, "--wait", "0.2"]).expect(1).says("locked by another process");
}

#[test]
fn broken_constraints_name_the_row() {
    let s = demo();
    let before = s.dump();
    for (sql, rows, part) in [
        (
            "UPDATE keeper SET email = 'tam.birkett@heathermoor.example' WHERE keeper_id = 4",
            "1",
            "as keeper 5)",
        ),
        (
            "UPDATE keeper SET email = 'x' WHERE keeper_id IN (4, 6)",
            "2",
            "2 rows would hold the same email: keeper 4 and 6 (x)",
        ),
        (
            "UPDATE keeper SET name = NULL WHERE keeper_id = 4",
            "1",
            "name of 1 row would be NULL, which it refuses: keeper 4",
        ),
        ("UPDATE hive SET queen_colour = 'purple' WHERE hive_id = 2", "1", "CHECK constraint failed"),
        (
            "UPDATE hive SET apiary_id = 99 WHERE hive_id = 2",
            "1",
            "would refer to what apiary does not have: hive 2 (99)",
        ),
        ("UPDATE sale SET sale_id = 2 WHERE sale_id = 1", "1", "UNIQUE constraint failed"),
        ("DELETE FROM keeper WHERE keeper_id <= 24 AND keeper_id > 0", "24", "of apiary refer to these by"),
        ("UPDATE keeper SET keeper_id = 'x' WHERE keeper_id = 4", "1", "mismatch"),
        (
            "DELETE FROM batch WHERE batch_id IN (SELECT batch_id FROM sale WHERE sale_id = 1)",
            "1",
            "of sale refer to these by batch_id",
        ),
    ] {
        s.run(&["apply", "--sql", sql, "--rows", rows, "--yes"])
            .expect(1)
            .says(part)
            .says("Rolled back; nothing changed");
        assert_eq!(s.dump(), before, "{sql}");
    }
    // A constraint that waits for COMMIT is a definite refusal, too.
    let s = scene("CREATE TABLE p (id INTEGER PRIMARY KEY); INSERT INTO p VALUES (1);
         CREATE TABLE c (id INTEGER PRIMARY KEY, p INT REFERENCES p (id) DEFERRABLE INITIALLY DEFERRED); INSERT INTO c VALUES (1, 1);");
    let before = s.dump();
    s.run(&["apply", "--sql", "DELETE FROM p WHERE id = 1", "--rows", "1", "--yes"])
        .expect(1)
        .says("FOREIGN KEY")
        .says("Rolled back");
    assert_eq!(s.dump(), before);
    assert_eq!(s.receipt(&s.runs()[0])["state"], "rolled-back");
}

#[test]
fn triggers_that_interfere() {
    let make = |body: &str| {
        scene(&format!(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, a INT); INSERT INTO t VALUES (1, 1), (2, 2);
             CREATE TRIGGER g BEFORE UPDATE ON t BEGIN {body}; END;
             CREATE TRIGGER h BEFORE DELETE ON t BEGIN {body}; END;"
        ))
    };
    let update = ["apply", "--sql", "UPDATE t SET a = 9 WHERE id = 1", "--rows", "1", "--yes"];
    let s = make("SELECT RAISE(ABORT, 'not on Sundays')");
    s.run(&update).expect(1).says("not on Sundays");
    let s = make("SELECT RAISE(ROLLBACK, 'never')");
    s.run(&update).expect(1).says("never");
    // A trigger that skips rows without a word: for an UPDATE the outcome counts as unknown, a DELETE is found out.
    let s = make("SELECT RAISE(IGNORE)");
    let json = s.run(&["preview", "--sql", "UPDATE t SET a = 9 WHERE id = 1", "--format", "json"]).step();
    assert_eq!(json["foreseen"][0]["label"], "unknown");
    s.run(&["apply", "--sql", "DELETE FROM t WHERE id = 1", "--rows", "1", "--yes"])
        .expect(4)
        .says("t 1  is still there");
    assert_eq!(s.value("SELECT count(*) FROM t"), "integer:2");
}

#[test]
fn a_logbook_that_cannot_be_written() {
    let s = demo();
    let before = s.dump();
    s.write("file", "");
    for command in [&["preview", "--sql", SQL][..], &APPLY[..]] {
        s.run(&[command, &["--logbook", "file/book"]].concat())
            .expect(1)
            .says("cannot make the folder")
            .says("--logbook DIR");
    }
    assert_eq!(s.dump(), before);
}

/// A file size limit stands for a full disk: the write fails in the same way, at whatever file grows too large.
#[cfg(unix)]
#[test]
fn no_room_for_the_snapshot_before_commit() {
    let s = scene("CREATE TABLE t (id INTEGER PRIMARY KEY, a INT, noise BLOB);");
    // Noise does not compress, so the snapshot outgrows the limit where marks and receipts do not.
    s.sql("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 400) INSERT INTO t SELECT i, 1, randomblob(2000) FROM n");
    let before = s.dump();
    let run = "ulimit -f \"$1\"; shift; exec \"$@\"";
    let limited = |blocks: &str| {
        let mut command = std::process::Command::new("bash");
        command.args(["-c", run, "bash", blocks, PROGRAM]).current_dir(s.path("."));
        command.env("HOME", s.path(".")).env("TMPDIR", s.path("."));
        finished(command.args([
            "apply",
            "--sql",
            "UPDATE t SET a = 2 WHERE id > 0",
            "--rows",
            "400",
            "--yes",
        ]))
    };
    for blocks in ["60", "300", "700"] {
        let answer = limited(blocks);
        assert_ne!(answer.status, Some(0), "{blocks}: {}{}", answer.out, answer.err);
        assert_eq!(answer.status, Some(1), "{blocks}: {}{}", answer.out, answer.err);
        assert_eq!(s.dump(), before, "{blocks}");
    }
    s.run(&["apply", "--sql", "UPDATE t SET a = 2 WHERE id > 0", "--rows", "400", "--yes"]).expect(0);
}

#[cfg(unix)]
fn mode(s: &Scene, path: &str, mode: u32) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(s.path(path), std::fs::Permissions::from_mode(mode)).unwrap();
}

/// Runs the program as somebody to whom a file that is read-only is that: root becomes nobody, with a program that nobody
/// may start.
#[cfg(unix)]
fn without_rights(s: &Scene, args: &[&str]) -> marktwice_testkit::Answer {
    let me = finished(std::process::Command::new("id").arg("-u")).out;
    if me.trim() != "0" {
        return s.run(args);
    }
    mode(s, ".", 0o777);
    std::fs::copy(PROGRAM, s.path("program")).unwrap();
    mode(s, "program", 0o755);
    let mut command = std::process::Command::new("setpriv");
    command
        .args(["--reuid=65534", "--regid=65534", "--clear-groups"])
        .arg(s.path("program"))
        .current_dir(s.path("."));
    finished(command.env("HOME", s.path(".")).args(args))
}

#[cfg(unix)]
#[test]
fn a_read_only_database() {
    let s = demo();
    mode(&s, "coop.db", 0o444);
    without_rights(&s, &APPLY).expect(1).says("read-only");
    mode(&s, "coop.db", 0o644);
    assert_eq!(
        s.value("SELECT count(*) FROM keeper WHERE region = 'Dale' AND keeper_id IN (3, 5)"),
        "integer:2"
    );
}

#[cfg(unix)]
#[test]
fn a_reader_leaves_nothing_beside_a_database_that_is_anothers() {
    let s = demo();
    s.db().pragma_update(None, "journal_mode", "wal").unwrap();
    mode(&s, "coop.db", 0o444);
    without_rights(&s, &["preview", "--sql", SQL])
        .expect(0)
        .says("2 of 24 rows match")
        .says("without a lock");
    without_rights(&s, &["look", "keeper"]).expect(0).says("24 rows");
    without_rights(&s, &APPLY).expect(1).says("read-only");
    for beside in ["coop.db-wal", "coop.db-shm"] {
        assert!(!s.path(beside).exists(), "{beside}");
    }
    mode(&s, "coop.db", 0o644);
    s.run(&APPLY).expect(0);
}

#[cfg(unix)]
#[test]
fn a_logbook_that_everybody_may_write_is_told() {
    let s = demo();
    std::fs::create_dir(s.path("book")).unwrap();
    mode(&s, "book", 0o777);
    let preview = ["preview", "--sql", SQL, "--logbook", "book"];
    s.run(&preview).expect(0).says("chmod o-w book");
    mode(&s, "book", 0o770);
    s.run(&preview).expect(0).says_not("chmod");
}

#[test]
fn two_at_once_one_is_told() {
    let s = demo();
    let mut t = s.terminal(&["apply", "--sql", SQL, "--hold"]);
    t.wait_for("is open");
    s.run(&["apply", "--sql", "DELETE FROM sale WHERE sale_id = 1", "--rows", "1", "--yes"])
        .expect(1)
        .says("another marktwice is at work");
    s.run(&["preview", "--sql", "DELETE FROM sale WHERE sale_id = 1"]).expect(0).says_not("cut off");
    t.write("y\n");
    assert_eq!(t.end().0, Some(0));
}

#[test]
fn names_of_our_own_do_not_meet_the_users() {
    let s = scene(
        "CREATE TABLE marktwice_held (marktwice_b0 INTEGER PRIMARY KEY, marktwice_ordinal TEXT, a INT);
         INSERT INTO marktwice_held VALUES (1, 'x', 1), (2, 'y', 2);",
    );
    let before = s.dump();
    let answer = s.run(&[
        "apply",
        "--sql",
        "UPDATE marktwice_held SET a = 5 WHERE marktwice_ordinal = 'x'",
        "--rows",
        "1",
        "--yes",
    ]);
    if answer.status == Some(0) {
        assert_eq!(s.value("SELECT group_concat(a) FROM marktwice_held"), "text:'5,2'");
    } else {
        assert_eq!(s.dump(), before, "{}", answer.err);
    }
}

#[test]
fn an_empty_scene_has_no_database() {
    Scene::empty(PROGRAM).run(&["history"]).expect(1).says("there is no file");
}

/// Many at once, from two folders and with two logbooks: each commits or is told, and none is lost.
#[test]
fn many_at_once() {
    let s = demo();
    std::fs::create_dir(s.path("elsewhere")).unwrap();
    let on = s.path("coop.db");
    let workers: Vec<_> = (1..=8)
        .map(|id| {
            let mut command = s.command();
            command.current_dir(s.path(if id % 2 == 0 { "elsewhere" } else { "." }));
            command.args(["--on", on.to_str().unwrap(), "--wait", "60", "--logbook"]);
            command.arg(s.path(if id <= 4 { "one" } else { "two" }));
            command.args([
                "apply",
                "--yes",
                "--rows",
                "1",
                "--sql",
                &format!("UPDATE sale SET kilos = 1234 WHERE sale_id = {id}"),
            ]);
            std::thread::spawn(move || (id, finished(&mut command)))
        })
        .collect();
    let mut committed = Vec::new();
    for worker in workers {
        let (id, answer) = worker.join().unwrap();
        match answer.status {
            Some(0) => committed.push(id.to_string()),
            Some(1) => drop(answer.says("another marktwice is at work")),
            other => panic!("{other:?}\n{}{}", answer.out, answer.err),
        }
    }
    committed.sort();
    assert!(!committed.is_empty());
    let ids =
        s.value("SELECT group_concat(sale_id) FROM (SELECT sale_id FROM sale WHERE kilos = 1234 ORDER BY 1)");
    assert_eq!(ids, format!("text:'{}'", committed.join(",")));
    let known: usize = ["one", "two"]
        .iter()
        .map(|book| s.run(&["history", "--logbook", book, "--outcome", "committed", "--format", "json"]).json()["runs"].as_array().unwrap().len())
        .sum();
    assert_eq!(known, committed.len());
}
