//! What belongs to another dialect than the one that is spoken here: named for what it is, with what to write instead.

use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::statement::slicing::at_depth_0;
use crate::text::Tok;
use crate::text::slices::Slice;

/// Functions of other dialects, with what does their work in SQLite, PostgreSQL and MariaDB.
const FUNCTIONS: &[(&str, [Option<&str>; 3])] = &[
    ("now", [Some("CURRENT_TIMESTAMP, or datetime('now')"), None, None]),
    ("getdate", [Some("CURRENT_TIMESTAMP"), Some("now()"), Some("now()")]),
    ("sysdate", [Some("CURRENT_TIMESTAMP"), Some("now()"), None]),
    ("curdate", [Some("date('now')"), Some("CURRENT_DATE"), None]),
    ("curtime", [Some("time('now')"), Some("CURRENT_TIME"), None]),
    ("nvl", [Some("coalesce(…)"), Some("coalesce(…)"), Some("coalesce(…)")]),
    ("ifnull", [None, Some("coalesce(…)"), None]),
    ("isnull", [Some("x IS NULL, or coalesce(…)"), Some("x IS NULL, or coalesce(…)"), None]),
    ("if", [Some("iif(…), or CASE WHEN … THEN … ELSE … END"), Some("CASE WHEN … THEN … ELSE … END"), None]),
    ("iif", [None, Some("CASE WHEN … THEN … ELSE … END"), Some("if(…)")]),
    ("len", [Some("length(…)"), Some("length(…)"), Some("char_length(…)")]),
    ("charindex", [Some("instr(text, part)"), Some("strpos(text, part)"), Some("locate(part, text)")]),
    ("strpos", [Some("instr(text, part)"), None, Some("locate(part, text)")]),
    ("instr", [None, Some("strpos(text, part)"), None]),
    ("locate", [Some("instr(text, part)"), Some("strpos(text, part)"), None]),
    ("left", [Some("substr(text, 1, n)"), None, None]),
    ("right", [Some("substr(text, -n)"), None, None]),
    ("concat_ws", [Some("a || ' ' || b"), None, None]),
    ("string_agg", [Some("group_concat(…)"), None, Some("group_concat(…)")]),
    ("group_concat", [None, Some("string_agg(…, ',')"), None]),
    ("rand", [Some("random()"), Some("random()"), None]),
    ("random", [None, None, Some("rand()")]),
    ("date_format", [Some("strftime(…)"), Some("to_char(…)"), None]),
    ("to_char", [Some("strftime(…)"), None, Some("date_format(…)")]),
    ("strftime", [None, Some("to_char(…)"), Some("date_format(…)")]),
    ("to_date", [Some("date(…)"), None, Some("str_to_date(…)")]),
    ("str_to_date", [Some("date(…)"), Some("to_date(…)"), None]),
    ("date_trunc", [Some("strftime(…)"), None, Some("date_format(…)")]),
    ("date_add", [Some("datetime(x, '+1 day')"), Some("x + INTERVAL '1 day'"), None]),
    ("date_sub", [Some("datetime(x, '-1 day')"), Some("x - INTERVAL '1 day'"), None]),
    ("dateadd", [Some("datetime(x, '+1 day')"), Some("x + INTERVAL '1 day'"), Some("x + INTERVAL 1 DAY")]),
    ("datediff", [Some("julianday(a) - julianday(b)"), Some("a - b"), None]),
    ("datetime", [None, Some("CAST(… AS timestamp)"), Some("CAST(… AS datetime)")]),
    ("julianday", [None, Some("extract(epoch FROM …) / 86400"), Some("to_days(…)")]),
    ("unix_timestamp", [Some("unixepoch(…)"), Some("extract(epoch FROM …)"), None]),
    ("regexp_replace", [Some("replace(…), which knows no patterns"), None, None]),
];

/// What does the work of a function that is not there.
pub fn function(language: Language, name: &str) -> Option<String> {
    let (_, here) = FUNCTIONS.iter().find(|(known, _)| known.eq_ignore_ascii_case(name))?;
    let here = match language {
        Language::Sqlite => here[0],
        Language::Postgres => here[1],
        Language::Mysql => here[2],
    }?;
    Some(format!("{name}() is another dialect's; here it is {here}"))
}

/// Whether the word at `at` (a byte) is assigned or compared: then it is meant as a name.
pub fn is_name(language: Language, source: &str, at: usize) -> bool {
    let tokens = crate::text::tokenize(source, language.dialect()).unwrap_or_default();
    let behind = tokens.iter().filter(|t| t.slice.start >= at && !t.is_blank()).nth(1);
    behind.is_some_and(|t| t.is(&Token::Eq))
}

/// What a word or sign at `at` says in another dialect.
pub(super) fn foreign(tokens: &[&Tok], at: usize, language: Language, source: &str) -> Option<String> {
    let token = tokens.get(at)?;
    let near = |shift: isize| at.checked_add_signed(shift).and_then(|at| tokens.get(at));
    let text = token.slice.of(source).trim();
    let interval = [-2, -1, 0].iter().any(|shift| near(*shift).is_some_and(|t| t.is_word("interval")));
    if interval {
        return Some(
            match language {
                Language::Sqlite => "there is no INTERVAL here: write datetime(x, '+1 day')",
                Language::Postgres => "an interval is one text here: INTERVAL '1 day'",
                Language::Mysql => "an interval is a number and a unit here: INTERVAL 1 DAY",
            }
            .to_owned(),
        );
    }
    let colons = |t: &&&Tok| t.is(&Token::DoubleColon) || t.is(&Token::Colon);
    if language != Language::Postgres && [-1, 0].iter().any(|shift| near(*shift).is_some_and(|t| colons(&t)))
    {
        return Some("a cast is written CAST(x AS type) here".to_owned());
    }
    if token.is_word("ilike") {
        return Some("there is no ILIKE here: LIKE looks at no letter case, as a rule".to_owned());
    }
    if language == Language::Mysql && text.starts_with('"') {
        let name = text.trim_matches('"');
        return Some(format!("names stand in backticks here: `{name}`"));
    }
    if language == Language::Postgres && text.starts_with('`') {
        let name = text.trim_matches('`');
        return Some(format!("names stand in double quotes here: \"{name}\""));
    }
    if token.is_word("top") {
        return Some("there is no TOP here: pick the rows by key".to_owned());
    }
    let column = near(1).is_some_and(|t| t.is(&Token::Eq))
        && near(-1).is_some_and(|t| {
            t.is_any(&["set", "where", "and", "or", "not"]) || t.is(&Token::Comma) || t.is(&Token::LParen)
        });
    let table = (at == 1 || near(-1).is_some_and(|t| t.is_any(&["from", "update"])))
        && !token.is_any(&["set", "where", "from"]);
    if token.word().is_some_and(|word| language.is_reserved(&word)) && (column || table) {
        return Some(format!(
            "{text} is a word of SQL's own; as a name it stands in quotes: {}",
            language.quoted(text)
        ));
    }
    None
}

/// An UPDATE that joins in another dialect's way, in this one's; only what is mechanical.
pub fn joined_update(source: &str, tokens: &[&Tok], language: Language) -> Option<(String, Option<String>)> {
    tokens.first().filter(|t| t.is_word("update"))?;
    let find = |words: &[&str]| at_depth_0(tokens, 1).find(|(_, t)| t.is_any(words)).map(|(at, _)| at);
    let set = find(&["set"])?;
    let text = |from: usize, to: usize| {
        let part = tokens.get(from..to)?;
        Some(part.first()?.slice.to(part.last()?.slice).of(source))
    };
    let place = at_depth_0(tokens, set).find(|(_, t)| t.is_word("where")).map(|(at, _)| at);
    let end = tokens.len();
    if language == Language::Mysql {
        let from = at_depth_0(tokens, set).find(|(_, t)| t.is_word("from")).map(|(at, _)| at)?;
        let said = "UPDATE … FROM is another dialect's; here the tables stand before SET";
        let filter = place.and_then(|at| text(at, end)).map_or(String::new(), |f| format!("\n {f}"));
        let paste = || {
            let own = tokens.get(set.checked_sub(1)?)?.slice.of(source);
            let sets = qualified(source, tokens.get(set + 1..from)?, own)?;
            let others = text(from + 1, place.unwrap_or(end))?;
            Some(format!("UPDATE {}, {others}\n   SET {sets}{filter};", text(1, set)?))
        };
        return Some((said.to_owned(), paste()));
    }
    let join = at_depth_0(tokens, 1)
        .find(|(at, t)| *at < set && t.is_any(&["join", "inner", "left", "right", "cross"]))?
        .0;
    let said = "UPDATE … JOIN is another dialect's; here it is UPDATE … SET … FROM … WHERE …";
    let paste = || {
        let plain = tokens.get(join)?.is_word("join") || tokens.get(join)?.is_word("inner");
        let start = join + if tokens.get(join)?.is_word("inner") { 2 } else { 1 };
        let on = at_depth_0(tokens, start).find(|(at, t)| *at < set && t.is_word("on"))?.0;
        let more =
            at_depth_0(tokens, on).any(|(at, t)| at < set && (t.is_word("join") || t.is(&Token::Comma)));
        if !plain || more {
            return None;
        }
        let own = tokens.get(join.checked_sub(1)?)?;
        let target = match join {
            // SQLite wants AS before an alias, and nobody minds it.
            3 => format!("{} AS {}", text(1, 2)?, own.slice.of(source)),
            _ => text(1, join)?.to_owned(),
        };
        let sets = bare(source, tokens.get(set + 1..place.unwrap_or(end))?, own.name()?)?;
        let other = tokens.get(start..on)?;
        let other = match other {
            [name, alias] => format!("{} AS {}", name.slice.of(source), alias.slice.of(source)),
            _ => text(start, on)?.to_owned(),
        };
        let filter = match place {
            Some(at) => format!(" AND ({})", text(at + 1, end)?),
            None => String::new(),
        };
        Some(format!(
            "UPDATE {target}\n   SET {sets}\n  FROM {other}\n WHERE ({}){filter};",
            text(on + 1, set)?
        ))
    };
    Some((said.to_owned(), paste()))
}

/// Assignments whose columns are written without the target's name; `None` where one is another table's.
fn bare(source: &str, tokens: &[&Tok], own: &str) -> Option<String> {
    assignments(source, tokens, &|owner, column, value| match owner {
        Some(owner) if !owner.eq_ignore_ascii_case(own) => None,
        _ => Some(format!("{column} = {value}")),
    })
}

/// Assignments whose columns are written with the target's name.
fn qualified(source: &str, tokens: &[&Tok], own: &str) -> Option<String> {
    assignments(source, tokens, &|owner, column, value| match owner {
        Some(owner) => Some(format!("{owner}.{column} = {value}")),
        None => Some(format!("{own}.{column} = {value}")),
    })
}

/// Writes an assignment: the table that the column is said to be of, the column, the value.
type Writing<'a> = dyn Fn(Option<&str>, &str, &str) -> Option<String> + 'a;

fn assignments(source: &str, tokens: &[&Tok], write: &Writing<'_>) -> Option<String> {
    let mut all = Vec::new();
    let mut from = 0;
    let commas = at_depth_0(tokens, 0).filter(|(_, t)| t.is(&Token::Comma)).map(|(at, _)| at);
    for end in commas.chain([tokens.len()]) {
        let part = tokens.get(from..end)?;
        let equals = part.iter().position(|t| t.is(&Token::Eq))?;
        let value: Slice = part.get(equals + 1)?.slice.to(part.last()?.slice);
        let name = |t: &Tok| t.slice.of(source).to_owned();
        let written = match part.get(..equals)? {
            [column] => write(None, &name(column), value.of(source)),
            [owner, dot, column] if dot.is(&Token::Period) => {
                write(Some(owner.name()?), &name(column), value.of(source))
            }
            _ => None,
        };
        all.push(written?);
        from = end + 1;
    }
    Some(all.join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::{tokenize, within};

    fn of(source: &str, language: Language) -> Option<String> {
        let toks = tokenize(source, language.dialect()).unwrap();
        let words = within(&toks, Slice { start: 0, end: source.len() });
        joined_update(source, &words, language).and_then(|(_, paste)| paste)
    }

    #[test]
    fn joins_of_another_dialect() {
        let join = "UPDATE keeper k JOIN sheet s ON s.email = k.email SET k.region = s.region, name = upper(s.name) WHERE s.ok = 1 OR k.x";
        assert_eq!(
            of(join, Language::Sqlite).as_deref(),
            Some(
                "UPDATE keeper AS k\n   SET region = s.region, name = upper(s.name)\n  FROM sheet AS s\n \
                 WHERE (s.email = k.email) AND (s.ok = 1 OR k.x);"
            )
        );
        let from = "UPDATE keeper AS k SET region = s.region FROM sheet AS s WHERE s.email = k.email";
        assert_eq!(
            of(from, Language::Mysql).as_deref(),
            Some("UPDATE keeper AS k, sheet AS s\n   SET k.region = s.region\n WHERE s.email = k.email;")
        );
        for not in [
            "UPDATE a LEFT JOIN b ON b.x = a.x SET a.y = 1",
            "UPDATE a JOIN b ON b.x = a.x SET a.y = 1, b.z = 2",
            "UPDATE a JOIN b ON b.x = a.x JOIN c ON c.x = b.x SET a.y = 1",
        ] {
            assert_eq!(of(not, Language::Postgres), None, "{not}");
        }
        assert_eq!(
            function(Language::Sqlite, "NOW").as_deref(),
            Some("NOW() is another dialect's; here it is CURRENT_TIMESTAMP, or datetime('now')")
        );
        assert_eq!(function(Language::Postgres, "now"), None);
    }
}
