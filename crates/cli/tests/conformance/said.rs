//! What a preview says is what happens: rows that stay NULL, keys that are keys, triggers that fire where nothing changes,
//! names that mean two things, rows that somebody changed in between, marks that were not meant.

use crate::each;
use marktwice_testkit::stage::{On, Stage};

#[test]
fn rows_that_stay_null() {
    each(|stage| {
        stage.run("CREATE TABLE bill (id integer PRIMARY KEY, subtotal integer, tax integer, total integer);\nINSERT INTO bill VALUES (1, 10, 2, 12), (2, 10, 2, NULL), (3, 10, NULL, NULL), (4, 20, NULL, NULL);");
        let sql = "UPDATE bill SET total = subtotal + tax WHERE id < 9";
        let preview = stage.scene.run(&["preview", "--sql", sql]).expect(0);
        preview
            .says("1 would change, 1 already holds the new value, 2 stay NULL: tax is NULL there")
            .says("stays-null")
            .says("stays NULL");
        stage.apply(sql, "4", 0);
        let preview =
            stage.scene.run(&["preview", "--sql", "UPDATE bill SET total = subtotal + tax WHERE id > 2"]);
        preview.says("2 stay NULL").says_not("already hold");
        let preview =
            stage.scene.run(&["preview", "--sql", "UPDATE bill SET total = NULL WHERE id > 2"]).expect(0);
        preview.says_not("stays-null");
    });
}

#[test]
fn a_declared_key_is_the_key() {
    each(|stage| {
        if stage.on != On::Sqlite {
            return;
        }
        stage.run("CREATE TABLE flower (code varchar(20) PRIMARY KEY, name TEXT); INSERT INTO flower VALUES ('lime', 'Lime'), ('ling', 'Ling');
                   CREATE TABLE pair (a INT, b INT, n INT, PRIMARY KEY (a, b)); INSERT INTO pair VALUES (1, 2, 3), (1, 3, 4);");
        stage
            .scene
            .run(&["preview", "--sql", "UPDATE flower SET name = 'x' WHERE code = 'lime'"])
            .expect(0)
            .says("pinned by the primary key");
        stage.scene.run(&["set", "flower", "ling", "name=Heather", "--yes"]).expect(0);
        stage.undo(&[], 0);
        stage.there_and_back("UPDATE pair SET n = 0 WHERE a = 1 AND b = 3", "1");
        stage.there_and_back("UPDATE flower SET code = 'x' WHERE code = 'lime'", "1");
        stage.there_and_back("DELETE FROM pair WHERE a = 1", "2");
        // Where a row holds NULL there, rows are told by their number.
        stage.run("INSERT INTO flower VALUES (NULL, 'none'), (NULL, 'none');");
        stage.there_and_back("UPDATE flower SET name = 'y' WHERE code IS NULL", "2");
        stage.there_and_back("DELETE FROM flower WHERE code IS NULL OR code = 'lime'", "3");
    });
}

#[test]
fn triggers_fire_where_nothing_changes() {
    each(|stage| {
        stage.run("CREATE TABLE log (hive integer);");
        stage.run(stage.by(
            "CREATE TRIGGER l AFTER UPDATE ON hive BEGIN INSERT INTO log VALUES (new.hive_id); END;",
            "CREATE FUNCTION l() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (1); RETURN NULL; END $$; CREATE TRIGGER l AFTER UPDATE ON hive FOR EACH STATEMENT EXECUTE FUNCTION l();",
            "CREATE TRIGGER l AFTER UPDATE ON hive FOR EACH ROW INSERT INTO log VALUES (new.hive_id);",
        ));
        let logged = || stage.dump().iter().filter(|row| row.contains("log")).count();
        let same = "UPDATE hive SET kilos = 0 WHERE hive_id = 11";
        stage.apply(same, "1", 3).says("undeclared-write");
        stage.apply_allowing(same, "1", "undeclared-write", 0).says("committed");
        assert_eq!(logged(), 1);
        let none = "UPDATE hive SET kilos = 0 WHERE hive_id = 99";
        if stage.on == On::Postgres {
            stage.apply(none, "0-5", 3).says("undeclared-write");
            stage.apply_allowing(none, "0-5", "undeclared-write", 0);
            assert_eq!(logged(), 2);
        } else {
            stage.apply(none, "0-5", 0).says("Nothing to do");
        }
    });
}

#[test]
fn names_that_mean_two_things() {
    each(|stage| {
        if stage.on == On::Maria {
            return;
        }
        let before = stage.dump();
        for sql in [
            "WITH keeper AS (SELECT 1 AS keeper_id) UPDATE keeper SET name = 'x' WHERE keeper_id = 1",
            "WITH a AS (SELECT 1), keeper(keeper_id) AS (SELECT 3) DELETE FROM keeper WHERE keeper_id = 3",
        ] {
            stage.apply(sql, "1", 3).says("WITH names keeper");
        }
        assert_eq!(stage.dump(), before);
        if stage.on == On::Sqlite {
            let sql = "UPDATE hive SET kilos = max(k.keeper_id) FROM keeper AS k WHERE k.keeper_id = hive.keeper_id AND k.region = 'Nowhere'";
            let preview = stage.scene.run(&["preview", "--sql", sql]);
            assert!(
                preview.out.contains("0 of 4 rows") || preview.status != Some(0),
                "{}{}",
                preview.out,
                preview.err
            );
            assert!(!preview.out.contains("NULL  "), "{}", preview.out);
        }
    });
}

#[test]
fn settings_that_break_questions_are_set_aside() {
    each(|stage| {
        let name = stage.url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
        match stage.on {
            On::Sqlite => {}
            On::Postgres => {
                let before = stage.dump();
                stage.run(&format!("ALTER DATABASE {name} SET statement_timeout = 200; ALTER DATABASE {name} SET default_transaction_deferrable = on; ALTER DATABASE {name} SET idle_in_transaction_session_timeout = 200; ALTER DATABASE {name} SET default_transaction_isolation = 'serializable';"));
                let slow = "UPDATE keeper SET region = 'x' WHERE keeper_id < 9 AND (SELECT count(*) FROM generate_series(1, 4000000)) > 0";
                stage.apply(slow, "4", 0);
                stage.undo(&[], 0);
                stage.run(&format!("SET statement_timeout = 0; ALTER DATABASE {name} RESET ALL;"));
                assert_eq!(stage.dump(), before);
            }
            On::Maria => {
                // Users of their own, whose sessions begin with these settings by what the server runs for them.
                let Some(server) = marktwice_testkit::servers::start(
                    marktwice_testkit::servers::Brand::Maria,
                    &[
                        "--skip-networking",
                        "--init-connect=SET SESSION sql_select_limit=1, completion_type=2, autocommit=0, sql_safe_updates=1, max_statement_time=0.001",
                    ],
                ) else {
                    return;
                };
                let url = server.database();
                let mut db = marktwice_testkit::sql::Db::open(&url);
                db.run(crate::COOP);
                let name = url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
                db.run(&format!("CREATE USER ann@localhost;\nGRANT ALL ON {name}.* TO ann@localhost;"));
                let scene = marktwice_testkit::Scene::on(crate::PROGRAM, &url.replace("root@", "ann@"));
                let before = db.dump();
                scene
                    .run(&["preview", "--sql", "UPDATE keeper SET region = 'x' WHERE keeper_id < 9"])
                    .expect(0)
                    .says("4 of 4 rows");
                scene
                    .run(&[
                        "apply",
                        "--sql",
                        "UPDATE keeper SET region = 'x' WHERE keeper_id < 9",
                        "--rows",
                        "4",
                        "--yes",
                        "--allow",
                        "no-filter",
                    ])
                    .expect(0);
                assert_ne!(db.dump(), before);
                scene.run(&["undo", "@last", "--yes", "--rows", "4"]).expect(0);
                assert_eq!(db.dump(), before);
            }
        }
    });
}

#[test]
fn a_shown_row_that_somebody_changed() {
    each(|stage| {
        let mark = |stage: &Stage, sql: &str| {
            stage.scene.run(&["preview", "--sql", sql, "--format", "json"]).json()["mark"]
                .as_str()
                .unwrap()
                .to_owned()
        };
        let sql = "UPDATE keeper SET region = 'Fell' WHERE keeper_id = 1";
        // The name says which row it is, and so does the keeper of a hive.
        let taken = mark(stage, sql);
        stage.run("UPDATE keeper SET name = 'Somebody else' WHERE keeper_id = 1;");
        stage.scene.run(&["apply", "--sql", sql, "--mark", &taken, "--yes"]).expect(5);
        let hive = "UPDATE hive SET note = 'x' WHERE hive_id = 10";
        let taken = mark(stage, hive);
        stage.run("UPDATE hive SET keeper_id = 2 WHERE hive_id = 10;");
        stage.scene.run(&["apply", "--sql", hive, "--mark", &taken, "--yes"]).expect(5);
        // Another column is told, and no reason to stop.
        let taken = mark(stage, sql);
        stage.run("UPDATE keeper SET email = 'new@x.example' WHERE keeper_id = 1;");
        let done = stage.scene.run(&["apply", "--sql", sql, "--mark", &taken, "--yes"]).expect(0);
        done.says("since the preview somebody changed keeper 1");
        stage.scene.run(&["receipt"]).expect(0).says("since the preview somebody changed keeper 1");
    });
}

#[test]
fn a_bare_apply_takes_what_was_previewed() {
    each(|stage| {
        let sql = "UPDATE keeper SET region = 'Fell' WHERE keeper_id = 1";
        stage.scene.run(&["apply", "--rows", "1", "--yes"]).expect(1);
        stage.scene.run(&["preview", "--sql", sql]).expect(0);
        // A question that was declined leaves nothing to be applied.
        stage.scene.run(&["set", "keeper", "2", "region=Elsewhere"]).expect(6);
        stage.scene.run(&["apply", "--rows", "1", "--yes"]).expect(0).says("Dale → Fell");
        stage.scene.run(&["apply", "--rows", "1", "--yes"]).expect(2).says("was applied already");
        assert!(stage.value("SELECT region FROM keeper WHERE keeper_id = 2").contains("Moor"));
        stage.scene.run(&["preview", "--sql", "UPDATE keeper SET region = 'x'"]).expect(3);
        stage.scene.run(&["apply", "--rows", "4", "--yes"]).expect(3).says("no-filter");
    });
}

#[test]
fn what_a_result_is_computed_from_stands_beside_it() {
    each(|stage| {
        stage.run("CREATE TABLE batch (id integer PRIMARY KEY, list_price numeric(8,2), discount numeric(8,2), price numeric(8,2));
                   INSERT INTO batch VALUES (1, 10, 0.5, 1), (2, 20, NULL, 2);");
        let sql = "UPDATE batch SET price = list_price - discount WHERE id < 3";
        let seen = stage.scene.run(&["preview", "--sql", sql]).expect(0);
        let head = seen.out.lines().find(|line| line.contains("list_price")).unwrap();
        let columns: Vec<&str> = head.split_whitespace().collect();
        assert_eq!(columns, ["id", "price", "list_price", "discount"], "{}", seen.out);
        // A column that is shown for something else stands where it stood.
        let sql = "UPDATE batch SET price = list_price + 1 WHERE list_price > 1";
        let seen = stage.scene.run(&["preview", "--sql", sql]).expect(0);
        let head = seen.out.lines().find(|line| line.contains("list_price ")).unwrap();
        assert_eq!(
            head.split_whitespace().collect::<Vec<_>>(),
            ["id", "list_price", "price"],
            "{}",
            seen.out
        );
    });
}

/// A server of today deletes a row that it does not find by the same filter in a SELECT.
#[test]
fn an_engine_that_answers_in_two_ways_is_told_of() {
    each(|stage| {
        stage.run(
            "CREATE TABLE odd (k int NOT NULL, l varchar(5) NOT NULL, PRIMARY KEY (l, k)); CREATE TABLE u (a int);
             INSERT INTO u VALUES (1), (2), (NULL), (1); INSERT INTO odd VALUES (3, 'x');",
        );
        // There a statement does not read what it writes.
        if stage.is_mysql() {
            return;
        }
        let before = stage.dump();
        let sql = "DELETE FROM odd WHERE NOT (k IN (SELECT a FROM u WHERE a IS NOT NULL)) AND k = (SELECT max(x.k) FROM odd AS x)";
        let preview = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]);
        let step = preview.step();
        if step["matched"] == 0 {
            preview.says("two-answers").says("1 row meets its conditions");
            // Whatever the statement would have done, nothing is done that was not shown.
            stage
                .scene
                .run(&["apply", "--sql", sql, "--rows", "0-5", "--yes"])
                .expect(3)
                .says("Stopped by two-answers");
            assert_eq!(stage.dump(), before, "{:?}", stage.on);
        } else {
            assert_eq!(step["matched"], 1, "{:?}", stage.on);
            preview.says_not("two-answers");
            stage.there_and_back(sql, "1");
        }
    });
}
