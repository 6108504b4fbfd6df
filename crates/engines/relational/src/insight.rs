//! Looking without changing: a closer look at a step, all tables, and what the catalogue says of one.

use std::time::Instant;

use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{DeclaredKey, Survey, TableSummary};
use marktwice_core::table::Pin;
use marktwice_port::{EngineError, PATIENCE, PATIENCE_IN_ALL, Plan};
use marktwice_sql::insight::study::{Subject, study as look_closer};
use marktwice_sql::insight::survey::unique_in_fact;

use crate::around::count;
use crate::driver::Driver;
use crate::links::links;
use crate::shell::Tabled;
use crate::statement::detail;

/// A closer look, in bounded time.
///
/// # Errors
/// When the connection fails.
pub fn study<D: Driver>(driver: &mut D, plan: &Plan, wish: &Wish) -> Result<Study, EngineError> {
    let detail = detail::<D::Table>(plan)?;
    if !detail.quiet {
        let skipped = Some("the statement calls what only the run may call".to_owned());
        return Ok(Study { skipped, ..Study::default() });
    }
    let links = links(driver, &detail.foreign_keys, &detail.table)?;
    let (target, pinned) = (&plan.target, plan.pin != Pin::Nothing);
    let subject = Subject { step: &detail.step, target, links: &links, pinned };
    let until = Instant::now() + PATIENCE_IN_ALL;
    let found = look_closer(subject, wish, &mut |sql| driver.ask_until(sql, until));
    driver.unhurried();
    Ok(found)
}

/// All tables. A large database is not counted to the end.
///
/// # Errors
/// What the engine says.
pub fn tables<D: Driver>(driver: &mut D) -> Result<Vec<TableSummary>, EngineError> {
    let until = Instant::now() + PATIENCE_IN_ALL;
    let mut all = Vec::new();
    for (schema, name) in driver.names(false)? {
        let table = driver.described(&schema, &name)?;
        let rows = driver.ask_until(&format!("SELECT count(*) FROM {}", table.from()), until).ok();
        all.push(TableSummary {
            table: table.shown().to_owned(),
            rows: rows.map(|a| a.count(0, 0)),
            key: table.target().key.names.clone(),
            columns: table.target().columns.len(),
        });
    }
    driver.unhurried();
    Ok(all)
}

/// One table in full.
///
/// # Errors
/// When there is no such table, or what the engine says.
pub fn survey<D: Driver>(driver: &mut D, schema: Option<&str>, name: &str) -> Result<Survey, EngineError> {
    let table = driver.named(schema, name)?;
    let target = table.target().clone();
    let mut declared = driver.declared(&table)?;
    let keys = table.keys().iter();
    declared.keys =
        keys.map(|k| DeclaredKey { primary: k.primary, columns: target.names(&k.columns) }).collect();
    declared.keys.sort_by_key(|k| !k.primary);
    let all = driver.foreign_keys(&table)?;
    declared.refers = all.iter().filter(|k| k.child == table.shown()).map(|k| k.reference()).collect();
    declared.referred = all.iter().filter(|k| k.parent == table.shown()).map(|k| k.reference()).collect();
    let rows = count(driver, &table)?;
    let until = Instant::now() + PATIENCE;
    let (language, from) = (D::Table::LANGUAGE, table.from());
    let ask = &mut |sql: &str| driver.ask_until(sql, until);
    let unique = unique_in_fact(language, &target, &from, &declared.keys, rows, ask);
    driver.unhurried();
    let skipped = unique.is_err().then(|| "what is unique in the data: it takes too long".to_owned());
    Ok(Survey { target, declared, rows, unique_in_fact: unique.unwrap_or_default(), skipped })
}
