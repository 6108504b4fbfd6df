//! Rows that foreign keys' actions take along: shown, held, verified, kept in the snapshot and brought back like the step's own.

use serde_json::Value as Json;

use crate::each;
use marktwice_testkit::stage::{On, Stage};

/// Visits of hives with their photos, and notes without a key; a keeper's hives go with them.
fn family(stage: &Stage) {
    stage.run(
        "CREATE TABLE visit (visit_id integer PRIMARY KEY, hive_id integer, day varchar(10), FOREIGN KEY (hive_id) REFERENCES hive (hive_id) ON DELETE CASCADE ON UPDATE CASCADE);
         CREATE TABLE photo (visit_id integer NOT NULL, nr integer NOT NULL, shows varchar(20), PRIMARY KEY (visit_id, nr), FOREIGN KEY (visit_id) REFERENCES visit (visit_id) ON DELETE CASCADE ON UPDATE CASCADE);
         CREATE TABLE loan (what varchar(20), hive_id integer, FOREIGN KEY (hive_id) REFERENCES hive (hive_id) ON DELETE SET NULL ON UPDATE CASCADE);
         INSERT INTO visit VALUES (1, 10, '2026-05-10'), (2, 10, NULL), (3, 11, '2026-05-11'), (4, NULL, '');
         INSERT INTO photo VALUES (1, 1, 'brood'), (1, 2, NULL), (3, 1, 'queen');
         INSERT INTO loan VALUES ('smoker', 10), ('smoker', 10), ('scale', 11), ('tent', NULL);",
    );
}

const DECLARED: [&str; 6] = ["--also-writes", "visit", "--also-writes", "photo", "--also-writes", "loan"];

fn apply(stage: &Stage, sql: &str, more: &[&str], status: i32) -> String {
    let first = ["apply", "--sql", sql, "--rows", "1", "--yes"];
    let all: Vec<&str> = first.iter().chain(more).copied().collect();
    stage.scene.run(&all).expect(status).out
}

fn last_run(stage: &Stage) -> String {
    let history = stage.scene.run(&["history", "--format", "json"]).expect(0);
    let history: Json = serde_json::from_str(&history.out).unwrap();
    history["runs"][0]["receipt"]["run"].as_str().unwrap().to_owned()
}

#[test]
fn what_a_deletion_takes_along_comes_back() {
    each(|stage| {
        family(stage);
        let (start, sql) = (stage.dump(), "DELETE FROM hive WHERE hive_id = 10");
        let preview = stage.scene.run(&["preview", "--sql", sql]).expect(3);
        preview
            .says("2 rows of visit deleted")
            .says("2 rows of photo deleted")
            .says("2 rows of loan changed");
        let preview = stage.scene.run(&["preview", "--sql", sql, "--show", "all"]).expect(3);
        preview.says("brood").says("these are in the snapshot, and an undo brings them back");
        let json = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]).expect(3).out;
        let json: Json = serde_json::from_str(&json).unwrap();
        let along = json["steps"][0]["along"].as_array().unwrap();
        let tables: Vec<&str> = along.iter().map(|t| t["table"].as_str().unwrap()).collect();
        assert_eq!((tables.len(), tables.contains(&"photo")), (3, true), "{json}");
        // A table that is not named, or another number of rows than was said, stops it.
        apply(stage, sql, &DECLARED[..4], 3);
        apply(
            stage,
            sql,
            &["--also-writes", "visit=1", "--also-writes", "photo", "--also-writes", "loan"],
            3,
        );
        assert_eq!(stage.dump(), start);
        // The command that is printed to be run next is complete.
        let all: Vec<&str> = ["preview", "--sql", sql].iter().chain(&DECLARED).copied().collect();
        let told = stage.scene.run(&all).expect(0).out;
        assert!(told.contains("--also-writes visit --also-writes photo --also-writes loan"), "{told}");
        let done = apply(
            stage,
            sql,
            &["--also-writes", "visit=2", "--also-writes", "photo", "--also-writes", "loan"],
            0,
        );
        assert!(done.contains("2 rows of visit deleted, 2 rows of photo deleted"), "{done}");
        let gone = stage.dump();
        let csv = stage.scene.run(&["receipt", &last_run(stage), "--csv", "-"]).expect(0);
        csv.says("1,photo,1,deleted,1,1,brood").says("1,loan,");
        // An undo, the undo of the undo, and once more.
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), start, "{:?}", stage.on);
        stage.scene.run(&["undo", &last_run(stage), "--yes"]).expect(0);
        assert_eq!(stage.dump(), gone, "{:?}", stage.on);
        stage.scene.run(&["undo", &last_run(stage), "--yes"]).expect(0);
        assert_eq!(stage.dump(), start, "{:?}", stage.on);
    });
}

#[test]
fn what_follows_a_key_follows_it_back() {
    each(|stage| {
        family(stage);
        let start = stage.dump();
        stage
            .scene
            .run(&["set", "visit", "1", "visit_id=50", "--yes"])
            .expect(3)
            .says("--also-writes photo says");
        stage.scene.run(&["set", "visit", "1", "visit_id=50", "--yes", "--also-writes", "photo=2"]).expect(0);
        let moved = stage.dump();
        // Somebody's edit of a row that went along is named, and nothing is put back.
        stage.run("UPDATE photo SET shows = 'wax' WHERE nr = 2;");
        let edited = stage.dump();
        let refused = stage
            .scene
            .run(&["undo", "@last", "--yes", "--rows", "1+", "--allow", "undeclared-write"])
            .expect(5);
        refused.says("shows").says("wax");
        assert_eq!(stage.dump(), edited);
        stage.run("UPDATE photo SET shows = NULL WHERE nr = 2;");
        stage.undo(&["--allow", "undeclared-write"], 0);
        assert_eq!(stage.dump(), start, "{:?}", stage.on);
        stage.scene.run(&["undo", &last_run(stage), "--yes", "--allow", "undeclared-write"]).expect(0);
        assert_eq!(stage.dump(), moved, "{:?}", stage.on);
    });
}

#[test]
fn others_may_not_slip_in_along() {
    each(|stage| {
        family(stage);
        let sql = "DELETE FROM hive WHERE hive_id = 10";
        let all: Vec<&str> = ["preview", "--sql", sql].iter().chain(&DECLARED).copied().collect();
        let preview = stage.scene.run(&[&all[..], &["--format", "json"]].concat()).expect(0).out;
        let preview: Json = serde_json::from_str(&preview).unwrap();
        let mark = preview["mark"].as_str().unwrap();
        stage.run("INSERT INTO photo VALUES (2, 9, 'new');");
        let before = stage.dump();
        let apply = ["apply", "--sql", sql, "--yes", "--mark", mark];
        stage
            .scene
            .run(&[&apply[..], &DECLARED].concat())
            .expect(5)
            .says("take along are not those of the preview");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn what_holds_further_down_is_told() {
    each(|stage| {
        family(stage);
        stage.run(
            "CREATE TABLE award (award_id integer PRIMARY KEY, visit_id integer NOT NULL, nr integer NOT NULL, FOREIGN KEY (visit_id, nr) REFERENCES photo (visit_id, nr));
             INSERT INTO award VALUES (1, 1, 2);",
        );
        let sql = "DELETE FROM hive WHERE hive_id = 10";
        let all: Vec<&str> = ["preview", "--sql", sql].iter().chain(&DECLARED).copied().collect();
        let preview = stage.scene.run(&all).expect(3);
        preview.says("has-children: 1 row of award refers to rows of photo that are taken along");
        stage.run("DELETE FROM award;");
        stage.scene.run(&all).expect(0);
    });
}

#[test]
fn trees_and_circles_come_back() {
    each(|stage| {
        stage.run(
            "CREATE TABLE boss (id integer PRIMARY KEY, above integer, note varchar(9), FOREIGN KEY (above) REFERENCES boss (id) ON DELETE CASCADE);
             INSERT INTO boss VALUES (1, NULL, 'a'), (2, 1, 'b'), (3, 2, 'c'), (4, 2, 'd'), (5, 5, 'e'), (6, NULL, 'f'), (7, 6, 'g');
             UPDATE boss SET above = 7 WHERE id = 6;",
        );
        let start = stage.dump();
        for (sql, rows) in [
            ("DELETE FROM boss WHERE id = 1", "4"),
            ("DELETE FROM boss WHERE id IN (1, 3)", "4"),
            ("DELETE FROM boss WHERE id = 6", "2"),
        ] {
            stage
                .scene
                .run(&["apply", "--sql", sql, "--rows", "1+", "--yes", "--also-writes", "boss"])
                .expect(0);
            stage.scene.run(&["undo", "@last", "--yes", "--rows", rows]).expect(0);
            assert_eq!(stage.dump(), start, "{:?}: {sql}", stage.on);
        }
        if stage.on == On::Postgres {
            // Only what is named is set to NULL.
            stage.run(
                "CREATE TABLE cell (hive_id integer, nr integer, comb integer, PRIMARY KEY (hive_id, nr));
                 CREATE TABLE egg (id integer PRIMARY KEY, hive_id integer, nr integer, FOREIGN KEY (hive_id, nr) REFERENCES cell ON DELETE SET NULL (nr));
                 INSERT INTO cell VALUES (10, 1, 1), (10, 2, 1); INSERT INTO egg VALUES (1, 10, 1), (2, 10, 2);",
            );
            let start = stage.dump();
            stage
                .scene
                .run(&[
                    "apply",
                    "--sql",
                    "DELETE FROM cell WHERE nr = 1",
                    "--rows",
                    "1",
                    "--yes",
                    "--also-writes",
                    "egg=1",
                ])
                .expect(0);
            assert_eq!(
                stage.value("SELECT hive_id FROM egg WHERE nr IS NULL"),
                stage.value("SELECT hive_id FROM egg WHERE nr = 2")
            );
            stage.undo(&[], 0);
            assert_eq!(stage.dump(), start);
        }
    });
}
