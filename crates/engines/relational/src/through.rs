//! A statement on a plain view that the engine lets be written: it runs as written, and what is held, shown and proven are
//! the rows of the table behind the view.

use marktwice_core::finding::{Code, Finding, Level};
use marktwice_core::mark::StepKind;
use marktwice_port::{EngineError, Plan};
use marktwice_sql::query::row_query::Ask;
use marktwice_sql::statement::slicing::{single_statement, understand};

use crate::driver::Driver;
use crate::shell::Tabled;
use crate::statement::detail;

/// The plan of a statement, through views where it writes one.
///
/// # Errors
/// What the plan of the statement, or of the one for the table behind the view, answers.
pub fn plan<D: Driver>(
    driver: &mut D,
    source: &str,
    allow: &[Code],
    earlier: &[Plan],
) -> Result<Plan, EngineError> {
    match driver.plan(source, allow, earlier) {
        Err(EngineError::Refused(refusal)) if refusal.code == Code::AView && driver.writes_views() => {
            let plan = behind(driver, source, &refusal, allow, earlier);
            plan.ok_or(EngineError::Refused(refusal))
        }
        other => other,
    }
}

/// The plan for the table behind a view, with the statement on the view as the one that is run; `None` where the two are
/// not seen to mean the same rows.
fn behind<D: Driver>(
    driver: &mut D,
    source: &str,
    refusal: &Finding,
    allow: &[Code],
    earlier: &[Plan],
) -> Option<Plan> {
    let language = D::Table::LANGUAGE;
    let paste = refusal.paste.as_ref()?;
    let statement = single_statement(source, language).ok()?;
    let step = understand(source, language).ok()?;
    let mut made = plan(driver, &paste.text, allow, earlier).ok()?;
    let table = detail::<D::Table>(&made).ok()?.step.clone();
    let counted = driver.peeking(|driver| {
        let through = driver.number(&step.query("count(*)", Ask::default()))?;
        Ok((through, driver.number(&table.query("count(*)", Ask::default()))?))
    });
    counted.ok().filter(|(through, own)| through == own)?;
    statement.of(source).clone_into(&mut made.statement);
    made.statement_hash = step.token_hash;
    for finding in &mut made.findings {
        // The places are those of a text that nobody wrote.
        finding.place = None;
    }
    let (view, base) = (&step.table.table.text, &made.target.table);
    let quoted = view.replace('\\', "\\\\").replace('\'', "''");
    let limits = format!(
        "SELECT count(*) FROM information_schema.views WHERE table_name = '{quoted}' AND check_option <> 'NONE'"
    );
    if step.kind != StepKind::Delete && driver.peeking(|driver| driver.number(&limits)).ok() != Some(0) {
        let message = format!(
            "{view} was made WITH CHECK OPTION: if a row no longer fits it, the database refuses the statement"
        );
        let finding = Finding::new(Code::CheckRefused, message).weighing(Level::Warn);
        made.findings.push(
            finding.hint("compare the new values with the condition of the view; only the run asks it"),
        );
    }
    let message =
        format!("{view} is a view of {base}: rows, columns and conditions here are those of {base}");
    let note = Finding::new(Code::AView, message).at(refusal.place.clone()?).weighing(Level::Note);
    made.findings.push(note.hint("nothing; the statement itself runs on the view, as written"));
    Some(made)
}
