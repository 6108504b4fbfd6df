//! What is offered to be pasted does what it says: each filter matches the promised number of rows, each statement is taken
//! and matches the rows that were told.

use marktwice_testkit::stage::{On, Stage};
use serde_json::Value as Json;

use crate::each;

const MORE: &str = "
CREATE TABLE jar (jar_id integer PRIMARY KEY, sort varchar(20), size integer, price decimal(8,2), label varchar(20));
INSERT INTO jar VALUES (1, 'heather', 250, 4.5, NULL), (2, 'Heather', 250, 4.5, 'a'), (3, ' heather', 500, 8, 'b'),
 (4, 'lime', 250, NULL, 'b'), (5, 'lime', 500, 8, NULL), (6, NULL, 250, 4, 'c'), (7, 'ling', 250, 4.5, 'x''y'), (8, NULL, NULL, NULL, NULL);
CREATE TABLE sheet (jar_id integer, price decimal(8,2), gone integer);
INSERT INTO sheet VALUES (1, 5, 0), (4, 6, 0), (5, 9, 1), (99, 1, 0);
CREATE TABLE lid (lid_id integer PRIMARY KEY, jar_id integer REFERENCES jar (jar_id));
INSERT INTO lid VALUES (10, 1), (11, 1), (12, 4), (13, 6);
CREATE VIEW heather AS SELECT jar_id AS id, sort, size, price * 2 AS pair FROM jar WHERE size = 250 OR sort = 'heather';
";

/// Where its own statements stand in a preview's document.
fn step(preview: &Json) -> &Json {
    &preview["steps"][0]
}

/// How many filters and statements were tried.
#[derive(Default)]
struct Tried(usize, usize);

/// A filter matches so many rows, as the engine's own count says.
fn fits(stage: &Stage, table: &str, filter: &str, rows: u64, tried: &mut Tried) {
    let found = stage.value(&format!("SELECT count(*) FROM {table} {filter}"));
    let found: String = found.chars().filter(char::is_ascii_digit).collect();
    assert_eq!(found, rows.to_string(), "{:?} {filter}", stage.on);
    tried.0 += 1;
}

/// All filters that a preview offers for an expected count.
fn filters(stage: &Stage, table: &str, sql: &str, rows: &str, tried: &mut Tried) {
    let preview = stage.scene.run(&["preview", "--sql", sql, "--rows", rows, "--format", "json"]).json();
    let step = step(&preview);
    let matched = step["matched"].as_u64().unwrap_or_else(|| panic!("{:?} {sql}: {preview:#}", stage.on));
    let changes = step["changes"].as_u64().unwrap();
    if let Some(filter) = step["leave_out"].as_str() {
        fits(stage, table, filter, changes, tried);
    }
    let closer = &step["closer_look"];
    for kind in closer["kinds"].as_array().into_iter().flatten() {
        fits(stage, table, kind["filter"].as_str().unwrap(), matched - kind["rows"].as_u64().unwrap(), tried);
    }
    if let Some(filter) = closer["unbroken"]["filter"].as_str() {
        fits(stage, table, filter, closer["unbroken"]["rows"].as_u64().unwrap(), tried);
    }
    for pin in closer["pins"].as_array().into_iter().flatten() {
        fits(stage, table, pin["filter"].as_str().unwrap(), matched, tried);
    }
    for finding in step["findings"].as_array().into_iter().flatten() {
        statement(stage, finding, tried);
    }
}

/// A statement that is offered is taken, and matches what was told.
fn statement(stage: &Stage, said: &Json, tried: &mut Tried) -> bool {
    let Some(paste) = said["paste"].as_str() else { return false };
    let rows: Vec<Option<u64>> = said["paste_rows"].as_array().unwrap().iter().map(Json::as_u64).collect();
    let preview = stage.scene.run(&["preview", "--sql", paste, "--format", "json"]).json();
    assert_eq!(
        preview["steps"].as_array().map(Vec::len),
        Some(rows.len()),
        "{:?} {paste}: {preview:#}",
        stage.on
    );
    for (step, rows) in preview["steps"].as_array().unwrap().iter().zip(rows) {
        assert_eq!(
            step["matched"].as_u64().filter(|_| step["told"] != false),
            rows,
            "{:?} {paste}",
            stage.on
        );
    }
    tried.1 += 1;
    true
}

#[test]
fn filters_match_the_promised_rows() {
    each(|stage| {
        stage.run(MORE);
        let mut tried = Tried::default();
        for (filter, rows) in [
            ("sort = 'heather'", "5"),
            ("sort = 'heather' OR size = 500", "2"),
            ("sort = 'heather' OR sort IS NULL -- all of them\n", "1"),
            ("size = 250", "3"),
            ("size = 250", "4"),
            ("price > 1", "3"),
            ("price > 1 AND label <> 'a'", "1"),
            ("sort LIKE '%eath%'", "2"),
            ("sort IN ('lime', 'ling')", "1"),
            ("label = 'x''y'", "2"),
            ("jar_id BETWEEN 1 AND 8", "6"),
            ("jar_id BETWEEN 1 AND 8", "7"),
            ("label IS NULL OR label = 'b'", "2"),
            ("coalesce(label, 'b') = 'b'", "3"),
        ] {
            for set in
                ["sort = 'lime'", "label = NULL", "size = 250, label = 'b'", "price = 4.5", "label = 'b'"]
            {
                let sql = format!("UPDATE jar SET {set} WHERE {filter}");
                filters(stage, "jar", &sql, rows, &mut tried);
            }
            filters(stage, "jar", &format!("DELETE FROM jar WHERE {filter}"), rows, &mut tried);
        }
        // A statement without a filter gets one of its own.
        let all = stage.scene.run(&[
            "preview",
            "--sql",
            "UPDATE jar SET label = 'b'",
            "--rows",
            "6",
            "--format",
            "json",
        ]);
        let all = all.json();
        let filter = step(&all)["leave_out"].as_str().unwrap().to_owned();
        assert!(filter.starts_with("WHERE "), "{filter}");
        fits(stage, "jar", &filter, 6, &mut tried);
        assert!(tried.0 > 15, "{:?}: {} filters", stage.on, tried.0);
    });
}

#[test]
fn statements_are_taken_and_match_what_was_told() {
    each(|stage| {
        stage.run(MORE);
        let mut tried = Tried::default();
        let mut offers = |sql: &str, offered: Option<bool>| {
            let refusal = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]).json();
            let was = statement(stage, &refusal, &mut tried);
            if let Some(offered) = offered {
                assert_eq!(was, offered, "{:?} {sql}: {refusal:#}", stage.on);
            }
        };
        // The view's own condition holds for all of the user's; what it computes stands for no column.
        let written = if stage.on == On::Sqlite { Some(true) } else { None };
        offers("UPDATE heather SET sort = 'x' WHERE id = 1 OR id = 5", written);
        offers("DELETE FROM heather WHERE id > 3", written);
        offers("DELETE FROM heather", written);
        offers("DELETE FROM heather WHERE pair > 3", Some(false));
        offers("DELETE FROM heather WHERE id IN (SELECT jar_id FROM sheet)", Some(false));
        offers("BEGIN; UPDATE jar SET size = 1 WHERE jar_id = 1; SELECT * FROM jar; COMMIT", Some(true));
        offers("TRUNCATE TABLE sheet", None);
        if stage.on == On::Postgres {
            let refusal = stage.scene.run(&["preview", "--sql", "TRUNCATE keeper, hive"]);
            refusal.expect(3).says("DELETE FROM hive;\n    DELETE FROM keeper;");
        }
        // A join in another dialect's form.
        offers(
            stage.by(
                "UPDATE jar j JOIN sheet s ON s.jar_id = j.jar_id SET j.price = s.price, label = 'x' WHERE s.gone = 0 OR s.gone = 1",
                "UPDATE jar j INNER JOIN sheet ON sheet.jar_id = j.jar_id SET j.price = sheet.price WHERE gone = 0",
                "UPDATE jar AS j SET price = s.price, label = 'x' FROM sheet AS s WHERE s.jar_id = j.jar_id AND s.gone = 0",
            ),
            Some(true),
        );
        offers("UPDATE jar SET size = 1 WHERE jar_id = 1 AND size = 250 OR jar_id = 4", None);
        offers("DELETE FROM sheet WHERE gone = 1 ORDER BY jar_id LIMIT 1", None);
        offers("UPDATE jar SET size = 1 AND label = 'x' WHERE jar_id = 2", None);
        offers(
            "MERGE INTO jar USING sheet ON jar.jar_id = sheet.jar_id WHEN MATCHED AND sheet.gone = 1 THEN DELETE \
             WHEN MATCHED THEN UPDATE SET price = sheet.price",
            None,
        );
        offers("UPDATE OR IGNORE jar SET size = 1 WHERE jar_id = 1", None);
        offers("UPDATE IGNORE jar SET size = 1 WHERE jar_id = 1", None);
        offers("UPDATE OR IGNORE heather SET sort = 'x' WHERE id = 1", None);
        offers("DELETE FROM jar WHERE jar_id = 1 RETURNING abs(size)", None);
        offers("DELETE jar, sheet FROM jar JOIN sheet ON jar.jar_id = sheet.jar_id", None);
        offers("UPDATE jar JOIN sheet ON jar.jar_id = sheet.jar_id SET jar.price = 1, sheet.gone = 1", None);
        let on_maria = (stage.on == On::Maria).then_some(true);
        let both = "DELETE jar, lid FROM jar JOIN lid ON lid.jar_id = jar.jar_id WHERE jar.jar_id < 6";
        offers(both, on_maria);
        // The second step would look for what the first has written.
        offers(
            "UPDATE jar JOIN lid ON lid.jar_id = jar.jar_id SET jar.size = 1, lid.jar_id = 2 WHERE jar.size = 250",
            on_maria.map(|_| false),
        );
        offers("UPDATE jar SET label = sort || '!' WHERE jar_id < 3 AND sort || 'x' <> 'y'", None);
        offers("UPDATE jar SET label = sort || '!' || size WHERE jar_id < 3", on_maria);
        offers(
            "WITH w AS (DELETE FROM sheet WHERE gone = 1 RETURNING *) UPDATE jar SET size = 1 WHERE jar_id = 1",
            None,
        );
        assert!(tried.1 >= 3, "{:?}: {} statements", stage.on, tried.1);
        if stage.on == On::Maria {
            // The steps do what the one statement does.
            let refusal = stage.scene.run(&["preview", "--sql", both, "--format", "json"]).json();
            let before = stage.dump();
            let paste = refusal["paste"].as_str().unwrap();
            let block = "/* marktwice step\nrows = \"1+\"\n*/\nDELETE";
            stage.scene.write("both.sql", format!("/* marktwice\n*/\n{}", paste.replace("DELETE", block)));
            stage.scene.run(&["apply", "both.sql"]).expect(6);
            let mark = stage.scene.run(&["apply", "both.sql", "--yes"]);
            mark.expect(0);
            let steps = stage.dump();
            stage.undo(&[], 0);
            assert_eq!(stage.dump(), before);
            stage.run("SET foreign_key_checks = 0; DELETE jar, lid FROM jar JOIN lid ON lid.jar_id = jar.jar_id WHERE jar.jar_id < 6");
            assert_eq!(stage.dump(), steps);
        }
    });
}

#[test]
fn slips_of_other_dialects_are_named() {
    each(|stage| {
        let all: &[(&str, &str)] = match stage.on {
            On::Sqlite => &[
                ("UPDATE keeper SET region = now()", "datetime('now')"),
                ("UPDATE hive SET kilos = 1 WHERE note ILIKE 'x'", "there is no ILIKE here"),
                ("UPDATE hive SET kilos = '1'::int WHERE hive_id = 1", "CAST(x AS type)"),
                ("UPDATE hive SET order = 1 WHERE hive_id = 1", "it stands in quotes: \"order\""),
                ("UPDATE hive SET note = note + INTERVAL 1 DAY", "datetime(x, '+1 day')"),
            ],
            On::Postgres => &[
                ("UPDATE keeper SET region = ifnull(region, 'x')", "here it is coalesce"),
                ("UPDATE `keeper` SET region = 'x'", "names stand in double quotes here"),
                ("UPDATE keeper SET user = 1 WHERE keeper_id = 1", "it stands in quotes: \"user\""),
                ("UPDATE keeper SET region = now() + INTERVAL 1 DAY", "INTERVAL '1 day'"),
            ],
            On::Maria => &[
                ("UPDATE keeper SET region = string_agg(region, ',')", "here it is group_concat"),
                ("UPDATE \"keeper\" SET region = 'x'", "names stand in backticks here"),
                ("UPDATE keeper SET order = 1 WHERE keeper_id = 1", "it stands in quotes: `order`"),
                ("UPDATE keeper SET region = now() + INTERVAL '1 day'", "INTERVAL 1 DAY"),
                ("UPDATE keeper SET region = '1'::int", "CAST(x AS type)"),
            ],
        };
        for (sql, said) in all {
            stage.scene.run(&["preview", "--sql", sql]).expect(3).says(said);
        }
    });
}

/// What is offered for an INSERT that says something of rows that are there leaves the same rows; where it would not, nothing is offered,
/// and it is said why.
#[test]
fn steps_for_rows_that_are_there() {
    each(|stage| {
        stage.run(
            "CREATE TABLE jar (jar_id integer PRIMARY KEY, n integer, v varchar(9), mark varchar(9) UNIQUE);
             INSERT INTO jar VALUES (1, 1, 'a', 'm1'), (2, 2, 'b', 'm2');",
        );
        let start = stage.dump();
        let reset = "DELETE FROM jar; INSERT INTO jar VALUES (1, 1, 'a', 'm1'), (2, 2, 'b', 'm2');";
        let updates = stage.by(
            "ON CONFLICT (jar_id) DO UPDATE SET",
            "ON CONFLICT (jar_id) DO UPDATE SET",
            "ON DUPLICATE KEY UPDATE",
        );
        let new = stage.by("excluded.v", "excluded.v", "VALUES(v)");
        let passes = stage.by("INSERT OR IGNORE", "INSERT", "INSERT IGNORE");
        let nothing = stage.by("", " ON CONFLICT DO NOTHING", "");
        let all = [
            format!("INSERT INTO jar (jar_id, v) VALUES (1, 'x'), (3, 'y') {updates} v = {new}"),
            format!(
                "INSERT INTO jar (jar_id, n, v) VALUES (1, 5, 'x'), (4, 5, 'y') {updates} n = jar.n + 10, v = {new}"
            ),
            format!("INSERT INTO jar (jar_id, v) VALUES (1, 'x') {updates} jar_id = 30"),
            format!("INSERT INTO jar (jar_id, v) VALUES (1, 'x'), (1, 'y') {updates} v = {new}"),
            format!("{passes} INTO jar (jar_id, mark) VALUES (9, 'm1'), (1, 'm9'), (10, 'm10'){nothing}"),
            format!("{passes} INTO jar (jar_id, v) SELECT jar_id + 1, v FROM jar{nothing}"),
            format!("INSERT INTO jar (jar_id, v, mark) VALUES (1, 'x', 'm2') {updates} v = {new}"),
        ];
        let (mut offered, mut why) = (0, 0);
        for sql in &all {
            let answer = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]).expect(3).json();
            let Some(paste) = answer["paste"].as_str() else {
                assert!(
                    answer["hint"].as_str().is_some_and(|hint| hint.contains("none is offered")),
                    "{:?} {sql}",
                    stage.on
                );
                why += 1;
                continue;
            };
            offered += 1;
            // Where another key is in the way both fail.
            if stage.db().try_run(&format!("{sql};")).is_err() {
                assert!(stage.db().try_run(paste).is_err(), "{:?} {sql}\n{paste}", stage.on);
                stage.run(reset);
                continue;
            }
            let wanted = stage.dump();
            stage.run(reset);
            assert_eq!(stage.dump(), start);
            stage.run(paste);
            assert_eq!(stage.dump(), wanted, "{:?} {sql}\n{paste}", stage.on);
            stage.run(reset);
        }
        assert!(offered >= 2 && why >= 2, "{:?} {offered} {why}", stage.on);
    });
}
