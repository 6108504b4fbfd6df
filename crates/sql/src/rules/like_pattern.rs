//! `plain-like` and `like-anything`: a pattern that is none, and one that everything fits.

use marktwice_core::{Code, Finding};
use sqlparser::tokenizer::Token;

use super::Facts;

/// Looks at each LIKE with a literal pattern, subqueries included.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let Some(filter) = &seen.step.filter else { return Vec::new() };
    let tokens = seen.step.words(filter.slice);
    let mut found = Vec::new();
    for (at, token) in tokens.iter().enumerate().filter(|(_, t)| t.is_any(&["like", "ilike"])) {
        let Some(pattern) = tokens.get(at + 1) else { continue };
        let (Token::SingleQuotedString(text) | Token::DoubleQuotedString(text)) = &pattern.token.token else {
            continue;
        };
        let not = at.checked_sub(1).and_then(|b| tokens.get(b)).is_some_and(|t| t.is_word("not"));
        let place = seen.step.place(token.slice.to(pattern.slice));
        if !text.is_empty() && text.chars().all(|c| c == '%') {
            let message = if not {
                "nothing but NULL is unlike '%', and NULL does not pass either: no row passes"
            } else {
                "everything is like '%', NULL alone is kept out"
            };
            let finding = Finding::new(Code::LikeAnything, message).at(place);
            found.push(finding.hint("write IS NOT NULL if that is meant, or the part that must be there"));
        } else if !text.contains(['%', '_']) && !tokens.get(at + 2).is_some_and(|t| t.is_word("escape")) {
            let sign = if not { "<>" } else { "=" };
            found.push(
                Finding::new(Code::PlainLike, "this pattern has no % and no _: it is compared as a whole")
                    .at(place)
                    .hint(format!(
                        "write {sign} if the whole value is meant, or '%{text}%' if a part of it is"
                    )),
            );
        }
    }
    found
}
