//! There and back, whatever tells the rows apart.

use crate::{PROGRAM, each};
use marktwice_testkit::stage::{On, Stage};

#[test]
fn values_go_and_come_back() {
    each(|stage| {
        stage
            .there_and_back("UPDATE keeper SET region = 'Fell', email = NULL WHERE keeper_id IN (1, 3)", "2");
        stage.there_and_back("UPDATE hive SET kilos = kilos * 1.1, note = NULL WHERE keeper_id = 3", "2");
        stage.there_and_back("DELETE FROM hive WHERE note IS NULL OR note = ''", "2");
        stage.there_and_back("UPDATE hive SET note = 'all' ", "all");
        stage.apply("UPDATE keeper SET region = 'Moor' WHERE keeper_id = 2", "1", 0).says("Nothing to do");
        stage.apply("UPDATE keeper SET region = 'Moor' WHERE keeper_id = 99", "0-5", 0);
    });
}

#[test]
fn the_same_again_is_asked_about() {
    each(|stage| {
        let sql = "UPDATE hive SET kilos = kilos + 1 WHERE hive_id = 10";
        stage.apply(sql, "1", 0);
        stage.apply(sql, "1", 3).says("already-run");
        stage.undo(&[], 0);
        stage.apply(sql, "1", 0);
    });
}

#[test]
fn keys_that_change() {
    each(|stage| {
        stage.run("CREATE TABLE shelf (place integer PRIMARY KEY, jar integer UNIQUE);\nINSERT INTO shelf VALUES (1, 10), (2, 20), (3, 30), (4, 40);");
        stage.there_and_back("UPDATE shelf SET place = place + 100 WHERE place >= 2", "3");
        stage.there_and_back("UPDATE shelf SET place = 9, jar = NULL WHERE jar = 30", "1");
        // Values that are handed on need an order, on the way back too.
        stage.run("DELETE FROM shelf;\nINSERT INTO shelf VALUES (1, 10), (2, 20), (3, 30), (4, 40);");
        stage.there_and_back("UPDATE shelf SET jar = jar - 10 WHERE place > 0", "all");
    });
}

#[test]
fn composite_and_unique_keys() {
    each(|stage| {
        stage.run(
            "CREATE TABLE hive_season (hive integer NOT NULL, season integer NOT NULL, kilos integer, PRIMARY KEY (hive, season));\n\
             INSERT INTO hive_season VALUES (1, 2025, 5), (1, 2026, NULL), (2, 2025, 7);\n\
             CREATE TABLE tag (code varchar(10) NOT NULL UNIQUE, note varchar(10));\n\
             INSERT INTO tag VALUES ('A1', 'x'), ('a2', NULL);",
        );
        stage.there_and_back(
            "UPDATE hive_season SET kilos = 1, season = 2027 WHERE hive = 1 AND season = 2026",
            "1",
        );
        stage.there_and_back("DELETE FROM hive_season WHERE season = 2025", "2");
        stage.there_and_back("UPDATE tag SET code = 'A9', note = 'n' WHERE code = 'A1'", "1");
        stage.there_and_back("DELETE FROM tag WHERE note IS NULL", "1");
    });
}

#[test]
fn rows_without_a_key() {
    each(|stage| {
        stage.run(
            "CREATE TABLE sheet (hive varchar(10), kilos decimal(6,2), note varchar(20));\n\
             INSERT INTO sheet VALUES ('12', 1.5, NULL), ('12', 1.5, NULL), ('12', 1.5, NULL), ('7', 2, ''), ('7', NULL, 'wet'), ('8', 3, 'a|b'), ('8', 3, 'A|b');",
        );
        stage.there_and_back("UPDATE sheet SET note = 'three alike' WHERE hive = '12'", "3");
        stage.there_and_back("UPDATE sheet SET kilos = 9, note = NULL WHERE hive = '7'", "2");
        // Becoming equal to rows that are there already.
        stage.there_and_back("UPDATE sheet SET hive = '12', kilos = 1.5, note = NULL WHERE hive = '7'", "2");
        stage.there_and_back("DELETE FROM sheet WHERE hive = '12'", "3");
        stage.there_and_back("DELETE FROM sheet WHERE note = ''", "1");
        if stage.on != On::Maria {
            let row = stage.by("rowid", "ctid", "");
            stage.there_and_back(
                &format!("DELETE FROM sheet WHERE {row} = (SELECT max({row}) FROM sheet WHERE hive = '12')"),
                "1",
            );
        }
        // A row that changed since is left alone.
        stage.apply("UPDATE sheet SET note = 'twice' WHERE hive = '7'", "2", 0);
        stage.run("UPDATE sheet SET note = 'mine' WHERE hive = '7' AND kilos IS NULL;");
        let left = stage.dump();
        stage.undo(&[], 5);
        assert_eq!(stage.dump(), left);
    });
}

#[test]
fn names_in_every_case_and_quoting() {
    Stage::each(PROGRAM, |stage| {
        let (o, c) = match stage.on {
            On::Maria => ('`', '`'),
            _ => ('"', '"'),
        };
        let q = |name: &str| format!("{o}{name}{c}");
        let (table, key, column, same) = (q("Bee Book"), q("Key no."), q("The Note"), q("select"));
        stage.run(&format!(
            "CREATE TABLE {table} ({key} integer PRIMARY KEY, {column} varchar(20), {same} varchar(20), ünter integer);\n\
             INSERT INTO {table} VALUES (1, 'a', 'b', 1), (2, 'c', 'd', 2);"
        ));
        stage.there_and_back(
            &format!("UPDATE {table} SET {column} = {same} || 'x', ÜNTER = 5 WHERE {key} = 2")
                .replace(if stage.on == On::Maria { " || 'x'" } else { "\u{0}" }, "")
                .replace("ÜNTER", "ünter"),
            "1",
        );
        stage.there_and_back(
            &format!("DELETE FROM {table} AS t WHERE t.{same} = 'b' AND t.{key} <> 2")
                .replace(if stage.on == On::Maria { " AS t" } else { "\u{0}" }, "")
                .replace(if stage.on == On::Maria { "t." } else { "\u{0}" }, ""),
            "1",
        );
        let wrong = stage.scene.run(&[
            "preview",
            "--sql",
            &format!("UPDATE {table} SET {} = 'x' WHERE {key} = 2", q("The Nota")),
        ]);
        wrong.expect(3).says("unknown-name").says("The Note");
    });
}

#[test]
fn many_rows() {
    each(|stage| {
        let rows: Vec<String> =
            (1..=3_000).map(|i| format!("({}, {}, {i}, 'n{}')", 1000 + i, 1 + i % 4, i % 7)).collect();
        stage.run(&format!("INSERT INTO hive VALUES {};", rows.join(", ")));
        stage.there_and_back("UPDATE hive SET kilos = kilos / 3, note = 'm' WHERE hive_id > 1000", "3000");
        stage.there_and_back("DELETE FROM hive WHERE note = 'n3'", "400+");
    });
}

#[test]
fn unique_values_are_handed_back_among_rows_without_a_key() {
    each(|stage| {
        stage.run("CREATE TABLE jar (a int, b int UNIQUE, c int); INSERT INTO jar VALUES (0, 2, 3), (1, -1, 0), (2, NULL, 0);");
        // One row takes the value that another gives up; back again they stand in each other's way.
        stage
            .there_and_back("UPDATE jar SET b = CASE a WHEN 0 THEN 1 ELSE 2 END, c = c + 1 WHERE a < 2", "2");
    });
}

#[test]
fn something_unique_without_null_tells_rows_apart() {
    each(|stage| {
        stage.run(
            "CREATE TABLE tag (code varchar(10) UNIQUE, kilos decimal(8,2), note varchar(60));
             INSERT INTO tag VALUES ('a', 1, 'x'), ('b', 2, 'x'), ('c', 3, NULL);",
        );
        let s = &stage.scene;
        let before = stage.dump();
        // What only the run can tell is told by the key; so is a join.
        let dice = stage.by("abs(random() % 50)", "floor(random() * 50)", "floor(rand() * 50)");
        let sql = format!("UPDATE tag SET kilos = 10 + {dice} WHERE code IN ('a', 'c')");
        s.run(&["apply", "--sql", &sql, "--rows", "2", "--yes"]).expect(0);
        s.run(&["undo", "@last", "--yes", "--rows", "2"]).expect(0).says("2 rows put back");
        assert_eq!(stage.dump(), before);
        stage.there_and_back(
            stage.by(
                "UPDATE tag SET note = k.name FROM keeper k WHERE k.keeper_id = tag.kilos",
                "UPDATE tag SET note = k.name FROM keeper k WHERE k.keeper_id = tag.kilos",
                "UPDATE tag JOIN keeper k ON k.keeper_id = tag.kilos SET note = k.name",
            ),
            "3",
        );
        stage.there_and_back("DELETE FROM tag WHERE kilos > 1", "2");
        // A statement that moves the key itself is told by the whole row.
        stage.there_and_back("UPDATE tag SET code = NULL, note = 'none' WHERE kilos = 2", "1");
        assert_eq!(stage.dump(), before);
        // Where a row holds NULL there, it is none; a run that was told by it is taken back all the same.
        s.run(&["apply", "--sql", "UPDATE tag SET note = 'y' WHERE code = 'a'", "--rows", "1", "--yes"])
            .expect(0);
        stage.run("INSERT INTO tag VALUES (NULL, 7, 'n'), (NULL, 7, 'n');");
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0).says("1 row put back");
        let whole = s.run(&["preview", "--sql", &sql, "--format", "json"]).expect(0).step();
        if stage.on != On::Sqlite {
            assert_eq!(whole["key"], serde_json::json!([]), "no key tells rows: their contents do");
        }
    });
}
