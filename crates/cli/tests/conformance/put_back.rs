//! What an undo puts back is what was there: values that settings bear on, keys of odd types, very wide rows, many rows
//! without a key.

use crate::{each, only};
use marktwice_testkit::stage::On;

#[test]
fn settings_do_not_bear_on_values() {
    each(|stage| {
        if stage.on != On::Postgres {
            return;
        }
        stage.run(
            "CREATE SCHEMA apart; CREATE TABLE apart.keeper (x int); CREATE TYPE mood AS ENUM ('calm', 'angry');
             CREATE TABLE odd (id int PRIMARY KEY, tags text[], rel regclass, fn regprocedure, m mood, at timestamptz, n int);
             INSERT INTO odd VALUES (1, '{x,NULL,\"NULL\"}', 'public.keeper', 'abs(int)', 'calm', '2026-05-10 10:00+00', 1),
             (2, NULL, 'apart.keeper', NULL, 'angry', '2026-05-10 10:00+00', 1);",
        );
        let name = stage.url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
        let before = stage.dump();
        for (apply, undo) in [
            ("SET array_nulls = off", "SET array_nulls = off"),
            ("SET search_path = public", "SET search_path = apart, public"),
            ("SET search_path = apart, public", "RESET search_path"),
            ("SET DateStyle = 'SQL, DMY'", "SET TimeZone = 'Asia/Kolkata'"),
            ("SET IntervalStyle = 'sql_standard'", "SET bytea_output = 'escape'"),
        ] {
            for sql in [
                "DELETE FROM public.odd WHERE id < 9",
                "UPDATE public.odd SET tags = '{a}', rel = NULL, fn = NULL, m = NULL, at = NULL, n = n + 1 WHERE id < 9",
            ] {
                stage.run(&format!("ALTER DATABASE {name} RESET ALL; ALTER DATABASE {name} {apply};"));
                stage.apply(sql, "2", 0);
                stage.run(&format!("ALTER DATABASE {name} RESET ALL; ALTER DATABASE {name} {undo};"));
                stage.undo(&[], 0);
                stage.run(&format!("ALTER DATABASE {name} RESET ALL;"));
                assert_eq!(stage.dump(), before, "{apply}; {undo}; {sql}");
            }
        }
    });
}

#[test]
fn texts_that_cannot_be_kept() {
    each(|stage| {
        if stage.on != On::Sqlite {
            return;
        }
        std::fs::remove_file(stage.scene.path("coop.db")).unwrap();
        stage.run("PRAGMA encoding = 'UTF-16le'; CREATE TABLE note (id INTEGER PRIMARY KEY, text TEXT); INSERT INTO note VALUES (1, CAST(X'00D86100' AS TEXT)), (2, 'honey € 😀'), (3, 'a' || char(0) || 'b');");
        let before = stage.dump();
        stage.apply("DELETE FROM note WHERE id = 1", "1", 1).says("UTF-16");
        stage.apply("UPDATE note SET text = 'x' WHERE id < 3", "2", 1).says("UTF-16");
        assert_eq!(stage.dump(), before);
        stage.there_and_back("UPDATE note SET text = 'x' WHERE id > 1", "2");
        stage.there_and_back("DELETE FROM note WHERE id > 1", "2");
    });
}

#[test]
fn keys_of_bits_and_other_odd_types() {
    each(|stage| {
        if stage.on == On::Sqlite {
            return;
        }
        let types = stage.by(
            "",
            "bit(5):B'00101':B'11111'|varbit:B'1':B'0'|citext:'Ling':'Heather'|numeric:1.10:2.5|inet:'10.0.0.1':'10.0.0.2'",
            "bit(8):b'101':b'11111111'|bit(64):b'1':18446744073709551615|year:2026:2027|decimal(20,5):1.1:2.2|binary(3):'a':'b'|time(3):'10:00:00.5':'-11:00:00'|enum('b','a'):'a':'b'",
        );
        if stage.on == On::Postgres {
            stage
                .run("CREATE SCHEMA ext; CREATE EXTENSION citext SCHEMA ext; SET search_path = public, ext;");
        }
        for (n, line) in types.split('|').enumerate() {
            let mut parts = line.rsplitn(3, [':']).collect::<Vec<_>>();
            if line.starts_with("time") {
                parts = vec!["'-11:00:00'", "'10:00:00.5'", "time(3)"];
            }
            let (two, one, mut of) = (parts[0], parts[1], parts[2].to_owned());
            if of == "citext" {
                of = "ext.citext".to_owned();
            }
            stage.run(&format!("CREATE TABLE k{n} (k {of} PRIMARY KEY, note varchar(9));\nINSERT INTO k{n} VALUES ({one}, 'a'), ({two}, 'b');"));
            stage.there_and_back(&format!("UPDATE k{n} SET note = 'x' WHERE note IN ('a', 'b')"), "2");
            stage.there_and_back(&format!("DELETE FROM k{n} WHERE note = 'b'"), "1");
        }
    });
}

#[test]
fn very_wide_rows() {
    each(|stage| {
        let widest = match stage.on {
            On::Sqlite => 1900,
            On::Postgres => 1500,
            On::Maria => 980,
        };
        let columns: Vec<String> = (0..widest).map(|n| format!("c{n} smallint")).collect();
        let values = vec!["7"; widest].join(", ");
        stage.run(&format!("CREATE TABLE wide (id integer PRIMARY KEY, {});", columns.join(", ")));
        stage.run(&format!("INSERT INTO wide VALUES (1, {values}), (2, {values});"));
        stage.there_and_back("UPDATE wide SET c0 = 1, c700 = c700 + 1 WHERE id = 1", "1");
        stage.there_and_back("DELETE FROM wide WHERE id = 2", "1");
        // What an undo could not hold is refused before anything runs.
        let all: Vec<String> = (0..widest).map(|n| format!("c{n} = 8")).collect();
        let sql = format!("UPDATE wide SET {} WHERE id = 1", all.join(", "));
        stage.apply(&sql, "1", 3).says("too wide");
        // Half of them can be held twice.
        let half: Vec<String> = (0..widest / 2).map(|n| format!("x{n} smallint")).collect();
        let sets: Vec<String> = (0..widest / 2).map(|n| format!("x{n} = 8")).collect();
        stage.run(&format!("CREATE TABLE half (id integer PRIMARY KEY, {});", half.join(", ")));
        stage.run(&format!("INSERT INTO half VALUES (1, {});", vec!["7"; widest / 2].join(", ")));
        stage.there_and_back(&format!("UPDATE half SET {} WHERE id = 1", sets.join(", ")), "1");
    });
}

#[test]
fn many_rows_without_a_key() {
    each(|stage| {
        stage.run("CREATE TABLE sheet (who varchar(20), kilos integer);");
        let mut rows: Vec<String> = (0..1500).map(|n| format!("('k{n}', {})", n % 7)).collect();
        rows.extend((0..40).map(|_| "('twin', 1)".to_owned()));
        stage.run(&format!("INSERT INTO sheet VALUES {};", rows.join(", ")));
        stage.there_and_back("UPDATE sheet SET kilos = kilos + 100 WHERE kilos < 5", "1112");
        stage.there_and_back("DELETE FROM sheet WHERE kilos >= 1", "1325");
        stage.there_and_back("UPDATE sheet SET kilos = 9, who = 'same' WHERE kilos = 1", "255");
    });
}

/// Of columns that an undo does not write only a sum is held; what one of them was is told all the same when it is another then.
#[test]
fn a_column_that_an_undo_changes_by_the_way() {
    only(On::Postgres, |stage| {
        // Nothing in its text says which column it sets, and it sets one only on the way back.
        stage.run(
            "CREATE TABLE jar (id int PRIMARY KEY, price int, label text, shelf text, note text, pack text);
             INSERT INTO jar SELECT n, 10 * n, 'lime ' || n, 'top', 'sold', 'box' FROM generate_series(1, 40) n;
             CREATE FUNCTION turn() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
               IF NEW.price < OLD.price AND OLD.id > 5 THEN
                 NEW := jsonb_populate_record(NEW, jsonb_build_object('sh' || 'elf', 'low'));
               END IF;
               RETURN NEW; END $$;
             CREATE TRIGGER turn BEFORE UPDATE ON jar FOR EACH ROW EXECUTE FUNCTION turn();",
        );
        let (allowed, sql) = ("undeclared-write", "UPDATE jar SET price = price + 1 WHERE shelf = 'top'");
        // The undo that is tried before the commit has told it.
        stage.apply_allowing(sql, "40", allowed, 4).says("35 rows");
        let run =
            ["apply", "--sql", sql, "--rows", "40", "--yes", "--allow", allowed, "--allow", "no-way-back"];
        stage.scene.run(&run).expect(0).says("cannot be undone");
        let between = stage.dump();
        let undo = stage.undo(&["--allow", allowed], 4);
        undo.says("jar 6  shelf became low, foreseen was top").says("and 15 rows more");
        assert_eq!(stage.dump(), between);
        let only = ["--only", "1", "--only", "5", "--rows", "2", "--allow", allowed];
        stage.scene.run(&[&["undo", "@last", "--yes"][..], &only].concat()).expect(0);
        assert_eq!(stage.value("SELECT sum(price) FROM jar WHERE id IN (1, 5)"), "60");
    });
}

/// The number of a row of a table without a key is used again, and the row comes back under another; its undo takes it away again,
/// and leaves the one that has the number.
#[test]
fn a_row_number_that_was_used_again() {
    only(On::Sqlite, |stage| {
        stage.run("CREATE TABLE log (what text, n int); INSERT INTO log VALUES ('a', 1), ('b', 2), ('c', 3), ('d', 4);");
        stage.apply("DELETE FROM log WHERE n >= 3", "2", 0);
        // The first number that is free is that of the row that went first.
        stage.run("INSERT INTO log VALUES ('new', 9);");
        let there = stage.dump();
        let back = stage.undo(&[], 0);
        assert!(back.out.contains("1 row comes back under a new rowid"), "{}", back.out);
        assert_eq!(stage.value("SELECT group_concat(what) FROM log WHERE rowid <> 3 AND n > 2"), "'d,c'");
        assert_eq!(stage.value("SELECT what FROM log WHERE rowid = 3"), "'new'");
        let history = stage.scene.run(&["history", "--format", "json"]).json();
        let undo = history["runs"][0]["receipt"]["run"].as_str().unwrap().to_owned();
        stage.scene.run(&["undo", &undo, "--yes", "--rows", "0+"]).expect(0);
        assert_eq!(stage.dump(), there);
    });
}
