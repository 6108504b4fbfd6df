//! The conditions of a filter that are joined by AND at its top, as slices.

use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::statement::step::Step;
use crate::text::Tok;
use crate::text::slices::Slice;

/// The top-level conditions of the filter, verbatim and in order; one, where it is not a chain of AND.
pub fn terms(step: &Step) -> Vec<Slice> {
    let Some(filter) = &step.filter else { return Vec::new() };
    let tokens = step.words(filter.slice);
    let joints = joints(&tokens, step.language);
    if joints.iter().any(|(_, joint)| *joint != Joint::And) {
        return vec![filter.slice];
    }
    let mut all = Vec::new();
    let mut from = 0;
    for end in joints.iter().map(|(at, _)| *at).chain([tokens.len()]) {
        if let Some(part) = tokens.get(from..end)
            && let (Some(first), Some(last)) = (part.first(), part.last())
        {
            all.push(first.slice.to(last.slice));
        }
        from = end + 1;
    }
    all
}

/// What joins two conditions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Joint {
    /// AND.
    And,
    /// OR.
    Or,
    /// Anything that binds less than AND and is no OR.
    Odd,
}

/// The joints of a run of tokens that stand outside of parentheses, CASE and BETWEEN … AND.
pub(crate) fn joints(tokens: &[&Tok], language: Language) -> Vec<(usize, Joint)> {
    let mut depth = 0i32;
    let mut cases = 0i32;
    let mut between = 0i32;
    let mut all = Vec::new();
    for (at, token) in tokens.iter().enumerate() {
        match &token.token.token {
            Token::LParen | Token::LBracket => depth += 1,
            Token::RParen | Token::RBracket => depth -= 1,
            _ if depth > 0 => {}
            Token::Word(_) if token.is_word("case") => cases += 1,
            Token::Word(_) if token.is_word("end") => cases -= 1,
            _ if cases > 0 => {}
            Token::Word(_) if token.is_word("between") => between += 1,
            Token::Word(_) if token.is_word("and") && between > 0 => between -= 1,
            Token::Word(_) if token.is_word("and") => all.push((at, Joint::And)),
            Token::Word(_) if token.is_word("or") => all.push((at, Joint::Or)),
            Token::Word(_) if token.is_word("xor") => all.push((at, Joint::Odd)),
            // There these mean AND and OR, unless a mode says otherwise.
            Token::Overlap | Token::StringConcat if language == Language::Mysql => all.push((at, Joint::Odd)),
            _ => {}
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statement::slicing::understand;

    #[test]
    fn only_chains_of_and_come_apart() {
        for (filter, parts) in [
            ("a = 1 AND b = 2", &["a = 1", "b = 2"][..]),
            ("a BETWEEN 1 AND 2 AND NOT b", &["a BETWEEN 1 AND 2", "NOT b"]),
            (
                "(a = 1 OR b) AND CASE WHEN a AND b THEN 1 END",
                &["(a = 1 OR b)", "CASE WHEN a AND b THEN 1 END"],
            ),
            ("a = 1 AND b OR c", &["a = 1 AND b OR c"]),
            ("a IN (SELECT 1 WHERE x AND y)", &["a IN (SELECT 1 WHERE x AND y)"]),
            (
                "a NOT BETWEEN 1 AND CASE WHEN x AND y THEN 3 END AND z",
                &["a NOT BETWEEN 1 AND CASE WHEN x AND y THEN 3 END", "z"],
            ),
        ] {
            let step = understand(&format!("DELETE FROM k WHERE {filter}"), Language::Sqlite).unwrap();
            let found: Vec<&str> = terms(&step).into_iter().map(|t| step.text(t)).collect();
            assert_eq!(found, parts, "{filter}");
        }
    }
}
