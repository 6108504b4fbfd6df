//! A change that is handed on with its mark, on a database that is guarded whichever way it is reached; pages on every engine.

use marktwice_testkit::finished;
use marktwice_testkit::stage::{On, Stage};

use crate::each;

/// The same database, as somebody else would write it.
fn otherwise(stage: &Stage) -> String {
    match stage.on {
        On::Sqlite => format!("sqlite:{}", stage.url),
        On::Postgres => {
            stage.url.replacen("postgres://tester@", "postgresql://tester@", 1) + "&connect_timeout=9"
        }
        On::Maria => stage.url.replacen("mysql://", "mariadb://", 1),
    }
}

#[test]
fn one_previews_and_another_applies() {
    each(|stage| {
        let s = &stage.scene;
        let start = stage.dump();
        s.write(
            "marktwice.toml",
            format!("[database.live]\nurl = {:?}\nguarded = true\nmost_rows = 3\n", stage.url),
        );
        s.write(
            "a.sql",
            "/* marktwice\ntitle = \"Tidy notes\"\nreason = \"The spring list\"\nrows = 2\n[params.note]\ntype = \"text\"\n*/\n\
             UPDATE hive SET note = :note, kilos = kilos + 0.25 WHERE keeper_id = 3",
        );
        // Whoever types the address meets the guard as well.
        for on in [stage.url.as_str(), &otherwise(stage), "live"] {
            let apply =
                ["apply", "--sql", "DELETE FROM hive WHERE hive_id = 10", "--rows", "1", "--yes", "--on", on];
            let answer = s.run(&apply);
            assert!(
                answer.status == Some(2) && answer.err.contains("live is guarded"),
                "{:?} {on}: {}",
                stage.on,
                answer.err
            );
        }
        s.run(&[
            "preview",
            "a.sql",
            "--with",
            "note=seen",
            "--on",
            "live",
            "--out",
            "a.twice",
            "--html",
            "a.html",
        ])
        .expect(0);
        let page = std::fs::read_to_string(s.path("a.html")).unwrap();
        assert!(
            page.contains("<h1>Tidy notes</h1>")
                && page.contains("<ins>seen</ins>")
                && page.contains("100.24"),
            "{page}"
        );
        let colleague = |args: &[&str]| {
            let more = ["--on", "live", "--logbook", "theirs"];
            finished(s.command().env("USER", "orla").args(args).args(more))
        };
        // Two marks have to agree, and the second one is taken by somebody else.
        stage.run("UPDATE hive SET kilos = 7 WHERE hive_id = 13");
        colleague(&["apply", "a.twice", "--yes"]).expect(5).says("hive 13");
        stage.run("UPDATE hive SET kilos = NULL WHERE hive_id = 13");
        let run = colleague(&["apply", "a.twice", "--yes", "--format", "json"]).expect(0).run();
        assert!(stage.value("SELECT note FROM hive WHERE hive_id = 12").contains("seen"));
        colleague(&["receipt", &run, "--html", "b.html"]).expect(0).says("elsewhere, by tester on");
        assert!(std::fs::read_to_string(s.path("b.html")).unwrap().contains("both marks agreed"));
        colleague(&["undo", &run, "--yes"]).expect(0);
        assert_eq!(stage.dump(), start, "{:?}", stage.on);
        // Another database is another, on the same server too.
        if let Some(server) = stage.server {
            let other = server.database();
            let away = ["apply", "a.twice", "--yes", "--on", &other, "--logbook", "theirs"];
            finished(s.command().args(away)).expect(2).says("another database");
        }
    });
}
