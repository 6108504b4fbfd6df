//! Rows that moved between the preview and the application, and between the application and the undo.

use crate::each;

#[test]
fn what_was_agreed_to_must_still_be_there() {
    each(|stage| {
        let sql = "UPDATE keeper SET region = 'Fell' WHERE region = 'Moor'";
        for (meanwhile, said) in [
            ("UPDATE keeper SET region = 'Dale' WHERE keeper_id = 2;", "no longer"),
            ("INSERT INTO keeper VALUES (5, 'Una', NULL, 'Moor');", "joined"),
            ("DELETE FROM keeper WHERE keeper_id = 5;", "no longer"),
        ] {
            let preview = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]).expect(0);
            let mark = preview.json()["mark"].as_str().expect("a mark").to_owned();
            stage.run(meanwhile);
            let before = stage.dump();
            let answer = stage.scene.run(&["apply", "--mark", &mark, "--yes"]).expect(5);
            assert!(
                answer.err.contains("moved") || answer.err.contains(said),
                "{:?} {}",
                stage.on,
                answer.err
            );
            assert_eq!(stage.dump(), before);
        }
        // A column that the statement neither reads nor writes may change.
        let preview = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]).expect(0);
        let mark = preview.json()["mark"].as_str().expect("a mark").to_owned();
        stage.run("UPDATE keeper SET email = 'new@x.example' WHERE region = 'Moor' AND keeper_id = 3;");
        stage.scene.run(&["apply", "--mark", &mark, "--yes"]).expect(0);
        stage.undo(&[], 0);
    });
}

#[test]
fn a_changed_definition_is_seen() {
    each(|stage| {
        let sql = "UPDATE keeper SET region = 'Fell' WHERE keeper_id = 1";
        let preview = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]).expect(0);
        let mark = preview.json()["mark"].as_str().expect("a mark").to_owned();
        stage.run("ALTER TABLE keeper ADD COLUMN shoe integer;");
        stage.scene.run(&["apply", "--mark", &mark, "--yes"]).expect(5).says("definition");
        stage.apply(sql, "1", 0);
        stage.run("ALTER TABLE keeper ADD COLUMN hat integer;");
        stage.undo(&[], 5).says("definition");
    });
}

#[test]
fn an_undo_leaves_later_edits_alone() {
    each(|stage| {
        stage.apply("UPDATE hive SET note = 'checked' WHERE keeper_id = 3", "2", 0);
        stage.run("UPDATE hive SET note = 'mine' WHERE hive_id = 12;");
        let before = stage.dump();
        stage.undo(&[], 5).says("12");
        assert_eq!(stage.dump(), before);
        stage.undo(&["--changed", "skip"], 0);
        assert!(stage.value("SELECT note FROM hive WHERE hive_id = 12").contains("mine"));
        assert!(stage.value("SELECT note FROM hive WHERE hive_id = 13").contains(" x "));
        stage.apply("DELETE FROM hive WHERE hive_id IN (10, 11)", "2", 0);
        stage.run("INSERT INTO hive VALUES (10, 1, 1, 'another');");
        let before = stage.dump();
        stage.undo(&[], 5);
        assert_eq!(stage.dump(), before);
        // A row that is gone is brought in again when that is asked for.
        stage.apply("UPDATE hive SET kilos = 5 WHERE hive_id = 13", "1", 0);
        stage.run("DELETE FROM hive WHERE hive_id = 13;");
        stage.undo(&[], 5);
        stage.undo(&["--gone", "insert"], 0);
        assert!(stage.value("SELECT note FROM hive WHERE hive_id = 13").contains(" x "));
    });
}
