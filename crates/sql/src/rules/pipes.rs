//! `or-for-concat`: two bars between texts, where they mean OR.

use marktwice_core::{Code, Finding};
use sqlparser::tokenizer::Token;

use crate::statement::slicing::at_depth_0;
use crate::statement::step::Step;
use crate::text::Tok;
use crate::text::slices::Slice;

/// Looks for `||` in a statement whose engine reads it as OR: to be asked only then. Written where a value is assigned, or
/// before a text that nothing is compared with, it can hardly be meant; between two conditions it is.
pub fn look(step: &Step) -> Option<Finding> {
    let words = step.words(step.statement);
    let assigned = |bars: &Tok| {
        step.assignments
            .iter()
            .map(|a| a.value)
            .find(|v| v.start < bars.slice.start && bars.slice.end < v.end)
    };
    let compares = |t: &Tok| {
        [Token::Eq, Token::Neq, Token::Lt, Token::Gt, Token::LtEq, Token::GtEq].iter().any(|o| t.is(o))
            || t.is_any(&["like", "in", "is", "between", "not"])
    };
    let (_, bars) = words.iter().enumerate().find(|(at, t)| {
        let text = words.get(at + 1).is_some_and(|t| matches!(t.token.token, Token::SingleQuotedString(_)));
        let alone = text && !words.get(at + 2).is_some_and(|t| compares(t));
        t.is(&Token::StringConcat) && (alone || assigned(t).is_some())
    })?;
    let finding = Finding::new(Code::OrForConcat, "|| means OR here, and joins no texts")
        .at(step.place(bars.slice))
        .hint("write concat(a, b); where OR is meant, OR");
    let Some(value) = assigned(bars) else { return Some(finding) };
    let Some(joined) = joined(step, value) else { return Some(finding) };
    Some(finding.hint("write concat(a, b):").paste(step.replaced(value, &joined)))
}

/// A value as `concat(…)`, where its bars all stand side by side.
fn joined(step: &Step, value: Slice) -> Option<String> {
    let tokens: Vec<&Tok> = step.words(value);
    let bars: Vec<usize> =
        at_depth_0(&tokens, 0).filter(|(_, t)| t.is(&Token::StringConcat)).map(|(at, _)| at).collect();
    if bars.len() != tokens.iter().filter(|t| t.is(&Token::StringConcat)).count() {
        return None;
    }
    // What binds less than the bars would end up inside.
    if at_depth_0(&tokens, 0).any(|(_, t)| t.is_any(&["or", "and", "not", "case", "xor"]) || t.is(&Token::Eq))
    {
        return None;
    }
    let mut parts = Vec::new();
    let mut from = 0;
    for end in bars.into_iter().chain([tokens.len()]) {
        let part = tokens.get(from..end)?;
        parts.push(part.first()?.slice.to(part.last()?.slice).of(&step.source));
        from = end + 1;
    }
    Some(format!("concat({})", parts.join(", ")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::language::Language;
    use crate::statement::slicing::understand;

    #[test]
    fn what_can_hardly_be_meant() {
        for (sql, found) in [
            (
                "UPDATE t SET a = b || 'x' || c WHERE d = 1",
                Some(Some("UPDATE t SET a = concat(b, 'x', c) WHERE d = 1;")),
            ),
            ("UPDATE t SET a = upper(b || 'x')", Some(None)),
            ("DELETE FROM t WHERE a = b || 'x'", Some(None)),
            ("DELETE FROM t WHERE a = 1 || b = 'x'", None),
            ("DELETE FROM t WHERE a = 'x' || b = 'y'", None),
            ("DELETE FROM t WHERE a = 'x' || 'y' = b", None),
            ("DELETE FROM t WHERE a IS NULL", None),
        ] {
            let said = look(&understand(sql, Language::Mysql).unwrap());
            let paste = said.map(|f| f.paste.map(|p| p.text.to_string()));
            assert_eq!(paste.as_ref().map(|p| p.as_deref()), found, "{sql}");
        }
    }
}
