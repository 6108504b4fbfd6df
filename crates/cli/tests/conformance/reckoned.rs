//! Large tables are reckoned, not counted, for what is only shown; where it matters how many rows there are, they are counted.

use crate::each;

#[test]
fn a_large_table_is_counted_only_where_that_matters() {
    each(|stage| {
        let s = &stage.scene;
        stage.run("CREATE TABLE visit (visit_id integer PRIMARY KEY, hive_id integer, note varchar(20));");
        let numbers = "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 30000) SELECT i, i % 100, 'calm' FROM n";
        let rows = stage.by(numbers, numbers, "SELECT seq, seq % 100, 'calm' FROM seq_1_to_30000");
        match stage.is_mysql() {
            true => stage
                .run(&format!("SET SESSION cte_max_recursion_depth = 30000; INSERT INTO visit {numbers};")),
            false => stage.run(&format!("INSERT INTO visit {rows};")),
        }
        stage.run(stage.by("ANALYZE;", "ANALYZE visit;", "ANALYZE TABLE visit;"));
        let before = stage.dump();
        let one = "UPDATE visit SET note = 'eggs' WHERE visit_id = 12 AND hive_id = 12 AND note = 'calm'";
        // The funnel begins with the same number, and says what it is.
        let funnel = s.run(&["preview", "--sql", one, "--rows", "2"]).expect(4);
        let funnel = funnel.says("1 of about ").says("1 row matches, 2 expected");
        let every = funnel.out.lines().find(|line| line.trim_start().starts_with("every row")).unwrap();
        assert!(every.contains("about "), "{every}");
        let json = s.run(&["preview", "--sql", one, "--format", "json"]).expect(0).json();
        let step = &json["steps"][0];
        assert_eq!(step["total_is_reckoned"], true);
        let rows = step["total"].as_u64().unwrap();
        assert!((15_000..60_000).contains(&rows), "{:?}: {rows}", stage.on);
        s.run(&["apply", "--sql", one, "--rows", "1", "--yes"]).expect(0);
        // An estimate proves nothing about the other rows.
        let receipt = s.run(&["receipt"]).expect(0);
        assert!(!receipt.out.contains("the other"), "{}", receipt.out);
        stage.undo(&[], 0);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        // All rows on purpose: without a filter they are those that match, and with one they are counted.
        let all = "UPDATE visit SET hive_id = hive_id WHERE note <> 'x'";
        s.run(&["preview", "--sql", all, "--rows", "all"]).expect(0).says("30 000 of 30 000 rows match");
        let most = "UPDATE visit SET hive_id = 1 WHERE visit_id > 1";
        s.run(&["preview", "--sql", most, "--rows", "all"]).expect(4).says("all 30 000 expected");
        let bare = "UPDATE visit SET note = 'seen'";
        let bare = s.run(&["preview", "--sql", bare, "--rows", "all", "--allow", "no-filter"]).expect(0);
        bare.says("30 000 of 30 000 rows match");
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
    });
}
