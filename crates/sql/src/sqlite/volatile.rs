//! Functions whose value is another at each call, as SQLite has them.

use sqlparser::dialect::SQLiteDialect;
use sqlparser::tokenizer::Token;

use crate::slices::Slice;
use crate::step::Step;
use crate::text::{Tok, tokenize, within};

/// How a volatile function changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Volatile {
    /// Another value for every row.
    Random,
    /// Another value as time passes.
    Clock,
    /// It depends on what the connection did before.
    Session,
}

const DATE_FUNCTIONS: &[&str] =
    &["date", "time", "datetime", "julianday", "unixepoch", "strftime", "timediff"];

/// The first volatile function in a slice, and where it stands.
pub fn find(step: &Step, slice: Slice) -> Option<(Volatile, Slice)> {
    let all = tokenize(&step.source, &SQLiteDialect {}).ok()?;
    let tokens = within(&all, slice);
    tokens.iter().enumerate().find_map(|(at, token)| {
        let word = token.word()?;
        if ["current_date", "current_time", "current_timestamp"].contains(&word.as_str()) {
            return Some((Volatile::Clock, token.slice));
        }
        if !tokens.get(at + 1).is_some_and(|t| t.is(&Token::LParen)) {
            return None;
        }
        match word.as_str() {
            "random" | "randomblob" => Some((Volatile::Random, token.slice)),
            "changes" | "total_changes" | "last_insert_rowid" => Some((Volatile::Session, token.slice)),
            name if DATE_FUNCTIONS.contains(&name) => {
                reads_clock(name, tokens.get(at + 2..).unwrap_or_default())
                    .then_some((Volatile::Clock, token.slice))
            }
            _ => None,
        }
    })
}

/// Whether a date function's arguments (the tokens behind its parenthesis) make it read the clock: none at all,
/// a format alone, or the word 'now'.
fn reads_clock(name: &str, arguments: &[&Tok]) -> bool {
    let mut depth = 1;
    let mut commas = 0;
    for (at, token) in arguments.iter().enumerate() {
        match &token.token.token {
            Token::LParen => depth += 1,
            Token::RParen => depth -= 1,
            Token::Comma if depth == 1 => commas += 1,
            Token::SingleQuotedString(s) if s.eq_ignore_ascii_case("now") => return true,
            _ => {}
        }
        if depth == 0 {
            return at == 0 || (name == "strftime" && commas == 0);
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sqlite::understand;

    #[test]
    fn clocks_and_dice() {
        for (expr, expected) in [
            ("random() % 2", Some(Volatile::Random)),
            ("datetime('now')", Some(Volatile::Clock)),
            ("date('now', '-3 years')", Some(Volatile::Clock)),
            ("date()", Some(Volatile::Clock)),
            ("strftime('%Y')", Some(Volatile::Clock)),
            ("strftime('%Y', day)", None),
            ("date(day, '+1 day')", None),
            ("CURRENT_TIMESTAMP", Some(Volatile::Clock)),
            ("\"current_date\"", None),
            ("'random()'", None),
            ("random", None),
            ("changes()", Some(Volatile::Session)),
        ] {
            let step = understand(&format!("UPDATE k SET a = {expr}")).unwrap();
            assert_eq!(find(&step, step.assignments[0].value).map(|f| f.0), expected, "{expr}");
        }
    }
}
