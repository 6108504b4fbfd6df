//! The conditions of a filter that are joined by AND at its top, as slices.

use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::statement::step::Step;
use crate::text::slices::Slice;
use crate::text::{Tok, tokenize};

/// The top-level conditions of the filter, verbatim and in order; one, where it is not a chain of AND.
pub fn terms(step: &Step) -> Vec<Slice> {
    step.filter.as_ref().map_or_else(Vec::new, |filter| terms_of(step, filter.slice))
}

/// The same of any condition in the step.
pub(crate) fn terms_of(step: &Step, condition: Slice) -> Vec<Slice> {
    apart(&step.words(condition), step.language).unwrap_or_else(|| vec![condition])
}

/// The conditions of a text that are joined by AND at its top, whatever parentheses stand around all of it; one, where it is
/// not such a chain.
pub fn conditions(text: &str, language: Language) -> Vec<String> {
    let all = tokenize(text, language.dialect()).unwrap_or_default();
    let mut tokens: Vec<&Tok> = all.iter().filter(|t| !t.is_blank()).collect();
    loop {
        if let Some(parts) = apart(&tokens, language).filter(|parts| parts.len() > 1) {
            return parts.iter().map(|part| part.of(text).to_owned()).collect();
        }
        if !in_one_pair(&tokens) {
            return vec![text.to_owned()];
        }
        tokens = tokens.get(1..tokens.len() - 1).unwrap_or_default().to_vec();
    }
}

/// Whether one pair of parentheses stands around all of the tokens.
fn in_one_pair(tokens: &[&Tok]) -> bool {
    let mut depth = 0i32;
    let ends = tokens.iter().position(|t| {
        match t.token.token {
            Token::LParen => depth += 1,
            Token::RParen => depth -= 1,
            _ => {}
        }
        depth == 0
    });
    tokens.len() > 2 && ends == Some(tokens.len() - 1)
}

/// The parts of a chain of AND; `None` where anything else joins them.
fn apart(tokens: &[&Tok], language: Language) -> Option<Vec<Slice>> {
    let joints = joints(tokens, language);
    if joints.iter().any(|(_, joint)| *joint != Joint::And) {
        return None;
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
    Some(all)
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
    fn conditions_of_a_check() {
        let of = |text: &str| conditions(text, Language::Postgres);
        assert_eq!(of("((kilos > 0) AND (kilos < 100))"), ["(kilos > 0)", "(kilos < 100)"]);
        assert_eq!(of("a > 0 AND b BETWEEN 1 AND 2"), ["a > 0", "b BETWEEN 1 AND 2"]);
        for whole in ["(a > 0) OR (b > 0)", "(((a > 0)))", "", "(a) = (b)"] {
            assert_eq!(of(whole), [whole]);
        }
    }

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
