//! Looking without changing: the first rows of a filter, a closer look at a step, tables and what the catalogue says of
//! one.

use std::time::Instant;

use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Declared, DeclaredKey, Survey, TableSummary};
use marktwice_core::table::Pin;
use marktwice_port::engine::{PATIENCE, PATIENCE_IN_ALL, RowSink};
use marktwice_port::{EngineError, Plan};
use marktwice_server::links::links;
use marktwice_server::statement::detail;
use marktwice_sql::Language;
use marktwice_sql::ask::Answer;
use marktwice_sql::row_query::Ask;
use marktwice_sql::study::{Subject, study as look_closer};
use marktwice_sql::survey::unique_in_fact;

use crate::catalog::{describe, describe_found, find, foreign_keys};
use crate::client::Pg;
use crate::copy::quoted;
use crate::held::stream_plainly;
use crate::plan::Detail;
use crate::surroundings::count;

const LANGUAGE: Language = Language::Postgres;

/// The first rows of a plan, and the number of all.
pub(crate) fn peek(
    pg: &mut Pg,
    plan: &Plan,
    limit: Option<u64>,
    sink: &mut RowSink<'_>,
) -> Result<u64, EngineError> {
    let detail: &Detail = detail(plan)?;
    pg.plainly(|pg| {
        stream_plainly(pg, plan, detail, limit, sink)?;
        pg.count(&detail.step.query("count(*)", Ask::default()))
    })
}

/// One question with a limit, under the user's settings, of which nothing is left but its answer.
fn ask(pg: &mut Pg, sql: &str, until: Instant) -> Result<Answer, EngineError> {
    let left = until.saturating_duration_since(Instant::now()).min(PATIENCE).as_millis();
    if left == 0 {
        return Err(EngineError::Interrupted);
    }
    pg.looking(|pg| {
        pg.run(&format!("SAVEPOINT marktwice_ask; SET LOCAL statement_timeout = {left}"))?;
        let answer = pg.ask(sql);
        pg.run("ROLLBACK TO SAVEPOINT marktwice_ask; RELEASE SAVEPOINT marktwice_ask")?;
        answer
    })
}

/// A closer look, in bounded time.
pub(crate) fn study(pg: &mut Pg, plan: &Plan, wish: &Wish) -> Result<Study, EngineError> {
    let detail: &Detail = detail(plan)?;
    if !detail.quiet {
        let skipped = Some("the statement calls what only the run may call".to_owned());
        return Ok(Study { skipped, ..Study::default() });
    }
    let links =
        links(LANGUAGE, &detail.foreign_keys, &plan.target, &detail.table.shown, &mut |schema, table| {
            Ok(describe(pg, schema, table)?.target)
        })?;
    let (target, pinned) = (&plan.target, plan.pin != Pin::Nothing);
    let subject = Subject { step: &detail.step, target, links: &links, pinned };
    let until = Instant::now() + PATIENCE_IN_ALL;
    Ok(look_closer(subject, wish, &mut |sql| ask(pg, sql, until)))
}

/// All tables of the search path.
pub(crate) fn tables(pg: &mut Pg) -> Result<Vec<TableSummary>, EngineError> {
    let names = pg.rows(
        "SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
         WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND n.nspname = ANY (current_schemas(false)) \
         ORDER BY 2, 1",
    )?;
    let until = Instant::now() + PATIENCE_IN_ALL;
    let mut all = Vec::new();
    for row in names {
        let name = |at: usize| row.get(at).cloned().flatten().unwrap_or_default();
        let table = describe(pg, &name(0), &name(1))?;
        let rows = ask(pg, &format!("SELECT count(*) FROM {}", table.from), until).ok();
        all.push(TableSummary {
            table: table.shown.clone(),
            rows: rows.map(|a| a.count(0, 0)),
            key: table.target.key.names.clone(),
            columns: table.target.columns.len(),
        });
    }
    Ok(all)
}

/// One table in full.
pub(crate) fn survey(pg: &mut Pg, schema: Option<&str>, name: &str) -> Result<Survey, EngineError> {
    let found =
        find(pg, schema, name)?.ok_or_else(|| EngineError::NotFound(format!("there is no table {name}")))?;
    let table = describe_found(pg, &found)?;
    let target = table.target.clone();
    let keys = table.keys.iter();
    let keys: Vec<DeclaredKey> =
        keys.map(|k| DeclaredKey { primary: k.primary, columns: target.names(&k.columns) }).collect();
    let all = foreign_keys(pg)?;
    let texts = |pg: &mut Pg, sql: &str| -> Result<Vec<String>, EngineError> {
        Ok(pg.rows(sql)?.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect())
    };
    let oid = quoted(&table.oid);
    let declared = Declared {
        defaults: table.types.iter().map(|t| t.default.clone()).collect(),
        refers: all.iter().filter(|k| k.child == table.shown).map(|k| k.reference()).collect(),
        referred: all.iter().filter(|k| k.parent == table.shown).map(|k| k.reference()).collect(),
        checks: texts(
            pg,
            &format!(
                "SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = {oid}::oid \
                 AND contype IN ('c', 'x') ORDER BY conname"
            ),
        )?,
        triggers: texts(
            pg,
            &format!(
                "SELECT tgname || ': ' || substring(pg_get_triggerdef(oid) FROM ' ((BEFORE|AFTER|INSTEAD OF) .*) ON ') \
                 FROM pg_trigger WHERE tgrelid = {oid}::oid AND NOT tgisinternal ORDER BY tgname"
            ),
        )?,
        keys,
    };
    let rows = count(pg, &table)?;
    let until = Instant::now() + PATIENCE;
    let unique =
        unique_in_fact(LANGUAGE, &target, &table.from, &declared.keys, rows, &mut |sql| ask(pg, sql, until));
    let skipped = unique.is_err().then(|| "what is unique in the data: it takes too long".to_owned());
    Ok(Survey { target, declared, rows, unique_in_fact: unique.unwrap_or_default(), skipped })
}
