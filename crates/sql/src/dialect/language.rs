//! The query languages: which words and quotes each has, as far as slicing needs to know.

use marktwice_core::Value;
use sqlparser::dialect::{Dialect, MySqlDialect, PostgreSqlDialect, SQLiteDialect};

/// Words that at least one of the languages does not take as a name without quotes.
const RESERVED: &[&str] = &[
    "add",
    "all",
    "alter",
    "analyse",
    "analyze",
    "and",
    "any",
    "array",
    "as",
    "asc",
    "asymmetric",
    "between",
    "bigint",
    "binary",
    "blob",
    "both",
    "by",
    "call",
    "cascade",
    "case",
    "cast",
    "change",
    "char",
    "character",
    "check",
    "collate",
    "column",
    "condition",
    "constraint",
    "continue",
    "convert",
    "create",
    "cross",
    "current_date",
    "current_role",
    "current_time",
    "current_timestamp",
    "current_user",
    "cursor",
    "database",
    "databases",
    "decimal",
    "default",
    "deferrable",
    "delete",
    "desc",
    "describe",
    "distinct",
    "div",
    "do",
    "double",
    "drop",
    "dual",
    "each",
    "else",
    "elseif",
    "enclosed",
    "end",
    "escape",
    "escaped",
    "except",
    "exists",
    "exit",
    "explain",
    "false",
    "fetch",
    "float",
    "for",
    "force",
    "foreign",
    "freeze",
    "from",
    "full",
    "fulltext",
    "glob",
    "grant",
    "group",
    "having",
    "if",
    "ignore",
    "ilike",
    "in",
    "index",
    "infile",
    "initially",
    "inner",
    "insert",
    "int",
    "integer",
    "intersect",
    "interval",
    "into",
    "is",
    "isnull",
    "iterate",
    "join",
    "key",
    "keys",
    "kill",
    "lateral",
    "leading",
    "leave",
    "left",
    "like",
    "limit",
    "lines",
    "load",
    "localtime",
    "localtimestamp",
    "lock",
    "long",
    "loop",
    "match",
    "mod",
    "natural",
    "not",
    "notnull",
    "null",
    "numeric",
    "of",
    "offset",
    "on",
    "only",
    "optimize",
    "option",
    "or",
    "order",
    "outer",
    "outfile",
    "over",
    "overlaps",
    "partition",
    "placing",
    "precision",
    "primary",
    "procedure",
    "range",
    "rank",
    "read",
    "real",
    "references",
    "regexp",
    "release",
    "rename",
    "repeat",
    "replace",
    "require",
    "restrict",
    "return",
    "returning",
    "revoke",
    "right",
    "rlike",
    "row",
    "rows",
    "schema",
    "schemas",
    "select",
    "session_user",
    "set",
    "show",
    "similar",
    "smallint",
    "some",
    "sql",
    "starting",
    "symmetric",
    "table",
    "tablesample",
    "terminated",
    "then",
    "to",
    "trailing",
    "transaction",
    "trigger",
    "true",
    "undo",
    "union",
    "unique",
    "unlock",
    "unsigned",
    "update",
    "usage",
    "use",
    "user",
    "using",
    "values",
    "varchar",
    "variadic",
    "verbose",
    "when",
    "where",
    "while",
    "window",
    "with",
    "write",
    "xor",
    "zerofill",
];

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

    /// A value as a literal of the language; `None` for what has none that is surely read back as the same.
    pub fn literal(self, value: &Value) -> Option<String> {
        match value {
            Value::Null => Some("NULL".to_owned()),
            Value::Int(number) => Some(number.to_string()),
            Value::Decimal(text) if text.parse::<f64>().is_ok_and(f64::is_finite) => {
                Some(text.clone().into())
            }
            Value::Bool(truth) => Some(if *truth { "TRUE" } else { "FALSE" }.to_owned()),
            Value::Text(text) if !text.contains('\0') => Some(self.text_literal(text)),
            Value::Real(number) if number.is_finite() => Some(format!("{number:?}")),
            _ => None,
        }
    }

    /// A text in quotes.
    pub fn text_literal(self, text: &str) -> String {
        let quotes = text.replace('\'', "''");
        match self {
            Language::Mysql => format!("'{}'", quotes.replace('\\', "\\\\")),
            Language::Sqlite | Language::Postgres => format!("'{quotes}'"),
        }
    }

    /// A name as people write it: in quotes only where it needs them.
    pub fn name(self, name: &str) -> String {
        let plain = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
            && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
        if plain && !self.is_reserved(name) && self.folded(name) == name {
            name.to_owned()
        } else {
            self.quoted(name)
        }
    }

    /// Whether a word is none that a name can be without quotes, here or in another of the languages.
    pub fn is_reserved(self, word: &str) -> bool {
        RESERVED.contains(&word.to_ascii_lowercase().as_str())
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
