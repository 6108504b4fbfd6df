//! Whether an undo will succeed is known, and said, before anybody agrees to a run; and where it can, it does.

use crate::each;
use marktwice_testkit::stage::{On, Stage};

/// A table with a version and a moment that a trigger sets whenever a row is written.
fn stamped(stage: &Stage, event: &str) {
    stage.run("CREATE TABLE batch (id integer PRIMARY KEY, price integer, version integer, flower varchar(9));\nINSERT INTO batch VALUES (1, 10, 1, 'lime'), (2, 20, 1, 'lime'), (3, 30, 1, 'moor');");
    let (sqlite, postgres, maria) = if event == "UPDATE" {
        (
            "CREATE TRIGGER touch AFTER UPDATE OF price ON batch BEGIN UPDATE batch SET version = old.version + 1 WHERE id = new.id; END;",
            "CREATE FUNCTION touch() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.version := OLD.version + 1; RETURN NEW; END $$; CREATE TRIGGER touch BEFORE UPDATE ON batch FOR EACH ROW EXECUTE FUNCTION touch();",
            "CREATE TRIGGER touch BEFORE UPDATE ON batch FOR EACH ROW SET NEW.version = OLD.version + 1;",
        )
    } else {
        (
            "CREATE TRIGGER touch AFTER INSERT ON batch BEGIN UPDATE batch SET version = 99 WHERE id = new.id; END;",
            "CREATE FUNCTION touch() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.version = 99; RETURN NEW; END $$; CREATE TRIGGER touch BEFORE INSERT ON batch FOR EACH ROW EXECUTE FUNCTION touch();",
            "CREATE TRIGGER touch BEFORE INSERT ON batch FOR EACH ROW SET NEW.version = 99;",
        )
    };
    stage.run(stage.by(sqlite, postgres, maria));
}

fn value(stage: &Stage, query: &str) -> String {
    stage.value(query).chars().filter(char::is_ascii_digit).collect()
}

#[test]
fn a_trigger_that_stamps_what_is_put_back() {
    each(|stage| {
        stamped(stage, "UPDATE");
        let sql = "UPDATE batch SET price = 11 WHERE id = 1";
        let on = if stage.on == On::Sqlite { "undeclared-write" } else { "no-filter" };
        let preview = stage.scene.run(&["preview", "--sql", sql, "--allow", on]).expect(0);
        preview.says("an undo puts back all but version: trigger touch sets it");
        let done = stage.apply_allowing(sql, "1", on, 0);
        let printed = done.out.lines().find_map(|l| l.split("marktwice ").nth(1)).unwrap().to_owned();
        assert_eq!(printed.contains("--allow undeclared-write"), stage.on == On::Sqlite, "{printed}");
        stage
            .scene
            .run(&["history"])
            .expect(0)
            .says("can be undone in part (version: trigger touch sets it)");
        // The command that was printed is the one that works.
        let args: Vec<&str> = printed.split_whitespace().collect();
        let undo = stage.scene.run(&[&args[..], &["--yes"]].concat()).expect(0);
        undo.says("only the undo can tell");
        assert_eq!(value(stage, "SELECT price FROM batch WHERE id = 1"), "10");
        assert_eq!(value(stage, "SELECT version FROM batch WHERE id = 1"), "3");
        stage.scene.run(&["history"]).expect(0).says("undone by");
    });
}

#[test]
fn a_trigger_that_changes_what_comes_back() {
    each(|stage| {
        stamped(stage, "INSERT");
        let on = if stage.on == On::Sqlite { "undeclared-write" } else { "no-filter" };
        let sql = "DELETE FROM batch WHERE flower = 'lime'";
        stage.apply_allowing(sql, "2", on, 0).says("all but version: trigger touch sets it");
        stage.undo(&["--allow", on], 0).says("trigger touch sets it");
        assert_eq!(value(stage, "SELECT sum(price) FROM batch"), "60");
        assert_eq!(value(stage, "SELECT version FROM batch WHERE id = 2"), "99");
    });
}

#[test]
fn rows_that_are_older_than_a_constraint() {
    each(|stage| {
        // A hive whose keeper is not there: keys were not looked at when it came in.
        stage.run(stage.by(
            "INSERT INTO hive VALUES (20, 77, 1, 'x');",
            "ALTER TABLE hive DROP CONSTRAINT hive_keeper_id_fkey; INSERT INTO hive VALUES (20, 77, 1, 'x'); ALTER TABLE hive ADD FOREIGN KEY (keeper_id) REFERENCES keeper NOT VALID;",
            "SET foreign_key_checks = 0;\nINSERT INTO hive VALUES (20, 77, 1, 'x');",
        ));
        let before = stage.dump();
        for sql in
            ["DELETE FROM hive WHERE hive_id = 20", "UPDATE hive SET keeper_id = 1 WHERE hive_id IN (12, 20)"]
        {
            let rows = if sql.starts_with("DELETE") { "1" } else { "2" };
            stage.apply(sql, rows, 3).says("no-way-back").says("no parent in keeper");
            assert_eq!(stage.dump(), before);
        }
        stage.there_and_back("UPDATE hive SET kilos = 2 WHERE hive_id = 20", "1");
        stage.there_and_back("DELETE FROM hive WHERE hive_id = 12", "1");
        let done = stage.apply_allowing("DELETE FROM hive WHERE hive_id = 20", "1", "no-way-back", 0);
        done.says("cannot be undone").says_not("marktwice undo");
        stage.scene.run(&["history"]).expect(0).says("cannot be undone");
        if stage.on == On::Maria && !stage.is_mysql() {
            stage.run(
                "CREATE TABLE jar (id int PRIMARY KEY, k int, about json, CONSTRAINT full CHECK (k > 0));",
            );
            stage
                .run("SET check_constraint_checks = 0;\nINSERT INTO jar VALUES (1, -1, '{}'), (2, 1, NULL);");
            stage
                .apply("UPDATE jar SET k = 5 WHERE id < 9", "2", 3)
                .says("no-way-back")
                .says("1 row breaks the check full");
            stage.there_and_back("UPDATE jar SET k = 5 WHERE id = 2", "1");
        }
        if stage.on == On::Postgres {
            stage.run("INSERT INTO keeper VALUES (8, 'x', NULL, NULL); ALTER TABLE keeper ADD CHECK (name <> 'x') NOT VALID;
                CREATE DOMAIN kilo AS int; CREATE TABLE jar (id int PRIMARY KEY, k kilo, f regproc); INSERT INTO jar VALUES (1, -1, NULL), (2, 1, 'pg_catalog.abs(int)'::regprocedure::oid);
                ALTER DOMAIN kilo ADD CHECK (VALUE > 0) NOT VALID;");
            stage
                .apply("UPDATE keeper SET name = 'y' WHERE keeper_id = 8", "1", 3)
                .says("no-way-back")
                .says("keeper_name_check");
            stage
                .apply("UPDATE jar SET k = 5 WHERE id = 1", "1", 3)
                .says("no-way-back")
                .says("does not fit its type");
            stage.apply("UPDATE jar SET k = 5 WHERE id = 2", "1", 3).says("no-way-back").says("read back");
        }
    });
}

#[test]
fn a_right_that_only_the_way_back_needs() {
    each(|stage| {
        if stage.on == On::Sqlite {
            return;
        }
        let name = stage.url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
        stage.run(&stage.by(
            "",
            "CREATE ROLE only_NAME LOGIN; GRANT SELECT, DELETE ON hive TO only_NAME; GRANT TEMP ON DATABASE NAME TO only_NAME;",
            "CREATE USER only_NAME@localhost;\nGRANT SELECT, DELETE ON NAME.hive TO only_NAME@localhost;\nGRANT CREATE TEMPORARY TABLES, TRIGGER ON NAME.* TO only_NAME@localhost;",
        ).replace("NAME", &name));
        let user = if stage.on == On::Postgres { "tester@" } else { "root@" };
        let on = stage.url.replace(user, &format!("only_{name}@"));
        let before = stage.dump();
        let sql = "DELETE FROM hive WHERE hive_id = 10";
        let run = |more: &[&str]| {
            stage.scene.run(&[&["apply", "--sql", sql, "--rows", "1", "--yes", "--on", &on], more].concat())
        };
        run(&[]).expect(3).says("no-way-back").says("INSERT on hive is missing");
        assert_eq!(stage.dump(), before);
        run(&["--allow", "no-way-back"]).expect(0).says("cannot be undone");
        // Somebody with the right can.
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn definitions_are_the_same_under_any_settings() {
    each(|stage| {
        let name = stage.url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
        match stage.on {
            On::Sqlite => return,
            On::Postgres => stage.run("CREATE TABLE visit (id int PRIMARY KEY, at timestamptz DEFAULT '2026-05-10 10:00+00', day date DEFAULT '2026-05-10' CHECK (day > '2020-01-02'), n int); CREATE INDEX ON visit (n) WHERE at > '2026-01-01 00:00+00'; INSERT INTO visit (id, n) VALUES (1, 1);"),
            On::Maria => stage.run("CREATE TABLE visit (id int PRIMARY KEY, at timestamp DEFAULT '2026-05-10 10:00:00', n int);\nINSERT INTO visit (id, n) VALUES (1, 1);"),
        }
        let before = stage.dump();
        let settings: &[&str] = if stage.on == On::Postgres {
            &[
                "TimeZone = 'Asia/Kolkata'",
                "DateStyle = 'SQL, DMY'",
                "search_path = pg_catalog, public",
                "quote_all_identifiers = on",
            ]
        } else {
            &["time_zone = '+05:30'", "sql_mode = 'ANSI_QUOTES'"]
        };
        for setting in settings {
            let (on, off) = if stage.on == On::Postgres {
                (format!("ALTER DATABASE {name} SET {setting}"), format!("ALTER DATABASE {name} RESET ALL"))
            } else {
                (
                    format!("SET GLOBAL {setting}"),
                    "SET GLOBAL time_zone = DEFAULT;\nSET GLOBAL sql_mode = DEFAULT".to_owned(),
                )
            };
            stage.run(&format!("{on};"));
            stage.apply("UPDATE visit SET n = 2 WHERE id = 1", "1", 0);
            stage.run(&format!("{off};"));
            stage.undo(&[], 0);
            assert_eq!(stage.dump(), before, "{setting}");
        }
        // A definition that really has changed is told by the history.
        stage.apply("UPDATE visit SET n = 2 WHERE id = 1", "1", 0);
        stage.run("ALTER TABLE visit ADD COLUMN more int;");
        stage
            .scene
            .run(&["history"])
            .expect(0)
            .says("cannot be undone (the definition of visit has changed since)");
    });
}

#[test]
fn a_part_that_was_taken_back_is_told_as_such() {
    each(|stage| {
        stage.apply("UPDATE hive SET kilos = 1 WHERE keeper_id = 3", "2", 0);
        stage.run("UPDATE hive SET note = 'mine' WHERE hive_id = 13;");
        let undo = stage
            .scene
            .run(&["undo", "@last", "--yes", "--rows", "0+", "--changed", "skip", "--format", "json"])
            .expect(0)
            .run();
        stage.scene.run(&["history"]).expect(0).says(&format!("taken back in part (1 of 2 rows, by {undo})"));
    });
}

#[test]
fn triggers_that_skip_or_take_away_are_never_exact() {
    each(|stage| {
        stage.run(stage.by(
            "CREATE TRIGGER guard BEFORE DELETE ON hive WHEN old.kilos > 50 BEGIN SELECT RAISE(IGNORE); END; CREATE TRIGGER sweep AFTER UPDATE OF note ON hive BEGIN DELETE FROM hive WHERE hive_id = new.hive_id AND new.note = 'gone'; END;",
            "CREATE FUNCTION guard() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF OLD.kilos > 50 THEN RETURN NULL; END IF; RETURN OLD; END $$; CREATE TRIGGER guard BEFORE DELETE ON hive FOR EACH ROW EXECUTE FUNCTION guard();
             CREATE FUNCTION sweep() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN DELETE FROM hive WHERE hive_id = NEW.hive_id AND NEW.note = 'gone'; RETURN NULL; END $$; CREATE TRIGGER sweep AFTER UPDATE OF note ON hive FOR EACH ROW EXECUTE FUNCTION sweep();",
            "",
        ));
        if stage.on == On::Maria {
            // A trigger of this engine neither skips a row nor writes its own table.
            return;
        }
        let before = stage.dump();
        stage.scene.run(&["preview", "--sql", "DELETE FROM hive WHERE hive_id = 12"]).says("may-skip");
        stage.apply("DELETE FROM hive WHERE hive_id IN (11, 12)", "2", 4);
        let preview =
            stage.scene.run(&["preview", "--sql", "UPDATE hive SET note = 'gone' WHERE hive_id = 10"]);
        assert!(!preview.out.contains("→ gone"), "{}", preview.out);
        stage.apply_allowing("UPDATE hive SET note = 'gone' WHERE hive_id = 10", "1", "undeclared-write", 4);
        assert_eq!(stage.dump(), before);
    });
}
