//! Placeholders of parameters: `:name`, at token boundaries only. What stands in texts and comments, in casts (`::`), in
//! slices of arrays (`[a:b]`) and in assignments (`:=`) is none.

use std::ops::Range;

use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::text::{Tok, tokenize};

/// The placeholders of a text, in order: where each stands, colon included, and its name. None in a text that cannot be cut.
pub fn placeholders(text: &str, language: Language) -> Vec<(Range<usize>, String)> {
    if !text.contains(':') {
        return Vec::new();
    }
    let Ok(tokens) = tokenize(text, language.dialect()) else { return Vec::new() };
    let mut found = Vec::new();
    let mut brackets = 0i64;
    for (at, token) in tokens.iter().enumerate() {
        match &token.token.token {
            Token::LBracket => brackets += 1,
            Token::RBracket => brackets -= 1,
            Token::Placeholder(said) if brackets == 0 => {
                if let Some(name) = said.strip_prefix(':').filter(|name| !name.is_empty()) {
                    found.push((token.slice.start..token.slice.end, name.to_owned()));
                }
            }
            Token::Colon if brackets == 0 => {
                let next = tokens.get(at + 1).filter(|next| next.slice.start == token.slice.end);
                let before = at.checked_sub(1).and_then(|b| tokens.get(b));
                let joined = before.is_some_and(|b| b.slice.end == token.slice.start && is_name(b));
                if let Some(name) = next.filter(|next| is_name(next) && !joined).and_then(bare) {
                    found.push((token.slice.start..token.slice.end + name.len(), name));
                }
            }
            _ => {}
        }
    }
    found
}

fn is_name(token: &Tok) -> bool {
    matches!(&token.token.token, Token::Word(word) if word.quote_style.is_none())
}

fn bare(token: &Tok) -> Option<String> {
    match &token.token.token {
        Token::Word(word) => Some(word.value.clone()),
        _ => None,
    }
}

/// A text with something else in the place of some of its placeholders, and where that stands in both.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Replaced {
    /// The new text.
    pub text: String,
    /// What was replaced: the old place, and the new one.
    pub places: Vec<(Range<usize>, Range<usize>)>,
}

impl Replaced {
    /// The place in the old text of a byte of the new one.
    pub fn back(&self, at: usize) -> usize {
        let mut moved = (0, 0);
        for (old, new) in &self.places {
            if at < new.start {
                break;
            }
            if at < new.end {
                return old.start;
            }
            moved = (old.end, new.end);
        }
        moved.0 + at.saturating_sub(moved.1)
    }
}

/// Puts what `with` gives in the place of placeholders; those that it does not know stay. `None` where there is none of them.
pub fn replaced(
    text: &str,
    language: Language,
    with: &mut dyn FnMut(&str) -> Option<String>,
) -> Option<Replaced> {
    let mut done = Replaced::default();
    let mut at = 0;
    for (range, name) in placeholders(text, language) {
        let Some(new) = with(&name) else { continue };
        done.text.push_str(text.get(at..range.start)?);
        let start = done.text.len();
        done.text.push_str(&new);
        at = range.end;
        done.places.push((range, start..done.text.len()));
    }
    if done.places.is_empty() {
        return None;
    }
    done.text.push_str(text.get(at..)?);
    Some(done)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_at_token_boundaries() {
        let names = |text: &str, language| {
            placeholders(text, language)
                .into_iter()
                .map(|(range, name)| {
                    assert_eq!(&text[range], format!(":{name}"), "{text}");
                    name
                })
                .collect::<Vec<_>>()
        };
        for language in [Language::Sqlite, Language::Postgres, Language::Mysql] {
            let text = "UPDATE b SET p = :rise * p, n = ':no' /* :no */ WHERE d>=:day AND x = 'it''s :no' -- :no\n OR y IN (:a,:b_2)";
            assert_eq!(names(text, language), ["rise", "day", "a", "b_2"], "{language:?}");
        }
        let text = "SELECT a[1:n], b::text, (:day)::date, :n::int, c[:n], '{\"a\":1}'::json FROM t";
        assert_eq!(names(text, Language::Postgres), ["day", "n"]);
        assert_eq!(names("SET @x := 5, y = :y", Language::Mysql), ["y"]);
    }

    #[test]
    fn places_lead_back() {
        let text = "SELECT :a + :b + :c";
        let mut with = |name: &str| (name != "b").then(|| format!("({name} as long as it is)"));
        let done = replaced(text, Language::Postgres, &mut with).unwrap();
        assert_eq!(done.text, "SELECT (a as long as it is) + :b + (c as long as it is)");
        for word in ["SELECT", "+ :b", ":b"] {
            let new = done.text.find(word).unwrap();
            assert_eq!(done.back(new), text.find(word).unwrap(), "{word}");
        }
        assert_eq!(done.back(done.text.find("long").unwrap()), text.find(":a").unwrap());
        assert_eq!(done.back(done.text.len()), text.len());
        assert_eq!(replaced("SELECT ':a'", Language::Sqlite, &mut with), None);
    }
}
