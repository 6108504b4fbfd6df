//! Private servers start, answer and hold databases.

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
