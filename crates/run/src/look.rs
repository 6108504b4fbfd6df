//! Looking at a database: its tables, one of them in full, and rows that a filter matches. Nothing is kept and nothing
//! is written.

use marktwice_core::finding::{Code, Finding};
use marktwice_core::mark::HeldRow;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::secret::hide_image;
use marktwice_core::study::{Alike, Scope, Wish};
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::table::Target;
use marktwice_core::value::Value;
use marktwice_core::words;
use marktwice_port::{EngineError, Intent, Phase, RowSink, Session, SinkError};

use crate::collect::{Stopped, unwrap_sink};
use crate::context::Context;
use crate::outcome::Failure;
use crate::pastes::proven_error;

/// What was looked at, and in which database.
#[derive(Debug, Clone)]
pub struct Seen<T> {
    /// The database.
    pub database: DatabaseId,
    /// What happened on opening that a person should know.
    pub notes: Vec<String>,
    /// What was seen.
    pub seen: T,
}

/// The rows that a filter matches.
#[derive(Debug, Clone, PartialEq)]
pub struct Rows {
    /// The table.
    pub target: Target,
    /// How many there are.
    pub matched: u64,
    /// The first of them.
    pub rows: Vec<HeldRow>,
}

/// A row by itself.
#[derive(Debug, Clone, PartialEq)]
pub struct OneRow {
    /// What its columns hold.
    pub row: Vec<Value>,
    /// Of each column, the name of the row that it refers to.
    pub means: Vec<Option<String>>,
}

fn open<T>(
    context: &Context<'_>,
    work: impl FnOnce(&mut dyn Session) -> Result<T, EngineError>,
) -> Result<Seen<T>, Failure> {
    let mut session = context.open(Intent::Read)?;
    let seen = work(&mut *session).map_err(unwrap_sink)?;
    Ok(Seen { database: session.database().clone(), notes: session.notes().to_vec(), seen })
}

/// All tables.
///
/// # Errors
/// When the database fails.
pub fn tables(context: &Context<'_>) -> Result<Seen<Vec<TableSummary>>, Failure> {
    open(context, |session| session.tables())
}

/// One table in full.
///
/// # Errors
/// When there is no such table, or the database fails.
pub fn survey(context: &Context<'_>, schema: Option<&str>, table: &str) -> Result<Seen<Survey>, Failure> {
    open(context, |session| session.survey(schema, table))
}

/// A sink that is watched: how far it is is told, a wish to stop is obeyed, and what is hidden of a table does not come through.
fn watched<'s>(
    context: &'s Context<'_>,
    target: &'s Target,
    sink: &'s mut RowSink<'_>,
) -> impl FnMut(&HeldRow) -> Result<(), SinkError> + 's {
    let stopper = context.ambient.stopper();
    let mut read = 0_u64;
    move |row| {
        read += 1;
        if read.is_multiple_of(EVERY) {
            context.ambient.progress(Phase::Reading, read, None);
            if stopper() {
                return Err(Box::new(Stopped));
            }
        }
        if target.hidden.is_empty() {
            return sink(row);
        }
        let (key, image) = (target.shown_key(&row.key), hide_image(target, row.image.clone()));
        sink(&HeldRow { ordinal: row.ordinal, key, image, rest: None })
    }
}

/// Rows after which it is told how far the reading is.
const EVERY: u64 = 4096;

/// Hands over the first rows of a view that a condition lets through, none of them kept, and gives the number of all;
/// `statement` has the condition and is never run.
///
/// # Errors
/// When there is no such view, the condition is refused, or the database or the sink fails.
pub fn each_view_row(
    context: &Context<'_>,
    (schema, survey): (Option<&str>, &Survey),
    statement: &str,
    condition: Option<&str>,
    limit: Option<u64>,
    sink: &mut RowSink<'_>,
) -> Result<Seen<u64>, Failure> {
    open(context, |session| {
        let view = &survey.target.table;
        if let Some(condition) = condition.filter(|_| !survey.target.hidden.is_empty()) {
            answerable(context, &survey.target, (condition, false))?;
        }
        let matched =
            session.view_rows(schema, view, statement, limit, &mut watched(context, &survey.target, sink));
        matched.map_err(|error| match (error, condition) {
            (EngineError::Refused(finding), Some(condition)) => {
                EngineError::Refused(Box::new(of_condition(*finding, statement, condition)))
            }
            (error, _) => error,
        })
    })
}

/// Counts and rows would let somebody find out piece by piece what a hidden column holds: about one it is only answered whether it
/// equals a value that is written in the condition, or NULL.
fn answerable(
    context: &Context<'_>,
    target: &Target,
    (condition, runs_hidden): (&str, bool),
) -> Result<(), EngineError> {
    let names = target.hidden_names().into_iter().chain(context.hide.names());
    let names: Vec<String> = names.map(|name| name.to_lowercase()).collect();
    if !runs_hidden && context.engine.language().asks_for_equality_only(condition, &names) {
        return Ok(());
    }
    let shown = context.hide.named().map(|(table, column)| format!("{table}.{column}")).collect::<Vec<_>>();
    let message =
        format!("the condition asks more than equality about hidden columns ({})", shown.join(", "));
    let hint = "compare a hidden column with =, IN (...) or IS NULL; anything else would show what it holds";
    Err(EngineError::Refused(Box::new(Finding::new(Code::NotUnderstood, message).hint(hint))))
}

/// The columns and the key of a table.
///
/// # Errors
/// When there is no such table, or the database fails.
pub fn target(context: &Context<'_>, schema: Option<&str>, table: &str) -> Result<Seen<Target>, Failure> {
    open(context, |session| session.describe(schema.unwrap_or(""), table))
}

/// The first rows that a statement would match, and the number of all; the statement is never run. `condition` is the part
/// of it that a person wrote, where the rest is ours: only that is spoken of.
///
/// # Errors
/// When the statement is refused, or the database fails.
pub fn rows(
    context: &Context<'_>,
    statement: &str,
    condition: Option<&str>,
    limit: Option<u64>,
) -> Result<Seen<Rows>, Failure> {
    let mut rows = Vec::new();
    let seen = each_row(context, statement, condition, limit, &mut |row| {
        rows.push(row.clone());
        Ok(())
    })?;
    let (target, matched) = seen.seen;
    Ok(Seen { database: seen.database, notes: seen.notes, seen: Rows { target, matched, rows } })
}

/// Hands the first rows over that a statement would match, in the order of the key and none of them kept; gives the table, and
/// the number of all. See [`rows`].
///
/// # Errors
/// When the statement is refused, or the database or the sink fails.
pub fn each_row(
    context: &Context<'_>,
    statement: &str,
    condition: Option<&str>,
    limit: Option<u64>,
    sink: &mut RowSink<'_>,
) -> Result<Seen<(Target, u64)>, Failure> {
    open(context, |session| {
        let language = context.engine.language();
        let planned = session.plan(statement, &[], &[]);
        let plan = planned.map_err(|error| match (error, condition) {
            (EngineError::Refused(finding), Some(condition)) => {
                EngineError::Refused(Box::new(of_condition(*finding, statement, condition)))
            }
            (error, _) => proven_error(session, language, &[], error),
        })?;
        if plan.reads_hidden
            && let Some(condition) = condition
        {
            answerable(context, &plan.target, (condition, plan.runs_hidden))?;
        }
        let matched = session.matched_rows(&plan, limit, &mut watched(context, &plan.target, sink))?;
        Ok((plan.target, matched))
    })
}

/// What rows have in common.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct InCommon {
    /// How many rows they are.
    pub matched: u64,
    /// Conditions that hold for all of them, those that hold for the fewest others first.
    pub common: Vec<Alike>,
    /// What was not looked at, and why.
    pub skipped: Option<String>,
}

/// What rows have in common that a statement of ours would match; it is never run, and at most `most` rows are looked at.
///
/// # Errors
/// When the statement is refused, matches more than `most` rows, or the database fails.
pub fn in_common(context: &Context<'_>, statement: &str, most: u64) -> Result<Seen<InCommon>, Failure> {
    let seen = open(context, |session| {
        let plan = session.plan(statement, &[], &[])?;
        if !plan.target.hidden.is_empty() {
            let skipped = Some("columns of it are hidden".to_owned());
            return Ok(InCommon { skipped, ..InCommon::default() });
        }
        let mut alike = Vec::new();
        let matched = session.matched_rows(&plan, Some(most), &mut |row| {
            alike.push(row.image.row().to_vec());
            Ok(())
        })?;
        if alike.is_empty() || matched > most {
            return Ok(InCommon { matched, ..InCommon::default() });
        }
        let wish = Wish { scope: Scope::Alike(alike), matched, ..Wish::default() };
        let found = session.study(&plan, &wish)?;
        Ok(InCommon { matched, common: found.common, skipped: found.skipped })
    })?;
    match seen.seen.matched {
        matched if matched > most => Err(Failure::usage(
            format!("{} are more than are looked at", words::rows(matched)),
            format!("name at most {most}"),
        )),
        _ => Ok(seen),
    }
}

/// The one row that a statement of ours would match, whole, with what its values refer to; the statement is never run. Nothing
/// where it matches none, or several.
///
/// # Errors
/// When the statement is refused, or the database fails.
pub fn one_row(context: &Context<'_>, statement: &str) -> Result<Seen<Option<OneRow>>, Failure> {
    open(context, |session| {
        let plan = session.plan(statement, &[], &[])?;
        let mut first = None;
        let matched = session.matched_rows(&plan, Some(1), &mut |row| {
            first = Some(hide_image(&plan.target, row.image.clone()).row().to_vec());
            Ok(())
        })?;
        let Some(row) = first.filter(|_| matched == 1) else { return Ok(None) };
        let references = row.iter().enumerate().map(|(at, value)| (at, vec![value.clone()])).collect();
        let wish = Wish { scope: Scope::Meanings, references, matched, ..Wish::default() };
        let found = session.study(&plan, &wish)?.meanings;
        let means = |at| found.iter().find(|(column, ..)| *column == at).map(|(.., name)| name.clone());
        let means = (0..row.len()).map(means).collect();
        Ok(Some(OneRow { row, means }))
    })
}

/// A finding about a statement as one about the condition that was written: nobody asked for the statement.
fn of_condition(finding: Finding, statement: &str, condition: &str) -> Finding {
    let prefix = statement.rfind(condition).and_then(|at| statement.get(..at));
    let place = finding.place.as_ref().and_then(|place| place.behind(prefix?));
    let finding = Finding { place, paste: None, ..finding };
    if finding.code == Code::SeveralStatements {
        let message = "this is more than a condition".to_owned();
        return Finding { message, ..finding }.hint("write what would stand behind WHERE, and nothing else");
    }
    let said = |text: String| text.replace("the statement", "the condition");
    Finding { message: said(finding.message), hint: finding.hint.map(said), ..finding }
}
