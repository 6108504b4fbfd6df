//! Columns that the configuration hides: what they hold is nowhere but in snapshots, which only the holder of a key can read; also
//! where such a column tells the rows.

use marktwice_testkit::kept;
use marktwice_testkit::stage::{On, Stage};

use crate::{each, watched};

/// What stands in the hidden columns; nothing else holds it, and no test types it.
const PLANTED: &str = "mellon";

fn tables(on: On) -> String {
    let insert = "INSERT INTO seen (what) VALUES (new.phone);";
    let (number, watch) = watched(on, "person", insert);
    format!(
        "CREATE TABLE person (email varchar(60) PRIMARY KEY, name varchar(20), phone varchar(40) UNIQUE, age integer, CHECK (age < 200));
         CREATE TABLE visit (visit_id integer PRIMARY KEY, email varchar(60), place varchar(20),
           FOREIGN KEY (email) REFERENCES person (email) ON DELETE CASCADE);
         CREATE TABLE seen (nr {number}, what varchar(40));
         INSERT INTO person VALUES ('ada-mellon', 'Ada', '01-mellon', 40), ('bram-mellon', 'Bram', '02-MELLON ', 41), ('orla-mellon', 'Orla', NULL, 42);
         INSERT INTO visit VALUES (1, 'ada-mellon', 'Moor'), (2, 'ada-mellon', 'Dale'), (3, 'orla-mellon', 'Moor');
         CREATE VIEW everybody AS SELECT name, email AS address, phone FROM person;
         {watch}"
    )
}

#[track_caller]
fn silent(stage: &Stage, args: &[&str], text: &str) {
    assert!(!text.to_lowercase().contains(PLANTED), "{:?} {args:?}:\n{text}", stage.on);
}

/// Runs a command, finds nothing hidden in what it says, and gives that.
#[track_caller]
fn says(stage: &Stage, args: &[&str], status: i32) -> String {
    let answer = stage.scene.run(args);
    let said = format!("{}{}", answer.out, answer.err);
    silent(stage, args, &said);
    assert_eq!(answer.status, Some(status), "{:?} {args:?}:\n{said}", stage.on);
    said
}

fn configure(stage: &Stage, logbook: &str) {
    let hide = "hide = [\"person.email\", \"Person.PHONE\", \"visit.email\", \"seen.what\"]";
    let url = &stage.url;
    stage.scene.write(
        "marktwice.toml",
        format!("on = \"live\"\n{logbook}\n[database.live]\nurl = \"{url}\"\n{hide}\n"),
    );
}

#[test]
fn what_is_hidden_is_seen_nowhere() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(&tables(stage.on));
        let before = stage.dump();
        let rise = "UPDATE person SET age = age + 1, phone = upper(phone) WHERE name IN ('Ada', 'Bram')";
        // Without a key nothing is kept, and so nothing is changed.
        configure(stage, "logbook = \"book\"");
        let open = ["apply", "--sql", rise, "--rows", "2", "--yes", "--also-writes", "seen"];
        assert!(says(stage, &open, 1).contains("no key_file is set"));
        s.run(&["key", "live.key"]).expect(0);
        s.run(&["key", "live.key"]).expect(2);
        configure(stage, "[logbook]\nfolder = \"book\"\nkey_file = \"live.key\"");
        assert!(says(stage, &["where"], 0).contains("person.email"));
        for look in [
            &["look", "person"][..],
            &["look", "person", "--csv"],
            &["look", "person", "--format", "json"],
            &["look", "person", "--where", "phone IS NOT NULL"],
            &["look", "everybody"],
            &["look", "visit", "--csv", "--row-marks"],
            &["draft", "person"],
        ] {
            says(stage, look, 0);
        }
        says(stage, &["look", "person", "--values", "phone"], 2);
        let shown = says(stage, &["preview", "--sql", rise, "--html", "p.html"], 3);
        assert!(shown.contains('#') && shown.contains("(hidden)"), "{shown}");
        silent(stage, &["p.html"], &std::fs::read_to_string(s.path("p.html")).unwrap());
        says(stage, &["preview", "--sql", rise, "--format", "json", "-v"], 3);
        says(
            stage,
            &[
                "preview",
                "--sql",
                "UPDATE person SET name = lower(phone) WHERE email LIKE 'ada%'",
                "--also-writes",
                "seen",
            ],
            0,
        );
        says(
            stage,
            &["preview", "--sql", "DELETE FROM person WHERE name = 'Ada'", "--also-writes", "visit"],
            0,
        );
        says(stage, &["rehearse", "--sql", rise, "--also-writes", "seen"], 0);
        says(stage, &["rehearse", "--sql", rise, "--also-writes", "seen", "--format", "json"], 0);
        let joined = stage.by(
            "UPDATE person SET name = v.place, phone = v.email FROM visit AS v WHERE v.email = person.email",
            "UPDATE person SET name = v.place, phone = v.email FROM visit AS v WHERE v.email = person.email",
            "UPDATE person JOIN visit AS v ON v.email = person.email SET person.name = v.place, person.phone = v.email",
        );
        for format in ["human", "json"] {
            let shown =
                says(stage, &["preview", "--sql", joined, "--also-writes", "seen", "--format", format], 3);
            assert!(shown.contains("(hidden)"), "{shown}");
            says(
                stage,
                &["compare", "--sql", rise, "--sql", &rise.replace("age + 1", "age + 2"), "--format", format],
                4,
            );
            says(
                stage,
                &[
                    "compare",
                    "--sql",
                    "DELETE FROM person WHERE name = 'Ada'",
                    "--sql",
                    "DELETE FROM person WHERE age > 0",
                    "--format",
                    format,
                ],
                4,
            );
        }
        // Whatever the engine says of a value in its own words.
        for broken in [
            "UPDATE person SET phone = (SELECT max(phone) FROM person) WHERE name = 'Ada'",
            "UPDATE person SET email = (SELECT max(email) FROM person) WHERE name = 'Ada'",
            "UPDATE person SET age = CASE WHEN name = 'Ada' THEN 500 ELSE age END WHERE age > 0",
            "UPDATE visit SET email = concat(email, 'x') WHERE place = 'Moor'",
            "INSERT INTO person SELECT email, name, phone, age FROM person",
            "UPDATE person SET age = CAST(email AS integer) WHERE name = 'Ada'",
        ] {
            for command in ["preview", "apply"] {
                let mut args =
                    vec![command, "--sql", broken, "--also-writes", "seen", "--allow", "check-refused"];
                if command == "apply" {
                    args.extend(["--rows", "1+", "--yes"]);
                }
                let answer = s.run(&args);
                silent(stage, &args, &format!("{}{}", answer.out, answer.err));
            }
        }
        // SQLite takes any text for a number.
        stage.run("UPDATE person SET age = 40 WHERE name = 'Ada'; DELETE FROM seen");
        // Somebody else changes a row between the preview and the application.
        let mark = s.run(&["preview", "--sql", rise, "--also-writes", "seen", "--format", "json"]).json();
        let mark = mark["mark"].as_str().unwrap().to_owned();
        stage.run("UPDATE person SET age = age + 1 WHERE name = 'Ada'; DELETE FROM seen");
        let moved = says(stage, &["apply", "--mark", &mark, "--yes", "--also-writes", "seen"], 5);
        assert!(moved.contains('#'), "{moved}");
        stage.run("UPDATE person SET age = age - 1 WHERE name = 'Ada'; DELETE FROM seen");
        let middle = stage.dump();
        says(stage, &open, 0);
        for told in [
            &["receipt"][..],
            &["receipt", "--csv", "-"],
            &["receipt", "--format", "json"],
            &["receipt", "--html", "r.html"],
            &["history"],
            &["look", "--run"],
            &["look", "--run", "--csv"],
        ] {
            says(stage, told, 0);
        }
        silent(stage, &["r.html"], &std::fs::read_to_string(s.path("r.html")).unwrap());
        // Without the key it is said that nobody can read them, and nothing is promised.
        std::fs::rename(s.path("live.key"), s.path("away.key")).unwrap();
        assert!(says(stage, &["history"], 0).contains("cannot be undone"));
        says(stage, &["undo", "@last", "--yes", "--rows", "2"], 1);
        s.run(&["key", "live.key"]).expect(0);
        assert!(
            says(stage, &["undo", "@last", "--yes", "--rows", "2"], 1)
                .contains("without its own key nobody can read it")
        );
        std::fs::rename(s.path("away.key"), s.path("live.key")).unwrap();
        stage.run("UPDATE person SET age = age + 1 WHERE name = 'Ada'");
        says(stage, &["undo", "@last", "--yes", "--rows", "2"], 5);
        stage.run("UPDATE person SET age = age - 1 WHERE name = 'Ada'");
        let rows = s.run(&["look", "--run", "--format", "json"]).json();
        let number = rows["tables"][0]["rows"][0]["key"][0].as_str().unwrap().to_owned();
        assert!(number.starts_with('#'), "{number}");
        assert!(says(stage, &["undo", "--only", &number], 3).contains("1 row to put back"));
        stage.run("DELETE FROM seen WHERE nr > (SELECT min(nr) + 1 FROM (SELECT nr FROM seen) AS x)");
        says(stage, &["undo", "@last", "--yes", "--rows", "2"], 0);
        assert_eq!(stage.dump(), middle, "{:?}", stage.on);
        assert_eq!(middle, before, "{:?}", stage.on);
        // The rows that a key's action takes along.
        says(
            stage,
            &[
                "apply",
                "--sql",
                "DELETE FROM person WHERE name = 'Ada'",
                "--rows",
                "1",
                "--yes",
                "--also-writes",
                "visit",
            ],
            0,
        );
        says(stage, &["receipt"], 0);
        says(stage, &["undo", "@last", "--yes", "--rows", "3"], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        let all = kept(&s.path("book"));
        assert!(all.contains("age-encryption.org") && all.contains("rows.jsonl.zst.age"));
        silent(stage, &["the logbook"], &all);
    });
}
