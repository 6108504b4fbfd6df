//! What is taken although it could be refused: forms of statements that a person means, each applied and taken back.

use marktwice_testkit::stage::On;

use crate::each;

const JARS: &str = "
CREATE TABLE jar (jar_id integer PRIMARY KEY, sort varchar(20), size integer, label varchar(20));
INSERT INTO jar VALUES (1, 'heather', 250, NULL), (2, 'Heather', 250, 'a'), (3, 'ling', 500, 'b'), (4, 'lime', 250, 'b'), (5, NULL, 250, 'x');
";

#[test]
fn rows_that_are_given_back_are_discarded() {
    each(|stage| {
        stage.run(JARS);
        if stage.is_mysql() {
            return;
        }
        stage
            .scene
            .run(&["preview", "--sql", "DELETE FROM jar WHERE size = 250 RETURNING *"])
            .expect(0)
            .says("rows-discarded");
        stage.there_and_back("DELETE FROM jar WHERE size = 250 RETURNING jar_id, label", "4");
        if stage.on != On::Maria {
            stage.there_and_back("UPDATE jar SET label = 'new' WHERE jar_id < 4 RETURNING *", "3");
        }
        stage.there_and_back("DELETE FROM jar WHERE size = 250 RETURNING abs(size), upper(label)", "4");
        // What it calls would be called by the run only, and may do more than compute.
        let acts = stage.by("load_extension('x')", "setval('x', 1)", "release_lock('x')");
        stage.apply(&format!("DELETE FROM jar WHERE size = 250 RETURNING {acts}"), "4", 3);
    });
}

#[test]
fn a_conflict_clause_that_does_no_harm_is_taken() {
    each(|stage| {
        if stage.on != On::Sqlite {
            return;
        }
        for word in ["ABORT", "FAIL", "ROLLBACK"] {
            stage.there_and_back(
                &format!("UPDATE OR {word} keeper SET region = 'x' WHERE keeper_id = 2"),
                "1",
            );
            let before = stage.dump();
            let sql =
                format!("UPDATE OR {word} keeper SET email = 'ada@x.example' WHERE keeper_id IN (2, 3)");
            stage.apply(&sql, "2", 1);
            assert_eq!(stage.dump(), before, "{word}");
        }
        stage.apply("UPDATE OR REPLACE keeper SET email = 'ada@x.example' WHERE keeper_id = 2", "1", 3);
    });
}

#[test]
fn parts_of_values() {
    each(|stage| {
        if stage.on != On::Postgres {
            return;
        }
        stage.run(
            "CREATE TYPE spot AS (x int, y int);
             CREATE TABLE doc (doc_id int PRIMARY KEY, tags text[], place spot, body jsonb, gone text[]);
             INSERT INTO doc VALUES (1, '{a,b,c}', '(1,2)', '{\"k\": 1}', NULL), (2, NULL, NULL, NULL, '{}'), (3, '{z}', '(5,6)', '{\"k\": 2}', NULL)",
        );
        let preview = stage.scene.run(&["preview", "--sql", "UPDATE doc SET tags[2] = 'n' WHERE doc_id = 1"]);
        preview.expect(0).says("only a part of tags is assigned").says("→ ?");
        for (sql, rows) in [
            ("UPDATE doc SET tags[2] = 'n', tags[1] = upper(tags[3]) WHERE doc_id < 3", "2"),
            ("UPDATE doc SET place.x = 9, place.y = (place).x WHERE doc_id = 1", "1"),
            ("UPDATE doc SET body['k'] = '7', body['l'] = '\"x\"' WHERE doc_id <> 3", "2"),
            ("UPDATE doc SET (tags[1], gone) = ('q', '{g}') WHERE doc_id = 3", "1"),
            ("UPDATE doc SET tags[1:2] = '{p,q}', gone = tags WHERE doc_id = 1", "1"),
        ] {
            stage.there_and_back(sql, rows);
        }
        // What is called to find the place would be called by the run only.
        stage.apply("UPDATE doc SET tags[abs(-2)] = 'n' WHERE doc_id = 1", "1", 3);
    });
}

#[test]
fn columns_that_the_engine_fills_by_itself() {
    each(|stage| {
        stage.run(stage.by(
            "CREATE TABLE sale (sale_id integer PRIMARY KEY, kilos int, twice int AS (kilos * 2)); INSERT INTO sale VALUES (1, 5), (2, 6);",
            "CREATE TABLE sale (sale_id int PRIMARY KEY, kilos int, twice int GENERATED ALWAYS AS (kilos * 2) STORED); INSERT INTO sale VALUES (1, 5), (2, 6);",
            "CREATE TABLE sale (sale_id int PRIMARY KEY, kilos int, twice int AS (kilos * 2) STORED); INSERT INTO sale (sale_id, kilos) VALUES (1, 5), (2, 6);",
        ));
        if stage.on == On::Sqlite {
            // The row's number, under any of its names, is the column that keeps it.
            for name in ["rowid", "_rowid_", "oid"] {
                stage.there_and_back(&format!("UPDATE sale SET {name} = {name} + 10 WHERE sale_id = 2"), "1");
            }
            let hidden = "CREATE TABLE bare (a text); INSERT INTO bare VALUES ('x');";
            stage.run(hidden);
            stage.apply("UPDATE bare SET rowid = 7 WHERE a = 'x'", "1", 3).says("hidden number of the row");
        } else {
            stage.there_and_back("UPDATE sale SET kilos = 8, twice = DEFAULT WHERE sale_id = 1", "1");
            let two = "UPDATE sale SET twice = 3 WHERE sale_id = 1";
            stage.apply(two, "1", 3).says("engine-column");
        }
    });
}

#[test]
fn plain_views_are_written_through() {
    each(|stage| {
        stage.run(JARS);
        stage.run(
            "CREATE VIEW small AS SELECT jar_id AS id, sort, label FROM jar WHERE size = 250 OR size IS NULL;
             CREATE VIEW smallest AS SELECT id, label FROM small WHERE id < 4;
             CREATE VIEW counted AS SELECT sort, count(*) AS n FROM jar GROUP BY sort;",
        );
        let change = "UPDATE small SET label = 'new' WHERE id = 1 OR label = 'b'";
        let preview = stage.scene.run(&["preview", "--sql", change]);
        if stage.on == On::Sqlite {
            preview.expect(3).says("a-view").says("UPDATE jar SET");
            return;
        }
        preview.expect(0).says("small is a view of jar").says("2 of 5 rows match");
        let before = stage.dump();
        for (sql, rows) in [
            (change, "2"),
            ("UPDATE small SET sort = upper(sort), id = id + 100", "4"),
            ("DELETE FROM small WHERE label IS NULL", "1"),
            ("UPDATE smallest SET label = 'new' WHERE id > 1", "1"),
            ("DELETE FROM smallest", "2"),
        ] {
            stage.apply_allowing(sql, rows, "no-filter", 0);
            assert_ne!(stage.dump(), before);
            stage.undo(&[], 0);
            assert_eq!(stage.dump(), before, "{:?} {sql}", stage.on);
        }
        // The statement that ran is the one that was written.
        stage.scene.run(&["receipt"]).expect(0);
        let receipt = stage.scene.run(&["history", "--format", "json"]).json();
        assert!(receipt.to_string().contains("DELETE FROM smallest"), "{receipt:#}");
        stage.apply("DELETE FROM counted WHERE n = 1", "1", 3);
        if stage.on == On::Postgres {
            // Where a trigger or a rule stands for the view, nobody knows what it writes.
            stage.run("CREATE RULE r AS ON DELETE TO smallest DO INSTEAD NOTHING");
            stage.apply("DELETE FROM smallest", "all", 3).says("a-view");
            // Rules for another event than the statement's do not bear on it.
            stage.run("CREATE RULE k AS ON INSERT TO jar DO ALSO NOTHING");
            stage.there_and_back("UPDATE jar SET label = 'y' WHERE jar_id = 1", "1");
            stage.apply("DELETE FROM jar WHERE jar_id = 1", "1", 3).says("rewrite rules");
        }
    });
}

#[test]
fn a_limit_that_cuts_between_rows_that_differ() {
    each(|stage| {
        if stage.on != On::Maria {
            return;
        }
        stage.run(JARS);
        // By size: 250, 250, 250, 250, 500.
        for (tail, status) in [
            ("ORDER BY size LIMIT 4", 0),
            ("ORDER BY size DESC LIMIT 1", 0),
            ("ORDER BY size DESC, sort LIMIT 2", 0),
            ("ORDER BY size LIMIT 2", 3),
            ("ORDER BY size DESC LIMIT 2", 3),
            ("ORDER BY sort LIMIT 2", 3),
            ("ORDER BY sort LIMIT 3", 0),
            ("LIMIT 3", 3),
            ("ORDER BY length(sort) LIMIT 1", 3),
        ] {
            let answer = stage.scene.run(&["preview", "--sql", &format!("DELETE FROM jar {tail}")]);
            assert_eq!(answer.status, Some(status), "{tail}\n{}", answer.out);
        }
        stage.there_and_back("DELETE FROM jar ORDER BY size DESC LIMIT 1", "1");
        stage.there_and_back(
            "UPDATE jar SET label = 'q' WHERE sort IS NOT NULL ORDER BY sort DESC LIMIT 2",
            "2",
        );
    });
}

#[test]
fn nothing_is_missed_in_an_empty_table() {
    each(|stage| {
        stage.run("CREATE TABLE vacant (id integer PRIMARY KEY, a integer)");
        for sql in ["DELETE FROM vacant", "UPDATE vacant SET a = 1 WHERE id = 3"] {
            let preview = stage.scene.run(&["preview", "--sql", sql]);
            preview.expect(0).says("vacant holds no rows");
            let run = stage.scene.run(&["apply", "--sql", sql, "--rows", "all", "--yes"]);
            run.expect(0);
        }
        // An expected count is one all the same.
        stage.apply("UPDATE vacant SET a = 1 WHERE id = 3", "1", 4);
    });
}
