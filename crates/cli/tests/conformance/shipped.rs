//! The demo with the change files that come with it, on every engine.

use marktwice_testkit::stage::{On, Stage};
use marktwice_testkit::{Answer, finished, with_last};

use marktwice_testkit::sql::Db;

use crate::each;

/// Runs the program in the demo's folder, which knows where its database is.
fn there(stage: &Stage, args: &[&str]) -> Answer {
    with_last(args, &|args| {
        let mut command = stage.scene.command();
        command.current_dir(stage.scene.path("there")).args(args);
        finished(&mut command)
    })
}

/// Every row of the demo.
fn dump(stage: &Stage) -> Vec<String> {
    let folder = stage.scene.path("there");
    let said: toml::Table = std::fs::read_to_string(folder.join("marktwice.toml")).unwrap().parse().unwrap();
    let on = said["on"].as_str().unwrap();
    Db::open(&if stage.on == On::Sqlite { folder.join(on).display().to_string() } else { on.to_owned() })
        .dump()
}

#[test]
fn the_shipped_changes() {
    each(|stage| {
        let at: &[&str] = if stage.on == On::Sqlite { &[] } else { &["--on", &stage.url] };
        let shown = stage.scene.run(&[&["demo", "there"], at].concat()).expect(0);
        shown.says("the same as at the start, every one");
        // What is there already is not written into.
        if stage.on != On::Sqlite {
            stage.scene.run(&[&["demo", "again"], at].concat()).expect(1).says("already").says("heathermoor");
            assert!(!stage.scene.path("again").exists());
        }
        let before = dump(stage);
        assert!(before.len() > 4000, "{:?}: {} rows", stage.on, before.len());
        let (mut played, mut refused) = (0, 0);
        for (name, spoiled, done) in [
            ("region_corrected.sql", &[("= 2\n", "= 9\n")][..], "committed"),
            (
                "price.sql",
                &[("gives = 0", "gives = 1"), ("price_log=12", "price_log=11")],
                "12 rows committed",
            ),
            (
                "old_inspections.sql",
                &[("\"1+\"", "\"0-2\""), ("inspection_archive", "sheet_import")],
                "committed",
            ),
            (
                "apiary_given_up.sql",
                &[("rows = 5", "rows = 6"), ("apiary_id = 3 ", "apiary_id = 77 ")],
                "committed",
            ),
            ("two_slips.sql", &[("rows = 1", "rows = 2")], "committed"),
            (
                "new_apiary.sql",
                &[
                    ("rows = 3", "rows = 4"),
                    ("new.apiary_id <> 5", "new.apiary_id = 5"),
                    ("unchanged = true", "gives = 61"),
                    ("keep = \"apiary_id\"", "keep = \"other_id\""),
                    ("default = 7", "default = 77"),
                    ("default = 7", "default = \"Ada\""),
                ],
                "2 steps committed",
            ),
            (
                "office_prices.sql",
                &[
                    ("rows        = 4", "rows = 5"),
                    ("price_log=4", "price_log=3"),
                    ("\"office_prices.csv\"", "\"office_prices.csv\"\ndecimal = \"point\""),
                    ("\"office_prices.csv\"", "\"another.csv\""),
                ],
                "4 rows committed",
            ),
            ("season_sheet.sql", &[("\"0+\"", "\"1-2\"")], "24 rows changed (25 matched)"),
            ("season_total.sql", &[("rows  = 1", "rows = 2")], "committed"),
        ] {
            let file = format!("changes/{name}");
            let text = std::fs::read_to_string(stage.scene.path("there").join(&file)).unwrap();
            for (was, now) in spoiled {
                assert!(text.contains(was), "{name}: {was}");
                stage.scene.write("there/changes/spoiled.sql", text.replace(was, now));
                let answer = there(stage, &["apply", "changes/spoiled.sql", "--yes"]);
                assert!(
                    ![Some(0), None].contains(&answer.status),
                    "{:?} {name}, {now}: {}",
                    stage.on,
                    answer.out
                );
                assert_eq!(dump(stage), before, "{:?} {name}, {now}", stage.on);
                refused += 1;
            }
            let preview = there(stage, &["preview", &file]);
            assert_eq!(preview.status, Some(0), "{:?} {name}\n{}{}", stage.on, preview.out, preview.err);
            there(stage, &["apply", &file, "--yes"]).expect(0).says(done);
            assert_ne!(dump(stage), before, "{:?} {name}", stage.on);
            let undone =
                there(stage, &["undo", "@last", "--yes", "--rows", "0+", "--allow", "undeclared-write"])
                    .expect(0);
            undone.says("undo");
            assert_eq!(dump(stage), before, "{:?} {name}", stage.on);
            played += 1;
        }
        // What another one says twice is done once.
        there(stage, &["apply", "changes/season_sheet.sql", "--yes"]).expect(0);
        there(stage, &["apply", "changes/season_sheet.sql", "--yes", "--allow", "already-run"])
            .expect(0)
            .says("Nothing to do");
        assert_eq!((played, refused), (9, 20));
    });
}
