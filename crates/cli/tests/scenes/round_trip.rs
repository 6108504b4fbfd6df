//! Apply and undo leave the database as it was, value for value, on every kind of table and value.

use crate::scene;

/// Applies, checks that something changed, undoes, compares.
#[track_caller]
fn there_and_back(script: &str, sql: &str) {
    let s = scene(script);
    let before = s.dump();
    let bare = scene(script);
    bare.db().pragma_update(None, "foreign_keys", true).unwrap();
    bare.sql(sql);
    s.run(&["apply", "--sql", sql, "--rows", "1+", "--yes", "--allow", "no-filter"]).expect(0);
    assert_eq!(s.dump(), bare.dump(), "after apply: {sql}");
    assert_ne!(s.dump(), before, "the statement does something: {sql}");
    s.run(&["undo", "@last", "--rows", "1+", "--yes"]).expect(0);
    assert_eq!(s.dump(), before, "after undo: {sql}");
    // The undo is a run, and can be taken back as well.
    let entry = s.run(&["history", "--format", "json"]).json();
    let undo = entry["runs"][0]["receipt"]["run"].as_str().unwrap().to_owned();
    s.run(&["undo", &undo, "--yes"]).expect(0);
    assert_eq!(s.dump(), bare.dump(), "after undo of undo: {sql}");
}

const EVERY_VALUE: &str = "
    CREATE TABLE v (id INTEGER PRIMARY KEY, x, t TEXT, r REAL, b BLOB);
    INSERT INTO v VALUES (1, 9007199254740993, 'plain', 0.1, x'');
    INSERT INTO v VALUES (2, -9223372036854775808, 'nul' || char(0) || 'in', 9e999, x'00ff');
    INSERT INTO v VALUES (3, 1.0, CAST(x'c328ff' AS TEXT), -9e999, zeroblob(5000));
    INSERT INTO v VALUES (4, '1', '', -0.0, 'text in a blob');
    INSERT INTO v VALUES (5, NULL, '🐝' || char(8238), 5e-324, NULL);
    INSERT INTO v VALUES (6, x'31', 'x', 'text in a real', 3);";

#[test]
fn every_storage_class() {
    there_and_back(EVERY_VALUE, "DELETE FROM v WHERE id > 0");
    there_and_back(EVERY_VALUE, "UPDATE v SET x = NULL, t = 'new', r = 1, b = NULL WHERE id BETWEEN 1 AND 6");
    there_and_back(EVERY_VALUE, "UPDATE v SET x = x || '', t = upper(t), r = -r WHERE id <> 3");
    there_and_back(EVERY_VALUE, "UPDATE v SET id = id + 100 WHERE id IN (2, 3)");
}

#[test]
fn every_kind_of_key() {
    for (table, insert) in [
        ("t (k INTEGER PRIMARY KEY, a INT)", "(1, 1), (2, 2), (3, 3)"),
        ("t (k TEXT PRIMARY KEY NOT NULL, a INT)", "('a', 1), ('b', 2), ('C', 3)"),
        ("t (k TEXT PRIMARY KEY, a INT)", "(NULL, 1), (NULL, 2), ('x', 3)"),
        ("t (k TEXT COLLATE NOCASE PRIMARY KEY, a INT) WITHOUT ROWID", "('a', 1), ('B', 2), ('c', 3)"),
        (
            "t (k INT, l BLOB, a INT, PRIMARY KEY (l, k)) WITHOUT ROWID",
            "(1, x'00', 1), (1, x'01', 2), (2, x'00', 3)",
        ),
        ("t (k TEXT NOT NULL UNIQUE, a INT)", "('a', 1), ('b', 2), ('c', 3)"),
        ("t (k, a INT)", "(1, 1), (1, 1), (NULL, 3)"),
        ("t (rowid TEXT, a INT)", "('x', 1), ('x', 1), ('y', 3)"),
        ("t (k INTEGER PRIMARY KEY DESC, a INT)", "(3, 1), (NULL, 2), (NULL, 2)"),
        ("t (k INT PRIMARY KEY, a INT) STRICT", "(1, 1), (2, 2), (7, 3)"),
        ("t (k INTEGER PRIMARY KEY AUTOINCREMENT, a INT, b AS (a + 1) STORED)", "(5, 1), (6, 2), (9, 3)"),
        (
            "\"odd \"\"name\" (\"k k\" TEXT, \"select\" INT, a INT, PRIMARY KEY (\"k k\", \"select\"))",
            "('a', 1, 1), ('b', 1, 2), ('b', 2, 3)",
        ),
    ] {
        let name = table.split(" (").next().unwrap();
        let columns = if table.contains("STORED") { "(k, a)" } else { "" };
        let script = format!("CREATE TABLE {table}; INSERT INTO {name} {columns} VALUES {insert};");
        there_and_back(&script, &format!("UPDATE {name} SET a = a * 10 WHERE a < 3"));
        there_and_back(&script, &format!("DELETE FROM {name} WHERE a < 3"));
        there_and_back(&script, &format!("DELETE FROM {name}"));
    }
}

#[test]
fn keys_that_change() {
    let ids = "CREATE TABLE t (id INTEGER PRIMARY KEY, a TEXT); INSERT INTO t VALUES (1,'a'),(2,'b'),(3,'c'),(10,'d');";
    there_and_back(ids, "UPDATE t SET id = id - 1 WHERE id < 5");
    there_and_back(ids, "UPDATE t SET id = id * 100, a = a || '!' WHERE id IN (1, 3)");
    let pair = "CREATE TABLE t (h INT, s INT, a TEXT, PRIMARY KEY (h, s)) WITHOUT ROWID; INSERT INTO t VALUES (1,1,'a'),(1,2,'b'),(2,1,'c');";
    there_and_back(pair, "UPDATE t SET s = s + 10 WHERE h = 1");
    there_and_back(pair, "UPDATE t SET h = 5 WHERE (h, s) IN ((1, 2), (2, 1))");
    let text = "CREATE TABLE t (k TEXT PRIMARY KEY NOT NULL, a INT); INSERT INTO t VALUES ('1', 1), ('2', 2), ('3', 3);";
    there_and_back(text, "UPDATE t SET k = k + 1 WHERE k = '3'");
    there_and_back(text, "UPDATE t SET k = CAST(k - 1 AS TEXT) WHERE a > 0");
}

/// Unique values that are handed on from row to row: the way back must find an order that works.
#[test]
fn unique_values_handed_on() {
    let chain = "CREATE TABLE t (id INTEGER PRIMARY KEY, u INT UNIQUE); INSERT INTO t VALUES (1,2),(2,3),(3,4),(4,10);";
    there_and_back(chain, "UPDATE t SET u = u - 1 WHERE id < 4");
    let other =
        "CREATE TABLE t (id INTEGER PRIMARY KEY, u INT UNIQUE); INSERT INTO t VALUES (1,9),(2,8),(3,7);";
    there_and_back(other, "UPDATE t SET u = u + 1 WHERE u > 0");
}

#[test]
fn foreign_keys_hold_on_the_way_back() {
    let tree = "CREATE TABLE n (id INTEGER PRIMARY KEY, up INT REFERENCES n (id) DEFERRABLE INITIALLY DEFERRED, a INT);
                INSERT INTO n VALUES (1, NULL, 1), (2, 1, 1), (3, 2, 1), (4, NULL, 2);";
    there_and_back(tree, "DELETE FROM n WHERE a = 1");
    let family = "CREATE TABLE p (id INTEGER PRIMARY KEY); INSERT INTO p VALUES (1), (2);
                  CREATE TABLE c (id INTEGER PRIMARY KEY, p INT REFERENCES p (id) ON DELETE CASCADE); INSERT INTO c VALUES (1, 1), (2, NULL);";
    there_and_back(family, "UPDATE c SET p = 2 WHERE id = 1");
    there_and_back(family, "DELETE FROM p WHERE id = 2");
    there_and_back(family, "DELETE FROM c WHERE p = 1");
}

#[test]
fn wal_databases() {
    let s = scene(
        "PRAGMA journal_mode = wal; CREATE TABLE t (id INTEGER PRIMARY KEY, a INT); INSERT INTO t VALUES (1, 1), (2, 2);",
    );
    let before = s.dump();
    s.run(&["preview", "--sql", "UPDATE t SET a = 5 WHERE id = 1"]).expect(0);
    assert!(
        !s.path("coop.db-wal").exists() && !s.path("coop.db-shm").exists(),
        "a preview leaves nothing behind"
    );
    // A reader with an open transaction does not stand in the way of a commit here.
    let reader = s.db();
    reader.execute_batch("BEGIN; SELECT count(*) FROM t;").unwrap();
    let run = s
        .run(&[
            "apply",
            "--sql",
            "UPDATE t SET a = 5 WHERE id = 1",
            "--rows",
            "1",
            "--yes",
            "--format",
            "json",
        ])
        .expect(0)
        .run();
    drop(reader);
    s.run(&["undo", &run, "--yes"]).expect(0);
    assert_eq!(s.dump(), before);
}

/// A conflict clause in the table's own definition deletes other rows, or skips rows, without a word.
#[test]
fn conflict_clauses_in_the_definition() {
    for (clause, status) in [("REPLACE", 4), ("IGNORE", 0), ("ABORT", 1)] {
        let s = scene(&format!(
            "CREATE TABLE t (id INTEGER PRIMARY KEY, u INT UNIQUE ON CONFLICT {clause}, a INT);
             INSERT INTO t VALUES (1, 1, 1), (2, 2, 2), (3, 3, 3);
             CREATE TABLE log (a); CREATE TRIGGER noise AFTER UPDATE ON t BEGIN INSERT INTO log VALUES (1); END;"
        ));
        let before = s.dump();
        let sql = "UPDATE t SET u = 3 WHERE id = 1";
        s.run(&["apply", "--sql", sql, "--rows", "1", "--yes", "--allow", "undeclared-write"]).expect(status);
        assert_eq!(s.dump(), before, "{clause}");
        // On the way back the value is taken by somebody else: nothing of theirs is lost.
        let away = "UPDATE t SET u = 9 WHERE id = 1";
        let run = s
            .run(&[
                "apply",
                "--sql",
                away,
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
        s.sql("UPDATE t SET u = 1 WHERE id = 2");
        let before = s.dump();
        s.run(&["undo", &run, "--yes", "--allow", "undeclared-write"]).expect(1).says("UNIQUE");
        assert_eq!(s.dump(), before, "{clause}");
    }
}
