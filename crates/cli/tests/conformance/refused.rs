//! What is refused before anything runs, with its place and what to do.

use crate::each;
use marktwice_testkit::stage::{On, Stage};

#[test]
fn forms_that_are_not_taken() {
    each(|stage| {
        stage.run("CREATE VIEW moor AS SELECT DISTINCT name, keeper_id FROM keeper WHERE region = 'Moor';");
        let before = stage.dump();
        let all = [
            ("UPDATE moor SET name = 'x' WHERE keeper_id = 2", "view"),
            ("UPDATE keepr SET name = 'x'", "keeper"),
            ("UPDATE keeper SET nmae = 'x' WHERE keeper_id = 1", "did you mean name?"),
            ("UPDATE keeper SET name = 'x' WHERE regoin = 'Moor'", "did you mean region?"),
            ("INSERT INTO keeper SELECT * FROM keeper", "no-column-list"),
            ("TRUNCATE keeper", "not-a-change"),
            ("DROP TABLE keeper", "not-a-change"),
            ("SELECT 1; DELETE FROM keeper", "several-statements"),
            ("UPDATE keeper SET name = 'x' WHERE keeper_id = 1; COMMIT", "several-statements"),
            ("UPDATE keeper SET name = 'x'", "no-filter"),
            ("DELETE FROM keeper WHERE 1 = 1", "always-true"),
            ("DELETE FROM keeper WHERE keeper_id = 77", "nothing-matched"),
        ];
        for (sql, said) in all {
            let answer = stage.scene.run(&["preview", "--sql", sql]);
            assert_eq!(answer.status, Some(3), "{:?} {sql}\n{}\n{}", stage.on, answer.out, answer.err);
            answer.says(said);
        }
        let broken = [
            ("UPDATE keeper SET name = 'x' WHER keeper_id = 1", "WHERE"),
            ("UPDATE keeper SET name = WHERE keeper_id = 1", "line 1"),
            ("UPDATE keeper SET name = 'x", "close"),
            ("DELETE FROM keeper WHERE (keeper_id = 1", ""),
        ];
        for (sql, said) in broken {
            let answer = stage.scene.run(&["preview", "--sql", sql]);
            assert!(
                matches!(answer.status, Some(1 | 3)),
                "{:?} {sql}\n{}\n{}",
                stage.on,
                answer.out,
                answer.err
            );
            assert!(
                answer.err.contains('^') || answer.err.contains('~'),
                "{:?} {sql} is underlined\n{}",
                stage.on,
                answer.err
            );
            answer.says(said);
        }
        assert_eq!(stage.dump(), before);
    });
}

fn refuses(stage: &Stage, all: &[(&str, &str)]) {
    for (sql, said) in all {
        let answer = stage.scene.run(&["preview", "--sql", sql]);
        assert_eq!(answer.status, Some(3), "{:?} {sql}\n{}\n{}", stage.on, answer.out, answer.err);
        answer.says(said);
    }
}

#[test]
fn postgres_own_hazards() {
    each(|stage| {
        if stage.on != On::Postgres {
            return;
        }
        stage.run(
            "CREATE TABLE ruled (a int PRIMARY KEY); CREATE RULE r AS ON DELETE TO ruled DO INSTEAD NOTHING; \
             CREATE TABLE parent (a int PRIMARY KEY, b int); CREATE TABLE child () INHERITS (parent); \
             INSERT INTO parent VALUES (1, 1); INSERT INTO child VALUES (1, 1); \
             CREATE MATERIALIZED VIEW seen AS SELECT * FROM keeper; \
             CREATE EXTENSION IF NOT EXISTS file_fdw; CREATE SERVER f FOREIGN DATA WRAPPER file_fdw; \
             CREATE FOREIGN TABLE far (a int) SERVER f OPTIONS (filename '/dev/null');",
        );
        refuses(
            stage,
            &[
                ("DELETE FROM ruled WHERE a = 1", "rules"),
                ("UPDATE parent SET b = 2 WHERE a = 1", "ONLY"),
                ("DELETE FROM seen WHERE keeper_id = 1", "view"),
                ("DELETE FROM far WHERE a = 1", "foreign table"),
                ("DELETE FROM pg_class WHERE relname = 'keeper'", "not a table of yours"),
                (
                    "UPDATE keeper SET name = x.note FROM hive x WHERE x.keeper_id = keeper.keeper_id",
                    "many-sources",
                ),
                ("DELETE FROM keeper USING hive WHERE true", "always-true"),
                (
                    "WITH gone AS (DELETE FROM hive RETURNING *) UPDATE keeper SET name = 'x' WHERE keeper_id IN (SELECT keeper_id FROM gone)",
                    "WITH",
                ),
                (
                    "UPDATE keeper SET name = 'x' WHERE keeper_id = 1 RETURNING setval('keeper_seq', 1)",
                    "RETURNING",
                ),
                ("UPDATE keeper SET name = $1 WHERE keeper_id = 1", "parameter"),
                ("UPDATE keeper SET name = \"x\" WHERE keeper_id = 1", "write 'x'"),
            ],
        );
        stage.there_and_back("UPDATE ONLY parent SET b = 2 WHERE a = 1", "1");
        assert_eq!(stage.value("SELECT b FROM ONLY child"), "1");
        stage.there_and_back("WITH far AS (SELECT 3 AS k) UPDATE keeper AS k SET name = 'x' WHERE keeper_id IN (SELECT k FROM far)", "1");
    });
}

#[test]
fn marias_own_hazards() {
    each(|stage| {
        if stage.on != On::Maria || stage.is_mysql() {
            return;
        }
        stage.run(
            "CREATE TABLE loose (a int PRIMARY KEY) ENGINE=MyISAM;\nCREATE TABLE aria (a int PRIMARY KEY) ENGINE=Aria;\n\
             CREATE TABLE past (a int PRIMARY KEY, b int) WITH SYSTEM VERSIONING;\n\
             CREATE TABLE fires (a int PRIMARY KEY, b int);\nCREATE TRIGGER t AFTER UPDATE ON fires FOR EACH ROW INSERT INTO loose VALUES (new.b);\n\
             INSERT INTO past VALUES (1, 1);\nINSERT INTO fires VALUES (1, 1);",
        );
        refuses(
            stage,
            &[
                ("DELETE FROM loose WHERE a = 1", "outside of transactions"),
                ("UPDATE aria SET a = 2 WHERE a = 1", "outside of transactions"),
                ("UPDATE past SET b = 2 WHERE a = 1", "history"),
                ("UPDATE fires SET b = 2 WHERE a = 1", "loose"),
                ("UPDATE keeper SET name = 'x' /*!50000 WHERE keeper_id = 1 */", "comment"),
                ("UPDATE keeper SET name = 'x' /*M! WHERE keeper_id = 1 */", "comment"),
                ("UPDATE IGNORE keeper SET name = 'x' WHERE keeper_id = 1", "IGNORE"),
                ("UPDATE keeper SET name = 'x' WHERE region = 'Moor' LIMIT 1", "unstable-limit"),
                (
                    "UPDATE keeper k JOIN hive h ON h.keeper_id = k.keeper_id SET k.name = 'x', h.note = 'y'",
                    "several-tables",
                ),
                ("UPDATE keeper JOIN hive SET keeper.name = 'x'", "no-filter"),
                ("DELETE k, h FROM keeper k JOIN hive h ON h.keeper_id = k.keeper_id", "several-tables"),
                ("UPDATE keeper SET name = @who WHERE keeper_id = 1", "parameter"),
            ],
        );
        stage.there_and_back("UPDATE LOW_PRIORITY `keeper` k SET k.name = concat(name, ' /*! x */', \"y\"), region = 'a\\'b' # end\n WHERE k.keeper_id = 1", "1");
    });
}
