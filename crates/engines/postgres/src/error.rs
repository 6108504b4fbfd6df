//! PostgreSQL's errors in the port's words. States are those of
//! <https://www.postgresql.org/docs/current/errcodes-appendix.html>.

use std::error::Error as _;

use marktwice_port::{Broken, Constraint, EngineError};
use postgres::Error;
use postgres::error::DbError;

/// The server's own words, with the detail that says which row.
pub(crate) fn message(error: &DbError) -> String {
    match error.detail() {
        Some(detail) => format!("{}. {}", error.message(), detail.trim_end_matches('.')),
        None => error.message().to_owned(),
    }
}

/// What the library says, causes included.
pub(crate) fn plain(error: &Error) -> String {
    match error.as_db_error() {
        Some(db) => message(db),
        None => match error.source() {
            Some(cause) => format!("{error}: {cause}"),
            None => error.to_string(),
        },
    }
}

/// Whether nobody can tell what became of the last request: the connection or the server went away.
pub(crate) fn is_lost(error: &Error) -> bool {
    match error.as_db_error() {
        Some(db) => {
            matches!(db.code().code(), "57P01" | "57P02" | "57P03" | "XX000")
                || db.code().code().starts_with("08")
        }
        None => true,
    }
}

/// Any failure that has no better meaning where it occurred.
pub(crate) fn engine(error: Error) -> EngineError {
    let Some(db) = error.as_db_error() else {
        return EngineError::Other(if error.is_closed() {
            "the connection to the server was lost".to_owned()
        } else {
            format!("the server cannot be talked to: {}", plain(&error))
        });
    };
    let text = message(db);
    let kind = match db.code().code() {
        "40001" => {
            return EngineError::moved("another transaction changed these rows in the meantime".to_owned());
        }
        "40P01" => {
            return EngineError::locked(
                "the server ended this transaction to undo a deadlock with another one".to_owned(),
            );
        }
        "55P03" => {
            return EngineError::locked("rows or tables are locked by another transaction".to_owned());
        }
        "57014" => return EngineError::Interrupted,
        "42501" => return EngineError::denied(text),
        "25006" => return EngineError::read_only(text),
        "53100" | "53200" => return EngineError::no_space(text),
        "21000" => Constraint::OneValue,
        "P0001" => Constraint::Trigger,
        "23505" | "23P01" => Constraint::Unique,
        "23502" => Constraint::NotNull,
        "23503" | "23001" => Constraint::ForeignKey,
        "23514" | "44000" => Constraint::Check,
        code if code.starts_with("22") => Constraint::Type,
        "57P01" | "57P02" | "57P03" => {
            return EngineError::Other(format!("the server ended the connection: {text}"));
        }
        // A prepared statement of ours is another's, or gone: sessions are not our own.
        "42P05" | "26000" => {
            return EngineError::Other(format!(
                "something between here and the server gives our statements to several sessions of it ({text}): connect to \
                 the server itself, or to a pool that keeps sessions whole"
            ));
        }
        _ => return EngineError::Other(text),
    };
    EngineError::Constraint(Box::new(Broken {
        kind,
        name: db.constraint().map(str::to_owned),
        columns: db.column().map(str::to_owned).into_iter().collect(),
        message: text,
    }))
}
