//! Private servers start, answer and hold databases; sessions of ours hold nothing on them while they rest.

use std::time::Duration;

use marktwice_port::{Intent, Limits};
use marktwice_testkit::attempt::engine_of;
use marktwice_testkit::servers::all;
use marktwice_testkit::sql::Db;

#[test]
fn they_start_and_answer() {
    for server in all() {
        let mut db = Db::open(&server.database());
        db.run("CREATE TABLE keeper (keeper_id int PRIMARY KEY, name varchar(20));\nINSERT INTO keeper VALUES (1, 'Ada'), (2, NULL);");
        assert_eq!(db.dump().len(), 2, "{:?}", db.dump());
    }
}

/// Whoever waits for a table that was read gets it, as soon as the session that has read it is left alone.
#[test]
fn what_rests_holds_nothing() {
    for server in all() {
        let url = server.database();
        let mut db = Db::open(&url);
        db.run("CREATE TABLE keeper (keeper_id int PRIMARY KEY);\nINSERT INTO keeper VALUES (1), (2);");
        db.wait_at_most(3);
        let waits = Limits { lock: Duration::from_secs(3), statement: None };
        let mut session = engine_of(&url).open(&url, Intent::Read, waits).expect("opened");
        let keeper = session.describe("", "keeper").expect("described");
        assert_eq!(session.first_rows(&keeper, 9).expect("read").len(), 2);
        session.rest().expect("rested");
        db.run("DROP TABLE keeper;");
        assert!(session.describe("", "keeper").is_err(), "{url}");
    }
}
