//! What SQLite did not compile, in words that help: where, what may have been meant, and what to write instead.

use marktwice_core::finding::{Code, Finding, Level};
use marktwice_core::near::nearest;
use marktwice_port::EngineError;
use marktwice_relational::unknown;
use marktwice_sql::dialect::language::Language;
use marktwice_sql::refuse::dialects;
use marktwice_sql::refuse::instead;
use marktwice_sql::refuse::slips::slip;
use marktwice_sql::statement::slicing::understand;
use marktwice_sql::text::slices::Slice;
use marktwice_sql::text::tables::tables_for;
use marktwice_sql::text::{tokenize, within};
use rusqlite::Connection;
use sqlparser::dialect::SQLiteDialect;

use crate::catalog::{Sort, describe, names};
use crate::error::message;

/// The engine's complaint about a text in double quotes.
pub(crate) fn quoted_word(
    connection: &Connection,
    source: &str,
    statement: Slice,
    error: &rusqlite::Error,
) -> Finding {
    let text = message(error);
    let word = text.strip_prefix("no such column: \"").and_then(|rest| rest.split('"').next()).unwrap_or("");
    let slice = offset_of(error).map(|at| statement.start + at);
    let start = slice.or_else(|| source.find(&format!("\"{word}\""))).unwrap_or(statement.start);
    let finding = Finding::new(
        Code::QuotedWord,
        format!("\"{word}\" is no column here; SQLite would take it as the text '{word}'"),
    )
    .at(marktwice_core::TextPlace::in_source(source, start, start + word.len() + 2));
    let known = columns_of(connection, &tables_for(source, Language::Sqlite, word));
    match nearest(word, known.iter().map(String::as_str)) {
        Some(near) if !near.eq_ignore_ascii_case(word) => {
            finding.hint(format!("did you mean the column {near}? If a text is meant, write '{word}'"))
        }
        _ => finding.hint(format!("if a text is meant, write '{word}'")),
    }
}

fn offset_of(error: &rusqlite::Error) -> Option<usize> {
    match error {
        rusqlite::Error::SqlInputError { offset, .. } => usize::try_from(*offset).ok(),
        _ => None,
    }
}

/// The columns of tables, of those that there are.
fn columns_of(connection: &Connection, tables: &[String]) -> Vec<String> {
    let described = tables.iter().filter_map(|table| describe(connection, table).ok());
    described.flat_map(|table| table.target.columns).map(|column| column.name).collect()
}

/// What is written instead of ORDER BY and LIMIT where the choice of keys cannot be made of them.
const LIMITED: &str =
    "this SQLite has no ORDER BY or LIMIT here; pick the rows by key: WHERE key IN (SELECT key … LIMIT n)";

/// Says what the engine did not compile, where, and what may have been meant.
pub(crate) fn compile_error(
    connection: &Connection,
    source: &str,
    statement: Slice,
    error: rusqlite::Error,
) -> EngineError {
    let text = message(&error);
    let missing = [
        ("no such column: ", "column"),
        ("no such table: ", "table"),
        ("no such function: ", "function"),
        ("no such collation sequence: ", "collation"),
        ("no such index: ", "index"),
    ];
    for (prefix, what) in missing {
        if let Some(name) = text.strip_prefix(prefix) {
            return unknown_name(connection, source, statement, name.trim(), what, offset_of(&error));
        }
    }
    if let Some((_, name)) = text.split_once(" has no column named ") {
        return unknown_name(connection, source, statement, name.trim(), "column", offset_of(&error));
    }
    let counts = [" values for ", " values were supplied", "must have the same number of terms"];
    if counts.iter().any(|said| text.contains(said)) {
        let place = marktwice_core::TextPlace::in_source(source, statement.start, statement.end);
        let finding = Finding::new(Code::NotUnderstood, text).at(place);
        return EngineError::Refused(Box::new(
            finding.hint("give each named column one value, in their order"),
        ));
    }
    if let Some(name) = text.strip_prefix("ambiguous column name: ") {
        let of = offset_of(&error).map(|at| statement.start + at);
        return ambiguous(source, statement, name, of);
    }
    if let Some(name) = text.strip_prefix("cannot UPDATE generated column ") {
        let name = name.trim_matches('"');
        return EngineError::Refused(Box::new(
            Finding::new(
                Code::EngineColumn,
                format!("{name} is computed by the engine and cannot be assigned"),
            )
            .at(place_of(source, statement, name))
            .weighing(Level::Stop)
            .hint("assign the columns that it is computed from"),
        ));
    }
    if let Some(name) = text.strip_prefix("cannot INSERT into generated column ") {
        let name = name.trim_matches('"');
        let message = format!("{name} is computed by the engine and cannot be given a value");
        return EngineError::Refused(Box::new(
            Finding::new(Code::EngineColumn, message)
                .at(place_of(source, statement, name))
                .weighing(Level::Stop)
                .hint("leave it out, with its values"),
        ));
    }
    if text.ends_with("because it is a view") || text.ends_with("may not be modified") {
        return not_writable(connection, source, statement, &text);
    }
    let at = offset_of(&error);
    let near_word = near_word(&text);
    let (start, end) = match (at, near_word) {
        (Some(at), Some(word)) => (statement.start + at, statement.start + at + word.len()),
        (Some(at), None) => (statement.start + at, statement.start + at + 1),
        (None, _) => (statement.end, statement.end),
    };
    let (start, end) =
        if text.contains("incomplete input") { (statement.end, statement.end) } else { (start, end) };
    let said = match near_word {
        Some(word) => format!("the statement is not understood from {word} on"),
        None if text.contains("incomplete input") => "the statement ends too early".to_owned(),
        None => text.clone(),
    };
    let limited = near_word.is_some_and(is_limit);
    let found = slip(source, statement, Language::Sqlite, start);
    let limited = limited
        && found.as_ref().is_none_or(|f| f.paste.is_none())
        && !dialects::is_name(Language::Sqlite, source, start);
    let (hint, other) = match found {
        _ if limited => (LIMITED.to_owned(), None),
        Some(found) => (found.hint, found.paste),
        None => ("correct the statement here, or just before".to_owned(), None),
    };
    let mut finding = Finding::new(Code::NotUnderstood, said)
        .at(marktwice_core::TextPlace::in_source(source, start, end))
        .hint(hint);
    if let Some(paste) = other {
        finding = finding.paste(paste);
    }
    if limited && let Some(paste) = by_key(connection, source, statement) {
        finding = finding.paste(paste);
    }
    EngineError::Refused(Box::new(finding))
}

/// The word from which on a statement is not understood, where the library names it.
fn near_word(message: &str) -> Option<&str> {
    message.strip_prefix("near \"").and_then(|rest| rest.split('"').next())
}

fn is_limit(word: &str) -> bool {
    word.eq_ignore_ascii_case("order") || word.eq_ignore_ascii_case("limit")
}

fn by_key(connection: &Connection, source: &str, statement: Slice) -> Option<String> {
    let tokens = tokenize(source, &SQLiteDialect {}).unwrap_or_default();
    let words = within(&tokens, statement);
    let mut key_of = |_: Option<&str>, name: &str| {
        describe(connection, name).map_or_else(|_| Vec::new(), |t| t.target.key.names)
    };
    instead::limited(source, &words, Language::Sqlite, &mut key_of)
}

/// A statement that is not compiled only because of its ORDER BY or LIMIT, as the choice of keys that it means.
pub(crate) fn limited_by_key(
    connection: &Connection,
    source: &str,
    statement: Slice,
    error: &rusqlite::Error,
) -> Option<String> {
    let text = message(error);
    near_word(&text).filter(|word| is_limit(word))?;
    let text = by_key(connection, source, statement)?;
    connection.prepare(&text).is_ok().then(|| text.trim_end_matches(';').to_owned())
}

/// Where a name stands first in the statement.
fn place_of(source: &str, statement: Slice, name: &str) -> marktwice_core::TextPlace {
    let last = name.rsplit('.').next().unwrap_or(name);
    let tokens = tokenize(source, &SQLiteDialect {}).unwrap_or_default();
    let found = within(&tokens, statement)
        .into_iter()
        .find(|t| t.name().is_some_and(|n| n.eq_ignore_ascii_case(last)))
        .map_or(statement, |t| t.slice);
    marktwice_core::TextPlace::in_source(source, found.start, found.end)
}

fn ambiguous(source: &str, statement: Slice, name: &str, at: Option<usize>) -> EngineError {
    let place = match at {
        Some(at) => marktwice_core::TextPlace::in_source(source, at, at + name.len()),
        None => place_of(source, statement, name),
    };
    let message = format!("{name} is a column of several of these tables");
    EngineError::Refused(Box::new(
        Finding::new(Code::AmbiguousName, message)
            .at(place)
            .hint(format!("write the table or its alias before it: table.{name}")),
    ))
}

/// A view, or a table of the engine's own.
fn not_writable(connection: &Connection, source: &str, statement: Slice, text: &str) -> EngineError {
    let view = text.ends_with("because it is a view");
    let name = text
        .trim_start_matches("cannot modify ")
        .trim_start_matches("table ")
        .split(' ')
        .next()
        .unwrap_or("");
    let tokens = tokenize(source, &SQLiteDialect {}).unwrap_or_default();
    let slice = tokens.iter().find(|t| t.name() == Some(name)).map_or(statement, |t| t.slice);
    let (code, what) = if view {
        (Code::AView, "is a view and has no rows of its own")
    } else {
        (Code::NotUnderstood, "is a table of SQLite's own: change the tables that are yours")
    };
    let finding = Finding::new(code, format!("{name} {what}")).at(marktwice_core::TextPlace::in_source(
        source,
        slice.start,
        slice.end,
    ));
    let paste = if view { as_base_table(connection, source, name) } else { None };
    EngineError::Refused(Box::new(match paste {
        Some(paste) => finding.hint("write the change for the view's base table:").paste(paste),
        None => finding,
    }))
}

/// The same change for the table that a view shows, where the view is plain.
pub(crate) fn as_base_table(connection: &Connection, source: &str, view: &str) -> Option<String> {
    // Where triggers stand for its writes, the base table is not what the statement would write.
    let sql = "SELECT sql FROM main.sqlite_schema AS v WHERE type = 'view' AND name = ?1 COLLATE NOCASE AND NOT EXISTS \
               (SELECT 1 FROM main.sqlite_schema AS t WHERE t.type = 'trigger' AND t.tbl_name = v.name COLLATE NOCASE)";
    let definition: String = connection.query_row(sql, [view], |row| row.get(0)).ok()?;
    instead::base_table(&understand(source, Language::Sqlite).ok()?, &definition)
}

fn unknown_name(
    connection: &Connection,
    source: &str,
    statement: Slice,
    name: &str,
    what: &str,
    at: Option<usize>,
) -> EngineError {
    let bare = name.split(" - should this").next().unwrap_or(name).trim_matches('"');
    let last = bare.rsplit('.').next().unwrap_or(bare);
    let tokens = tokenize(source, &SQLiteDialect {}).unwrap_or_default();
    let slice = match at {
        Some(at) => Some(Slice { start: statement.start + at, end: statement.start + at + bare.len() }),
        None => {
            tokens.iter().find(|t| t.name().is_some_and(|n| n.eq_ignore_ascii_case(last))).map(|t| t.slice)
        }
    };
    let slice = slice.unwrap_or(statement);
    // The columns of the tables that the statement names come before those of others.
    let first = match what {
        "column" => columns_of(connection, &tables_for(source, Language::Sqlite, bare)),
        "table" => names(connection, &[Sort::Table, Sort::View]).unwrap_or_default(),
        _ => Vec::new(),
    };
    let at = (slice.start, slice.end);
    let finding = unknown::unknown_name((Language::Sqlite, source), at, what, bare, &first);
    EngineError::Refused(Box::new(finding))
}
