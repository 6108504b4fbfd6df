//! What MySQL does in its own way.

use marktwice_testkit::Scene;
use marktwice_testkit::servers::{self, Brand};
use marktwice_testkit::sql::Db;
use marktwice_testkit::stage::Stage;

use crate::{COOP, PROGRAM};

fn mysql(story: impl Fn(&Stage)) {
    if let Some(stage) = Stage::on_mysql(PROGRAM) {
        stage.run(COOP);
        story(&stage);
    }
}

fn refusal(stage: &Stage, sql: &str) -> serde_json::Value {
    stage.scene.run(&["preview", "--format", "json", "--sql", sql]).expect(3).json()
}

/// The server does not give back what came in: its numbers are told by where they stand.
#[test]
fn numbers_that_it_gives() {
    mysql(|stage| {
        stage.run(
            "CREATE TABLE visit (id int PRIMARY KEY AUTO_INCREMENT, note varchar(20) DEFAULT 'it''s \\\\ so', kilos decimal(6,2) DEFAULT 1.50, day date DEFAULT '2026-05-01',
             at datetime DEFAULT CURRENT_TIMESTAMP, sum int DEFAULT (1 + 1), b varbinary(9) DEFAULT 0x6162, flag bit(4) DEFAULT b'101');
             INSERT INTO visit (note) VALUES ('a'), ('b'); DELETE FROM visit WHERE id = 1;",
        );
        stage.there_and_back("INSERT INTO visit (kilos) VALUES (1), (2), (3)", "3");
        // Some numbers are given, in a gap and behind the end.
        stage.there_and_back(
            "INSERT INTO visit (id, note) VALUES (NULL, 'x'), (1, 'y'), (400, 'z'), (NULL, 'w')",
            "4",
        );
        stage.there_and_back("INSERT INTO visit (note) SELECT name FROM keeper ORDER BY keeper_id", "4");
        stage.there_and_back("INSERT INTO visit () VALUES ()", "1");
        let shown = stage
            .scene
            .run(&["preview", "--format", "json", "--sql", "INSERT INTO visit (kilos) VALUES (9)"])
            .expect(0)
            .step();
        let after = &shown["rows"][0]["after"];
        assert_eq!(
            (&after["note"], &after["sum"], &after["day"]),
            (&"it's \\ so".into(), &2.into(), &"2026-05-01".into()),
            "{after}"
        );
        // A key that nothing tells afterwards.
        stage.run("CREATE TABLE tag (id varchar(36) PRIMARY KEY DEFAULT (uuid()), n int);");
        assert_eq!(refusal(stage, "INSERT INTO tag (n) VALUES (1)")["code"], "not-understood");
        stage.there_and_back("INSERT INTO tag (id, n) VALUES ('a', 1)", "1");
    });
}

/// Documents keep types that their text does not say.
#[test]
fn documents_that_a_text_does_not_keep() {
    mysql(|stage| {
        stage.run(
            "CREATE TABLE doc (id int PRIMARY KEY, about json, n int);
             INSERT INTO doc VALUES (1, '{\"a\": [1, 2.5, null, \"x\"]}', 1), (2, JSON_OBJECT('price', 1.10), 2), (3, JSON_OBJECT('day', DATE '2026-01-01'), 3), (4, NULL, 4);",
        );
        stage.there_and_back("DELETE FROM doc WHERE id IN (1, 4)", "2");
        stage.there_and_back("UPDATE doc SET n = n + 1 WHERE id < 9", "4");
        stage.there_and_back("UPDATE doc SET about = '{}' WHERE id = 1", "1");
        for sql in [
            "DELETE FROM doc WHERE id = 2",
            "DELETE FROM doc WHERE id = 3",
            "UPDATE doc SET about = '{}' WHERE id IN (1, 3)",
        ] {
            let rows = if sql.contains("IN") { "2" } else { "1" };
            stage.apply(sql, rows, 3).says("no-way-back").says("come back as other types");
        }
    });
}

/// Definitions as its catalogue writes them: quotes escaped once more, keys over expressions, checks that are not asked.
#[test]
fn its_catalogue() {
    mysql(|stage| {
        stage.run(
            "CREATE TABLE jar (id int PRIMARY KEY, sort varchar(20), label varchar(40) AS (concat(sort, ' o''hara')) STORED, k int,
             UNIQUE ((lower(sort))), CONSTRAINT asked CHECK (sort <> 'o''hara'), CONSTRAINT idle CHECK (k < 5) NOT ENFORCED);
             INSERT INTO jar (id, sort, k) VALUES (1, 'Heather', 1), (2, 'Lime', 9);",
        );
        stage.there_and_back("UPDATE jar SET sort = 'Ling' WHERE id = 1", "1");
        stage.there_and_back("UPDATE jar SET k = 77 WHERE id = 1", "1");
        for (sql, code) in [
            ("UPDATE jar SET sort = 'o''hara' WHERE id = 1", "check-refused"),
            ("UPDATE jar SET sort = 'LIME' WHERE id = 1", "taken-already"),
        ] {
            stage.scene.run(&["preview", "--sql", sql]).expect(3).says(code);
            stage.apply(sql, "1", 1).says("Rolled back");
        }
    });
}

/// What a preview does not run, and hints that change what a statement means.
#[test]
fn what_it_would_run() {
    mysql(|stage| {
        let sql = "DELETE /*+ SET_VAR(foreign_key_checks = 0) */ FROM keeper WHERE keeper_id = 4";
        assert_eq!(refusal(stage, sql)["code"], "not-understood");
        stage.there_and_back("DELETE /*+ NO_INDEX_MERGE(keeper) */ FROM keeper WHERE keeper_id = 4", "1");
        for acts in
            ["wait_for_executed_gtid_set('00000000-0000-0000-0000-000000000000:1', 1)", "get_lock('x', 1)"]
        {
            let said = stage.scene.run(&[
                "preview",
                "--sql",
                &format!("UPDATE keeper SET name = 'x' WHERE {acts} = 1"),
            ]);
            assert_eq!(said.status, Some(3), "{acts}\n{}{}", said.out, said.err);
        }
    });
}

/// A limit of time ends a statement that writes, too.
#[test]
fn a_write_that_takes_too_long() {
    mysql(|stage| {
        stage.run(
            "CREATE TABLE slow (id int PRIMARY KEY, n int); INSERT INTO slow VALUES (1, 1);
            CREATE TRIGGER slowly BEFORE UPDATE ON slow FOR EACH ROW SET NEW.n = NEW.n + 0 * sleep(30);",
        );
        let before = stage.dump();
        let sql = "UPDATE slow SET n = 2 WHERE id = 1";
        let done = stage.scene.run(&[
            "apply",
            "--sql",
            sql,
            "--rows",
            "1",
            "--yes",
            "--allow",
            "unmeasured-write",
            "--time-limit",
            "2",
        ]);
        assert_eq!(done.status, Some(1), "{}{}", done.out, done.err);
        done.says("longer than the limit");
        assert_eq!(stage.dump(), before);
    });
}

/// A group with a single primary is written at that one; one that takes writes everywhere is refused, with the reason.
#[test]
fn a_group_of_servers() {
    if Stage::on_mysql(PROGRAM).is_none() {
        return;
    }
    let port = 20_000 + std::process::id() % 20_000;
    let options = [
        "--report-host=127.0.0.1".to_owned(),
        "--bind-address=127.0.0.1".to_owned(),
        format!("--port={port}"),
    ];
    let Some(server) = servers::start(Brand::Mysql, &options.each_ref().map(String::as_str)) else { return };
    let url = server.database();
    let mut db = Db::open(&url);
    db.run(&format!(
        "INSTALL PLUGIN group_replication SONAME 'group_replication.so'; SET GLOBAL group_replication_group_name = 'aaaaaaaa-bbbb-4ccc-8ddd-eeeeeeeeeeee';
         SET GLOBAL group_replication_local_address = '127.0.0.1:{}'; SET GLOBAL group_replication_bootstrap_group = ON;",
        port + 1
    ));
    db.run("START GROUP_REPLICATION;");
    db.run(COOP);
    let scene = Scene::on(PROGRAM, &url);
    let apply = |note: &str| {
        let sql = format!("UPDATE hive SET note = '{note}' WHERE hive_id = 10");
        scene.run(&["apply", "--sql", &sql, "--rows", "1", "--yes"])
    };
    apply("one").expect(0);
    scene.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
    db.run(
        "STOP GROUP_REPLICATION; SET GLOBAL group_replication_single_primary_mode = OFF;
         SET GLOBAL group_replication_enforce_update_everywhere_checks = ON; START GROUP_REPLICATION;",
    );
    let refused = apply("many");
    assert_eq!(refused.status, Some(1), "{}{}", refused.out, refused.err);
    refused.says("at several members");
    scene.run(&["preview", "--sql", "UPDATE hive SET note = 'x' WHERE hive_id = 10"]).expect(0);
}
