//! An undo that is tried before the commit: what definitions leave in doubt is known before anything is committed, and a run whose undo
//! is said to work is undone.

use marktwice_testkit::stage::{On, Stage};

use crate::{each, only};

/// A trigger on each row of a table, by engine; `{}` in the body are `NEW` and `OLD` as everywhere.
fn trigger(on: On, name: &str, when: &str, table: &str, body: &str) -> String {
    match on {
        On::Sqlite => format!("CREATE TRIGGER {name} {when} ON {table} BEGIN {body} END;"),
        On::Postgres => {
            let row = if when.contains("DELETE") { "OLD" } else { "NEW" };
            format!(
                "CREATE FUNCTION f_{name}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {body} RETURN {row}; END $$;
                 CREATE TRIGGER {name} {when} ON {table} FOR EACH ROW EXECUTE FUNCTION f_{name}();"
            )
        }
        On::Maria => format!("CREATE TRIGGER {name} {when} ON {table} FOR EACH ROW BEGIN {body} END;"),
    }
}

/// A trigger's refusal under a condition.
fn raise(on: On, condition: &str, words: &str) -> String {
    match on {
        On::Sqlite => format!("SELECT RAISE(ABORT, '{words}') WHERE {condition};"),
        On::Postgres => format!("IF {condition} THEN RAISE EXCEPTION '{words}'; END IF;"),
        On::Maria => {
            format!("IF {condition} THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = '{words}'; END IF;")
        }
    }
}

/// What the newest receipt says of the undo.
fn proof(stage: &Stage) -> String {
    let history = stage.scene.run(&["history", "--format", "json"]).json();
    let proof = &history["runs"][0]["receipt"]["undo_proof"];
    proof["is"].as_str().unwrap_or("none").to_owned()
}

/// A change whose undo fails is stopped with status 4, in an application and in a rehearsal, and changes nothing; where that is allowed
/// it is committed, and said to be what it is.
#[track_caller]
fn stopped(stage: &Stage, sql: &str, more: &[&str], says: &str) {
    let before = stage.dump();
    let args = [&["apply", "--sql", sql, "--rows", "1+", "--yes"][..], more].concat();
    let answer = stage.scene.run(&args);
    assert_eq!(answer.status, Some(4), "{:?} {sql}\n{}{}", stage.on, answer.out, answer.err);
    assert!(answer.err.contains("undo") && answer.err.contains(says), "{:?} {sql}\n{}", stage.on, answer.err);
    assert_eq!(stage.dump(), before, "{:?} {sql}", stage.on);
    let args = [&["rehearse", "--sql", sql][..], more].concat();
    let answer = stage.scene.run(&args);
    assert_eq!(answer.status, Some(4), "{:?} {sql}\n{}{}", stage.on, answer.out, answer.err);
    assert_eq!(stage.dump(), before, "{:?} {sql}", stage.on);
}

/// A change is applied, its undo was proven, and takes it back.
#[track_caller]
fn proven(stage: &Stage, sql: &str, more: &[&str]) {
    let before = stage.dump();
    let args = [&["apply", "--sql", sql, "--rows", "1+", "--yes"][..], more].concat();
    let answer = stage.scene.run(&args);
    assert_eq!(answer.status, Some(0), "{:?} {sql}\n{}{}", stage.on, answer.out, answer.err);
    assert_eq!(proof(stage), "proven", "{:?} {sql}", stage.on);
    assert_ne!(stage.dump(), before, "{:?} {sql}", stage.on);
    stage.undo(&["--allow", "undeclared-write", "--allow", "may-skip"], 0);
    assert_eq!(stage.dump(), before, "{:?} {sql}", stage.on);
}

#[test]
fn triggers_that_stand_in_the_way() {
    each(|stage| {
        let on = stage.on;
        stage.run(
            "CREATE TABLE acct (id integer PRIMARY KEY, bal integer, name varchar(20));
             CREATE TABLE keyed (id integer PRIMARY KEY, bal integer);
             INSERT INTO acct VALUES (1, 5, 'a'), (2, 6, 'b'), (3, 7, 'c');",
        );
        stage.run(&trigger(
            on,
            "upwards",
            "BEFORE UPDATE",
            "acct",
            &raise(on, "NEW.bal < OLD.bal", "only upwards"),
        ));
        stopped(stage, "UPDATE acct SET bal = 10 WHERE id = 1", &[], "only upwards");
        // A change that the trigger lets be taken back is none of its business.
        proven(stage, "UPDATE acct SET name = 'z' WHERE id = 1", &[]);
        stage.run(&trigger(on, "closed", "BEFORE INSERT", "acct", &raise(on, "1 = 1", "no new rows")));
        stopped(stage, "DELETE FROM acct WHERE id = 3", &[], "no new rows");
        stage.run(stage.by(
            "DROP TRIGGER upwards; DROP TRIGGER closed;",
            "DROP TRIGGER upwards ON acct; DROP TRIGGER closed ON acct;",
            "DROP TRIGGER upwards; DROP TRIGGER closed;",
        ));
        // A log that has one row for each row: the undo's own trigger collides with what the run left there.
        stage.run(&trigger(
            on,
            "note",
            "AFTER UPDATE",
            "acct",
            "INSERT INTO keyed (id, bal) VALUES (NEW.id, NEW.bal);",
        ));
        stopped(
            stage,
            "UPDATE acct SET bal = 10 WHERE id = 1",
            &["--also-writes", "keyed"],
            stage.by("keyed", "keyed", "Duplicate"),
        );
        let allowed = ["--also-writes", "keyed", "--allow", "no-way-back"];
        let args = [
            &["apply", "--sql", "UPDATE acct SET bal = 10 WHERE id = 1", "--rows", "1", "--yes"][..],
            &allowed,
        ]
        .concat();
        stage.scene.run(&args).expect(0).says("cannot be undone");
        assert_eq!(proof(stage), "fails", "{on:?}");
        stage.scene.run(&["history"]).expect(0).says("cannot be undone");
    });
}

#[test]
fn logs_that_take_everything_are_no_obstacle() {
    each(|stage| {
        let on = stage.on;
        let (number, _) = crate::watched(on, "acct", "");
        stage.run(&format!(
            "CREATE TABLE acct (id integer PRIMARY KEY, bal integer, CHECK (bal < 100));
             CREATE TABLE log (nr {number}, acct integer, bal integer);
             CREATE TABLE sums (id integer PRIMARY KEY, n integer, CHECK (n <= 2));
             INSERT INTO acct VALUES (1, 5), (2, 6); INSERT INTO sums VALUES (1, 0);"
        ));
        stage.run(&trigger(
            on,
            "note",
            "AFTER UPDATE",
            "acct",
            "INSERT INTO log (acct, bal) VALUES (NEW.id, NEW.bal);",
        ));
        proven(stage, "UPDATE acct SET bal = bal + 1 WHERE id = 1", &["--also-writes", "log"]);
        proven(stage, "UPDATE acct SET bal = bal + 1 WHERE id > 0", &["--also-writes", "log"]);
        // A counter that only goes up to a limit.
        stage.run(&trigger(on, "tally", "AFTER UPDATE", "acct", "UPDATE sums SET n = n + 1 WHERE id = 1;"));
        let more = ["--also-writes", "log", "--also-writes", "sums"];
        proven(stage, "UPDATE acct SET bal = 9 WHERE id = 1", &more);
        stopped(stage, "UPDATE acct SET bal = 9 WHERE id < 3", &more, "");
    });
}

#[test]
fn conditions_younger_than_the_rows() {
    each(|stage| {
        match stage.on {
            On::Sqlite => stage.run(
                "CREATE TABLE jar (id integer PRIMARY KEY, kilos integer, CHECK (kilos > 0));
                 PRAGMA ignore_check_constraints = on; INSERT INTO jar VALUES (1, -5), (2, 3);",
            ),
            On::Postgres => stage.run(
                "CREATE TABLE jar (id integer PRIMARY KEY, kilos integer); INSERT INTO jar VALUES (1, -5), (2, 3);
                 ALTER TABLE jar ADD CHECK (kilos > 0) NOT VALID;",
            ),
            // There a condition is asked of all rows, or of none.
            On::Maria if stage.is_mysql() => return,
            On::Maria => stage.run(
                "CREATE TABLE jar (id integer PRIMARY KEY, kilos integer, CHECK (kilos > 0));
                 SET check_constraint_checks = 0; INSERT INTO jar VALUES (1, -5), (2, 3);",
            ),
        }
        let before = stage.dump();
        for sql in ["UPDATE jar SET kilos = 4 WHERE id = 1", "DELETE FROM jar WHERE id = 1"] {
            let answer = stage.scene.run(&["apply", "--sql", sql, "--rows", "1", "--yes"]);
            assert!(
                [Some(3), Some(4)].contains(&answer.status),
                "{:?} {sql}\n{}{}",
                stage.on,
                answer.out,
                answer.err
            );
            assert_eq!(stage.dump(), before, "{:?} {sql}", stage.on);
        }
        proven(stage, "UPDATE jar SET kilos = 4 WHERE id = 2", &[]);
    });
}

#[test]
fn tables_that_cascade_into_each_other() {
    for on in [On::Sqlite, On::Postgres, On::Maria] {
        only(on, |stage| {
            let later = stage.by("DEFERRABLE INITIALLY DEFERRED", "DEFERRABLE INITIALLY DEFERRED", "");
            stage.run(&format!(
                "CREATE TABLE a (id integer PRIMARY KEY, b integer, name varchar(9));
                 CREATE TABLE b (id integer PRIMARY KEY, a integer, name varchar(9), FOREIGN KEY (a) REFERENCES a (id) ON DELETE CASCADE {later});"
            ));
            if stage.on == On::Sqlite {
                stage.run(
                    "DROP TABLE a; CREATE TABLE a (id integer PRIMARY KEY, b integer, name varchar(9), FOREIGN KEY (b) REFERENCES b (id) ON DELETE CASCADE DEFERRABLE INITIALLY DEFERRED);
                     INSERT INTO a VALUES (1, 1, 'x'), (2, NULL, 'y'); INSERT INTO b VALUES (1, 1, 'x'), (2, 2, 'y');",
                );
            } else {
                stage.run(
                    "INSERT INTO a VALUES (1, NULL, 'x'), (2, NULL, 'y'); INSERT INTO b VALUES (1, 1, 'x'), (2, 2, 'y'); UPDATE a SET b = 1 WHERE id = 1;",
                );
                stage.run(&format!(
                    "ALTER TABLE a ADD FOREIGN KEY (b) REFERENCES b (id) ON DELETE CASCADE {later};"
                ));
            }
            let before = stage.dump();
            let sql = "DELETE FROM a WHERE id = 1";
            let args =
                ["apply", "--sql", sql, "--rows", "1", "--yes", "--also-writes", "b", "--also-writes", "a"];
            let answer = stage.scene.run(&args);
            match answer.status {
                // Where it is committed, it is undone.
                Some(0) => {
                    assert_eq!(proof(stage), "proven", "{:?}", stage.on);
                    stage.undo(&["--allow", "undeclared-write"], 0);
                }
                Some(3 | 4) => assert!(
                    format!("{}{}", answer.out, answer.err).contains("no-way-back"),
                    "{:?}\n{}{}",
                    stage.on,
                    answer.out,
                    answer.err
                ),
                _ => panic!("{:?}\n{}{}", stage.on, answer.out, answer.err),
            }
            assert_eq!(stage.dump(), before, "{:?}", stage.on);
        });
    }
}

#[test]
fn a_schema_in_a_triggers_words_is_the_same_table() {
    only(On::Postgres, |stage| {
        stage.run(
            "CREATE TABLE pay (id integer PRIMARY KEY, wage integer); INSERT INTO pay VALUES (1, 10), (2, 20);
             CREATE TABLE pay_log (nr integer GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, pay integer);
             CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO public.pay_log (pay) VALUES (NEW.id); RETURN NEW; END $$;
             CREATE TRIGGER t AFTER UPDATE ON pay FOR EACH ROW EXECUTE FUNCTION f();",
        );
        for spelling in ["pay_log", "public.pay_log"] {
            proven(
                stage,
                "UPDATE pay SET wage = wage * 2",
                &["--also-writes", spelling, "--allow", "no-filter"],
            );
        }
    });
}
