//! What became of a run is found out, never guessed; and where nobody can tell, a person's word sets it aside.

use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;

use crate::{COOP, PROGRAM, each};
use marktwice_testkit::Scene;
use marktwice_testkit::servers::{Brand, start};
use marktwice_testkit::sql::Db;
use marktwice_testkit::stage::{On, Stage};

const SQL: &str = "UPDATE keeper SET region = 'Fell' WHERE keeper_id IN (1, 3)";

/// The newest run's folder and receipt, put back to the moment before its COMMIT.
fn committing(stage: &Stage, note: bool) -> (String, PathBuf) {
    let folder = stage.scene.runs().pop().unwrap();
    let mut receipt = stage.scene.receipt(&folder);
    let run = receipt["run"].as_str().unwrap().to_owned();
    receipt["state"] = "committing".into();
    marktwice_logbook::seal(&mut receipt);
    std::fs::write(folder.join("receipt.json"), receipt.to_string()).unwrap();
    if note {
        let note = stage.scene.shelf().join("unsettled").join(&run);
        std::fs::write(note, folder.file_name().unwrap().to_str().unwrap()).unwrap();
    }
    (run, folder)
}

#[test]
fn rows_and_record_are_both_asked() {
    each(|stage| {
        stage.apply(SQL, "2", 0);
        let (run, _) = committing(stage, false);
        // A lost note is no reason to forget the run.
        stage.apply("DELETE FROM hive WHERE hive_id = 10", "1", 7).says("settle");
        // Somebody has changed one row since, and one is back as it was.
        stage.run("UPDATE keeper SET region = 'Else' WHERE keeper_id = 1; UPDATE keeper SET region = 'Moor' WHERE keeper_id = 3;".replace("; ", ";\n").as_str());
        if stage.on == On::Postgres {
            let settled = stage.scene.run(&["settle"]).expect(0);
            settled
                .says("committed, says the server's own record")
                .says("1 row is as before it, 1 row is neither")
                .says("keeper 1")
                .says_not("keeper 3");
        } else {
            let settled = stage.scene.run(&["settle"]).expect(7).says("Undecidable");
            settled.says("1 row is as before it, 1 row is neither").says("keeper 1").says_not("keeper 3");
            stage
                .scene
                .run(&["settle", &run, "--aside", "--reason", "looked at by hand"])
                .expect(0)
                .says("set aside");
            stage.scene.run(&["history"]).expect(0).says("set aside").says("looked at by hand");
        }
        stage.run("UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (1, 3);");
        stage.there_and_back("DELETE FROM hive WHERE hive_id = 10", "1");
    });
}

#[test]
fn a_server_that_was_put_back_contradicts_itself() {
    each(|stage| {
        if stage.on != On::Postgres {
            return;
        }
        stage.apply(SQL, "2", 0);
        let (run, _) = committing(stage, true);
        stage.run("UPDATE keeper SET region = 'Dale' WHERE keeper_id = 1; UPDATE keeper SET region = 'Moor' WHERE keeper_id = 3;");
        stage.scene.run(&["settle"]).expect(7).says("Undecidable").says("backup").says("as they were before");
        stage.scene.run(&["undo", &run, "--yes"]).expect(7);
        stage.scene.run(&["settle", &run, "--aside", "--reason", "restored on Monday"]).expect(0);
        stage.scene.run(&["settle"]).expect(0).says("Nothing to settle");
        stage.there_and_back(SQL, "2");
    });
}

#[test]
fn damaged_files_block_nothing_for_ever() {
    each(|stage| {
        stage.apply(SQL, "2", 0);
        let (run, folder) = committing(stage, true);
        let snapshot = folder.join("rows.jsonl.zst");
        std::fs::write(&snapshot, b"torn").unwrap();
        let settled = stage.scene.run(&["settle"]);
        assert_eq!(
            settled.status,
            Some(if stage.on == On::Postgres { 0 } else { 7 }),
            "{}{}",
            settled.out,
            settled.err
        );
        settled.says("were not compared");
        if stage.on != On::Postgres {
            stage.scene.run(&["settle", &run, "--aside", "--reason", "no snapshot"]).expect(0);
        }
        // A receipt that nobody can read.
        stage.apply("UPDATE hive SET kilos = 1 WHERE hive_id = 10", "1", 0);
        let (run, folder) = committing(stage, true);
        std::fs::write(folder.join("receipt.json"), b"{ \"torn").unwrap();
        stage
            .scene
            .run(&["preview", "--sql", SQL, "--allow", "already-run"])
            .says("is damaged")
            .says("--aside");
        stage.scene.run(&["history"]).expect(0).says("is damaged");
        stage.scene.run(&["settle"]).expect(7).says("is damaged").says_not("every run is known");
        stage.apply("UPDATE hive SET kilos = 2 WHERE hive_id = 10", "1", 7);
        stage.scene.run(&["settle", &run, "--aside"]).expect(2);
        stage.scene.run(&["settle", "nope", "--aside", "--reason", "x"]).expect(2);
        stage
            .scene
            .run(&["settle", &run, "--aside", "--reason", "disk trouble"])
            .expect(0)
            .says("could not be read");
        assert!(folder.join("receipt.damaged.json").exists());
        stage.apply("UPDATE hive SET kilos = 2 WHERE hive_id = 10", "1", 0);
        stage.scene.run(&["history"]).expect(0).says("set aside");
        // What is settled is not set aside.
        let known = stage.scene.runs().pop().unwrap();
        let known = stage.scene.receipt(&known)["run"].as_str().unwrap().to_owned();
        stage.scene.run(&["settle", &known, "--aside", "--reason", "x"]).expect(2).says("is known");
    });
}

#[test]
fn a_commit_that_is_still_on_its_way() {
    // A server whose COMMIT waits for a replica that does not come: the rows are not there yet, and then they are.
    let options = [
        "--skip-networking",
        "--log-bin=log",
        "--server-id=7",
        "--binlog-format=ROW",
        "--rpl-semi-sync-master-wait-point=AFTER_SYNC",
        "--rpl-semi-sync-master-wait-no-slave=1",
        "--rpl-semi-sync-master-timeout=4000",
    ];
    let Some(server) = start(Brand::Maria, &options) else { return };
    let url = server.database();
    let scene = Scene::on(PROGRAM, &url);
    let mut db = Db::open(&url);
    db.run(COOP);
    db.run("SET GLOBAL rpl_semi_sync_master_enabled = 1;");
    let mut child = scene
        .command()
        .args(["apply", "--sql", SQL, "--rows", "2", "--yes"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    // Its client dies meanwhile.
    let committing = || {
        let books = std::fs::read_dir(scene.path("book")).into_iter().flatten().flatten();
        let runs =
            books.flat_map(|b| std::fs::read_dir(b.path().join("runs")).into_iter().flatten().flatten());
        runs.map(|r| std::fs::read_to_string(r.path().join("receipt.json")).unwrap_or_default())
            .any(|receipt| receipt.contains("\"committing\""))
    };
    while !committing() {
        assert!(child.try_wait().unwrap().is_none(), "it waits for its COMMIT");
        std::thread::sleep(Duration::from_millis(5));
    }
    std::thread::sleep(Duration::from_millis(500));
    child.kill().unwrap();
    child.wait().unwrap();
    scene.run(&["settle"]).expect(0).says("committed: its rows are as it left them");
    assert!(Db::open(&url).value("SELECT region FROM keeper WHERE keeper_id = 1").contains("Fell"));
}

#[test]
fn a_run_of_another_database() {
    each(|stage| {
        stage.apply(SQL, "2", 0);
        let folder = stage.scene.runs().pop().unwrap();
        let mut receipt = stage.scene.receipt(&folder);
        receipt["database"]["identity"] = "another".into();
        marktwice_logbook::seal(&mut receipt);
        std::fs::write(folder.join("receipt.json"), receipt.to_string()).unwrap();
        let before = stage.dump();
        let run = receipt["run"].as_str().unwrap();
        stage.scene.run(&["undo", run, "--yes"]).expect(2).says("another database");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn the_last_stays_the_last_when_the_clock_steps_back() {
    each(|stage| {
        stage.apply("UPDATE hive SET kilos = 1 WHERE hive_id = 10", "1", 0);
        let folder = stage.scene.runs().pop().unwrap();
        let name = folder.file_name().unwrap().to_str().unwrap().to_owned();
        let later = format!("2099{}", &name[4..]);
        std::fs::rename(&folder, folder.with_file_name(later)).unwrap();
        let last = stage.apply("UPDATE hive SET kilos = 2 WHERE hive_id = 10", "1", 0);
        let history = stage.scene.run(&["history", "--format", "json"]).json();
        let newest = history["runs"][0]["receipt"]["run"].as_str().unwrap().to_owned();
        assert!(last.out.contains(&newest), "{} {newest}", last.out);
        stage.undo(&[], 0);
        assert!(stage.value("SELECT kilos FROM hive WHERE hive_id = 10").contains('1'));
        stage.scene.run(&["history", "--since", "2026-13-01"]).expect(2);
    });
}

#[test]
fn the_row_that_a_run_leaves_tells() {
    each(|stage| {
        let s = &stage.scene;
        let change = ["apply", "--sql", SQL, "--rows", "2", "--yes", "--on", "live"];
        s.write(
            "marktwice.toml",
            format!("logbook = \"book\"\n[database.live]\nurl = {:?}\nwitness = \"marked\"\n", stage.url),
        );
        let before = stage.dump();
        // Without the table nothing is committed, and it is shown before it is made.
        s.run(&change).expect(1).says("the witness marked cannot be read");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        s.run(&["witness", "--on", "live"]).expect(0).says("CREATE TABLE marked").says("Nothing was made");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        s.run(&["witness", "--on", "live", "--yes"]).expect(0).says("is there");
        let run = s.run(&[&change[..], &["--format", "json"]].concat()).expect(0).run();
        let seen = s.run(&["look", "marked", "--on", "live", "--format", "json"]).expect(0).json();
        assert_eq!(seen["rows"][0]["row"]["run"], run.as_str());
        assert_eq!(
            (&seen["rows"][0]["row"]["matched"], &seen["rows"][0]["row"]["changed"]),
            (&2.into(), &2.into())
        );
        s.run(&["receipt", &run, "--on", "live"]).expect(0).says("of marked");
        // Rows that are neither say nothing; the row does.
        committing(stage, true);
        stage.run("UPDATE keeper SET region = 'Else' WHERE keeper_id IN (1, 3)");
        let settled = s.run(&["settle", "--on", "live"]).expect(0).says("committed");
        if stage.on != On::Postgres {
            settled.says("says the row that it left in marked");
        }
        // An undo leaves one too; one that is taken out again is as a run that did not commit.
        stage.run("UPDATE keeper SET region = 'Fell' WHERE keeper_id IN (1, 3)");
        s.run(&["undo", &run, "--yes", "--on", "live"]).expect(0);
        assert!(stage.value("SELECT count(*) FROM marked").contains('2'));
        if stage.on != On::Postgres {
            stage.run("UPDATE keeper SET region = 'Else' WHERE keeper_id IN (1, 3);");
            stage.run("DELETE FROM marked WHERE kind = 'undo'");
            committing(stage, true);
            s.run(&["settle", "--on", "live"]).expect(0).says("was rolled back: it left no row in marked");
        }
    });
}

#[test]
fn everybodys_runs_are_known_from_each_machine() {
    each(|stage| {
        let s = &stage.scene;
        let mine = format!("[database.live]\nurl = {:?}\nwitness = \"marked\"\n", stage.url);
        s.write("marktwice.toml", format!("on = \"live\"\nlogbook = \"book\"\n{mine}"));
        let theirs = ["--logbook", "other", "--format", "json"];
        s.run(&["history", "--shared"]).expect(1);
        s.run(&["preview", "--sql", SQL]).expect(0).says("the witness marked cannot be read");
        s.run(&["witness", "--yes"]).expect(0);
        s.run(&["history", "--shared"]).expect(0).says("none yet");
        let rise = "UPDATE hive SET kilos = kilos * 2 WHERE keeper_id = 1";
        let apply = ["apply", "--sql", rise, "--rows", "2", "--yes"];
        let before = stage.dump();
        let run = s.run(&[&apply[..], &theirs].concat()).expect(0).run();
        // The other machine knows, and this one is told.
        s.run(&apply).expect(3).says("was committed from another logbook").says(&run);
        let shared = s.run(&["history", "--shared", "--format", "json"]).expect(0).json();
        assert_eq!(shared["runs"][0]["run"], run.as_str());
        assert_eq!((&shared["runs"][0]["own"], &shared["runs"][0]["stands"]), (&false.into(), &true.into()));
        assert_eq!(shared["runs"][0]["changed"], 1);
        s.run(&["history", "--shared", "--title", "nothing such"]).expect(0).says("none of them fits");
        // Taken back there, it may be applied here; applied here, it is known there.
        let undo = s.run(&[&["undo", &run, "--yes", "--rows", "1"][..], &theirs].concat()).expect(0).run();
        s.run(&["history", "--shared"])
            .expect(0)
            .says(&format!("undone by {undo}"))
            .says(&format!("undo of {run}"));
        s.run(&apply).expect(0);
        s.run(&[&apply[..], &theirs].concat()).expect(3);
        s.run(&[&apply[..], &theirs, &["--again"]].concat()).expect(0);
        s.run(&[&["undo", "@last", "--yes", "--rows", "1"][..], &theirs].concat()).expect(0);
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        let own = |lines: Vec<String>| -> Vec<String> {
            lines.into_iter().filter(|l| !l.contains("marked")).collect()
        };
        assert_eq!(own(stage.dump()), own(before), "{:?}", stage.on);
        // A name that leads elsewhere, and a table that is another.
        s.write(
            "marktwice.toml",
            format!("on = \"live\"\nlogbook = \"book\"\n{}", mine.replace("marked", "keeper")),
        );
        s.run(&["history", "--shared"]).expect(1);
    });
}
