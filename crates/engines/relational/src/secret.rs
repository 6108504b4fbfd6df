//! The columns that a statement assigns a secret to: whatever they hold is never shown.

use marktwice_core::finding::{Code, Finding};
use marktwice_core::table::KeyKind;
use marktwice_port::{EngineError, Plan};
use marktwice_sql::Step;
use marktwice_sql::query::placeholders::placeholders;
use marktwice_sql::statement::step::Brought;
use marktwice_sql::text::slices::Slice;

use crate::shell::Tabled;
use crate::statement::detail;

/// Hides in a plan the columns that are given a value of one of these parameters, or one that is made of it.
///
/// # Errors
/// [`EngineError::Refused`] where that is a part of what tells the rows: keys stand everywhere.
pub fn settle<T: Tabled + 'static>(plan: &mut Plan, secrets: &[String]) -> Result<(), EngineError> {
    if secrets.is_empty() {
        return Ok(());
    }
    let step = &detail::<T>(plan)?.step;
    let uses = |text: &str| placeholders(text, T::LANGUAGE).iter().any(|(_, name)| secrets.contains(name));
    let stands_in = |slice: Slice| uses(step.text(slice));
    let mut names = assigned(step, &stands_in);
    // What a joined query gives, or one in front, nobody can follow to a column.
    let around = step.sources.as_ref().map(|sources| sources.slice).into_iter().chain(step.with);
    let spread = around.into_iter().any(stands_in);
    let target = &plan.target;
    let at = |name: &String| target.position(name);
    if let Some(key) = names.iter().filter_map(at).find(|at| target.key.columns.contains(at)) {
        let message = format!(
            "a secret is assigned to {}, a part of the key of {}, and keys stand in marks, receipts and messages",
            target.names(&[key]).join(", "),
            target.table
        );
        return Err(refused(message, "leave secret out, or choose another key"));
    }
    let query = |brought: &Brought| matches!(brought, Brought::Query(_));
    let from_query =
        step.inserted.as_ref().is_some_and(|inserted| query(&inserted.brought) && stands_in(inserted.source));
    if spread || from_query {
        let written = plan.foreseen.iter().map(|f| f.column).filter(|at| !target.key.columns.contains(at));
        names.extend(target.names(&written.collect::<Vec<_>>()));
    }
    let mut hidden: Vec<usize> = names.iter().filter_map(at).collect();
    if hidden.is_empty() {
        return Ok(());
    }
    if target.key.kind == KeyKind::WholeRow {
        let message = format!(
            "a secret is assigned to {}, whose rows are told by everything that they hold",
            target.table
        );
        return Err(refused(message, "leave secret out, or give the table a key"));
    }
    // What is computed from it tells it.
    hidden.extend(plan.foreseen.iter().filter(|f| f.derived).map(|f| f.column));
    plan.target.hide(hidden);
    Ok(())
}

/// The columns that are assigned what stands in such a slice.
fn assigned(step: &Step, stands_in: &dyn Fn(Slice) -> bool) -> Vec<String> {
    let mut names = Vec::new();
    for assignment in &step.assignments {
        for (at, column) in assignment.columns.iter().enumerate() {
            let part = assignment.parts.as_ref().and_then(|parts| parts.get(at)).copied();
            if stands_in(part.unwrap_or(assignment.value)) {
                names.push(column.text.clone());
            }
        }
    }
    if let Some(inserted) = &step.inserted {
        for (at, column) in inserted.named().iter().enumerate() {
            let given = match &inserted.brought {
                Brought::Query(None) => Vec::new(),
                _ => inserted.given(at),
            };
            if given.into_iter().any(stands_in) {
                names.push(column.text.clone());
            }
        }
    }
    names
}

fn refused(message: String, hint: &str) -> EngineError {
    EngineError::Refused(Box::new(Finding::new(Code::NotUnderstood, message).hint(hint)))
}
