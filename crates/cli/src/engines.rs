//! Which engine an address belongs to. A new engine is one line here.

use marktwice_mysql::Mysql;
use marktwice_port::Engine;
use marktwice_postgres::Postgres;
use marktwice_sql::Language;
use marktwice_sqlite::Sqlite;

/// An engine and the language that it speaks.
#[derive(Clone, Copy)]
pub(crate) struct Kind {
    pub(crate) engine: &'static dyn Engine,
    pub(crate) language: Language,
}

/// The engine of an address: by its scheme, and SQLite's for a path. `None` for a scheme that nobody takes.
pub(crate) fn of(address: &str) -> Option<Kind> {
    if Postgres::takes(address) {
        return Some(Kind { engine: &Postgres, language: Language::Postgres });
    }
    if Mysql::takes(address) {
        return Some(Kind { engine: &Mysql, language: Language::Mysql });
    }
    match address.split_once("://") {
        Some((scheme, _)) if scheme != "sqlite" => None,
        _ => Some(Kind { engine: &Sqlite, language: Language::Sqlite }),
    }
}
