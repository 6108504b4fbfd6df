//! Looking without changing: the first rows of a filter, a closer look at a step, tables and what the catalogue says of
//! one.

use std::time::Instant;

use marktwice_core::mark::{After, HeldRow};
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Declared, DeclaredKey, Survey, TableSummary};
use marktwice_core::table::{KeyKind, Pin};
use marktwice_port::engine::{PATIENCE, PATIENCE_IN_ALL, RowSink};
use marktwice_port::{EngineError, Plan};
use marktwice_sql::Language;
use marktwice_sql::row_query::Ask;
use marktwice_sql::study::{Link, Subject, study as look_closer};
use marktwice_sql::survey::unique_in_fact;
use marktwice_sql::text::tokenize;
use rusqlite::Connection;
use sqlparser::dialect::SQLiteDialect;
use sqlparser::tokenizer::Token;

use crate::ask::ask;
use crate::catalog::{Sort, describe, find, foreign_keys, names};
use crate::error::engine;
use crate::names::quoted;
use crate::session::{SqliteSession, count, detail};
use crate::values;
use marktwice_server::reach::ForeignKey;

/// Virtual machine steps between two looks at the clock.
const STEPS: i32 = 10_000;

/// The first rows of a plan, and the number of all.
pub(crate) fn peek(
    connection: &Connection,
    plan: &Plan,
    limit: Option<u64>,
    sink: &mut RowSink<'_>,
) -> Result<u64, EngineError> {
    let detail = detail(plan)?;
    let (step, table) = (&detail.step, &detail.table);
    let visible = quoted(&step.table.visible().text);
    let by_row = table.target.key.kind == KeyKind::RowIdentity;
    let row = table.row.as_ref().filter(|_| by_row).map(|row| format!("{visible}.{}", quoted(row)));
    let key = table.target.key.names.iter().map(|k| format!("{visible}.{}", quoted(k)));
    let order = row.clone().unwrap_or_else(|| key.collect::<Vec<_>>().join(", "));
    let columns = table.target.columns.iter().map(|c| format!("{visible}.{}", quoted(&c.name)));
    let select: Vec<String> = row.into_iter().chain(columns).collect();
    let end = limit.map_or(String::new(), |n| format!("LIMIT {n}"));
    let sql = step.row_query(&select, Ask { also: None, order: &order, end: &end });
    let mut statement = connection.prepare(&sql).map_err(engine)?;
    let mut rows = statement.query([]).map_err(engine)?;
    let first = usize::from(by_row);
    let mut ordinal = 0;
    while let Some(row) = rows.next().map_err(engine)? {
        let (mut key, mut before) = (Vec::new(), Vec::new());
        values::read(row, first, table.target.columns.len(), &mut before).map_err(engine)?;
        if by_row {
            values::read(row, 0, 1, &mut key).map_err(engine)?;
        } else {
            key.extend(table.target.key.columns.iter().filter_map(|&at| before.get(at).cloned()));
        }
        ordinal += 1;
        sink(&HeldRow { ordinal, key, before, after: After::Gone }).map_err(EngineError::Sink)?;
    }
    Ok(ask(connection, &step.query("count(*)", Ask::default()))?.count(0, 0))
}

/// A closer look, in bounded time.
pub(crate) fn study(session: &mut SqliteSession, plan: &Plan, wish: &Wish) -> Result<Study, EngineError> {
    let detail = detail(plan)?;
    let connection = session.connection_mut()?;
    let links = links(connection, &detail.foreign_keys, &detail.table.target)?;
    let subject =
        Subject { step: &detail.step, target: &plan.target, links: &links, pinned: plan.pin != Pin::Nothing };
    let end = Instant::now() + PATIENCE_IN_ALL;
    let found = look_closer(subject, wish, &mut |sql| {
        let until = end.min(Instant::now() + PATIENCE);
        connection.progress_handler(STEPS, Some(move || Instant::now() >= until)).map_err(engine)?;
        ask(connection, sql)
    });
    connection.progress_handler(0, None::<fn() -> bool>).map_err(engine)?;
    Ok(found)
}

fn links(
    connection: &Connection,
    keys: &[ForeignKey],
    target: &marktwice_core::Target,
) -> Result<Vec<Link>, EngineError> {
    let mut all = Vec::new();
    for key in keys.iter().filter(|k| k.child.eq_ignore_ascii_case(&target.table)) {
        let ([child], [parent]) = (key.child_columns.as_slice(), key.parent_columns.as_slice()) else {
            continue;
        };
        let Some(column) = target.position(child) else { continue };
        if !find(connection, &key.parent)?.is_some_and(|(_, sort, ..)| sort == Sort::Table) {
            continue;
        }
        let of = describe(connection, &key.parent)?.target;
        let naming = of.naming.and_then(|at| of.columns.get(at)).map(|c| c.name.clone());
        all.extend(naming.filter(|n| !n.eq_ignore_ascii_case(parent)).map(|naming| Link {
            column,
            parent: format!("main.{}", quoted(&key.parent)),
            key: quoted(parent),
            naming: quoted(&naming),
        }));
    }
    Ok(all)
}

/// All tables of the file.
pub(crate) fn tables(connection: &mut Connection) -> Result<Vec<TableSummary>, EngineError> {
    let mut all = Vec::new();
    // A large file is not counted to the end.
    let until = Instant::now() + PATIENCE_IN_ALL;
    for name in names(connection, &[Sort::Table])? {
        let table = describe(connection, &name)?;
        connection.progress_handler(STEPS, Some(move || Instant::now() >= until)).map_err(engine)?;
        let rows = count(connection, &name).ok();
        connection.progress_handler(0, None::<fn() -> bool>).map_err(engine)?;
        all.push(TableSummary {
            rows,
            key: table.target.key.names.clone(),
            columns: table.target.columns.len(),
            table: name,
        });
    }
    Ok(all)
}

/// One table in full.
pub(crate) fn survey(connection: &mut Connection, name: &str) -> Result<Survey, EngineError> {
    let table = describe(connection, name)?;
    let target = table.target.clone();
    let mut keys: Vec<DeclaredKey> = table
        .keys
        .iter()
        .map(|k| DeclaredKey { primary: k.primary, columns: target.names(&k.columns) })
        .collect();
    keys.sort_by_key(|k| !k.primary);
    let all = foreign_keys(connection)?;
    let is = |name: &str| name.eq_ignore_ascii_case(&target.table);
    let defaults = {
        let mut statement = connection
            .prepare("SELECT dflt_value FROM pragma_table_xinfo(?1, 'main') ORDER BY cid")
            .map_err(engine)?;
        let rows = statement.query_map([&target.table], |row| row.get(0)).map_err(engine)?;
        rows.collect::<rusqlite::Result<_>>().map_err(engine)?
    };
    let declared = Declared {
        defaults,
        refers: all.iter().filter(|k| is(&k.child)).map(ForeignKey::reference).collect(),
        referred: all.iter().filter(|k| is(&k.parent)).map(ForeignKey::reference).collect(),
        checks: checks(connection, &target.table)?,
        triggers: triggers(connection, &target.table)?,
        keys,
    };
    let rows = count(connection, &target.table)?;
    let from = format!("main.{}", quoted(&target.table));
    let until = Instant::now() + PATIENCE;
    connection.progress_handler(STEPS, Some(move || Instant::now() >= until)).map_err(engine)?;
    let unique = unique_in_fact(Language::Sqlite, &target, &from, &declared.keys, rows, &mut |sql| {
        ask(connection, sql)
    });
    connection.progress_handler(0, None::<fn() -> bool>).map_err(engine)?;
    let skipped = unique.is_err().then(|| "what is unique in the data: it takes too long".to_owned());
    Ok(Survey { target, declared, rows, unique_in_fact: unique.unwrap_or_default(), skipped })
}

fn definition(
    connection: &Connection,
    sort: &str,
    table: &str,
) -> Result<Vec<(String, String)>, EngineError> {
    let mut statement = connection
        .prepare(
            "SELECT name, sql FROM main.sqlite_schema WHERE type = ?1 AND tbl_name = ?2 COLLATE NOCASE ORDER BY name",
        )
        .map_err(engine)?;
    let rows = statement.query_map([sort, table], |row| Ok((row.get(0)?, row.get(1)?))).map_err(engine)?;
    rows.collect::<rusqlite::Result<_>>().map_err(engine)
}

/// The texts of CHECK in a definition.
fn checks(connection: &Connection, table: &str) -> Result<Vec<String>, EngineError> {
    let Some((_, text)) = definition(connection, "table", table)?.into_iter().next() else {
        return Ok(Vec::new());
    };
    let Ok(tokens) = tokenize(&text, &SQLiteDialect {}) else { return Ok(Vec::new()) };
    let words: Vec<_> = tokens.iter().filter(|t| !t.is_blank()).collect();
    let mut all = Vec::new();
    for (at, word) in words.iter().enumerate().filter(|(_, t)| t.is_word("check")) {
        let mut depth = 0;
        for token in words.iter().skip(at + 1) {
            depth += i32::from(token.is(&Token::LParen)) - i32::from(token.is(&Token::RParen));
            if depth == 0 {
                let part = text.get(word.slice.end..token.slice.end).unwrap_or("");
                all.push(part.split_whitespace().collect::<Vec<_>>().join(" "));
                break;
            }
        }
    }
    Ok(all)
}

/// Triggers, each with when it fires.
fn triggers(connection: &Connection, table: &str) -> Result<Vec<String>, EngineError> {
    let all = definition(connection, "trigger", table)?;
    Ok(all
        .into_iter()
        .map(|(name, text)| {
            let tokens = tokenize(&text, &SQLiteDialect {}).unwrap_or_default();
            let words: Vec<&str> = tokens
                .iter()
                .filter(|t| !t.is_blank())
                .map(|t| t.slice.of(&text).trim())
                .skip_while(|w| {
                    !["before", "after", "instead", "insert", "update", "delete"]
                        .contains(&w.to_ascii_lowercase().as_str())
                })
                .take_while(|w| !w.eq_ignore_ascii_case("on"))
                .collect();
            format!("{name}: {}", words.join(" "))
        })
        .collect())
}
