//! A preview leaves nothing behind and runs nothing that nobody knows; a table of the user's that is called like one of
//! ours stays the user's.

use crate::each;
use marktwice_testkit::stage::On;

#[test]
fn nothing_volatile_is_run_by_a_preview() {
    each(|stage| {
        if stage.on != On::Postgres {
            return;
        }
        stage.run(
            "CREATE EXTENSION dblink; CREATE SEQUENCE tally; CREATE VIEW tricky AS SELECT nextval('tally') AS n;
             CREATE FUNCTION loud(h int) RETURNS boolean LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_notify('hives', h::text); RETURN true; END $$;
             CREATE FUNCTION liar(h int) RETURNS int LANGUAGE sql IMMUTABLE AS 'SELECT nextval(''tally'')::int';
             CREATE FUNCTION eq_seq(int, int) RETURNS boolean LANGUAGE sql VOLATILE AS 'SELECT nextval(''tally'') > 0';
             CREATE OPERATOR === (LEFTARG = int, RIGHTARG = int, FUNCTION = eq_seq);
             CREATE FUNCTION vague(h int) RETURNS int LANGUAGE plpgsql AS $$ BEGIN RETURN h; END $$;
             CREATE FUNCTION odd(hive) RETURNS int LANGUAGE sql AS 'SELECT nextval(''tally'')::int';",
        );
        let before = stage.dump();
        for filter in [
            "lo_create(0) > 0",
            "nextval('tally') > 0",
            "loud(hive_id)",
            "liar(hive_id) > 0",
            "hive_id === 10",
            "hive.odd > 0",
            "EXISTS (SELECT 1 FROM tricky)",
            "pg_advisory_lock(7) IS NOT NULL",
            "set_config('work_mem', '1MB', false) <> ''",
            "EXISTS (SELECT 1 FROM query_to_xml('SELECT 1', true, true, '') AS x WHERE x IS NOT NULL)",
            "dblink_exec('', 'SELECT 1') = ''",
        ] {
            let sql = format!("UPDATE hive SET kilos = 1 WHERE {filter}");
            for command in ["preview", "apply"] {
                let mut args = vec![command, "--sql", &sql, "--allow", "volatile-filter"];
                if command == "apply" {
                    args.extend(["--rows", "0+", "--yes"]);
                }
                stage.scene.run(&args).expect(3).says("volatile-filter");
            }
        }
        // What the values call is left to the run, once.
        let sql = "UPDATE hive SET kilos = nextval('tally') WHERE hive_id = 10";
        stage.scene.run(&["preview", "--sql", sql]).expect(0).says("only the run can tell");
        let sql = "UPDATE hive SET kilos = (SELECT liar(1)) WHERE hive_id = 10";
        stage.scene.run(&["preview", "--sql", sql]).says("only the run can tell");
        assert_eq!(stage.value("SELECT is_called FROM tally"), "f");
        assert_eq!(stage.value("SELECT count(*) FROM pg_largeobject_metadata"), "0");
        assert_eq!(stage.dump(), before);
        // Clocks and the session's own numbers are harmless; a function that nobody declared is run when it is asked for.
        stage
            .scene
            .run(&[
                "preview",
                "--sql",
                "UPDATE hive SET kilos = 1 WHERE hive_id = 10 AND clock_timestamp() > '2020-01-01'",
            ])
            .expect(0);
        let sql = "UPDATE hive SET kilos = 1 WHERE vague(hive_id) = 10";
        stage
            .scene
            .run(&["preview", "--sql", sql])
            .expect(3)
            .says("was not run")
            .says("--allow volatile-filter");
        stage
            .scene
            .run(&["preview", "--sql", sql, "--allow", "volatile-filter"])
            .expect(0)
            .says("rolled back");
        stage.apply_allowing(sql, "1", "volatile-filter", 0);
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn tables_that_are_called_like_ours() {
    each(|stage| {
        stage.run("CREATE TABLE marktwice_held (keeper_id integer, n integer, marktwice_b0 integer, marktwice_ordinal integer);\nINSERT INTO marktwice_held VALUES (1, 5, 7, 8), (3, 6, 7, 9);\nCREATE TABLE marktwice_asked (x integer);");
        stage.there_and_back(
            "UPDATE keeper SET region = 'Fell' WHERE keeper_id IN (SELECT keeper_id FROM marktwice_held)",
            "2",
        );
        stage.there_and_back(
            "UPDATE keeper SET region = (SELECT min(n) FROM marktwice_held) WHERE keeper_id = 1",
            "1",
        );
        stage.there_and_back(
            "UPDATE marktwice_held SET n = n + marktwice_b0, marktwice_ordinal = 0 WHERE keeper_id = 3",
            "1",
        );
        stage.there_and_back("DELETE FROM marktwice_held WHERE marktwice_b0 = 7", "2");
    });
}
