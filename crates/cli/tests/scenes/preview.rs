//! What a preview shows, and that it writes nothing and does not lie.

use crate::{demo, scene};

const REGION: &str = "UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5, 8)";

#[test]
fn rows_counts_and_what_pins_them() {
    let s = demo();
    let before = s.dump();
    let bytes = std::fs::read(s.path("coop.db")).unwrap();
    s.run(&["preview", "--sql", REGION])
        .expect(0)
        .says("coop.db (SQLite) · UPDATE keeper · 3 of 24 rows match, pinned by the primary key")
        .says("2 would change, 1 already holds the new value")
        .says("Dale → Moor")
        .says("already so");
    assert_eq!(s.dump(), before);
    assert_eq!(std::fs::read(s.path("coop.db")).unwrap(), bytes, "not a byte is written");
}

#[test]
fn json_has_typed_values_and_labels() {
    let s = demo();
    let sql = "UPDATE batch SET discount_price = '12.50', season = season + 1 WHERE batch_id = 97";
    let answer = s.run(&["preview", "--sql", sql, "--format", "json"]).expect(0);
    let (whole, json) = (answer.json(), answer.step());
    assert_eq!(whole["format"], "marktwice-preview");
    assert_eq!(whole["version"], 2);
    assert_eq!((&json["matched"], &json["changes"], &json["total"]), (&1.into(), &1.into(), &144.into()));
    // The column has NUMERIC affinity: the engine would store a number, not the text.
    assert_eq!(json["rows"][0]["after"]["discount_price"], 12.5);
    assert_eq!(json["rows"][0]["after"]["season"], 2027);
    assert!(json["foreseen"].as_array().unwrap().iter().all(|f| f["label"] == "exact"));
    assert_eq!(json["pinned"]["by"], "primary-key");
    assert_eq!(whole["status"], 0);
}

#[test]
fn totals_of_numeric_columns() {
    let s = demo();
    let sql = "UPDATE batch SET list_price = list_price * 2 WHERE season = 2026 AND flower = 'lime'";
    let json = s.run(&["preview", "--sql", sql, "--format", "json"]).expect(0).step();
    let (was, becomes) = (&json["totals"][0]["before"]["sum"], &json["totals"][0]["after"]["sum"]);
    let twice = was.as_f64().unwrap() * 2.0;
    assert!((becomes.as_f64().unwrap() - twice).abs() < 1e-6);
    let real = s.value("SELECT round(sum(list_price), 2) FROM batch WHERE season = 2026 AND flower = 'lime'");
    assert_eq!(real, format!("real:{was}"));
}

#[test]
fn show_limits_rows_and_says_so() {
    let s = demo();
    let sql = "DELETE FROM inspection WHERE day < '2021-01-01'";
    let shown = |args: &[&str]| {
        s.run(&[&["preview", "--sql", sql, "--format", "json"], args].concat()).step()["rows"]
            .as_array()
            .unwrap()
            .len()
    };
    assert_eq!((shown(&[]), shown(&["--show", "3"]), shown(&["--show", "all"])), (20, 3, 389));
    s.run(&["preview", "--sql", sql]).says("and 369 rows more (--show all)");
}

#[test]
fn what_only_the_run_can_tell_is_not_guessed() {
    let s = scene(
        "CREATE TABLE t (id INTEGER PRIMARY KEY, a INT, stamp TEXT); INSERT INTO t VALUES (1, 1, NULL), (2, 2, NULL), (3, 3, NULL);",
    );
    for (set, label) in [
        ("stamp = datetime('now')", "unknown"),
        ("stamp = CURRENT_TIMESTAMP", "unknown"),
        ("a = random()", "unknown"),
        ("a = (SELECT max(x.a) FROM t AS x WHERE x.id <= t.id) + 1", "unknown"),
        ("a = coalesce(NULL, (SELECT max(a) FROM t))", "unknown"),
        ("a = (SELECT max(a) FROM t)", "exact"),
        ("stamp = date('2026-05-11', '+1 day')", "exact"),
        ("(a, stamp) = (5, 'x')", "exact"),
        ("(a, stamp) = (SELECT 5, 'x')", "exact"),
        ("(a, stamp) = (SELECT x.a, 'x' FROM t AS x WHERE x.id = t.id)", "unknown"),
    ] {
        let json = s
            .run(&["preview", "--sql", &format!("UPDATE t SET {set} WHERE id > 0"), "--format", "json"])
            .step();
        assert!(
            json["foreseen"].as_array().unwrap().iter().all(|f| f["label"] == label),
            "{set}: {}",
            json["foreseen"]
        );
        assert_eq!(json["changes"].is_null(), label == "unknown", "{set}");
    }
    s.run(&["preview", "--sql", "UPDATE t SET stamp = datetime('now') WHERE id = 1"])
        .expect(0)
        .says("NULL → ?")
        .says("datetime reads the clock");
}

/// The statement raises the running maximum row by row; only the run can tell, and it is still applied and undone.
#[test]
fn an_unknown_outcome_is_applied_and_undone_all_the_same() {
    let s = scene(
        "CREATE TABLE t (id INTEGER PRIMARY KEY, a INT); INSERT INTO t VALUES (1, 1), (2, 2), (3, 30);",
    );
    let before = s.dump();
    let sql = "UPDATE t SET a = (SELECT max(a) FROM t AS x WHERE x.id > -t.id) + 1";
    s.run(&["apply", "--sql", sql, "--rows", "all", "--yes"]).expect(0).says("3 rows committed");
    assert_eq!(s.value("SELECT group_concat(a) FROM t"), "text:'31,32,33'");
    s.run(&["undo", "@last", "--rows", "3", "--yes"]).expect(0);
    assert_eq!(s.dump(), before);
}

#[test]
fn affinity_strict_and_generated_columns_are_the_engines() {
    let s = scene(
        "CREATE TABLE loose (id INTEGER PRIMARY KEY, n INT, t TEXT, r REAL, x DECIMAL(8,2), b BLOB, \
           twice AS (n * 2), tag TEXT COLLATE NOCASE, same AS (tag = 'ABC') STORED);
         INSERT INTO loose (id, n, t, r, x, b, tag) VALUES (1, 1, 'a', 1.5, 2, x'00', 'abc');
         CREATE TABLE strict_one (id INTEGER PRIMARY KEY, n INT, any_one ANY) STRICT;
         INSERT INTO strict_one VALUES (1, 1, 1);",
    );
    let sql = "UPDATE loose SET n = '7', t = 8, r = 9, x = '1.50', b = '10', tag = 'aBc' WHERE id = 1";
    let json = s.run(&["preview", "--sql", sql, "--format", "json"]).expect(0).step();
    let after = &json["rows"][0]["after"];
    assert_eq!(
        (&after["n"], &after["t"], &after["r"], &after["x"], &after["b"]),
        (&7.into(), &"8".into(), &9.0.into(), &1.5.into(), &"10".into())
    );
    assert_eq!(after["twice"], 14, "a generated column follows");
    s.run(&["apply", "--sql", sql, "--rows", "1", "--yes"]).expect(0);
    assert_eq!(s.value("SELECT same FROM loose"), "integer:1");
    s.run(&["undo", "@last", "--rows", "1", "--yes"]).expect(0);
    assert_eq!(s.value("SELECT t FROM loose"), "text:'a'");
    s.run(&["preview", "--sql", "UPDATE strict_one SET n = 'x' WHERE id = 1"])
        .expect(3)
        .says("cannot store TEXT value in INT");
    let any = s
        .run(&["preview", "--sql", "UPDATE strict_one SET any_one = '007' WHERE id = 1", "--format", "json"])
        .step();
    assert_eq!(any["rows"][0]["after"]["any_one"], "007");
}

#[test]
fn statements_in_every_dress() {
    let s = demo();
    for (sql, matched) in [
        ("update main.keeper as k set region = upper(k.region) where k.keeper_id = 3 -- why", 1),
        ("UPDATE \"keeper\" SET \"region\" = 'x' WHERE [keeper_id] IN (3,5) OR `keeper_id` = 8;", 3),
        (
            "WITH far AS (SELECT keeper_id FROM apiary) DELETE FROM sale WHERE sale_id < 4 AND EXISTS (SELECT 1 FROM far)",
            3,
        ),
        ("DELETE FROM inspection INDEXED BY inspection_hive WHERE hive_id = 12 AND inspection_id = 418", 1),
        ("DELETE FROM sale NOT INDEXED WHERE sale_id BETWEEN 1 AND 2", 2),
        ("UPDATE inspection SET note = NULL WHERE note ISNULL AND inspection_id < 5 /* ; */", 0),
        ("DELETE FROM keeper WHERE name GLOB 'O*' OR email LIKE '%.kell@%'", 2),
        (
            "UPDATE hive_season SET total_kilos = (SELECT avg(total_kilos) FROM hive_season AS o WHERE o.season = 2025) WHERE (hive_id, season) = (12, 2026)",
            1,
        ),
        ("DELETE FROM sheet_import WHERE rowid = 41", 1),
        ("DELETE FROM sale WHERE sale_id IN (SELECT sale_id FROM sale ORDER BY kilos DESC LIMIT 3)", 3),
    ] {
        let answer = s.run(&["preview", "--sql", sql, "--format", "json", "--rows", "0+"]);
        let real = answer.step();
        if matched > 0 {
            assert_eq!(real["matched"], matched, "{sql}\n{}", answer.err);
        }
        assert!(answer.status == Some(0) || answer.status == Some(3), "{sql}\n{}", answer.err);
    }
}

/// Whatever the filter is, the rows of the preview are the rows that the bare statement touches.
#[test]
fn the_rows_are_those_that_the_statement_touches() {
    for filter in [
        "a = 1 OR a = 2 AND b = 'x'",
        "b = 'X' COLLATE NOCASE",
        "a IN (SELECT max(a) FROM t GROUP BY b)",
        "NOT EXISTS (SELECT 1 FROM t AS o WHERE o.b = t.b AND o.id > t.id)",
        "a IS NOT 2",
        "a + 0 > 1 -- comment ) \n",
        "b LIKE '%' AND (a > 1 OR a IS NULL)",
        "id % 2",
        "typeof(a) = 'text'",
    ] {
        let s = scene(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, a, b TEXT); \
             INSERT INTO t VALUES (1, 1, 'x'), (2, 2, 'X'), (3, NULL, 'y'), (4, '2', 'x'), (5, 3.0, NULL), (6, 2, 'x');",
        );
        let sql = format!("DELETE FROM t WHERE {filter}");
        let json = s.run(&["preview", "--sql", &sql, "--format", "json"]).step();
        let listed: Vec<i64> =
            json["rows"].as_array().unwrap().iter().map(|r| r["key"][0].as_i64().unwrap()).collect();
        let db = s.db();
        let ids = |db: &rusqlite::Connection| -> Vec<i64> {
            let mut all = db.prepare("SELECT id FROM t ORDER BY id").unwrap();
            all.query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect()
        };
        let before = ids(&db);
        db.execute_batch(&sql).unwrap();
        let after = ids(&db);
        let gone: Vec<i64> = before.into_iter().filter(|i| !after.contains(i)).collect();
        assert_eq!(listed, gone, "{filter}");
    }
}

#[test]
fn data_cannot_drive_the_terminal() {
    let s = scene(
        "CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT); INSERT INTO t VALUES (1, char(27) || '[31m' || char(8238));",
    );
    s.run(&["preview", "--sql", "DELETE FROM t WHERE id = 1"])
        .expect(0)
        .says("\\u{1b}[31m\\u{202e}")
        .says_not("\u{1b}[31m");
}

#[test]
fn standard_input_and_files() {
    let s = demo();
    s.write("region.sql", format!("\u{feff}{REGION};\r\n"));
    s.run(&["preview", "region.sql"]).expect(0).says("3 of 24");
    s.run_with_input(&["preview", "-"], REGION).expect(0).says("3 of 24");
    s.run(&["preview", "no.sql"]).expect(2).says("there is no file no.sql");
    s.run(&["preview", REGION]).expect(2).says("--sql");
    s.run(&["preview"]).expect(2).says("no change is named");
    s.write("latin1.sql", b"DELETE FROM sale WHERE note = '\xe9'");
    s.run(&["preview", "latin1.sql"]).expect(2).says("not UTF-8").says("line 1");
}

#[test]
fn long_lists_of_a_look_are_cut() {
    let columns: Vec<String> = (0..30).map(|n| format!("c{n} INTEGER")).collect();
    let values: Vec<String> = (0..30).map(|n| format!("i * {}", n + 1)).collect();
    let s = scene(&format!(
        "CREATE TABLE jar (jar_id INTEGER PRIMARY KEY, {});
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 5) INSERT INTO jar SELECT i, {} FROM n;",
        columns.join(", "),
        values.join(", ")
    ));
    let seen = s.run(&["look", "jar"]).expect(0).says("more (--format json has all)").out;
    assert_eq!(seen.matches("unique in fact").count(), 8, "{seen}");
    let all = s.run(&["look", "jar", "--format", "json"]).expect(0).json();
    let all = all["unique_in_fact"].as_array().unwrap().len();
    assert!(seen.contains(&format!("and {} more", all - 8)), "{all}: {seen}");
}
