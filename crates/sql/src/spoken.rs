//! What the rest of the program asks of a language without knowing it: where the steps of a text are, and plain statements.

use marktwice_core::finding::TextPlace;
use marktwice_core::param::ParamKind;
use marktwice_core::table::{Column, Target};
use marktwice_core::{Finding, Value};
use marktwice_port::{self as port, Composed, Cut, Days, Draft, Said, Uncomposed};
use sqlparser::tokenizer::Token;

use crate::compose;
use crate::dialect::language::Language;
use crate::query::check::equation;
use crate::query::mentions::asks_for_equality_only;
use crate::query::placeholders::placeholders;
use crate::query::sheet_uses::{kind, sheet_uses};
use crate::rules::null_compare;
use crate::statement::slicing::{AROUND, main_verb};
use crate::text::{Tok, statements, tokenize};

/// A text; one in the quotes of names is one too, to whoever says so.
fn text(token: &Tok) -> Option<String> {
    match &token.token.token {
        Token::SingleQuotedString(text) | Token::DoubleQuotedString(text) => Some(text.clone()),
        Token::Word(word) if word.quote_style == Some('"') => Some(word.value.clone()),
        _ => None,
    }
}

/// The comparison with texts that these tokens begin with.
fn said(tokens: &[&Tok]) -> Option<Said> {
    let (first, rest) = tokens.split_first()?;
    let name = first.name().filter(|_| matches!(first.token.token, Token::Word(_)))?.to_owned();
    let (texts, last) = match rest {
        [sign, value, ..] if sign.is(&Token::Eq) => (vec![text(value)?], *value),
        [word, open, items @ ..] if word.is_word("in") && open.is(&Token::LParen) => {
            let end = items.iter().position(|t| t.is(&Token::RParen))?;
            let items = items.get(..=end)?;
            let texts = items.iter().filter(|t| !t.is(&Token::Comma) && !t.is(&Token::RParen));
            (texts.map(|t| text(t)).collect::<Option<Vec<_>>>().filter(|t| !t.is_empty())?, *items.last()?)
        }
        _ => return None,
    };
    Some(Said { range: first.slice.start..last.slice.end, name, texts })
}

impl port::Language for Language {
    fn cut(&self, text: &str) -> Result<Cut, TextPlace> {
        let tokens = tokenize(text, self.dialect()).map_err(|error| error.place)?;
        let inside = |t: &Tok| {
            let comment = t.block_comment()?;
            let start = t.slice.start + 2;
            Some(start..start + comment.len())
        };
        let comments = tokens.iter().filter_map(inside).collect();
        let all: Vec<Vec<&Tok>> = statements(&tokens)
            .into_iter()
            .map(|part| part.iter().filter(|t| !t.is_blank()).collect())
            .collect();
        // Should one of them be none that a change may hold, the text is refused as a whole, with what to leave out.
        let odd = |words: &Vec<&Tok>| main_verb(words).is_none_or(|verb| verb.is_any(AROUND));
        let range = |words: &Vec<&Tok>| Some(words.first()?.slice.start..words.last()?.slice.end);
        if all.iter().any(odd) {
            let whole = all.first().zip(all.last());
            let whole =
                whole.and_then(|(first, last)| Some(first.first()?.slice.start..last.last()?.slice.end));
            return Ok(Cut { comments, steps: whole.into_iter().collect() });
        }
        Ok(Cut { comments, steps: all.iter().filter_map(range).collect() })
    }

    fn compose(&self, draft: &Draft<'_>) -> Result<Composed, Uncomposed> {
        compose::compose(*self, draft)
    }

    fn incoming(
        &self,
        target: (&Target, bool),
        columns: &[usize],
        rows: &[Vec<String>],
    ) -> Result<String, Uncomposed> {
        compose::incoming(*self, target, columns, rows)
    }

    fn merge(&self, merge: &port::Merge<'_>) -> Result<port::Merged, Uncomposed> {
        compose::merge::merge(*self, merge)
    }

    fn typed(&self, column: &Column, value: &Value) -> Option<String> {
        compose::typed(*self, column, value)
    }

    fn sample(&self, target: &Target, condition: Option<&str>, nth: u64) -> Option<(String, String)> {
        compose::sample(*self, target, condition, nth)
    }

    fn days(&self, column: &Column) -> Option<Days> {
        compose::days(*self, column)
    }

    fn table_name(&self, typed: &str) -> (Option<String>, String) {
        compose::table_name(typed)
    }

    fn said(&self, condition: &str) -> Vec<Said> {
        let tokens = tokenize(condition, self.dialect()).unwrap_or_default();
        let tokens: Vec<&Tok> = tokens.iter().filter(|t| !t.is_blank()).collect();
        let qualified = |at: usize| {
            let before = at.checked_sub(1).and_then(|before| tokens.get(before));
            before.is_some_and(|t| t.is(&Token::Period))
        };
        (0..tokens.len()).filter(|at| !qualified(*at)).filter_map(|at| said(tokens.get(at..)?)).collect()
    }

    fn asks_for_equality_only(&self, condition: &str, names: &[String]) -> bool {
        asks_for_equality_only(condition, names, *self)
    }

    fn equation(&self, text: &str) -> Option<(String, String)> {
        equation(text, *self)
    }

    fn sheet_uses(&self, step: &str, sheet: &str, columns: &[String]) -> Vec<port::SheetUse> {
        sheet_uses(step, sheet, columns, *self)
    }

    fn kind(&self, column: &Column) -> ParamKind {
        kind(&column.declared)
    }

    fn placeholders(&self, text: &str) -> Vec<(std::ops::Range<usize>, String)> {
        placeholders(text, *self)
    }

    fn never_true(&self, text: &str, name: &str) -> Option<Finding> {
        null_compare::of_value(text, *self, name)
    }

    fn comment(&self, lines: &[String]) -> String {
        lines
            .iter()
            .map(|line| format!("-- {}", line.replace(['\n', '\r'], " ")).trim_end().to_owned() + "\n")
            .collect()
    }

    fn end(&self) -> &'static str {
        ";"
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use marktwice_port::Language as _;

    #[test]
    fn texts_that_a_condition_names() {
        let of = |language: Language, condition: &str| {
            let told = |said: Said| (condition[said.range].to_owned(), said.name, said.texts.join("|"));
            language.said(condition).into_iter().map(told).collect::<Vec<_>>()
        };
        for language in [Language::Sqlite, Language::Postgres, Language::Mysql] {
            assert_eq!(
                of(
                    language,
                    "apiary  =\n \"Whin Bank\" AND x.apiary = 'a' OR hive in ('it''s', 'b') and n = 3"
                ),
                [
                    ("apiary  =\n \"Whin Bank\"".into(), "apiary".into(), "Whin Bank".into()),
                    ("hive in ('it''s', 'b')".into(), "hive".into(), "it's|b".into()),
                ]
            );
            assert_eq!(of(language, "a = b AND 'a = ''b'' z' = c AND d IN (SELECT 'x') -- e = 'f'"), []);
        }
    }
}
