//! Joined statements, row values, ORDER BY and LIMIT: applied and taken back on every engine, and stopped where the join
//! does not say which value is meant.

use marktwice_testkit::stage::On;

use crate::each;

#[test]
fn joins_are_applied_and_taken_back() {
    each(|stage| {
        stage.run(
            "CREATE TABLE sheet (email varchar(60), region varchar(20));\n\
             INSERT INTO sheet VALUES ('ada@x.example', 'Coast'), ('orla@x.example', 'Coast'), ('nobody@x.example', 'Fell');",
        );
        let update = stage.by(
            "UPDATE keeper SET region = s.region FROM sheet s WHERE s.email = keeper.email",
            "UPDATE keeper k SET region = s.region FROM sheet s WHERE s.email = k.email",
            "UPDATE keeper k JOIN sheet s ON s.email = k.email SET k.region = s.region",
        );
        stage.there_and_back(update, "2");
        let delete = stage.by(
            "WITH gone AS (SELECT keeper_id FROM keeper k JOIN sheet s USING (email)) DELETE FROM hive WHERE keeper_id IN (SELECT keeper_id FROM gone)",
            "DELETE FROM hive h USING keeper k JOIN sheet s ON s.email = k.email WHERE k.keeper_id = h.keeper_id",
            "DELETE h.* FROM hive h JOIN keeper k ON k.keeper_id = h.keeper_id JOIN sheet s ON s.email = k.email",
        );
        stage.there_and_back(delete, "4");
        if stage.on == On::Maria {
            stage.there_and_back(
                "UPDATE hive SET note = 'last' WHERE keeper_id = 3 ORDER BY hive_id DESC LIMIT 1",
                "1",
            );
            stage.there_and_back("DELETE FROM hive ORDER BY kilos, hive_id LIMIT 2", "2");
        } else {
            stage.there_and_back("UPDATE keeper SET (name, region) = (SELECT email, 'New' FROM sheet WHERE email = keeper.email) WHERE keeper_id = 1", "1");
        }
    });
}

#[test]
fn several_source_rows_stop_an_update_and_are_shown() {
    each(|stage| {
        let before = stage.dump();
        let update = |value: &str| match stage.on {
            On::Maria => {
                format!("UPDATE keeper k JOIN hive h ON h.keeper_id = k.keeper_id SET k.region = {value}")
            }
            _ => {
                format!("UPDATE keeper SET region = {value} FROM hive h WHERE h.keeper_id = keeper.keeper_id")
            }
        };
        let differing = update("h.note");
        let answer = stage.scene.run(&["preview", "--sql", &differing]);
        answer
            .expect(3)
            .says("many-sources")
            .says("keeper 1 is matched by")
            .says("hive_id 10")
            .says("hive_id 11")
            .says("→ ?");
        // It is never let pass: nobody can prove which value would be stored.
        stage.apply_allowing(&differing, "2", "many-sources", 3);
        assert_eq!(stage.dump(), before, "{:?}", stage.on);
        let same = stage.scene.run(&["preview", "--sql", &update("'both'"), "--format", "json"]);
        let json = same.expect(0).step();
        assert_eq!((&json["matched"], &json["many_sources"]["rows"]), (&2.into(), &2.into()));
        stage.there_and_back(&update("'both'"), "2");
    });
}

#[test]
fn a_second_target_without_a_link_is_stopped() {
    each(|stage| {
        let loose = stage.by(
            "UPDATE keeper SET region = 'x' FROM keeper k, hive h WHERE h.keeper_id = k.keeper_id AND h.hive_id = 12",
            "UPDATE keeper SET region = 'x' FROM keeper k, hive h WHERE h.keeper_id = k.keeper_id AND h.hive_id = 12",
            "UPDATE keeper t, keeper k, hive h SET t.region = 'x' WHERE h.keeper_id = k.keeper_id AND h.hive_id = 12",
        );
        let answer = stage.scene.run(&["preview", "--sql", loose]);
        answer.expect(3).says("target-again").says("4 of 4 rows match");
        let linked = loose.replace(
            "h.hive_id = 12",
            &format!("h.hive_id = 12 AND {}.keeper_id = k.keeper_id", stage.by("keeper", "keeper", "t")),
        );
        stage.there_and_back(&linked, "1");
    });
}

#[test]
fn rows_that_join_between_preview_and_application_are_noticed() {
    each(|stage| {
        let update = stage.by(
            "UPDATE keeper SET region = 'Hive' FROM hive h WHERE h.keeper_id = keeper.keeper_id AND h.kilos > 50",
            "UPDATE keeper SET region = 'Hive' FROM hive h WHERE h.keeper_id = keeper.keeper_id AND h.kilos > 50",
            "UPDATE keeper JOIN hive h ON h.keeper_id = keeper.keeper_id SET region = 'Hive' WHERE h.kilos > 50",
        );
        let mark =
            stage.scene.run(&["preview", "--sql", update, "--format", "json"]).expect(0).json()["mark"]
                .as_str()
                .unwrap()
                .to_owned();
        // Another table decides who is matched.
        stage.run("UPDATE hive SET kilos = 60 WHERE hive_id = 10;");
        let before = stage.dump();
        let answer = stage.scene.run(&["apply", "--sql", update, "--mark", &mark, "--yes"]);
        assert_eq!(answer.status, Some(5), "{:?}\n{}\n{}", stage.on, answer.out, answer.err);
        assert_eq!(stage.dump(), before);
    });
}

#[test]
fn rows_of_a_join_without_a_partner_are_told() {
    each(|stage| {
        stage.run(
            "CREATE TABLE sheet (email varchar(60), region varchar(20), year int);\n\
             INSERT INTO sheet VALUES ('ada@x.example', 'Coast', 2026), ('orla@x.example', 'Coast', 2025), \
             ('nobody@x.example', 'Fell', 2026), (NULL, 'Fell', 2026);",
        );
        let keepers = 4_u64;
        let joined = |filter: &str, outer: &str| match stage.on {
            On::Maria => {
                format!(
                    "UPDATE keeper k {outer} JOIN sheet s ON (s.email = k.email) SET k.region = 'New' {filter}"
                )
            }
            _ => {
                let filter = filter.replacen("WHERE", "AND", 1).replace("k.", "keeper.");
                format!("UPDATE keeper SET region = 'New' FROM sheet s WHERE s.email = keeper.email {filter}")
            }
        };
        let sides = |sql: &str| {
            let answer = stage.scene.run(&["preview", "--sql", sql, "--format", "json"]);
            let partners = answer.expect(0).step()["closer_look"]["partners"].clone();
            let told =
                |side: &serde_json::Value| (side["rows"].as_u64().unwrap(), side["of"].as_u64().unwrap());
            (partners.as_array().unwrap().iter().map(told).collect::<Vec<_>>(), partners)
        };
        let (told, all) = sides(&joined("", ""));
        assert_eq!(told, [(keepers - 2, keepers), (2, 4)], "{:?}", stage.on);
        assert_eq!(all[1]["source"], "sheet");
        let named = serde_json::json!([["nobody@x.example"], [null]]);
        let mut given = all[1]["examples"].as_array().unwrap().clone();
        given.sort_by_key(|row| row[0].is_null());
        assert_eq!(serde_json::Value::from(given), named);
        // What the filter asks of one side alone says which rows of that side are meant.
        let (told, all) = sides(&joined("WHERE year = 2026 AND k.email LIKE '%@x.example'", ""));
        assert_eq!((told[0].0, told[1]), (told[0].1 - 1, (2, 3)), "{:?}", stage.on);
        assert_eq!(all[1]["narrowed"], true);
        let sql = joined("", "");
        stage
            .scene
            .run(&["preview", "--sql", &sql])
            .expect(0)
            .says("2 of the 4 rows of sheet find no row of keeper")
            .says("email nobody@x.example");
        if stage.on == On::Maria {
            let (told, all) = sides(&joined("", "LEFT"));
            assert_eq!((told[0], &all[0]["kept"]), ((keepers - 2, keepers), &true.into()));
            // Of rows without a partner the filter asks as well here: nothing is said.
            assert!(sides(&joined("WHERE s.email IS NULL", "LEFT")).0.is_empty());
            stage.there_and_back(&joined("WHERE s.email IS NULL", "LEFT"), &(keepers - 2).to_string());
            let using = "UPDATE keeper k JOIN sheet s USING (email) SET k.region = 'New'";
            assert_eq!(sides(using).0, [(keepers - 2, keepers), (2, 4)]);
        }
    });
}
