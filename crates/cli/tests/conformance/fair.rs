//! What anybody would write is taken in: values by their order, other forms of INSERT, a choice of the first rows, RETURNING that
//! computes, sessions and tables of odd settings.

use marktwice_testkit::stage::{On, Stage};

use crate::{each, only};

fn findings(stage: &Stage, args: &[&str]) -> Vec<String> {
    let all = [&["preview", "--format", "json"], args].concat();
    let step = stage.scene.run(&all).expect(0).step();
    let findings = step["findings"].as_array().unwrap();
    findings
        .iter()
        .map(|f| format!("{}:{}", f["code"].as_str().unwrap(), f["level"].as_str().unwrap()))
        .collect()
}

#[test]
fn values_by_their_order() {
    each(|stage| {
        let sql = "INSERT INTO keeper VALUES (9, 'Una', NULL, 'Dale'), (8, 'Wim', NULL, 'Moor')";
        assert_eq!(findings(stage, &["--sql", sql]), ["no-column-list:note"], "{:?}", stage.on);
        stage.there_and_back(sql, "2");
        // What a query gives goes by its order too, where the text tells how many values that are.
        stage.there_and_back(
            "INSERT INTO keeper SELECT keeper_id + 20, name, NULL, region FROM keeper WHERE keeper_id = 1",
            "1",
        );
        let star = stage.scene.run(&[
            "preview",
            "--sql",
            "INSERT INTO keeper SELECT * FROM keeper WHERE keeper_id = 1",
        ]);
        assert_eq!(star.status, Some(3), "{:?} {}{}", stage.on, star.out, star.err);
    });
    // There a shorter list fills the first columns.
    only(On::Postgres, |stage| stage.there_and_back("INSERT INTO keeper VALUES (9, 'Una')", "1"));
}

#[test]
fn columns_that_are_computed() {
    each(|stage| {
        stage.run(&format!(
            "CREATE TABLE crop (crop_id integer PRIMARY KEY, jars integer, kilos integer GENERATED ALWAYS AS (jars / 2) {}, note varchar(9));",
            stage.by("STORED", "STORED", "VIRTUAL")
        ));
        let sql = stage.by(
            "INSERT INTO crop VALUES (1, 40, 'x')",
            "INSERT INTO crop VALUES (1, 40, DEFAULT, 'x')",
            "INSERT INTO crop VALUES (1, 40, DEFAULT, 'x')",
        );
        stage.there_and_back(sql, "1");
    });
}

#[test]
fn the_first_rows_by_an_order() {
    for on in [On::Sqlite, On::Maria] {
        only(on, |stage| {
            stage.there_and_back(
                "UPDATE hive SET note = 'first' WHERE hive_id > 10 ORDER BY hive_id LIMIT 2",
                "2",
            );
            stage.there_and_back("DELETE FROM hive ORDER BY hive_id DESC LIMIT 1", "1");
            // Which of two equal ones is taken nobody says.
            stage.run("UPDATE hive SET kilos = 5;");
            stage.apply("UPDATE hive SET note = 'one' ORDER BY kilos LIMIT 1", "1", 3);
            stage.apply("DELETE FROM hive LIMIT 1", "1", 3);
        });
    }
    // A join may match a row several times, so a choice of keys would be another one.
    only(On::Sqlite, |stage| {
        let sql = "UPDATE hive SET note = k.name FROM keeper AS k WHERE k.keeper_id = hive.keeper_id LIMIT 1";
        let refused = stage.scene.run(&["preview", "--sql", sql]).expect(3);
        assert!(!refused.err.contains("IN (SELECT hive_id"), "{}", refused.err);
    });
}

#[test]
fn other_forms() {
    only(On::Maria, |stage| {
        stage.there_and_back(
            "INSERT INTO keeper SET keeper_id = 9, name = 'Una', region = concat('Da', 'le')",
            "1",
        );
        let refused = stage.scene.run(&[
            "preview",
            "--sql",
            "INSERT INTO keeper SET keeper_id = 1, name = 'Una' ON DUPLICATE KEY UPDATE name = 'Una'",
        ]);
        assert_eq!(refused.status, Some(3), "{}", refused.err);
    });
    for on in [On::Sqlite, On::Postgres] {
        only(on, |stage| {
            stage.there_and_back(
                "UPDATE hive SET kilos = kilos + 1 WHERE hive_id = 10 RETURNING hive_id, round(kilos, 1), (SELECT max(name) FROM keeper)",
                "1",
            );
        });
    }
    only(On::Postgres, |stage| {
        stage.run("CREATE FUNCTION acts() RETURNS int LANGUAGE plpgsql AS $$ BEGIN DELETE FROM hive; RETURN 1; END $$;");
        let refused = stage.scene.run(&[
            "preview",
            "--sql",
            "UPDATE hive SET note = 'x' WHERE hive_id = 10 RETURNING acts()",
        ]);
        assert_eq!(refused.status, Some(3), "{}", refused.out);
    });
}

/// Settings that many servers still run with.
#[test]
fn sessions_of_other_modes() {
    only(On::Maria, |stage| {
        let with = |mode: &str, sql: &str, rows: &str| {
            let config = format!("on = \"it\"\nlogbook = \"book\"\n[database.it]\nurl = \"{}\"\n", stage.url);
            stage.scene.write("marktwice.toml", config);
            let block = format!("title = \"it's said\"\nrows = {rows}\n[session]\nsql_mode = \"{mode}\"");
            let change = format!("/* marktwice\n{block}\n*/\n{sql};\n");
            stage.scene.write("change.sql", change);
            let done = stage.scene.run(&["apply", "change.sql", "--yes"]);
            assert_eq!(done.status, Some(0), "{mode} {sql}\n{}\n{}", done.out, done.err);
            let before = stage.dump();
            stage.undo(&[], 0);
            assert_ne!(stage.dump(), before);
        };
        stage.run(
            "SET sql_mode = ''; CREATE TABLE bent (bent_id int PRIMARY KEY, n int NOT NULL, b varchar(3) NOT NULL, d date, j json);
             INSERT INTO bent VALUES (1, 1, 'a', '0000-00-00', '{\"a\": 1}');",
        );
        with(
            "STRICT_TRANS_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE",
            "UPDATE bent SET n = 2 WHERE bent_id = 1",
            "1",
        );
        with("ANSI_QUOTES,STRICT_TRANS_TABLES", "UPDATE bent SET j = '{}' WHERE bent_id = 1", "1");
        // NULL becomes what the column takes instead, and that is shown.
        with(
            "",
            "INSERT INTO bent (bent_id, n, b) SELECT hive_id, kilos, note FROM hive WHERE hive_id = 13",
            "1",
        );
    });
}

/// The number of a row under another name than its column's.
#[test]
fn the_number_of_a_row() {
    only(On::Sqlite, |stage| {
        stage.there_and_back("INSERT INTO keeper (rowid, name) VALUES (9, 'Una')", "1");
        stage.run("CREATE TABLE loose (a int); CREATE TABLE named (rowid text, a int);");
        let refused =
            stage.scene.run(&["preview", "--sql", "INSERT INTO loose (rowid, a) VALUES (9, 1)"]).expect(3);
        assert!(refused.err.contains("engine-column"), "{}", refused.err);
        // A column of that name is a column.
        stage.there_and_back("INSERT INTO named (rowid, a) VALUES ('x', 1)", "1");
    });
}

/// Values that only the run knows, in tables where nothing but their contents tells rows.
#[test]
fn rows_without_a_key_that_the_run_fills() {
    for on in [On::Postgres, On::Maria] {
        only(on, |stage| {
            stage.run(&format!(
                "CREATE TABLE visit (what varchar(20), at {now}, luck double precision);
                 INSERT INTO visit (what, at, luck) VALUES ('fed', '2026-01-01', 1), ('fed', '2026-01-01', 1), ('fed', '2026-01-01', 2),
                 ('seen', '2026-01-02', 1), ('left', '2026-01-03', 1);",
                now = stage.by("", "timestamp(6) DEFAULT clock_timestamp()", "datetime(6) DEFAULT now(6)"),
            ));
            let clock = stage.by("", "clock_timestamp()", "now(6)");
            let dice = stage.by("", "random()", "rand()");
            // Alike before and after, alike before only, and afterwards alike to one that nobody wrote.
            for (sql, rows) in [
                (format!("UPDATE visit SET at = {clock} WHERE what = 'fed'"), "3"),
                (
                    format!("UPDATE visit SET at = {clock}, luck = {dice} WHERE luck = 1 AND what = 'fed'"),
                    "2",
                ),
                (format!("UPDATE visit SET what = 'left', luck = {dice} * 0 + 1 WHERE what = 'seen'"), "1"),
                (format!("UPDATE visit SET luck = {dice} * 0 + luck"), "all"),
                ("INSERT INTO visit (what) VALUES ('fed'), ('fed'), ('new')".to_owned(), "3"),
                (
                    "INSERT INTO visit (what, luck) SELECT what, luck FROM visit WHERE luck = 2".to_owned(),
                    "1",
                ),
            ] {
                if sql.contains("* 0 + luck") {
                    // Rows that stay what they are.
                    let before = stage.dump();
                    stage.apply(&sql, rows, 0);
                    assert_eq!(stage.dump(), before);
                } else {
                    stage.there_and_back(&sql, rows);
                }
            }
            // A step behind would find the rows by a value that the rehearsal does not know: said before anything runs.
            let two = |second: &str| {
                let first = format!("UPDATE visit SET at = {clock} WHERE what = 'fed';");
                stage.scene.write("two.sql", format!("{first}\n{second};\n"));
                stage.scene.run(&["rehearse", "two.sql"])
            };
            two("UPDATE visit SET luck = 3 WHERE what = 'fed'").expect(3).says("what only the run can tell");
            two("INSERT INTO visit (what, luck) VALUES ('fed', 5)").expect(0);
        });
    }
    only(On::Postgres, |stage| {
        stage.run(
            "CREATE TABLE visit (id serial, what text); INSERT INTO visit (what) VALUES ('fed'), ('fed');",
        );
        stage.there_and_back("INSERT INTO visit (what) VALUES ('fed'), ('seen')", "2");
        // Nothing in it can be written.
        stage.run("CREATE TABLE four (d int GENERATED ALWAYS AS (4) STORED); INSERT INTO four DEFAULT VALUES; INSERT INTO four DEFAULT VALUES;");
        stage.there_and_back("DELETE FROM four WHERE d = 4", "2");
    });
}

/// Rows of a table that others inherit from.
#[test]
fn parents_of_tables() {
    only(On::Postgres, |stage| {
        stage.run(
            "CREATE TABLE animal (id int, name text); CREATE TABLE bee (hive int) INHERITS (animal); CREATE TABLE wasp () INHERITS (animal);
             INSERT INTO animal VALUES (1, 'any'); INSERT INTO bee VALUES (1, 'drone', 3), (2, 'queen', 3); INSERT INTO wasp VALUES (1, 'wasp');",
        );
        stage.there_and_back("INSERT INTO animal VALUES (9, 'new')", "1");
        let sql = "UPDATE animal SET name = upper(animal.name) WHERE id = 1";
        let refused = stage.scene.run(&["preview", "--format", "json", "--sql", sql]).expect(3).json();
        assert_eq!(refused["paste_rows"], serde_json::json!([1, 1, 1]));
        // What is offered does what the statement does.
        let before = stage.dump();
        stage.run(sql);
        let expected = stage.dump();
        stage.run("UPDATE animal SET name = lower(animal.name) WHERE id = 1");
        assert_eq!(stage.dump(), before);
        take_offer(stage, refused["paste"].as_str().unwrap());
        assert_eq!(stage.dump(), expected);
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before);
        // A statement that reads them would find what an earlier step has written.
        let sql = "UPDATE animal SET name = (SELECT min(name) FROM animal) WHERE id = 1";
        let refused = stage.scene.run(&["preview", "--format", "json", "--sql", sql]).expect(3).json();
        assert!(refused["paste"].is_null(), "{refused}");
    });
}

/// What a query gives by a star: stopped, shown, and taken when that is meant.
#[test]
fn what_a_star_brings() {
    each(|stage| {
        stage.run("CREATE TABLE former (keeper_id integer PRIMARY KEY, name varchar(40), email varchar(60), region varchar(20));");
        stage.run(
            "INSERT INTO former SELECT keeper_id + 50, name, NULL, region FROM keeper WHERE keeper_id < 3;",
        );
        for sql in [
            "INSERT INTO keeper SELECT * FROM former",
            "INSERT INTO keeper SELECT * FROM former UNION SELECT * FROM former",
        ] {
            stage.apply(sql, "2", 3);
            stage.there_and_back_with(sql, &["--allow", "no-column-list"], "2");
        }
    });
    only(On::Maria, |stage| {
        stage.run("CREATE TABLE tally (id int PRIMARY KEY AUTO_INCREMENT, n int DEFAULT 4, p point NULL);");
        stage.there_and_back("INSERT INTO tally VALUES (), ()", "2");
        stage.there_and_back(
            "INSERT INTO tally (p) VALUES (point(1, 2)), (ST_GeomFromText('POINT(1 1)'))",
            "2",
        );
    });
}

/// A value that the database would not take is said with its code, before anything begins.
#[test]
fn values_that_are_not_taken() {
    for on in [On::Postgres, On::Maria] {
        only(on, |stage| {
            stage.run("CREATE TABLE tight (id int PRIMARY KEY, n smallint, d date); INSERT INTO tight VALUES (1, 1, NULL);");
            for sql in [
                "UPDATE tight SET n = 100000 WHERE id = 1",
                "UPDATE tight SET n = n / (n - 1) WHERE id = 1",
                "UPDATE tight SET d = '2026-13-01' WHERE id = 1",
                "INSERT INTO tight (id, n) VALUES (2, 70000)",
            ] {
                let refused =
                    stage.scene.run(&["preview", "--format", "json", "--sql", sql]).expect(3).json();
                assert_eq!(refused["code"], "value-refused", "{on:?} {sql} {refused}");
            }
        });
    }
    only(On::Sqlite, |stage| {
        stage.run(
            "CREATE TABLE tight (id integer PRIMARY KEY, n int) STRICT; INSERT INTO tight VALUES (1, 1);",
        );
        let sql = "UPDATE tight SET n = 'x' WHERE id = 1";
        let refused = stage.scene.run(&["preview", "--format", "json", "--sql", sql]).expect(3).json();
        assert_eq!(refused["code"], "value-refused", "{refused}");
    });
}

/// What a view demands of its rows is said, where only the run asks it.
#[test]
fn views_that_demand_something() {
    for on in [On::Postgres, On::Maria] {
        only(on, |stage| {
            stage.run("CREATE VIEW light AS SELECT * FROM hive WHERE kilos < 1000 WITH CHECK OPTION;");
            stage.run("CREATE VIEW plain AS SELECT * FROM hive WHERE kilos < 1000;");
            let of = |view: &str| {
                findings(stage, &["--sql", &format!("UPDATE {view} SET note = 'x' WHERE hive_id = 10")])
                    .contains(&"check-refused:warn".to_owned())
            };
            assert!(of("light") && !of("plain"), "{on:?}");
        });
    }
}

/// Where several steps are refused, the whole change is offered at once.
#[test]
fn all_offers_at_once() {
    each(|stage| {
        let ignore = stage.by(
            "INSERT OR IGNORE INTO keeper (keeper_id, name) VALUES ({}, 'Una')",
            "INSERT INTO keeper (keeper_id, name) VALUES ({}, 'Una') ON CONFLICT DO NOTHING",
            "INSERT IGNORE INTO keeper (keeper_id, name) VALUES ({}, 'Una')",
        );
        let steps = ["1", "80", "81"].map(|id| format!("{};\n", ignore.replace("{}", id)));
        let all = format!("UPDATE keeper SET name = 'Una' WHERE keeper_id = 2;\n{}", steps.concat());
        stage.scene.write("all.sql", &all);
        let refused = stage.scene.run(&["preview", "all.sql", "--format", "json"]).expect(3).json();
        let paste = refused["paste"].as_str().unwrap_or_else(|| panic!("{:?} {refused}", stage.on));
        assert_eq!(refused["paste_rows"].as_array().unwrap().len(), 4, "{refused}");
        let before = stage.dump();
        stage.run(&all);
        let expected = stage.dump();
        stage.run(
            "DELETE FROM keeper WHERE keeper_id > 79; UPDATE keeper SET name = 'Bram' WHERE keeper_id = 2;",
        );
        assert_eq!(stage.dump(), before);
        take_offer(stage, paste);
        assert_eq!(stage.dump(), expected, "{:?}", stage.on);
    });
}

/// Rehearses what is offered, and applies that; any number of rows will do.
fn take_offer(stage: &Stage, paste: &str) {
    let steps =
        paste.split_inclusive(";\n").map(|step| format!("/* marktwice step\nrows = \"0+\"\n*/\n{step}"));
    stage.scene.write("offered.sql", steps.collect::<String>());
    let shown = stage.scene.run(&["rehearse", "offered.sql", "--format", "json"]).expect(0).json();
    let done = stage.scene.run(&["apply", "offered.sql", "--yes", "--mark", shown["mark"].as_str().unwrap()]);
    assert_eq!(done.status, Some(0), "{:?}\n{}\n{}", stage.on, done.out, done.err);
}

/// What would leave out rows that break a constraint is tried as a whole: others may break it without them.
#[test]
fn what_leaves_rows_out_breaks_nothing() {
    each(|stage| {
        stage.run("CREATE TABLE place (id integer PRIMARY KEY, n integer UNIQUE); INSERT INTO place VALUES (1, 1), (2, 2), (3, 3), (5, 4), (6, 5), (7, 70);");
        let offered = |sql: &str| {
            let step = stage.scene.run(&["preview", "--format", "json", "--sql", sql]).expect(3).step();
            step["closer_look"]["unbroken"]["filter"].as_str().map(str::to_owned)
        };
        // Without the row that meets the one that is not matched, another meets the row left out.
        assert_eq!(offered("UPDATE place SET n = n + 1 WHERE id < 6"), None, "{:?}", stage.on);
        let filter = offered("UPDATE place SET n = n + 65 WHERE id > 4 AND id < 7");
        let filter = filter.unwrap_or_else(|| panic!("{:?}: nothing is offered", stage.on));
        stage.there_and_back(&format!("UPDATE place SET n = n + 65 {filter}"), "1");
    });
}
