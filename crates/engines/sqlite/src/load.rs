//! Making a database file from definitions and rows: for the demo.

use std::path::Path;

use marktwice_core::Value;
use marktwice_port::EngineError;
use rusqlite::{Connection, OpenFlags, params_from_iter};

use crate::error::engine;
use crate::names::quoted;
use crate::values::Bind;

/// Makes a new database file. Definitions that must not see the rows come in (triggers) go into `after`.
///
/// # Errors
/// When the file is there already, or the engine refuses something.
pub fn create(
    path: &Path,
    definitions: &str,
    rows: &[(&str, Vec<Vec<Value>>)],
    after: &str,
) -> Result<(), EngineError> {
    if path.exists() {
        return Err(EngineError::Other(format!("{} is there already", path.display())));
    }
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE;
    let mut connection = Connection::open_with_flags(path, flags).map_err(engine)?;
    let tx = connection.transaction().map_err(engine)?;
    tx.execute_batch(definitions).map_err(engine)?;
    for (table, rows) in rows {
        let Some(width) = rows.first().map(Vec::len) else { continue };
        let marks = vec!["?"; width].join(", ");
        let sql = format!("INSERT INTO main.{} VALUES ({marks})", quoted(table));
        let mut insert = tx.prepare(&sql).map_err(engine)?;
        for row in rows {
            insert.execute(params_from_iter(row.iter().map(Bind))).map_err(engine)?;
        }
    }
    tx.execute_batch(after).map_err(engine)?;
    tx.commit().map_err(engine)
}
