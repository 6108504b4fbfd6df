//! Functions whose value is another at each call, by language.

use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::statement::slicing::next_value;
use crate::statement::step::Step;
use crate::text::Tok;
use crate::text::slices::Slice;

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

/// Words that read the clock without parentheses.
const CLOCK_WORDS: &[&str] =
    &["current_date", "current_time", "current_timestamp", "localtime", "localtimestamp"];

struct Lists {
    random: &'static [&'static str],
    clock: &'static [&'static str],
    /// These read the clock unless they are given this many arguments.
    clock_below: &'static [(&'static str, usize)],
    session: &'static [&'static str],
}

const SQLITE: Lists = Lists {
    random: &["random", "randomblob"],
    clock: &[],
    clock_below: &[],
    session: &["changes", "total_changes", "last_insert_rowid"],
};

const POSTGRES: Lists = Lists {
    random: &[
        "random",
        "random_normal",
        "gen_random_uuid",
        "uuid_generate_v1",
        "uuid_generate_v4",
        "uuidv4",
        "uuidv7",
    ],
    clock: &["now", "transaction_timestamp", "statement_timestamp", "clock_timestamp", "timeofday"],
    clock_below: &[("age", 2)],
    session: &[
        "nextval",
        "setval",
        "currval",
        "lastval",
        "pg_backend_pid",
        "txid_current",
        "pg_current_xact_id",
        "pg_sleep",
        "set_config",
        "lo_create",
        "pg_notify",
    ],
};

const MYSQL: Lists = Lists {
    random: &["rand", "uuid", "uuid_short", "sys_guid", "random_bytes"],
    clock: &["now", "sysdate", "curdate", "curtime", "utc_date", "utc_time", "utc_timestamp"],
    clock_below: &[("unix_timestamp", 1)],
    session: &[
        "last_insert_id",
        "row_count",
        "found_rows",
        "connection_id",
        "get_lock",
        "release_lock",
        "sleep",
        "benchmark",
        "nextval",
        "lastval",
        "setval",
    ],
};

/// The first volatile function in a slice, and where it stands.
pub fn find(step: &Step, slice: Slice) -> Option<(Volatile, Slice)> {
    let tokens = step.words(slice);
    let lists = match step.language {
        Language::Sqlite => &SQLITE,
        Language::Postgres => &POSTGRES,
        Language::Mysql => &MYSQL,
    };
    if let Some(place) = next_value(step, &tokens) {
        return Some((Volatile::Session, place));
    }
    tokens.iter().enumerate().find_map(|(at, token)| {
        if step.language == Language::Postgres && special_date(&tokens, at) {
            return Some((Volatile::Clock, token.slice));
        }
        let word = token.word()?;
        let name = word.as_str();
        let words = if step.language == Language::Sqlite { CLOCK_WORDS.get(..3)? } else { CLOCK_WORDS };
        if words.contains(&name) {
            return Some((Volatile::Clock, token.slice));
        }
        if name.starts_with("@@") {
            return Some((Volatile::Session, token.slice));
        }
        if !tokens.get(at + 1).is_some_and(|t| t.is(&Token::LParen)) {
            return None;
        }
        let arguments = tokens.get(at + 2..).unwrap_or_default();
        let kind = if lists.random.contains(&name) {
            Volatile::Random
        } else if lists.session.contains(&name) {
            Volatile::Session
        } else if lists.clock.contains(&name)
            || lists.clock_below.iter().any(|(f, least)| *f == name && count(arguments) < *least)
            || (step.language == Language::Sqlite
                && DATE_FUNCTIONS.contains(&name)
                && reads_clock(name, arguments))
        {
            Volatile::Clock
        } else {
            return None;
        };
        Some((kind, token.slice))
    })
}

/// PostgreSQL's texts that stand for a moment, where a type is named beside them: `'today'::date`, `date 'now'`.
fn special_date(tokens: &[&Tok], at: usize) -> bool {
    let Some(Token::SingleQuotedString(text)) = tokens.get(at).map(|t| &t.token.token) else { return false };
    if !["now", "today", "tomorrow", "yesterday"].contains(&text.trim().to_ascii_lowercase().as_str()) {
        return false;
    }
    let types = ["date", "time", "timetz", "timestamp", "timestamptz", "zone"];
    let cast = tokens.get(at + 1).is_some_and(|t| t.is(&Token::DoubleColon) || t.is_word("as"));
    cast || at.checked_sub(1).and_then(|b| tokens.get(b)).is_some_and(|t| t.is_any(&types))
}

/// How many arguments stand behind a function's parenthesis.
fn count(arguments: &[&Tok]) -> usize {
    let mut depth = 1;
    let mut commas = 0;
    for (at, token) in arguments.iter().enumerate() {
        match &token.token.token {
            Token::LParen => depth += 1,
            Token::RParen => depth -= 1,
            Token::Comma if depth == 1 => commas += 1,
            _ => {}
        }
        if depth == 0 {
            return if at == 0 { 0 } else { commas + 1 };
        }
    }
    commas + 1
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
    use crate::dialect::language::Language;
    use crate::statement::slicing::understand;

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
            assert_eq!(kind(expr, Language::Sqlite), expected, "{expr}");
        }
    }

    fn kind(expr: &str, language: Language) -> Option<Volatile> {
        let step = understand(&format!("UPDATE k SET a = {expr}"), language).unwrap();
        find(&step, step.assignments[0].value).map(|f| f.0)
    }

    #[test]
    fn the_servers_clocks_and_dice() {
        use Language::{Mysql, Postgres};
        for (language, expr, expected) in [
            (Postgres, "now() - interval '1 day'", Some(Volatile::Clock)),
            (Postgres, "'today'::date", Some(Volatile::Clock)),
            (Postgres, "date 'tomorrow'", Some(Volatile::Clock)),
            (Postgres, "'today'", None),
            (Postgres, "gen_random_uuid()", Some(Volatile::Random)),
            (Postgres, "nextval('s')", Some(Volatile::Session)),
            (Postgres, "age(day)", Some(Volatile::Clock)),
            (Postgres, "age(day, born)", None),
            (Postgres, "upper(name)", None),
            (Mysql, "CURDATE()", Some(Volatile::Clock)),
            (Mysql, "unix_timestamp(day)", None),
            (Mysql, "unix_timestamp()", Some(Volatile::Clock)),
            (Mysql, "rand()", Some(Volatile::Random)),
            (Mysql, "\"now()\"", None),
            (Mysql, "@@autocommit", Some(Volatile::Session)),
            (Mysql, "NEXT VALUE FOR s", Some(Volatile::Session)),
            (Mysql, "next + value", None),
        ] {
            assert_eq!(kind(expr, language), expected, "{expr}");
        }
    }
}
