//! What both server engines make of an understood statement, before they ask their server anything.

use marktwice_core::finding::{Code, Finding};
use marktwice_core::mark::{Foreseen, Label};
use marktwice_core::table::{Key, KeyKind, Target};
use marktwice_port::{Broken, Constraint, EngineError, Plan};
use marktwice_sql::Step;
use marktwice_sql::statement::slicing::subqueries;
use marktwice_sql::text::slices::Slice;

use sqlparser::tokenizer::Token;

use crate::detail::Detail;
use crate::foresee::Trigger;
use crate::shell::Tabled;
use crate::walk::{Body, Catalogue, Judgement, judge};

/// The expressions of assigned columns; for DEFAULT the column's own, which `default` gives.
pub fn assigned_values(
    step: &Step,
    target: &Target,
    default: &dyn Fn(usize) -> Option<String>,
) -> Vec<(usize, String)> {
    let mut all: Vec<(usize, String)> = Vec::new();
    for assignment in &step.assignments {
        for (nth, name) in assignment.columns.iter().enumerate() {
            let Some(at) = target.position(&name.text) else { continue };
            let Some((text, value)) = step.value(assignment, nth) else { continue };
            let text =
                if is_default(step, value) { default(at).unwrap_or_else(|| "NULL".to_owned()) } else { text };
            all.retain(|(column, _)| *column != at);
            all.push((at, text));
        }
    }
    all
}

/// Whether a value is the word DEFAULT.
pub fn is_default(step: &Step, value: Slice) -> bool {
    step.text(value).eq_ignore_ascii_case("default")
}

/// The column that a value is assigned to.
pub fn column_of(step: &Step, target: &Target, value: Slice) -> Option<usize> {
    step.assignments.iter().find_map(|a| {
        let at = a.parts.iter().flatten().position(|p| *p == value)?;
        target.position(&a.columns.get(at)?.text)
    })
}

/// A row must be found again after the step: a finding where it could not be.
pub fn unpairable<T: Tabled>(step: &Step, table: &T, foreseen: &[Foreseen]) -> Option<Finding> {
    let target = table.target();
    let whole = target.key.kind == KeyKind::WholeRow && !T::TELLS_WRITTEN;
    // A key that only a trigger might change is taken to stay; should it not, the row is not found again, and the run
    // rolls back.
    let key = |f: &&Foreseen| !f.derived && target.key.columns.contains(&f.column);
    let unknown = foreseen.iter().find(|f| f.label == Label::Unknown && (whole || key(f)))?;
    let column = target.columns.get(unknown.column)?;
    let assigned = step.assignments.iter().flat_map(|a| &a.columns);
    let slice = assigned
        .into_iter()
        .find(|c| target.position(&c.text) == Some(unknown.column))
        .map_or(step.table.slice, |c| c.slice);
    let (message, hint) = if whole {
        (
            format!(
                "{} has no key, and {} becomes a value that only the run can tell",
                target.table, column.name
            ),
            "give the table a primary key, or assign a value that can be told beforehand",
        )
    } else {
        (
            format!("the key {} becomes a value that only the run can tell", column.name),
            "assign a value that can be told beforehand",
        )
    };
    Some(Finding::new(Code::NotUnderstood, message).at(step.place(slice)).hint(hint))
}

/// Rows of a table without a key are told by all that they hold, and where an earlier step leaves a value in them that only the
/// run knows, those of the rehearsal are never those of the run: a finding then.
pub fn told_by_a_value_of_the_run(step: &Step, target: &Target, earlier: &[Plan]) -> Option<Finding> {
    if target.key.kind != KeyKind::WholeRow || step.inserted.is_some() {
        return None;
    }
    let before = earlier.iter().filter(|plan| plan.target.same_table(target));
    let mut unknown = before.flat_map(|plan| &plan.foreseen).filter(|f| f.label == Label::Unknown);
    let column = unknown.find_map(|f| target.columns.get(f.column))?;
    let message = format!(
        "{} has no key, and an earlier step leaves in {} what only the run can tell: nobody could say which rows this one is for",
        target.table, column.name
    );
    let finding = Finding::new(Code::NotUnderstood, message).at(step.place(step.table.slice));
    Some(finding.hint("write it as a change of its own, or give the table a primary key"))
}

/// A table that declares no key but something unique whose columns may hold NULL: while none of them does, it tells the rows
/// apart as well as a key would. A statement that assigns such a column, or an earlier step that does, may end that; what the
/// engine computes may change with anything.
///
/// # Errors
/// What the engine says.
pub fn tell_by_unique<T: Tabled>(
    table: &mut T,
    step: &Step,
    earlier: &[Plan],
    has: &mut dyn FnMut(&str) -> Result<bool, EngineError>,
) -> Result<(), EngineError> {
    let target = table.target();
    // A row that comes in may hold NULL in any of them.
    if target.key.kind != KeyKind::WholeRow || step.inserted.is_some() {
        return Ok(());
    }
    let assigned = step.assignments.iter().flat_map(|a| &a.columns).filter_map(|c| target.position(&c.text));
    let same = |plan: &&Plan| plan.target.table == target.table && plan.target.schema == target.schema;
    let before = earlier.iter().filter(same).flat_map(|plan| plan.foreseen.iter().map(|f| f.column));
    let moving: Vec<usize> = assigned.chain(before).collect();
    let steady =
        |at: &usize| !moving.contains(at) && target.columns.get(*at).is_some_and(|column| !column.generated);
    for key in table.keys().iter().filter(|key| key.columns.iter().all(steady)) {
        let names = target.names(&key.columns);
        let open = names.iter().map(|name| format!("{} IS NULL", T::LANGUAGE.quoted(name)));
        let open = open.collect::<Vec<_>>().join(" OR ");
        if !has(&format!("SELECT EXISTS (SELECT 1 FROM {} WHERE {open})", table.from()))? {
            let key = Key { kind: KeyKind::Unique, names, columns: key.columns.clone() };
            table.tell_by(&key);
            return Ok(());
        }
    }
    Ok(())
}

/// A name in WITH that is the target's too: the statement writes the table, and everything else in it that says the name
/// means what stands in WITH, so that no query of ours could ask for the rows of the one by that name.
///
/// # Errors
/// [`EngineError::Refused`] then.
pub fn with_like_target(step: &Step) -> Result<(), EngineError> {
    let Some(with) = step.with else { return Ok(()) };
    let tokens = step.words(with);
    let target = &step.table.table.text;
    let named = |at: usize| {
        let ahead = tokens.get(at + 1..).unwrap_or_default();
        let opens = ahead.first().is_some_and(|t| t.is(&Token::LParen));
        let close = ahead.iter().position(|t| t.is(&Token::RParen)).map_or(0, |n| n + 1);
        ahead.get(if opens { close } else { 0 }).is_some_and(|t| t.is_word("as"))
    };
    let found = tokens.iter().enumerate().find(|(at, t)| {
        t.name().is_some_and(|n| step.language.folded(n).eq_ignore_ascii_case(target)) && named(*at)
    });
    match found {
        None => Ok(()),
        Some((_, token)) => Err(EngineError::Refused(Box::new(
            Finding::new(
                Code::NotUnderstood,
                format!("WITH names {target}, as the table that is written is named"),
            )
            .at(step.place(token.slice))
            .hint("give the query in WITH another name"),
        ))),
    }
}

/// The engine's own part of a plan.
///
/// # Errors
/// When the plan is another engine's.
pub fn detail<T: Tabled>(plan: &Plan) -> Result<&Detail<T>, EngineError> {
    plan.detail.downcast_ref().ok_or_else(|| EngineError::Other("the plan is another engine's".to_owned()))
}

/// Refuses when the definition of a table is not the one that was planned with; `since` says since when.
///
/// # Errors
/// [`Overtaken::Definitions`] then.
pub fn same_definition(now: &Target, then: &Target, since: &str) -> Result<(), EngineError> {
    if now.definition == then.definition {
        return Ok(());
    }
    Err(EngineError::redefined(format!("the definition of {} has changed since {since}", then.table)))
}

/// Which triggers a statement sets off.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Fires {
    /// Some for each row.
    pub for_rows: bool,
    /// Some for the statement itself.
    pub for_statement: bool,
}

impl Fires {
    /// What these triggers are.
    pub fn of(triggers: &[Trigger]) -> Fires {
        Fires {
            for_rows: triggers.iter().any(|t| !t.for_statement),
            for_statement: triggers.iter().any(|t| t.for_statement),
        }
    }
}

/// Refuses to begin what is known to lack a privilege.
///
/// # Errors
/// [`Unusable::Denied`] with what is missing.
pub fn may_write(plan: &Plan) -> Result<(), EngineError> {
    match plan.findings.iter().find(|f| f.code == Code::MissingPrivilege) {
        Some(finding) => {
            Err(EngineError::denied(format!("{}: nothing is applied; a preview works", finding.message)))
        }
        None => Ok(()),
    }
}

/// Whether some assigned value is not known beforehand.
pub fn unknown_values(plan: &Plan) -> bool {
    plan.foreseen.iter().any(|f| !f.derived && f.label == Label::Unknown)
}

/// The refusal of a joined statement where no temporary table can be made: its rows could not be told apart.
pub fn without_temporary(step: &Step, why: &str) -> EngineError {
    EngineError::Refused(Box::new(
        Finding::new(Code::NotUnderstood, format!("{why}, and a join needs a temporary table"))
            .at(step.place(step.sources.as_ref().map_or(step.table.slice, |s| s.slice)))
            .hint("write the join as EXISTS (SELECT …) in WHERE"),
    ))
}

/// Looks at what a filter calls before anything of it is run: refuses what no preview may run, and what nobody knows
/// unless it was asked for by name; then the finding says that it was run.
///
/// # Errors
/// [`EngineError::Refused`] with the function and its place, or what `catalogue` answers.
pub fn filter_calls(
    step: &Step,
    allow: &[Code],
    bodies: &[Body],
    catalogue: &mut dyn Catalogue,
) -> Result<Option<Finding>, EngineError> {
    let mut asked = None;
    for body in bodies {
        let words = step.words(step.statement);
        let place = words.iter().find(|t| t.name().is_some_and(|n| n.eq_ignore_ascii_case(&body.name)));
        let filter = step.filter.as_ref().map_or(step.statement, |f| f.slice);
        let place = step.place(place.map_or(filter, |t| t.slice));
        match judge(catalogue, body)? {
            Judgement::Quiet => {}
            Judgement::Never(message) => {
                return Err(EngineError::Refused(Box::new(
                    Finding::new(Code::VolatileFilter, message)
                        .at(place)
                        .hint("filter on what the rows hold; this is never let pass"),
                )));
            }
            Judgement::Ask(message) if !allow.contains(&Code::VolatileFilter) => {
                return Err(EngineError::Refused(Box::new(
                    Finding::new(Code::VolatileFilter, format!("{message}; it was not run")).at(place).hint(
                        "filter on what the rows hold, or let it be run inside what is rolled back with \
                         --allow volatile-filter",
                    ),
                )));
            }
            Judgement::Ask(message) => {
                asked = Some(
                    Finding::new(
                        Code::VolatileFilter,
                        format!("{message}; the preview ran it inside what was rolled back"),
                    )
                    .at(place),
                );
            }
        }
    }
    Ok(asked)
}

/// An error about several values of a subquery, as a finding with the place of the first one.
pub fn in_place(step: &Step, error: EngineError) -> EngineError {
    let Some(Broken { message: said, .. }) = error.broken(Constraint::OneValue) else { return error };
    let slice = subqueries(step, step.statement).first().copied().unwrap_or(step.statement);
    let message = format!("a subquery gives several values where one is wanted; the engine says: {said}");
    EngineError::Refused(Box::new(Finding::new(Code::ManyValues, message).at(step.place(slice))))
}
