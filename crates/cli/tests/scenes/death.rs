//! Killed in the middle: the database is as before, and the next command says what happened.

use crate::demo;

const SQL: &str = "UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5)";

#[test]
fn killed_inside_the_open_transaction() {
    let s = demo();
    let before = s.dump();
    let mut t = s.terminal(&["apply", "--sql", SQL, "--hold"]);
    t.wait_for("is open");
    t.kill();
    let (status, _) = t.end();
    assert_eq!(status, None, "it died of the signal");
    let run = s.receipt(&s.runs()[0])["run"].as_str().unwrap().to_owned();
    s.run(&["preview", "--sql", SQL])
        .expect(0)
        .says(&format!("run {run} was cut off before its COMMIT: it was rolled back, nothing changed"));
    assert_eq!(s.dump(), before);
    assert_eq!(s.receipt(&s.runs()[0])["state"], "rolled-back");
    s.run(&["preview", "--sql", SQL]).expect(0).says_not("cut off");
    s.run(&["settle"]).expect(0).says("Nothing to settle");
    s.run(&["apply", "--sql", SQL, "--rows", "2", "--yes"]).expect(0);
}

/// A large change spills into the file before COMMIT: the dead process leaves a hot journal behind.
#[test]
fn a_hot_journal_is_rolled_back_and_said() {
    let s = demo();
    let before = s.dump();
    let db = s.db();
    db.execute_batch("PRAGMA cache_size = 10; PRAGMA cache_spill = 1; BEGIN; UPDATE inspection SET note = hex(randomblob(200));").unwrap();
    // A copy taken now is what a machine finds after a power cut.
    let copy = s.path("cut");
    std::fs::create_dir(&copy).unwrap();
    for name in ["coop.db", "coop.db-journal"] {
        std::fs::copy(s.path(name), copy.join(name)).unwrap();
    }
    drop(db);
    let on = copy.join("coop.db");
    let on = on.to_str().unwrap();
    let sql = "UPDATE inspection SET note = 'x' WHERE inspection_id = 418";
    s.run(&["preview", "--sql", sql, "--on", on])
        .expect(0)
        .says("rolled its unfinished transaction back")
        .says("1 of 3 204");
    std::fs::rename(copy.join("coop.db"), s.path("coop.db")).unwrap();
    assert_eq!(s.dump(), before);
}

/// The moment between `committing` and the final receipt, put back by hand: the rows decide.
#[test]
fn a_run_that_was_committing_is_settled_by_its_rows() {
    for (committed, fits) in [(true, true), (false, true), (false, false)] {
        let s = demo();
        s.run(&["apply", "--sql", SQL, "--rows", "2", "--yes"]).expect(0);
        let folder = s.runs()[0].clone();
        let mut receipt = s.receipt(&folder);
        let run = receipt["run"].as_str().unwrap().to_owned();
        receipt["state"] = "committing".into();
        marktwice_logbook::seal(&mut receipt);
        std::fs::write(folder.join("receipt.json"), receipt.to_string()).unwrap();
        std::fs::write(s.shelf().join("unsettled").join(&run), folder.file_name().unwrap().to_str().unwrap())
            .unwrap();
        match (committed, fits) {
            (true, _) => {}
            (false, true) => s.sql("UPDATE keeper SET region = 'Dale' WHERE keeper_id IN (3, 5)"),
            (false, false) => s.sql("UPDATE keeper SET region = 'Fell' WHERE keeper_id = 3"),
        }
        s.run(&["apply", "--sql", "DELETE FROM sale WHERE sale_id = 1", "--rows", "1", "--yes"])
            .expect(7)
            .says("marktwice settle");
        let (status, word, state) = match (committed, fits) {
            (true, _) => (0, "committed: its rows are as it left them", "committed"),
            (false, true) => (0, "was rolled back", "rolled-back"),
            (false, false) => (7, "keeper 3", "committing"),
        };
        s.run(&["settle"]).expect(status).says(word);
        assert_eq!(s.receipt(&folder)["state"], state);
        let undone = match (committed, fits) {
            (true, _) => 0,
            (false, true) => 2,
            (false, false) => 7,
        };
        s.run(&["undo", &run, "--yes"]).expect(undone);
    }
}

/// SIGKILL at whatever moment it comes: wholly before or wholly after, and settle knows which.
#[test]
fn killed_at_any_moment() {
    let s = crate::scene(
        "CREATE TABLE t (id INTEGER PRIMARY KEY, a INT, noise BLOB);
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 4000)
         INSERT INTO t SELECT i, 0, randomblob(300) FROM n;",
    );
    let (mut deaths, mut committed) = (0, 0);
    for round in 1..=14u64 {
        let before = s.value("SELECT sum(a) FROM t");
        let sql = format!("UPDATE t SET a = a + {round} WHERE id > 0");
        let mut child = s
            .command()
            .args(["apply", "--rows", "4000", "--yes", "--sql", &sql])
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(round * 45));
        // It may have ended by itself already.
        let _ = child.kill();
        deaths += u64::from(child.wait().unwrap().code().is_none());
        let settled = s.run(&["settle", "--format", "json"]).expect(0).json();
        let after = s.value("SELECT sum(a) FROM t");
        let whole = s.value("SELECT count(*) FROM t WHERE a IN (SELECT a FROM t WHERE id = 1)");
        assert_eq!(whole, "integer:4000", "all rows or none");
        for run in settled["runs"].as_array().unwrap() {
            assert_eq!(run["verdict"] == "committed", after != before, "round {round}");
        }
        if after != before {
            committed += 1;
            s.run(&["undo", "@last", "--rows", "4000", "--yes"]).expect(0);
            assert_eq!(s.value("SELECT sum(a) FROM t"), before, "round {round}");
        }
    }
    let known = s.run(&["history", "--outcome", "undone", "--format", "json"]).json();
    assert_eq!(known["runs"].as_array().unwrap().len(), committed);
    assert!(deaths > 0, "at least the first is killed in time");
}
