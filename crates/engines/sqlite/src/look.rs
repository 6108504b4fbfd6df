//! What the catalogue says of a table beside its columns and keys.

use marktwice_port::EngineError;
use marktwice_sql::text::tokenize;
use rusqlite::Connection;
use sqlparser::dialect::SQLiteDialect;
use sqlparser::tokenizer::Token;

use crate::error::engine;

/// The texts of the columns' defaults.
pub(crate) fn defaults(connection: &Connection, table: &str) -> Result<Vec<Option<String>>, EngineError> {
    let sql = "SELECT dflt_value FROM pragma_table_xinfo(?1, 'main') ORDER BY cid";
    let mut statement = connection.prepare(sql).map_err(engine)?;
    let rows = statement.query_map([table], |row| row.get(0)).map_err(engine)?;
    rows.collect::<rusqlite::Result<_>>().map_err(engine)
}

fn definition(
    connection: &Connection,
    sort: &str,
    table: &str,
) -> Result<Vec<(String, String)>, EngineError> {
    let mut statement = connection
        .prepare(
            "SELECT name, sql FROM main.sqlite_schema WHERE type = ?1 AND tbl_name = ?2 COLLATE NOCASE ORDER BY name",
        )
        .map_err(engine)?;
    let rows = statement.query_map([sort, table], |row| Ok((row.get(0)?, row.get(1)?))).map_err(engine)?;
    rows.collect::<rusqlite::Result<_>>().map_err(engine)
}

/// The texts of CHECK in a definition.
pub(crate) fn checks(connection: &Connection, table: &str) -> Result<Vec<String>, EngineError> {
    let Some((_, text)) = definition(connection, "table", table)?.into_iter().next() else {
        return Ok(Vec::new());
    };
    let Ok(tokens) = tokenize(&text, &SQLiteDialect {}) else { return Ok(Vec::new()) };
    let words: Vec<_> = tokens.iter().filter(|t| !t.is_blank()).collect();
    let mut all = Vec::new();
    for (at, word) in words.iter().enumerate().filter(|(_, t)| t.is_word("check")) {
        let mut depth = 0;
        for token in words.iter().skip(at + 1) {
            depth += i32::from(token.is(&Token::LParen)) - i32::from(token.is(&Token::RParen));
            if depth == 0 {
                let part = text.get(word.slice.end..token.slice.end).unwrap_or("");
                all.push(part.split_whitespace().collect::<Vec<_>>().join(" "));
                break;
            }
        }
    }
    Ok(all)
}

/// Triggers, each with when it fires.
pub(crate) fn triggers(connection: &Connection, table: &str) -> Result<Vec<String>, EngineError> {
    let all = definition(connection, "trigger", table)?;
    Ok(all
        .into_iter()
        .map(|(name, text)| {
            let tokens = tokenize(&text, &SQLiteDialect {}).unwrap_or_default();
            let words: Vec<&str> = tokens
                .iter()
                .filter(|t| !t.is_blank())
                .map(|t| t.slice.of(&text).trim())
                .skip_while(|w| {
                    !["before", "after", "instead", "insert", "update", "delete"]
                        .contains(&w.to_ascii_lowercase().as_str())
                })
                .take_while(|w| !w.eq_ignore_ascii_case("on"))
                .collect();
            format!("{name}: {}", words.join(" "))
        })
        .collect())
}
