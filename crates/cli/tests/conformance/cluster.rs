//! A cluster of writing nodes: one database, whichever node is asked; what other nodes have ordered is seen; a node that
//! fails inside a run leaves the cluster as it was.

use crate::{COOP, PROGRAM};
use marktwice_logbook::Shelf;
use marktwice_testkit::Scene;
use marktwice_testkit::servers::{Server, cluster};
use marktwice_testkit::sql::Db;

fn all_alike(nodes: &[&Server], name: &str) -> Vec<String> {
    let dump = |node: &Server| {
        // On a busy machine a node may take longer to catch up than the cluster's own limit on such a wait.
        let caught_up = (0..5).any(|_| {
            Db::open(&node.url(name))
                .try_run("SET SESSION wsrep_sync_wait = 15;\nSELECT count(*) FROM keeper;")
                .is_ok()
        });
        assert!(caught_up, "a node does not catch up");
        Db::open(&node.url(name)).dump()
    };
    let first = dump(nodes[0]);
    for node in nodes {
        assert_eq!(dump(node), first);
    }
    first
}

#[test]
fn one_database_on_three_nodes() {
    let Some(nodes) = cluster() else { return };
    let every: Vec<&Server> = nodes.iter().collect();
    let url = nodes[0].database();
    let name = url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
    Db::open(&url).run(COOP);
    let scene = Scene::on(PROGRAM, &url);
    let on = |n: usize| nodes[n].url(&name);
    let before = all_alike(&every, &name);
    let sql = "UPDATE keeper SET region = 'Fell' WHERE keeper_id IN (1, 2)";

    // Previewed through one node, applied through the next, known and taken back through the third.
    scene.run(&["preview", "--sql", sql, "--on", &on(0)]).expect(0).says("Dale → Fell");
    let run = scene
        .run(&["apply", "--sql", sql, "--rows", "2", "--yes", "--on", &on(1), "--format", "json"])
        .expect(0)
        .run();
    assert_ne!(all_alike(&every, &name), before);
    scene.run(&["history", "--on", &on(2)]).expect(0).says(&run).says("can be undone");
    scene.run(&["undo", &run, "--yes", "--on", &on(2)]).expect(0);
    assert_eq!(all_alike(&every, &name), before);

    // What another node has ordered behind a large change is waited for.
    let mut first = Db::open(&on(0));
    first.run("CREATE TABLE ballast (id integer PRIMARY KEY, x varchar(200));");
    first.run("CREATE TABLE allowed (keeper_id integer PRIMARY KEY);");
    let stale = "UPDATE keeper SET region = 'Fen' WHERE keeper_id IN (SELECT keeper_id FROM allowed)";
    for round in 0..4 {
        first.run("REPLACE INTO allowed VALUES (1), (3);");
        let from = round * 20_000;
        first.run(&format!("INSERT INTO ballast SELECT {from} + seq, repeat('x', 200) FROM seq_1_to_20000;"));
        first.run("DELETE FROM allowed;");
        scene
            .run(&["apply", "--sql", stale, "--rows", "2", "--yes", "--on", &on(1)])
            .expect(3)
            .says("nothing-matched");
    }
    first.run("REPLACE INTO allowed VALUES (1);");
    scene.run(&["preview", "--sql", stale, "--on", &on(1)]).expect(0).says("reads-elsewhere").says("allowed");
    first.run("DROP TABLE ballast;");
    first.run("DROP TABLE allowed;");

    // Two nodes that race: what is told is what is true.
    let told: Vec<bool> = std::thread::scope(|scope| {
        let race = |n: usize| {
            let (scene, url) = (Scene::on(PROGRAM, &url), on(n));
            let sql = format!("UPDATE hive SET kilos = kilos + {} WHERE hive_id = 10", 10 * (n + 1));
            move || {
                let answer = scene.run(&["apply", "--sql", &sql, "--rows", "1", "--yes", "--on", &url]);
                if answer.status != Some(0) {
                    assert!(matches!(answer.status, Some(1 | 5)), "{} {}", answer.out, answer.err);
                    answer.says("Rolled back; nothing changed");
                    return false;
                }
                true
            }
        };
        let racers = [scope.spawn(race(0)), scope.spawn(race(1))];
        racers.map(|racer| racer.join().unwrap()).to_vec()
    });
    let sum: f64 = told.iter().zip([10.0, 20.0]).filter(|(told, _)| **told).map(|(_, more)| more).sum();
    let kilos = Db::open(&on(2)).value("SELECT kilos FROM hive WHERE hive_id = 10");
    let kilos: f64 =
        kilos.chars().filter(|c| c.is_ascii_digit() || *c == '.').collect::<String>().parse().unwrap();
    assert!((kilos - 12.5 - sum).abs() < 1e-9, "{kilos} {told:?}");

    // A run that was kept under the identity of one node is still found.
    let run = scene
        .run(&["apply", "--sql", sql, "--rows", "2", "--yes", "--again", "--on", &on(1), "--format", "json"])
        .expect(0)
        .run();
    let about: marktwice_core::receipt::DatabaseId =
        serde_json::from_slice(&std::fs::read(scene.shelf().join("database.json")).unwrap()).unwrap();
    let former = marktwice_core::receipt::DatabaseId {
        identity: about.formerly[0].clone(),
        formerly: Vec::new(),
        ..about
    };
    let old = Shelf::at(&scene.path("book"), &former).folder().to_owned();
    std::fs::rename(scene.shelf(), &old).unwrap();
    std::fs::write(old.join("database.json"), serde_json::to_vec(&former).unwrap()).unwrap();
    let folder = scene.runs().pop().unwrap();
    let mut receipt = scene.receipt(&folder);
    receipt["database"]["identity"] = former.identity.clone().into();
    marktwice_logbook::seal(&mut receipt);
    std::fs::write(folder.join("receipt.json"), receipt.to_string()).unwrap();
    // Each node of this machine has an identity of its own; the one that made the run is asked.
    let undone = (0..3).any(|n| scene.run(&["undo", &run, "--yes", "--on", &on(n)]).status == Some(0));
    assert!(undone);

    // A node that fails while a run is open.
    let before = all_alike(&every, &name);
    let url = on(2);
    let mut open = scene.terminal(&["apply", "--sql", sql, "--hold", "--again", "--on", &url]);
    open.wait_for("is open");
    nodes[2].kill();
    open.write("y\n");
    let (status, said) = open.end();
    assert!(matches!(status, Some(1 | 7)), "{status:?} {said}");
    assert_eq!(all_alike(&every[..2], &name), before);
}
