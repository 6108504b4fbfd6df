//! What a step reads and writes: its text, the texts that it sets off, and the catalogue's word for what they name.

use marktwice_core::steps::Touches;
use marktwice_port::{EngineError, Plan};
use marktwice_relational::driver::Origin;
use marktwice_relational::statement::detail;
use marktwice_relational::touches::{Relation, of_query, of_step};
use marktwice_sql::Language;
use marktwice_sql::query::check::Question;
use marktwice_sql::query::mentions::{From, chain, relations_from};
use mysql::prelude::Queryable;

use crate::calls::reached;
use crate::catalog::{Table, cell, describe_found, find};
use crate::client::{My, literal};
use crate::detail::Detail;
use crate::error::engine;
use crate::grants::grants;
use crate::plan::called_by;

/// What a step reads and writes.
pub(crate) fn touches(my: &mut My, plan: &Plan) -> Result<Touches, EngineError> {
    let Detail { step, foreign_keys, reached, .. } = detail::<Table>(plan)?;
    of_step(step, plan, foreign_keys, reached, &mut |words| relations(my, words))
}

/// What a query of somebody's reads.
pub(crate) fn reads(my: &mut My, question: &Question) -> Result<Touches, EngineError> {
    let grants = grants(my)?;
    let own = my.schema.clone();
    let called = called_by(my, &question.step, &[], (&grants, &own))?.0;
    let reached = reached(my, &grants, &own, Vec::new(), &called)?;
    of_query(question, &[reached], &mut |words| relations(my, words))
}

/// The same of a query that the server understands by itself: a part of one may use names from outside of it.
pub(crate) fn reads_as_resolved(my: &mut My, question: &Question) -> Result<Touches, EngineError> {
    let (sent, _) = my.sent(&question.text, &[]);
    my.settle()?;
    let prepared = my.conn.prep(&*sent).map_err(engine)?;
    my.conn.close(prepared).map_err(engine)?;
    reads(my, question)
}

/// Tables and views of these names, in any database that this user may see.
fn relations(my: &mut My, words: &[String]) -> Result<Vec<Relation>, EngineError> {
    let list: Vec<String> = words.iter().map(|w| literal(w)).collect();
    if list.is_empty() {
        return Ok(Vec::new());
    }
    let rows = my.rows(&format!(
        "SELECT c.TABLE_SCHEMA, c.TABLE_NAME, c.COLUMN_NAME, v.TABLE_NAME IS NOT NULL, v.VIEW_DEFINITION \
         FROM information_schema.COLUMNS AS c LEFT JOIN information_schema.VIEWS AS v \
         ON v.TABLE_SCHEMA = c.TABLE_SCHEMA AND v.TABLE_NAME = c.TABLE_NAME WHERE lower(c.TABLE_NAME) IN ({}) \
         AND c.TABLE_SCHEMA NOT IN ('information_schema', 'mysql', 'performance_schema', 'sys') \
         ORDER BY 1, 2, c.ORDINAL_POSITION",
        list.join(", ")
    ))?;
    let mut all: Vec<(String, Relation)> = Vec::new();
    for row in &rows {
        let id = format!("{}.{}", cell(row, 0), cell(row, 1));
        if all.last().is_none_or(|(last, _)| *last != id) {
            let query = row.get(4).cloned().flatten().filter(|text| !text.is_empty());
            let (name, view) = (cell(row, 1).to_owned(), cell(row, 3) == "1");
            all.push((id, Relation { name, columns: Vec::new(), family: Vec::new(), view, query }));
        }
        if let Some((_, relation)) = all.last_mut() {
            relation.columns.push(cell(row, 2).to_owned());
        }
    }
    Ok(all.into_iter().map(|(_, relation)| relation).collect())
}

/// The column of a table or view that a name stands for behind FROM. The server's own description of an answer names a column's table
/// wrongly where a view or a subquery stands between, so the names are looked up here; where there is a subquery nobody can tell.
pub(crate) fn origin(my: &mut My, head: &str, name: &str, tail: &str) -> Result<Option<Origin>, EngineError> {
    if !head.trim().is_empty() {
        return Ok(None);
    }
    let Some(relations) = relations_from(tail, Language::Mysql) else { return Ok(None) };
    let mut parts = chain(name, Language::Mysql);
    let Some(column) = parts.pop() else { return Ok(None) };
    let owner = parts.pop();
    let mut found: Vec<Origin> = Vec::new();
    for From { schema, table, alias } in relations {
        let visible = alias.as_ref().unwrap_or(&table);
        if owner.as_ref().is_some_and(|owner| !owner.eq_ignore_ascii_case(visible)) {
            continue;
        }
        let Some(known) = find(my, schema.as_deref(), &table)? else { return Ok(None) };
        let described = describe_found(my, &known)?;
        if let Some(at) = described.target.position(&column) {
            let own = described.target.columns.get(at).map_or(column.clone(), |c| c.name.clone());
            found.push(Origin { schema: Some(known.schema), table: known.table, column: own });
        }
    }
    let one = <[Origin; 1]>::try_from(found).ok();
    Ok(one.map(|[origin]| origin))
}
