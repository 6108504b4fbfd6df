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
