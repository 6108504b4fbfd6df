//! Common slips in statements that an engine's grammar does not take: where the slip itself stands, which may be before
//! the word that the engine stumbles over, and what to do.

use sqlparser::tokenizer::Token;

use super::dialects;
use crate::dialect::language::Language;
use crate::text::slices::Slice;
use crate::text::{Tok, tokenize, within};
use marktwice_core::near::nearest;

/// Words of the grammar that are often mistyped.
const KEYWORDS: [&str; 10] =
    ["WHERE", "SET", "FROM", "AND", "UPDATE", "DELETE", "VALUES", "IN", "LIKE", "BETWEEN"];

/// A slip: where it stands, and what to do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slip {
    /// Where; `None` for where the engine says.
    pub at: Option<Slice>,
    /// What to do.
    pub hint: String,
    /// What to write instead, where that is mechanical.
    pub paste: Option<String>,
}

fn here(hint: impl Into<String>) -> Option<Slip> {
    Some(Slip { at: None, hint: hint.into(), paste: None })
}

/// The slip behind an error at `at` (a byte of the source), where it is a common one.
pub fn slip(source: &str, statement: Slice, language: Language, at: usize) -> Option<Slip> {
    let all = tokenize(source, language.dialect()).ok()?;
    let tokens = within(&all, statement);
    let position = tokens.iter().position(|t| t.slice.end > at);
    let token = position.and_then(|p| tokens.get(p));
    let before = position.unwrap_or(tokens.len()).checked_sub(1).and_then(|p| tokens.get(p));
    let after = position.and_then(|p| tokens.get(p + 1));
    if let Some((said, paste)) = dialects::joined_update(source, &tokens, language) {
        let hint = if paste.is_some() { format!("{said}:") } else { said };
        return Some(Slip { at: None, hint, paste });
    }
    let near = position.or(tokens.len().checked_sub(1));
    if let Some(hint) = near.and_then(|at| dialects::foreign(&tokens, at, language, source)) {
        return here(hint);
    }
    if tokens.first().is_some_and(|t| t.is_any(&["insert", "replace"])) {
        if position == Some(1)
            && token.is_some_and(|t| t.name().is_some())
            && after.is_some_and(|t| !t.is_word("into"))
        {
            return here("INTO is missing: INSERT INTO table (column, …) VALUES (value, …)");
        }
        if token.is_some_and(|t| t.is_word("set")) {
            return here(
                "an INSERT names its columns first: INSERT INTO table (column, …) VALUES (value, …)",
            );
        }
    }
    if let Some(found) = token.and_then(|t| mistyped(t)) {
        return here(found);
    }
    if let (Some(token), Some(before)) = (token, before)
        && let Some(hint) = mistyped(before)
        && !token.is(&Token::Eq)
    {
        // The engine took the mistyped word for a name and stumbles over the next one.
        return Some(Slip { at: Some(before.slice), hint, paste: None });
    }
    let update = tokens.first().is_some_and(|t| t.is_word("update"));
    let set = tokens.iter().position(|t| t.is_word("set"));
    let place = tokens.iter().position(|t| t.is_word("where"));
    let Some(token) = token else {
        return match before {
            Some(last) if last.is_any(&["and", "or", "where", "not", "like", "in", "between"]) => {
                here(format!("a condition is missing behind {}", last.slice.of(source).trim()))
            }
            _ if depth(&tokens) > 0 => here("a closing parenthesis is missing"),
            _ if cases(&tokens) > 0 => here("END is missing behind CASE"),
            _ => here("finish the statement"),
        };
    };
    if language == Language::Mysql
        && tokens.first().is_some_and(|t| t.is_word("with"))
        && token.is_any(&["update", "delete"])
    {
        return here("this server has no WITH before UPDATE and DELETE; write the subquery where it is read");
    }
    if update && set.is_none() {
        return here("SET is missing: UPDATE table SET column = value WHERE …");
    }
    if update && set == Some(1) {
        return here("the table is missing: UPDATE table SET column = value WHERE …");
    }
    if token.is(&Token::RParen) && depth(tokens.get(..=position?)?) < 0 {
        return here("this parenthesis closes nothing");
    }
    if !update && token.is_word("set") {
        return here("a DELETE sets nothing; to change values write UPDATE table SET …");
    }
    if token.is(&Token::Mul) && before.is_some_and(|t| t.is_word("delete")) {
        return here("leave the star out: DELETE FROM table WHERE …");
    }
    if token.is_word("where") && before.is_some_and(|t| t.is(&Token::Comma)) {
        return here("there is one comma too many before WHERE");
    }
    if token.is_word("where") && before.is_some_and(|t| t.is_word("from")) {
        return here("the table is missing: DELETE FROM table WHERE …");
    }
    if token.is_word("where") && before.is_some_and(|t| t.is(&Token::Eq)) {
        return here("the value is missing; for none write NULL");
    }
    let in_set =
        update && set.is_some_and(|s| Some(s) < position) && place.is_none_or(|w| position < Some(w));
    if in_set && token.name().is_some() && after.is_some_and(|t| t.is(&Token::Eq)) {
        return here(format!("a comma is missing before {}", token.slice.of(source).trim()));
    }
    if in_set && token.is(&Token::Eq) && before.is_some_and(|t| t.is_word("set") || t.is(&Token::Comma)) {
        return here("the column is missing: SET column = value");
    }
    if in_set
        && before.is_some_and(|t| t.name().is_some())
        && !token.is(&Token::Eq)
        && set == position.map(|p| p.saturating_sub(2))
    {
        return here("an equals sign is missing: SET column = value");
    }
    if language == Language::Sqlite
        && update
        && position == Some(2)
        && after.is_some_and(|t| t.is_word("set"))
    {
        return here(format!("this SQLite wants AS before an alias: AS {}", token.slice.of(source).trim()));
    }
    if before.is_some_and(|t| t.is_word("in")) {
        return here("a list stands in parentheses: IN (1, 2)");
    }
    None
}

/// What a mistyped keyword was meant to be.
fn mistyped(token: &Tok) -> Option<String> {
    let word = token.word()?;
    let meant = nearest(&word, KEYWORDS)?;
    (!meant.eq_ignore_ascii_case(&word)).then(|| format!("did you mean {meant}?"))
}

fn depth(tokens: &[&Tok]) -> i64 {
    tokens.iter().map(|t| i64::from(t.is(&Token::LParen)) - i64::from(t.is(&Token::RParen))).sum()
}

fn cases(tokens: &[&Tok]) -> i64 {
    tokens.iter().map(|t| i64::from(t.is_word("case")) - i64::from(t.is_word("end"))).sum()
}

/// What to write for a text in the quotation marks of a word processor.
pub fn typographic(name: &str) -> Option<String> {
    let marks = ['‘', '’', '‚', '“', '”', '„', '´', '«', '»'];
    name.starts_with(marks)
        .then(|| format!("these are no quotation marks of SQL; write '{}'", name.trim_matches(marks)))
}
