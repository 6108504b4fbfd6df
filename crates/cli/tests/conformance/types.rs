//! Every built-in type of both servers goes there and comes back, judged by the server's own text of it.

use crate::PROGRAM;
use marktwice_testkit::stage::{On, Stage};

fn stage(on: On) -> Option<Stage> {
    Stage::on(on, PROGRAM)
}

/// A table with one column for each type, its key, and rows of values.
fn table(stage: &Stage, types: &[(&str, &[&str])]) {
    let columns: Vec<String> = types.iter().enumerate().map(|(n, (of, _))| format!("c{n} {of}")).collect();
    stage
        .run(&format!("CREATE TABLE every (id integer PRIMARY KEY, extra integer, {});", columns.join(", ")));
    let most = types.iter().map(|(_, values)| values.len()).max().unwrap();
    for row in 0..most {
        let values: Vec<&str> = types.iter().map(|(_, values)| values[row % values.len()]).collect();
        stage.run(&format!("INSERT INTO every VALUES ({row}, {row}, {});", values.join(", ")));
    }
    stage.run(&format!("INSERT INTO every (id) VALUES ({most});"));
}

/// Rows go away and come back; every cell becomes NULL and comes back; rows swap their contents and come back.
fn there_and_back(stage: &Stage, columns: usize) {
    stage.there_and_back("DELETE FROM every WHERE id >= 0", "all");
    let nulls: Vec<String> = (0..columns).map(|n| format!("c{n} = NULL")).collect();
    stage.there_and_back(&format!("UPDATE every SET {} WHERE extra >= 0", nulls.join(", ")), "1+");
    let others: Vec<String> = (0..columns)
        .map(|n| format!("c{n} = (SELECT o.c{n} FROM every_copy AS o WHERE o.id = every.id + 1)"))
        .collect();
    stage.there_and_back(&format!("UPDATE every SET {} WHERE extra >= 0", others.join(", ")), "1+");
    // The whole row is its own key.
    let key =
        stage.by("", "ALTER TABLE every DROP CONSTRAINT every_pkey;", "ALTER TABLE every DROP PRIMARY KEY;");
    stage.run(key);
    stage.there_and_back("DELETE FROM every WHERE extra >= 0", "1+");
    stage.there_and_back(&format!("UPDATE every SET {} WHERE extra >= 0", nulls.join(", ")), "1+");
}

#[test]
fn postgres_types() {
    let Some(stage) = stage(On::Postgres) else { return };
    stage.run(
        "CREATE TYPE mood AS ENUM ('calm', 'cross', 'it''s'); CREATE DOMAIN weight AS numeric(8,3) CHECK (value >= 0); \
         CREATE DOMAIN heavy AS weight CHECK (value < 1000); CREATE TYPE spot AS (x integer, note text); CREATE EXTENSION IF NOT EXISTS hstore;",
    );
    let types: &[(&str, &[&str])] = &[
        ("smallint", &["-32768", "32767"]),
        ("bigint", &["9223372036854775807", "-9223372036854775808"]),
        ("numeric", &["1.10", "'NaN'", "123456789012345678901234567890.123456789", "'Infinity'", "-0.000"]),
        ("numeric(10,2)", &["1.1", "0"]),
        ("real", &["0.1", "'NaN'", "'-Infinity'", "1e-40", "-0.0"]),
        ("double precision", &["0.30000000000000004", "5e-324", "'Infinity'", "'-0'"]),
        ("money", &["1234.56", "-0.01"]),
        ("text", &["''", "' x '", "E'tab\\t nl\\n \\\\ ''q'' é \\u2028'", "'\\N'", "'\\.'"]),
        ("varchar(12)", &["'a  '", "'NULL'"]),
        ("char(6)", &["'ab'", "'ab  c'"]),
        ("\"char\"", &["'x'"]),
        ("name", &["'keeper'"]),
        ("bytea", &["'\\x00ff5c27'", "''"]),
        ("boolean", &["true", "false"]),
        ("date", &["'2026-05-10'", "'infinity'", "'0044-03-15 BC'", "'12026-01-01'"]),
        ("time(3)", &["'24:00:00'", "'01:02:03.004'"]),
        ("timetz", &["'01:02:03.000004+05:30'"]),
        ("timestamp", &["'2026-10-25 02:30:00.123456'", "'-infinity'"]),
        ("timestamptz", &["'2026-10-25 02:30:00.123456+02'", "'infinity'", "'1883-11-18 12:03:58+00'"]),
        ("interval", &["'1 year 2 mons -3 days 04:05:06.789'", "'-1 mons +1 day'"]),
        ("uuid", &["'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'"]),
        ("json", &["'{\"a\": 1,  \"a\": 2}'", "'null'", "'[1.10, \"\\u00e9\"]'"]),
        ("jsonb", &["'{\"b\": 1.10, \"a\": null}'", "'\"x\"'"]),
        ("jsonpath", &["'$.a[*]'"]),
        ("xml", &["'<a>x</a>'", "'text only'"]),
        ("bit(5)", &["B'10101'"]),
        ("bit varying", &["B''", "B'1'"]),
        ("inet", &["'10.0.0.1/8'", "'::1'"]),
        ("cidr", &["'10.0.0.0/8'"]),
        ("macaddr", &["'08:00:2b:01:02:03'"]),
        ("macaddr8", &["'08:00:2b:01:02:03:04:05'"]),
        ("point", &["'(1.5,-2)'"]),
        ("line", &["'{1,-1,0.1}'"]),
        ("lseg", &["'[(0,0),(1,0.1)]'"]),
        ("box", &["'(1,1),(0,0)'"]),
        ("path", &["'[(0,0),(1,1)]'", "'((0,0),(1,1))'"]),
        ("polygon", &["'((0,0),(1,1),(0,1))'"]),
        ("circle", &["'<(0,0),0.1>'"]),
        ("tsvector", &["'fat:2A cat:1'"]),
        ("tsquery", &["'fat & !rat:*'"]),
        ("int4range", &["'[1,5)'", "'empty'", "'(,)'"]),
        ("numrange", &["'(1.10,2]'"]),
        ("tstzrange", &["'[2026-01-01 00:00+01,)'"]),
        ("int4multirange", &["'{[1,3),[5,7)}'"]),
        ("integer[]", &["'{1,NULL,3}'", "'{}'", "'[2:3]={1,2}'", "'{{1,2},{3,4}}'"]),
        ("text[]", &["ARRAY['a,b', 'NULL', NULL, '\"q\"', '\\', '']"]),
        ("mood", &["'calm'", "'it''s'"]),
        ("weight", &["1.5"]),
        ("heavy", &["999.999"]),
        ("spot", &["ROW(1, 'a \"b\", (c)')", "ROW(NULL, NULL)"]),
        ("spot[]", &["ARRAY[ROW(1, 'x,y')::spot, NULL]"]),
        ("oid", &["4294967295"]),
        ("regclass", &["'pg_class'"]),
        ("pg_lsn", &["'16/B374D848'"]),
        ("pg_snapshot", &["'10:20:10,14'"]),
        ("hstore", &["'a=>1, b=>NULL'"]),
    ];
    table(&stage, types);
    stage.run("CREATE TABLE every_copy AS SELECT * FROM every;");
    // The user's own settings must not get into the values.
    stage.run(
        "DO $$ BEGIN EXECUTE format('ALTER DATABASE %I SET DateStyle = ''SQL, DMY''', current_database()); \
         EXECUTE format('ALTER DATABASE %I SET TimeZone = ''Europe/Berlin''', current_database()); \
         EXECUTE format('ALTER DATABASE %I SET IntervalStyle = ''sql_standard''', current_database()); \
         EXECUTE format('ALTER DATABASE %I SET extra_float_digits = 0', current_database()); \
         EXECUTE format('ALTER DATABASE %I SET bytea_output = ''escape''', current_database()); END $$;",
    );
    there_and_back(&stage, types.len());
}

#[test]
fn maria_types() {
    let Some(stage) = stage(On::Maria) else { return };
    let types: &[(&str, &[&str])] = &[
        ("tinyint", &["-128", "127"]),
        ("bigint unsigned", &["18446744073709551615", "0"]),
        ("bigint", &["-9223372036854775808"]),
        ("int(6) zerofill", &["42"]),
        ("float", &["0.1", "3.4028235e38", "1e-40", "-0.0"]),
        ("float(7,3)", &["1.1"]),
        ("double", &["0.30000000000000004", "5e-324"]),
        ("decimal(40,15)", &["1234567890123456789012345.123456789012345", "-0.1"]),
        ("decimal(5,0)", &["7"]),
        ("bit(1)", &["b'1'"]),
        ("bit(64)", &["b'1000000000000000000000000000000000000000000000000000000000000001'"]),
        ("bool", &["true"]),
        ("date", &["'2026-05-10'", "'0000-00-00'", "'2026-02-00'"]),
        ("time", &["'-838:59:59'", "'12:00:00'"]),
        ("time(6)", &["'838:59:59.999999'", "'-00:00:00.000001'"]),
        ("datetime(3)", &["'2026-10-25 02:30:00.123'", "'0000-00-00 00:00:00'", "'9999-12-31 23:59:59.999'"]),
        ("datetime", &["'1000-01-01 00:00:00'"]),
        ("timestamp(6) NULL", &["'2026-10-25 01:30:00.123456'", "'1970-01-01 00:00:01'", "'0000-00-00'"]),
        ("year", &["2026", "0"]),
        ("char(6)", &["'ab'", "'a  b'"]),
        ("varchar(20) CHARACTER SET latin1", &["'Müller'", "'a '"]),
        ("varchar(20) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin", &["'🐝'", "''"]),
        ("varchar(2000)", &["'NULL'", "' x '", "'tab\\t nl\\n \\\\ q''q'"]),
        ("text CHARACTER SET utf16", &["'é'"]),
        ("longtext", &["'x'"]),
        ("binary(4)", &["X'00ff'", "X'5c27'"]),
        ("varbinary(20)", &["X'00ff00'", "X''", "'plain'"]),
        ("blob", &["X'fffe00'", "''"]),
        ("longblob", &["X'80'"]),
        ("enum('calm','cross','it''s')", &["'calm'", "'it''s'"]),
        ("set('a','b','c')", &["'a,c'", "''"]),
        ("json", &["'{\"a\":  1.10, \"a\": 2}'"]),
        ("point", &["ST_GeomFromText('POINT(1.5 -2)')"]),
        ("geometry", &["ST_GeomFromText('POLYGON((0 0,1 0,1 1,0 0))', 4326)"]),
        ("uuid", &["'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'"]),
        ("inet6", &["'::1'"]),
        ("inet4", &["'10.0.0.1'"]),
    ];
    // Zero dates come in under a mode that lets them.
    stage.run("SET GLOBAL sql_mode = 'ALLOW_INVALID_DATES';");
    table(&stage, types);
    stage.run("CREATE TABLE every_copy AS SELECT * FROM every;");
    there_and_back(&stage, types.len());
    stage.run("SET GLOBAL sql_mode = DEFAULT;");
}

#[test]
fn columns_that_the_server_fills() {
    if let Some(stage) = stage(On::Postgres) {
        stage.run(
            "CREATE TABLE jar (id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, tag integer GENERATED BY DEFAULT AS IDENTITY, \
             grams numeric(8,2) DEFAULT 450, net numeric GENERATED ALWAYS AS (grams * 2 - coalesce(off, 0)) STORED, off integer, label text DEFAULT 'plain', made timestamptz DEFAULT now()); \
             INSERT INTO jar (off) VALUES (1), (2), (3);",
        );
        let seen = stage
            .scene
            .run(&[
                "preview",
                "--sql",
                "UPDATE jar SET grams = 10.005, off = NULL, label = DEFAULT WHERE id = 1",
            ])
            .expect(0);
        assert!(seen.out.contains("899.00 → 20.02"), "{}", seen.out);
        stage.there_and_back(
            "UPDATE jar SET grams = DEFAULT, off = off + 1, label = upper(label) WHERE id > 1",
            "2",
        );
        stage.there_and_back("UPDATE jar SET made = DEFAULT, tag = 77 WHERE id = 1", "1");
        stage.there_and_back("DELETE FROM jar WHERE id IN (1, 3)", "2");
    }
    if let Some(stage) = stage(On::Maria) {
        stage.run(
            "CREATE TABLE jar (id integer AUTO_INCREMENT PRIMARY KEY, grams decimal(8,2) DEFAULT 450, off integer, \
             net decimal(10,2) AS (grams * 2 - ifnull(off, 0)) STORED, twice decimal(10,2) AS (net * 2) VIRTUAL, label varchar(20) DEFAULT 'plain', \
             made timestamp DEFAULT CURRENT_TIMESTAMP, seen timestamp(3) NULL DEFAULT '2020-01-01' ON UPDATE CURRENT_TIMESTAMP(3));\n\
             INSERT INTO jar (off) VALUES (1), (2), (3);\nINSERT INTO jar (id) VALUES (0);\nUPDATE jar SET id = 0, seen = seen WHERE id = 4;",
        );
        let seen = stage
            .scene
            .run(&[
                "preview",
                "--sql",
                "UPDATE jar SET grams = 10.006, off = NULL, label = DEFAULT WHERE id = 1",
            ])
            .expect(0);
        assert!(seen.out.contains("only the run can tell"), "{}", seen.out);
        stage.there_and_back(
            "UPDATE jar SET grams = DEFAULT, off = off + 1, label = upper(label) WHERE id > 1",
            "2",
        );
        stage.there_and_back("UPDATE jar SET made = '2001-01-01', off = 5 WHERE id = 0", "1");
        stage.there_and_back("DELETE FROM jar WHERE id IN (0, 3)", "2");
        // From left to right: an assignment reads what one before it has set.
        stage.run("CREATE TABLE sums (id int PRIMARY KEY, qty int, total decimal(8,2), note varchar(9));\nINSERT INTO sums VALUES (1, 3, 0, 'a'), (2, 5, 0, 'b');");
        let seen = stage
            .scene
            .run(&[
                "preview",
                "--sql",
                "UPDATE sums SET qty = qty + 1, total = qty * 2, note = concat(note, total) WHERE id = 1",
            ])
            .expect(0);
        assert!(seen.out.contains("0.00 → 8.00") && seen.out.contains("a → a8.00"), "{}", seen.out);
        stage.there_and_back(
            "UPDATE sums SET qty = qty + 1, total = qty * 2, note = concat(note, total) WHERE id > 0",
            "all",
        );
    }
}

#[test]
fn a_statement_that_reads_its_own_target() {
    Stage::each(PROGRAM, |stage| {
        stage.run("CREATE TABLE jar (id integer PRIMARY KEY, a varchar(9), b varchar(9));\nINSERT INTO jar VALUES (1, 'x ', 'p'), (2, 'y ', 'q');");
        if stage.is_mysql() {
            return;
        }
        // Who goes from left to right does so here or does not: then nobody foretells it.
        let sql = "UPDATE jar SET a = trim(a), b = upper(a) WHERE id <= (SELECT max(o.id) FROM jar AS o)";
        let preview = stage.scene.run(&["preview", "--sql", sql]).expect(0);
        assert_eq!(preview.out.contains("only the run can tell"), stage.on == On::Maria, "{}", preview.out);
        stage.there_and_back(sql, "2");
        stage.there_and_back(
            "UPDATE jar SET b = (SELECT max(o.a) FROM jar AS o WHERE o.id >= jar.id) WHERE id > 0",
            "2",
        );
        stage.there_and_back("DELETE FROM jar WHERE id = (SELECT max(o.id) FROM jar AS o)", "1");
    });
}

#[test]
fn partitions_and_other_schemas() {
    if let Some(stage) = stage(On::Postgres) {
        stage.run(
            "CREATE TABLE visit (id integer, year integer, note text, PRIMARY KEY (id, year)) PARTITION BY LIST (year); \
             CREATE TABLE visit_25 PARTITION OF visit FOR VALUES IN (2025); CREATE TABLE visit_26 PARTITION OF visit FOR VALUES IN (2026); \
             INSERT INTO visit VALUES (1, 2025, 'a'), (2, 2025, 'b'), (3, 2026, 'c'); \
             CREATE SCHEMA \"Old Stock\"; CREATE TABLE \"Old Stock\".jar (id integer PRIMARY KEY, n integer); INSERT INTO \"Old Stock\".jar VALUES (1, 1); \
             CREATE TABLE loose (year integer, note text) PARTITION BY LIST (year); CREATE TABLE loose_25 PARTITION OF loose FOR VALUES IN (2025); \
             CREATE TABLE loose_26 PARTITION OF loose FOR VALUES IN (2026); INSERT INTO loose VALUES (2025, 'a'), (2025, 'a'), (2026, 'b');",
        );
        stage.there_and_back("UPDATE visit SET note = 'x' WHERE id > 1", "2");
        stage.there_and_back("UPDATE visit SET year = 2026 WHERE id = 1", "1");
        stage.there_and_back("DELETE FROM visit WHERE year = 2025", "2");
        stage.there_and_back("UPDATE \"Old Stock\".jar SET n = 2 WHERE id = 1", "1");
        stage.there_and_back("UPDATE loose SET year = 2026 WHERE note = 'a'", "2");
        stage.there_and_back("DELETE FROM loose WHERE note = 'a'", "2");
        stage.apply("UPDATE visit SET year = 1999 WHERE id = 1", "1", 1);
    }
    if let Some(stage) = stage(On::Maria) {
        stage.run(
            "CREATE TABLE visit (id integer, year integer, note varchar(10), PRIMARY KEY (id, year)) PARTITION BY LIST (year) (PARTITION a VALUES IN (2025), PARTITION b VALUES IN (2026));\n\
             INSERT INTO visit VALUES (1, 2025, 'a'), (2, 2025, 'b'), (3, 2026, 'c');",
        );
        stage.there_and_back("UPDATE visit SET note = 'x' WHERE id > 1", "2");
        stage.there_and_back("UPDATE visit SET year = 2026 WHERE id = 1", "1");
        stage.there_and_back("UPDATE visit PARTITION (a) SET note = 'only here' WHERE id > 0", "2");
        stage.there_and_back("DELETE FROM visit WHERE year = 2025", "2");
    }
}

#[test]
fn identity_is_of_bytes() {
    Stage::servers(PROGRAM, |stage| {
        stage.run(stage.by(
            "",
            "CREATE COLLATION nocase (provider = icu, locale = 'und-u-ks-level2', deterministic = false); CREATE TABLE tag (code text COLLATE nocase PRIMARY KEY, note text COLLATE nocase); INSERT INTO tag VALUES ('A', 'x'), ('b', 'Y');",
            "CREATE TABLE tag (code varchar(5) COLLATE utf8mb4_general_ci PRIMARY KEY, note varchar(5) COLLATE utf8mb4_general_ci);\nINSERT INTO tag VALUES ('A', 'x'), ('b', 'Y');",
        ));
        stage.there_and_back("UPDATE tag SET note = 'X' WHERE code = 'a'", "1");
        stage.there_and_back("UPDATE tag SET code = 'a' WHERE note = 'X'", "1");
        stage.apply("UPDATE tag SET note = 'z' WHERE code = 'B'", "1", 0);
        stage.run("UPDATE tag SET note = 'Z' WHERE code = 'b';");
        stage.undo(&[], 5);
    });
}
