//! History, receipts and the files of the logbook.

use crate::demo;

#[test]
fn history_tells_what_stands() {
    let s = demo();
    s.run(&["history"]).expect(0).says("none yet");
    s.run(&["receipt"]).expect(2).says("no run on this database yet");
    s.write(
        "r.sql",
        "/* marktwice\ntitle = \"Two keepers move\"\nreason = \"letters\"\nrows = 2\n*/\nUPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5)",
    );
    let run = s.run(&["apply", "r.sql", "--yes", "--format", "json"]).expect(0).run();
    s.run(&["history"]).expect(0).says("1 run").says("committed  can be undone").says("Two keepers move");
    let undo = s.run(&["undo", &run, "--yes", "--format", "json"]).expect(0).run();
    let json = s.run(&["history", "--format", "json"]).expect(0).json();
    assert_eq!(json["runs"][0]["receipt"]["run"], undo.as_str());
    assert_eq!(json["runs"][1]["undone_by"], undo.as_str());
    assert_eq!((&json["runs"][0]["can_undo"], &json["runs"][1]["can_undo"]), (&true.into(), &false.into()));
    s.run(&["receipt", &run[1..]])
        .expect(0)
        .says("Two keepers move")
        .says("letters")
        .says("2 rows matched, 2 changed")
        .says("rows = 2")
        .says("foreign keys: enforced")
        .says("UPDATE keeper SET region");
    let receipt = s.run(&["receipt", &run, "--format", "json"]).json();
    assert_eq!(receipt["receipt"]["state"], "committed");
    assert_eq!(receipt["receipt"]["user"], "tester");
    assert_eq!(receipt["receipt"]["steps"][0]["engine_count"], 2);
}

#[test]
fn a_failed_run_is_in_the_history_with_its_reason() {
    let s = demo();
    let sql = "UPDATE keeper SET email = 'orla.fenwick@heathermoor.example' WHERE keeper_id = 4";
    s.run(&["apply", "--sql", sql, "--rows", "1", "--yes"]).expect(1);
    s.run(&["history"]).expect(0).says("rolled back").says("UNIQUE");
    s.run(&["receipt"]).says("as keeper 3)");
}

#[test]
fn the_snapshot_is_open_to_any_reader() {
    let s = demo();
    s.run(&[
        "apply",
        "--sql",
        "UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 8)",
        "--rows",
        "2",
        "--yes",
    ])
    .expect(0);
    let folder = &s.runs()[0];
    assert_eq!(
        std::fs::read_to_string(folder.join("change.sql")).unwrap(),
        "UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 8)"
    );
    let bytes = zstd_decode(&folder.join("rows.jsonl.zst"));
    let lines: Vec<serde_json::Value> = bytes.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    assert_eq!(lines.len(), 4);
    assert_eq!(lines[0]["format"], "marktwice-snapshot");
    assert_eq!(lines[0]["steps"][0]["kind"], "update");
    assert_eq!(lines[0]["tables"][0]["columns"][4]["name"], "region");
    assert_eq!((&lines[1]["key"][0], &lines[1]["role"]), (&3.into(), &"target".into()));
    assert_eq!(lines[1]["before"][4], "Dale");
    assert_eq!(lines[1]["after"], serde_json::json!({ "region": "Moor" }));
    assert_eq!(lines[2]["after"], serde_json::json!({}), "a row that did not change");
    assert_eq!((&lines[3]["end"]["rows"], &lines[3]["end"]["changed"]), (&2.into(), &1.into()));
}

fn zstd_decode(path: &std::path::Path) -> String {
    let output = std::process::Command::new("zstd").arg("-dc").arg(path).output();
    match output {
        Ok(output) if output.status.success() => String::from_utf8(output.stdout).unwrap(),
        _ => String::from_utf8(zstd::decode_all(std::fs::File::open(path).unwrap()).unwrap()).unwrap(),
    }
}

#[cfg(unix)]
#[test]
fn the_logbook_is_private_and_ignored_by_version_control() {
    use std::os::unix::fs::PermissionsExt;
    let s = demo();
    s.run(&["apply", "--sql", "DELETE FROM sale WHERE sale_id = 1", "--rows", "1", "--yes"]).expect(0);
    let mut open = vec![s.path("book")];
    let mut seen = 0;
    while let Some(path) = open.pop() {
        let about = std::fs::metadata(&path).unwrap();
        let wanted = if about.is_dir() { 0o700 } else { 0o600 };
        assert_eq!(about.permissions().mode() & 0o777, wanted, "{}", path.display());
        seen += 1;
        if about.is_dir() {
            open.extend(std::fs::read_dir(&path).unwrap().map(|e| e.unwrap().path()));
        }
    }
    assert!(seen > 8);
    assert!(std::fs::read_to_string(s.path("book/.gitignore")).unwrap().contains('*'));
    assert!(std::fs::read_dir(s.shelf().join("unsettled")).unwrap().next().is_none());
}

#[test]
fn the_logbook_is_found_wherever_the_command_is_started() {
    let s = demo();
    s.run(&["apply", "--sql", "DELETE FROM sale WHERE sale_id = 1", "--rows", "1", "--yes"]).expect(0);
    std::fs::create_dir_all(s.path("deep/er")).unwrap();
    let answer = marktwice_testkit::finished(s.command().current_dir(s.path("deep/er")).args(["history"]));
    answer.expect(0).says("DELETE sale");
    let link = s.path("deep/link.db");
    std::os::unix::fs::symlink(s.path("coop.db"), &link).unwrap();
    let answer = marktwice_testkit::finished(s.command().args(["history", "--on", link.to_str().unwrap()]));
    answer.expect(0).says("DELETE sale");
}

#[test]
fn history_is_filtered() {
    let s = demo();
    s.write("a.sql", "/* marktwice\ntitle = \"Two Keepers move\"\nrows = 2\n*/\nUPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5)");
    s.run(&["apply", "a.sql", "--yes"]).expect(0);
    s.run(&["apply", "--sql", "DELETE FROM sale WHERE sale_id = 1", "--rows", "1", "--yes"]).expect(0);
    s.run(&["apply", "--sql", "UPDATE keeper SET name = NULL WHERE keeper_id = 1", "--rows", "1", "--yes"])
        .expect(1);
    s.run(&["undo", "@last", "--rows", "1", "--yes"]).expect(0);
    let count = |args: &[&str]| {
        let json = s.run(&[&["history", "--format", "json"], args].concat()).expect(0).json();
        json["runs"].as_array().unwrap().len()
    };
    assert_eq!(count(&[]), 4);
    assert_eq!(count(&["--title", "keepers"]), 1);
    assert_eq!(count(&["--table", "SALE"]), 2);
    assert_eq!(count(&["--outcome", "rolled-back"]), 1);
    assert_eq!(count(&["--outcome", "undone"]), 1);
    assert_eq!(count(&["--since", "2020-01-01"]), 4);
    assert_eq!(count(&["--since", "2999"]), 0);
    s.run(&["history", "--since", "yesterday"]).expect(2).says("write a day");
    s.run(&["history"]).says("takes up");
}

#[test]
fn the_rows_of_a_run_for_a_spreadsheet() {
    let s = demo();
    s.run(&[
        "apply",
        "--sql",
        "UPDATE keeper SET region = 'Moor, \"high\"' WHERE keeper_id IN (3, 5)",
        "--rows",
        "2",
        "--yes",
    ])
    .expect(0);
    s.run(&["receipt", "--csv", "rows.csv"]).expect(0).says("2 rows of run");
    let text = std::fs::read_to_string(s.path("rows.csv")).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    assert!(lines[0].starts_with("row,what,keeper_id,name,email,phone,region,keeper_id after"), "{text}");
    assert!(
        lines[1].starts_with("1,changed,3,Orla Fenwick,") && lines[1].ends_with(",,\"Moor, \"\"high\"\"\""),
        "{text}"
    );
    s.run(&["receipt", "--csv", "no/such/folder.csv"]).expect(1).says("cannot write");
    s.run(&["receipt", "--csv", "rows.csv"]).expect(2).says("is there already");
    assert_eq!(s.run(&["receipt", "--csv", "-"]).expect(0).out, text);
}

#[test]
fn forgotten_rows_are_gone_and_the_receipt_stays() {
    let s = demo();
    let apply = |id: &str| {
        let sql = format!("DELETE FROM sale WHERE sale_id = {id}");
        s.run(&["apply", "--sql", &sql, "--rows", "1", "--yes", "--format", "json"]).expect(0).run()
    };
    let (first, second) = (apply("1"), apply("2"));
    s.run(&["forget", &first]).expect(6).says("Agree with --yes");
    s.run(&["forget", "zzzz", "--yes"]).expect(2).says("no run zzzz");
    s.run(&["forget", &first, "--yes"])
        .expect(0)
        .says("can still be undone, and then cannot")
        .says("1 run forgotten");
    assert!(!s.runs()[0].join("rows.jsonl.zst").exists() && s.runs()[1].join("rows.jsonl.zst").exists());
    s.run(&["undo", &first, "--yes"]).expect(2).says("were forgotten");
    s.run(&["receipt", &first]).expect(0).says("DELETE FROM sale WHERE sale_id = 1");
    s.run(&["receipt", &first, "--csv", "x.csv"]).expect(2).says("no rows in the logbook");
    s.run(&["forget", "--before", "2020", "--yes"]).expect(0).says("Nothing to forget");
    s.run(&["forget", "--before", "2999", "--yes"]).expect(0);
    s.run(&["undo", &second, "--yes"]).expect(2);
    let mut t = s.terminal(&["forget", "--before", "2999"]);
    t.wait_for("Nothing to forget");
    assert_eq!(t.end().0, Some(0));
}
