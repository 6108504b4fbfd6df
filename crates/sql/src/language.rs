//! The query languages: which words and quotes each has, as far as slicing needs to know.

use sqlparser::dialect::{Dialect, MySqlDialect, PostgreSqlDialect, SQLiteDialect};

/// A query language.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Language {
    /// SQLite's.
    Sqlite,
    /// PostgreSQL's.
    Postgres,
    /// MariaDB's and MySQL's.
    Mysql,
}

impl Language {
    /// How its text is cut into tokens and parsed.
    pub fn dialect(self) -> &'static dyn Dialect {
        match self {
            Language::Sqlite => &SQLiteDialect {},
            Language::Postgres => &PostgreSqlDialect {},
            Language::Mysql => &MySqlDialect {},
        }
    }

    /// A name without quotes, as the catalogue has it.
    pub fn folded(self, word: &str) -> String {
        match self {
            Language::Postgres => word.to_lowercase(),
            Language::Sqlite | Language::Mysql => word.to_owned(),
        }
    }

    /// A name in the language's own quotes.
    pub fn quoted(self, name: &str) -> String {
        match self {
            Language::Mysql => format!("`{}`", name.replace('`', "``")),
            Language::Sqlite | Language::Postgres => format!("\"{}\"", name.replace('"', "\"\"")),
        }
    }

    /// A condition that is true where two values differ, NULL included.
    pub fn differs(self, left: &str, right: &str) -> String {
        match self {
            Language::Sqlite => format!("{left} IS NOT {right}"),
            Language::Postgres => format!("{left} IS DISTINCT FROM {right}"),
            Language::Mysql => format!("NOT ({left} <=> {right})"),
        }
    }

    /// How rows are picked by key where a statement has no ORDER BY and LIMIT of its own, to be pasted.
    pub(crate) fn limited(self) -> &'static str {
        match self {
            Language::Mysql => {
                "pick the rows by key: WHERE key IN (SELECT key FROM (SELECT key … LIMIT …) AS picked)"
            }
            Language::Sqlite | Language::Postgres => {
                "pick the rows by key: WHERE key IN (SELECT key … LIMIT …)"
            }
        }
    }
}
