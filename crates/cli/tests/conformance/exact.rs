//! Where a trial on copied rows would go wrong: an after-value is then not called exact. What is called exact is held to in the
//! run, so that each of these is applied, and taken back.

use serde_json::Value as Json;

use crate::{each, only};
use marktwice_testkit::stage::{On, Stage};

const TABLE: &str = "CREATE TABLE t (id integer PRIMARY KEY, n integer, k integer);
INSERT INTO t VALUES (1, 10, 1), (2, 20, 1), (3, 30, 2);";

/// How the assigned column's values are known.
fn label(stage: &Stage, sql: &str) -> String {
    let preview = stage.scene.run(&["preview", "--sql", sql, "--format", "json", "--allow", "no-filter"]);
    let json: Json = serde_json::from_str(&preview.out)
        .unwrap_or_else(|_| panic!("{sql}: {}{}", preview.out, preview.err));
    let foreseen = json["steps"][0]["foreseen"].as_array().unwrap_or_else(|| panic!("{sql}: {json}"));
    foreseen[0]["label"].as_str().unwrap().to_owned()
}

#[test]
fn subqueries_on_the_target_itself() {
    each(|stage| {
        stage.run(TABLE);
        if stage.is_mysql() {
            // There a statement does not read what it writes; what is offered for it does the same.
            let sql =
                "UPDATE t SET n = (SELECT max(n) + 1 FROM t) WHERE id IN (SELECT id FROM t WHERE k = 1)";
            let refused = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]).expect(3).json();
            let paste = refused["paste"].as_str().unwrap_or_else(|| panic!("{refused}"));
            assert_eq!(refused["paste_rows"], serde_json::json!([2]));
            return stage.there_and_back(paste, "2");
        }
        for sql in [
            // Read again for every row, while rows are written.
            "UPDATE t SET n = (SELECT count(*) FROM t AS x WHERE x.n >= t.n) + 30 WHERE id < 9",
            "UPDATE t SET n = (SELECT max(x.n) + 1 FROM t AS x WHERE x.k = t.k) WHERE id < 9",
            // Read once.
            "UPDATE t SET n = (SELECT max(n) FROM t) WHERE id = 1",
        ] {
            let once = !sql.contains("AS x");
            let known = label(stage, sql);
            match (stage.on, once) {
                (On::Sqlite, false) => assert_eq!(known, "unknown", "{sql}"),
                (On::Sqlite | On::Postgres, true) => assert_eq!(known, "exact", "{:?}: {sql}", stage.on),
                _ => {}
            }
            stage.there_and_back(sql, "1+");
        }
        // A filter that looks at the target: what the engine touches, not what it would have touched at first.
        let sql = "UPDATE t SET n = n + 100 WHERE n >= (SELECT max(x.n) FROM t AS x WHERE x.k = t.k)";
        stage.scene.run(&["preview", "--sql", sql]);
        let before = stage.dump();
        let answer = stage.scene.run(&["apply", "--sql", sql, "--rows", "1+", "--yes"]);
        match answer.status {
            Some(0) => {
                stage.undo(&[], 0);
                assert_eq!(stage.dump(), before);
            }
            _ => assert_eq!(stage.dump(), before, "{:?}: {}{}", stage.on, answer.out, answer.err),
        }
        // What a view reads is the table, not a copy of it.
        stage.run("CREATE VIEW v AS SELECT k, sum(n) AS total FROM t GROUP BY k;");
        let sql = "UPDATE t SET n = (SELECT total FROM v WHERE v.k = t.k) WHERE id < 9";
        if stage.on == On::Sqlite {
            assert_eq!(label(stage, sql), "unknown");
        }
        stage.there_and_back(sql, "3");
    });
}

#[test]
fn names_that_a_copy_does_not_have() {
    each(|stage| {
        stage.run(TABLE);
        let schema = stage.by("main", "public", "");
        if !schema.is_empty() {
            stage.there_and_back(&format!("UPDATE {schema}.t SET n = t.n + 1 WHERE t.id = 2"), "1");
        }
        if stage.on == On::Sqlite {
            stage.there_and_back("UPDATE main.t SET n = main.t.n + 1 WHERE main.t.id = 2", "1");
            stage.there_and_back("UPDATE t SET n = rowid * 7 WHERE rowid > 1", "2");
            stage.run("CREATE INDEX tk ON t (k); CREATE TABLE jar (id INTEGER PRIMARY KEY, g INT CHECK (jar.g > 0)); INSERT INTO jar VALUES (1, 5);");
            stage.there_and_back("UPDATE t INDEXED BY tk SET n = 5 WHERE k = 1", "2");
            stage.there_and_back("UPDATE jar SET g = g + 1 WHERE id = 1", "1");
        }
        if stage.on == On::Postgres {
            for sql in [
                "UPDATE t SET n = tableoid::bigint % 7 WHERE id = 1",
                "UPDATE t SET n = (ctid::text::point)[1]::int WHERE id < 3",
            ] {
                stage.there_and_back(sql, "1+");
            }
        }
    });
}

#[test]
fn what_only_the_server_knows() {
    only(On::Postgres, |stage| {
        stage.run(TABLE);
        stage.run(
            "CREATE FUNCTION total() RETURNS bigint LANGUAGE sql VOLATILE AS 'SELECT sum(n) FROM t';
             CREATE TABLE d (id int PRIMARY KEY, at int DEFAULT 7, g int GENERATED ALWAYS AS (at * 2) STORED, i int GENERATED ALWAYS AS IDENTITY);
             INSERT INTO d VALUES (1, 1), (2, 2);
             CREATE TABLE part (id int, season int) PARTITION BY LIST (season);
             CREATE TABLE part_26 PARTITION OF part FOR VALUES IN (2026);
             INSERT INTO part VALUES (1, 2026);",
        );
        let sql = "UPDATE t SET n = total() WHERE id < 9";
        assert_eq!(label(stage, sql), "unknown");
        stage.there_and_back(sql, "3");
        stage.there_and_back("UPDATE d SET at = DEFAULT WHERE id < 3", "2");
        let before = stage.dump();
        // No number is taken, and no row is left without a partition.
        stage.scene.run(&["apply", "--sql", "UPDATE d SET i = 9 WHERE id = 1", "--rows", "1", "--yes"]);
        stage.apply("UPDATE part SET season = 2027 WHERE id = 1", "1", 1);
        assert_eq!(stage.dump(), before);
    });
    only(On::Maria, |stage| {
        stage.run(
            "CREATE TABLE odd (id int PRIMARY KEY, day date, words text, FULLTEXT (words)) ENGINE=InnoDB;
             SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';
             INSERT INTO odd VALUES (0, '0000-00-00', 'lime honey'), (1, '2026-05-10', 'heather');
             SET sql_mode = DEFAULT;
             CREATE TABLE split (id int PRIMARY KEY, n int) PARTITION BY HASH (id) PARTITIONS 3;
             INSERT INTO split VALUES (1, 1), (2, 2), (3, 3);",
        );
        stage.there_and_back("UPDATE odd SET words = 'ling' WHERE id = 0", "1");
        stage.there_and_back("UPDATE split SET n = n + 1 WHERE id < 3", "2");
        stage.there_and_back("UPDATE split SET n = DEFAULT WHERE id = 3", "1");
    });
}
