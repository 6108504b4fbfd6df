//! `and-for-comma`: AND between assignments, where SET wants a comma.

use marktwice_core::{Code, Finding};
use sqlparser::tokenizer::Token;

use crate::statement::step::Step;
use crate::statement::terms::{Joint, joints};

use super::Facts;

/// Looks for `SET a = 1 AND b = 2`, which assigns to one column whether two conditions hold.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let columns = |name: &str| seen.target.position(name).is_some();
    in_step(seen.step, &columns)
}

/// The same before anything is known of the target: what an engine refuses for its types is told in these words.
pub fn in_text(step: &Step) -> Option<Finding> {
    in_step(step, &|_| true).into_iter().next()
}

fn in_step(step: &Step, is_column: &dyn Fn(&str) -> bool) -> Vec<Finding> {
    let mut found = Vec::new();
    for assignment in &step.assignments {
        let tokens = step.words(assignment.value);
        for (at, _) in joints(&tokens, step.language).into_iter().filter(|(_, j)| *j == Joint::And) {
            let behind = tokens.get(at + 1..).unwrap_or_default();
            let name = match behind {
                [name, equals, ..] if equals.is(&Token::Eq) => name,
                [_, dot, name, equals, ..] if dot.is(&Token::Period) && equals.is(&Token::Eq) => name,
                _ => continue,
            };
            let (Some(word), Some(and)) = (name.name(), tokens.get(at)) else { continue };
            if !is_column(word) {
                continue;
            }
            let column = assignment.columns.first().map_or("", |c| c.text.as_str());
            let start = step.statement.start;
            let source = &step.source;
            let before = source.get(start..and.slice.start).unwrap_or("").trim_end();
            let after = source.get(and.slice.end..step.statement.end).unwrap_or("");
            found.push(
                Finding::new(
                    Code::AndForComma,
                    format!(
                        "AND stands between two assignments: {column} would become the truth of what follows"
                    ),
                )
                .at(step.place(and.slice))
                .hint("write a comma:")
                .paste(format!("{before},{after};")),
            );
            break;
        }
    }
    found
}
