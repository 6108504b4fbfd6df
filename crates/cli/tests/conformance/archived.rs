//! Rows that are put away before a DELETE takes them away, in the same transaction, and taken out again by an undo; and the whole
//! database copied first.

use marktwice_testkit::stage::On;

use crate::each;

const GO: &str = "DELETE FROM hive WHERE keeper_id = 3";

fn file(table: &str, statement: &str) -> String {
    format!("/* marktwice\ntitle = \"Put away\"\nrows = 2\narchive_to = \"{table}\"\n*/\n{statement};\n")
}

#[test]
fn rows_are_put_away_as_they_are_and_come_back() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(
            "CREATE TABLE gone (note varchar(60), hive_id integer PRIMARY KEY, keeper_id integer, kilos decimal(8,2), place varchar(20) DEFAULT 'here');
             INSERT INTO gone VALUES ('mine', 1, 9, 1.5, 'there');",
        );
        let before = stage.dump();
        s.write("go.sql", file("gone", GO));
        s.run(&["preview", "go.sql"])
            .expect(0)
            .says("2 rows are copied into gone first, all columns by name; left to its defaults: place");
        s.run(&["rehearse", "go.sql"]).expect(0).says("It would be committed");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        s.run(&["apply", "go.sql", "--yes"]).expect(0).says("before they went: 2 rows copied into gone");
        let after = stage.dump();
        let count = |sql: &str| stage.value(&format!("SELECT count(*) FROM {sql}"));
        assert!(count("gone WHERE place = 'here' AND hive_id IN (12, 13) AND keeper_id = 3").contains('2'));
        assert!(count("gone WHERE hive_id = 12 AND note = 'it''s' AND kilos = 99.99").contains('1'));
        s.run(&["receipt"]).expect(0).says("2 rows copied into gone");
        s.run(&["look", "--run"]).expect(0).says("as the run left");
        // What others put there meanwhile stays.
        stage.run("INSERT INTO gone (hive_id, note) VALUES (77, 'later');");
        s.run(&["undo", "@last", "--yes", "--rows", "2"])
            .expect(0)
            .says("other tables are put right: 2 rows of gone deleted");
        stage.run("DELETE FROM gone WHERE hive_id = 77;");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        // The undo of the undo is the change again.
        let runs = s.run(&["history", "--format", "json"]).expect(0).json();
        let last = runs["runs"][0]["receipt"]["run"].as_str().unwrap().to_owned();
        s.run(&["undo", &last, "--yes", "--rows", "2"]).expect(0);
        assert_eq!(stage.dump(), after, "{:?}", stage.on);
    });
}

#[test]
fn what_cannot_be_put_away_as_it_is_changes_nothing() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(
            "CREATE TABLE narrow (hive_id integer PRIMARY KEY, keeper_id integer, note varchar(60));
             CREATE TABLE wanting (hive_id integer PRIMARY KEY, keeper_id integer, kilos decimal(8,2), note varchar(60), by_whom varchar(9) NOT NULL);
             CREATE TABLE taken (hive_id integer PRIMARY KEY, keeper_id integer, kilos decimal(8,2), note varchar(60));
             CREATE TABLE keyless (hive_id integer, keeper_id integer, kilos decimal(8,2), note varchar(60));
             INSERT INTO taken VALUES (13, 1, NULL, 'was here');",
        );
        match stage.on {
            On::Sqlite => stage.run(
                "CREATE TABLE other (hive_id integer PRIMARY KEY, keeper_id integer, kilos text, note varchar(60));
                 CREATE TABLE watched (hive_id integer PRIMARY KEY, keeper_id integer, kilos decimal(8,2), note varchar(60));
                 CREATE TRIGGER watch AFTER INSERT ON watched BEGIN UPDATE watched SET note = 'seen' WHERE hive_id = new.hive_id; END;",
            ),
            On::Postgres => stage.run(
                "CREATE TABLE other (hive_id integer PRIMARY KEY, keeper_id integer, kilos integer, note varchar(60));
                 CREATE TABLE watched (hive_id integer PRIMARY KEY, keeper_id integer, kilos decimal(8,2), note varchar(60));
                 CREATE FUNCTION watch() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN new.note := 'seen'; RETURN new; END $$;
                 CREATE TRIGGER watch BEFORE INSERT ON watched FOR EACH ROW EXECUTE FUNCTION watch();",
            ),
            On::Maria => stage.run(
                "CREATE TABLE other (hive_id integer PRIMARY KEY, keeper_id integer, kilos integer, note varchar(60));
                 CREATE TABLE watched (hive_id integer PRIMARY KEY, keeper_id integer, kilos decimal(8,2), note varchar(60));
                 CREATE TRIGGER watch BEFORE INSERT ON watched FOR EACH ROW SET new.note = 'seen';",
            ),
        }
        let before = stage.dump();
        let keyless = stage.by("committed as", "no key", "no key");
        for (table, status, says) in [
            ("narrow", 3, "narrow has no place for kilos of hive"),
            ("wanting", 3, "nothing fills by_whom of wanting"),
            ("hive", 3, "the table that the rows go from"),
            ("nowhere", 3, "there is no table nowhere"),
            ("watched", 3, "could not be taken out again"),
            (
                "taken",
                1,
                "1 row that goes into taken would have the hive_id of rows that are there: hive 13 (as taken 13)",
            ),
            ("other", 4, "what was put away in other does not hold what the rows held"),
        ] {
            s.write("go.sql", file(table, GO));
            if table == "taken" {
                s.run(&["preview", "go.sql"]).expect(3).says("taken-already").says(says);
            }
            let answer = s.run(&["apply", "go.sql", "--yes"]);
            answer.expect(status).says(says);
            assert_eq!(stage.dump(), before, "{:?}: {table}", stage.on);
        }
        let update = "UPDATE hive SET note = NULL WHERE keeper_id = 3";
        s.write("go.sql", file("taken", update));
        s.run(&["apply", "go.sql", "--yes"]).expect(3).says("this step takes none away");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        // Rows that only their contents tell could not be told apart when they are taken out again.
        s.write("go.sql", file("keyless", GO));
        let answer = s.run(&["apply", "go.sql", "--yes"]);
        let answer = answer.says(keyless);
        if answer.status == Some(0) {
            s.run(&["undo", "@last", "--yes", "--rows", "2"]).expect(0);
        }
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}

#[test]
fn steps_put_rows_away_and_go_on() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(
            "CREATE TABLE gone (hive_id integer PRIMARY KEY, keeper_id integer, kilos decimal(8,2), note varchar(60));
             CREATE TABLE gone_keeper (keeper_id integer PRIMARY KEY, name varchar(40), email varchar(60), region varchar(20));",
        );
        let before = stage.dump();
        s.write(
            "go.sql",
            "/* marktwice\ntitle = \"Orla leaves\"\n\n[[check]]\nsql = \"SELECT count(*) FROM gone\"\nchanges_by = 2\n*/\n\
             /* marktwice step\nrows = 2\narchive_to = \"gone\"\n*/\nDELETE FROM hive WHERE keeper_id = 3;\n\
             /* marktwice step\nrows = 1\narchive_to = \"gone_keeper\"\n*/\nDELETE FROM keeper WHERE keeper_id = 3 AND NOT EXISTS (SELECT 1 FROM hive WHERE hive.keeper_id = keeper.keeper_id);\n\
             /* marktwice step\nrows = 1\n*/\nUPDATE gone SET note = 'light' WHERE kilos IS NULL AND note = ' x ';\n",
        );
        // What was put away is another step's own: nobody could say any more what came of it.
        s.run(&["apply", "go.sql", "--yes"]).expect(3);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        // Two steps may put rows away in one table.
        let text = std::fs::read_to_string(s.path("go.sql")).unwrap();
        let both = "/* marktwice step\nrows = 1\narchive_to = \"gone\"\n*/\nDELETE FROM hive WHERE hive_id = 12;\n\
                    /* marktwice step\nrows = 1\narchive_to = \"gone\"\n*/\nDELETE FROM hive WHERE hive_id = 10;\n";
        s.write("both.sql", both);
        s.run(&["apply", "both.sql", "--yes"]).expect(0).says("2 rows copied into gone");
        s.run(&["undo", "@last", "--yes", "--rows", "2"]).expect(0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        let two = text.split("/* marktwice step\nrows = 1\n*/").next().unwrap().to_owned();
        s.write("go.sql", two);
        s.run(&["apply", "go.sql", "--yes"])
            .expect(0)
            .says("2 rows copied into gone, 1 row copied into gone_keeper");
        s.run(&["undo", "@last", "--yes", "--rows", "3"]).expect(0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}

#[test]
fn the_whole_database_is_copied_first() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        let apply = |file: &str, status: i32| {
            let given = ["apply", "--sql", GO, "--rows", "2", "--yes", "--copy-database", file];
            s.run(&given).expect(status)
        };
        if stage.on != On::Sqlite {
            apply("copy.db", 1).says("only an embedded database is copied as a file");
            assert_eq!(stage.dump(), before, "{:?}", stage.on);
            return;
        }
        s.write("there.db", "mine");
        apply("there.db", 2).says("is there already");
        apply("no/such/folder/copy.db", 1).says("cannot be made");
        assert_eq!(stage.dump(), before);
        apply("copy.db", 0).says("the whole database as it was before");
        s.run(&["receipt"]).expect(0).says("copy.db");
        assert_eq!(std::fs::read_to_string(s.path("there.db")).unwrap(), "mine");
        let copy = s.run(&["look", "hive", "--csv", "--on", "sqlite:copy.db"]).expect(0).out;
        s.run(&["undo", "@last", "--yes", "--rows", "2"]).expect(0);
        assert_eq!(copy, s.run(&["look", "hive", "--csv"]).expect(0).out);
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt;
            let mode = std::fs::metadata(s.path("copy.db")).unwrap().permissions().mode();
            assert_eq!(mode & 0o777, 0o600);
        }
    });
}

#[test]
fn a_copy_of_the_rows_is_kept_in_the_same_transaction() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        let sql = "UPDATE hive SET kilos = 1, note = NULL WHERE keeper_id = 3";
        let apply = |name: &str, more: &[&str], status: i32| {
            let given = ["apply", "--sql", sql, "--rows", "2", "--yes", "--keep-copy", name];
            s.run(&[&given[..], more].concat()).expect(status)
        };
        if stage.on == On::Maria {
            apply("kept", &[], 1).says("it would commit what came before");
            assert_eq!(stage.dump(), before);
            return;
        }
        // What does not commit leaves no table.
        apply("kept", &["--check", "SELECT count(*) FROM hive WHERE kilos = 1 = 3"], 4).says("Rolled back");
        apply("keeper", &[], 1).says("already exists");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        apply("kept", &[], 0).says("the rows as they were: 2 rows in the table kept, which an undo leaves");
        let same = "SELECT count(*) FROM kept WHERE (hive_id = 12 AND kilos = 99.99 AND note = 'it''s') OR (hive_id = 13 AND kilos IS NULL AND keeper_id = 3)";
        assert!(stage.value(same).contains('2'), "{:?}", stage.on);
        s.run(&["receipt"]).expect(0).says("the rows as they were, 2 rows in kept");
        s.run(&["undo", "@last", "--yes", "--rows", "2"]).expect(0);
        assert!(stage.value(same).contains('2'), "{:?}", stage.on);
        stage.run("DROP TABLE kept;");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        s.write("two.sql", format!("{sql};\nDELETE FROM hive WHERE hive_id = 10;\n"));
        s.run(&["apply", "two.sql", "--keep-copy", "kept"]).expect(2).says("there are several");
    });
}

#[test]
fn an_archive_that_is_not_there_is_told_as_it_is_to_be_made() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(
            "CREATE TABLE visit (visit_id integer, \"order\" varchar(9), kilos decimal(8,2), day date, twice integer GENERATED ALWAYS AS (visit_id * 2) STORED, PRIMARY KEY (visit_id));
             INSERT INTO visit (visit_id, \"order\", kilos, day) VALUES (1, 'a', 1.50, '2026-01-01'), (2, NULL, 2, NULL), (3, 'c', NULL, '2026-03-01');"
                .replace('"', stage.by("\"", "\"", "`"))
                .as_str(),
        );
        s.write("gone.sql", "/* marktwice\nrows = 2\narchive_to = \"visit_kept\"\n*/\nDELETE FROM visit WHERE visit_id < 3;\n");
        let told = s.run(&["preview", "gone.sql"]).expect(3).says("no-archive").says("did you mean visit?");
        let definition = told.err.lines().find_map(|line| line.split_once("makes it): ")).unwrap().1;
        assert!(definition.starts_with("CREATE TABLE visit_kept (visit_id "), "{definition}");
        stage.run(definition);
        let before = stage.dump();
        s.run(&["apply", "gone.sql", "--yes"]).expect(0);
        let there = "SELECT count(*) FROM visit_kept WHERE (visit_id = 1 AND kilos = 1.50) OR (visit_id = 2 AND day IS NULL)";
        assert!(stage.value(there).contains('2'), "{:?}", stage.on);
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}

#[test]
fn an_archive_is_made_where_that_is_asked_for() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(stage.by(
            "CREATE TABLE visit (visit_id integer, name varchar(9), day date, twice integer GENERATED ALWAYS AS (visit_id * 2) STORED, at timestamp, PRIMARY KEY (visit_id));
             CREATE TABLE loose (note text);",
            "CREATE TYPE flower AS ENUM ('lime', 'heather');
             CREATE TABLE visit (twice integer GENERATED ALWAYS AS (visit_id * 2) STORED, visit_id integer, name flower, day date, at timestamp, PRIMARY KEY (visit_id));
             CREATE TABLE loose (note text);",
            "CREATE TABLE visit (visit_id integer, name varchar(9) CHARACTER SET latin2 COLLATE latin2_bin, day date, twice integer GENERATED ALWAYS AS (visit_id * 2) STORED, at timestamp NULL, PRIMARY KEY (visit_id));
             CREATE TABLE loose (note text);",
        ));
        stage.run(
            "INSERT INTO visit (visit_id, name, day) VALUES (1, 'lime', '2026-01-01'), (2, NULL, NULL), (3, 'heather', '2026-03-01');
             INSERT INTO loose VALUES ('a');",
        );
        let before = stage.dump();
        let there = || s.run(&["look", "visit_kept"]).status == Some(0);
        let check = |wanted: u32| {
            format!(
                "[[check]]\nsql = \"SELECT count(*) FROM visit_kept WHERE visit_id < 9\"\nchanges_by = {wanted}\n"
            )
        };
        let block = |rows: u32, what: &str| {
            format!(
                "/* marktwice step\nrows = {rows}\narchive_to = \"visit_kept\"\n*/\nDELETE FROM visit WHERE visit_id {what};\n"
            )
        };
        let change = |wanted: u32| {
            format!("/* marktwice\ntitle = \"Visits\"\n\n{}*/\n{}", check(wanted), block(2, "< 3"))
        };
        let inside = stage.on != On::Maria;
        s.write("go.sql", change(2));
        s.run(&["preview", "go.sql"]).expect(3).says("(--make-archive makes it): CREATE TABLE visit_kept (");
        let how =
            if inside { "made in the same transaction" } else { "made before the transaction, and stays" };
        s.run(&["preview", "go.sql", "--make-archive"])
            .expect(0)
            .says("CREATE TABLE visit_kept (visit_id ")
            .says(how)
            .says("only the run can tell: it reads visit_kept, which is made first")
            .says("--make-archive");
        let rehearsed = s.run(&["rehearse", "go.sql", "--make-archive"]);
        match inside {
            true => rehearsed.expect(0).says("a change by 2"),
            false => rehearsed.expect(3).says("would leave the table visit_kept behind"),
        };
        assert!(!there(), "{:?}", stage.on);
        // A run that is rolled back takes the table with it, or says that it stays.
        s.write("bad.sql", change(3));
        let rolled_back =
            s.run(&["apply", "bad.sql", "--make-archive", "--yes"]).expect(4).says("a change by 2");
        assert_eq!(rolled_back.err.contains("nothing changed"), inside, "{}", rolled_back.err);
        let stays = "no row changed, but the table visit_kept, which was made before, stays";
        assert_eq!(rolled_back.err.contains(stays), !inside, "{}", rolled_back.err);
        let receipt = s.run(&["receipt"]).expect(0);
        assert_eq!(receipt.out.contains("which was made before, stays"), !inside, "{}", receipt.out);
        assert_eq!(there(), !inside, "{:?}", stage.on);
        if !inside {
            assert!(stage.value("SELECT count(*) FROM visit_kept").contains('0'));
            stage.run("DROP TABLE visit_kept;");
        }
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        s.run(&["apply", "go.sql", "--make-archive", "--yes"])
            .expect(0)
            .says("the table visit_kept was made, which an undo leaves")
            .says("2 rows copied into visit_kept");
        s.run(&["receipt"]).expect(0).says("the table visit_kept was made");
        // Another time it is there, and its key tells what is in it already.
        s.run(&["undo", "@last", "--yes", "--rows", "2"])
            .expect(0)
            .says("the table visit_kept, which the run made, stays");
        s.run(&["apply", "go.sql", "--make-archive", "--yes", "--again"]).expect(0).says("2 rows copied");
        stage.undo(&[], 0);
        stage.run("DROP TABLE visit_kept;");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        // Steps that rest on one another are rehearsed first, which nothing may be left of.
        s.write("both.sql", block(1, "= 1") + &block(1, "= 2"));
        let both = s.run(&["apply", "both.sql", "--make-archive", "--yes"]);
        if inside {
            both.expect(0).says("2 rows copied into visit_kept");
            stage.undo(&[], 0);
            stage.run("DROP TABLE visit_kept;");
        } else {
            both.expect(3).says("would leave the table visit_kept behind");
            assert!(!there());
        }
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        // What has no key cannot be put away in a table of which it could be taken out again.
        s.write(
            "loose.sql",
            "/* marktwice\nrows = 1\narchive_to = \"loose_kept\"\n*/\nDELETE FROM loose WHERE note = 'a';\n",
        );
        let loose = s.run(&["preview", "loose.sql", "--make-archive"]);
        match stage.on {
            On::Sqlite => loose.expect(0),
            On::Postgres | On::Maria => loose.expect(3).says("cannot be made"),
        };
        s.run(&["preview", "--sql", GO, "--make-archive"]).expect(2).says("no step says archive_to");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}
