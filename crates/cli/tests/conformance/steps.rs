//! Changes of several steps: each marked, written and proven in its turn, in one transaction, and taken back in reverse.

use crate::{each, only, watched};
use marktwice_testkit::Answer;
use marktwice_testkit::stage::{On, Stage};
use serde_json::Value as Json;

/// Applies a change file that is agreed to by its own expected counts.
fn apply(stage: &Stage, text: &str, status: i32) -> Answer {
    stage.scene.write("steps.sql", text);
    let answer = stage.scene.run(&["apply", "steps.sql", "--yes"]);
    assert_eq!(answer.status, Some(status), "{:?}\n{}\n{}", stage.on, answer.out, answer.err);
    answer
}

/// Steps with the count that each expects.
fn counted(steps: &[(&str, u64)]) -> String {
    let one = |(sql, rows): &(&str, u64)| format!("/* marktwice step\nrows = {rows}\n*/\n{sql};\n");
    steps.iter().map(one).collect()
}

fn preview(stage: &Stage, text: &str) -> Vec<Json> {
    stage.scene.write("steps.sql", text);
    let json = stage.scene.run(&["preview", "steps.sql", "--format", "json"]).json();
    json["steps"].as_array().expect("steps").clone()
}

const REGION: &str = "UPDATE keeper SET region = 'Fell' WHERE keeper_id IN (2, 3)";
const NAME: &str = "UPDATE keeper SET name = 'Orla F.' WHERE keeper_id = 3";
const HIVES: &str = "DELETE FROM hive WHERE keeper_id IN (SELECT keeper_id FROM keeper WHERE region = 'Fell') AND kilos IS NOT NULL";

#[test]
fn steps_that_stand_by_themselves_are_exact_and_one_change() {
    each(|stage| {
        let before = stage.dump();
        let text = counted(&[(REGION, 2), (NAME, 1), ("DELETE FROM hive WHERE hive_id = 11", 1)]);
        let steps = preview(stage, &text);
        assert!(
            steps.iter().all(|s| s["told"] == true && s["waits"].as_array().unwrap().is_empty()),
            "{steps:?}"
        );
        assert_eq!(
            (&steps[1]["rows"][0]["after"]["name"], &steps[2]["matched"]),
            (&"Orla F.".into(), &1.into())
        );
        assert_eq!(stage.dump(), before, "a preview writes nothing");
        let answer = apply(stage, &text, 0);
        assert!(!answer.err.contains("rehears"), "{}", answer.err);
        answer.says("3 steps committed").says("keeper: 2 rows changed").says("hive: 1 row deleted");
        let done = stage.dump();
        assert_ne!(done, before);
        let receipt = stage.scene.run(&["receipt", "--format", "json"]).json();
        let changed: Vec<u64> = receipt["receipt"]["steps"]
            .as_array()
            .unwrap()
            .iter()
            .map(|s| s["changed"].as_u64().unwrap())
            .collect();
        assert_eq!(changed, [2, 1, 1]);
        stage.scene.run(&["history"]).expect(0).says("UPDATE keeper and 2 more").says("4  committed");
        // The row of keeper 3 was touched by two steps: the undo is rehearsed, and finds its way.
        stage.undo(&[], 0).says("3 steps taken back");
        assert_eq!(stage.dump(), before);
        // The undo of the undo is the change again.
        let last =
            stage.scene.run(&["history", "--format", "json"]).json()["runs"][0]["receipt"]["run"].clone();
        stage.scene.run(&["undo", last.as_str().unwrap(), "--yes"]).expect(0);
        assert_eq!(stage.dump(), done);
    });
}

#[test]
fn a_step_that_reads_what_another_writes_waits_for_a_rehearsal() {
    each(|stage| {
        let before = stage.dump();
        let steps = preview(stage, &format!("{REGION};\n{HIVES};"));
        assert_eq!((&steps[0]["told"], &steps[1]["told"]), (&true.into(), &false.into()));
        assert_eq!(steps[1]["waits"][0]["why"], "reads keeper.region, which step 1 writes");
        stage.scene.run(&["apply", "steps.sql", "--yes"]).expect(2).says("step 1 says no expected count");
        assert_eq!(stage.dump(), before);
        // Before step 1 the second would match nothing at all.
        apply(stage, &counted(&[(REGION, 2), (HIVES, 0)]), 4)
            .says("Step 2 (hive)")
            .says("1 row matches, 0 expected");
        assert_eq!(stage.dump(), before);
        apply(stage, &counted(&[(REGION, 2), (HIVES, 1)]), 0)
            .says("rehearsed: run in a transaction that is rolled back");
        let count = |id: u32| stage.value(&format!("SELECT count(*) FROM hive WHERE hive_id = {id}"));
        assert_eq!(count(12), count(99), "it is gone");
        stage.scene.run(&["receipt"]).expect(0).says("its rows were told by a rehearsal");
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn a_mark_that_a_rehearsal_took_covers_every_step() {
    each(|stage| {
        let before = stage.dump();
        stage.scene.write("steps.sql", format!("{REGION};\n{HIVES};"));
        // A preview's mark leaves the second step open, and is not enough without anybody to ask.
        let mark = |command: &str| -> String {
            let json = stage.scene.run(&[command, "steps.sql", "--format", "json"]).json();
            let mark = if command == "preview" { &json["mark"] } else { &json["preview"]["mark"] };
            mark.as_str().expect("a mark").to_owned()
        };
        let open = mark("preview");
        let yes = |mark: &str| stage.scene.run(&["apply", "steps.sql", "--mark", mark, "--yes"]);
        yes(&open).expect(2).says("step 2 says no expected count");
        // Nobody answers, and the mark of the rehearsal stays.
        let whole = mark("apply");
        assert_eq!(stage.dump(), before, "a rehearsal leaves nothing");
        stage.run("UPDATE hive SET kilos = 5 WHERE hive_id = 12;");
        yes(&whole).expect(5).says("Step 2 (hive)").says("hive 12");
        stage.run("UPDATE hive SET kilos = 99.99 WHERE hive_id = 12;");
        yes(&whole).expect(0).says("2 steps committed");
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn when_one_step_fails_nothing_is_left_of_any() {
    each(|stage| {
        let before = stage.dump();
        let taken = "UPDATE keeper SET email = 'ada@x.example' WHERE keeper_id = 2";
        let answer = apply(stage, &counted(&[(NAME, 1), (taken, 1)]), 1);
        answer.says("Step 2 (keeper)").says("Rolled back; nothing changed.");
        assert_eq!(stage.dump(), before);
        let held = "DELETE FROM keeper WHERE keeper_id = 1";
        apply(stage, &counted(&[("UPDATE hive SET kilos = 1 WHERE hive_id = 12", 1), (held, 1)]), 1);
        assert_eq!(stage.dump(), before);
        stage.scene.run(&["receipt"]).expect(0).says("step 2:");
        // Children first, then the parent they hold.
        let text = counted(&[("DELETE FROM hive WHERE keeper_id = 1", 2), (held, 1)]);
        let steps = preview(stage, &text);
        assert_eq!(steps[1]["told"], false, "its children go before it");
        apply(stage, &text, 0);
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before, "the parent comes back before its children");
    });
}

#[test]
fn rows_that_move_before_a_later_step_stop_all() {
    each(|stage| {
        let text = format!("{REGION};\nUPDATE hive SET note = 'seen' WHERE kilos IS NULL;\n");
        stage.scene.write("steps.sql", &text);
        let json = stage.scene.run(&["preview", "steps.sql", "--format", "json"]).json();
        let mark = json["mark"].as_str().unwrap().to_owned();
        stage.run("UPDATE hive SET kilos = NULL WHERE hive_id = 10;");
        let before = stage.dump();
        let answer = stage.scene.run(&["apply", "steps.sql", "--mark", &mark, "--yes"]);
        answer.expect(5).says("Step 2 (hive)").says("hive 10").says("Not begun");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn an_undo_takes_back_some_of_the_steps() {
    each(|stage| {
        let before = stage.dump();
        let text = counted(&[
            ("UPDATE keeper SET region = 'Fell' WHERE keeper_id = 2", 1),
            ("UPDATE hive SET kilos = 1 WHERE keeper_id = 1", 2),
        ]);
        let run = |args: &[&str], status| {
            stage.scene.run(&[&["undo", "@last", "--yes", "--rows", "0+"], args].concat()).expect(status)
        };
        apply(stage, &text, 0);
        // `2` is keeper 2 of the first step; the second has no such row.
        run(&["--only", "1:2"], 0).says("keeper: 1 row put back");
        stage.scene.run(&["history"]).says("1 of 3 rows");
        let receipt = stage.scene.run(&["history", "--format", "json"]).json();
        let of = receipt["runs"][1]["receipt"]["run"].as_str().unwrap().to_owned();
        let all =
            |more: &[&str], status| stage.scene.run(&[&["undo", &of, "--yes"], more].concat()).expect(status);
        all(&["--only", "2:99"], 2).says("no row with the key 2:99");
        stage.run("UPDATE hive SET kilos = 7 WHERE hive_id = 11;");
        all(&[], 5).says("hive 11").says("the run left");
        all(&["--changed", "skip"], 0).says("hive: 1 row put back");
        stage.run("UPDATE hive SET kilos = 0 WHERE hive_id = 11;");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn the_same_rows_in_every_step() {
    each(|stage| {
        stage.run("CREATE TABLE sheet (line varchar(10), kilos integer);\nINSERT INTO sheet VALUES ('a', 1), ('a', 1), ('b', 2), ('c', 3);");
        let before = stage.dump();
        // Keys that change twice, values that come and go, rows without a key that become equal to others.
        let text = counted(&[
            ("UPDATE hive SET hive_id = hive_id + 100, kilos = 1 WHERE hive_id IN (10, 11)", 2),
            ("UPDATE hive SET hive_id = hive_id + 100, note = 'moved' WHERE hive_id > 100", 2),
            ("DELETE FROM hive WHERE hive_id = 211", 1),
            ("UPDATE sheet SET kilos = kilos + 1 WHERE line <> 'c'", 3),
            ("DELETE FROM sheet WHERE kilos = 2", 2),
            ("UPDATE sheet SET line = 'z'", 2),
        ]);
        let all = text.replacen(
            "/* marktwice step\nrows = 2\n*/\nUPDATE sheet SET line",
            "/* marktwice step\nrows = \"all\"\n*/\nUPDATE sheet SET line",
            1,
        );
        apply(stage, &all, 0);
        assert_ne!(stage.dump(), before);
        stage.undo(&[], 0).says("6 steps taken back");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn a_value_of_the_run_is_another_in_the_rehearsal_and_that_is_no_reason_to_stop() {
    each(|stage| {
        let before = stage.dump();
        let dice =
            stage.by("abs(random() % 1000) + 1", "floor(random() * 1000) + 1", "floor(rand() * 1000) + 1");
        let text = counted(&[
            (&format!("UPDATE hive SET kilos = {dice} WHERE hive_id = 10"), 1),
            ("UPDATE hive SET note = kilos WHERE hive_id = 10", 1),
            ("UPDATE keeper SET region = (SELECT note FROM hive WHERE hive_id = 10) WHERE keeper_id = 4", 1),
            ("UPDATE hive SET note = 'plain' WHERE hive_id = 12", 1),
        ]);
        let steps = preview(stage, &text);
        let told: Vec<bool> = steps.iter().map(|s| s["told"].as_bool().unwrap()).collect();
        assert_eq!(told[..3], [true, false, false]);
        for _ in 0..3 {
            apply(stage, &text, 0);
            stage.undo(&[], 0);
            assert_eq!(stage.dump(), before);
        }
    });
}

#[test]
fn what_a_step_reads_is_seen_through_views_triggers_and_keys() {
    each(|stage| {
        let (postgres, maria) = (stage.on == On::Postgres, stage.on == On::Maria);
        stage.run("CREATE VIEW moor AS SELECT keeper_id AS id FROM keeper WHERE region = 'Moor';\nCREATE VIEW far AS SELECT id FROM moor;");
        stage.run("CREATE TABLE log (at_region varchar(20));\nCREATE TABLE post (post_id integer PRIMARY KEY, keeper_id integer REFERENCES keeper (keeper_id));");
        if maria {
            stage.run("CREATE TABLE trip (trip_id integer PRIMARY KEY, hive_id integer, FOREIGN KEY (hive_id) REFERENCES hive (hive_id) ON DELETE CASCADE);");
        } else {
            stage.run("CREATE TABLE trip (trip_id integer PRIMARY KEY, hive_id integer REFERENCES hive (hive_id) ON DELETE CASCADE);");
        }
        stage.run(stage.by(
            "CREATE TRIGGER looks AFTER UPDATE ON post BEGIN INSERT INTO log SELECT region FROM keeper; END;",
            "CREATE FUNCTION looks() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log SELECT region FROM keeper; RETURN new; END $$;
             CREATE TRIGGER looks AFTER UPDATE ON post FOR EACH ROW EXECUTE FUNCTION looks();",
            "CREATE TRIGGER looks AFTER UPDATE ON post FOR EACH ROW INSERT INTO log SELECT region FROM keeper;",
        ));
        if postgres {
            stage.run("CREATE FUNCTION moors() RETURNS bigint LANGUAGE sql STABLE AS 'SELECT count(*) FROM keeper WHERE region = ''Moor''';");
        }
        let region = "UPDATE keeper SET region = 'Fell' WHERE keeper_id = 1";
        let mut cases = vec![
            (region, "UPDATE hive SET note = 'x' WHERE keeper_id IN (SELECT id FROM far)", true),
            (
                region,
                "UPDATE hive SET note = 'x' WHERE EXISTS (SELECT * FROM keeper WHERE keeper_id = 2)",
                true,
            ),
            (
                region,
                "UPDATE hive SET note = 'x' WHERE keeper_id IN (SELECT keeper_id FROM keeper WHERE name = 'Ada')",
                false,
            ),
            (region, "UPDATE post SET post_id = 9 WHERE post_id = 1", true),
            (region, "UPDATE hive SET note = 'x' WHERE hive_id = 10", false),
            (region, "DELETE FROM keeper WHERE keeper_id = 4", true),
            (
                "DELETE FROM hive WHERE hive_id = 10",
                "UPDATE keeper SET name = 'x' WHERE keeper_id = 4",
                false,
            ),
            (
                "DELETE FROM hive WHERE hive_id = 10",
                "UPDATE keeper SET keeper_id = 40 WHERE keeper_id = 4",
                true,
            ),
            ("DELETE FROM hive WHERE hive_id = 10", "UPDATE trip SET trip_id = 8 WHERE trip_id = 1", true),
            (
                "UPDATE hive SET hive_id = 99 WHERE hive_id = 10",
                "UPDATE hive SET note = 'x' WHERE kilos = 1",
                true,
            ),
            (
                "UPDATE hive SET kilos = 3 WHERE hive_id = 10",
                "UPDATE hive SET kilos = 4 WHERE hive_id = 12",
                true,
            ),
        ];
        if postgres {
            cases.push((region, "UPDATE hive SET note = 'x' WHERE moors() > 1", true));
            cases.push((region, "UPDATE hive SET note = (SELECT row_to_json(k)::text FROM keeper AS k LIMIT 1) WHERE hive_id = 10", true));
        }
        for (first, second, waits) in cases {
            let steps = preview(stage, &format!("{first};\n{second}"));
            assert_eq!(
                steps[1]["told"] == false,
                waits,
                "{:?}: {first}; {second}: {:?}",
                stage.on,
                steps[1]["waits"]
            );
        }
    });
}

#[test]
fn blocks_and_errors_have_their_place() {
    each(|stage| {
        let s = &stage.scene;
        s.write(
            "steps.sql",
            format!("/* é */ {REGION}; UPDATE keeper SET nmae = 'x' WHERE keeper_id = 1;\n"),
        );
        let column = format!("/* é */ {REGION}; UPDATE keeper SET ").chars().count() + 1;
        let answer = s.run(&["preview", "steps.sql"]);
        answer
            .expect(3)
            .says(&format!("line 1, column {column}"))
            .says("did you mean name?")
            .says("region = 'Fell'");
        s.write("steps.sql", format!("{REGION};\nTRUNCATE hive;\n"));
        s.run(&["preview", "steps.sql"]).expect(3).says("not-a-change").says("line 2, column 1");
        s.write("steps.sql", format!("{REGION};\n{NAME};\n"));
        s.run(&["preview", "steps.sql", "--rows", "2"]).expect(2).says("does not say which one is meant");
        s.write("steps.sql", format!("/* marktwice\nrows = 2\n*/\n{REGION};\n{NAME};\n"));
        s.run(&["preview", "steps.sql"]).expect(2).says("about one step").says("line 1, column 1");
        s.write("steps.sql", format!("BEGIN;\n{REGION};\n{NAME};\nCOMMIT;\n"));
        let answer = s.run(&["preview", "steps.sql"]);
        answer.expect(3).says("several-statements").says(REGION).says(NAME);
    });
}

/// A change of steps, each with so many rows, applied without anybody to ask, and what the database held before.
#[track_caller]
fn applied(stage: &Stage, steps: &[(&str, &str)], more: &[&str]) -> Vec<String> {
    let before = stage.dump();
    let text: String =
        steps.iter().map(|(block, sql)| format!("/* marktwice step\n{block}\n*/\n{sql};\n")).collect();
    stage.scene.write("change.sql", text);
    let done = stage.scene.run(&[&["apply", "change.sql", "--yes"], more].concat());
    assert_eq!(done.status, Some(0), "{:?}\n{}\n{}", stage.on, done.out, done.err);
    assert!(!done.out.contains("something else by now"), "{:?}\n{}", stage.on, done.out);
    before
}

/// The key of a row is made of a number that an earlier step is given, which is another one in the run than in its rehearsal.
#[test]
fn a_key_of_a_number_that_is_given() {
    each(|stage| {
        stage.run(stage.by(
            "CREATE TABLE orders (order_id integer PRIMARY KEY, who text);",
            "CREATE TABLE orders (order_id integer GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, who text);",
            "CREATE TABLE orders (order_id integer AUTO_INCREMENT PRIMARY KEY, who text);",
        ));
        stage.run("CREATE TABLE line (order_id integer NOT NULL, n integer NOT NULL, what varchar(9), PRIMARY KEY (order_id, n));");
        let steps = [
            ("rows = 1\nkeep = \"order_id\"", "INSERT INTO orders (who) VALUES ('Ada')"),
            ("rows = 2", "INSERT INTO line (order_id, n) VALUES (:order_id, 1), (:order_id, 2)"),
            ("rows = 1", "UPDATE line SET what = 'wax' WHERE order_id = :order_id AND n = 2"),
        ];
        // Twice: the second time the rehearsal has used up a number already.
        for _ in 0..2 {
            applied(stage, &steps, &["--again"]);
        }
        stage.undo(&[], 0);
        stage.undo(&[], 0);
        assert_eq!(stage.value("SELECT count(*) FROM line"), stage.value("SELECT 0"));
    });
}

/// Rows that a cascade takes along are shown as an earlier step leaves them.
#[test]
fn children_that_change_before_they_go_along() {
    each(|stage| {
        stage.run(
            "CREATE TABLE yard (yard_id integer PRIMARY KEY, name varchar(9));
             CREATE TABLE stand (stand_id integer PRIMARY KEY, yard_id integer, v integer, FOREIGN KEY (yard_id) REFERENCES yard (yard_id) ON DELETE CASCADE);
             INSERT INTO yard VALUES (1, 'a'), (2, 'b'); INSERT INTO stand VALUES (1, 1, 10), (2, 1, 20), (3, 2, 30);",
        );
        let steps = [
            ("rows = 2", "UPDATE stand SET v = v + 1 WHERE yard_id = 1"),
            ("rows = 1\nalso_writes = [\"stand\"]", "DELETE FROM yard WHERE yard_id = 1"),
        ];
        let before = applied(stage, &steps, &[]);
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}

/// A trigger of one step writes what another step has written: an undo that would leave another value there is found out before the
/// commit, and the command that is printed says what has to be allowed.
#[test]
fn steps_that_meet_in_a_trigger() {
    each(|stage| {
        let (_, watch) = watched(
            stage.on,
            "visit",
            "UPDATE account SET total = total + 1 WHERE account_id = new.account_id;",
        );
        stage.run(&format!(
            "CREATE TABLE account (account_id integer PRIMARY KEY, total integer, note varchar(9));
             CREATE TABLE visit (visit_id integer PRIMARY KEY, account_id integer, amount integer);
             INSERT INTO account VALUES (1, 20, NULL); INSERT INTO visit VALUES (1, 1, 5); {watch}"
        ));
        let before = stage.dump();
        for total_first in [true, false] {
            let mut steps = [
                ("rows = 1", "UPDATE account SET total = total * 2 WHERE account_id = 1"),
                ("rows = 1\nalso_writes = [\"account\"]", "UPDATE visit SET amount = 6 WHERE visit_id = 1"),
            ];
            if !total_first {
                steps.reverse();
            }
            let text: String = steps
                .iter()
                .map(|(block, sql)| format!("/* marktwice step\n{block}\n*/\n{sql};\n"))
                .collect();
            stage.scene.write("change.sql", text);
            let refused = stage.scene.run(&["apply", "change.sql", "--yes"]);
            assert_eq!(refused.status, Some(4), "{:?} {}{}", stage.on, refused.out, refused.err);
            assert_eq!(stage.dump(), before, "{:?}", stage.on);
        }
        // Another column is no matter.
        let steps = [
            ("rows = 1\nalso_writes = [\"account\"]", "UPDATE visit SET amount = 6 WHERE visit_id = 1"),
            ("rows = 1", "UPDATE account SET note = 'x' WHERE account_id = 1"),
        ];
        applied(stage, &steps, &[]);
        let history = stage.scene.run(&["history", "--format", "json"]).json();
        let back = &history["runs"][0]["receipt"]["back"];
        assert_eq!(back["allow"][0], "undeclared-write", "{:?} {back}", stage.on);
    });
}

/// A partition and the table that it is a part of are one table for what the steps leave, and for the undo.
#[test]
fn a_partition_and_its_parent() {
    only(On::Postgres, |stage| {
        stage.run(
            "CREATE TABLE sale (sale_id int NOT NULL, season int NOT NULL, kilos int, PRIMARY KEY (sale_id, season)) PARTITION BY LIST (season);
             CREATE TABLE sale_1 PARTITION OF sale FOR VALUES IN (1); CREATE TABLE sale_2 PARTITION OF sale FOR VALUES IN (2);
             INSERT INTO sale VALUES (1, 1, 1), (2, 2, 2);",
        );
        for (one, two) in [("sale_1", "sale"), ("sale", "sale_1")] {
            let (one, two) = (
                format!("UPDATE {one} SET kilos = kilos + 1 WHERE sale_id = 1"),
                format!("UPDATE {two} SET kilos = kilos * 10 WHERE sale_id = 1"),
            );
            let before = applied(stage, &[("rows = 1", &one), ("rows = 1", &two)], &[]);
            let seen = stage.scene.run(&["look", "--run", "@last", "--format", "json"]).expect(0);
            assert!(!seen.out.contains("\"changed\": 1"), "{}", seen.out);
            stage.undo(&[], 0);
            assert_eq!(stage.dump(), before);
        }
    });
}

/// Rows that a trigger writes under a key that holds NULL are in the snapshot, and go back.
#[test]
fn keys_that_hold_null() {
    only(On::Sqlite, |stage| {
        stage.run(
            "CREATE TABLE seen (k1 text, k2 text, v int, PRIMARY KEY (k1, k2));
             CREATE TRIGGER watch AFTER UPDATE ON hive BEGIN INSERT INTO seen VALUES (NULL, new.note, new.hive_id); END;",
        );
        stage.there_and_back_with(
            "UPDATE hive SET note = 'same'",
            &["--also-writes", "seen", "--allow", "no-filter"],
            "4",
        );
    });
}

/// A row that comes in is named by the number that it has in the rehearsal: where that is used up, the run could never find it.
#[test]
fn a_number_of_the_rehearsal_is_not_the_runs() {
    each(|stage| {
        stage.run(stage.by(
            "CREATE TABLE orders (order_id integer PRIMARY KEY, who text);",
            "CREATE TABLE orders (order_id integer GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, who text);",
            "CREATE TABLE orders (order_id integer AUTO_INCREMENT PRIMARY KEY, who text);",
        ));
        let insert = ("rows = 1", "INSERT INTO orders (who) VALUES ('Ada')");
        let text = counted(&[(insert.1, 1), ("UPDATE orders SET who = 'Ada K.' WHERE order_id = 1", 1)]);
        if stage.on == On::Sqlite {
            apply(stage, &text, 0);
            return;
        }
        apply(stage, &text, 3).says("given-number");
        // By anything else the row is found, whatever its number is.
        applied(stage, &[insert, ("rows = 1", "UPDATE orders SET who = 'Ada K.' WHERE who = 'Ada'")], &[]);
        stage.undo(&[], 0);
    });
}
