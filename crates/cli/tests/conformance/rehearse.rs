//! Rehearsals: everything for real, and nothing of it is left.

use marktwice_testkit::stage::On;

use crate::each;

#[test]
fn what_only_the_run_can_tell_is_seen_and_rolled_back() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        let dice = stage.by("7 + abs(random() % 2)", "7 + floor(random() * 2)", "7 + floor(rand() * 2)");
        let sql = format!("UPDATE hive SET kilos = {dice}, note = 'n' WHERE hive_id < 12");
        s.run(&["preview", "--sql", &sql]).expect(0).says("only the run can tell");
        let seen = s.run(&["rehearse", "--sql", &sql, "--format", "json"]);
        let step = seen.step();
        assert_eq!((&step["matched"], &step["changes"]), (&2.into(), &2.into()), "{step:#}");
        let label = |column: &str| {
            let all = step["foreseen"].as_array().unwrap();
            all.iter().find(|f| f["column"] == column).unwrap()["label"].clone()
        };
        assert_eq!((label("kilos"), label("note")), ("rehearsed".into(), "exact".into()));
        for row in step["rows"].as_array().unwrap() {
            let kilos = row["after"]["kilos"].to_string();
            assert!(kilos.contains('7') || kilos.contains('8'), "{row:#}");
        }
        assert_eq!(seen.json()["would_end"], serde_json::Value::Null);
        assert_eq!(stage.dump(), before);
        assert!(s.runs().is_empty(), "it is no run");
        s.run(&["rehearse", "--sql", &sql])
            .expect(0)
            .says("rehearsed and rolled back")
            .says("the run may have it otherwise: kilos")
            .says("It would be committed");
        // Its mark is one like a preview's.
        let mark = seen.json()["mark"].as_str().unwrap().to_owned();
        s.run(&["apply", "--mark", &mark, "--yes"]).expect(0).says("2 rows committed");
        s.run(&["undo", "@last", "--yes", "--rows", "2"]).expect(0);
        // Without a change the last rehearsal is meant as well as the last preview.
        s.run(&["rehearse", "--sql", "UPDATE hive SET note = 'r' WHERE hive_id = 12"]).expect(0);
        s.run(&["apply", "--yes", "--rows", "1"]).expect(0).says("UPDATE hive").says("1 row committed");
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn an_application_that_would_fail_is_told_how() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        s.run(&["rehearse", "--sql", "DELETE FROM keeper WHERE keeper_id = 1"])
            .expect(1)
            .says("An application would end so")
            .says("2 rows of hive refer to these by keeper_id")
            .says("Rolled back; nothing changed");
        s.run(&["rehearse", "--sql", "UPDATE keeper SET region = 'x' WHERE region = 'Moor'", "--rows", "3"])
            .expect(4)
            .says("3 expected");
        // What is stopped by its text is not begun.
        s.run(&["rehearse", "--sql", "DELETE FROM hive"]).expect(3).says("no-filter");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn what_triggers_do_is_seen() {
    each(|stage| {
        match stage.on {
            On::Sqlite => stage.run(
                "CREATE TRIGGER loud AFTER UPDATE ON hive BEGIN UPDATE hive SET note = upper(new.note) WHERE hive_id = new.hive_id; END;",
            ),
            On::Postgres => stage.run(
                "CREATE FUNCTION loud() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN new.note := upper(new.note); RETURN new; END $$; \
                 CREATE TRIGGER loud BEFORE UPDATE ON hive FOR EACH ROW EXECUTE FUNCTION loud();",
            ),
            On::Maria => {
                stage.run("CREATE TRIGGER loud BEFORE UPDATE ON hive FOR EACH ROW SET new.note = upper(new.note);");
            }
        }
        let before = stage.dump();
        let sql = "UPDATE hive SET note = 'quiet' WHERE hive_id = 10";
        let args = [
            "rehearse",
            "--sql",
            sql,
            "--allow",
            "undeclared-write",
            "--allow",
            "no-way-back",
            "--format",
            "json",
        ];
        let step = stage.scene.run(&args).step();
        assert_eq!(step["rows"][0]["after"]["note"], "QUIET", "{step:#}");
        assert_eq!(stage.dump(), before);
    });
}
