//! What a statement writes outside its matched rows: triggers, from the engine's compile step; actions of foreign
//! keys, from the catalogue.

use marktwice_port::{EngineError, SideHow, SideWrite};
use marktwice_sql::text::tokenize;
use rusqlite::Connection;
use sqlparser::dialect::SQLiteDialect;

use crate::catalog::Table;
use crate::error::engine;
use crate::probe::{Act, Deed};

/// What the triggers that a statement fires would do.
#[derive(Debug, Default)]
pub(crate) struct Fired {
    /// Tables they write.
    pub(crate) writes: Vec<SideWrite>,
    /// Columns of the target that they update, with the trigger's name.
    pub(crate) target_columns: Vec<(usize, String)>,
    /// Whether there is any.
    pub(crate) any: bool,
    /// A trigger that may silently skip rows.
    pub(crate) skips: Option<String>,
    /// A trigger that takes rows of the target away, or brings others in.
    pub(crate) takes: Option<String>,
}

/// Reads the triggers' part out of a compile step.
pub(crate) fn fired(connection: &Connection, acts: &[Deed], table: &Table) -> Result<Fired, EngineError> {
    let mut fired = Fired::default();
    let mut seen: Vec<&str> = Vec::new();
    for step in acts {
        let Some(by) = step.by.as_deref() else { continue };
        let Some(text) = trigger_text(connection, by).map_err(engine)? else { continue };
        fired.any = true;
        if !seen.contains(&by) {
            seen.push(by);
            if fired.skips.is_none() && may_ignore(&text) {
                fired.skips = Some(by.to_owned());
            }
        }
        let written = match &step.act {
            Act::Update { table: of, column } => {
                if of.eq_ignore_ascii_case(&table.target.table)
                    && let Some(at) = table.target.position(column)
                    && !fired.target_columns.iter().any(|(c, _)| *c == at)
                {
                    fired.target_columns.push((at, by.to_owned()));
                }
                of
            }
            Act::Insert { table: of } | Act::Delete { table: of } => {
                if of.eq_ignore_ascii_case(&table.target.table) {
                    fired.takes.get_or_insert(by.to_owned());
                }
                of
            }
            Act::Read { .. } | Act::Other => continue,
        };
        let write = SideWrite::new(written.clone(), SideHow::Trigger(by.to_owned()), None);
        if !fired.writes.contains(&write) {
            fired.writes.push(write);
        }
    }
    Ok(fired)
}

fn trigger_text(connection: &Connection, name: &str) -> rusqlite::Result<Option<String>> {
    let sql = "SELECT sql FROM main.sqlite_schema WHERE type = 'trigger' AND name = ?1 COLLATE NOCASE";
    match connection.query_row(sql, [name], |row| row.get(0)) {
        Ok(text) => Ok(Some(text)),
        Err(rusqlite::Error::QueryReturnedNoRows) => Ok(None),
        Err(error) => Err(error),
    }
}

fn may_ignore(trigger: &str) -> bool {
    // A text that cannot be cut into words counts as one that may.
    let Ok(tokens) = tokenize(trigger, &SQLiteDialect {}) else { return true };
    tokens.iter().any(|t| t.is_word("raise")) && tokens.iter().any(|t| t.is_word("ignore"))
}
