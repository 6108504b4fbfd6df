//! What the engine's own compile step says about a statement: the authorizer is asked about every read, write and
//! function, those of triggers and views included, and nothing is run.

use std::sync::{Arc, Mutex, PoisonError};

use rusqlite::Connection;
use rusqlite::config::DbConfig;
use rusqlite::hooks::{AuthAction, AuthContext, Authorization};

/// One thing that a statement would do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Act {
    /// It reads a column.
    Read { table: String, column: String },
    /// It changes a column.
    Update { table: String, column: String },
    /// It brings rows in.
    Insert { table: String },
    /// It takes rows away.
    Delete { table: String },
    /// Anything else.
    Other,
}

/// An act and the trigger or view on whose account it is done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Deed {
    pub(crate) act: Act,
    pub(crate) by: Option<String>,
}

/// Compiles a statement and gives all that it would do.
pub(crate) fn acts(connection: &mut Connection, sql: &str) -> rusqlite::Result<Vec<Deed>> {
    let seen = Arc::new(Mutex::new(Vec::new()));
    let into = Arc::clone(&seen);
    connection.authorizer(Some(move |context: AuthContext<'_>| {
        let act = match context.action {
            AuthAction::Read { table_name, column_name } => {
                Act::Read { table: table_name.to_owned(), column: column_name.to_owned() }
            }
            AuthAction::Update { table_name, column_name } => {
                Act::Update { table: table_name.to_owned(), column: column_name.to_owned() }
            }
            AuthAction::Insert { table_name } => Act::Insert { table: table_name.to_owned() },
            AuthAction::Delete { table_name } => Act::Delete { table: table_name.to_owned() },
            _ => Act::Other,
        };
        let step = Deed { act, by: context.accessor.map(str::to_owned) };
        into.lock().unwrap_or_else(PoisonError::into_inner).push(step);
        Authorization::Allow
    }))?;
    let compiled = connection.prepare(sql).map(|_| ());
    connection.authorizer(None::<fn(AuthContext<'_>) -> Authorization>)?;
    compiled?;
    let steps = std::mem::take(&mut *seen.lock().unwrap_or_else(PoisonError::into_inner));
    Ok(steps)
}

/// Whether a statement compiles while words in double quotes are names only, never texts.
pub(crate) fn compiles_strictly(connection: &Connection, sql: &str) -> rusqlite::Result<()> {
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DML, false)?;
    let compiled = connection.prepare(sql).map(|_| ());
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DML, true)?;
    compiled
}
