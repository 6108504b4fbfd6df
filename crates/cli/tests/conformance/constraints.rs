//! What breaks a constraint is named, and nothing is left of it.

use crate::{each, only};
use marktwice_testkit::stage::On;

#[test]
fn broken_constraints_roll_back() {
    each(|stage| {
        stage.run("CREATE TABLE jar (jar_id integer PRIMARY KEY, size varchar(5) NOT NULL CHECK (size <> 'none'), grams integer);\nINSERT INTO jar VALUES (1, 'small', 1), (2, 'big', 2);");
        let before = stage.dump();
        for (sql, code, said) in [
            (
                "UPDATE keeper SET email = 'ada@x.example' WHERE keeper_id = 3",
                "taken-already",
                "what another row holds: keeper 3 (ada@x.example, as keeper 1)",
            ),
            ("UPDATE keeper SET name = NULL WHERE keeper_id = 3", "null-refused", "name"),
            ("UPDATE jar SET size = 'none' WHERE jar_id = 2", "check-refused", "jar 2 (none)"),
            ("UPDATE hive SET keeper_id = 77 WHERE hive_id = 10", "no-parent", "hive 10 (77)"),
            (
                "DELETE FROM keeper WHERE keeper_id = 1",
                "has-children",
                "2 rows of hive refer to these by keeper_id, and hold them there: hive 10 to keeper 1, hive 11 to keeper 1",
            ),
        ] {
            // The preview says it before anything runs, and it is not let pass; where nobody looks, the run says the same.
            let args = ["preview", "--sql", sql, "--allow", code];
            stage.scene.run(&args).expect(3).says(code).says(said);
            // What one server would not even hold as NULL it refuses before the run.
            let early = code == "null-refused" && stage.on == On::Maria;
            stage.apply(sql, "1", if early { 3 } else { 1 }).says(said);
            assert_eq!(stage.dump(), before, "{:?} {sql}", stage.on);
        }
        if stage.on != On::Sqlite {
            // Told before anything begins.
            for sql in [
                "UPDATE jar SET size = 'enormous' WHERE jar_id = 2",
                "UPDATE hive SET kilos = 1234567.5 WHERE hive_id = 10",
                "UPDATE hive SET kilos = 'heavy' WHERE hive_id = 10",
            ] {
                let answer = stage.scene.run(&["apply", "--sql", sql, "--rows", "1", "--yes"]);
                assert_eq!(answer.status, Some(3), "{:?} {sql}\n{}", stage.on, answer.err);
                assert_eq!(stage.dump(), before, "{:?} {sql}", stage.on);
            }
        }
        // What leaves those rows out is offered, and does it.
        let sql = "UPDATE hive SET keeper_id = keeper_id + 3 WHERE hive_id > 0";
        let step = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]).step();
        let left = &step["closer_look"]["unbroken"];
        assert_eq!(left["rows"], 2, "{step:#}");
        let offered = left["filter"].as_str().unwrap();
        assert_eq!(offered, "WHERE (hive_id > 0) AND hive_id NOT IN (12, 13)");
        stage.there_and_back(&format!("UPDATE hive SET keeper_id = keeper_id + 3 {offered}"), "2");
        // The refused attempts stand in the way of nothing.
        stage.there_and_back("UPDATE jar SET size = 'tiny', grams = NULL WHERE jar_id = 2", "1");
    });
}

#[test]
fn constraints_that_wait_speak_before_the_commit() {
    each(|stage| {
        if stage.on != On::Postgres {
            return;
        }
        stage.run("CREATE TABLE pair (a integer PRIMARY KEY, b integer UNIQUE DEFERRABLE INITIALLY DEFERRED, h integer REFERENCES keeper DEFERRABLE INITIALLY DEFERRED); INSERT INTO pair VALUES (1, 1, 1), (2, 2, 2);");
        let before = stage.dump();
        stage.apply("UPDATE pair SET h = 99 WHERE a = 1", "1", 1).says("99");
        stage.apply("UPDATE pair SET b = 5 WHERE a > 0", "all", 1);
        assert_eq!(stage.dump(), before);
        // A swap that only a waiting constraint allows, there and back.
        stage.there_and_back("UPDATE pair SET b = 3 - b WHERE a IN (1, 2)", "2");
    });
}

#[test]
fn values_that_rows_take_from_each_other() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        // Which row is written first hangs on the engine: a warning, and a rehearsal tells.
        stage.run("CREATE TABLE place (place_id integer PRIMARY KEY, n integer UNIQUE); INSERT INTO place VALUES (1, 1), (2, 2), (3, 3);");
        let shifted = "UPDATE place SET n = n + 1 WHERE n < 4";
        s.run(&["preview", "--sql", shifted]).expect(0).says("taken-already").says("only the run can tell");
        // A key that one row gives up and another takes holds its children again (where that is looked at in the end).
        if stage.on != On::Maria {
            stage.run("CREATE TABLE spot (spot_id integer PRIMARY KEY, n integer UNIQUE); INSERT INTO spot VALUES (1, 1), (2, 2); CREATE TABLE box (box_id integer PRIMARY KEY, n integer, FOREIGN KEY (n) REFERENCES spot (n)); INSERT INTO box VALUES (7, 2);");
            let turned = "UPDATE spot SET n = CASE n WHEN 2 THEN 3 ELSE 2 END WHERE n < 3";
            s.run(&["preview", "--sql", turned]).expect(0).says_not("has-children");
            s.run(&["preview", "--sql", "UPDATE spot SET n = 3 WHERE n = 2"])
                .expect(3)
                .says("box 7 to spot 2");
            stage.run("DROP TABLE box; DROP TABLE spot;");
        }
        // Where the statement says the order, that is known too.
        if stage.on == On::Maria {
            s.run(&["preview", "--sql", &format!("{shifted} ORDER BY n DESC")])
                .expect(0)
                .says_not("taken-already");
            s.run(&["preview", "--sql", &format!("{shifted} ORDER BY n")]).expect(3).says("taken-already");
            stage.there_and_back(&format!("{shifted} ORDER BY n DESC"), "3");
        }
        // Columns that are left alone are compared as they are declared.
        if stage.on == On::Sqlite {
            stage.run("CREATE TABLE twin (a text, b text COLLATE NOCASE, PRIMARY KEY (a, b)); INSERT INTO twin VALUES ('x', 'A'), ('y', 'a');");
            s.run(&["preview", "--sql", "UPDATE twin SET a = 'z'", "--rows", "all"])
                .expect(3)
                .says("2 rows would hold the same a, b");
            stage.run("DROP TABLE twin;");
        }
        // An index over an expression, and for some of the rows only.
        if stage.on != On::Maria {
            stage.run("CREATE UNIQUE INDEX low ON keeper (lower(name)) WHERE region IS NOT NULL;");
            let sql = "UPDATE keeper SET name = 'ADA' WHERE keeper_id = 2";
            s.run(&["preview", "--sql", sql]).expect(3).says("keeper 2 (ada, as keeper 1)");
            s.run(&["preview", "--sql", "UPDATE keeper SET name = 'ADA' WHERE keeper_id = 4"]).expect(0);
        }
        stage.run("DROP TABLE place;");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn which_part_of_a_check_is_false() {
    each(|stage| {
        stage.run("CREATE TABLE jar (id integer PRIMARY KEY, grams integer, CHECK (grams > 0 AND grams BETWEEN 1 AND 500 AND grams <> 13));\nINSERT INTO jar VALUES (1, 250), (2, 500);");
        let preview = stage
            .scene
            .run(&["preview", "--sql", "UPDATE jar SET grams = grams + 400 WHERE id = 1"])
            .expect(3);
        let said = preview.says("check-refused").says("does not hold").out;
        let parts = said.split("of which").nth(1).unwrap().split("does not hold").next().unwrap();
        assert!(
            parts.contains("500") && !parts.contains("13") && !parts.contains("> 0"),
            "{:?}: {parts}",
            stage.on
        );
        let two = stage.scene.run(&["preview", "--sql", "UPDATE jar SET grams = -grams"]).expect(3);
        assert!(two.out.contains("do not hold"), "{}", two.out);
    });
}

#[test]
fn what_excludes_each_other() {
    only(On::Postgres, |stage| {
        stage.run(
            "CREATE TABLE slot (id int PRIMARY KEY, at int4range, EXCLUDE USING gist (at WITH &&));
             INSERT INTO slot VALUES (1, '[1,5)'), (2, '[5,9)'), (3, '[20,30)');
             CREATE TABLE tag (id int PRIMARY KEY, code text, UNIQUE NULLS NOT DISTINCT (code));
             INSERT INTO tag VALUES (1, NULL), (2, 'a'), (3, 'b');",
        );
        for (sql, said) in [
            (
                "UPDATE slot SET at = '[4,7)' WHERE id = 1",
                "1 row would exclude another row by at (EXCLUDE USING gist (at WITH &&)): slot 1 ([4,7), as slot 2)",
            ),
            ("UPDATE slot SET at = '[50,60)' WHERE id < 3", "2 rows would exclude each other by at"),
            ("UPDATE tag SET code = NULL WHERE id = 2", "tag 2 (NULL, as tag 1)"),
        ] {
            stage.scene.run(&["preview", "--sql", sql]).expect(3).says("taken-already").says(said);
            stage.db().try_run(sql).unwrap_err();
        }
        stage.there_and_back("UPDATE slot SET at = '[9,20)' WHERE id = 1", "1");
        stage.there_and_back("UPDATE tag SET code = 'c' WHERE code IS NULL", "1");
    });
}

/// What PostgreSQL asks of rows besides: the bounds of a partition, a partition for each row, all columns of a key or none.
#[test]
fn bounds_and_whole_keys() {
    only(On::Postgres, |stage| {
        stage.run(
            "CREATE TABLE sale (sale_id int NOT NULL, season int NOT NULL, kilos int, PRIMARY KEY (sale_id, season)) PARTITION BY LIST (season);
             CREATE TABLE sale_1 PARTITION OF sale FOR VALUES IN (1); CREATE TABLE sale_2 PARTITION OF sale FOR VALUES IN (2);
             INSERT INTO sale VALUES (1, 1, 1), (2, 2, 2);
             CREATE TABLE label (label_id int PRIMARY KEY, sale_id int, season int, FOREIGN KEY (sale_id, season) REFERENCES sale MATCH FULL);
             INSERT INTO label VALUES (1, 1, 1);",
        );
        let codes = |sql: &str| -> Vec<String> {
            let step = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]).step();
            let findings = step["findings"].as_array().unwrap().iter();
            findings.map(|finding| finding["code"].as_str().unwrap().to_owned()).collect()
        };
        for sql in [
            "UPDATE sale_2 SET season = 1 WHERE sale_id = 2",
            "UPDATE sale SET season = 7 WHERE sale_id = 2",
            "INSERT INTO sale (sale_id, season) VALUES (5, 9)",
            "UPDATE label SET season = NULL WHERE label_id = 1",
        ] {
            assert!(codes(sql).contains(&"check-refused".to_owned()), "{sql}");
            assert!(stage.db().try_run(&format!("{sql};")).is_err(), "{sql}");
        }
        for sql in [
            "UPDATE sale SET season = 1 WHERE sale_id = 2",
            "INSERT INTO sale (sale_id, season) VALUES (5, 2)",
            "UPDATE label SET season = NULL, sale_id = NULL WHERE label_id = 1",
        ] {
            assert!(!codes(sql).contains(&"check-refused".to_owned()), "{sql}");
            stage.there_and_back(sql, "1");
        }
    });
}
