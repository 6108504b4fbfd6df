//! `repeats` and `moves-filter`: what a second run of the same statement would do.

use marktwice_core::words;
use marktwice_core::{Code, Finding};
use sqlparser::tokenizer::Token;

use super::Facts;
use crate::statement::slicing::own_columns;
use crate::text::slices::Slice;

/// Functions that change nothing when they are applied a second time.
const SETTLES: &[&str] = &[
    "upper",
    "lower",
    "trim",
    "ltrim",
    "rtrim",
    "btrim",
    "abs",
    "round",
    "floor",
    "ceil",
    "ceiling",
    "date",
    "initcap",
    "ucase",
    "lcase",
    "coalesce",
    "ifnull",
    "nullif",
    "trunc",
    "truncate",
    "cast",
    "replace",
    "greatest",
    "least",
    "date_trunc",
    "last_day",
    "iif",
    "if",
    "regexp_replace",
    "normalize",
];

/// Looks for an assignment that starts from the column's own old value, and for assigned columns in the filter.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let step = seen.step;
    let filter: Vec<usize> = step
        .filter
        .iter()
        .flat_map(|f| own_columns(step, seen.target, f.slice))
        .map(|(column, _)| column)
        .collect();
    let mut found = Vec::new();
    let mut moves: Option<(Vec<&str>, Slice)> = None;
    for assignment in &step.assignments {
        for (nth, name) in assignment.columns.iter().enumerate() {
            let Some(at) = seen.target.position(&name.text) else { continue };
            if filter.contains(&at) {
                moves.get_or_insert_with(|| (Vec::new(), name.slice)).0.push(&name.text);
            }
            let Some(value) = assignment.parts.as_ref().and_then(|p| p.get(nth)) else { continue };
            if grows(seen, *value, at) {
                let message =
                    format!("{} starts from its own old value: a second run changes it again", name.text);
                found.push(Finding::new(Code::Repeats, message).at(step.place(*value)));
            }
        }
    }
    if let Some((names, slice)) = moves {
        // Whether a second run finds the same rows is then open.
        found.clear();
        let n = names.len() as u64;
        let (is, stands) = (words::either(n, "is", "are"), words::either(n, "stands", "stand"));
        let message = format!(
            "{} {is} assigned and {stands} in the filter: afterwards it matches other rows",
            names.join(" and ")
        );
        found.push(Finding::new(Code::MovesFilter, message).at(step.place(slice)));
    }
    found
}

/// Whether a value is computed from the column itself in a way that goes on with each run.
fn grows(seen: Facts<'_>, value: Slice, column: usize) -> bool {
    let tokens = seen.step.words(value);
    let subqueries = crate::statement::slicing::subqueries(seen.step, value);
    let outside = |at: Slice| !subqueries.iter().any(|q| q.start <= at.start && at.end <= q.end);
    let named =
        own_columns(seen.step, seen.target, value).into_iter().any(|(c, at)| c == column && outside(at));
    let arithmetic = tokens.iter().any(|t| {
        matches!(
            t.token.token,
            Token::Plus | Token::Minus | Token::Mul | Token::Div | Token::Mod | Token::StringConcat
        ) || t.is_any(&[
            "concat",
            "substr",
            "substring",
            "power",
            "lpad",
            "rpad",
            "reverse",
            "date_add",
            "date_sub",
            "adddate",
        ])
    });
    let first = tokens.iter().find(|t| !t.is(&Token::LParen));
    // `date(day, '+1 day')` goes on; `date(day)` does not.
    let moved = first.is_some_and(|t| t.is_any(&["date", "datetime", "time", "julianday", "strftime"]))
        && tokens.iter().any(|t| t.is(&Token::Comma));
    let called = tokens.iter().any(|t| t.is(&Token::LParen));
    let settles = !called || first.is_some_and(|t| t.is_any(SETTLES) || t.is_word("case"));
    named && (arithmetic || moved || !settles) && tokens.len() > 1
}
