//! Findings on the built program: code, place, what to do, and the exit status.

use crate::{demo, scene};

#[test]
fn stops_with_their_place_and_exit_3() {
    let s = demo();
    for (sql, code, part) in [
        ("DELETE FROM sale", "no-filter", "every row of sale"),
        ("DELETE FROM sale WHERE 1=1", "always-true", "line 1, column 24"),
        ("DELETE FROM sale WHERE sale_id = sale_id", "always-true", "line 1, column 24"),
        ("UPDATE keeper SET region = 'x' WHERE keeper_id = 99", "nothing-matched", "no row of keeper"),
        ("UPDATE keeper SET regoin = 'x' WHERE keeper_id = 3", "unknown-name", "did you mean region?"),
        ("UPDATE keepr SET region = 'x' WHERE keeper_id = 3", "unknown-name", "did you mean keeper?"),
        ("UPDATE keeper SET region = 'x' WHERE\n  keeperid = 3", "unknown-name", "line 2, column 3"),
        (
            "DELETE FROM sale WHERE batch_id IN (SELECT batchid FROM batch)",
            "unknown-name",
            "did you mean batch_id?",
        ),
        ("UPDATE keeper SET region = \"Moor\" WHERE keeper_id = 3", "quoted-word", "line 1, column 28"),
        ("DELETE FROM keeper WHERE \"regoin\" = 'regoin'", "quoted-word", "did you mean the column region?"),
        ("DELETE FROM sale; SELECT 1", "several-statements", "line 1, column 19"),
        ("DELETE FROM sale; DROP TABLE batch", "not-a-change", "line 1, column 19"),
        ("BEGIN; DELETE FROM sale WHERE sale_id = 1; COMMIT;", "several-statements", "leave out BEGIN"),
        ("INSERT INTO sale SELECT * FROM sale", "no-column-list", "in the order of the values"),
        (
            "REPLACE INTO sale VALUES (1, 2, 3, 4)",
            "not-understood",
            "UPDATE sale SET batch_id = incoming.batch_id",
        ),
        ("REPLACE INTO sale (sale_id, batch_id) VALUES (1, 2)", "not-understood", "write two steps"),
        ("SELECT * FROM sale", "not-a-change", "write the UPDATE or DELETE itself"),
        ("DROP TABLE sale", "not-a-change", "shell"),
        ("BEGIN", "not-a-change", "leave it out"),
        ("DELETE FROM hive_yield WHERE hive_id = 1", "a-view", "base table"),
        ("DELETE FROM sqlite_schema WHERE 1", "not-understood", "SQLite's own"),
        ("UPDATE OR IGNORE keeper SET region = 'x' WHERE keeper_id = 1", "not-understood", "conflict clause"),
        ("DELETE FROM sale WHERE random() > 0", "volatile-filter", "random()"),
    ] {
        let before = s.dump();
        s.run(&["preview", "--sql", sql]).expect(3).says(code).says(part);
        let applied = s.run(&["apply", "--sql", sql, "--rows", "1+", "--yes"]);
        assert!(applied.status != Some(0), "{sql} was applied");
        assert_eq!(s.dump(), before, "{sql}");
    }
}

#[test]
fn a_preview_that_is_stopped_still_shows_the_rows() {
    let s = demo();
    s.run(&["preview", "--sql", "UPDATE hive SET queen_colour = 'blue'", "--show", "2"])
        .expect(3)
        .says("60 of 60 rows match")
        .says("Foxglove")
        .says("and 58 rows more");
}

#[test]
fn a_text_in_double_quotes_would_have_matched_every_row() {
    let s = demo();
    // The engine takes both sides as texts; they are equal, and the filter is true for every row.
    let answer = s.run(&["preview", "--sql", "DELETE FROM keeper WHERE \"regoin\" = 'regoin'"]).expect(3);
    answer.says("24 of 24 rows match");
}

#[test]
fn all_on_purpose() {
    let s =
        scene("CREATE TABLE t (id INTEGER PRIMARY KEY, a INT); INSERT INTO t VALUES (1, 1), (2, 2), (3, 3);");
    s.run(&["apply", "--sql", "UPDATE t SET a = 0 WHERE id < 3", "--rows", "all", "--yes"])
        .expect(4)
        .says("all 3 expected");
    s.run(&["apply", "--sql", "UPDATE t SET a = 0", "--rows", "3", "--yes"]).expect(3).says("no-filter");
    s.run(&["apply", "--sql", "UPDATE t SET a = 0 WHERE true", "--rows", "all", "--yes"])
        .expect(0)
        .says("3 rows committed");
}

#[test]
fn allowing_by_code() {
    let s = scene("CREATE TABLE t (id INTEGER PRIMARY KEY, a INT); INSERT INTO t VALUES (1, 1);");
    let sql = "UPDATE t SET a = 0";
    s.run(&["apply", "--sql", sql, "--rows", "1", "--yes", "--allow", "no-filter"]).expect(0);
    s.run(&["preview", "--sql", sql, "--allow", "no-filtre"]).expect(2).says("did you mean no-filter?");
    s.run(&["preview", "--sql", "DELETE FROM t WHERE id = 9", "--rows", "0-20"])
        .expect(0)
        .says("pass  nothing-matched");
    s.run(&["apply", "--sql", "DELETE FROM t WHERE id = 9", "--rows", "0-20", "--yes"])
        .expect(0)
        .says("Nothing to do");
}

#[test]
fn warnings_do_not_stop() {
    let s = demo();
    s.run(&["preview", "--sql", "UPDATE keeper SET region = 'x' WHERE phone = NULL OR keeper_id = 3"])
        .expect(0)
        .says("null-compare")
        .says("write IS NULL");
    s.run(&["preview", "--sql", "UPDATE sale SET sale_id = 1000 WHERE sale_id = 1"])
        .expect(0)
        .says("key-change");
    s.run(&["preview", "--sql", "DELETE FROM sheet_import WHERE length(hive) > 0"])
        .expect(0)
        .says("every-row");
}

#[test]
fn writes_outside_the_rows_are_named_and_counted() {
    let s = demo();
    let sql = "DELETE FROM hive WHERE hive_id = 12";
    s.sql("DELETE FROM hive_season WHERE hive_id = 12");
    let children = s.value("SELECT count(*) FROM inspection WHERE hive_id = 12");
    let rows = children.strip_prefix("integer:").unwrap();
    s.run(&["preview", "--sql", sql])
        .expect(3)
        .says("undeclared-write")
        .says(&format!("ON DELETE CASCADE writes {rows} rows of inspection"))
        .says(&format!("{rows} rows of inspection deleted, by a foreign key's action"))
        .says("an undo brings them back")
        .says("--also-writes inspection");
    s.run(&["apply", "--sql", sql, "--rows", "1", "--yes"]).expect(3);
    // Without children there is nothing to be named.
    s.sql("DELETE FROM inspection WHERE hive_id = 12");
    s.run(&["apply", "--sql", sql, "--rows", "1", "--yes"]).expect(0);
    s.run(&["preview", "--sql", "UPDATE batch SET price_per_kg = 9 WHERE batch_id = 1"])
        .expect(3)
        .says("trigger batch_price writes price_log");
    s.run(&["preview", "--sql", "UPDATE batch SET kilos = 9 WHERE batch_id = 1"])
        .expect(0)
        .says_not("batch_price");
}

#[test]
fn syntax_errors_have_their_place_and_are_refusals() {
    let s = demo();
    for (sql, place, hint) in [
        ("UPDATE keeper SET region = 'x' WHRE keeper_id = 3", "line 1, column 32", "did you mean WHERE?"),
        ("DELETE FORM sale WHERE sale_id = 1", "line 1, column 8", "did you mean FROM?"),
        ("UPDATE keeper\nSET region = 'x',\nWHERE keeper_id = 3", "line 3, column 1", ""),
        ("UPDATE keeper SET region = 'x' WHERE keeper_id =", "line 1, column 49", "ends too early"),
        ("DELETE FROM sale WHERE sale_id IN (1, 2", "line 1, column 40", "ends too early"),
        ("DELETE FROM sale WHERE sale_id > 1 ORDER BY 1 LIMIT 1", "line 1, column 36", "by key"),
    ] {
        s.run(&["preview", "--sql", sql]).expect(3).says(place).says(hint).says("^").says("not-understood");
    }
    s.run(&["preview", "--sql", "DELETE FROM sale WHERE note = 'x"])
        .expect(3)
        .says("line 1, column 31")
        .says("close the quote");
}

#[test]
fn the_underline_stands_under_its_word() {
    let s = demo();
    s.write("bad.sql", "UPDATE keeper\n   SET name = 'ö', regoin = 'x'\n WHERE keeper_id = 3;\n");
    let err = s.run(&["preview", "bad.sql"]).expect(3).err;
    let lines: Vec<&str> = err.lines().collect();
    let at = lines.iter().position(|l| l.contains("regoin =")).unwrap();
    let column = lines[at]
        .chars()
        .collect::<Vec<_>>()
        .windows(6)
        .position(|w| w.iter().collect::<String>() == "regoin");
    assert_eq!(lines[at + 1].find("^^^^^^"), column);
    assert!(lines.iter().any(|l| l.contains("bad.sql, line 2, column 20")), "{err}");
}

#[test]
fn every_finding_is_explained() {
    let s = demo();
    let all = s.run(&["why"]).expect(0).out.clone();
    for code in ["no-filter", "many-sources", "becomes-null", "twin-rows"] {
        assert!(all.contains(code), "{code}");
        s.run(&["why", code]).expect(0).says(code).says("What to do:");
    }
    s.run(&["why", "many-sources"]).says("stops a change, always");
    s.run(&["why", "no-filtre"]).expect(2).says("did you mean no-filter?");
    let json = s.run(&["why", "no-filter", "--format", "json"]).json();
    assert_eq!(json["findings"][0]["can_be_allowed"], true);
}

#[test]
fn what_rows_and_text_show() {
    let s = demo();
    for (sql, code) in [
        ("UPDATE keeper SET name = 'x' AND region = 'Moor' WHERE keeper_id = 3", "and-for-comma"),
        ("UPDATE keeper SET name = 'x', name = 'y' WHERE keeper_id = 3", "assigned-twice"),
        ("UPDATE batch SET list_price = list_price * 1.1 WHERE batch_id = 3", "repeats"),
        ("UPDATE keeper SET region = 'Moor' WHERE region = 'Dale'", "moves-filter"),
        ("UPDATE keeper SET phone = nullif(phone, phone) WHERE keeper_id = 2", "becomes-null"),
        ("UPDATE keeper SET region = 'MOOR' WHERE keeper_id = 3", "unlike"),
        (
            "UPDATE keeper SET region = substr(region, 1, 0) WHERE keeper_id IN (2, 3, 7)",
            "become 1 value in 3 rows",
        ),
        ("DELETE FROM inspection WHERE inspection_id > 100", "over-half"),
        ("DELETE FROM sheet_import WHERE hive > '0'", "twin-rows"),
        ("DELETE FROM inspection WHERE hive_id = 3 AND note IS NULL OR hive_id = 4", "mixed-and-or"),
        ("DELETE FROM inspection WHERE day = 2026", "type-mix"),
        ("DELETE FROM inspection WHERE note LIKE 'calm'", "plain-like"),
        ("DELETE FROM inspection WHERE note LIKE '%'", "like-anything"),
        ("DELETE FROM keeper WHERE phone NOT IN (SELECT phone FROM keeper)", "not-in-null"),
        ("UPDATE hive SET name = (SELECT note FROM inspection LIMIT 1) WHERE hive_id = 3", "hidden-values"),
        (
            "UPDATE hive SET name = (SELECT name FROM apiary WHERE apiary_id = 77) WHERE hive_id = 3",
            "subquery-none",
        ),
        ("UPDATE hive SET name = h.name FROM hive h, apiary a WHERE apiary_id = 3", "ambiguous-name"),
    ] {
        let answer = s.run(&["preview", "--sql", sql]);
        assert!(
            answer.out.contains(code) || answer.err.contains(code),
            "{code}\n{}\n{}",
            answer.out,
            answer.err
        );
    }
}
