//! The columns that a statement assigns a secret to, or what hidden columns hold: whatever they hold is never shown.

use marktwice_core::finding::{Code, Finding};
use marktwice_core::hash::HashKey;
use marktwice_core::secret::HiddenColumns;
use marktwice_core::table::KeyKind;
use marktwice_core::veil::Veil;
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
    let target = &plan.target;
    let hidden = reached(plan, step, &|slice| uses(step.text(slice)));
    if let Some(key) = hidden.named.iter().find(|at| target.key.columns.contains(at)) {
        let message = format!(
            "a secret is assigned to {}, a part of the key of {}, and keys stand in marks, receipts and messages",
            target.names(&[*key]).join(", "),
            target.table
        );
        return Err(refused(message, "leave secret out, or choose another key"));
    }
    let hidden = hidden.all();
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
    plan.target.hide(hidden);
    Ok(())
}

/// Hides in a plan the columns that are given what hidden columns hold, or what is made of it; in whatever table those are.
///
/// # Errors
/// When the plan is another engine's.
pub fn follow<T: Tabled + 'static>(
    plan: &mut Plan,
    columns: &HiddenColumns,
    key: HashKey,
) -> Result<(), EngineError> {
    let step = &detail::<T>(plan)?.step;
    let names = columns.names();
    let tables = columns.tables();
    let says = |text: &str| {
        let words: Vec<String> =
            text.split(|c: char| !c.is_alphanumeric() && c != '_').map(str::to_lowercase).collect();
        let any = |names: &[String]| names.iter().any(|name| words.contains(&name.to_lowercase()));
        // A star takes them without naming them.
        any(&names) || (text.contains('*') && any(&tables))
    };
    let hidden = reached(plan, step, &|slice| says(step.text(slice))).all();
    if !hidden.is_empty() {
        plan.target.hide(hidden);
        plan.target.veil = Veil(Some(key));
    }
    Ok(())
}

/// Columns of a target that are given what stands somewhere.
struct Reached {
    /// By name.
    named: Vec<usize>,
    /// Through a query that nobody can follow to a column.
    spread: Vec<usize>,
    /// What the engine derives from others.
    derived: Vec<usize>,
}

impl Reached {
    fn all(self) -> Vec<usize> {
        let own = [self.named, self.spread].concat();
        // What is computed from it tells it.
        if own.is_empty() { own } else { [own, self.derived].concat() }
    }
}

fn reached(plan: &Plan, step: &Step, stands_in: &dyn Fn(Slice) -> bool) -> Reached {
    let target = &plan.target;
    let named = assigned(step, stands_in).iter().filter_map(|name| target.position(name)).collect();
    // What a joined query gives, or one in front, nobody can follow to a column.
    let around = step.sources.as_ref().map(|sources| sources.slice).into_iter().chain(step.with);
    let query = |brought: &Brought| matches!(brought, Brought::Query(_));
    let from_query =
        step.inserted.as_ref().is_some_and(|inserted| query(&inserted.brought) && stands_in(inserted.source));
    let written = plan.foreseen.iter().map(|f| f.column).filter(|at| !target.key.columns.contains(at));
    let spread = if around.into_iter().any(stands_in) || from_query { written.collect() } else { Vec::new() };
    let derived = plan.foreseen.iter().filter(|f| f.derived).map(|f| f.column).collect();
    Reached { named, spread, derived }
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
