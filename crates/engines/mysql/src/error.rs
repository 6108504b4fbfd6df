//! MariaDB's errors in the port's words. Codes are those of
//! <https://mariadb.com/kb/en/mariadb-error-code-reference/>.

use marktwice_port::{Constraint, EngineError};
use mysql::Error;

/// The code that the server gave; `None` when it is not the server that speaks.
pub(crate) fn code(error: &Error) -> Option<u16> {
    match error {
        Error::MySqlError(error) => Some(error.code),
        _ => None,
    }
}

/// The server's own words.
pub(crate) fn message(error: &Error) -> String {
    match error {
        Error::MySqlError(error) => error.message.clone(),
        other => other.to_string(),
    }
}

/// Whether nobody can tell what became of the last request: the connection or the server went away.
pub(crate) fn is_lost(error: &Error) -> bool {
    // 1053 shutdown, 1152 and 1184 aborted connection, 1927 and 1317 killed.
    code(error).is_none_or(|code| matches!(code, 1053 | 1152 | 1184 | 1317 | 1927))
}

/// Any failure that has no better meaning where it occurred.
pub(crate) fn engine(error: Error) -> EngineError {
    let text = message(&error);
    let Some(code) = code(&error) else {
        return EngineError::Other(format!("the connection to the server was lost: {text}"));
    };
    let kind = match code {
        1020 | 1412 => {
            return EngineError::Moved("another transaction changed these rows in the meantime".to_owned());
        }
        1213 => {
            return EngineError::Locked(
                "the server ended this transaction to undo a deadlock with another one".to_owned(),
            );
        }
        1205 | 3572 => {
            return EngineError::Locked("rows or tables are locked by another transaction".to_owned());
        }
        1242 => return EngineError::SeveralValues(text),
        1317 => return EngineError::Interrupted,
        1969 | 3024 => {
            return EngineError::Other("a statement took longer than the limit that was set".to_owned());
        }
        1142 | 1143 | 1044 | 1227 | 1370 => return EngineError::Denied(text),
        1290 | 1792 | 1836 => return EngineError::ReadOnly(text),
        1021 | 1114 => return EngineError::NoSpace(text),
        1644 => Constraint::Trigger,
        1062 | 1586 | 1859 => Constraint::Unique,
        1048 | 1364 => Constraint::NotNull,
        4025 | 3819 => Constraint::Check,
        1451 | 1452 | 1216 | 1217 => Constraint::ForeignKey,
        1264 | 1265 | 1292 | 1366 | 1367 | 1406 | 1365 | 1690 | 1411 | 1525 | 1526 => Constraint::Type,
        _ => return EngineError::Other(text),
    };
    EngineError::Constraint { kind, message: text }
}
