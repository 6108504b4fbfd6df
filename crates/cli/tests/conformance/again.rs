//! The rows of a run, looked at again: as they were, as the run left them, as they stand now.

use serde_json::Value as Json;

use crate::each;
use marktwice_testkit::stage::Stage;

fn looked(stage: &Stage, more: &[&str]) -> Json {
    let args = [&["look", "--run"], more, &["--format", "json"]].concat();
    serde_json::from_str(&stage.scene.run(&args).expect(0).out).unwrap()
}

fn counts(table: &Json) -> Vec<u64> {
    let all = ["as_left", "as_before", "changed", "gone", "there"];
    all.iter().map(|what| table[what].as_u64().unwrap()).collect()
}

#[test]
fn each_row_as_it_stands_now() {
    each(|stage| {
        stage.run("CREATE TABLE visit (hive_id integer, nr integer, note varchar(20), PRIMARY KEY (hive_id, nr));
                   INSERT INTO visit VALUES (10, 1, 'a'), (10, 2, NULL), (11, 1, 'c'), (11, 2, 'd'), (12, 1, 'e');");
        stage.scene.run(&["look", "--run"]).expect(2).says("there is no run on this database yet");
        let done = stage.apply("UPDATE visit SET note = 'x' WHERE hive_id < 12", "4", 0);
        done.says("read again after the commit: all 4 rows are so");
        let run = looked(stage, &[]);
        assert_eq!(counts(&run["tables"][0]), [4, 0, 0, 0, 0], "{run}");
        let before = stage.dump();
        stage.run("UPDATE visit SET note = 'by somebody' WHERE hive_id = 10 AND nr = 1; UPDATE visit SET note = NULL WHERE hive_id = 10 AND nr = 2; DELETE FROM visit WHERE hive_id = 11 AND nr = 1;");
        let run = looked(stage, &[]);
        assert_eq!(counts(&run["tables"][0]), [1, 1, 1, 1, 0], "{run}");
        let row = &run["tables"][0]["rows"][0];
        assert_eq!((row["before"]["note"].as_str(), row["left"]["note"].as_str()), (Some("a"), Some("x")));
        assert_eq!(
            (row["now"]["note"].as_str(), row["changed_since"][0].as_str()),
            (Some("by somebody"), Some("note"))
        );
        let screen = stage.scene.run(&["look", "--run"]).expect(0);
        screen
            .says("a → x → by somebody now")
            .says("changed since: note")
            .says("gone since")
            .says("as before the run");
        let csv = stage.scene.run(&["look", "--run", "--csv"]).expect(0);
        csv.says("1,visit,changed,10,1,a,10,1,x,10,1,by somebody").says("1,visit,gone,11,1,c,11,1,x,,,");
        // With one row to be shown it is one that somebody has changed.
        let one = looked(stage, &["--show", "1"]);
        assert_eq!(one["tables"][0]["rows"].as_array().unwrap().len(), 1, "{one}");
        assert_ne!(one["tables"][0]["rows"][0]["stands"], "as-left");
        stage.run("UPDATE visit SET note = 'x' WHERE hive_id = 10; INSERT INTO visit VALUES (11, 1, 'x');");
        assert_eq!(stage.dump(), before);

        // Rows that went, and one that is there again; a key that moved; what two steps wrote is told once.
        stage.apply("DELETE FROM visit WHERE hive_id = 11", "2", 0);
        stage.run("INSERT INTO visit VALUES (11, 2, 'new');");
        let run = looked(stage, &[]);
        assert_eq!(counts(&run["tables"][0]), [1, 0, 0, 0, 1], "{run}");
        stage.scene.write("two.sql", "/* marktwice step\nrows = 1\n*/\nUPDATE visit SET nr = 9 WHERE hive_id = 12;\n/* marktwice step\nrows = 1\n*/\nUPDATE visit SET note = 'z' WHERE nr = 9;\n");
        stage
            .scene
            .run(&["apply", "two.sql", "--yes"])
            .expect(0)
            .says("read again after the commit: the row is so");
        let run = looked(stage, &[]);
        assert_eq!(
            (run["tables"][0]["later"].as_u64(), counts(&run["tables"][1])),
            (Some(1), vec![1, 0, 0, 0, 0]),
            "{run}"
        );
        // A run that was taken back says so.
        stage.apply("UPDATE visit SET note = 'w' WHERE hive_id = 12", "1", 0);
        let run = looked(stage, &[])["run"].as_str().unwrap().to_owned();
        stage.scene.run(&["undo", &run, "--yes"]).expect(0);
        let screen = stage.scene.run(&["look", "--run", &run]).expect(0);
        screen.says("it was taken back by").says("as before the run");
    });
}
