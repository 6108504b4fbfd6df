//! Checks of each row: judged in the preview where that is certain, and always inside the transaction.

use marktwice_testkit::stage::On;

use crate::each;

fn file(checks: &str, statement: &str) -> String {
    format!("/* marktwice\nrows = \"all\"\n{checks}*/\n{statement}")
}

fn check(each: &str) -> String {
    format!("\n[[check]]\nname = \"as it must be\"\neach = \"{each}\"\n")
}

#[test]
fn a_check_that_does_not_hold_stops_the_change() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        // NULL is not true: the row without a weight fails too.
        let double = "UPDATE hive SET kilos = kilos * 2";
        s.write("change.sql", file(&check("new.kilos < 100 AND old.hive_id > 0"), double));
        s.run(&["preview", "change.sql"])
            .expect(4)
            .says("as it must be: 2 of 4 rows fail: hive 12 (new.kilos 199.98, old.hive_id 12), hive 13 (new.kilos NULL")
            .says("a check does not hold");
        s.run(&["apply", "change.sql", "--yes"]).expect(4).says("A check does not hold").says("Not begun");
        assert_eq!(stage.dump(), before);
        s.write("change.sql", file(&check("coalesce(new.kilos, 0) >= coalesce(old.kilos, 0)"), double));
        s.run(&["preview", "change.sql"]).expect(0).says("holds for all 4 rows");
        s.run(&["apply", "change.sql", "--yes"]).expect(0);
        s.run(&["receipt"]).expect(0).says("as it must be: holds for all 4 rows");
        s.run(&["undo", "@last", "--yes", "--rows", "all"]);
        assert_eq!(stage.dump(), before);
        // Rows that go are as they were.
        s.write("change.sql", "/* marktwice\nrows = 3\n\n[[check]]\neach = \"old.kilos < 50\"\n*/\nDELETE FROM hive WHERE hive_id < 13");
        s.run(&["preview", "change.sql"]).expect(4).says("1 of 3 rows fails: hive 12 (old.kilos 99.99)");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn what_only_the_run_can_tell_is_checked_inside() {
    each(|stage| {
        let s = &stage.scene;
        match stage.on {
            On::Sqlite => stage.run(
                "CREATE TRIGGER heavy AFTER UPDATE ON hive WHEN new.kilos <> 500 BEGIN UPDATE hive SET kilos = 500 WHERE hive_id = new.hive_id; END;",
            ),
            On::Postgres => stage.run(
                "CREATE FUNCTION heavy() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN new.kilos := 500; RETURN new; END $$; \
                 CREATE TRIGGER heavy BEFORE UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION heavy();",
            ),
            On::Maria => stage.run("CREATE TRIGGER heavy BEFORE UPDATE ON hive FOR EACH ROW SET new.kilos = 500;"),
        }
        let before = stage.dump();
        let text = |each: &str| {
            format!(
                "/* marktwice\nrows = 1\nallow = [\"undeclared-write\", \"no-way-back\"]\n\n[[check]]\neach = \"{each}\"\n*/\n\
                 UPDATE hive SET kilos = 7 WHERE hive_id = 10"
            )
        };
        s.write("change.sql", text("new.kilos < 100"));
        s.run(&["preview", "change.sql"]).expect(0).says("only the run can tell: what becomes of kilos");
        s.run(&["rehearse", "change.sql"]).expect(4).says("1 of 1 row fails: hive 10 (new.kilos 500");
        s.run(&["apply", "change.sql", "--yes"]).expect(4).says("A check does not hold").says("Rolled back");
        assert_eq!(stage.dump(), before);
        s.write("change.sql", text("new.kilos > 100"));
        s.run(&["apply", "change.sql", "--yes"]).expect(0);
    });
}

#[test]
fn conditions_that_are_none_of_a_row() {
    each(|stage| {
        let s = &stage.scene;
        for (each, code, says) in [
            ("new.kilo < 1", "unknown-name", "did you mean kilos?"),
            ("kilos < 1", "ambiguous-name", "old.kilos"),
            ("new.kilos < 1) OR (1 = 1", "not-understood", "not one condition"),
            ("new.kilos < (SELECT 5)", "not-understood", "reads tables"),
            ("1 = 1", "not-understood", "reads nothing of the row"),
            ("new.kilos < 1; DELETE FROM hive", "not-understood", "not one condition"),
        ] {
            s.write("change.sql", file(&check(each), "UPDATE hive SET kilos = 1"));
            s.run(&["preview", "change.sql"]).expect(3).says(code).says(says);
        }
        s.write("change.sql", file(&check("new.kilos < 1"), "DELETE FROM hive"));
        s.run(&["preview", "change.sql"]).expect(3).says("a DELETE leaves no row");
        // Of several steps one is named.
        let two = "UPDATE hive SET kilos = 1 WHERE hive_id = 10;\n/* marktwice step\nname = \"second\"\n*/\nUPDATE keeper SET name = 'x' WHERE keeper_id = 4;";
        s.write("change.sql", format!("/* marktwice\n{}*/\n{two}", check("old.keeper_id = 4")));
        s.run(&["preview", "change.sql"]).expect(2).says("which step");
        s.write(
            "change.sql",
            format!("/* marktwice\n{}step = \"second\"\n*/\n{two}", check("old.keeper_id = 4")),
        );
        s.run(&["preview", "change.sql"]).expect(0).says("holds for the row");
        // Of a step that waits it is said what will be asked.
        let waits = two
            .replace("UPDATE keeper SET name = 'x' WHERE keeper_id = 4", "DELETE FROM hive WHERE kilos = 1");
        s.write(
            "change.sql",
            format!("/* marktwice\n{}step = \"second\"\n*/\n{waits}", check("old.hive_id = 10")),
        );
        s.run(&["preview", "change.sql"]).expect(0).says("only the run can tell: what rows the step meets");
        s.run(&["rehearse", "change.sql"]).expect(0).says("holds for the row");
    });
}

#[test]
fn what_a_step_says_of_its_writes_is_held_to() {
    each(|stage| {
        let s = &stage.scene;
        stage.run("CREATE TABLE log (n integer); CREATE TABLE other_log (n integer);");
        match stage.on {
            On::Sqlite => stage.run("CREATE TRIGGER note_it AFTER UPDATE ON hive BEGIN INSERT INTO log VALUES (1); END;"),
            On::Postgres => stage.run(
                "CREATE FUNCTION note_it() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (1); RETURN new; END $$; \
                 CREATE TRIGGER note_it AFTER UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION note_it();",
            ),
            On::Maria => stage.run("CREATE TRIGGER note_it AFTER UPDATE ON hive FOR EACH ROW INSERT INTO log VALUES (1);"),
        }
        let before = stage.dump();
        let sql = "UPDATE hive SET note = 'n' WHERE hive_id = 10";
        s.run(&["apply", "--sql", sql, "--rows", "1", "--yes"]).expect(3).says("undeclared-write");
        s.run(&["apply", "--sql", sql, "--rows", "1", "--yes", "--also-writes", "other_log"]).expect(3);
        assert_eq!(stage.dump(), before);
        s.run(&["preview", "--sql", sql, "--also-writes", "LOG"]).expect(0).says("it is declared");
        s.write(
            "change.sql",
            format!("/* marktwice\nrows = 1\nalso_writes = [\"log\"]\ncolumns = [\"note\"]\n*/\n{sql}"),
        );
        // Where the server does not count by table, what was declared might be rows of the target's own.
        let done = s.run(&["apply", "change.sql", "--yes"]).expect(0);
        let said = "the other 3 rows of hive: untouched (the engine wrote 1 row, and each was verified)";
        assert_eq!(done.out.contains(said), stage.on != On::Maria, "{}", done.out);
        assert_eq!(stage.value("SELECT count(*) FROM log"), stage.value("SELECT 1"));
        // Without any other write it is known everywhere.
        s.run(&[
            "apply",
            "--sql",
            "UPDATE keeper SET region = 'n' WHERE keeper_id = 1",
            "--rows",
            "1",
            "--yes",
        ])
        .expect(0)
        .says("the other 3 rows of keeper: untouched");
    });
}

#[test]
fn columns_and_rows_that_hold_the_values_already() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        let text = |more: &str, sql: &str| format!("/* marktwice\n{more}\n*/\n{sql}");
        let both = "UPDATE keeper SET region = 'Moor', name = 'x' WHERE keeper_id = 1";
        s.write("change.sql", text("columns = [\"region\"]\nrows = 1", both));
        s.run(&["apply", "change.sql", "--yes"])
            .expect(3)
            .says("other-columns: name may change, and only region was said to");
        s.write("change.sql", text("columns = [\"regoin\"]", both));
        s.run(&["preview", "change.sql"]).expect(3).says("columns says regoin");
        // Keeper 2 is in Moor already.
        let two = "UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (1, 2)";
        s.write("change.sql", text("already_so = \"refuse\"\nrows = 2", two));
        s.run(&["apply", "change.sql", "--yes"]).expect(3).says("1 row already holds the new values");
        s.write("change.sql", text("already_so = \"warn\"\nrows = 2", two));
        s.run(&["preview", "change.sql"]).expect(0).says("already-so");
        s.write("change.sql", text("already_so = \"never\"", two));
        s.run(&["preview", "change.sql"]).expect(2).says("already_so");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn an_old_value_is_said_aloud() {
    each(|stage| {
        let s = &stage.scene;
        stage.run("CREATE TABLE batch (id integer PRIMARY KEY, flower varchar(20), price numeric(8,2), day date);
                   INSERT INTO batch VALUES (1, 'Lime', 12.50, '2026-05-10'), (2, NULL, NULL, NULL), (3, 'lime ', 0, '2026-05-11');");
        let before = stage.dump();
        let set = |was: &[&str], status: i32| {
            let was = was.iter().flat_map(|was| ["--was", was]);
            let first = ["set", "batch", "1", "price=13", "--yes"];
            s.run(&first.into_iter().chain(was).collect::<Vec<_>>()).expect(status)
        };
        set(&["price=12.51"], 4).says("price was 12.51: batch 1 holds 12.5").says("Not begun");
        set(&["flower=lime"], 4).says("batch 1 holds Lime");
        set(&["flower=Lime "], 4);
        set(&["day=NULL"], 4).says("holds 2026-05-10");
        set(&["price=12.5", "flower=moor"], 4);
        set(&["price=cheap"], 3).says("is no number");
        set(&["flowr=Lime"], 3).says("did you mean flower?");
        s.run(&["set", "batch", "9", "price=13", "--yes", "--was", "price=1"])
            .expect(3)
            .says("no row of batch has the key 9");
        assert_eq!(stage.dump(), before);
        set(&["price=12.500", "flower=moor", "flower=Lime", "day=2026-05-10"], 0)
            .says("flower was moor or Lime: so it is");
        s.run(&["receipt"]).expect(0).says("price was 12.500: so it is");
        s.run(&["set", "batch", "2", "price=13", "--yes", "--was", "price=NULL", "--was", "flower=NULL"])
            .expect(0);
        // A step of a file says so too; NULL and what it is said to be are told apart.
        s.write("change.sql", "/* marktwice\nrows = \"1-9\"\nwas.flower = [\"Lime\", \"moor\"]\nwas.day = 2026-05-10\n*/\nDELETE FROM batch WHERE id < 3");
        s.run(&["preview", "change.sql"]).expect(4).says("batch 2 holds NULL").says("what was said");
        s.write("change.sql", "/* marktwice\nwas.flower = []\n*/\nDELETE FROM batch WHERE id < 3");
        s.run(&["preview", "change.sql"]).expect(2).says("an empty list");
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        assert_eq!(stage.dump(), before);
    });
}
