//! Rows that triggers write in other tables: held as a whole table, shown by a rehearsal, kept in the snapshot and brought back,
//! whatever the undo's own triggers write; what cannot be held is named beforehand, with why.

use serde_json::Value as Json;

use crate::each;
use marktwice_testkit::stage::Stage;

/// A log of every change of a hive, how many hives a keeper has, and how many entries the log has had: the first by a trigger
/// on hives, and so the second, the third by a trigger on the log.
fn watched(stage: &Stage) {
    stage.run(stage.by(
        "CREATE TABLE hive_log (entry integer PRIMARY KEY AUTOINCREMENT, hive_id integer, was integer, becomes integer, note varchar(20));
         CREATE TABLE tally (keeper_id integer PRIMARY KEY, hives integer NOT NULL); CREATE TABLE entries (id integer PRIMARY KEY, n integer);
         INSERT INTO hive_log (hive_id, was, becomes, note) VALUES (11, 1, 2, 'a'), (11, 2, 3, NULL); INSERT INTO tally SELECT keeper_id, 20 FROM keeper; INSERT INTO entries VALUES (1, 2);
         CREATE TRIGGER hive_up AFTER UPDATE ON hive BEGIN INSERT INTO hive_log (hive_id, was, becomes) VALUES (old.hive_id, old.kilos, new.kilos); END;
         CREATE TRIGGER hive_gone AFTER DELETE ON hive BEGIN UPDATE tally SET hives = hives - 1 WHERE keeper_id = old.keeper_id; END;
         CREATE TRIGGER hive_came AFTER INSERT ON hive BEGIN UPDATE tally SET hives = hives + 1 WHERE keeper_id = new.keeper_id; END;
         CREATE TRIGGER logged AFTER INSERT ON hive_log BEGIN UPDATE entries SET n = n + 1; END;",
        "CREATE TABLE hive_log (entry integer PRIMARY KEY GENERATED ALWAYS AS IDENTITY, hive_id integer, was integer, becomes integer, note varchar(20));
         CREATE TABLE tally (keeper_id integer PRIMARY KEY, hives integer NOT NULL); CREATE TABLE entries (id integer PRIMARY KEY, n integer);
         INSERT INTO hive_log (hive_id, was, becomes, note) VALUES (11, 1, 2, 'a'), (11, 2, 3, NULL); INSERT INTO tally SELECT keeper_id, 20 FROM keeper; INSERT INTO entries VALUES (1, 2);
         CREATE FUNCTION hive_up() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO hive_log (hive_id, was, becomes) VALUES (OLD.hive_id, OLD.kilos, NEW.kilos); RETURN NULL; END $$;
         CREATE FUNCTION hive_gone() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN UPDATE tally SET hives = hives - 1 WHERE keeper_id = OLD.keeper_id; RETURN NULL; END $$;
         CREATE FUNCTION hive_came() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN UPDATE tally SET hives = hives + 1 WHERE keeper_id = NEW.keeper_id; RETURN NULL; END $$;
         CREATE FUNCTION logged() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN UPDATE entries SET n = n + 1; RETURN NULL; END $$;
         CREATE TRIGGER hive_up AFTER UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION hive_up();
         CREATE TRIGGER hive_gone AFTER DELETE ON hive FOR EACH ROW EXECUTE FUNCTION hive_gone();
         CREATE TRIGGER hive_came AFTER INSERT ON hive FOR EACH ROW EXECUTE FUNCTION hive_came();
         CREATE TRIGGER logged AFTER INSERT ON hive_log FOR EACH ROW EXECUTE FUNCTION logged();",
        "CREATE TABLE hive_log (entry integer PRIMARY KEY AUTO_INCREMENT, hive_id integer, was integer, becomes integer, note varchar(20));
CREATE TABLE tally (keeper_id integer PRIMARY KEY, hives integer NOT NULL);
CREATE TABLE entries (id integer PRIMARY KEY, n integer);
INSERT INTO hive_log (hive_id, was, becomes, note) VALUES (11, 1, 2, 'a'), (11, 2, 3, NULL);
INSERT INTO tally SELECT keeper_id, 20 FROM keeper;
INSERT INTO entries VALUES (1, 2);
CREATE TRIGGER hive_up AFTER UPDATE ON hive FOR EACH ROW INSERT INTO hive_log (hive_id, was, becomes) VALUES (old.hive_id, old.kilos, new.kilos);
CREATE TRIGGER hive_gone AFTER DELETE ON hive FOR EACH ROW UPDATE tally SET hives = hives - 1 WHERE keeper_id = old.keeper_id;
CREATE TRIGGER hive_came AFTER INSERT ON hive FOR EACH ROW UPDATE tally SET hives = hives + 1 WHERE keeper_id = new.keeper_id;
CREATE TRIGGER logged AFTER INSERT ON hive_log FOR EACH ROW UPDATE entries SET n = n + 1;",
    ));
}

const LOGGED: [&str; 4] = ["--also-writes", "hive_log", "--also-writes", "entries"];
const RAISED: &str = "UPDATE hive SET kilos = kilos + 5 WHERE hive_id IN (10, 11)";

fn run(stage: &Stage, first: &[&str], more: &[&str], status: i32) -> String {
    stage.scene.run(&[first, more].concat()).expect(status).out
}

fn last_run(stage: &Stage) -> String {
    let history: Json = serde_json::from_str(&run(stage, &["history"], &["--format", "json"], 0)).unwrap();
    history["runs"][0]["receipt"]["run"].as_str().unwrap().to_owned()
}

/// Takes the last run back, then that undo, then that.
fn to_and_fro(stage: &Stage, start: &[String], done: &[String]) {
    for wanted in [start, done, start] {
        run(stage, &["undo", &last_run(stage), "--yes"], &[], 0);
        assert_eq!(stage.dump(), wanted, "{:?}", stage.on);
    }
}

#[test]
fn what_triggers_write_is_kept_and_comes_back() {
    each(|stage| {
        watched(stage);
        let start = stage.dump();
        // A table that is not named stops it; the one that the log's own trigger writes is one as well.
        run(stage, &["apply", "--sql", RAISED, "--rows", "2", "--yes"], &LOGGED[..2], 3);
        let seen = run(stage, &["rehearse", "--sql", RAISED], &LOGGED, 0);
        for said in
            ["2 rows of hive_log inserted, by a trigger", "1 row of entries changed, by a trigger", "2 → 4"]
        {
            assert!(seen.contains(said), "{said}: {seen}");
        }
        assert_eq!(stage.dump(), start, "a rehearsal leaves nothing");
        let done = run(stage, &["apply", "--sql", RAISED, "--rows", "2", "--yes"], &LOGGED, 0);
        assert!(done.contains("in the snapshot: "), "{done}");
        assert!(
            done.contains("2 rows of hive_log inserted") && done.contains("1 row of entries changed"),
            "{done}"
        );
        assert!(!done.contains("--allow"), "an undo needs nobody's leave: {done}");
        let receipt = run(stage, &["receipt", &last_run(stage)], &["--format", "json"], 0);
        let receipt: Json = serde_json::from_str(&receipt).unwrap();
        let tables = receipt["receipt"]["triggered"].as_array().unwrap();
        let count = |what: &str| tables.iter().filter_map(|t| t[what].as_u64()).sum::<u64>();
        assert_eq!((count("inserted"), count("changed"), count("deleted")), (2, 1, 0), "{receipt}");
        stage
            .scene
            .run(&["receipt", &last_run(stage), "--csv", "-"])
            .expect(0)
            .says(",hive_log,")
            .says(",entries,");
        to_and_fro(stage, &start, &stage.dump());

        // What the undo's own triggers count up is put right too, though the run's counted down.
        let gone = "DELETE FROM hive WHERE hive_id IN (10, 11)";
        run(stage, &["apply", "--sql", gone, "--rows", "2", "--yes"], &["--also-writes", "tally"], 0);
        to_and_fro(stage, &start, &stage.dump());
    });
}

#[test]
fn what_others_have_written_since_is_left_to_triggers() {
    each(|stage| {
        watched(stage);
        let start = stage.dump();
        let gone = "DELETE FROM hive WHERE hive_id = 10";
        run(stage, &["apply", "--sql", gone, "--rows", "1", "--yes"], &["--also-writes", "tally"], 0);
        let keeper = "(SELECT keeper_id FROM hive WHERE hive_id = 11)";
        // Another hive of some keeper comes in, and the counts of all go up.
        stage.run("UPDATE tally SET hives = hives + 100;");
        let undo = run(stage, &["undo", &last_run(stage), "--yes"], &[], 0);
        assert!(undo.contains("tally"), "{undo}");
        stage.run("UPDATE tally SET hives = hives - 100;");
        assert_eq!(stage.dump(), start, "{:?} {keeper}", stage.on);
        // Only some rows: what triggers make of that stands, and needs somebody's leave.
        run(stage, &["apply", "--sql", RAISED, "--rows", "2", "--yes"], &LOGGED, 0);
        let run_name = last_run(stage);
        run(stage, &["undo", &run_name, "--yes", "--only", "10"], &[], 3);
        let part = ["undo", &run_name, "--yes", "--only", "10"];
        let told = run(stage, &part, &["--allow", "undeclared-write"], 0);
        assert!(told.contains("hive_log is left to what triggers make of it: only some rows"), "{told}");
        let rest = run(stage, &["undo", &last_run(stage), "--yes"], &[], 0);
        assert!(rest.contains("other tables are put right"), "{rest}");
    });
}

#[test]
fn what_cannot_be_held_is_named_with_why() {
    each(|stage| {
        watched(stage);
        let numbers = "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 400) SELECT 1000 * a.i + b.i FROM n AS a, n AS b WHERE b.i <= 251";
        stage.run(&format!("CREATE TABLE big (i integer PRIMARY KEY);\nINSERT INTO big {numbers};"));
        stage.run(stage.by(
            "CREATE TRIGGER grows AFTER DELETE ON keeper BEGIN INSERT INTO big VALUES (-old.keeper_id); END;",
            "CREATE FUNCTION grows() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO big VALUES (-OLD.keeper_id); RETURN NULL; END $$; CREATE TRIGGER grows AFTER DELETE ON keeper FOR EACH ROW EXECUTE FUNCTION grows();",
            "CREATE TRIGGER grows AFTER DELETE ON keeper FOR EACH ROW INSERT INTO big VALUES (-old.keeper_id);",
        ));
        let large = run(
            stage,
            &["preview", "--sql", "DELETE FROM keeper WHERE keeper_id = 3"],
            &["--also-writes", "big"],
            0,
        );
        assert!(large.contains("an undo leaves it (it has more than 100000 rows)"), "{large}");
        stage.run("CREATE TABLE plain (n integer);");
        stage.run(stage.by(
            "CREATE TRIGGER noted AFTER UPDATE ON hive BEGIN INSERT INTO plain VALUES (old.hive_id); END;",
            "CREATE FUNCTION noted() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO plain VALUES (OLD.hive_id); RETURN NULL; END $$; CREATE TRIGGER noted AFTER UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION noted();",
            "CREATE TRIGGER noted AFTER UPDATE ON hive FOR EACH ROW INSERT INTO plain VALUES (old.hive_id);",
        ));
        let all = [&LOGGED[..], &["--also-writes", "plain"]].concat();
        let told = run(stage, &["preview", "--sql", RAISED], &all, 0);
        let sqlite = told.contains("writes plain; its rows go into the snapshot");
        assert_eq!(sqlite, stage.on == marktwice_testkit::stage::On::Sqlite, "{told}");
        if !sqlite {
            assert!(told.contains("it has no key that tells its rows apart"), "{told}");
            run(stage, &["apply", "--sql", RAISED, "--rows", "2", "--yes"], &all, 0);
            run(stage, &["undo", &last_run(stage), "--yes"], &[], 3);
            let undo = run(stage, &["undo", &last_run(stage), "--yes"], &["--allow", "undeclared-write"], 0);
            assert!(undo.contains("plain is left to what triggers make of it"), "{undo}");
        }
    });
}

#[test]
fn a_declared_number_of_rows_must_be_met() {
    each(|stage| {
        watched(stage);
        let before = stage.dump();
        let declared = |log: &str, entries: &str, status: i32| {
            let more = ["--rows", "2", "--yes", "--also-writes", log, "--also-writes", entries];
            run(stage, &["apply", "--sql", RAISED], &more, status)
        };
        // A row that is written twice is one row.
        declared("hive_log=3", "entries=1", 4);
        declared("hive_log=2", "entries=2", 4);
        // A table that no trigger comes to write has none.
        let more = ["--rows", "1", "--yes", "--also-writes", "hive_log=1"];
        run(stage, &["apply", "--sql", "UPDATE keeper SET region = 'x' WHERE keeper_id = 1"], &more, 4);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        declared("hive_log=2", "entries=1", 0);
        run(stage, &["undo", "@last", "--yes", "--rows", "2"], &[], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}
