//! Queries that a change is checked by: understood, looked at for what they call, and asked so that they cannot write.

use marktwice_core::asked::{Answer, COMPARED};
use marktwice_core::finding::Finding;
use marktwice_core::steps::Touches;
use marktwice_port::EngineError;
use marktwice_sql::query::check::{Question, question};

use crate::driver::Driver;
use crate::shell::Tabled;

fn understood<D: Driver>(driver: &mut D, sql: &str) -> Result<Question, EngineError> {
    let refused = |finding: Finding| EngineError::Refused(Box::new(finding));
    let question = question(sql, D::Table::LANGUAGE).map_err(refused)?;
    driver.only_reads(&question.step)?;
    Ok(question)
}

/// Asks such a query, under the settings of the user.
///
/// # Errors
/// [`EngineError::Refused`] for one that may do more than read; what the engine says.
pub fn ask<D: Driver>(driver: &mut D, sql: &str) -> Result<Answer, EngineError> {
    let question = understood(driver, sql)?;
    let text = question.first_rows(COMPARED + 1);
    let mut found = driver.guarded(|driver| driver.question(&text))?;
    let more = found.rows.len() > COMPARED;
    found.rows.truncate(COMPARED);
    Ok(Answer { columns: found.columns, rows: found.rows, more })
}

/// What such a query reads.
///
/// # Errors
/// As [`ask`].
pub fn reads<D: Driver>(driver: &mut D, sql: &str) -> Result<Touches, EngineError> {
    let question = understood(driver, sql)?;
    driver.reads(&question)
}
