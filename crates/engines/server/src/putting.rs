//! Putting held rows back, in an order that works.

use marktwice_core::mark::StepKind;
use marktwice_port::EngineError;

use marktwice_sql::ours::{IS_WANTED, ORDINAL, THERE};

/// What a server does of it.
pub trait PutBack {
    /// Rows of one number or text each, of a query of our own.
    ///
    /// # Errors
    /// When the engine fails.
    fn list(&mut self, sql: &str) -> Result<Vec<String>, EngineError>;

    /// The held table, as it stands in a statement.
    fn held(&self) -> String;

    /// Puts all held rows of one kind back in one statement, or as many as that can be done with.
    ///
    /// # Errors
    /// When the engine refuses for another reason than that rows stand in each other's way.
    fn all(&mut self, kind: StepKind) -> Result<Together, EngineError>;

    /// Puts the row of an ordinal back; the inner error says that another row may have to go first.
    ///
    /// # Errors
    /// When the engine refuses for another reason.
    fn one(&mut self, kind: StepKind, ordinal: &str) -> Result<Result<u64, EngineError>, EngineError>;
}

/// How many rows went back in one statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Together {
    /// All of them.
    All(u64),
    /// So many; for those that are left this condition holds.
    Some(u64, String),
    /// Rows stand in each other's way, and nothing is left of the attempt.
    None,
}

/// Puts all held rows back. All rows of a kind go at once; when rows stand in each other's way (a unique value that is
/// handed on, a parent behind its child) they go one by one, and one that has to wait for another does: since the run
/// itself got from there to here one row at a time, there is an order that works.
///
/// # Errors
/// When the engine refuses a row, or another number of rows answers than were to be put back.
pub fn put(back: &mut dyn PutBack) -> Result<u64, EngineError> {
    let kinds = [
        (StepKind::Delete, format!("{THERE} AND NOT {IS_WANTED}")),
        (StepKind::Update, format!("{THERE} AND {IS_WANTED}")),
        (StepKind::Insert, format!("NOT {THERE} AND {IS_WANTED}")),
    ];
    let mut done = 0;
    for (kind, condition) in kinds {
        let held = back.held();
        let expected = back.list(&format!("SELECT count(*) FROM {held} WHERE {condition}"))?;
        let expected: u64 = expected.first().and_then(|n| n.parse().ok()).unwrap_or(0);
        if expected == 0 {
            continue;
        }
        let count = match back.all(kind)? {
            Together::All(count) => count,
            Together::Some(count, rest) => {
                count + one_by_one(back, kind, &format!("{condition} AND {rest}"))?
            }
            Together::None => one_by_one(back, kind, &condition)?,
        };
        if count != expected {
            return Err(EngineError::Other(format!("{count} rows answered where {expected} were put back")));
        }
        done += count;
    }
    Ok(done)
}

fn one_by_one(back: &mut dyn PutBack, kind: StepKind, condition: &str) -> Result<u64, EngineError> {
    let order = if kind == StepKind::Update { "DESC" } else { "ASC" };
    let held = back.held();
    let mut waiting =
        back.list(&format!("SELECT {ORDINAL} FROM {held} WHERE {condition} ORDER BY {ORDINAL} {order}"))?;
    let mut done = 0;
    while !waiting.is_empty() {
        let before = waiting.len();
        let mut still = Vec::new();
        let mut last = None;
        for ordinal in waiting {
            match back.one(kind, &ordinal)? {
                Ok(count) => done += count,
                Err(error) => {
                    last = Some(error);
                    still.push(ordinal);
                }
            }
        }
        if still.len() == before {
            return Err(
                last.unwrap_or_else(|| EngineError::Other("rows stand in each other's way".to_owned()))
            );
        }
        waiting = still;
    }
    Ok(done)
}
