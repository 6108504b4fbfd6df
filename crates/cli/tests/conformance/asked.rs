//! Checks of a whole change by queries: judged beforehand where nothing that they read is written, and always at the end of the
//! transaction.

use marktwice_testkit::stage::On;

use crate::each;

const MOVE: &str = "UPDATE hive SET keeper_id = 2, kilos = 20 WHERE keeper_id = 3";

fn file(checks: &[&str], statements: &str) -> String {
    let checks: String = checks.iter().map(|check| format!("[[check]]\n{check}\n")).collect();
    format!("/* marktwice\ntitle = \"Moved\"\n{checks}*/\n{statements}")
}

#[test]
fn checks_of_every_kind_hold_or_nothing_is_changed() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        let step = format!("/* marktwice step\nrows = 2\n*/\n{MOVE};\n");
        let kinds = [
            (
                "name = \"none left\"\nsql = \"SELECT hive_id, kilos FROM hive WHERE keeper_id = 3\"\nempty = true",
                "keeper_id = 3",
                "keeper_id = 2",
            ),
            ("sql = \"SELECT count(*) FROM hive WHERE keeper_id = 2\"\ngives = 2", "gives = 2", "gives = 3"),
            (
                "sql = \"SELECT sum(kilos) FROM hive WHERE keeper_id = 2\"\ngives = 40.0",
                "gives = 40.0",
                "gives = 40.01",
            ),
            ("sql = \"SELECT min(note) FROM hive WHERE hive_id = 12\"\ngives = \"it's\"", "it's", "its"),
            ("sql = \"SELECT max(kilos) FROM hive\"\nat_most = 20", "at_most = 20", "at_most = 19.99"),
            ("sql = \"SELECT min(kilos) FROM hive\"\nat_least = 0", "at_least = 0", "at_least = 0.5"),
            ("sql = \"SELECT hive_id, note FROM hive\"\nunchanged = true", "hive_id, note", "hive_id, kilos"),
            (
                "sql = \"SELECT count(*) FROM hive WHERE keeper_id = 2\"\nchanges_by = 2",
                "changes_by = 2",
                "changes_by = -2",
            ),
            // Only what is true passes.
            (
                "sql = \"SELECT max(kilos) FROM hive WHERE keeper_id = 2\"\nat_least = 1",
                "keeper_id = 2",
                "keeper_id = 9",
            ),
        ];
        for (check, part, spoiled) in kinds {
            s.write("change.sql", file(&[&check.replace(part, spoiled)], &step));
            let answer = s.run(&["apply", "change.sql", "--yes"]);
            answer.expect(4).says("A check does not hold").says("nothing changed");
            assert_eq!(stage.dump(), before, "{:?}: {check}", stage.on);
            s.run(&["rehearse", "change.sql"]).expect(4).says("A check does not hold");
        }
        let all: Vec<&str> = kinds.iter().map(|(check, ..)| *check).collect();
        s.write("change.sql", file(&all, &step));
        s.run(&["preview", "change.sql"])
            .expect(0)
            .says("only the run can tell: reads hive.keeper_id, which the change writes");
        s.run(&["apply", "change.sql", "--yes"]).expect(0);
        let receipt = s.run(&["receipt"]);
        receipt
            .expect(0)
            .says("none left: finds no row")
            .says("the same before and after: 4 rows")
            .says("0 → 2, a change by 2");
        s.run(&["undo", "@last", "--yes", "--rows", "2"]).expect(0);
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn what_is_certain_is_judged_before_anything_begins() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        let dear = if stage.on == On::Maria { "`on`" } else { "\"on\"" };
        stage.run(&format!("CREATE VIEW known AS SELECT name, region AS {dear} FROM keeper;"));
        let apply = |check: &str, status: i32| {
            s.run(&["apply", "--sql", MOVE, "--rows", "2", "--yes", "--check", check]).expect(status)
        };
        // Through a view too; a column that the change does not write is certain.
        apply("SELECT count(*) FROM known = 5", 4).says("gives 4, and 5 is wanted").says("Not begun");
        apply("SELECT max(hive_id) FROM hive = 12", 4).says("gives 13, and 12 is wanted").says("Not begun");
        apply("SELECT count(*) FROM hive WHERE keeper_id = 2 = 3", 4)
            .says("gives 2, and 3 is wanted")
            .says("Rolled back");
        // What cannot be asked is refused, and says which it was.
        apply("SELECT count(*) FROM hvie = 3", 2)
            .says("the check \"SELECT count(*) FROM hvie\" cannot be asked");
        apply("SELECT max(kilos) > 3 AND CURRENT_TIMESTAMP > '2026-01-01' FROM hive = 1", 3)
            .says("at each reading");
        apply("DELETE FROM hive WHERE hive_id = 10", 3).says("is no SELECT");
        apply("SELECT count(*) FROM hive FOR UPDATE = 3", 3).says("more than read");
        apply("SELECT count(*) FROM hive = NULL", 2).says("IS NULL");
        apply("SELECT (1 = 1)", 2).says("no equals sign");
        match stage.on {
            On::Sqlite => {}
            On::Postgres => {
                stage.run("CREATE FUNCTION sly() RETURNS integer LANGUAGE plpgsql AS $$ BEGIN DELETE FROM hive; RETURN 1; END $$; \
                           CREATE FUNCTION slyer() RETURNS integer STABLE LANGUAGE plpgsql AS $$ BEGIN PERFORM sly(); RETURN 1; END $$;");
                apply("SELECT sly() = 1", 3);
                // One that lies about itself is stopped by the engine.
                let answer =
                    s.run(&["apply", "--sql", MOVE, "--rows", "2", "--yes", "--check", "SELECT slyer() = 1"]);
                assert_ne!(answer.status, Some(0), "{}", answer.out);
            }
            On::Maria => {
                stage.run("CREATE FUNCTION sly() RETURNS integer DETERMINISTIC MODIFIES SQL DATA BEGIN DELETE FROM hive; RETURN 1; END;");
                apply("SELECT sly() = 1", 3);
            }
        }
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        // The printed command has the check in it.
        let check = "SELECT count(*) FROM hive WHERE keeper_id = 2 = 2";
        let shown = s.run(&["preview", "--sql", MOVE, "--check", check]);
        shown.expect(0).says(&format!("--check '{check}'"));
        // Without a change the last preview is meant, with the checks that it was given.
        let spoiled = "SELECT count(*) FROM hive WHERE keeper_id = 2 = 3";
        s.run(&["preview", "--sql", MOVE, "--check", spoiled]).expect(0);
        s.run(&["apply", "--yes", "--rows", "2"]).expect(4).says("gives 2, and 3 is wanted");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        apply(check, 0).says("now it gives 0");
        s.run(&["undo", "@last", "--yes", "--rows", "2"]).expect(0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}
