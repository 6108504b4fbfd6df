//! Tables that are published to other servers, and whether this server lets them be written.

use marktwice_core::mark::StepKind;
use marktwice_port::EngineError;
use postgres::error::SqlState;

use crate::catalog::{Table, ident};
use crate::client::Pg;

/// Why the server would refuse to write a published table: its subscribers could not tell which row is meant (no replica
/// identity, or a publication's columns and row filter that go beyond it). The server checks that when a plan for the
/// table is started, and EXPLAIN starts it without running it: so every partition is asked about, and each version's own
/// rules. The savepoint gives the locks back. On a standby nothing is written anyhow.
pub(crate) fn refusal(
    pg: &mut Pg,
    table: &Table,
    kind: StepKind,
    column: Option<usize>,
) -> Result<Option<String>, EngineError> {
    let column = column.and_then(|at| table.target.columns.get(at)).map(|c| ident(&c.name));
    let plain = match (kind, column) {
        (StepKind::Update, Some(name)) => format!("EXPLAIN UPDATE {} SET {name} = {name}", table.name),
        (StepKind::Delete, _) => format!("EXPLAIN DELETE FROM {}", table.name),
        _ => return Ok(None),
    };
    let published = "SELECT EXISTS (SELECT 1 FROM pg_catalog.pg_publication WHERE pubupdate OR pubdelete) AND NOT pg_catalog.pg_is_in_recovery()";
    if pg.one(published)?.as_deref() != Some("t") {
        return Ok(None);
    }
    pg.later("SAVEPOINT marktwice_published");
    pg.settle()?;
    let asked = pg.client.simple_query(&plain);
    pg.later("ROLLBACK TO SAVEPOINT marktwice_published; RELEASE SAVEPOINT marktwice_published");
    Ok(asked.err().and_then(|error| {
        let db = error.as_db_error()?;
        let code = db.code();
        let refused = *code == SqlState::OBJECT_NOT_IN_PREREQUISITE_STATE
            || *code == SqlState::INVALID_COLUMN_REFERENCE;
        refused.then(|| format!("{} is published and may not be written: {}", table.shown, db.message()))
    }))
}
