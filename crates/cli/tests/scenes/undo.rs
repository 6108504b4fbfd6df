//! Undo: what has changed since stops it and is named cell by cell.

use crate::{demo, scene};

const SQL: &str = "UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5)";

fn apply(s: &marktwice_testkit::Scene, sql: &str) -> String {
    s.run(&["apply", "--sql", sql, "--rows", "1+", "--yes", "--format", "json"]).expect(0).run()
}

#[test]
fn a_row_that_changed_since_stops_it_and_is_named() {
    let s = demo();
    let run = apply(&s, SQL);
    s.sql("UPDATE keeper SET region = 'Fell', phone = '0' WHERE keeper_id = 5");
    let before = s.dump();
    s.run(&["undo", &run, "--yes"])
        .expect(5)
        .says("1 row has changed since the run")
        .says("keeper 5  region: the run left Moor, now Fell")
        .says("keeper 5  phone:")
        .says("Not begun; nothing changed");
    assert_eq!(s.dump(), before);
    let json = s.run(&["undo", &run, "--yes", "--format", "json"]).expect(5).json();
    assert_eq!(json["conflicts"]["rows"][0]["cells"][1]["column"], "region");
    assert_eq!(json["end"], "conflicts");
}

#[test]
fn gone_rows_and_taken_keys() {
    let s = demo();
    let run = apply(&s, SQL);
    s.sql("DELETE FROM keeper WHERE keeper_id = 3");
    s.run(&["undo", &run, "--yes"]).expect(5).says("keeper 3  is gone");
    let s = demo();
    let run = apply(&s, "DELETE FROM sale WHERE sale_id IN (7, 8)");
    s.sql("INSERT INTO sale VALUES (8, 1, 1, '2026-01-01')");
    let before = s.dump();
    s.run(&["undo", &run, "--yes"]).expect(5).says("sale 8  another row has its key now");
    assert_eq!(s.dump(), before);
}

#[test]
fn rows_that_the_run_did_not_change_may_change_later() {
    let s = demo();
    let run = apply(&s, "UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5, 8)");
    s.sql("UPDATE keeper SET phone = '0' WHERE keeper_id = 8");
    s.run(&["undo", &run, "--yes"]).expect(0).says("2 rows put back");
    assert_eq!(s.value("SELECT phone FROM keeper WHERE keeper_id = 8"), "text:'0'");
}

#[test]
fn letter_case_counts_whatever_the_collation_says() {
    let s = scene(
        "CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT COLLATE NOCASE); INSERT INTO t VALUES (1, 'x');",
    );
    let run = apply(&s, "UPDATE t SET a = 'moor' WHERE id = 1");
    s.sql("UPDATE t SET a = 'MOOR'");
    s.run(&["undo", &run, "--yes"]).expect(5).says("the run left moor, now MOOR");
}

#[test]
fn which_runs_can_be_undone() {
    let s = demo();
    s.run(&["undo", "--rows", "1", "--yes"]).expect(2).says("name the run");
    let run = apply(&s, SQL);
    s.run(&["undo", "zz!", "--yes"]).expect(2).says("there is no run zz!");
    let undo = s.run(&["undo", &run[..3], "--yes", "--format", "json"]).expect(0).run();
    s.run(&["undo", &run, "--yes"]).expect(2).says("was taken back already").says(&undo);
    s.run(&["undo", "--rows", "2", "--yes"]).expect(2).says("name the run");
    s.run(&["undo", &undo, "--yes"]).expect(0).says("2 rows put back");
    // The undo is undone, so the run stands again and can be taken back again.
    s.run(&["undo", &run, "--yes"]).expect(0);
    assert_eq!(s.value("SELECT region FROM keeper WHERE keeper_id = 5"), "text:'Dale'");
}

#[test]
fn a_changed_table_stops_it() {
    let s = demo();
    let run = apply(&s, SQL);
    s.sql("ALTER TABLE keeper RENAME COLUMN region TO area");
    s.run(&["undo", &run, "--yes"]).expect(5).says("definition of keeper has changed");
}

#[test]
fn a_trigger_that_rewrites_what_is_put_back_is_said() {
    let s = scene(
        "CREATE TABLE t (id INTEGER PRIMARY KEY, a INT, n INT DEFAULT 0); INSERT INTO t VALUES (1, 1, 0);
         CREATE TRIGGER count_up AFTER UPDATE OF a ON t BEGIN UPDATE t SET n = n + 1 WHERE id = new.id; END;",
    );
    let sql = "UPDATE t SET a = 2 WHERE id = 1";
    s.run(&["apply", "--sql", sql, "--rows", "1", "--yes"]).expect(3).says("trigger count_up writes t");
    let run = s
        .run(&[
            "apply",
            "--sql",
            sql,
            "--rows",
            "1",
            "--yes",
            "--allow",
            "undeclared-write",
            "--format",
            "json",
        ])
        .expect(0)
        .run();
    assert_eq!(s.value("SELECT a || '/' || n FROM t"), "text:'2/1'");
    s.run(&["undo", &run, "--yes"]).expect(3).says("count_up");
    s.run(&["undo", &run, "--yes", "--allow", "undeclared-write"])
        .expect(0)
        .says("only the undo can tell: n (trigger count_up sets it)");
    assert_eq!(s.value("SELECT a || '/' || n FROM t"), "text:'1/1'");
}

#[test]
fn a_damaged_snapshot_is_refused() {
    let s = demo();
    let run = apply(&s, SQL);
    let file = s.runs()[0].join("rows.jsonl.zst");
    let mut bytes = std::fs::read(&file).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 0x55;
    std::fs::write(&file, bytes).unwrap();
    let before = s.dump();
    s.run(&["undo", &run, "--yes"]).expect(1).says("is damaged");
    std::fs::remove_file(&file).unwrap();
    s.run(&["undo", &run, "--yes"]).expect(1).says("rows.jsonl.zst");
    assert_eq!(s.dump(), before);
}

#[test]
fn changed_rows_are_skipped_or_overwritten_when_told() {
    let s = demo();
    let start = s.dump();
    let run = apply(&s, SQL);
    s.sql("UPDATE keeper SET region = 'Fell', phone = '0' WHERE keeper_id = 5");
    s.run(&["undo", &run, "--yes", "--changed", "skip"])
        .expect(0)
        .says("1 row is left alone")
        .says("keeper 5  region: the run left Moor, now Fell")
        .says("1 row put back");
    assert_eq!(
        s.value("SELECT group_concat(region) FROM keeper WHERE keeper_id IN (3, 5)"),
        "text:'Dale,Fell'"
    );
    // The run still stands in part, and the rest can be taken back.
    s.run(&["history"]).says("can be undone");
    s.run(&["undo", &run, "--yes", "--changed", "overwrite"])
        .expect(0)
        .says("1 row is as before the run already")
        .says("Fell → Dale");
    assert_eq!(
        s.value("SELECT region || phone FROM keeper WHERE keeper_id = 5"),
        "text:'Dale0'",
        "another column stays"
    );
    s.sql("UPDATE keeper SET phone = NULL WHERE keeper_id = 5");
    assert_eq!(s.dump(), start);
    s.run(&["undo", &run, "--yes"]).expect(2).says("was taken back already");
}

#[test]
fn gone_rows_are_skipped_or_brought_in_when_told() {
    let sql = "UPDATE sale SET kilos = 1 WHERE sale_id IN (7, 8)";
    let s = demo();
    let start = s.dump();
    let run = apply(&s, sql);
    let applied = s.dump();
    s.sql("DELETE FROM sale WHERE sale_id = 7");
    let gone = s.dump();
    s.run(&["undo", &run, "--yes", "--changed", "overwrite"]).expect(5).says("sale 7  is gone");
    let undo = s.run(&["undo", &run, "--yes", "--gone", "insert", "--format", "json"]).expect(0).run();
    assert_eq!(s.dump(), start);
    // That undo both changed a row and brought one in; it can be taken back as well.
    let again = s.run(&["undo", &undo, "--yes", "--format", "json"]).expect(0).run();
    assert_eq!(s.dump(), gone);
    s.run(&["undo", &again, "--yes"]).expect(0);
    assert_eq!(s.dump(), start);
    let s = demo();
    let run = apply(&s, sql);
    assert_eq!(s.dump(), applied);
    s.sql("DELETE FROM sale WHERE sale_id = 7");
    s.run(&["undo", &run, "--yes", "--gone", "skip"]).expect(0).says("1 row put back");
    assert_eq!(s.value("SELECT count(*) FROM sale WHERE sale_id = 7"), "integer:0");
}

#[test]
fn only_some_rows() {
    let s = scene(
        "CREATE TABLE hs (hive INT, season INT, kilos INT, PRIMARY KEY (hive, season)) WITHOUT ROWID;
         INSERT INTO hs VALUES (12, 2025, 1), (12, 2026, 2), (13, 2026, 3);",
    );
    let start = s.dump();
    let run = apply(&s, "UPDATE hs SET kilos = kilos * 10 WHERE kilos > 0");
    // The key of a row is written in the same way wherever one is named.
    s.run(&["set", "hs", "12,2025", "kilos=7", "--yes"]).expect(0);
    s.run(&["set", "hs", "season=2025,hive=12", "kilos=10", "--yes"]).expect(0);
    s.run(&["undo", &run, "--yes", "--only", "12,2027"]).expect(2).says("no row with the key 12,2027");
    s.run(&["undo", &run, "--yes", "--only", "season=2026, hive=12", "--only", "13, 2026"])
        .expect(0)
        .says("1 row is not asked for")
        .says("2 rows put back");
    assert_eq!(s.value("SELECT group_concat(kilos) FROM hs"), "text:'10,2,3'");
    s.run(&["undo", &run, "--yes"])
        .expect(0)
        .says("2 rows are as before the run already")
        .says("1 row put back");
    assert_eq!(s.dump(), start);
    s.run(&["undo", &run, "--yes"]).expect(2).says("taken back already");
}

#[test]
fn a_taken_key_is_never_taken_from_its_row() {
    let s = demo();
    let run = apply(&s, "DELETE FROM sale WHERE sale_id IN (7, 8)");
    s.sql("INSERT INTO sale VALUES (8, 1, 1, '2026-01-01')");
    s.run(&["undo", &run, "--yes", "--changed", "overwrite", "--gone", "insert"])
        .expect(5)
        .says("another row has its key");
    s.run(&["undo", &run, "--yes", "--changed", "skip"]).expect(0).says("1 row brought back");
    assert_eq!(s.value("SELECT sold_on FROM sale WHERE sale_id = 8"), "text:'2026-01-01'");
}

/// What is agreed to at the question is what happens: an edit behind it is not overwritten unseen.
#[test]
fn an_edit_while_the_question_of_an_undo_is_open() {
    let s = demo();
    let run = apply(&s, SQL);
    let mut t = s.terminal(&["undo", &run, "--changed", "overwrite"]);
    t.wait_for("[y/N]");
    s.sql("UPDATE keeper SET region = 'Fell' WHERE keeper_id = 5");
    let before = s.dump();
    t.write("y\n");
    let (status, seen) = t.end();
    assert_eq!(status, Some(5), "{seen}");
    assert_eq!(s.dump(), before);
}
