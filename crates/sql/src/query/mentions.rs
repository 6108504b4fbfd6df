//! Which columns an expression names, and how a condition asks about them. Texts are only cut into words here; what a name stands
//! for, the engine says. Used where columns are hidden.

use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::query::placeholders::placeholders;
use crate::text::{Tok, tokenize};

/// Words of expressions that are no names.
const WORDS: [&str; 27] = [
    "as", "and", "or", "not", "null", "is", "in", "between", "like", "ilike", "escape", "case", "when",
    "then", "else", "end", "true", "false", "distinct", "collate", "glob", "regexp", "rlike", "binary",
    "xor", "div", "mod",
];

/// Words that end what a query reads from.
const ENDS: [&str; 11] =
    ["where", "group", "having", "order", "limit", "window", "union", "except", "intersect", "offset", "for"];

/// Words that may stand behind a table in a list of them, on every engine, and are no other name of it.
pub(crate) const BEHIND_TABLE: [&str; 14] = [
    "on",
    "using",
    "join",
    "inner",
    "left",
    "right",
    "cross",
    "natural",
    "straight_join",
    "outer",
    "use",
    "force",
    "ignore",
    "partition",
];

/// The words of a text; a parameter is one word.
fn words(text: &str, language: Language) -> Option<Vec<Tok>> {
    let all = tokenize(text, language.dialect()).ok()?;
    let given = placeholders(text, language);
    let mut words: Vec<Tok> = Vec::new();
    for mut token in all.into_iter().filter(|token| !token.is_blank()) {
        let of = given.iter().find(|(range, _)| range.contains(&token.slice.start));
        if let Some((range, name)) = of {
            if range.start == token.slice.start {
                token.token.token = Token::Placeholder(format!(":{name}"));
                token.slice.end = range.end;
                words.push(token);
            }
            continue;
        }
        words.push(token);
    }
    Some(words)
}

/// A word that may be a name, in quotes or not.
fn word(token: &Tok) -> Option<&str> {
    match &token.token.token {
        Token::Word(w) => Some(&w.value),
        _ => None,
    }
}

/// Whether it is a value that is written out.
fn is_value(token: &Tok) -> bool {
    matches!(
        token.token.token,
        Token::Number(..)
            | Token::SingleQuotedString(_)
            | Token::EscapedStringLiteral(_)
            | Token::NationalStringLiteral(_)
            | Token::HexStringLiteral(_)
            | Token::Placeholder(_)
    )
}

/// A name in a text, with its owners: where it begins, and where it ends among the words.
fn chain_end(tokens: &[Tok], from: usize) -> Option<usize> {
    word(tokens.get(from)?)?;
    let mut at = from;
    while tokens.get(at + 1).is_some_and(|t| t.is(&Token::Period))
        && tokens.get(at + 2).is_some_and(|t| word(t).is_some())
    {
        at += 2;
    }
    Some(at)
}

fn is_word(token: &Tok) -> bool {
    token.is_any(&WORDS)
}

/// The names that an expression holds, as they are written (`p.name`), functions and types left out; `None` where it holds a
/// subquery, a star or a text that cannot be cut into words: nobody knows then what it names.
pub fn names(text: &str, language: Language) -> Option<Vec<String>> {
    let tokens = words(text, language)?;
    let mut found: Vec<String> = Vec::new();
    let mut at = 0;
    while let Some(token) = tokens.get(at) {
        let before = at.checked_sub(1).and_then(|before| tokens.get(before));
        if token.is_any(&["select", "with", "values", "table"]) {
            return None;
        }
        let Some(end) = chain_end(&tokens, at) else {
            // A star is a product only between two values.
            let product = before.is_some_and(|b| word(b).is_some() || b.is(&Token::RParen) || is_value(b));
            if token.is(&Token::Mul) && !product {
                return None;
            }
            at += 1;
            continue;
        };
        let next = tokens.get(end + 1);
        let of_type = before.is_some_and(|b| b.is(&Token::DoubleColon) || b.is_word("as"));
        let called = next.is_some_and(|t| t.is(&Token::LParen));
        if next.is_some_and(|t| t.is(&Token::Period)) {
            return None;
        }
        let quoted = matches!(&token.token.token, Token::Word(w) if w.quote_style.is_some());
        if !called && !of_type && (quoted || !is_word(token)) {
            let name = token.slice.to(tokens.get(end)?.slice).of(text).to_owned();
            if !found.contains(&name) {
                found.push(name);
            }
        }
        at = end + 1;
    }
    Some(found)
}

/// Whether the rows of several queries are put together in a text: what a column is called then, and where it comes from, is what the
/// first or the last of them says, and its values come from all. A text that cannot be read counts.
pub fn puts_together(text: &str, language: Language) -> bool {
    words(text, language).is_none_or(|tokens| {
        tokens.iter().any(|token| token.is_any(&["union", "intersect", "except", "minus"]))
    })
}

/// What stands behind the values of a query, without what chooses and orders its rows: `FROM …`.
pub fn from_clause(behind: &str, language: Language) -> Option<&str> {
    let tokens = words(behind, language)?;
    let mut depth = 0_i32;
    for token in &tokens {
        depth += i32::from(token.is(&Token::LParen)) - i32::from(token.is(&Token::RParen));
        if depth == 0 && token.is_any(&ENDS) {
            return behind.get(..token.slice.start);
        }
    }
    Some(behind)
}

/// A table or view behind FROM.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct From {
    /// Its schema, where one is named.
    pub schema: Option<String>,
    /// Its name.
    pub table: String,
    /// The name that it has in the query, where it is another.
    pub alias: Option<String>,
}

/// The parts of a name: `a.b` gives both.
pub fn chain(name: &str, language: Language) -> Vec<String> {
    let tokens = words(name, language).unwrap_or_default();
    tokens.iter().filter_map(|token| word(token).map(str::to_owned)).collect()
}

/// The tables and views of `FROM a AS x JOIN b ON …`; `None` where something else is read, such as a subquery or a function.
pub fn relations_from(tail: &str, language: Language) -> Option<Vec<From>> {
    let tokens = words(tail, language)?;
    if tokens.iter().any(|token| token.is_any(&["select", "with", "values", "table", "lateral"])) {
        return None;
    }
    let opens = ["from", "join", "straight_join"];
    let is_behind = |t: &Tok| t.is_any(&BEHIND_TABLE) || t.is_any(&["full", "where"]);
    let mut all = Vec::new();
    // A comma separates tables only outside of conditions and lists.
    let (mut open, mut condition) = (false, false);
    let mut at = 0;
    while let Some(token) = tokens.get(at) {
        if token.is_any(&opens) {
            (open, condition) = (true, false);
        } else if token.is_any(&["on", "using"]) {
            (open, condition) = (false, true);
        } else if token.is(&Token::Comma) && !condition {
            open = true;
        } else if token.is(&Token::Comma) {
            // Behind a condition a comma may begin the next table, or stand in a list of it.
            return None;
        } else if open && !token.is(&Token::LParen) {
            let end = chain_end(&tokens, at)?;
            let mut parts: Vec<String> =
                tokens.get(at..=end)?.iter().filter_map(|t| word(t).map(str::to_owned)).collect();
            let table = parts.pop()?;
            let mut next = end + 1;
            next += usize::from(tokens.get(next).is_some_and(|t| t.is_word("as")));
            let alias = tokens.get(next).filter(|t| !is_behind(t)).and_then(word).map(str::to_owned);
            at = if alias.is_some() { next } else { end };
            if tokens.get(at + 1).is_some_and(|t| t.is(&Token::LParen)) {
                return None;
            }
            all.push(From { schema: parts.pop(), table, alias });
            open = false;
        }
        at += 1;
    }
    Some(all)
}

/// The single conditions of a filter: what stands between AND and OR, at whatever depth.
fn conditions(tokens: &[Tok]) -> Vec<&[Tok]> {
    let mut all = Vec::new();
    let (mut start, mut between) = (0, 0);
    for (at, token) in tokens.iter().enumerate() {
        if token.is_word("between") {
            between += 1;
        } else if token.is_word("and") && between > 0 {
            between -= 1;
        } else if token.is_any(&["and", "or", "xor"]) {
            all.extend(tokens.get(start..at));
            start = at + 1;
        }
    }
    all.extend(tokens.get(start..));
    all
}

/// The last parts of the names that a condition holds, in lower case.
fn bare_names(condition: &[Tok]) -> Vec<String> {
    condition.iter().filter(|t| !is_word(t)).filter_map(|t| word(t).map(str::to_ascii_lowercase)).collect()
}

/// Names in those conditions of a filter that hold one of these parameters: what is compared with it is among them. In lower case,
/// without owners; all names of the filter where it cannot be cut into words.
pub fn compared_with(filter: &str, params: &[String], language: Language) -> Vec<String> {
    let Some(tokens) = words(filter, language) else { return Vec::new() };
    let uses = |condition: &&[Tok]| {
        let (Some(first), Some(last)) = (condition.first(), condition.last()) else { return false };
        let text = first.slice.to(last.slice).of(filter);
        placeholders(text, language).iter().any(|(_, name)| params.contains(name))
    };
    conditions(&tokens).into_iter().filter(uses).flat_map(bare_names).collect()
}

/// Whether a filter asks about columns of these names (in lower case) only whether they are equal to values that are written in it, or
/// NULL. Anything else (`LIKE 'a%'`, `<`, a function) would let somebody find out piece by piece what they hold.
pub fn asks_for_equality_only(filter: &str, hidden: &[String], language: Language) -> bool {
    let Some(tokens) = words(filter, language) else { return false };
    // What a subquery reads has other names.
    if tokens.iter().any(|token| token.is_any(&["select", "with", "table", "values"])) {
        return false;
    }
    conditions(&tokens).into_iter().all(|condition| {
        let names = bare_names(condition);
        !names.iter().any(|name| hidden.contains(name)) || is_equality(condition)
    })
}

/// `a = VALUE`, `VALUE = a`, `a IN (VALUE, …)`, `a IS [NOT] NULL`, in parentheses or not.
fn is_equality(condition: &[Tok]) -> bool {
    let mut rest = condition;
    while let [first, more @ ..] = rest
        && (first.is(&Token::LParen) || first.is_word("not"))
    {
        rest = more;
    }
    while let [more @ .., last] = rest
        && last.is(&Token::RParen)
        && !more.iter().any(|t| t.is(&Token::LParen))
    {
        rest = more;
    }
    let value = is_value;
    let sign = |token: &Tok| token.is(&Token::Eq) || token.is(&Token::Neq) || token.is(&Token::DoubleEq);
    if let [first, equals, ..] = rest
        && value(first)
        && sign(equals)
    {
        return chain_end(rest, 2).is_some_and(|end| end + 1 == rest.len());
    }
    let Some(end) = chain_end(rest, 0) else { return false };
    match rest.get(end + 1..).unwrap_or_default() {
        [equals, one] => sign(equals) && value(one) || equals.is_word("is") && one.is_word("null"),
        [is, not, null] if is.is_word("is") => not.is_word("not") && null.is_word("null"),
        [is_in, open, list @ ..] if is_in.is_word("in") && open.is(&Token::LParen) => {
            list.iter().all(|t| value(t) || t.is(&Token::Comma) || t.is(&Token::RParen))
        }
        [not, is_in, open, list @ ..]
            if not.is_word("not") && is_in.is_word("in") && open.is(&Token::LParen) =>
        {
            list.iter().all(|t| value(t) || t.is(&Token::Comma) || t.is(&Token::RParen))
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_an_expression() {
        let of = |text: &str| names(text, Language::Postgres);
        let some = |all: &[&str]| Some(all.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>());
        assert_eq!(of("upper(p.name) || ' ' || age"), some(&["p.name", "age"]));
        assert_eq!(of("CASE WHEN a IS NOT NULL THEN 'x' ELSE b::text END"), some(&["a", "b"]));
        assert_eq!(of("CAST(price * 2 AS numeric)"), some(&["price"]));
        assert_eq!(of("p::text"), some(&["p"]));
        assert_eq!(of("count(*)"), None);
        assert_eq!(of("(SELECT max(email) FROM person)"), None);
        assert_eq!(of("p.*"), None);
    }

    #[test]
    fn queries_put_together() {
        let of = |text: &str| puts_together(text, Language::Sqlite);
        assert!(of("SELECT a FROM t UNION ALL SELECT b FROM u"));
        assert!(of("FROM (SELECT a FROM t EXCEPT SELECT b FROM u) AS q"));
        assert!(of("'open"), "unreadable");
        assert!(!of("SELECT 'a UNION b' AS \"union\" FROM t"));
    }

    #[test]
    fn what_a_query_reads_from() {
        let of = |text: &'static str| from_clause(text, Language::Postgres);
        assert_eq!(
            of("FROM a JOIN b ON (a.x = b.x) WHERE c = 1 GROUP BY d"),
            Some("FROM a JOIN b ON (a.x = b.x) ")
        );
        assert_eq!(of("FROM (SELECT 1 WHERE true) AS q"), Some("FROM (SELECT 1 WHERE true) AS q"));
    }

    #[test]
    fn tables_behind_from() {
        let of = |text: &str| {
            let all = relations_from(text, Language::Mysql)?;
            Some(all.into_iter().map(|f| (f.table, f.alias)).collect::<Vec<_>>())
        };
        let pair = |table: &str, alias: Option<&str>| (table.to_owned(), alias.map(str::to_owned));
        assert_eq!(
            of("FROM a AS x JOIN s.b y ON (y.i = x.i) LEFT JOIN `c` ON c.i = y.i"),
            Some(vec![pair("a", Some("x")), pair("b", Some("y")), pair("c", None)])
        );
        assert_eq!(of("FROM a, b z"), Some(vec![pair("a", None), pair("b", Some("z"))]));
        assert_eq!(
            of("from (`s`.`a` join `s`.`b` on(`s`.`a`.`i` = `s`.`b`.`i`))"),
            Some(vec![pair("a", None), pair("b", None)])
        );
        assert_eq!(of("FROM (SELECT 1 AS e) AS q"), None);
        assert_eq!(of("FROM f(1) AS q"), None);
    }

    #[test]
    fn what_is_compared_with_a_parameter() {
        let of = |text: &str| compared_with(text, &["word".to_owned()], Language::Sqlite);
        assert_eq!(of("id = 3 AND (g.word = :word OR name = 'x')"), ["g", "word"]);
        assert_eq!(of("lower(code) = lower(:word) AND id = 1"), ["lower", "code", "lower"]);
        assert_eq!(of("a BETWEEN :word AND b AND c = 1"), ["a", "b"]);
        assert!(of("id = :other").is_empty());
    }

    #[test]
    fn only_equality_is_answered_about_what_is_hidden() {
        let asks = |text: &str| asks_for_equality_only(text, &["email".to_owned()], Language::Sqlite);
        for fine in [
            "email = 'a@x'",
            "(p.email = :e) AND name LIKE 'A%'",
            "email IS NULL OR id = 1",
            "'a' = email",
            "email IN ('a', 'b')",
            "NOT email IS NOT NULL",
            "name > 'b'",
        ] {
            assert!(asks(fine), "{fine}");
        }
        for oracle in [
            "email LIKE 'a%'",
            "email > 'b'",
            "substr(email, 1, 1) = 'a'",
            "email = name",
            "email = (SELECT 'a')",
            "id = 1 OR email BETWEEN 'a' AND 'b'",
            "email IN (SELECT x FROM y)",
            "length(email) = 5",
        ] {
            assert!(!asks(oracle), "{oracle}");
        }
    }
}
