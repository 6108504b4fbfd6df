//! Writes that counters do not show, rights that hide what is there, and members of a table that are elsewhere: what
//! cannot be promised is said before anything runs, and found out inside the transaction at the latest.

use crate::{each, only};
use marktwice_testkit::stage::{On, Stage};

fn postgres(story: impl Fn(&Stage)) {
    only(On::Postgres, story);
}

fn maria(story: impl Fn(&Stage)) {
    only(On::Maria, story);
}

/// The database's own name.
fn database(stage: &Stage) -> String {
    stage.url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned()
}

#[test]
fn a_partition_on_another_server() {
    postgres(|stage| {
        let (here, socket) = (database(stage), stage.server.unwrap().socket().display().to_string());
        stage.run(&format!(
            "CREATE TABLE far_a (id int, season int, kilos int); INSERT INTO far_a VALUES (3, 2027, 30);
             CREATE EXTENSION postgres_fdw;
             CREATE SERVER away FOREIGN DATA WRAPPER postgres_fdw OPTIONS (dbname '{here}', host '{socket}');
             CREATE USER MAPPING FOR tester SERVER away OPTIONS (user 'tester');
             CREATE TABLE yield (id int, season int, kilos int) PARTITION BY LIST (season);
             CREATE TABLE yield_26 PARTITION OF yield FOR VALUES IN (2026);
             CREATE TABLE yield_late PARTITION OF yield FOR VALUES IN (2027, 2028) PARTITION BY LIST (season);
             CREATE FOREIGN TABLE yield_27 PARTITION OF yield_late FOR VALUES IN (2027) SERVER away OPTIONS (table_name 'far_a');
             INSERT INTO yield VALUES (1, 2026, 10), (2, 2026, 20);"
        ));
        let before = stage.dump();
        for sql in [
            "DELETE FROM yield WHERE id = 3",
            "UPDATE yield SET kilos = 1 WHERE season = 2026",
            "UPDATE yield_late SET kilos = 1 WHERE id = 3",
        ] {
            stage.apply_allowing(sql, "0+", "no-rollback", 3).says("yield_27").says("away");
        }
        assert_eq!(stage.dump(), before);
        stage.there_and_back("DELETE FROM yield_26 WHERE id = 1", "1");
        let reads = "UPDATE keeper SET region = 'Far' WHERE keeper_id IN (SELECT id FROM yield)";
        stage.scene.run(&["preview", "--sql", reads]).expect(0).says("reads-elsewhere").says("away");
        // A partition that comes in after the preview is noticed too.
        stage.run("CREATE TABLE wax (id int, g int) PARTITION BY RANGE (id); CREATE TABLE wax_1 PARTITION OF wax FOR VALUES FROM (1) TO (9); INSERT INTO wax VALUES (1, 1);");
        stage.apply("UPDATE wax SET g = 2 WHERE id = 1", "1", 0);
        stage.run("CREATE FOREIGN TABLE wax_2 PARTITION OF wax FOR VALUES FROM (9) TO (20) SERVER away;");
        stage.undo(&[], 5).says("definition of wax");
    });
}

#[test]
fn what_counters_do_not_see() {
    postgres(|stage| {
        stage.run(
            "CREATE TABLE log (hive integer); INSERT INTO log VALUES (1), (2); CREATE SEQUENCE tally; CREATE TABLE act (what text);
             CREATE FUNCTION sly() RETURNS trigger LANGUAGE plpgsql AS $$ DECLARE s text; BEGIN SELECT what INTO s FROM act; EXECUTE s; RETURN NULL; END $$;
             CREATE TRIGGER sly AFTER DELETE ON hive FOR EACH ROW EXECUTE FUNCTION sly();",
        );
        let sql = "DELETE FROM hive WHERE hive_id = 10";
        for (what, said) in [
            ("TRUNCATE log", "log"),
            ("DROP TABLE log", "there no more"),
            ("ALTER TABLE log ADD x int", "log"),
            ("SELECT setval('tally', 77)", "tally"),
            ("SELECT lo_create(0)", "large objects"),
            ("SET LOCAL track_counts = off; INSERT INTO log VALUES (3); SET LOCAL track_counts = on", "log"),
            ("SET LOCAL track_counts = off; INSERT INTO log VALUES (3)", "log"),
            // These no counter sees, which is why a text that is not known whole stops the change before anything runs.
            ("SELECT lo_put(lo_create(0), 0, 'x')", ""),
            ("GRANT SELECT ON log TO public", ""),
            ("COMMENT ON TABLE log IS 'sly'", ""),
            ("INSERT INTO log VALUES (3)", "1 inserted"),
        ] {
            stage.run(&format!("DELETE FROM act; INSERT INTO act VALUES ($${what}$$);"));
            let before = stage.dump();
            stage.apply(sql, "1", 3).says("unmeasured-write").says("sly runs what cannot be seen");
            // A rehearsal runs it, and says what the counters have seen.
            let seen = stage.scene.run(&["rehearse", "--sql", sql, "--allow", "unmeasured-write"]);
            let seen = format!("{}{}", seen.out, seen.err);
            assert!(said.is_empty() || seen.contains(said) || seen.contains("would be committed"), "{seen}");
            assert_eq!(stage.dump(), before, "{what}");
        }
        stage.run("DELETE FROM act; INSERT INTO act VALUES ('SELECT setval(''tally'', 77)');");
        stage.apply_allowing(sql, "1", "unmeasured-write", 0);
        // What a text shows is said before anybody is asked.
        stage.run("CREATE OR REPLACE FUNCTION sly() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM deep(); RETURN NULL; END $$;
                   CREATE FUNCTION deep() RETURNS void LANGUAGE plpgsql AS $$ BEGIN TRUNCATE log; END $$;");
        stage
            .scene
            .run(&["preview", "--sql", "DELETE FROM hive WHERE hive_id = 11"])
            .expect(3)
            .says("unmeasured-write")
            .says("TRUNCATE log");
    });
}

#[test]
fn everything_that_follows_is_named() {
    each(|stage| {
        stage.run("CREATE TABLE log (hive integer); CREATE TABLE second (n integer);\nINSERT INTO second VALUES (0);");
        stage.run(stage.by(
            "CREATE TRIGGER first AFTER UPDATE ON hive BEGIN INSERT INTO log VALUES (old.hive_id); END; CREATE TRIGGER then_second AFTER INSERT ON log BEGIN UPDATE second SET n = n + 1; END;",
            "CREATE FUNCTION f1() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (OLD.hive_id); RETURN NULL; END $$; CREATE FUNCTION f2() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN UPDATE second SET n = n + 1; RETURN NULL; END $$;
             CREATE TRIGGER first AFTER UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION f1(); CREATE TRIGGER then_second AFTER INSERT ON log FOR EACH ROW EXECUTE FUNCTION f2();",
            "CREATE TRIGGER first AFTER UPDATE ON hive FOR EACH ROW INSERT INTO log VALUES (old.hive_id);\nCREATE TRIGGER then_second AFTER INSERT ON log FOR EACH ROW UPDATE second SET n = n + 1;",
        ));
        let preview =
            stage.scene.run(&["preview", "--sql", "UPDATE hive SET kilos = 1 WHERE hive_id = 10"]).expect(3);
        preview.says("trigger first writes log").says("trigger then_second writes second");
        // A boss with two levels below: one row is named, two more go with it.
        stage.run("CREATE TABLE boss (id integer PRIMARY KEY, above integer, name varchar(9), FOREIGN KEY (above) REFERENCES boss (id) ON DELETE CASCADE);\nINSERT INTO boss VALUES (1, NULL, 'a'), (2, 1, 'b'), (3, 2, 'c'), (4, NULL, 'd'), (5, 5, 'e');");
        let preview = stage.scene.run(&["preview", "--sql", "DELETE FROM boss WHERE id = 1"]).expect(3);
        preview.says("2 rows of boss");
        let preview = stage.scene.run(&["preview", "--sql", "DELETE FROM boss WHERE id IN (1, 3)"]).expect(3);
        preview.says("1 row of boss");
        stage.there_and_back("DELETE FROM boss WHERE id = 4", "1");
        stage.there_and_back("DELETE FROM boss WHERE id IN (1, 2, 3)", "3");
        stage.there_and_back("DELETE FROM boss WHERE id = 5", "1");
    });
}

#[test]
fn a_key_that_cascades_onto_the_row_itself() {
    each(|stage| {
        if stage.on == On::Maria {
            // This engine refuses to cascade onto a table that the statement itself writes.
            return;
        }
        stage.run("CREATE TABLE boss (id integer PRIMARY KEY, above integer, FOREIGN KEY (above) REFERENCES boss (id) ON UPDATE CASCADE);\nINSERT INTO boss VALUES (1, 1), (2, 1), (3, NULL);");
        stage.there_and_back("UPDATE boss SET id = 9 WHERE id = 3", "1");
        stage
            .scene
            .run(&["preview", "--sql", "UPDATE boss SET id = 8 WHERE id = 1"])
            .expect(3)
            .says("1 row of boss")
            .says("ON UPDATE CASCADE may set it");
        stage.run("DELETE FROM boss WHERE id = 2;");
        stage.there_and_back("UPDATE boss SET id = 8 WHERE id = 1", "1");
    });
}

#[test]
fn routines_that_write_what_cannot_be_rolled_back() {
    maria(|stage| {
        stage.run(
            "CREATE TABLE loose (n integer) ENGINE=MyISAM;\n//\nCREATE PROCEDURE deeper(n integer) BEGIN INSERT INTO loose VALUES (n); END\n//\n\
             CREATE PROCEDURE deep(n integer) BEGIN CALL deeper(n); END\n//\n\
             CREATE FUNCTION f(n integer) RETURNS integer DETERMINISTIC NO SQL BEGIN CALL deep(n); RETURN n; END\n//\n\
             CREATE FUNCTION plain(n integer) RETURNS integer DETERMINISTIC NO SQL RETURN n\n//\n\
             CREATE TRIGGER deep_one AFTER DELETE ON hive FOR EACH ROW CALL deep(old.hive_id)\n//\n",
        );
        for (sql, said) in [
            ("UPDATE hive SET kilos = f(1) WHERE hive_id = 10", "loose"),
            ("DELETE FROM hive WHERE hive_id = 10", "loose"),
            ("UPDATE hive SET kilos = 2 WHERE f(hive_id) = 10", "f() writes loose"),
            ("UPDATE hive SET kilos = 2 WHERE GET_LOCK('a', 0) = 1 AND hive_id = 10", "GET_LOCK()"),
        ] {
            for allow in ["no-rollback", "unmeasured-write", "volatile-filter"] {
                stage.apply_allowing(sql, "0+", allow, 3).says(said);
            }
            assert_eq!(stage.dump().iter().filter(|row| row.starts_with("loose")).count(), 0);
        }
        stage.there_and_back("UPDATE hive SET kilos = plain(3) WHERE plain(hive_id) = 10", "1");
        // A function that no text shows is not run either.
        stage.run("//\nCREATE FUNCTION vague(n integer) RETURNS integer NOT DETERMINISTIC BEGIN SET @seen = n; RETURN n; END\n//\n");
        let sql = "UPDATE hive SET kilos = 7 WHERE vague(hive_id) = 10";
        stage.scene.run(&["preview", "--sql", sql]).expect(3).says("volatile-filter").says("was not run");
        stage
            .scene
            .run(&["preview", "--sql", sql, "--allow", "volatile-filter"])
            .expect(0)
            .says("rolled back");
    });
}

#[test]
fn what_a_user_may_not_see_stops() {
    maria(|stage| {
        let name = database(stage);
        stage.run("CREATE TABLE visit (visit_id integer PRIMARY KEY, hive_id integer, FOREIGN KEY (hive_id) REFERENCES hive (hive_id) ON DELETE CASCADE);\nINSERT INTO visit VALUES (1, 10), (2, 10);");
        stage.run("CREATE TABLE loose (n integer) ENGINE=MyISAM;\n//\nCREATE TRIGGER hidden BEFORE UPDATE ON keeper FOR EACH ROW BEGIN INSERT INTO loose VALUES (1); SET new.region = 'Fen'; END\n//\n");
        stage.run(&format!(
            "CREATE USER few_{name}@localhost;\nGRANT SELECT, UPDATE, DELETE, INSERT, TRIGGER ON {name}.hive TO few_{name}@localhost;\n\
             GRANT CREATE TEMPORARY TABLES ON {name}.* TO few_{name}@localhost;\nGRANT SELECT, UPDATE ON {name}.keeper TO few_{name}@localhost;\n\
             CREATE USER cols_{name}@localhost;\nGRANT SELECT (keeper_id, name), UPDATE ON {name}.keeper TO cols_{name}@localhost;\n\
             CREATE USER proc_{name}@localhost;\nGRANT PROCESS ON *.* TO proc_{name}@localhost;\nGRANT SELECT, DELETE, INSERT, TRIGGER ON {name}.hive TO proc_{name}@localhost;\nGRANT CREATE TEMPORARY TABLES ON {name}.* TO proc_{name}@localhost;"
        ));
        let as_user = |who: &str| stage.url.replace("root@", &format!("{who}_{name}@"));
        let before = stage.dump();
        let few = as_user("few");
        let delete = "DELETE FROM hive WHERE hive_id = 10";
        let run = |url: &str, sql: &str| {
            stage.scene.run(&["apply", "--sql", sql, "--rows", "1", "--yes", "--on", url])
        };
        run(&few, delete).expect(3).says("unmeasured-write").says("PROCESS");
        run(&few, "UPDATE keeper SET name = 'x' WHERE keeper_id = 1").expect(3).says("TRIGGER");
        let preview = stage
            .scene
            .run(&["preview", "--sql", "UPDATE keeper SET region = 'x' WHERE keeper_id = 1", "--on", &few])
            .expect(3);
        assert!(!preview.out.contains("→ x"), "{}", preview.out);
        run(&as_user("cols"), "UPDATE keeper SET name = 'x' WHERE keeper_id = 1")
            .expect(1)
            .says("whole of keeper");
        run(&as_user("proc"), delete).expect(3).says("visit");
        assert_eq!(stage.dump(), before);
        // What touches no key cannot cascade.
        run(&few, "UPDATE hive SET note = 'x' WHERE hive_id = 10").expect(0);
    });
}

#[test]
fn children_that_may_not_be_read() {
    postgres(|stage| {
        let name = database(stage);
        stage.run(&format!(
            "CREATE TABLE visit (visit_id integer PRIMARY KEY, hive_id integer REFERENCES hive ON DELETE CASCADE); INSERT INTO visit VALUES (1, 10);
             CREATE ROLE few_{name} LOGIN; GRANT SELECT, DELETE, INSERT ON hive TO few_{name}; GRANT TEMP ON DATABASE {name} TO few_{name};"
        ));
        let few = stage.url.replace("tester@", &format!("few_{name}@"));
        let before = stage.dump();
        let sql = "DELETE FROM hive WHERE hive_id = 10";
        stage
            .scene
            .run(&["apply", "--sql", sql, "--rows", "1", "--yes", "--on", &few])
            .expect(3)
            .says("visit");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn a_published_table_without_an_identity() {
    postgres(|stage| {
        stage.run(
            "CREATE TABLE frame (nr int, wax text);
             INSERT INTO frame VALUES (1, 'new'), (2, 'old');
             CREATE TABLE swarm (nr int, year int) PARTITION BY LIST (year);
             CREATE TABLE swarm_26 PARTITION OF swarm FOR VALUES IN (2026);
             INSERT INTO swarm VALUES (1, 2026);",
        );
        stage.apply("UPDATE frame SET wax = 'dark' WHERE nr = 2", "1", 0);
        stage.run("CREATE PUBLICATION co_op FOR TABLE frame, swarm, keeper;");
        let before = stage.dump();
        for sql in ["UPDATE frame SET wax = 'x' WHERE nr = 1", "DELETE FROM swarm WHERE nr = 1"] {
            let preview = stage.scene.run(&["preview", "--sql", sql]).expect(3);
            preview.says("no-identity").says("published").says_not("to apply exactly this");
            stage.apply_allowing(sql, "1", "no-identity", 3);
            stage.apply(sql, "1", 3).says("no-identity");
        }
        stage.undo(&[], 3).says("published");
        assert_eq!(stage.dump(), before);
        stage.there_and_back("UPDATE keeper SET region = 'Far' WHERE keeper_id = 1", "1");
        stage.run("ALTER TABLE frame REPLICA IDENTITY FULL;");
        stage.undo(&[], 0);
    });
}

/// Tables of the user's with names of the server's catalogue, found before it.
#[test]
fn the_users_own_catalogue_is_not_asked() {
    only(On::Postgres, |stage| {
        let name = stage.url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
        let before = stage.dump();
        stage.run(&format!(
            "CREATE SCHEMA front; CREATE TABLE front.pg_class (oid oid, relname name); CREATE TABLE front.pg_attribute (attrelid oid);
             CREATE TABLE front.pg_trigger (tgrelid oid, tgname name); CREATE TABLE front.pg_constraint (conrelid oid);
             CREATE TABLE front.pg_type (oid oid); CREATE TABLE front.pg_proc (oid oid); CREATE TABLE front.pg_index (indrelid oid);
             CREATE TABLE front.pg_namespace (oid oid);
             ALTER DATABASE {name} SET search_path = front, public, pg_catalog;"
        ));
        stage.scene.run(&["look", "hive"]).expect(0);
        stage.apply("UPDATE hive SET kilos = 2 WHERE hive_id = 12", "1", 0);
        stage.undo(&[], 0);
        stage.apply("DELETE FROM hive WHERE hive_id = 12", "1", 0);
        stage.undo(&[], 0);
        stage.run(&format!("ALTER DATABASE {name} RESET search_path;"));
        assert_eq!(stage.dump(), before);
    });
}
