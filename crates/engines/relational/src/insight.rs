//! Looking without changing: a closer look at a step, all tables, and what the catalogue says of one.

use std::time::Instant;

use marktwice_core::image::Image;
use marktwice_core::mark::HeldRow;
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Declared, DeclaredKey, Survey, TableSummary};
use marktwice_core::table::{Pin, Target};
use marktwice_port::{EngineError, PATIENCE, PATIENCE_IN_ALL, Plan, RowSink};
use marktwice_sql::Step;
use marktwice_sql::insight::study::{Subject, study as look_closer};
use marktwice_sql::insight::survey::unique_in_fact;
use marktwice_sql::query::row_query::Ask;
use marktwice_sql::statement::slicing::understand;

use crate::around::count;
use crate::driver::{Driver, Listed, Viewed};
use crate::links::links;
use crate::shell::{Tabled, forms};
use crate::statement::detail;
use crate::unknown::unknown_name;

/// A closer look, in bounded time.
///
/// # Errors
/// When the connection fails.
pub fn study<D: Driver>(
    driver: &mut D,
    plan: &Plan,
    wish: &Wish,
    named: &dyn Fn(&mut Target),
) -> Result<Study, EngineError> {
    let detail = detail::<D::Table>(plan)?;
    if !detail.quiet {
        let skipped = Some("the statement calls what only the run may call".to_owned());
        return Ok(Study { skipped, ..Study::default() });
    }
    let links = links(driver, &detail.foreign_keys, &detail.table, named)?;
    let (target, pinned) = (&plan.target, plan.pin != Pin::Nothing);
    let subject = Subject { step: &detail.step, target, links: &links, pinned };
    let until = Instant::now() + PATIENCE_IN_ALL;
    let found = look_closer(subject, wish, &mut |sql| driver.ask_until(sql, until));
    Ok(found)
}

/// All tables and views. A large database is not counted to the end.
///
/// # Errors
/// What the engine says.
pub fn tables<D: Driver>(driver: &mut D) -> Result<Vec<TableSummary>, EngineError> {
    let until = Instant::now() + PATIENCE_IN_ALL;
    let mut all = Vec::new();
    for Listed { mut about, from } in driver.listed()? {
        let rows = driver.ask_until(&format!("SELECT count(*) FROM {from}"), until).ok();
        about.rows = rows.map(|a| a.count(0, 0));
        all.push(about);
    }
    Ok(all)
}

/// A view in full.
fn view<D: Driver>(driver: &mut D, viewed: Viewed<D::Table>) -> Result<Survey, EngineError> {
    let Viewed { table, of } = viewed;
    let rows = count(driver, &table)?;
    let (target, declared) = (table.target().clone(), Declared::default());
    Ok(Survey { target, declared, view: Some(of), rows, unique_in_fact: Vec::new(), skipped: None })
}

/// The first rows of a view that the condition of a statement lets through, and the number of all of them.
///
/// # Errors
/// When there is no such view, when the condition is refused, or the engine or the sink fails.
pub fn view_rows<D: Driver>(
    driver: &mut D,
    (schema, name): (Option<&str>, &str),
    statement: &str,
    limit: Option<u64>,
    sink: &mut RowSink<'_>,
) -> Result<u64, EngineError> {
    let (step, table) = driver.looking(|driver| {
        let missing = || EngineError::missing(format!("there is no view {name}"));
        let table = driver.viewed(schema, name)?.ok_or_else(missing)?.table;
        let step = understand(statement, D::Table::LANGUAGE)
            .map_err(|finding| EngineError::Refused(Box::new(finding)))?;
        driver.only_reads(&step)?;
        Ok((step, table))
    })?;
    let columns = table.target().columns.iter().map(|c| D::Table::LANGUAGE.quoted(&c.name));
    let columns = columns.collect::<Vec<_>>();
    let end = limit.map_or(String::new(), |n| format!("LIMIT {n}"));
    let sql = step.row_query(&columns, Ask { end: &end, ..Ask::default() });
    let read = driver.peeking(|driver| {
        let mut ordinal = 0;
        driver.each(&sql, &forms(&table), &mut |before| {
            ordinal += 1;
            let row = HeldRow { ordinal, key: before.clone(), image: Image::Delete { before }, rest: None };
            sink(&row).map_err(EngineError::Sink)
        })?;
        driver.number(&step.query("count(*)", Ask::default()))
    });
    read.map_err(|error| in_condition(&step, table.target(), error))
}

/// An error about a name in a condition that is no column of a view, with its place and what may have been meant.
fn in_condition(step: &Step, target: &Target, error: EngineError) -> EngineError {
    let (said, words) = (error.to_string(), step.filter.as_ref().map(|f| step.words(f.slice)));
    let unknown = words.unwrap_or_default().into_iter().find_map(|word| {
        let name = word.name().filter(|name| target.position(name).is_none() && said.contains(*name))?;
        Some((name.to_owned(), word.slice))
    });
    let Some((name, slice)) = unknown else { return error };
    let columns: Vec<String> = target.columns.iter().map(|c| c.name.clone()).collect();
    let at = (slice.start, slice.end);
    let finding = unknown_name((step.language, &step.source), at, "column", &name, &columns);
    EngineError::Refused(Box::new(finding))
}

/// One table or view in full.
///
/// # Errors
/// When there is no such table, or what the engine says.
pub fn survey<D: Driver>(driver: &mut D, schema: Option<&str>, name: &str) -> Result<Survey, EngineError> {
    if let Some(viewed) = driver.viewed(schema, name)? {
        return view(driver, viewed);
    }
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
    let skipped = unique.is_err().then(|| "what is unique in the data: it takes too long".to_owned());
    let unique_in_fact = unique.unwrap_or_default();
    Ok(Survey { target, declared, view: None, rows, unique_in_fact, skipped })
}
