//! Parameters whose values are never shown: not in a preview, a message, a receipt, a CSV or a mark, now or later; only the
//! snapshot holds them, and from it they go back.

use std::path::Path;

use marktwice_testkit::stage::{On, Stage};

use crate::{each, watched};

/// What is given, and what was there before it.
const NEW: &str = "sesame's \"9\"";
const OLD: &str = "old-mellon";
/// What another row holds already.
const TAKEN: &str = "taken-mellon";

fn tables(on: On) -> String {
    let insert = "INSERT INTO seen (gate_id, what) VALUES (new.gate_id, new.word);";
    let (number, watch) = watched(on, "gate", insert);
    format!(
        "CREATE TABLE gate (gate_id integer PRIMARY KEY, word varchar(40) UNIQUE, day date, loud varchar(40) GENERATED ALWAYS AS (upper(word)) STORED, name varchar(20));
         CREATE TABLE seen (nr {number}, gate_id integer, what varchar(40));
         INSERT INTO gate (gate_id, word, day, name) VALUES (1, '{OLD}', '2026-05-10', 'North'), (2, '{TAKEN}', NULL, 'South');
         {watch}"
    )
}

/// A change with a secret :word.
fn change(more: &str, statement: &str) -> String {
    format!(
        "/* marktwice\nrows = 1\nalso_writes = [\"seen\"]\n\n[params.word]\nsecret = true\n{more}\n*/\n{statement};\n"
    )
}

const SET: &str = "UPDATE gate SET word = :word WHERE gate_id = 1";

/// Whatever has been kept but the snapshots, as one text.
fn kept(folder: &Path) -> String {
    let mut all = String::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            all += &kept(&path);
        } else if path.extension().is_none_or(|end| end != "zst") {
            all += &String::from_utf8_lossy(&std::fs::read(&path).unwrap());
        }
    }
    all
}

/// Fails where one of the values can be read.
#[track_caller]
fn silent(stage: &Stage, text: &str) {
    for secret in [NEW, OLD, TAKEN, "sesame", "mellon"] {
        let loud = text.to_lowercase().contains(&secret.to_lowercase());
        assert!(!loud, "{:?}: {secret} in\n{text}", stage.on);
    }
}

#[test]
fn a_secret_is_seen_nowhere_and_goes_back() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(&tables(stage.on));
        let before = stage.dump();
        s.write("word", format!("{NEW}\n"));
        s.write("other", format!("{TAKEN}\r\n"));
        s.write("gate.sql", change("", SET));
        let run = |given: &[&str], status: i32| {
            let answer = s.run(given).expect(status);
            silent(stage, &answer.out);
            silent(stage, &answer.err);
            answer
        };
        let with = ["--with-file", "word=word"];
        let told = run(&[&["preview", "gate.sql"][..], &with].concat(), 0);
        told.says("word = (hidden)")
            .says("only the snapshot of a run will hold it")
            .says("(hidden, changed)");
        let told = run(&[&["preview", "gate.sql", "--format", "json"][..], &with].concat(), 0).json();
        assert_eq!(told["steps"][0]["hidden"], serde_json::json!(["word", "loud"]));
        run(&[&["rehearse", "gate.sql", "--html", "rehearsed.html"][..], &with].concat(), 0);
        // What the engine says of the value is told without it.
        let taken = run(&["preview", "gate.sql", "--with-file", "word=other"], 0);
        taken.says("taken-already").says("gate 2");
        run(&["apply", "gate.sql", "--with-file", "word=other", "--yes"], 1).says("Rolled back");
        s.write("day.sql", change("", "UPDATE gate SET day = :word WHERE gate_id = 1"));
        let day = s.run(&[&["preview", "day.sql"][..], &with].concat());
        assert!(!(day.out.clone() + &day.err).contains("sesame"), "{}{}", day.out, day.err);
        let checks = "[[check]]\nname = \"word\"\nsql = \"SELECT word FROM gate WHERE gate_id = 1\"\ngives = \"x\"\n\n\
             [[check]]\nname = \"each\"\neach = \"new.word = old.word\"\n";
        s.write("checked.sql", change(checks, SET));
        run(&[&["apply", "checked.sql", "--yes"][..], &with].concat(), 4).says("nothing changed");
        run(&["receipt"], 0);
        let only = checks.split("\n\n").next().unwrap();
        s.write("checked.sql", change(only, SET));
        run(&[&["apply", "checked.sql", "--yes"][..], &with].concat(), 4)
            .says("does not hold; what it gave is (hidden)");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        // It is applied, and looked at in every way there is.
        run(&[&["apply", "gate.sql", "--yes"][..], &with].concat(), 0).says("1 row committed");
        let held = format!("SELECT count(*) FROM gate WHERE word = '{}'", NEW.replace('\'', "''"));
        assert!(stage.value(&held).contains('1'), "{:?}", stage.on);
        for way in [
            &["receipt"][..],
            &["receipt", "--format", "json"],
            &["receipt", "--csv", "-"],
            &["look", "--run"],
            &["look", "--run", "--format", "json"],
            &["look", "--run", "--csv"],
            &["history", "--format", "json"],
        ] {
            run(way, 0);
        }
        silent(stage, &kept(&s.path("book")));
        // The same value is the same change, another is another.
        run(&[&["apply", "gate.sql", "--yes"][..], &with].concat(), 3).says("already-run");
        s.write("third", "third-barley");
        run(&["preview", "gate.sql", "--with-file", "word=third"], 0);
        run(&[&["apply", "--mark"][..], &[last_mark(stage).as_str()], &with].concat(), 2)
            .says("another statement, or with other values");
        // An undo that meets another value says so without it.
        stage.run("UPDATE gate SET word = 'mellon-3' WHERE gate_id = 1;");
        run(&["undo", "@last", "--yes", "--rows", "1"], 5);
        let written = NEW.replace('\'', "''");
        stage.run(&format!("UPDATE gate SET word = '{written}' WHERE gate_id = 1;"));
        run(&["undo", "@last", "--yes", "--rows", "1"], 0);
        // What the trigger has written for somebody else stays.
        stage.run("DELETE FROM seen;");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        run(&["receipt", "--html", "receipt.html"], 0);
        for page in ["rehearsed.html", "receipt.html"] {
            let page = std::fs::read_to_string(s.path(page)).unwrap();
            assert!(page.contains("North") && page.contains("word"), "{page}");
            silent(stage, &page);
        }
        // A file that is handed on would hold it.
        run(&[&["preview", "gate.sql", "--out", "gate.twice"][..], &with].concat(), 2);
        assert!(!s.path("gate.twice").exists());
        run(&["look", "--run"], 0);
        silent(stage, &kept(&s.path("book")));
    });
}

/// The name of the last mark.
fn last_mark(stage: &Stage) -> String {
    let preview = stage.scene.run(&["preview", "gate.sql", "--with-file", "word=third", "--format", "json"]);
    preview.json()["mark"].as_str().unwrap().to_owned()
}

#[test]
fn a_secret_that_would_stand_in_keys_or_in_the_file_is_refused() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(&tables(stage.on));
        stage.run("CREATE TABLE pass (word varchar(40) NOT NULL PRIMARY KEY, gate_id integer); CREATE TABLE loose (word varchar(40));");
        let before = stage.dump();
        let with = ["--with", &format!("word={NEW}")];
        for (statement, says) in [
            ("UPDATE pass SET word = :word WHERE gate_id = 1", "a part of the key of pass"),
            ("INSERT INTO pass (word, gate_id) VALUES (:word, 1)", "a part of the key of pass"),
        ] {
            s.write("gate.sql", change("", statement));
            let answer = s.run(&[&["preview", "gate.sql"][..], &with].concat());
            silent(stage, &(answer.out.clone() + &answer.err));
            answer.expect(3).says(says);
        }
        for (more, value, says) in [
            ("default = \"mellon\"", NEW, "would stand in the file"),
            ("type = \"boolean\"", "true", "can be guessed"),
            ("", "abc", "fewer than 4 characters"),
            ("type = \"integer\"", "sesame", "(hidden) is no integer"),
        ] {
            s.write("gate.sql", change(more, SET));
            let answer = s.run(&["preview", "gate.sql", "--with", &format!("word={value}")]);
            let answer = answer.expect(2).says(says);
            assert!(!answer.err.contains("sesame"), "{}", answer.err);
        }
        s.write("gate.sql", change("", SET));
        s.run(&["preview", "gate.sql"]).expect(2).says("--with-file word=FILE");
        // What a joined query gives nobody can follow to a column: all that is written is hidden.
        let joined = match stage.on {
            On::Maria => "UPDATE gate, (SELECT :word AS w) AS q SET name = q.w WHERE gate_id = 1",
            On::Sqlite | On::Postgres => {
                "UPDATE gate SET name = q.w FROM (SELECT :word AS w) AS q WHERE gate_id = 1"
            }
        };
        s.write("gate.sql", change("", joined));
        let answer = s.run(&[&["preview", "gate.sql"][..], &with].concat());
        let answer = answer.expect(0).says("(hidden, changed)");
        assert!(!answer.out.contains("sesame"), "{}", answer.out);
        // Rows that come in, and rows that are told by all that they hold.
        s.write("gate.sql", change("", "INSERT INTO gate (gate_id, word, name) VALUES (7, :word, 'East')"));
        let answer = s.run(&[&["apply", "gate.sql", "--yes"][..], &with].concat());
        let answer = answer.expect(0).says("East");
        silent(stage, &answer.out);
        stage.undo(&[], 0);
        s.write("gate.sql", change("", "INSERT INTO loose (word) VALUES (:word)"));
        let answer = s.run(&[&["preview", "gate.sql"][..], &with].concat());
        silent(stage, &(answer.out.clone() + &answer.err));
        match stage.on {
            On::Sqlite => answer.expect(0),
            On::Postgres | On::Maria => answer.expect(3).says("told by everything that they hold"),
        };
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}
