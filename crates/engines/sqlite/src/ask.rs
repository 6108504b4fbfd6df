//! Small questions to the database, answered as text.

use marktwice_core::param::Bound;
use marktwice_port::EngineError;
use marktwice_sql::query::ask::Texts;
use rusqlite::Connection;
use rusqlite::types::ValueRef;

use crate::error::engine;
use crate::params::prepared;

/// Runs one query and gives its rows as text.
pub(crate) fn ask(connection: &Connection, sql: &str, params: &[Bound]) -> Result<Texts, EngineError> {
    let mut statement = prepared(connection, sql, params)?;
    let columns: Vec<String> = statement.column_names().map(str::to_owned).collect();
    let width = columns.len();
    let mut answer = Texts { columns, rows: Vec::new() };
    let mut rows = statement.raw_query();
    while let Some(row) = rows.next().map_err(engine)? {
        let cells = (0..width).map(|at| row.get_ref(at).map(text));
        answer.rows.push(cells.collect::<Result<_, _>>().map_err(engine)?);
    }
    Ok(answer)
}

fn text(value: ValueRef<'_>) -> Option<String> {
    match value {
        ValueRef::Null => None,
        ValueRef::Integer(number) => Some(number.to_string()),
        ValueRef::Real(number) => Some(format!("{number:?}")),
        ValueRef::Text(bytes) => Some(String::from_utf8_lossy(bytes).into_owned()),
        ValueRef::Blob(bytes) => {
            Some(bytes.iter().fold("x'".to_owned(), |all, b| format!("{all}{b:02x}")) + "'")
        }
    }
}
