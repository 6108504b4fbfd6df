//! MariaDB's errors in the port's words. Codes are those of
//! <https://mariadb.com/kb/en/mariadb-error-code-reference/>.

use marktwice_port::{Broken, Constraint, EngineError};
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

/// What is said of a connection that is not there any more, without the driver's names for it: `CodecError { IO error: `Broken
/// pipe (os error 32)' }`.
fn of_connection(text: &str) -> &str {
    let inner = text.split_once("{ ").map_or(text, |(_, inner)| inner.trim_end_matches([' ', '}']));
    inner.split_once('`').map_or(inner, |(_, said)| said.trim_end_matches('\''))
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
        let said = of_connection(&text);
        // A read that was given up: that it would block is how the system says so.
        if ["would block", "temporarily unavailable", "timed out"].iter().any(|s| said.contains(s)) {
            return EngineError::Other("the server has gone silent: it did not answer in time".to_owned());
        }
        return EngineError::Other(format!("the server ended the connection, or it was cut ({said})"));
    };
    // Space is told by the operating system, under several codes of the server's.
    if matches!(code, 3 | 1026 | 1030 | 1534)
        && ["No space left", "error 28"].iter().any(|s| text.contains(s))
    {
        return EngineError::no_space(text);
    }
    let kind = match code {
        1020 | 1412 => {
            return EngineError::moved("another transaction changed these rows in the meantime".to_owned());
        }
        1213 => {
            return EngineError::locked(
                "the server ended this transaction to undo a deadlock with another one".to_owned(),
            );
        }
        1205 | 3572 => {
            return EngineError::locked("rows or tables are locked by another transaction".to_owned());
        }
        1317 => return EngineError::Interrupted,
        1053 | 1152 | 1184 | 1927 => {
            return EngineError::Other(format!("the server ended the connection: {text}"));
        }
        1969 | 3024 => {
            return EngineError::Other("a statement took longer than the limit that was set".to_owned());
        }
        1142 | 1143 | 1044 | 1227 | 1370 => return EngineError::denied(text),
        1290 | 1792 | 1836 => return EngineError::read_only(text),
        1021 | 1114 => return EngineError::no_space(text),
        1242 => Constraint::OneValue,
        1644 => Constraint::Trigger,
        1062 | 1586 | 1859 => Constraint::Unique,
        1048 | 1364 => Constraint::NotNull,
        4025 | 3819 => Constraint::Check,
        1451 | 1452 | 1216 | 1217 => Constraint::ForeignKey,
        1264 | 1265 | 1292 | 1366 | 1367 | 1406 | 1365 | 1690 | 1411 | 1525 | 1526 => Constraint::Type,
        _ => return EngineError::Other(text),
    };
    let (name, columns) = named(kind, &text);
    EngineError::Constraint(Box::new(Broken { kind, name, columns, message: text }))
}

/// The name and the columns that stand in the server's words: `Duplicate entry 'x' for key 'email'`, ``CONSTRAINT `many`
/// failed for …``, ``(… CONSTRAINT `of` FOREIGN KEY (`apiary_id`) …)``, `Column 'name' cannot be null`. The server has no other
/// place for them, and says them otherwise in another language: then they are not known.
fn named(kind: Constraint, text: &str) -> (Option<String>, Vec<String>) {
    let behind = |sign: &str, open: char| {
        let rest = text.split_once(sign)?.1.strip_prefix(open)?;
        Some(rest.split_once(if open == '(' { ')' } else { open })?.0.to_owned())
    };
    match kind {
        // One server of the family names the table before the key.
        Constraint::Unique => {
            let key = behind("for key ", '\'');
            (key.map(|key| key.rsplit('.').next().unwrap_or(&key).to_owned()), Vec::new())
        }
        Constraint::Check => (behind("CONSTRAINT ", '`').or_else(|| behind("constraint ", '\'')), Vec::new()),
        Constraint::ForeignKey => {
            let list = behind("FOREIGN KEY ", '(').unwrap_or_default();
            let columns = list.split(", ").map(|c| c.trim_matches('`').to_owned()).filter(|c| !c.is_empty());
            (behind("CONSTRAINT ", '`'), columns.collect())
        }
        Constraint::NotNull | Constraint::Type => (None, behind("olumn ", '\'').into_iter().collect()),
        Constraint::Trigger | Constraint::OneValue => (None, Vec::new()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn connections_are_told_without_the_drivers_names() {
        let said = of_connection("CodecError { IO error: `Broken pipe (os error 32)' }");
        assert_eq!(said, "Broken pipe (os error 32)");
        assert_eq!(of_connection("CodecError { Packets out of sync }"), "Packets out of sync");
        assert_eq!(of_connection("connection reset"), "connection reset");
    }

    #[test]
    fn names_stand_in_the_servers_words() {
        let of = |kind, text| named(kind, text);
        let unique = of(Constraint::Unique, "Duplicate entry 'a' for key 'email'");
        assert_eq!(unique, (Some("email".to_owned()), vec![]));
        let unique = of(Constraint::Unique, "Duplicate entry 'a' for key 'keeper.email'");
        assert_eq!(unique, (Some("email".to_owned()), vec![]));
        let check = of(Constraint::Check, "Check constraint 'many' is violated.");
        assert_eq!(check, (Some("many".to_owned()), vec![]));
        let key = "Cannot add or update a child row: a foreign key constraint fails (`coop`.`hive`, CONSTRAINT `of` \
                   FOREIGN KEY (`a`, `b`) REFERENCES `apiary` (`x`, `y`))";
        let key = of(Constraint::ForeignKey, key);
        assert_eq!(key, (Some("of".to_owned()), vec!["a".to_owned(), "b".to_owned()]));
        let null = of(Constraint::NotNull, "Column 'name' cannot be null");
        assert_eq!(null, (None, vec!["name".to_owned()]));
        assert_eq!(
            of(Constraint::Check, "CONSTRAINT `many` failed for `coop`.`hive`").0.as_deref(),
            Some("many")
        );
        assert_eq!(of(Constraint::Type, "Data too long for column 'name' at row 1").1, ["name"]);
        assert_eq!(of(Constraint::Unique, "Doppelter Eintrag"), (None, vec![]));
    }
}
