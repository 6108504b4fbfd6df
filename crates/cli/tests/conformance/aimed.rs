//! Aiming: rows by the names of their parents, by what they have in common, by the engine's own number, in a form.

use marktwice_testkit::stage::On;

use crate::each;

#[test]
fn a_condition_names_parents() {
    each(|stage| {
        stage.run(
            "CREATE TABLE apiary (apiary_id integer PRIMARY KEY, name varchar(40));
             CREATE TABLE stand (stand_id integer PRIMARY KEY, apiary_id integer, note varchar(20), FOREIGN KEY (apiary_id) REFERENCES apiary (apiary_id));
             INSERT INTO apiary VALUES (1, 'Whin Bank'), (2, 'Moor End'), (3, 'Moor End'), (4, 'Ann''s -- Garth');
             INSERT INTO stand VALUES (7, 1, 'apiary'), (8, 4, NULL), (9, 2, 'x');",
        );
        let s = &stage.scene;
        let look = |condition: &str, status: i32| {
            s.run(&["look", "stand", "--where", condition, "--csv"]).expect(status)
        };
        let seen = look("apiary = \"Whin Bank\" AND note = 'apiary'", 0);
        seen.says("7,1,apiary").says_not("8,4").says("note: apiary_id 1 is the apiary Whin Bank");
        look("stand_id > 7 AND apiary IN ('Whin Bank', 'Ann''s -- Garth')", 0).says("8,4").says_not("7,1");
        look("apiary = 'Moor End'", 2).says("2 rows of apiary have the name Moor End").says("Moor End (3)");
        look("apiary = 'Whin Bnk'", 2).says("did you mean Whin Bank (1)?");
        look("apairy = 'Whin Bank'", 3).says("apairy");
        s.run(&["draft", "stand", "--where", "apiary = 'Ann''s -- Garth'", "--set", "note=moved"])
            .expect(0)
            .says("-- apiary_id 4 is the apiary Ann's -- Garth\nUPDATE stand")
            .says("WHERE apiary_id = 4");
    });
}

#[test]
fn what_rows_have_in_common_becomes_a_filter() {
    each(|stage| {
        stage.run(
            "CREATE TABLE frame (frame_id integer PRIMARY KEY, place varchar(30), day date, kilos numeric(6,2), queen varchar(9), odd varchar(9));
             INSERT INTO frame VALUES
              (1, 'Moor End', '2026-05-01', 1.5, 'red', NULL), (2, 'Moor Top', '2026-05-02', 2.5, 'red', ''),
              (3, 'Moor End', '2026-05-03', 3.5, NULL, 'it''s'), (4, 'Dale', '2026-05-04', 4.5, 'red', NULL),
              (5, 'Dale', '2026-06-01', 2.0, NULL, 'x%y'), (6, 'Coast', '2026-06-02', 9.5, 'blue', NULL);",
        );
        let s = &stage.scene;
        let of = |keys: &str| {
            let answer = s.run(&["draft", "frame", "--rows-like", keys, "--delete", "--format", "json"]);
            let document = answer.expect(0).json();
            let common = document["common"].as_array().unwrap().clone();
            let found = common
                .iter()
                .map(|c| (c["condition"].as_str().unwrap().to_owned(), c["others"].as_u64().unwrap()));
            (found.collect::<Vec<_>>(), document["text"].as_str().unwrap().to_owned())
        };
        let named = |(found, _): &(Vec<(String, u64)>, String), wanted: &str| {
            found.iter().any(|(condition, _)| condition.contains(wanted))
        };
        let moor = of("1,2,3");
        assert!(named(&moor, "place LIKE 'Moor %'") && moor.0[0].1 == 0, "{moor:?}");
        let red = of("1,2,4");
        assert_eq!(red.0[0], ("queen = 'red'".to_owned(), 0), "{red:?}");
        let missing = of("3,5");
        assert_eq!(missing.0[0], ("queen IS NULL".to_owned(), 0), "{missing:?}");
        let both = of("1,4");
        assert!(both.0[0].1 == 0 && named(&both, "queen = 'red' AND odd IS NULL"), "{both:?}");
        // What matches others too is told, and the file is written by the keys.
        let none = of("2,6");
        assert!(none.0.iter().all(|(_, others)| *others > 0), "{none:?}");
        assert!(none.1.contains("frame_id IN (2, 6)"), "{}", none.1);
        // Whatever is offered holds for these rows, and for as many others as it says.
        for (keys, rows) in [("1,2,3", 3), ("1,4", 2), ("2,6", 2), ("5", 1), ("1,2,3,4,5,6", 6)] {
            for (condition, others) in of(keys).0 {
                let sql = format!("DELETE FROM frame WHERE {condition}");
                let told = s.run(&["preview", "--quick", "--sql", &sql, "--format", "json", "--rows", "1+"]);
                let matched = told.json()["steps"][0]["matched"].as_u64().unwrap();
                assert_eq!(matched, rows + others, "{:?}: {condition}", stage.on);
            }
        }
        // The text is a change that does what is said.
        s.write("like.sql", &moor.1);
        s.run(&["apply", "like.sql", "--yes", "--rows", "3"]).expect(0);
        s.run(&["draft", "frame", "--rows-like", "1,4"]).expect(3).says("no row of frame has the key 1");
    });
}

#[test]
fn rows_without_a_key_are_set_by_the_engines_own_number() {
    each(|stage| {
        stage.run("CREATE TABLE scrap (title varchar(20), n integer); INSERT INTO scrap VALUES ('a', 1), ('a', 1), ('b', 2);");
        let before = stage.dump();
        let s = &stage.scene;
        if stage.on == On::Sqlite {
            s.run(&["set", "scrap", "2", "n=7", "--yes"]).expect(2).says("write rowid=2");
            s.run(&["set", "scrap", "rowid=two", "n=7", "--yes"]).expect(2).says("a whole number");
            s.run(&["set", "scrap", "rowid=9", "n=7", "--yes"])
                .expect(3)
                .says("no row of scrap has the key rowid=9");
            s.run(&["set", "scrap", "rowid=2", "n=7", "--yes"]).expect(0).says("nobody declared it");
            assert!(stage.value("SELECT n FROM scrap WHERE rowid = 2").contains('7'));
            s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        } else {
            s.run(&["set", "scrap", "2", "n=7", "--yes"]).expect(2).says("no key of one column");
            s.run(&["set", "scrap", "title=a", "n=7", "--yes"])
                .expect(2)
                .says("2 rows of scrap have this title");
        }
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn a_form_sets_what_differs_and_asks_what_it_has_shown() {
    each(|stage| {
        stage.run(
            "CREATE TABLE kinds (id integer PRIMARY KEY, word varchar(30), fixed char(6), day date, moment timestamp NULL, sum numeric(8,2), part double precision, big bigint);
             INSERT INTO kinds VALUES (1, 'it''s', 'ab', '2026-05-10', '2026-05-10 12:30:00', 12.50, 0.1, 9007199254740993), (2, NULL, NULL, NULL, NULL, NULL, NULL, NULL);",
        );
        let before = stage.dump();
        let s = &stage.scene;
        let mut edits = "sed -i".to_owned();
        for (column, value) in [
            ("word", "other"),
            ("fixed", "cd"),
            ("day", "2026-05-11"),
            ("moment", "2026-05-10 13:00:00"),
            ("sum", "13.75"),
            ("part", "0.25"),
            ("big", "9007199254740995"),
        ] {
            edits.push_str(&format!(" -e 's/^{column} = .*/{column} = {value}/'"));
        }
        for id in ["1", "2"] {
            let mut t = s.terminal_with_editor(&["set", "kinds", id], &format!("{edits} \"$1\""));
            t.wait_for("[y/N]");
            t.write("y\n");
            let (status, seen) = t.end();
            assert_eq!(status, Some(0), "{:?} {id}: {seen}", stage.on);
            assert!(seen.contains("so it is") && seen.contains("the row is so"), "{seen}");
        }
        let same = "SELECT count(*) FROM kinds a JOIN kinds b ON a.word = b.word AND a.fixed = b.fixed AND a.day = b.day AND a.moment = b.moment AND a.sum = b.sum AND a.part = b.part AND a.big = b.big";
        assert!(stage.value(same).contains('4'), "{:?}", stage.on);
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        // Somebody else was there while the form was open.
        let mut t = s.terminal_with_editor(
            &["set", "kinds", "1"],
            "touch open; while [ ! -e go ]; do sleep 0.1; done; sed -i 's/^word = .*/word = mine/' \"$1\"",
        );
        while !s.path("open").exists() {
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        stage.run("UPDATE kinds SET word = 'theirs' WHERE id = 1");
        s.write("go", "");
        t.wait_for("theirs");
        let (status, seen) = t.end();
        assert!(status == Some(4) && seen.contains("word was"), "{:?} {status:?}: {seen}", stage.on);
        assert!(stage.value("SELECT word FROM kinds WHERE id = 1").contains("theirs"), "{seen}");
    });
}

#[test]
fn days_move_and_numbers_are_added_to_by_the_engine() {
    each(|stage| {
        stage.run(
            "CREATE TABLE visit (id integer PRIMARY KEY, day date, moment timestamp NULL, sum numeric(8,2), day_text varchar(30), moment_text varchar(30), note varchar(30), n integer);
             INSERT INTO visit VALUES (1, '2026-01-31', '2026-05-10 23:30:00', 12.50, '2026-02-27', '2026-05-10 23:30:00', '2026-02-27', 3),
              (2, NULL, NULL, NULL, NULL, NULL, 'soon', NULL);",
        );
        let before = stage.dump();
        let s = &stage.scene;
        let set = |set: &str, status: i32| s.run(&["set", "visit", "1", set, "--yes"]).expect(status);
        for (change, column, value) in [
            ("day+=7d", "day", "2026-02-07"),
            ("day-=2w", "day", "2026-01-17"),
            ("day+=1y", "day", "2027-01-31"),
            ("moment+=45min", "moment", "2026-05-11 00:15:00"),
            ("moment-=1mo", "moment", "2026-04-10 23:30:00"),
            ("sum+=1.25", "sum", "13.75"),
            ("sum-=20", "sum", "-7.5"),
            ("n-=-3", "n", "6"),
            ("day_text+=2d", "day_text", "2026-03-01"),
            ("moment_text+=1h", "moment_text", "2026-05-11 00:30:00"),
        ] {
            set(change, 0);
            let found =
                stage.value(&format!("SELECT count(*) FROM visit WHERE id = 1 AND {column} = '{value}'"));
            let found = if ["sum", "n"].contains(&column) {
                stage.value(&format!("SELECT count(*) FROM visit WHERE id = 1 AND {column} = {value}"))
            } else {
                found
            };
            assert!(found.contains('1'), "{:?}: {change}", stage.on);
            s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
            assert_eq!(stage.dump(), before, "{:?}: {change}", stage.on);
        }
        // The engine's own day; elsewhere it is a text.
        set("day=today", 0);
        let today = stage.by("date('now')", "CURRENT_DATE", "CURRENT_DATE");
        assert!(stage.value(&format!("SELECT count(*) FROM visit WHERE day = {today}")).contains('1'));
        set("day_text=today", 0);
        assert!(
            stage
                .value(
                    "SELECT count(*) FROM visit WHERE day_text LIKE '20__-__-__' AND day_text > '2026-06-01'"
                )
                .contains('1')
        );
        set("moment=now", 0);
        set("note=today", 0).says("note = 'today'");
        set("note+=7d", 2).says("not only days");
        set("day+=3h", 2).says("has no times");
        set("day+=7", 2).says("no span of time");
        set("sum+=7d", 2).says("no number");
        // NULL stays NULL, which is nothing to do.
        s.run(&["set", "visit", "2", "sum+=1", "--yes"]).expect(0).says("stays NULL");
    });
}

#[test]
fn names_that_need_quotes_and_keys_of_several_columns() {
    each(|stage| {
        let q = |name: &str| if stage.on == On::Maria { format!("`{name}`") } else { format!("\"{name}\"") };
        let (order, name, no, day, left) =
            (q("order"), q("full name"), q("Entry No"), q("the day"), q("key holder_id"));
        stage.run(&format!(
            "CREATE TABLE {holder} ({left} integer PRIMARY KEY, name varchar(30));
             CREATE TABLE {order} ({no} integer, season integer, {name} varchar(30), {day} date, {left} integer, PRIMARY KEY ({no}, season), FOREIGN KEY ({left}) REFERENCES {holder} ({left}));
             INSERT INTO {holder} VALUES (1, 'Ann, of the Moor'), (2, 'B''s');
             INSERT INTO {order} VALUES (1, 2025, 'a', '2026-05-01', 1), (1, 2026, NULL, '2026-05-02', 2), (2, 2026, 'b%', NULL, NULL), (3, 2026, 'b%', NULL, 1);",
            holder = q("key holder"),
        ));
        let before = stage.dump();
        let s = &stage.scene;
        let set =
            |key: &str, set: &str, status: i32| s.run(&["set", "order", key, set, "--yes"]).expect(status);
        set("Entry No=1,season=2026", "the day+=1w", 0);
        assert!(
            stage.value(&format!("SELECT count(*) FROM {order} WHERE {day} = '2026-05-09'")).contains('1')
        );
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        set("2,2026", "key holder=Ann, of the Moor", 0).says("is the key holder Ann, of the Moor");
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        let alike =
            s.run(&["draft", "order", "--rows-like", "2,2026;3,2026", "--delete", "--format", "json"]);
        let common = alike.expect(0).json()["common"].clone();
        let conditions: Vec<&str> =
            common.as_array().unwrap().iter().filter_map(|c| c["condition"].as_str()).collect();
        assert!(
            conditions.iter().any(|c| c.ends_with("the day\" IS NULL") || c.ends_with("the day` IS NULL")),
            "{conditions:?}"
        );
        let condition = format!("{} = 'B''s'", q("key holder"));
        s.run(&["look", "order", "--where", &condition, "--columns", "full name, the day", "--csv"])
            .expect(0)
            .says("full name,the day\n,2026-05-02");
        let mut t = s.terminal_with_editor(
            &["set", "order", "1,2025"],
            "sed -i -e 's/^full name = .*/full name = c d/' -e 's/^the day = .*/the day = NULL/' \"$1\"",
        );
        t.wait_for("[y/N]");
        t.write("y\n");
        let (status, seen) = t.end();
        assert_eq!(status, Some(0), "{seen}");
        s.run(&["receipt", "--show", "all"]).expect(0).says("c d");
        s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}
