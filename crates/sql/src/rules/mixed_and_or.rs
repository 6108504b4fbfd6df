//! `mixed-and-or`: AND and OR side by side without parentheses.

use marktwice_core::{Code, Finding};
use sqlparser::tokenizer::Token;

use super::Facts;
use crate::statement::terms::{Joint, joints};
use crate::text::Tok;

/// Looks at the filter and at every group in parentheses within it; subqueries are left to themselves.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let Some(filter) = &seen.step.filter else { return Vec::new() };
    let tokens = seen.step.words(filter.slice);
    let mut groups: Vec<&[&Tok]> = vec![&tokens];
    let mut open = Vec::new();
    for (at, token) in tokens.iter().enumerate() {
        if token.is(&Token::LParen) {
            open.push(at);
        } else if token.is(&Token::RParen)
            && let Some(start) = open.pop()
        {
            groups.extend(tokens.get(start + 1..at));
        }
    }
    groups.into_iter().find_map(|group| mixed(seen, group)).into_iter().collect()
}

fn mixed(seen: Facts<'_>, group: &[&Tok]) -> Option<Finding> {
    if group.first()?.is_any(&["select", "with", "values"]) {
        return None;
    }
    let joints = joints(group, seen.step.language);
    let has = |joint| joints.iter().any(|(_, j)| *j == joint);
    if !has(Joint::And) || !has(Joint::Or) || has(Joint::Odd) {
        return None;
    }
    // What the engine makes of it: AND binds closer.
    let mut parts: Vec<String> = Vec::new();
    let mut from = 0;
    let ors = joints.iter().filter(|(_, j)| *j == Joint::Or).map(|(at, _)| *at);
    for end in ors.chain([group.len()]) {
        let part = group.get(from..end)?;
        let text = seen.step.text(part.first()?.slice.to(part.last()?.slice));
        let joined = joints.iter().any(|(at, j)| *j == Joint::And && (from..end).contains(at));
        parts.push(if joined { format!("({text})") } else { text.to_owned() });
        from = end + 1;
    }
    let whole = group.first()?.slice.to(group.last()?.slice);
    Some(
        Finding::new(Code::MixedAndOr, "AND and OR stand side by side; AND binds closer")
            .at(seen.step.place(whole))
            .hint("it is read as below; if that is meant, write the parentheses, if not, set others:")
            .paste(seen.step.replaced(whole, &parts.join(" OR "))),
    )
}
