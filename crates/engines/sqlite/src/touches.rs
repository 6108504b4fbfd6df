//! What a step reads and writes, as the engine's compile step says it: columns read through views and by triggers are among
//! them, foreign keys are not.

use marktwice_core::steps::{Touch, Touches};
use marktwice_port::{EngineError, Plan};
use marktwice_relational::statement::detail;
use marktwice_relational::touches::keys;
use rusqlite::Connection;

use crate::catalog::Table;
use crate::error::engine;
use crate::probe::{self, Act};

/// Compiles the statement once more, to look at all that it would do.
pub(crate) fn touches(connection: &mut Connection, plan: &Plan) -> Result<Touches, EngineError> {
    let detail = detail::<Table>(plan)?;
    let mut touches = of_text(connection, &plan.statement)?;
    touches.of_target(&plan.target.table, plan.kind, &plan.target, &plan.foreseen);
    keys(&mut touches, &detail.foreign_keys, &plan.target, plan.kind, &plan.foreseen);
    Ok(touches)
}

/// What a text would read and write; it is compiled, and not run.
pub(crate) fn of_text(connection: &mut Connection, sql: &str) -> Result<Touches, EngineError> {
    let mut touches = Touches::default();
    for step in probe::acts(connection, sql).map_err(engine)? {
        match step.act {
            Act::Read { table, column } => {
                touches.reads.push(Touch::rows(&table));
                // A row's number may be a column by another name.
                touches.reads.push(match column.as_str() {
                    "" => Touch::rows(&table),
                    name if name.eq_ignore_ascii_case("rowid") => Touch::all(&table),
                    name => Touch::column(&table, name),
                });
            }
            Act::Update { table, column } => touches.writes.push(Touch::column(&table, &column)),
            Act::Insert { table } | Act::Delete { table } => touches.writes.push(Touch::rows(&table)),
            Act::Other => {}
        }
    }
    Ok(touches)
}
