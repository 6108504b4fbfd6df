//! `too-long`: a literal that is longer than its column.

use marktwice_core::{Code, Finding};
use sqlparser::tokenizer::Token;

use super::Facts;
use crate::dialect::classes::length;

/// Looks at assigned literals; values that are computed are looked at row by row.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let mut found = Vec::new();
    for assignment in &seen.step.assignments {
        for (name, value) in assignment.columns.iter().zip(assignment.parts.iter().flatten()) {
            let column = seen.target.position(&name.text).and_then(|at| seen.target.columns.get(at));
            let Some(room) = column.and_then(|c| length(&c.declared)) else { continue };
            let tokens = seen.step.words(*value);
            let [literal] = tokens.as_slice() else { continue };
            let Token::SingleQuotedString(text) = &literal.token.token else { continue };
            let long = text.trim_end_matches(' ').chars().count();
            if long > room {
                let message = format!("{} is declared for {room} characters, and this is {long}", name.text);
                found.push(Finding::new(Code::TooLong, message).at(seen.step.place(*value)));
            }
        }
    }
    found
}
