//! Two real sessions at once: somebody else changes, deletes or brings in rows while an application is at work, holds
//! a lock for too long, or wants the locks in the other order.

use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use crate::{COOP, PROGRAM, each};
use marktwice_testkit::Answer;
use marktwice_testkit::sql::Db;
use marktwice_testkit::stage::{On, Stage};

/// Starts the program, to be waited for later.
fn start(stage: &Stage, args: &[&str]) -> Child {
    let mut command = stage.scene.command();
    command.args(args).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("started")
}

fn finish(child: Child) -> Answer {
    let output = child.wait_with_output().expect("ended");
    Answer {
        status: output.status.code(),
        out: String::from_utf8_lossy(&output.stdout).into_owned(),
        err: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}

/// Waits until a session on the server waits for a lock.
fn somebody_waits(stage: &Stage) {
    let mut db = stage.db();
    let query = match stage.on {
        On::Postgres => {
            "SELECT count(*) FROM pg_locks JOIN pg_stat_activity USING (pid) WHERE NOT granted AND datname = current_database()"
        }
        _ => {
            "SELECT count(*) FROM information_schema.innodb_trx AS t JOIN information_schema.processlist AS p ON p.id = t.trx_mysql_thread_id WHERE t.trx_state = 'LOCK WAIT' AND p.db = database()"
        }
    };
    let since = Instant::now();
    while ["0", "Int(0)"].contains(&db.value(query).as_str()) {
        assert!(since.elapsed() < Duration::from_secs(60), "nobody waits on {:?}", stage.on);
        // MariaDB gives the same answer again to whoever asks more often than ten times a second.
        std::thread::sleep(Duration::from_millis(250));
    }
}

fn servers(story: impl Fn(&Stage)) {
    Stage::servers(PROGRAM, |stage| {
        stage.run(COOP);
        story(stage);
    });
}

const SQL: &str = "UPDATE keeper SET region = 'Fell' WHERE region = 'Moor'";

/// Somebody else's transaction, open.
fn other(stage: &Stage, sql: &str) -> Db {
    let mut db = stage.db();
    db.run("BEGIN;");
    db.run(sql);
    db
}

#[test]
fn rows_that_change_or_go_during_the_application() {
    servers(|stage| {
        stage.run("INSERT INTO keeper VALUES (5, 'Una', NULL, 'Moor');");
        for meanwhile in [
            "UPDATE keeper SET region = 'Dale' WHERE keeper_id = 2;",
            "DELETE FROM keeper WHERE keeper_id = 5;",
        ] {
            let mut colleague = other(stage, meanwhile);
            let child = start(stage, &["apply", "--sql", SQL, "--rows", "1+", "--yes", "--wait", "60"]);
            somebody_waits(stage);
            colleague.run("COMMIT;");
            let before = stage.dump();
            let answer = finish(child);
            assert_eq!(answer.status, Some(5), "{:?} {}{}", stage.on, answer.out, answer.err);
            assert_eq!(stage.dump(), before, "{:?}", stage.on);
        }
        // A colleague who thinks better of it leaves everything as it was previewed.
        stage.run("UPDATE keeper SET region = 'Moor' WHERE keeper_id = 2;");
        let mut colleague = other(stage, "UPDATE keeper SET region = 'Dale' WHERE keeper_id = 2;");
        let child = start(stage, &["apply", "--sql", SQL, "--rows", "2", "--yes", "--wait", "60"]);
        somebody_waits(stage);
        colleague.run("ROLLBACK;");
        let answer = finish(child);
        assert_eq!(answer.status, Some(0), "{:?} {}{}", stage.on, answer.out, answer.err);
        stage.undo(&[], 0);
    });
}

#[test]
fn rows_that_come_in_during_the_application() {
    servers(|stage| {
        let mut colleague = other(stage, "INSERT INTO keeper VALUES (9, 'Una', NULL, 'Moor');");
        if stage.on == On::Maria {
            // The locking read waits for the newcomer and then sees it.
            let child = start(stage, &["apply", "--sql", SQL, "--rows", "2", "--yes", "--wait", "60"]);
            somebody_waits(stage);
            colleague.run("COMMIT;");
            assert_eq!(finish(child).status, Some(5));
            assert!(stage.value("SELECT count(*) FROM keeper WHERE region = 'Fell'").contains('0'));
        } else {
            // In this transaction's view the newcomer is not there, and it stays as it is.
            stage.apply(SQL, "2", 0);
            colleague.run("COMMIT;");
            assert_eq!(stage.value("SELECT region FROM keeper WHERE keeper_id = 9"), "Moor");
        }
    });
}

#[test]
fn a_lock_that_is_held_for_too_long() {
    each(|stage| {
        let before = stage.dump();
        let mut colleague = if stage.on == On::Sqlite {
            let mut db = stage.db();
            db.run("BEGIN IMMEDIATE; UPDATE keeper SET name = name WHERE keeper_id = 2;");
            db
        } else {
            other(stage, "UPDATE keeper SET name = 'x' WHERE keeper_id = 2;")
        };
        let answer = stage.scene.run(&["apply", "--sql", SQL, "--rows", "2", "--yes", "--wait", "1"]);
        assert_eq!(answer.status, Some(1), "{:?} {}", stage.on, answer.err);
        let answer = answer.says("locked").says("--wait");
        // A preview waits for nobody.
        stage.scene.run(&["preview", "--sql", SQL, "--wait", "1"]).expect(0);
        colleague.run("ROLLBACK;");
        assert_eq!(stage.dump(), before, "{}", answer.err);
        stage.apply(SQL, "2", 0);
    });
}

#[test]
fn a_deadlock_ends_on_one_side_wholly() {
    servers(|stage| {
        let start_dump = stage.dump();
        let mut colleague = other(stage, "UPDATE keeper SET name = 'them' WHERE keeper_id = 3;");
        let child = start(stage, &["apply", "--sql", SQL, "--rows", "2", "--yes", "--wait", "60"]);
        somebody_waits(stage);
        let theirs = colleague.try_run("UPDATE keeper SET name = 'them' WHERE keeper_id = 2;");
        let ended = colleague.try_run(if theirs.is_ok() { "COMMIT;" } else { "ROLLBACK;" });
        assert!(ended.is_ok(), "{ended:?}");
        let answer = finish(child);
        let ours = stage.value("SELECT count(*) FROM keeper WHERE region = 'Fell'").contains('2');
        let all = (answer.status, theirs.is_ok(), ours);
        match stage.on {
            // Whoever is chosen, the other one goes on; and rows that changed meanwhile stop us too.
            _ if theirs.is_ok() => {
                assert!(matches!(answer.status, Some(1 | 5)) && !ours, "{all:?} {}", answer.err)
            }
            _ => {
                assert_eq!(all, (Some(0), false, true), "{}", answer.err);
                stage.undo(&[], 0);
                assert_eq!(stage.dump(), start_dump);
            }
        }
    });
}

#[test]
fn a_statement_that_takes_too_long() {
    each(|stage| {
        let before = stage.dump();
        let sql = stage.by(
            "UPDATE keeper SET name = (WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) SELECT max(x) FROM n) WHERE keeper_id = 1",
            "UPDATE keeper SET name = name || coalesce(pg_sleep(20)::text, '') WHERE keeper_id = 1",
            "UPDATE keeper SET name = concat(name, sleep(20)) WHERE keeper_id = 1",
        );
        let since = Instant::now();
        let answer = stage.scene.run(&["apply", "--sql", sql, "--rows", "1", "--yes", "--time-limit", "1"]);
        assert_eq!(answer.status, Some(1), "{:?} {}{}", stage.on, answer.out, answer.err);
        answer.says("longer than");
        assert!(since.elapsed() < Duration::from_secs(19));
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn the_server_ends_the_connection_in_the_open_transaction() {
    servers(|stage| {
        let before = stage.dump();
        let mut terminal = stage.scene.terminal(&["apply", "--sql", SQL, "--rows", "2", "--hold"]);
        terminal.wait_for("[y/N]");
        let mut db = stage.db();
        match stage.on {
            On::Postgres => {
                db.value("SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE application_name = 'marktwice' AND datname = current_database()");
            }
            _ => {
                let id = db.rows("SELECT id FROM information_schema.processlist WHERE db = database() AND id <> connection_id()");
                let id: String = id[0][0].chars().filter(char::is_ascii_digit).collect();
                db.run(&format!("KILL {id};"));
            }
        }
        terminal.write("y\n");
        let (status, said) = terminal.end();
        assert_eq!(status, Some(1), "{:?} {said}", stage.on);
        assert!(said.contains("nothing changed"), "{said}");
        assert_eq!(stage.dump(), before);
        stage.scene.run(&["settle"]).expect(0);
        stage.there_and_back(SQL, "2");
    });
}
