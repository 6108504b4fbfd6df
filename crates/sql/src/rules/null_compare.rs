//! `null-compare`: a comparison with NULL by an operator that NULL never passes.

use marktwice_core::finding::TextPlace;
use marktwice_core::{Code, Finding};
use sqlparser::tokenizer::Token;

use super::Facts;
use crate::Language;
use crate::query::placeholders::placeholders;
use crate::statement::slicing::understand_with;
use crate::statement::step::Step;
use crate::text::Tok;
use crate::text::slices::Slice;

/// Looks for `= NULL`, `<> NULL`, `NULL =`, and NULL in the list of NOT IN. It reads tokens, so that it sees
/// subqueries and filters alike.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    in_step(seen.step)
}

const IS_NULL: &str = "write IS NULL";

/// A value that is NULL and is compared: nothing in the text shows it.
pub fn of_value(text: &str, language: Language, name: &str) -> Option<Finding> {
    let all = placeholders(text, language).into_iter().filter(|(_, found)| found == name);
    let places: Vec<_> = all.map(|(range, _)| range).collect();
    let first = places.first()?;
    let mut with_null = text.to_owned();
    for range in places.iter().rev() {
        with_null.replace_range(range.clone(), "NULL");
    }
    let step = understand_with(&with_null, language, &mut |_, _| true).ok()?;
    let found = in_step(&step);
    let equal = found.first()?.hint.as_deref() == Some(IS_NULL);
    let too = match language {
        Language::Sqlite => "IS",
        Language::Postgres => "IS NOT DISTINCT FROM",
        Language::Mysql => "<=>",
    };
    let message = format!(":{name} is NULL, and a comparison with NULL is never true");
    let finding =
        Finding::new(Code::NullCompare, message).at(TextPlace::in_source(text, first.start, first.end));
    Some(match equal {
        true => finding.hint(format!("{too} :{name} finds NULL as well; or give a value")),
        false => finding.hint("give a value, or leave the condition out"),
    })
}

fn in_step(step: &Step) -> Vec<Finding> {
    let slices = step.filter.iter().map(|f| f.slice).chain(step.assignments.iter().map(|a| a.value));
    slices.flat_map(|slice| in_slice(step, slice)).collect()
}

fn in_slice(step: &Step, slice: Slice) -> Vec<Finding> {
    let tokens = step.words(slice);
    let mut found = Vec::new();
    for (at, token) in tokens.iter().enumerate().filter(|(_, t)| t.is_word("null")) {
        let before = at.checked_sub(1).and_then(|b| tokens.get(b));
        let after = tokens.get(at + 1);
        if let Some(op) = before.filter(|t| compares(t)) {
            found.push(comparison(step, op, op.slice.to(token.slice)));
        } else if let Some(op) = after.filter(|t| compares(t)) {
            found.push(comparison(step, op, token.slice.to(op.slice)));
        } else if in_not_in_list(&tokens, at) {
            let message = "NOT IN over a list that holds NULL is never true";
            found.push(
                Finding::new(Code::NullCompare, message)
                    .at(step.place(token.slice))
                    .hint("take NULL out of the list, and add AND … IS NOT NULL"),
            );
        }
    }
    found
}

fn compares(token: &Tok) -> bool {
    use Token::{DoubleEq, Eq, Gt, GtEq, Lt, LtEq, Neq};
    matches!(token.token.token, Eq | DoubleEq | Neq | Lt | LtEq | Gt | GtEq)
}

fn comparison(step: &Step, op: &Tok, slice: Slice) -> Finding {
    let sign = step.text(op.slice).trim();
    let finding = Finding::new(Code::NullCompare, format!("a comparison {sign} NULL is never true"))
        .at(step.place(slice));
    match op.token.token {
        Token::Eq | Token::DoubleEq => finding.hint(IS_NULL),
        Token::Neq => finding.hint("write IS NOT NULL"),
        _ => finding.hint("compare with a value"),
    }
}

fn in_not_in_list(tokens: &[&Tok], at: usize) -> bool {
    let mut depth = 0;
    for back in (0..at).rev() {
        let Some(token) = tokens.get(back) else { return false };
        if token.is(&Token::RParen) {
            depth += 1;
        } else if token.is(&Token::LParen) {
            if depth == 0 {
                let word = |n: usize, w: &str| {
                    back.checked_sub(n).and_then(|b| tokens.get(b)).is_some_and(|t| t.is_word(w))
                };
                let query = tokens.get(back + 1).is_some_and(|t| t.is_any(&["select", "with"]));
                return word(1, "in") && word(2, "not") && !query;
            }
            depth -= 1;
        }
    }
    false
}
