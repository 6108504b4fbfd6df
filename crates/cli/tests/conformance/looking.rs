//! Looking, setting and drafting, and the closer look of a preview, alike on every engine.

use marktwice_testkit::stage::On;

use crate::each;

#[test]
fn tables_and_one_of_them() {
    each(|stage| {
        let s = &stage.scene;
        s.run(&["look"]).expect(0).says("keeper").says("keeper_id").says("4");
        s.run(&["look", "hive", "--where", "keeper_id = 3", "--show", "1"])
            .expect(0)
            .says("primary key")
            .says("keeper_id → keeper (keeper_id)")
            .says("2 rows match")
            .says("and 1 row more");
        s.run(&["look", "keeper"]).expect(0).says("hive (keeper_id)").says("name (nobody declared it)");
        s.run(&["look", "keepr"]).expect(2).says("did you mean keeper?");
        s.run(&["look", "keeper", "--where", "regoin = 'Moor'"]).expect(3).says("did you mean region?");
        let csv = s.run(&["look", "hive", "--csv"]);
        assert_eq!(csv.out.lines().count(), 5, "{}", csv.out);
        assert!(csv.out.starts_with("hive_id,keeper_id,kilos,note\n"), "{}", csv.out);
        let json = s.run(&["look", "keeper", "--format", "json"]).json();
        assert_eq!((&json["total"], &json["rows"][1]["row"]["name"]), (&4.into(), &"Bram".into()));
        let before = stage.dump();
        s.run(&["look", "keeper", "--where", "keeper_id = 1; DELETE FROM keeper"])
            .expect(3)
            .says("several-statements");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn views_are_shown_as_what_they_are() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(
            "CREATE VIEW moor_hives AS SELECT h.hive_id, k.name AS keeper, h.kilos FROM hive h \
             JOIN keeper k ON k.keeper_id = h.keeper_id WHERE k.region = 'Moor';",
        );
        s.run(&["look"]).expect(0).says("2 tables, 1 view").says("moor_hives").says("(a view)");
        s.run(&["look", "moor_hives"])
            .expect(0)
            .says("view · 2 rows")
            .says("hive")
            .says("Orla")
            .says("definition");
        let json = s.run(&["look", "moor_hives", "--where", "kilos is NULL", "--format", "json"]).json();
        assert_eq!((&json["matched"], &json["total"]), (&1.into(), &2.into()));
        assert_eq!(json["rows"][0]["row"]["hive_id"], 13);
        let mut reads: Vec<&str> =
            json["view"]["reads"].as_array().unwrap().iter().filter_map(|r| r.as_str()).collect();
        reads.sort_unstable();
        assert_eq!(reads, ["hive", "keeper"]);
        let csv = s.run(&["look", "moor_hives", "--csv"]);
        assert!(csv.out.starts_with("hive_id,keeper,kilos\n"), "{}", csv.out);
        s.run(&["look", "moor_hives", "--where", "kilo > 1"])
            .expect(3)
            .says("line 1, column 1")
            .says("did you mean kilos?");
        let before = stage.dump();
        s.run(&["look", "moor_hives", "--where", "1 = 1; DELETE FROM hive"])
            .expect(3)
            .says("more than a condition");
        assert_eq!(stage.dump(), before);
        let said = match stage.on {
            On::Postgres => {
                stage.run(
                    "CREATE FUNCTION noted() RETURNS integer LANGUAGE plpgsql AS $$ BEGIN DELETE FROM hive; RETURN 1; END $$;",
                );
                "writes hive"
            }
            On::Maria => {
                stage.run(
                    "CREATE FUNCTION noted() RETURNS integer BEGIN DELETE FROM hive; RETURN 1; END\n//\n",
                );
                "writes hive"
            }
            On::Sqlite => return,
        };
        s.run(&["look", "moor_hives", "--where", "noted() = 1"]).expect(3).says(said);
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn parents_are_named_by_a_text_called_like_their_table() {
    each(|stage| {
        stage.run(
            "CREATE TABLE apiary (apiary_id integer PRIMARY KEY, apiary varchar(40) NOT NULL);
             CREATE TABLE stand (stand_id integer PRIMARY KEY, apiary_id integer, FOREIGN KEY (apiary_id) REFERENCES apiary (apiary_id));
             INSERT INTO apiary VALUES (1, 'Whin Bank'), (2, 'Moor End');
             INSERT INTO stand VALUES (7, 1), (8, 1);",
        );
        let sql = "UPDATE stand SET apiary_id = 2 WHERE stand_id < 9";
        // Numbers that name other rows are no amounts: nobody wants their sum.
        stage
            .scene
            .run(&["preview", "--sql", sql])
            .expect(0)
            .says("1 (Whin Bank) → 2 (Moor End)")
            .says_not("sum");
    });
}

#[test]
fn one_row_is_set_by_its_key() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        s.run(&["set", "keeper", "2", "region=O'Fell", "email=NULL", "--yes"])
            .expect(0)
            .says("region = 'O''Fell'")
            .says("Moor → O'Fell")
            .says("1 row committed");
        assert_eq!(
            stage.value("SELECT region FROM keeper WHERE keeper_id = 2"),
            stage.value("SELECT 'O''Fell'")
        );
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        assert_eq!(stage.dump(), before);
        for (args, status, says) in [
            (&["keeper", "2", "regoin=x"][..], 2, "did you mean region?"),
            (&["keeper", "2,3", "region=x"], 2, "--several"),
            (&["keeper", "two", "region=x"], 2, "no number"),
            (&["keeper", "region=Moor", "name=x"], 2, "name more columns, or one of them by keeper_id"),
            (&["keeper", "2", "name=NULL"], 2, "does not take NULL"),
            (&["hive", "10", "kilos=1,5"], 2, "kilos=1.5"),
            (&["keeper", "77", "region=x"], 3, "nothing-matched"),
            (&["keeper", "email=tam@x.example", "region=Fell"], 6, "Nobody is there"),
        ] {
            let answer = s.run(&[&["set"], args].concat());
            assert_eq!(
                answer.status,
                Some(status),
                "{:?} {args:?}\n{}\n{}",
                stage.on,
                answer.out,
                answer.err
            );
            answer.says(says);
            assert_eq!(stage.dump(), before, "{args:?}");
        }
        s.run(&["set", "keeper", "2,3", "region=Fell", "--several", "--yes"])
            .expect(0)
            .says("2 rows committed");
        if stage.on != On::Sqlite {
            s.run(&["set", "keeper", "2", "region=DEFAULT", "--yes"]).expect(0).says("NULL");
        }
    });
}

#[test]
fn drafts_can_be_previewed_as_they_are() {
    each(|stage| {
        let s = &stage.scene;
        for args in [
            &["keeper"][..],
            &["keeper", "--where", "region = 'Moor'", "--set", "region=Dale"],
            &["hive", "--delete"],
            &["hive", "--delete", "--where", "kilos IS NULL"],
        ] {
            let draft = s.run(&[&["draft"], args].concat()).expect(0).out.clone();
            s.write("draft.sql", &draft);
            s.run(&["preview", "draft.sql"]).expect(0);
        }
        s.run(&["draft", "keeper", "--to", "new.sql"]).expect(0);
        s.run(&["draft", "keeper", "--to", "new.sql"]).expect(2).says("nothing is overwritten");
        let two = stage.by("BEGIN; DELETE FROM hive WHERE hive_id = 10; COMMIT", "TRUNCATE keeper, hive", "UPDATE keeper k JOIN hive h ON h.keeper_id = k.keeper_id SET k.name = 'x', h.note = 'y' WHERE h.hive_id = 10");
        let steps = s.run(&["draft", "--sql", two]).expect(0).out.clone();
        // What is refused as one statement is one change of several steps, and it is taken.
        assert_eq!(steps.matches("/* marktwice\n").count(), 1, "{steps}");
        s.write("steps.sql", &steps);
        let taken = s.run(&["preview", "steps.sql", "--allow", "no-filter", "--format", "json"]).json();
        assert_eq!(
            taken["steps"].as_array().unwrap().len(),
            if stage.on == On::Sqlite { 1 } else { 2 },
            "{steps}"
        );
    });
}

#[test]
fn the_closer_look() {
    each(|stage| {
        stage.run("INSERT INTO keeper VALUES (5, 'Uma', 'uma@x.example', 'moor '), (6, 'Vic', 'vic@x.example', 'MOOR');");
        let s = &stage.scene;
        let preview = |sql: &str, more: &[&str]| s.run(&[&["preview", "--sql", sql], more].concat());
        let sql = "UPDATE keeper SET name = 'Orla X' WHERE region = 'Moor' AND name = 'Orla'";
        preview(sql, &[])
            .expect(0)
            .says("every row")
            .says("WHERE region = 'Moor'")
            .says("by the key:  WHERE keeper_id = 3")
            .says("name is unique in the data as it is:  WHERE name = 'Orla'");
        let json = preview(sql, &["--format", "json"]).step();
        let left: Vec<u64> = json["closer_look"]["funnel"]
            .as_array()
            .unwrap()
            .iter()
            .map(|step| step["rows"].as_u64().unwrap())
            .collect();
        assert_eq!(
            left,
            match (stage.on, stage.is_mysql()) {
                (On::Maria, false) => [4, 1],
                // Blanks at an end count there.
                (On::Maria, true) => [3, 1],
                _ => [2, 1],
            },
            "{:?}",
            stage.on
        );
        let quick = preview(sql, &["--quick", "--format", "json"]).step();
        assert_eq!(quick["closer_look"]["funnel"].as_array().unwrap().len(), 0);
        // What is told apart only by letter case and blanks is not matched, and said.
        let near = preview("DELETE FROM keeper WHERE region = 'moor'", &["--format", "json"]).step();
        let rows = near["closer_look"]["near"][0]["rows"].as_u64();
        let told = match (stage.on, stage.is_mysql()) {
            (On::Maria, false) => None,
            (On::Maria, true) => Some(1),
            _ => Some(4),
        };
        assert_eq!(rows, told, "{:?}", stage.on);
        preview("DELETE FROM keeper WHERE region <> 'Dale'", &[]).says("by NULL alone").says("keeper 4 NULL");
        // Foreign keys have a meaning.
        preview("UPDATE hive SET keeper_id = 2 WHERE hive_id = 10", &[]).says("1 (Ada) → 2 (Bram)");
        // Another count is expected: which rows are different, and how to leave them out.
        let kinds = preview("UPDATE hive SET note = 'x' WHERE keeper_id = 1", &["--rows", "1"]);
        assert_eq!(kinds.status, Some(4));
        kinds.says("in 1 row note is NULL; to leave them out, write:\n           WHERE (keeper_id = 1) AND note IS NOT NULL");
        // A subquery that finds nothing, and one that finds too much.
        preview(
            "UPDATE hive SET note = (SELECT k.region FROM keeper k WHERE k.keeper_id = hive.keeper_id + 70)",
            &["--rows", "all"],
        )
        .says("subquery-none")
        .says("becomes-null");
        preview("UPDATE hive SET note = (SELECT k.name FROM keeper k WHERE k.keeper_id > hive.keeper_id) WHERE hive_id = 10", &[])
            .expect(3)
            .says("many-values");
    });
}

#[test]
fn generated_statements_of_any_size() {
    each(|stage| {
        let s = &stage.scene;
        let terms = (0..5_000).map(|n| format!("hive_id = {}", n + 1_000)).collect::<Vec<_>>().join(" OR ");
        let list = (0..120_000).map(|n| (n + 1_000_000).to_string()).collect::<Vec<_>>().join(", ");
        let deep = format!("{}hive_id = 10{}", "(".repeat(400), ")".repeat(400));
        for (filter, status) in [(terms, 3), (format!("hive_id IN ({list}, 10)"), 0), (deep, 0)] {
            s.write("long.sql", format!("DELETE FROM hive WHERE {filter}"));
            let answer = s.run(&["preview", "long.sql"]);
            let said = &answer.err[..answer.err.len().min(300)];
            // An engine may have limits of its own; what it says is then told, and nothing crashes.
            let limit = answer.status == Some(1) && !said.is_empty();
            assert!(answer.status == Some(status) || limit, "{:?} {:?} {said}", stage.on, answer.status);
        }
    });
}

#[test]
fn what_a_column_holds() {
    each(|stage| {
        stage.run("CREATE TABLE crop (id integer PRIMARY KEY, flower varchar(20), kilos numeric(8,2), day date);
                   INSERT INTO crop VALUES (1, 'Lime', 1.5, '2026-05-10'), (2, 'lime', 2, '2026-05-11'), (3, 'Lime', 3, NULL), (4, NULL, 3, '2025-01-31'), (5, 'Moor  heather', NULL, '2026-05-11'), (6, 'moor heather', 10, '2026-05-11');");
        let before = stage.dump();
        let s = &stage.scene;
        let json = |args: &[&str]| -> serde_json::Value {
            let all = [&["look", "crop", "--values"], args, &["--format", "json"]].concat();
            serde_json::from_str(&s.run(&all).expect(0).out).unwrap()
        };
        let seen = json(&["flower"]);
        let values = seen["values"].as_array().unwrap();
        let rows: Vec<u64> = values.iter().map(|v| v["rows"].as_u64().unwrap()).collect();
        // Letter case and blanks count, whatever the collation says; what is alike stands together.
        assert_eq!((rows.as_slice(), seen["different"].as_u64()), (&[2, 1, 1, 1, 1][..], Some(5)), "{seen}");
        assert_eq!(
            (values[0]["values"][0].as_str(), values[1]["values"][0].as_str()),
            (Some("Lime"), Some("lime"))
        );
        assert!(values[0]["alike"] == true && values[1]["alike"] == true, "{seen}");
        let nulls: Vec<_> = values.iter().filter(|v| v["values"][0].is_null()).collect();
        assert!(nulls.len() == 1 && nulls[0]["alike"] == false, "{seen}");
        s.run(&["look", "crop", "--values", "flower"])
            .expect(0)
            .says("5 values in 6 rows")
            .says("differs from the one beside it");
        let spread = json(&["kilos"])["spread"].clone();
        assert!(
            spread["least"].to_string().contains("1.5") && spread["greatest"].to_string().contains("10"),
            "{spread}"
        );
        assert!(json(&["day"])["spread"]["half"].to_string().contains("2026-05-11"));
        let pairs = json(&["flower,day", "--where", "id > 4"]);
        assert_eq!(
            (pairs["matched"].as_u64(), pairs["values"][0]["values"].as_array().unwrap().len()),
            (Some(2), 2)
        );
        let csv = s.run(&["look", "crop", "--where", "id < 3", "--columns", "day,flower", "--csv"]).expect(0);
        assert_eq!(csv.out, "day,flower\n2026-05-10,Lime\n2026-05-11,lime\n");
        assert_eq!(
            s.run(&["look", "crop", "--where", "id < 0", "--columns", "day", "--csv"]).expect(0).out,
            "day\n"
        );
        s.run(&["look", "crop", "--columns", "dya"]).expect(2).says("did you mean day?");
        s.run(&["look", "crop", "--values", "flowr"]).expect(2).says("did you mean flower?");
        s.run(&["look", "crop", "--values", "id,flower,day"]).expect(2).says("one or two columns");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn a_parent_is_named_and_its_key_is_set() {
    each(|stage| {
        stage.run(
            "CREATE TABLE apiary (apiary_id integer PRIMARY KEY, name varchar(40));
             CREATE TABLE stand (stand_id integer PRIMARY KEY, apiary_id integer, was_at integer, FOREIGN KEY (apiary_id) REFERENCES apiary (apiary_id), FOREIGN KEY (was_at) REFERENCES apiary (apiary_id));
             INSERT INTO apiary VALUES (1, 'Whin Bank'), (2, 'Moor End'), (3, 'Moor End'), (4, 'Ann''s -- Garth'), (5, NULL);
             INSERT INTO stand VALUES (7, 1, 1);",
        );
        let before = stage.dump();
        let s = &stage.scene;
        let set = |set: &str, status: i32| s.run(&["set", "stand", "7", set, "--yes"]).expect(status);
        set("apiary=Whin Bnk", 2).says("no apiary has the name Whin Bnk").says("did you mean Whin Bank (1)?");
        set("apiary=Moor End", 2).says("2 rows of apiary").says("Moor End (2), Moor End (3)");
        set("apairy=Whin Bank", 2).says("stand has no column apairy");
        assert_eq!(stage.dump(), before);
        // By the column without its ending; a column that is there is that column, and takes a key only.
        set("was_at=Whin Bank", 2).says("is no number");
        let told = set("apiary=Ann's -- Garth", 0);
        told.says("apiary_id 4 is the apiary Ann's -- Garth").says("SET apiary_id = 4");
        assert_eq!(
            stage
                .value("SELECT apiary_id FROM stand")
                .chars()
                .filter(char::is_ascii_digit)
                .collect::<String>(),
            "4"
        );
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn columns_that_nobody_declared_a_key() {
    each(|stage| {
        stage.run("CREATE TABLE song (title varchar(20), yr integer, plays integer); INSERT INTO song VALUES ('Lime', 2026, 1), ('Lime', 2025, 2), ('Moor', 2026, 3), ('Moor', 2026, 4);");
        let before = stage.dump();
        let s = &stage.scene;
        let set = |key: &str, status: i32| s.run(&["set", "song", key, "plays=9", "--yes"]).expect(status);
        set("title=Lime", 2).says("2 rows of song have this title").says("name more columns");
        set("title=Moor,yr=2026", 2).says("2 rows of song have this title and yr");
        set("title=Ling,yr=2026", 3).says("no row of song has the key title=Ling,yr=2026");
        assert_eq!(stage.dump(), before);
        set("title=Lime,yr=2026", 0)
            .says("title and yr tell one row of song now; nobody declared that they always do");
        let rows = stage.value("SELECT count(*) FROM song WHERE plays = 9 AND title = 'Lime' AND yr = 2026");
        assert!(rows.contains('1'), "{rows}");
        // A part of a key that tells one row is no whole key, and does all the same.
        stage.run("CREATE TABLE harvest (hive integer NOT NULL, season integer NOT NULL, kilos integer, PRIMARY KEY (hive, season)); INSERT INTO harvest VALUES (1, 2025, 1), (1, 2026, 2), (2, 2026, 3);");
        s.run(&["set", "harvest", "hive=1", "kilos=9", "--yes"])
            .expect(2)
            .says("hive, season: 1,2025; 1,2026");
        s.run(&["set", "harvest", "hive=2", "kilos=9", "--yes"])
            .expect(0)
            .says("hive tells one row of harvest now");
    });
}
