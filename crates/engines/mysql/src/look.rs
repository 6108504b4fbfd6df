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
use crate::client::{My, literal};
use crate::held::stream_plainly;
use crate::plan::Detail;
use crate::surroundings::count;

const LANGUAGE: Language = Language::Mysql;

/// The first rows of a plan, and the number of all.
pub(crate) fn peek(
    my: &mut My,
    plan: &Plan,
    limit: Option<u64>,
    sink: &mut RowSink<'_>,
) -> Result<u64, EngineError> {
    let detail: &Detail = detail(plan)?;
    my.reading(|my| {
        stream_plainly(my, plan, detail, limit, sink)?;
        my.count(&detail.step.query("count(*)", Ask::default()))
    })
}

/// One question with a limit, under the user's settings. A session that reads is in no transaction here.
fn ask(my: &mut My, sql: &str, until: Instant) -> Result<Answer, EngineError> {
    let left = until.saturating_duration_since(Instant::now()).min(PATIENCE);
    if left.is_zero() {
        return Err(EngineError::Interrupted);
    }
    // The one server calls it so and counts seconds, the other otherwise and milliseconds.
    let seconds = format!("SET SESSION max_statement_time = {}", left.as_secs_f64());
    let limited = my
        .run(&seconds)
        .or_else(|_| my.run(&format!("SET SESSION max_execution_time = {}", left.as_millis())));
    my.run("START TRANSACTION READ ONLY")?;
    let answer = limited.and_then(|()| my.ask(sql));
    my.run("ROLLBACK")?;
    answer
}

/// Gives the time back that questions took away.
fn unlimited(my: &mut My) {
    let _ = my
        .run(&format!("SET SESSION max_statement_time = {}", my.limit.unwrap_or_default().as_secs_f64()))
        .or_else(|_| {
            my.run(&format!("SET SESSION max_execution_time = {}", my.limit.unwrap_or_default().as_millis()))
        });
}

/// A closer look, in bounded time.
pub(crate) fn study(my: &mut My, plan: &Plan, wish: &Wish) -> Result<Study, EngineError> {
    let detail: &Detail = detail(plan)?;
    if !detail.quiet {
        let skipped = Some("the statement calls what only the run may call".to_owned());
        return Ok(Study { skipped, ..Study::default() });
    }
    let links =
        links(LANGUAGE, &detail.foreign_keys, &plan.target, &detail.table.shown, &mut |schema, table| {
            Ok(describe(my, schema, table)?.target)
        })?;
    let (target, pinned) = (&plan.target, plan.pin != Pin::Nothing);
    let subject = Subject { step: &detail.step, target, links: &links, pinned };
    let until = Instant::now() + PATIENCE_IN_ALL;
    let found = look_closer(subject, wish, &mut |sql| ask(my, sql, until));
    unlimited(my);
    Ok(found)
}

/// All tables of the connection's database.
pub(crate) fn tables(my: &mut My) -> Result<Vec<TableSummary>, EngineError> {
    let names = my.rows(
        "SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = database() \
         AND TABLE_TYPE = 'BASE TABLE' ORDER BY TABLE_NAME",
    )?;
    let until = Instant::now() + PATIENCE_IN_ALL;
    let mut all = Vec::new();
    for name in names.into_iter().filter_map(|row| row.into_iter().next().flatten()) {
        let table = describe(my, "", &name)?;
        let rows = ask(my, &format!("SELECT count(*) FROM {}", table.name), until).ok();
        all.push(TableSummary {
            rows: rows.map(|a| a.count(0, 0)),
            key: table.target.key.names.clone(),
            columns: table.target.columns.len(),
            table: name,
        });
    }
    unlimited(my);
    Ok(all)
}

/// One table in full.
pub(crate) fn survey(my: &mut My, schema: Option<&str>, name: &str) -> Result<Survey, EngineError> {
    let found =
        find(my, schema, name)?.ok_or_else(|| EngineError::NotFound(format!("there is no table {name}")))?;
    let table = describe_found(my, &found)?;
    let target = table.target.clone();
    let keys = table.keys.iter();
    let keys: Vec<DeclaredKey> =
        keys.map(|k| DeclaredKey { primary: k.primary, columns: target.names(&k.columns) }).collect();
    let all = foreign_keys(my, &table)?;
    let texts = |my: &mut My, sql: &str| -> Result<Vec<String>, EngineError> {
        Ok(my.rows(sql)?.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect())
    };
    let here = (literal(&target.schema), literal(&target.table));
    let declared = Declared {
        defaults: table.types.iter().map(|t| t.default.clone()).collect(),
        refers: all.iter().filter(|k| k.child == table.shown).map(|k| k.reference()).collect(),
        referred: all.iter().filter(|k| k.parent == table.shown).map(|k| k.reference()).collect(),
        // Older servers of the family have no such view.
        checks: texts(
            my,
            &format!(
                "SELECT concat('CHECK (', CHECK_CLAUSE, ')') FROM information_schema.CHECK_CONSTRAINTS \
                 WHERE CONSTRAINT_SCHEMA = {} AND TABLE_NAME = {} ORDER BY CONSTRAINT_NAME",
                here.0, here.1
            ),
        )
        .unwrap_or_default(),
        triggers: texts(
            my,
            &format!(
                "SELECT concat(TRIGGER_NAME, ': ', ACTION_TIMING, ' ', EVENT_MANIPULATION) \
                 FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA = {} AND EVENT_OBJECT_TABLE = {} \
                 ORDER BY TRIGGER_NAME",
                here.0, here.1
            ),
        )?,
        keys,
    };
    let rows = count(my, &table)?;
    let until = Instant::now() + PATIENCE;
    let unique =
        unique_in_fact(LANGUAGE, &target, &table.name, &declared.keys, rows, &mut |sql| ask(my, sql, until));
    unlimited(my);
    let skipped = unique.is_err().then(|| "what is unique in the data: it takes too long".to_owned());
    Ok(Survey { target, declared, rows, unique_in_fact: unique.unwrap_or_default(), skipped })
}
