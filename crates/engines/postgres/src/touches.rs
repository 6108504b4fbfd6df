//! What a step reads and writes: its text, the texts that it sets off, and the catalogue's word for what they name.

use marktwice_core::steps::{Touch, Touches};
use marktwice_port::{EngineError, Plan};
use marktwice_relational::driver::Origin;
use marktwice_relational::statement::detail;
use marktwice_relational::touches::{Relation, of_query, of_step};
use marktwice_sql::query::check::Question;

use crate::calls::{Read, columns_read, reached};
use crate::catalog::{Table, cell, family};
use crate::client::Pg;
use crate::copy::quoted;
use crate::detail::Detail;
use crate::error::engine;
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

/// The same as the server resolves it.
pub(crate) fn reads_as_resolved(
    pg: &mut Pg,
    question: &Question,
    temp: bool,
) -> Result<Touches, EngineError> {
    let mut touches = reads(pg, question, temp)?;
    // Where the server can be asked itself, its word counts: names in a text may be anything.
    if let Some(read) = columns_read(pg, temp, &question.text)? {
        let of = |Read { table, column, whole }: Read| match column {
            _ if whole => vec![Touch::all(&table)],
            Some(column) => vec![Touch::rows(&table), Touch::column(&table, &column)],
            None => vec![Touch::rows(&table)],
        };
        touches.reads = read.into_iter().flat_map(of).collect();
    } else {
        understands(pg, &question.text)?;
        // Nobody says which columns it reads of the tables that it names.
        let tables: Vec<String> = touches.reads.iter().map(|read| read.table.clone()).collect();
        touches.reads.extend(tables.iter().map(|table| Touch::all(table)));
    }
    Ok(touches)
}

/// Whether the server understands a query by itself: a part of one may use names from outside of it.
fn understands(pg: &mut Pg, query: &str) -> Result<(), EngineError> {
    pg.later("SAVEPOINT marktwice_understood");
    pg.settle()?;
    let sent = pg.with_params(query);
    let prepared = pg.client.prepare(sent.as_ref().map_or(query, |sent| &sent.text)).map(drop);
    pg.later("ROLLBACK TO SAVEPOINT marktwice_understood; RELEASE SAVEPOINT marktwice_understood");
    prepared.map_err(engine)
}

/// The column of a table or view that the one value of a query is, as the server says it.
pub(crate) fn origin(pg: &mut Pg, query: &str) -> Result<Option<Origin>, EngineError> {
    pg.later("SAVEPOINT marktwice_origin");
    pg.settle()?;
    let sent = pg.with_params(query);
    let prepared = pg.client.prepare(sent.as_ref().map_or(query, |sent| &sent.text));
    let found = prepared.map(|prepared| match prepared.columns() {
        [column] => column.table_oid().zip(column.column_id()),
        _ => None,
    });
    pg.later("ROLLBACK TO SAVEPOINT marktwice_origin; RELEASE SAVEPOINT marktwice_origin");
    let Some((table, column)) = found.map_err(engine)? else { return Ok(None) };
    let rows = pg.rows(&format!(
        "SELECT n.nspname, c.relname, a.attname FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_class c ON c.oid = a.attrelid \
         JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE a.attrelid = {table} AND a.attnum = {column}"
    ))?;
    Ok(rows.first().map(|row| Origin {
        schema: Some(cell(row, 0).to_owned()),
        table: cell(row, 1).to_owned(),
        column: cell(row, 2).to_owned(),
    }))
}

/// Tables that share rows with one: those that it inherits from or is a partition of, and those below, to any depth.
pub(crate) fn relatives(pg: &mut Pg, oid: &str) -> Result<Vec<String>, EngineError> {
    let rows = pg.rows(&format!(
        "{} SELECT f.relname FROM down JOIN pg_catalog.pg_class f ON f.oid = down.oid WHERE f.oid <> {oid}",
        family(&format!("{oid}::pg_catalog.oid"))
    ))?;
    Ok(rows.iter().map(|row| cell(row, 0).to_owned()).collect())
}

/// Tables and views of these names, in any schema, with the tables that a partition or a child shares its rows with.
fn relations(pg: &mut Pg, words: &[String]) -> Result<Vec<Relation>, EngineError> {
    let list: Vec<String> = words.iter().map(|w| quoted(w)).collect();
    if list.is_empty() {
        return Ok(Vec::new());
    }
    let rows = pg.rows(&format!(
        "SELECT c.relname, (SELECT pg_catalog.string_agg(a.attname, E'\\x1f') FROM pg_catalog.pg_attribute a WHERE a.attrelid = c.oid \
         AND a.attnum > 0 AND NOT a.attisdropped), \
         ({} SELECT pg_catalog.string_agg(f.relname, E'\\x1f') FROM down JOIN pg_catalog.pg_class f ON f.oid = down.oid WHERE f.oid <> c.oid), \
         c.relkind IN ('v', 'm'), CASE WHEN c.relkind IN ('v', 'm') THEN pg_catalog.pg_get_viewdef(c.oid) END \
         FROM pg_catalog.pg_class c WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND lower(c.relname) IN ({}) \
         AND c.relnamespace NOT IN ('pg_catalog'::pg_catalog.regnamespace, 'information_schema'::pg_catalog.regnamespace) ORDER BY c.oid",
        family("c.oid"),
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
