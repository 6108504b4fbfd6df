//! Looking at a database: its tables, one of them in full, and rows that a filter matches. Nothing is kept and nothing
//! is written.

use marktwice_core::mark::HeldRow;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::table::Target;
use marktwice_port::{EngineError, Intent, Session};

use crate::context::Context;
use crate::outcome::Failure;

/// What was looked at, and in which database.
#[derive(Debug, Clone)]
pub struct Seen<T> {
    /// The database.
    pub database: DatabaseId,
    /// What happened on opening that a person should know.
    pub notes: Vec<String>,
    /// What was seen.
    pub seen: T,
}

/// The rows that a filter matches.
#[derive(Debug, Clone, PartialEq)]
pub struct Rows {
    /// The table.
    pub target: Target,
    /// How many there are.
    pub matched: u64,
    /// The first of them.
    pub rows: Vec<HeldRow>,
}

fn open<T>(
    context: &Context<'_>,
    work: impl FnOnce(&mut dyn Session) -> Result<T, EngineError>,
) -> Result<Seen<T>, Failure> {
    let mut session = context.open(Intent::Read)?;
    let seen = work(&mut *session)?;
    Ok(Seen { database: session.database().clone(), notes: session.notes().to_vec(), seen })
}

/// All tables.
///
/// # Errors
/// When the database fails.
pub fn tables(context: &Context<'_>) -> Result<Seen<Vec<TableSummary>>, Failure> {
    open(context, |session| session.tables())
}

/// One table in full.
///
/// # Errors
/// When there is no such table, or the database fails.
pub fn survey(context: &Context<'_>, schema: Option<&str>, table: &str) -> Result<Seen<Survey>, Failure> {
    open(context, |session| session.survey(schema, table))
}

/// The columns and the key of a table.
///
/// # Errors
/// When there is no such table, or the database fails.
pub fn target(context: &Context<'_>, schema: Option<&str>, table: &str) -> Result<Seen<Target>, Failure> {
    open(context, |session| session.describe(schema.unwrap_or(""), table))
}

/// The first rows that a statement would match, and the number of all; the statement is never run.
///
/// # Errors
/// When the statement is refused, or the database fails.
pub fn rows(context: &Context<'_>, statement: &str, limit: Option<u64>) -> Result<Seen<Rows>, Failure> {
    open(context, |session| {
        let plan = session.plan(statement, &[])?;
        let mut rows = Vec::new();
        let matched = session.peek(&plan, limit, &mut |row| {
            rows.push(row.clone());
            Ok(())
        })?;
        Ok(Rows { target: plan.target, matched, rows })
    })
}
