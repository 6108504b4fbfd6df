//! SQLite's errors in the port's words.

use std::time::Duration;

use marktwice_port::{Broken, Constraint, EngineError};
use rusqlite::ErrorCode;
use rusqlite::ffi;

/// The engine's own message.
pub(crate) fn message(error: &rusqlite::Error) -> String {
    match error {
        rusqlite::Error::SqliteFailure(code, text) => text.clone().unwrap_or_else(|| code.to_string()),
        rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
        other => other.to_string(),
    }
}

/// Any failure that has no better meaning where it occurred.
pub(crate) fn engine(error: rusqlite::Error) -> EngineError {
    let text = message(&error);
    let Some(code) = error.sqlite_error() else { return EngineError::Other(text) };
    match code.code {
        ErrorCode::ConstraintViolation => constraint(code.extended_code, text),
        ErrorCode::DiskFull => EngineError::no_space("the disk is full".to_owned()),
        ErrorCode::OperationInterrupted => EngineError::Interrupted,
        ErrorCode::ReadOnly => EngineError::read_only("the database cannot be written".to_owned()),
        ErrorCode::NotADatabase => {
            EngineError::not_a_database("the file is not a SQLite database".to_owned())
        }
        ErrorCode::DatabaseCorrupt => {
            EngineError::not_a_database(format!("the database file is damaged, says SQLite: {text}"))
        }
        ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked => {
            EngineError::locked("the database is locked by another process".to_owned())
        }
        ErrorCode::SystemIoFailure => EngineError::no_space(format!(
            "the file system failed a read or write (a full disk or a file limit, it may be): {text}"
        )),
        ErrorCode::TypeMismatch => EngineError::Constraint(Box::new(Broken::new(Constraint::Type, text))),
        _ => EngineError::Other(text),
    }
}

fn constraint(code: i32, message: String) -> EngineError {
    let kind = match code {
        // RESTRICT is carried out by a trigger of the engine's own, and reported as one.
        _ if message.starts_with("FOREIGN KEY") => Constraint::ForeignKey,
        ffi::SQLITE_CONSTRAINT_NOTNULL => Constraint::NotNull,
        ffi::SQLITE_CONSTRAINT_CHECK => Constraint::Check,
        ffi::SQLITE_CONSTRAINT_FOREIGNKEY => Constraint::ForeignKey,
        ffi::SQLITE_CONSTRAINT_DATATYPE => Constraint::Type,
        ffi::SQLITE_CONSTRAINT_TRIGGER => Constraint::Trigger,
        _ => Constraint::Unique,
    };
    // Columns stand in a message such as `UNIQUE constraint failed: keeper.email, keeper.name`, a name in one such as
    // `CHECK constraint failed: strength_is_positive`; that of an index on expressions too.
    let list = message.split_once(" constraint failed: ").map_or("", |(_, list)| list);
    let of_columns = matches!(kind, Constraint::Unique | Constraint::NotNull) && list.contains('.');
    let column = |part: &str| part.rsplit('.').next().unwrap_or(part).to_owned();
    let columns = if of_columns { list.split(", ").map(column).collect() } else { Vec::new() };
    let name = (!of_columns && !list.is_empty()).then(|| list.to_owned());
    EngineError::Constraint(Box::new(Broken { kind, name, columns, message }))
}

/// The same, where the error came from waiting for a lock.
pub(crate) fn locked(error: rusqlite::Error, name: &str, waited: Duration) -> EngineError {
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => EngineError::locked(format!(
            "{name} is locked by another process; waited {} s",
            waited.as_secs_f64()
        )),
        Some(ErrorCode::ReadOnly) => {
            EngineError::read_only(format!("{name} is read-only: it cannot be written"))
        }
        _ => engine(error),
    }
}
