//! Spreadsheets that a change reads as tables.

use crate::each;

const TABLES: &str = "CREATE TABLE batch (batch_id integer PRIMARY KEY, flower varchar(20), price decimal(8,2), made date, note varchar(40));
     INSERT INTO batch VALUES (1, 'lime', 9.90, '2026-05-01', 'a'), (2, 'heather', 12.50, '2026-05-02', NULL), (3, 'clover', 7, NULL, 'c');";

#[test]
fn an_offices_sheet_is_joined() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(TABLES);
        let before = stage.dump();
        s.write(
            "prices.csv",
            "\u{feff}Batch;price;made;note\r\n1;\"1.010,95\";03.05.2026;\"two\nlines; it's\"\r\n2;12,5;;=1+1\r\n77;1,0;01.01.2026;\r\n",
        );
        let file = format!(
            "/* marktwice\ntitle = \"Prices from the office\"\nrows = 2\n[sheet.prices]\nfile = \"prices.csv\"\n*/\n{}\n",
            stage.by(
                "UPDATE batch SET price = prices.price, made = prices.made, note = prices.note FROM prices WHERE prices.\"Batch\" = batch.batch_id;",
                "UPDATE batch SET price = prices.price, made = prices.made, note = prices.note FROM prices WHERE prices.\"Batch\" = batch.batch_id;",
                "UPDATE batch JOIN prices ON prices.Batch = batch.batch_id SET batch.price = prices.price, batch.made = prices.made, batch.note = prices.note;",
            )
        );
        s.write("prices.sql", file);
        let preview = s.run(&["preview", "prices.sql"]).expect(0);
        let preview = preview
            .says("3 lines of")
            .says("decimal commas")
            .says("Batch as integer, price as decimal, made as date");
        preview.says("1 of the 3 rows of prices finds no row of batch").says("line 5").says("1010.95");
        s.run(&["rehearse", "prices.sql"]).expect(0).says("It would be committed");
        s.run(&["apply", "prices.sql", "--yes"]).expect(0).says("2 rows");
        let there = "SELECT count(*) FROM batch WHERE (batch_id = 1 AND price = 1010.95 AND made = '2026-05-03') OR (batch_id = 2 AND made IS NULL AND note = '=1+1')";
        assert!(stage.value(there).contains('2'), "{:?}", stage.on);
        s.run(&["receipt"]).expect(0).says("prices.csv");
        // The same sheet again is the same change; another one is another.
        let again = s.run(&["apply", "prices.sql", "--yes"]);
        assert!(again.status == Some(0) || again.status == Some(3), "{:?}", again.out);
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        let mark = s.run(&["preview", "prices.sql", "--format", "json"]).expect(0).json();
        let mark = mark["mark"].as_str().unwrap().to_owned();
        s.run(&["apply", "--mark", &mark, "--yes"]).expect(0);
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        s.write("prices.csv", "Batch;price;made;note\n1;9,00;;\n2;8,00;;\n");
        s.run(&["apply", "--mark", &mark, "--yes"]).expect(2).says("or with another sheet");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}

#[test]
fn what_does_not_fit_is_told_by_its_cell() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(TABLES);
        let before = stage.dump();
        let sql = stage.by(
            "UPDATE batch SET price = p.price, made = p.made FROM p WHERE p.id = batch.batch_id",
            "UPDATE batch SET price = p.price, made = p.made FROM p WHERE p.id = batch.batch_id",
            "UPDATE batch JOIN p ON p.id = batch.batch_id SET batch.price = p.price, batch.made = p.made",
        );
        for (csv, says) in [
            ("id,price,made\n1,dear,2026-05-01\n", "line 2, price: \"dear\" is no decimal"),
            ("id,price,made\n1,1.5E+05,2026-05-01\n", "a spreadsheet has rounded it"),
            ("id,price,made\n1,2,2026-02-30\n", "line 2, made: \"2026-02-30\" is no day"),
            ("id,price,made\n1,2,2026-05-01\nx,2,2026-05-01\n", "line 3, id: \"x\" is no whole number"),
            ("id,price,made\n1,2\n", "line 2: 2 cells"),
            ("id,price,made\n1,\"2,2026-05-01\n2,3,2026-05-01\n", "the quote of a cell is not closed"),
            ("id,price,id\n1,2,3\n", "two columns are called id"),
            ("id,price,made\n1,2,05/06/2026\n", "read in two ways"),
        ] {
            s.write("p.csv", csv);
            s.run(&["preview", "--sql", sql, "--sheet", "p=p.csv"]).expect(2).says(says);
            assert_eq!(
                s.run(&["apply", "--sql", sql, "--sheet", "p=p.csv", "--rows", "1", "--yes"]).status,
                Some(2)
            );
        }
        s.write("p.csv", "id,price,made\n1,2.5,2026-05-01\n");
        s.run(&["preview", "--sql", sql, "--sheet", "batch=p.csv"])
            .expect(3)
            .says("there is a table batch already");
        s.run(&["preview", "--sql", sql, "--sheet", "p=none.csv"]).expect(2).says("cannot be read");
        s.run(&["preview", "--sql", sql, "--sheet", "p=p.csv"]).expect(0).says("2.5");
        let two = stage.by(
            "UPDATE batch SET price = p.price, note = p.price FROM p WHERE p.id = batch.batch_id",
            "UPDATE batch SET price = p.price, note = p.price FROM p WHERE p.id = batch.batch_id",
            "UPDATE batch JOIN p ON p.id = batch.batch_id SET batch.price = p.price, batch.note = p.price",
        );
        s.run(&["preview", "--sql", two, "--sheet", "p=p.csv"])
            .expect(2)
            .says("is used as decimal (line 1) and as text");
        // Rows of a sheet come in; computing makes numbers of cells.
        s.write("p.csv", "id,flower,factor\n10,ling,1.5\n11,bell,0.10\n");
        stage.there_and_back_with(
            "INSERT INTO batch (batch_id, flower, price) SELECT p.id, p.flower, 10 * p.factor FROM p",
            &["--sheet", "p=p.csv"],
            "2",
        );
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}

#[test]
fn a_table_is_written_out_edited_and_taken_back() {
    each(|stage| {
        let s = &stage.scene;
        stage.run(TABLES);
        stage.run("UPDATE batch SET note = '007' WHERE batch_id = 3");
        let before = stage.dump();
        let out = s.run(&["look", "batch", "--csv", "--null", "\\N", "--row-marks"]).expect(0).out;
        let edited = |changes: &[(&str, &str)]| {
            let mut text = out.clone();
            for (was, now) in changes {
                assert!(text.contains(was), "{was} in {text}");
                text = text.replace(was, now);
            }
            s.write("edited.csv", text);
        };
        let draft = |more: &[&str]| {
            let args: Vec<&str> = ["draft", "batch", "--from", "edited.csv", "--null", "\\N"].to_vec();
            s.run(&[&args, more].concat())
        };
        edited(&[]);
        draft(&[]).expect(2).says("says what batch holds");
        edited(&[(",007,", ",7,")]);
        draft(&[]).expect(2).says("line 4, note").says("another way of writing");
        edited(&[("9.9", "9.9E+05")]);
        draft(&[]).expect(2).says("line 2, price");
        edited(&[("2,heather", "22,heather")]);
        draft(&["--new-lines", "insert"]).expect(2).says("its key now (22)");
        edited(&[("2,heather", "1,heather")]);
        draft(&[]).expect(2).says("another line has the same key");
        // Another row's cell is edited, one becomes NULL, one is none any more; a line is taken out, and one is new.
        let gone = out.lines().nth(3).unwrap().to_owned();
        let new = "9,\"it's, new\",1.50,\\N,\\N,";
        edited(&[("lime", "lime tree"), ("2026-05-02,\\N", "\\N,fresh"), (&gone, new)]);
        draft(&[]).expect(2).says("no row of batch has").says("--new-lines insert");
        draft(&["--new-lines", "insert", "--to", "edited.sql"]).expect(0);
        let text = std::fs::read_to_string(s.path("edited.sql")).unwrap();
        assert!(text.contains("1 row of batch has no line there"), "{text}");
        s.run(&["preview", "edited.sql"]).expect(0).says("3 steps").says("lime tree").says_not("in all");
        s.run(&["apply", "edited.sql", "--yes"]).expect(0);
        let there = "SELECT count(*) FROM batch WHERE (batch_id = 1 AND flower = 'lime tree' AND note = 'a') OR (batch_id = 2 AND made IS NULL AND note = 'fresh') OR (batch_id = 9 AND flower = 'it''s, new' AND note IS NULL) OR (batch_id = 3 AND note = '007')";
        assert!(stage.value(there).contains('4'), "{:?}", stage.on);
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        // At once, without a file between: only what was edited, and nothing that is new.
        let set = ["set", "batch", "--from", "edited.csv", "--null", "\\N", "--yes"];
        s.run(&set).expect(2).says("no row of batch has");
        edited(&[("lime", "lime tree"), ("2026-05-02,\\N", "\\N,fresh")]);
        s.run(&set).expect(0).says("2 steps committed");
        let both = "SELECT count(*) FROM batch WHERE flower = 'lime tree' OR note = 'fresh'";
        assert!(stage.value(both).contains('2'), "{:?}", stage.on);
        s.run(&set).expect(2).says("2 rows of batch have changed since");
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        edited(&[("lime", "lime tree"), ("2026-05-02,\\N", "\\N,fresh"), (&gone, new)]);
        s.run(&["apply", "edited.sql", "--yes"]).expect(0);
        // The rows have moved since the sheet was written out.
        draft(&["--new-lines", "insert"]).expect(2).says("2 rows of batch have changed since");
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}

#[test]
fn a_hostile_sheet_does_what_it_says_and_no_more() {
    each(|stage| {
        let s = &stage.scene;
        let text = stage.by("text", "text", "longtext");
        stage.run(&format!(
            "CREATE TABLE note (id integer PRIMARY KEY, a {text}, b {text}); INSERT INTO note VALUES (1, 'a', 'b'), (2, NULL, 'x');"
        ));
        let before = stage.dump();
        let sql = stage.by(
            "UPDATE note SET a = p.c7, b = p.c49 FROM p WHERE p.id = note.id",
            "UPDATE note SET a = p.c7, b = p.c49 FROM p WHERE p.id = note.id",
            "UPDATE note JOIN p ON p.id = note.id SET note.a = p.c7, note.b = p.c49",
        );
        let head: Vec<String> = (1..50).map(|n| format!("c{n}")).collect();
        let line = |id: &str, seventh: &str, last: &str| {
            let cell = |n: usize| match n {
                7 => seventh.to_owned(),
                49 => last.to_owned(),
                _ => format!("=HYPERLINK({n})"),
            };
            format!("{id},{}\n", (1..50).map(cell).collect::<Vec<_>>().join(","))
        };
        let huge = format!("\"{}\"", "honey, and \"\"more\"\"\n".repeat(60_000));
        let whole = format!(
            "id,{}\n{}{}",
            head.join(","),
            line("1", &huge, "'; DROP TABLE note; --"),
            line("2", "=1+1", "\\")
        );
        s.write("p.csv", &whole);
        let args = ["--sql", sql, "--sheet", "p=p.csv"];
        let shown = s.run(&[&["preview"], &args[..]].concat()).expect(0).says("2 of 2 rows match");
        assert!(shown.out.len() < 20_000, "{} bytes", shown.out.len());
        s.run(&[&["apply", "--rows", "2", "--yes"], &args[..]].concat()).expect(0);
        let there = "SELECT count(*) FROM note WHERE (id = 1 AND length(a) = 1080000 AND b = '''; DROP TABLE note; --') OR (id = 2 AND a = '=1+1')";
        assert!(stage.value(there).contains('2'), "{:?} {}", stage.on, stage.value(there));
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        let unread = ["preview", "--sql", "DELETE FROM note WHERE id = 1", "--sheet", "offprint=p.csv"];
        s.run(&unread).expect(0).says("no step reads it");
        // Neither another encoding nor a line too many is taken for anything.
        for (bytes, says) in [
            (b"id,c7,c49\n1,Sch\xf6n,x\n".to_vec(), "UTF-8"),
            (b"\xff\xfei\0d\0\n\0".to_vec(), "UTF-8"),
            (b"id,c7,c49\n1,a,b,c\n".to_vec(), "4 cells"),
            (b"".to_vec(), "first line"),
        ] {
            s.write("p.csv", bytes);
            s.run(&[&["apply", "--rows", "2", "--yes"], &args[..]].concat()).expect(2).says(says);
            assert_eq!(stage.dump(), before, "{:?}", stage.on);
        }
    });
}
