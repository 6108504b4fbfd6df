//! A bounded run of the differential tester; `cargo run -p marktwice-testkit --bin differential -- FROM COUNT` is the
//! long one.

use marktwice_testkit::differential;
use marktwice_testkit::stage::On;

#[test]
fn random_cases() {
    let folder = tempfile::tempdir().expect("a folder");
    let tally = differential::run(On::Sqlite, folder.path(), 0, 400);
    assert_eq!(tally.cases, 400);
    // The cases must not have become trivial.
    assert!(tally.applied > 100 && tally.failed > 5 && tally.conflicts > 5, "{tally:?}");
    assert!(tally.refused < 40, "{tally:?}");
}

#[test]
fn random_cases_on_servers() {
    for on in [On::Postgres, On::Maria] {
        let folder = tempfile::tempdir().expect("a folder");
        let tally = differential::run(on, folder.path(), 0, 100);
        assert!(tally.cases == 0 || (tally.applied > 25 && tally.conflicts > 0), "{on:?} {tally:?}");
    }
}

/// Tables that triggers watch.
#[test]
fn watched() {
    for (on, cases) in [(On::Sqlite, 200), (On::Postgres, 30), (On::Maria, 30)] {
        let folder = tempfile::tempdir().expect("a folder");
        let tally = differential::run(on, folder.path(), differential::watchers::FROM, cases);
        assert!(
            tally.cases == 0 || tally.applied * 6 > cases && tally.refused * 4 < cases,
            "{on:?} {tally:?}"
        );
    }
}

/// Keys in circles, and triggers that write several tables in one statement or put their texts together.
#[test]
fn knotted() {
    for (on, cases) in [(On::Sqlite, 200), (On::Postgres, 30), (On::Maria, 30)] {
        let folder = tempfile::tempdir().expect("a folder");
        let tally = differential::run(on, folder.path(), differential::watchers::KNOTTED, cases);
        let refused = tally.refused * 4 < cases;
        assert!(tally.cases == 0 || tally.applied * 6 > cases && refused, "{on:?} {tally:?}");
    }
}

/// An undo that writes rows that are there, and brings in others of the same table, is taken back itself.
#[test]
fn rows_that_came_in_with_an_undo() {
    let folder = tempfile::tempdir().expect("a folder");
    let tally = differential::run(On::Sqlite, folder.path(), differential::watchers::FROM + 5_346, 1);
    assert_eq!(tally.applied, 1, "{tally:?}");
}

/// Tables that refer to each other, with every action of a foreign key.
#[test]
fn families() {
    for (on, cases) in [(On::Sqlite, 300), (On::Postgres, 40), (On::Maria, 40)] {
        let folder = tempfile::tempdir().expect("a folder");
        let tally = differential::run(on, folder.path(), differential::families::FROM, cases);
        let none = tally.cases == 0 && on != On::Sqlite;
        assert!(
            none || tally.applied * 6 > cases && tally.failed > 0 && tally.refused == 0,
            "{on:?} {tally:?}"
        );
    }
}

/// Rows that are put away before they go.
#[test]
fn archives() {
    for (on, cases) in [(On::Sqlite, 200), (On::Postgres, 30), (On::Maria, 30)] {
        let folder = tempfile::tempdir().expect("a folder");
        let tally = differential::run(on, folder.path(), differential::archives::FROM, cases);
        assert!(tally.cases == 0 || tally.applied * 6 > cases && tally.refused == 0, "{on:?} {tally:?}");
    }
}

/// Rows that come in.
#[test]
fn inserts() {
    for (on, cases) in [(On::Sqlite, 200), (On::Postgres, 30), (On::Maria, 30)] {
        let folder = tempfile::tempdir().expect("a folder");
        let tally = differential::run(on, folder.path(), differential::inserts::FROM, cases);
        assert!(
            tally.cases == 0 || tally.applied * 6 > cases && tally.refused * 10 < cases,
            "{on:?} {tally:?}"
        );
    }
}
