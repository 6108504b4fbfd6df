//! Somebody else at work between the marks.

use crate::{demo, scene};

const SQL: &str = "UPDATE keeper SET region = 'Moor' WHERE region = 'Dale'";

#[test]
fn a_change_between_preview_and_apply_is_caught_and_named() {
    for (script, how) in [
        ("UPDATE keeper SET region = 'Coast' WHERE keeper_id = 3", "left"),
        ("UPDATE keeper SET region = 'Dale' WHERE keeper_id = 4", "joined"),
        ("DELETE FROM keeper WHERE keeper_id = 3", "left"),
        (
            "UPDATE keeper SET region = 'Dale' WHERE keeper_id = 4; UPDATE keeper SET region = 'Fell' WHERE keeper_id = 3",
            "joined",
        ),
    ] {
        let s = demo();
        s.run(&["preview", "--sql", SQL]).expect(0);
        s.sql(script);
        let before = s.dump();
        s.run(&["apply", "--rows", "1+", "--yes"]).expect(5).says(how).says("moved since the preview");
        assert_eq!(s.dump(), before);
    }
}

#[test]
fn other_contents_and_another_result_are_moves() {
    let make = "CREATE TABLE t (id INTEGER PRIMARY KEY, a INT, other TEXT); INSERT INTO t VALUES (1, 1, 'x');
                CREATE TABLE price (p INT); INSERT INTO price VALUES (10);";
    let s = scene(make);
    let mark = |s: &marktwice_testkit::Scene, sql: &str| {
        s.run(&["preview", "--sql", sql, "--format", "json"]).expect(0).json()["mark"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    let sql = "UPDATE t SET a = a + 1 WHERE id = 1";
    let first = mark(&s, sql);
    s.sql("UPDATE t SET a = 7");
    s.run(&["apply", "--sql", sql, "--mark", &first, "--yes"]).expect(5).says("t 1  changed");
    // The target is the same; what it would become is not.
    let from_elsewhere = "UPDATE t SET a = (SELECT p FROM price) WHERE id = 1";
    let second = mark(&s, from_elsewhere);
    s.sql("UPDATE price SET p = 99");
    s.run(&["apply", "--mark", &second, "--yes"]).expect(5).says("t 1  other result");
    // A column that the statement neither reads nor writes may change; the snapshot takes the new contents.
    let third = mark(&s, sql);
    s.sql("UPDATE t SET other = 'new'");
    let run = s.run(&["apply", "--mark", &third, "--yes", "--format", "json"]).expect(0).run();
    s.run(&["undo", &run, "--yes"]).expect(0);
    assert_eq!(s.value("SELECT a || other FROM t"), "text:'7new'");
}

#[test]
fn the_table_itself_changed() {
    let s = demo();
    s.run(&["preview", "--sql", SQL]).expect(0);
    s.sql("ALTER TABLE keeper ADD COLUMN fax TEXT");
    s.run(&["apply", "--rows", "1+", "--yes"]).expect(5).says("definition of keeper has changed");
}

#[test]
fn a_change_while_the_question_is_open_is_caught_inside_the_transaction() {
    let s = demo();
    let mut t = s.terminal(&["apply", "--sql", SQL]);
    t.wait_for("[y/N]");
    s.sql("UPDATE keeper SET region = 'Fell' WHERE keeper_id = 5");
    let before = s.dump();
    t.write("y\n");
    let (status, seen) = t.end();
    assert_eq!(status, Some(5), "{seen}");
    assert!(seen.contains("keeper 5") && seen.contains("Rolled back"), "{seen}");
    assert_eq!(s.dump(), before);
    assert_eq!(s.receipt(&s.runs()[0])["state"], "rolled-back");
}

#[test]
fn a_mark_is_for_its_own_statement() {
    let s = demo();
    let mark =
        s.run(&["preview", "--sql", SQL, "--format", "json"]).json()["mark"].as_str().unwrap().to_owned();
    s.run(&["apply", "--sql", "DELETE FROM sale WHERE sale_id = 1", "--mark", &mark, "--yes"])
        .expect(2)
        .says("another statement");
    // The same tokens in another layout are the same statement.
    let relaid = "update KEEPER set region='Moor' /* same */ where region = 'Dale';";
    s.run(&["apply", "--sql", relaid, "--mark", &mark, "--yes"]).expect(0);
    s.run(&["apply", "--mark", "zzzz", "--yes"]).expect(1).says("no mark zzzz");
}

#[test]
fn the_last_preview_is_applied_without_a_change() {
    let s = demo();
    s.run(&["apply", "--rows", "1", "--yes"]).expect(1).says("nothing was previewed");
    s.run(&["preview", "--sql", "DELETE FROM sale WHERE sale_id = 1"]).expect(0);
    s.write("region.sql", format!("/* marktwice\nrows = \"1+\"\n*/\n{SQL}"));
    s.run(&["preview", "region.sql"]).expect(0);
    s.run(&["apply", "--yes"]).expect(0).says("committed");
    assert_eq!(s.value("SELECT count(*) FROM keeper WHERE region = 'Dale'"), "integer:0");
    assert_eq!(s.value("SELECT count(*) FROM sale WHERE sale_id = 1"), "integer:1");
}

/// Everything moved: memory is bounded, and the count is still right.
#[test]
fn many_rows_moved() {
    let s = scene(
        "CREATE TABLE t (id INTEGER PRIMARY KEY, a INT);
         INSERT INTO t SELECT value, 1 FROM generate_series(1, 20000);"
            .replace("generate_series(1, 20000)", "(WITH RECURSIVE n(value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM n WHERE value < 20000) SELECT value FROM n)")
            .as_str(),
    );
    s.run(&["preview", "--sql", "UPDATE t SET a = a + 1 WHERE id > 0"]).expect(0);
    s.sql(
        "UPDATE t SET a = 2 WHERE id % 2 = 0; DELETE FROM t WHERE id <= 10; INSERT INTO t VALUES (50000, 1);",
    );
    let json = s.run(&["apply", "--rows", "1+", "--yes", "--format", "json"]).expect(5).json();
    let moved = &json["moved"];
    assert_eq!((&moved["changed"], &moved["left"], &moved["joined"]), (&9995.into(), &10.into(), &1.into()));
    assert_eq!(moved["rows"].as_array().unwrap().len(), 20);
}

#[test]
fn a_trigger_that_comes_in_while_the_question_is_open() {
    let s = demo();
    let mut t = s.terminal(&["apply", "--sql", SQL]);
    t.wait_for("[y/N]");
    s.sql("CREATE TRIGGER late AFTER UPDATE ON keeper BEGIN DELETE FROM sale; END");
    let before = s.dump();
    t.write("y\n");
    let (status, seen) = t.end();
    assert_eq!(status, Some(5), "{seen}");
    assert!(seen.contains("definitions in the database have changed"), "{seen}");
    assert_eq!(s.dump(), before);
}
