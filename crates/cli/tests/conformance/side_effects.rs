//! Triggers and foreign keys' actions: foreseen, named, and stopped unless they are let pass.

use crate::{each, only};
use marktwice_testkit::stage::{On, Stage};

/// A trigger that keeps a log of changed hives.
fn log_trigger(stage: &Stage) {
    stage.run("CREATE TABLE log (hive integer, note varchar(60));");
    stage.run(stage.by(
        "CREATE TRIGGER keep_log AFTER UPDATE ON hive BEGIN INSERT INTO log VALUES (old.hive_id, old.note); END;",
        "CREATE FUNCTION keep_log() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (OLD.hive_id, OLD.note); RETURN NULL; END $$; CREATE TRIGGER keep_log AFTER UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION keep_log();",
        "CREATE TRIGGER keep_log AFTER UPDATE ON hive FOR EACH ROW INSERT INTO log VALUES (old.hive_id, old.note);",
    ));
}

#[test]
fn a_trigger_that_writes_elsewhere() {
    each(|stage| {
        log_trigger(stage);
        let sql = "UPDATE hive SET kilos = 1 WHERE hive_id IN (10, 11)";
        let before = stage.dump();
        stage
            .scene
            .run(&["preview", "--sql", sql])
            .expect(3)
            .says("undeclared-write")
            .says("keep_log")
            .says("log");
        stage.apply(sql, "2", 3);
        assert_eq!(stage.dump(), before);
        stage.apply_allowing(sql, "2", "undeclared-write", 0);
        if stage.on == On::Sqlite {
            // There a row has a number where it has no key: what the trigger wrote is held, and goes back.
            stage.undo(&[], 0);
            assert_eq!(stage.dump(), before);
            return;
        }
        stage.undo(&[], 3).says("undeclared-write");
        stage.undo(&["--allow", "undeclared-write"], 0);
        let log = stage.dump().iter().filter(|row| row.contains("log")).count();
        assert_eq!(log, 4, "{:?}", stage.dump());
    });
}

#[test]
fn cascades_are_counted_and_stop() {
    each(|stage| {
        stage.run("CREATE TABLE visit (visit_id integer PRIMARY KEY, hive_id integer, FOREIGN KEY (hive_id) REFERENCES hive (hive_id) ON DELETE CASCADE ON UPDATE CASCADE);\nINSERT INTO visit VALUES (1, 10), (2, 10), (3, 11), (4, NULL);");
        let before = stage.dump();
        let answer = stage.apply("DELETE FROM hive WHERE hive_id = 10", "1", 3).says("undeclared-write");
        assert!(answer.out.contains("2 rows of"), "{:?} {}", stage.on, answer.out);
        stage.apply("UPDATE hive SET hive_id = 20 WHERE hive_id = 10", "1", 3);
        assert_eq!(stage.dump(), before);
        // Without children there is nothing to say.
        stage.there_and_back("DELETE FROM hive WHERE hive_id = 12", "1");
        stage.there_and_back("UPDATE hive SET hive_id = 30 WHERE hive_id = 13", "1");
        stage.apply_allowing("DELETE FROM hive WHERE hive_id = 10", "1", "undeclared-write", 0);
        assert_eq!(stage.dump().iter().filter(|row| row.contains("visit")).count(), 2);
    });
}

#[test]
fn a_trigger_that_changes_or_skips_the_row() {
    each(|stage| {
        if stage.on == On::Sqlite {
            return;
        }
        stage.run(stage.by(
            "",
            "CREATE FUNCTION shout() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN NEW.note := upper(NEW.note); RETURN NEW; END $$; CREATE TRIGGER shout BEFORE UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION shout();",
            "CREATE TRIGGER shout BEFORE UPDATE ON hive FOR EACH ROW SET NEW.note = upper(NEW.note);",
        ));
        let preview = stage
            .scene
            .run(&["preview", "--sql", "UPDATE hive SET note = 'loud' WHERE hive_id = 10"])
            .expect(0);
        let preview = preview.says("shout").says("only the run can tell");
        assert!(!preview.out.contains("→ loud"), "{}", preview.out);
        stage.apply("UPDATE hive SET note = 'loud' WHERE hive_id = 10", "1", 0);
        assert!(stage.value("SELECT note FROM hive WHERE hive_id = 10").contains("LOUD"));
        if stage.on == On::Postgres {
            // Nobody can read what a trigger in another language does; it is applied, and verified row by row.
            stage.run("CREATE TRIGGER b_same BEFORE UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION suppress_redundant_updates_trigger();");
            stage
                .scene
                .run(&["preview", "--sql", "UPDATE hive SET kilos = 3 WHERE hive_id = 10"])
                .expect(0)
                .says("b_same may set any column");
            stage.there_and_back("UPDATE hive SET kilos = 3 WHERE hive_id = 10", "1");
            stage.run("CREATE FUNCTION skip() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.kilos > 50 THEN RETURN NULL; END IF; RETURN NEW; END $$; CREATE TRIGGER a_skip BEFORE UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION skip();");
            let before = stage.dump();
            stage.apply("DELETE FROM hive WHERE hive_id = 12", "1", 0);
            stage.undo(&[], 0);
            assert_eq!(stage.dump(), before);
            stage
                .scene
                .run(&["preview", "--sql", "UPDATE hive SET kilos = 60 WHERE hive_id = 10"])
                .expect(0)
                .says("may skip");
        }
    });
}

#[test]
fn writes_that_nobody_could_foresee_are_measured() {
    each(|stage| {
        if stage.on == On::Sqlite {
            return;
        }
        stage.run("CREATE TABLE log (hive integer);");
        stage.run(stage.by(
            "",
            "CREATE FUNCTION secret(h integer) RETURNS void LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (h); END $$; CREATE FUNCTION hook() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM secret(OLD.hive_id); RETURN NULL; END $$; CREATE TRIGGER hook AFTER DELETE ON hive FOR EACH ROW EXECUTE FUNCTION hook();",
            "//\nCREATE PROCEDURE secret(h integer) BEGIN INSERT INTO log VALUES (h); END\n//\nCREATE TRIGGER hook AFTER DELETE ON hive FOR EACH ROW CALL secret(old.hive_id);",
        ));
        let before = stage.dump();
        stage.apply("DELETE FROM hive WHERE keeper_id = 1", "2", 3).says("trigger hook writes log");
        assert_eq!(stage.dump(), before);
        stage.apply_allowing("DELETE FROM hive WHERE keeper_id = 1", "2", "undeclared-write", 0);
        stage.scene.run(&["receipt", "--verbose"]).expect(0).says("2 inserted");
    });
}

#[test]
fn a_function_in_the_statement_that_writes() {
    each(|stage| {
        if stage.on != On::Postgres {
            return;
        }
        stage.run("CREATE TABLE log (hive integer); CREATE FUNCTION sly(h integer) RETURNS integer LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (h); RETURN h; END $$;");
        let before = stage.dump();
        let sql = "UPDATE hive SET kilos = sly(hive_id) WHERE hive_id = 10";
        stage.scene.run(&["preview", "--sql", sql]).expect(3).says("function sly writes log");
        stage.apply(sql, "1", 3).says("log");
        // In a filter it would already write while it is previewed.
        let filter = "UPDATE hive SET kilos = 1 WHERE sly(hive_id) = 10";
        stage
            .scene
            .run(&["preview", "--sql", filter, "--allow", "volatile-filter"])
            .expect(3)
            .says("sly() writes log");
        assert_eq!(stage.dump(), before);
    });
}

/// A key that leads into a table from another schema, whose name is nearly the same.
#[test]
fn a_key_from_another_schema() {
    only(On::Maria, |stage| {
        let own = stage.url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
        let other = own.replace('_', "x");
        assert_ne!(own, other);
        stage.run(&format!(
            "CREATE DATABASE {other}; CREATE TABLE {other}.frame (id int PRIMARY KEY, hive_id int, \
             FOREIGN KEY (hive_id) REFERENCES {own}.hive (hive_id) ON DELETE CASCADE); \
             INSERT INTO {other}.frame VALUES (1, 10), (2, 10), (3, 12);"
        ));
        let sql = "DELETE FROM hive WHERE hive_id = 10";
        let preview = stage.scene.run(&["preview", "--sql", sql]);
        preview.says(&format!("{other}.frame")).says("2 rows");
        stage.run(&format!("DROP DATABASE {other};"));
        stage.scene.run(&["preview", "--sql", sql]).expect(0).says_not("frame");
    });
}
