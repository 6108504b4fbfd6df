//! Files that earlier versions of the formats wrote: they are read for ever, and a run in them can be taken back.

use std::path::{Path, PathBuf};

use marktwice_testkit::Scene;

use crate::scene as made;

fn golden() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/golden/v1")
}

/// A database as the old files describe it, with those files in its logbook.
fn scene() -> Scene {
    let s = made("");
    s.sql(&std::fs::read_to_string(golden().join("start.sql")).unwrap());
    // A preview makes the logbook's folder of this database.
    s.run(&["preview", "--sql", "DELETE FROM hive WHERE hive_id = 1"]).expect(0);
    let history = s.run(&["history", "--format", "json"]).json();
    let identity = history["database"]["identity"].as_str().unwrap().to_owned();
    let folder =
        std::fs::read_dir(s.path("book")).unwrap().flatten().find(|e| e.path().is_dir()).unwrap().path();
    std::fs::remove_dir_all(folder.join("marks")).unwrap();
    for part in ["marks", "runs"] {
        copy(&golden().join(part), &folder.join(part));
    }
    // The database stands elsewhere than then.
    for run in std::fs::read_dir(folder.join("runs")).unwrap().flatten() {
        let path = run.path().join("receipt.json");
        let mut receipt: serde_json::Value = serde_json::from_slice(&std::fs::read(&path).unwrap()).unwrap();
        assert_eq!(receipt["version"], 2);
        receipt["database"]["identity"] = identity.as_str().into();
        marktwice_logbook::seal(&mut receipt);
        std::fs::write(&path, receipt.to_string()).unwrap();
    }
    s
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).unwrap();
    for entry in std::fs::read_dir(from).unwrap().flatten() {
        let to = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy(&entry.path(), &to);
        } else {
            std::fs::copy(entry.path(), to).unwrap();
        }
    }
}

#[test]
fn runs_of_the_first_version_are_taken_back() {
    let s = scene();
    let start = s.dump();
    s.sql("UPDATE hive SET hive_id = hive_id + 10, kilos = kilos * 2, note = 'seen' WHERE hive_id < 3; DELETE FROM hive;");
    s.run(&["history"]).expect(0).says("cdmb").says("gwsd").says("can be undone");
    s.run(&["receipt", "cdmb"]).expect(0).says("2 rows matched, 2 changed").says("rows = 2");
    s.run(&["receipt", "gwsd", "--csv", s.path("rows.csv").to_str().unwrap()]).expect(0);
    assert!(std::fs::read_to_string(s.path("rows.csv")).unwrap().contains("deleted,11,Foxglove"));
    let again = s.run(&["undo", "gwsd", "--yes"]).expect(0).out.clone();
    assert!(again.contains("4 rows brought back"), "{again}");
    s.run(&["undo", "cdmb", "--yes"]).expect(0).says("2 rows put back");
    assert_eq!(s.dump(), start);
}

#[test]
fn a_mark_of_the_first_version_is_held_to() {
    let s = scene();
    let apply = || s.run(&["apply", "--mark", "5z5j", "--yes"]);
    s.sql("UPDATE hive SET kilos = 3 WHERE hive_id = 1;");
    apply().expect(5).says("1 row has moved").says("hive 1");
    s.sql("UPDATE hive SET kilos = 12.5 WHERE hive_id = 1;");
    apply().expect(0).says("2 rows committed");
}
