//! How an INSERT is sliced: the columns that it names, and where its rows come from. What it says for rows that are there
//! already is taken apart too, so that two steps can be written instead.

use marktwice_core::finding::Finding;
use sqlparser::tokenizer::Token;

use super::target::{assignments, comma_parts, with_name};
use super::{Walk, at_depth_0, single_statement, whole};
use crate::dialect::language::Language;
use crate::statement::step::{Brought, Conflict, Inserted, Name, TableRef};
use crate::text::slices::Slice;
use crate::text::{Tok, tokenize, within};

/// An INSERT behind its verb, up to RETURNING.
pub(super) fn inserted(walk: &mut Walk<'_>) -> Result<(TableRef, Inserted), Finding> {
    if !walk.eat("into") && walk.language != Language::Mysql {
        return Err(walk.refuse("INTO was expected here", "write INSERT INTO table (columns) VALUES (…)"));
    }
    let table = with_name(walk)?;
    let named = walk.peek().is_some_and(|t| t.is(&Token::LParen))
        && !walk.tokens.get(walk.at + 1).is_some_and(|t| t.is_any(&["select", "with", "values"]));
    let columns = if named { Some(columns(walk)?) } else { None };
    let overriding = overriding(walk)?;
    if walk.language == Language::Mysql && walk.peek().is_some_and(|t| t.is_word("set")) {
        return Err(as_values(walk, &table));
    }
    let (source, brought) = source(walk)?;
    let conflict = conflict(walk)?;
    Ok((table, Inserted { columns, overriding, source, brought, conflict }))
}

/// What the words before INTO say of rows that are there already: `REPLACE`, `INSERT OR IGNORE`, `INSERT IGNORE`. They are stepped
/// over, so that the walk goes on before the verb's end.
pub(super) fn already(walk: &mut Walk<'_>) -> Option<Conflict> {
    let verb = walk.peek()?;
    let word = |n: usize| walk.tokens.get(walk.at + n).copied();
    let (slice, replaces, more) = if verb.is_word("replace") {
        (verb.slice, true, 0)
    } else if walk.language == Language::Sqlite
        && word(1).is_some_and(|t| t.is_word("or"))
        && word(2).is_some_and(|t| t.is_any(&["replace", "ignore"]))
    {
        let last = word(2)?;
        (word(1)?.slice.to(last.slice), last.is_word("replace"), 2)
    } else if walk.language == Language::Mysql && word(1).is_some_and(|t| t.is_word("ignore")) {
        (word(1)?.slice, false, 1)
    } else {
        return None;
    };
    walk.at += more;
    Some(Conflict { slice, replaces, ..Conflict::default() })
}

/// The columns in parentheses.
fn columns(walk: &mut Walk<'_>) -> Result<Vec<Name>, Finding> {
    walk.at += 1;
    let mut all = Vec::new();
    while !walk.eat_token(&Token::RParen) {
        all.push(walk.name()?);
        if walk.peek().is_some_and(|t| t.is(&Token::Period) || t.is(&Token::LBracket)) {
            return Err(walk
                .refuse("only whole columns are filled here", "name the column, and give its whole value"));
        }
        if !walk.eat_token(&Token::Comma) && !walk.peek().is_some_and(|t| t.is(&Token::RParen)) {
            return Err(walk.refuse("a closing parenthesis was expected here", "close the list of columns"));
        }
    }
    Ok(all)
}

/// Whether numbers are given that the engine would give itself.
fn overriding(walk: &mut Walk<'_>) -> Result<bool, Finding> {
    if walk.language != Language::Postgres || !walk.eat("overriding") {
        return Ok(false);
    }
    if walk.peek().is_some_and(|t| t.is_word("user")) {
        return Err(walk.refuse(
            "OVERRIDING USER VALUE throws values away without a word",
            "leave the column out of the list, and its value",
        ));
    }
    walk.at += 2;
    Ok(true)
}

/// A statement `INSERT … SET` with a list of columns instead; `None` for every other one.
pub fn set_as_values(source: &str) -> Option<String> {
    let language = Language::Mysql;
    let statement = single_statement(source, language).ok()?;
    let toks = tokenize(source, language.dialect()).ok()?;
    let mut walk = Walk { source, language, statement, tokens: within(&toks, statement), at: 0 };
    if !walk.eat("insert") {
        return None;
    }
    walk.eat("into");
    let table = with_name(&mut walk).ok()?;
    if !walk.peek()?.is_word("set") || walk.tokens.iter().any(|token| token.is_word("duplicate")) {
        return None;
    }
    let text = values_of(&mut walk, &table);
    // Nothing may stand behind it.
    text.filter(|_| walk.peek().is_none())
}

fn values_of(walk: &mut Walk<'_>, table: &TableRef) -> Option<String> {
    assignments(walk).ok().map(|(all, _)| {
        let names = all.iter().flat_map(|a| &a.columns).map(|c| c.slice.of(walk.source));
        let values = all.iter().map(|a| a.value.of(walk.source));
        let (names, values) = (names.collect::<Vec<_>>().join(", "), values.collect::<Vec<_>>().join(", "));
        format!("INSERT INTO {} ({names}) VALUES ({values});", table.slice.of(walk.source))
    })
}

/// `INSERT … SET`, written with a list of columns.
fn as_values(walk: &mut Walk<'_>, table: &TableRef) -> Finding {
    let start = walk.at;
    let paste = values_of(walk, table);
    walk.at = start;
    let refusal = walk.refuse("INSERT … SET is not taken", "write the columns, then their values:");
    match paste {
        Some(paste) => refusal.paste(paste),
        None => refusal,
    }
}

/// Where the rows come from.
fn source(walk: &mut Walk<'_>) -> Result<(Slice, Brought), Finding> {
    let start = walk.at;
    if walk.eat("default") {
        if !walk.eat("values") {
            return Err(walk.refuse("VALUES was expected here", "write DEFAULT VALUES"));
        }
        return Ok((whole(&since(walk, start)), Brought::Defaults));
    }
    let end = ends(walk);
    let values = walk.peek().is_some_and(|t| t.is_any(&["values", "value"]));
    let query = walk.peek().is_some_and(|t| t.is_any(&["select", "with", "table"]) || t.is(&Token::LParen));
    if !values && !query {
        return Err(walk.refuse(
            "VALUES or SELECT was expected here",
            "write INSERT INTO table (columns) VALUES (…), or SELECT … FROM …",
        ));
    }
    walk.at = end;
    let tokens = since(walk, start);
    let brought = match values.then(|| rows(&tokens)).flatten() {
        Some(rows) => Brought::Rows(rows),
        None => Brought::Query(items(&tokens)),
    };
    Ok((whole(&tokens), brought))
}

fn since<'a>(walk: &Walk<'a>, start: usize) -> Vec<&'a Tok> {
    walk.tokens.get(start..walk.at).unwrap_or_default().to_vec()
}

/// Where the source ends: RETURNING, and what is said for rows that are there already.
fn ends(walk: &Walk<'_>) -> usize {
    let ends = |at: usize, token: &Tok| {
        let next = walk.tokens.get(at + 1);
        token.is_word("returning")
            || (token.is_word("on") && next.is_some_and(|t| t.is_any(&["conflict", "duplicate"])))
    };
    let found = at_depth_0(&walk.tokens, walk.at).find(|(at, token)| ends(*at, token));
    found.map_or(walk.tokens.len(), |(at, _)| at)
}

/// The values of `VALUES (…), (…)`, row by row; `None` where anything stands behind them.
fn rows(tokens: &[&Tok]) -> Option<Vec<Vec<Slice>>> {
    let mut all = Vec::new();
    let mut at = 1;
    loop {
        if tokens.get(at)?.is_word("row") {
            at += 1;
        }
        if !tokens.get(at)?.is(&Token::LParen) {
            return None;
        }
        let mut depth = 0;
        let end = tokens.iter().enumerate().skip(at).find_map(|(end, token)| {
            depth += i32::from(token.is(&Token::LParen)) - i32::from(token.is(&Token::RParen));
            (depth == 0).then_some(end)
        })?;
        let values = tokens.get(at + 1..end)?;
        all.push(if values.is_empty() { Vec::new() } else { comma_parts(values)? });
        at = end + 1;
        match tokens.get(at) {
            None => return Some(all),
            Some(comma) if comma.is(&Token::Comma) => at += 1,
            Some(_) => return None,
        }
    }
}

/// What a SELECT gives, column by column; `None` where that cannot be told from its text.
fn items(tokens: &[&Tok]) -> Option<Vec<Slice>> {
    if !tokens.first()?.is_word("select") {
        return None;
    }
    let compound = ["union", "except", "intersect"];
    if at_depth_0(tokens, 0).any(|(_, t)| t.is_any(&compound)) {
        return None;
    }
    let start = 1 + usize::from(tokens.get(1)?.is_any(&["distinct", "all"]));
    if tokens.get(start)?.is_word("on") {
        return None;
    }
    let stops = ["from", "where", "group", "having", "order", "limit", "window", "offset", "fetch", "for"];
    let end = at_depth_0(tokens, start).find(|(at, t)| {
        let distinct_from =
            at.checked_sub(1).and_then(|b| tokens.get(b)).is_some_and(|b| b.is_word("distinct"));
        t.is_any(&stops) && !(t.is_word("from") && distinct_from)
    });
    let list = tokens.get(start..end.map_or(tokens.len(), |(at, _)| at))?;
    let parts = comma_parts(list)?;
    let star =
        |part: &Slice| list.iter().rfind(|t| t.slice.end == part.end).is_some_and(|t| t.is(&Token::Mul));
    (!parts.iter().any(star)).then_some(parts)
}

/// What is said for rows that are there already.
fn conflict(walk: &mut Walk<'_>) -> Result<Option<Conflict>, Finding> {
    let start = walk.at;
    if !walk.eat("on") {
        return Ok(None);
    }
    let mut conflict = Conflict::default();
    if walk.eat("duplicate") {
        walk.at += 2;
        conflict.set = pairs(walk)?;
    } else {
        walk.at += 1;
        if walk.peek().is_some_and(|t| t.is(&Token::LParen)) {
            walk.at += 1;
            let mut depth = 1;
            let mut comma = true;
            while let Some(token) = walk.next() {
                depth += i32::from(token.is(&Token::LParen)) - i32::from(token.is(&Token::RParen));
                if depth == 0 {
                    break;
                }
                let name = Name::of(token, walk.language);
                conflict.narrower |= name.is_some() != comma || name.is_none() && !token.is(&Token::Comma);
                comma = token.is(&Token::Comma);
                conflict.keys.extend(name);
            }
        }
        let find_do = at_depth_0(&walk.tokens, walk.at).find(|(_, t)| t.is_word("do")).map(|(at, _)| at);
        let Some(at) = find_do else {
            return Err(walk.refuse("DO was expected here", "write DO NOTHING or DO UPDATE SET …"));
        };
        conflict.narrower |= at > walk.at;
        walk.at = at + 1;
        if !walk.eat("nothing") {
            walk.at += 1;
            conflict.set = pairs(walk)?;
            if walk.eat("where") {
                conflict.filter = Some(whole(&walk.until(&["returning"], false)));
            }
        }
    }
    conflict.slice = whole(walk.tokens.get(start..walk.at).unwrap_or_default());
    Ok(Some(conflict))
}

/// The assignments of `… SET a = 1, b = 2`, or without SET behind `KEY UPDATE`.
fn pairs(walk: &mut Walk<'_>) -> Result<Vec<(Name, Slice)>, Finding> {
    walk.eat("set");
    let mut all = Vec::new();
    loop {
        let mut column = walk.name()?;
        while walk.eat_token(&Token::Period) {
            column = walk.name()?;
        }
        if !walk.eat_token(&Token::Eq) {
            return Err(walk.refuse("an equals sign was expected here", "write column = value"));
        }
        all.push((column, whole(&walk.until(&["where", "returning"], true))));
        if !walk.eat_token(&Token::Comma) {
            return Ok(all);
        }
    }
}
