//! Which numbers rows were given that came in, where the server does not give them back: the end of the key is locked, so that
//! nobody else's rows come in behind it, and what stands behind the former last number afterwards is the statement's own.

use std::collections::HashSet;

use marktwice_core::Value;
use marktwice_core::finding::{Code, Finding};
use marktwice_core::mark::{Foreseen, Label};
use marktwice_port::{EngineError, Plan};
use marktwice_relational::shell::Tabled;
use marktwice_relational::statement::detail;
use marktwice_sql::Step;
use marktwice_sql::dialect::ours::ORDINAL;

use crate::catalog::{Table, ident};
use crate::client::My;
use crate::values::Form;

/// What is to be said of a statement that brings rows in whose key only the run knows.
///
/// # Errors
/// The finding that refuses it, where a part of the key is no number that the server gives: nobody could tell the row again.
pub(crate) fn numbered(
    brand: &str,
    step: &Step,
    table: &Table,
    foreseen: &[Foreseen],
) -> Result<Option<Finding>, Finding> {
    let target = &table.target;
    let mut open = foreseen
        .iter()
        .filter(|f| f.label == Label::Unknown && target.key.columns.contains(&f.column))
        .peekable();
    if step.inserted.is_none() || open.peek().is_none() {
        return Ok(None);
    }
    let place = step.place(step.table.slice);
    if let Some(untold) = open.find(|f| !table.types.get(f.column).is_some_and(|of| of.auto)) {
        let name = target.columns.get(untold.column).map_or("", |c| c.name.as_str());
        let why = untold.why.as_deref().unwrap_or_default();
        let message = format!(
            "{name} is in the key and known only in the run ({why}), and {brand} does not give it back"
        );
        let finding = Finding::new(Code::NotUnderstood, message).at(place);
        return Err(finding.hint(format!("give {name} a value")));
    }
    let message = format!(
        "rows of other sessions come into {} only after COMMIT: the end of its key is locked",
        target.table
    );
    Ok(Some(Finding::new(Code::InsertsWait, message).at(place)))
}

/// Runs a statement that brings rows in; gives their numbers, in the order of the held rows.
pub(crate) fn bring_in(my: &mut My, plan: &Plan) -> Result<Vec<Value>, EngineError> {
    let table = &detail::<Table>(plan)?.table;
    let open = |at: &&usize| plan.foreseen.iter().any(|f| f.column == **at && f.label == Label::Unknown);
    let Some(&at) = plan.target.key.columns.iter().find(open) else {
        return Err(EngineError::Other("nothing of the key is to be told".to_owned()));
    };
    let column = plan.target.columns.get(at).map_or(String::new(), |c| ident(&c.name));
    let form = table.form(at);
    let one = |my: &mut My, sql: &str, forms: &[Form]| {
        let mut all = Vec::new();
        my.stream(sql, &[], forms, &mut |values| {
            all.push(values);
            Ok(())
        })?;
        Ok::<_, EngineError>(all)
    };
    let last = one(
        my,
        &format!("SELECT {column} FROM {} ORDER BY {column} DESC LIMIT 1 FOR UPDATE", table.name),
        &[form],
    )?;
    let last = last.into_iter().flatten().next();
    let held = format!("SELECT {ORDINAL}, {column} FROM {} ORDER BY {ORDINAL}", table.held_name(plan.step));
    let held = one(my, &held, &[Form::Number, form])?;
    let zero_is_one = my.own.0.contains("NO_AUTO_VALUE_ON_ZERO");
    let given: Vec<Option<Value>> = held
        .into_iter()
        .map(|row| row.into_iter().nth(1).filter(|v| !v.is_null() && (zero_is_one || *v != Value::Int(0))))
        .collect();
    let count = my.execute_one(&plan.statement, &[])?;
    let (sql, values) = match &last {
        Some(last) => (
            format!("SELECT {column} FROM {} WHERE {column} > ? ORDER BY {column}", table.name),
            vec![last.clone()],
        ),
        None => (format!("SELECT {column} FROM {} ORDER BY {column}", table.name), Vec::new()),
    };
    let text = |value: &Value| value.to_json().to_string();
    let written: HashSet<String> = given.iter().flatten().map(text).collect();
    let mut behind: Vec<Value> = Vec::new();
    my.stream(&sql, &values, &[form], &mut |values| {
        behind
            .extend(values.into_iter().filter(|value| written.is_empty() || !written.contains(&text(value))));
        Ok(())
    })?;
    let wanted = given.iter().filter(|value| value.is_none()).count();
    if behind.len() != wanted || count != given.len() as u64 {
        return Err(EngineError::Other(format!(
            "{} does not say which numbers it gives: {wanted} rows were to be numbered, and {} stand behind the former last number",
            my.brand,
            behind.len()
        )));
    }
    let mut behind = behind.into_iter();
    Ok(given.into_iter().filter_map(|value| value.or_else(|| behind.next())).collect())
}
