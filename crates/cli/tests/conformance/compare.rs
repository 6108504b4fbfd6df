//! Two ways of writing a change, compared; and a file that is edited between two previews.

use crate::each;

#[test]
fn two_statements() {
    each(|stage| {
        let s = &stage.scene;
        let before = stage.dump();
        let compare =
            |one: &str, two: &str| s.run(&["compare", "--sql", one, "--sql", two, "--format", "json"]);
        // The same rows by another filter, the same value by another expression.
        let same = compare(
            "UPDATE hive SET kilos = kilos + 1 WHERE keeper_id = 3",
            "UPDATE hive SET kilos = kilos + 2 - 1 WHERE hive_id IN (12, 13)",
        );
        assert_eq!((same.status, &same.json()["same"]), (Some(0), &true.into()));
        let other = compare(
            "UPDATE hive SET note = 'a' WHERE hive_id IN (10, 11)",
            "UPDATE hive SET note = CASE hive_id WHEN 11 THEN 'a' ELSE 'b' END WHERE hive_id > 10",
        );
        assert_eq!(other.status, Some(4));
        let step = other.json()["steps"][0].clone();
        assert_eq!((&step["only"], &step["otherwise"]), (&serde_json::json!([1, 2]), &0.into()), "{step:#}");
        let keys: Vec<i64> =
            step["rows"].as_array().unwrap().iter().filter_map(|r| r["key"][0].as_i64()).collect();
        assert_eq!(keys, [10, 12, 13]);
        let otherwise = compare(
            "UPDATE hive SET note = 'a' WHERE hive_id < 12",
            "UPDATE hive SET note = CASE hive_id WHEN 11 THEN 'a' ELSE 'b' END WHERE hive_id < 12",
        );
        let row = otherwise.json()["steps"][0]["rows"][0].clone();
        assert_eq!(
            (&row["key"][0], &row["first"]["after"]["note"], &row["second"]["after"]["note"]),
            (&10.into(), &"a".into(), &"b".into())
        );
        // What only the run can tell is not compared, and that is said.
        let dice = stage.by("random()", "random()", "rand()");
        let dice = format!("UPDATE hive SET kilos = {dice}, note = 'x' WHERE hive_id = 10");
        let left_out = compare(&dice, "UPDATE hive SET kilos = 1, note = 'x' WHERE hive_id = 10");
        assert_eq!(left_out.status, Some(4));
        assert_eq!(compare(&dice, &dice).status, Some(0));
        assert_eq!(left_out.json()["steps"][0]["not_compared"][0]["column"], "kilos");
        // A step that rests on another is the same where all before it is.
        let two = "UPDATE hive SET note = 'z' WHERE hive_id = 10; DELETE FROM hive WHERE note = 'z'";
        let steps = compare(two, two);
        assert_eq!((steps.status, &steps.json()["steps"][1]["same_statement"]), (Some(0), &true.into()));
        let other = two.replace("hive_id = 10", "hive_id = 11");
        assert_eq!(compare(two, &other).status, Some(4));
        s.run(&["compare", "--sql", "DELETE FROM hive WHERE hive_id = 10", "--sql", &dice])
            .expect(2)
            .says("DELETE hive in the one and UPDATE hive in the other");
        s.run(&["compare", "--sql", &dice, "--sql", "UPDATE hive SET nose = 1"])
            .expect(3)
            .says("there is no column nose");
        s.run(&["compare", "--sql", &dice]).expect(2).says("name two changes");
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn what_an_edit_has_gained_or_lost() {
    each(|stage| {
        let s = &stage.scene;
        let file =
            "/* marktwice\ntitle = \"x\"\n*/\nUPDATE keeper SET region = 'Fell' WHERE keeper_id IN (1, 2, 3)";
        s.write("change.sql", file);
        s.run(&["compare", "change.sql"]).expect(2).says("no earlier preview");
        s.run(&["preview", "change.sql"]).expect(0).says_not("since");
        // The same again says nothing.
        s.run(&["preview", "change.sql"]).expect(0).says_not("since");
        s.run(&["compare", "change.sql"]).expect(0).says("the same rows");
        s.write("change.sql", file.replace("(1, 2, 3)", "(1, 3)"));
        s.run(&["preview", "change.sql"]).expect(0).says("1 row fewer (keeper 2)");
        s.write("change.sql", file.replace("(1, 2, 3)", "(1, 3, 4)").replace("Fell", "Dale"));
        let step = s.run(&["compare", "change.sql", "--format", "json"]);
        assert_eq!(step.status, Some(4));
        let since = step.step()["since"].clone();
        assert_eq!((&since["joined"], &since["left"], &since["result"]), (&1.into(), &0.into(), &2.into()));
        // Another column is another matter: only the rows are compared.
        s.write("change.sql", "UPDATE keeper SET name = 'Fell' WHERE keeper_id IN (1, 3, 4)");
        s.run(&["preview", "change.sql"])
            .expect(0)
            .says("the same rows; what becomes of them is not compared");
        // Somebody else's edit of the rows is seen as well.
        stage.run("UPDATE keeper SET name = 'Ida' WHERE keeper_id = 1;");
        s.run(&["preview", "change.sql"]).expect(0).says("1 row with other contents (keeper 1)");
    });
}
