//! What a step reads and writes, as the engine's compile step says it: columns read through views and by triggers are among
//! them, foreign keys are not.

use marktwice_core::steps::{Touch, Touches};
use marktwice_port::{EngineError, Plan};
use marktwice_relational::driver::Origin;
use marktwice_relational::statement::detail;
use marktwice_relational::touches::keys;
use rusqlite::Connection;

use crate::catalog::Table;
use crate::error::engine;
use crate::plan::sent;
use crate::probe::{self, Act};

/// Compiles the statement once more, to look at all that it would do.
pub(crate) fn touches(connection: &mut Connection, plan: &Plan) -> Result<Touches, EngineError> {
    let detail = detail::<Table>(plan)?;
    let mut touches = of_text(connection, sent(plan))?;
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

/// The column that a name stands for in a query: of a table, through views where they pass it on as it is, or else of a view.
pub(crate) fn origin(
    connection: &mut Connection,
    head: &str,
    name: &str,
    tail: &str,
) -> Result<Option<Origin>, EngineError> {
    let query = format!("{head}\nSELECT {name}\n{tail}");
    {
        let statement = connection.prepare(&query).map_err(engine)?;
        let mut columns = statement.columns_with_metadata();
        if let (Some(column), None) = (columns.next(), columns.next())
            && let (Some(table), Some(own)) = (column.table_name(), column.origin_name())
        {
            let (table, column) = (table.to_owned(), own.to_owned());
            return Ok(Some(Origin { schema: None, table, column }));
        }
    }
    // What it reads more than the same query without it.
    let own = |deeds: Vec<probe::Deed>| {
        let reads = deeds.into_iter().filter(|deed| deed.by.is_none());
        reads.filter_map(|deed| match deed.act {
            Act::Read { table, column } if !column.is_empty() => Some((table, column)),
            _ => None,
        })
    };
    let mut more: Vec<(String, String)> = own(probe::acts(connection, &query).map_err(engine)?).collect();
    let bare = format!("{head}\nSELECT 1\n{tail}");
    for known in own(probe::acts(connection, &bare).map_err(engine)?) {
        if let Some(at) = more.iter().position(|one| *one == known) {
            more.swap_remove(at);
        }
    }
    let one = <[(String, String); 1]>::try_from(more).ok();
    Ok(one.map(|[(table, column)]| Origin { schema: None, table, column }))
}
