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
