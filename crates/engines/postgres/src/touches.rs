//! What a step reads and writes: its text, the texts that it sets off, and the catalogue's word for what they name.

use marktwice_core::steps::Touches;
use marktwice_port::{EngineError, Plan};
use marktwice_relational::statement::detail;
use marktwice_relational::touches::{Relation, of_query, of_step};
use marktwice_sql::query::check::Question;

use crate::calls::reached;
use crate::catalog::{Table, cell};
use crate::client::Pg;
use crate::copy::quoted;
use crate::detail::Detail;
use crate::plan::called_by;

/// What a step reads and writes.
pub(crate) fn touches(pg: &mut Pg, plan: &Plan) -> Result<Touches, EngineError> {
    let Detail { step, foreign_keys, reached, .. } = detail::<Table>(plan)?;
    of_step(step, plan, foreign_keys, reached, &mut |words| relations(pg, words))
}

/// What a query of somebody's reads.
pub(crate) fn reads(pg: &mut Pg, question: &Question, temp: bool) -> Result<Touches, EngineError> {
    let called = called_by(pg, &question.step, &[], temp)?.0;
    let reached = reached(pg, Vec::new(), &called.bodies)?;
    of_query(question, &[reached], &mut |words| relations(pg, words))
}

/// Tables and views of these names, in any schema, with the tables that a partition or a child shares its rows with.
fn relations(pg: &mut Pg, words: &[String]) -> Result<Vec<Relation>, EngineError> {
    let list: Vec<String> = words.iter().map(|w| quoted(w)).collect();
    if list.is_empty() {
        return Ok(Vec::new());
    }
    let rows = pg.rows(&format!(
        "SELECT c.relname, (SELECT string_agg(a.attname, E'\\x1f') FROM pg_attribute a WHERE a.attrelid = c.oid \
         AND a.attnum > 0 AND NOT a.attisdropped), \
         (WITH RECURSIVE up(oid) AS (SELECT c.oid UNION SELECT i.inhparent FROM up JOIN pg_inherits i ON i.inhrelid = up.oid), \
          down(oid) AS (SELECT oid FROM up UNION SELECT i.inhrelid FROM down JOIN pg_inherits i ON i.inhparent = down.oid) \
          SELECT string_agg(f.relname, E'\\x1f') FROM down JOIN pg_class f ON f.oid = down.oid WHERE f.oid <> c.oid), \
         c.relkind IN ('v', 'm'), CASE WHEN c.relkind IN ('v', 'm') THEN pg_get_viewdef(c.oid) END \
         FROM pg_class c WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND lower(c.relname) IN ({}) \
         AND c.relnamespace NOT IN ('pg_catalog'::regnamespace, 'information_schema'::regnamespace) ORDER BY c.oid",
        list.join(", ")
    ))?;
    let names = |text: &str| {
        text.split('\u{1f}').filter(|n| !n.is_empty()).map(str::to_owned).collect::<Vec<String>>()
    };
    Ok(rows
        .iter()
        .map(|row| Relation {
            name: cell(row, 0).to_owned(),
            columns: names(cell(row, 1)),
            family: names(cell(row, 2)),
            view: cell(row, 3) == "t",
            query: row.get(4).cloned().flatten(),
        })
        .collect())
}
