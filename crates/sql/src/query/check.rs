//! A query of somebody's that a change is checked by: one that only reads, and that gives the same answer whenever it is asked.

use marktwice_core::Code;
use marktwice_core::finding::{Finding, TextPlace};
use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::dialect::volatile;
use crate::query::each::closed;
use crate::statement::slicing::understand;
use crate::statement::step::Step;
use crate::text::{Tok, statements, tokenize};

/// How such a query is written.
const FORM: &str = "write one SELECT that only reads: SELECT count(*) FROM batch WHERE price_per_kg > 40";

/// The table of the statement that is put around a query or a condition to take it apart; there is none of this name.
pub const AROUND: &str = "marktwice";

/// A query, understood.
#[derive(Debug, Clone)]
pub struct Question {
    /// A statement around it, by which it is judged what it calls.
    pub step: Step,
    /// Itself, without what ends it.
    pub text: String,
}

/// Understands a query.
///
/// # Errors
/// A finding, with its place in the query, for what is no single query, what would write, and what is another thing at each
/// reading.
pub fn question(sql: &str, language: Language) -> Result<Question, Finding> {
    let refuse = |what: &str, hint: &str, at: Option<&Tok>| {
        let finding = Finding::new(Code::NotUnderstood, format!("a check's query {what}")).hint(hint);
        match at {
            Some(token) => finding.at(TextPlace::in_source(sql, token.slice.start, token.slice.end)),
            None => finding,
        }
    };
    let all = match tokenize(sql, language.dialect()) {
        Ok(all) => all,
        Err(error) => {
            let finding = Finding::new(Code::NotUnderstood, error.message);
            return Err(finding.at(error.place).hint(FORM));
        }
    };
    let parts = statements(&all);
    let [one] = parts.as_slice() else {
        return Err(refuse(if parts.is_empty() { "is empty" } else { "is several statements" }, FORM, None));
    };
    let tokens: Vec<&Tok> = one.iter().filter(|t| !t.is_blank()).collect();
    if !tokens.first().is_some_and(|t| t.is_any(&["select", "with"])) {
        return Err(refuse("is no SELECT", FORM, tokens.first().copied()));
    }
    // These words have no other place in a query than the one where it writes or locks.
    let writes = ["insert", "update", "delete", "merge", "into", "replace", "lock"];
    let odd = tokens.iter().enumerate().find(|(at, t)| {
        let call = tokens.get(at + 1).is_some_and(|next| next.is(&Token::LParen));
        let named = at.checked_sub(1).and_then(|b| tokens.get(b)).is_some_and(|t| t.is(&Token::Period));
        let word = matches!(&t.token.token, Token::Word(w) if w.quote_style.is_none());
        (word && t.is_any(&writes) && !call && !named) || t.is(&Token::Assignment)
    });
    if let Some((_, token)) = odd {
        return Err(refuse("would do more than read", FORM, Some(token)));
    }
    let ends = tokens.first().zip(tokens.last());
    let text = ends.and_then(|(first, last)| sql.get(first.slice.start..last.slice.end)).unwrap_or_default();
    if !closed(text, language) {
        return Err(refuse("has a parenthesis that is not opened or not closed", FORM, None));
    }
    let step = understand(&format!("DELETE FROM {AROUND} WHERE EXISTS (\n{text}\n)"), language)
        .map_err(|_| refuse("is not understood", FORM, None))?;
    let filter = step.filter.as_ref().filter(|_| step.tail.is_none()).map(|f| f.slice);
    let Some(filter) = filter else { return Err(refuse("is not understood", FORM, None)) };
    if let Some((_, place)) = volatile::find(&step, filter) {
        let what = format!("is another thing at each reading: {}", step.text(place));
        return Err(refuse(&what, "compare with a value", None));
    }
    Ok(Question { step, text: text.to_owned() })
}

impl Question {
    /// A query of ours around it, for its first rows.
    pub fn first_rows(&self, most: usize) -> String {
        format!("SELECT * FROM (\n{}\n) AS marktwice_q LIMIT {most}", self.text)
    }
}

/// `SELECT … = VALUE` taken apart at the last equals sign that stands outside of quotes and parentheses.
pub fn equation(text: &str, language: Language) -> Option<(String, String)> {
    let tokens = tokenize(text, language.dialect()).ok()?;
    let mut depth = 0;
    let mut last = None;
    for token in &tokens {
        depth += i32::from(token.is(&Token::LParen)) - i32::from(token.is(&Token::RParen));
        if depth == 0 && token.is(&Token::Eq) {
            last = Some(token.slice);
        }
    }
    let sign = last?;
    let (sql, value) = (text.get(..sign.start)?.trim(), text.get(sign.end..)?.trim());
    (!sql.is_empty() && !value.is_empty()).then(|| (sql.to_owned(), value.to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_reads_is_asked() {
        for language in [Language::Sqlite, Language::Postgres, Language::Mysql] {
            for sql in [
                "SELECT count(*) FROM batch WHERE price > 40",
                "WITH a AS (SELECT 1 AS n) SELECT n FROM a;",
                "select replace(name, 'a', 'update') from keeper -- delete",
                "SELECT b.\"into\" FROM b",
            ] {
                assert!(question(sql, language).is_ok(), "{language:?}: {sql}");
            }
            for (sql, part) in [
                ("", "empty"),
                ("SELECT 1; SELECT 2", "several"),
                ("DELETE FROM batch", "no SELECT"),
                ("SELECT 1 INTO t", "more than read"),
                ("SELECT 1 FROM t FOR UPDATE", "more than read"),
                ("SELECT max(day) < CURRENT_DATE FROM t", "at each reading"),
                ("SELECT 'a", ""),
                ("SELECT 1) OR (1", ""),
            ] {
                let refused = question(sql, language).unwrap_err();
                assert!(refused.message.contains(part), "{language:?}: {sql}: {}", refused.message);
            }
        }
        assert!(question("SELECT @a := 1", Language::Mysql).is_err());
        let writes = "WITH a AS (DELETE FROM t RETURNING 1) SELECT 1";
        assert!(question(writes, Language::Postgres).is_err());
    }

    #[test]
    fn quick_checks_are_taken_apart_at_the_last_sign() {
        let of = |text: &str| equation(text, Language::Sqlite);
        let both = |sql: &str, value: &str| Some((sql.to_owned(), value.to_owned()));
        assert_eq!(
            of("SELECT count(*) FROM a WHERE b = 1 = 0"),
            both("SELECT count(*) FROM a WHERE b = 1", "0")
        );
        assert_eq!(
            of("SELECT max(a) FROM (SELECT 1 = 2) = 'x = y'"),
            both("SELECT max(a) FROM (SELECT 1 = 2)", "'x = y'")
        );
        assert_eq!(of("SELECT (1 = 1)"), None);
        assert_eq!(of("SELECT 1 ="), None);
    }
}
