//! A pooler between the program and PostgreSQL: one that hands sessions out by the transaction or statement is refused with
//! what to do; one that keeps sessions is as good as none.

use crate::{COOP, PROGRAM};
use marktwice_testkit::Scene;
use marktwice_testkit::servers::{pooler, postgres};
use marktwice_testkit::sql::Db;
use postgres::NoTls;

const SQL: &str = "UPDATE keeper SET region = 'Fell' WHERE keeper_id = 2";

#[test]
fn sessions_by_the_transaction_are_refused() {
    let Some(server) = postgres() else { return };
    for (mode, options) in [
        ("transaction", ""),
        ("transaction", "server_round_robin = 1"),
        ("transaction", "min_pool_size = 3"),
        ("statement", ""),
    ] {
        let Some(pooler) = pooler(server, mode, options) else { return };
        let url = server.database();
        Db::open(&url).run(COOP);
        let name = url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
        let scene = Scene::on(PROGRAM, &pooler.url(&name));
        let before = Db::open(&url).dump();
        for round in 0..2 {
            for args in
                [&["preview", "--sql", SQL][..], &["apply", "--sql", SQL, "--rows", "1", "--yes"], &["look"]]
            {
                scene.run(args).expect(1).says("pooler").says("session pooling");
            }
            if round == 0 && mode == "transaction" {
                // Another client leaves its settings behind, and more sessions than one are open.
                let open = || {
                    let mut config = postgres::Config::new();
                    config.user("tester").dbname(&name).port(6432).host_path(pooler.socket());
                    config.connect(NoTls).expect("the pooler lets in")
                };
                let (mut one, mut two) = (open(), open());
                one.batch_execute("BEGIN").unwrap();
                two.batch_execute("SET search_path = pg_catalog").unwrap();
                one.batch_execute("COMMIT").unwrap();
            }
        }
        assert_eq!(Db::open(&url).dump(), before);
    }
}

#[test]
fn a_pooler_that_keeps_sessions() {
    let Some(server) = postgres() else { return };
    let Some(pooler) = pooler(server, "session", "") else { return };
    let url = server.database();
    Db::open(&url).run(COOP);
    let name = url.split('?').next().unwrap().rsplit('/').next().unwrap().to_owned();
    let scene = Scene::on(PROGRAM, &pooler.url(&name));
    let before = Db::open(&url).dump();
    for _ in 0..3 {
        scene.run(&["preview", "--sql", SQL]).expect(0).says("Moor → Fell");
        scene.run(&["apply", "--sql", SQL, "--rows", "1", "--yes", "--again"]).expect(0);
        scene.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
        assert_eq!(Db::open(&url).dump(), before);
    }
}
