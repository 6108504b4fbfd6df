//! Which engine an address belongs to. A new engine is a feature and an arm here.

use marktwice_demo::Engine as Demo;
use marktwice_port::Engine;

/// An engine, and what the demo calls it.
#[derive(Clone, Copy)]
pub(crate) struct Kind {
    pub(crate) engine: &'static dyn Engine,
    pub(crate) demo: Demo,
}

/// The engine of an address: by its scheme, and SQLite's for a path. `None` for a scheme that nobody takes, or of an engine
/// that this program was built without.
pub(crate) fn of(address: &str) -> Option<Kind> {
    #[cfg(feature = "postgres")]
    if marktwice_postgres::Postgres::takes(address) {
        return Some(Kind { engine: &marktwice_postgres::Postgres, demo: Demo::Postgres });
    }
    #[cfg(feature = "mysql")]
    if marktwice_mysql::Mysql::takes(address) {
        return Some(Kind { engine: &marktwice_mysql::Mysql, demo: Demo::Maria });
    }
    match address.split_once("://") {
        Some((scheme, _)) if scheme != "sqlite" => None,
        #[cfg(feature = "sqlite")]
        _ => Some(Kind { engine: &marktwice_sqlite::Sqlite, demo: Demo::Sqlite }),
        #[cfg(not(feature = "sqlite"))]
        _ => None,
    }
}

/// The engines that are built in, each with what it has been tried on: nothing is said of others.
pub(crate) fn evidence() -> String {
    let mut out = format!("marktwice {}\n", env!("CARGO_PKG_VERSION"));
    for (built, name, tried) in [
        (
            cfg!(feature = "sqlite"),
            "SQLite",
            "its own library is built in; every test, fault point, death and power cut",
        ),
        (
            cfg!(feature = "postgres"),
            "PostgreSQL",
            "15 in every test and fault point, 18 in the same stories, 15 behind PgBouncer",
        ),
        (cfg!(feature = "mysql"), "MariaDB", "10.11 in every test and fault point, and in a Galera cluster"),
        (
            cfg!(feature = "mysql"),
            "MySQL",
            "9.7 in the stories and random cases of MariaDB; a replication group of one member",
        ),
    ] {
        let tried = if built { tried } else { "not built in" };
        out.push_str(&format!("  {name:<10}  {tried}\n"));
    }
    out
}

/// What may stand before `://`, for people.
pub(crate) const TAKEN: &[&str] = &[
    #[cfg(feature = "sqlite")]
    "a path or sqlite:PATH",
    #[cfg(feature = "postgres")]
    "postgres://USER@HOST/DATABASE",
    #[cfg(feature = "mysql")]
    "mysql://USER@HOST/DATABASE",
];

/// The file of an address, where it is one.
pub(crate) fn file_of(address: &str) -> std::path::PathBuf {
    #[cfg(feature = "sqlite")]
    return marktwice_sqlite::file_of(address);
    #[cfg(not(feature = "sqlite"))]
    address.into()
}

/// Makes the demo's database on an engine; `address` is a server's, or the path of the file. Gives the address under which
/// it is found. Errors are for people.
pub(crate) fn make_demo(
    kind: Demo,
    address: &str,
    name: &str,
    (definitions, rows, after): (&str, &[marktwice_demo::Table], &str),
) -> Result<String, String> {
    // A file needs no name.
    let _ = name;
    match kind {
        #[cfg(feature = "sqlite")]
        Demo::Sqlite => marktwice_sqlite::load::create(address.as_ref(), definitions, rows, after)
            .map(|()| address.to_owned())
            .map_err(|e| e.to_string()),
        #[cfg(feature = "postgres")]
        Demo::Postgres => marktwice_postgres::load::create(address, name, definitions, rows, after)
            .map_err(|e| e.to_string()),
        #[cfg(feature = "mysql")]
        Demo::Maria => {
            marktwice_mysql::load::create(address, name, definitions, rows, after).map_err(|e| e.to_string())
        }
        #[cfg(not(all(feature = "sqlite", feature = "postgres", feature = "mysql")))]
        _ => Err("this program was built without that engine".to_owned()),
    }
}
