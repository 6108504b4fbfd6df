//! What stands in a slice of a step: subqueries, names, calls, literals.

use marktwice_core::table::Target;
use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::statement::step::Step;
use crate::text::Tok;
use crate::text::slices::Slice;

/// The outermost subqueries inside a slice of the step, parentheses included.
pub fn subqueries(step: &Step, slice: Slice) -> Vec<Slice> {
    let tokens = step.words(slice);
    let mut found = Vec::new();
    let mut open: Vec<(usize, bool)> = Vec::new();
    for (at, token) in tokens.iter().enumerate() {
        if token.is(&Token::LParen) {
            let query = tokens.get(at + 1).is_some_and(|n| n.is_any(&["select", "with", "values"]));
            let inside = open.iter().any(|(_, q)| *q);
            open.push((token.slice.start, query && !inside));
        } else if token.is(&Token::RParen)
            && let Some((start, true)) = open.pop()
        {
            found.push(Slice { start, end: token.slice.end });
        }
    }
    found
}

/// Whether a slice is one literal value, with a sign in front or not.
pub fn is_literal(step: &Step, slice: Slice) -> bool {
    let tokens = step.words(slice);
    let number = |t: &Tok| matches!(t.token.token, Token::Number(..));
    match tokens.as_slice() {
        [one] => {
            let text = matches!(one.token.token, Token::SingleQuotedString(_) | Token::HexStringLiteral(_))
                || (step.language == Language::Mysql
                    && matches!(one.token.token, Token::DoubleQuotedString(_)));
            text || number(one) || one.is_any(&["null", "true", "false"])
        }
        [sign, one] => (sign.is(&Token::Minus) || sign.is(&Token::Plus)) && number(one),
        _ => false,
    }
}

/// The unquoted words and quoted names of a slice, in lower case.
pub fn names_in(step: &Step, slice: Slice) -> Vec<String> {
    step.words(slice).iter().filter_map(|t| t.name().map(str::to_ascii_lowercase)).collect()
}

/// The same without those that a point follows: what may be a table that is read, and not the owner of a column.
pub fn relations_in(step: &Step, slice: Slice) -> Vec<String> {
    let tokens = step.words(slice);
    let owner = |at: usize| tokens.get(at + 1).is_some_and(|t| t.is(&Token::Period));
    let names = tokens.iter().enumerate().filter(|(at, _)| !owner(*at));
    names.filter_map(|(_, t)| t.name().map(str::to_ascii_lowercase)).collect()
}

/// The columns of the target that a slice names: those that the target's name stands before, and those that no name
/// stands before, which may be another table's. Units of INTERVAL and the argument of DEFAULT are none.
pub fn own_columns(step: &Step, target: &Target, slice: Slice) -> Vec<(usize, Slice)> {
    let tokens = step.words(slice);
    let visible = &step.table.visible().text;
    let back = |at: usize, steps: usize| at.checked_sub(steps).and_then(|b| tokens.get(b));
    let named = tokens.iter().enumerate().filter_map(|(at, token)| {
        let column =
            target.position(token.name().filter(|_| matches!(token.token.token, Token::Word(_)))?)?;
        let next = tokens.get(at + 1);
        if next.is_some_and(|t| t.is(&Token::LParen) || t.is(&Token::Period)) {
            return None;
        }
        if back(at, 1).is_some_and(|t| t.is(&Token::Period)) {
            let owner = back(at, 2)?.name()?;
            return owner.eq_ignore_ascii_case(visible).then_some((column, token.slice));
        }
        let unit = back(at, 2).is_some_and(|t| t.is_word("interval"));
        let default = back(at, 2).is_some_and(|t| t.is_word("default"))
            && back(at, 1).is_some_and(|t| t.is(&Token::LParen));
        (!unit && !default).then_some((column, token.slice))
    });
    named.collect()
}

/// The names in a slice that are called as functions, as the catalogue has them.
pub fn calls(step: &Step, slice: Slice) -> Vec<String> {
    let tokens = step.words(slice);
    let called = tokens.windows(2).enumerate().filter_map(|(at, pair)| match pair {
        [name, open] if open.is(&Token::LParen) && !names_query(&tokens, at + 1) => match &name.token.token {
            Token::Word(word) if word.quote_style.is_none() => Some(step.language.folded(&word.value)),
            Token::Word(word) => Some(word.value.clone()),
            _ => None,
        },
        _ => None,
    });
    let mut called: Vec<String> = called.collect();
    if next_value(step, &tokens).is_some() {
        called.push("nextval".to_owned());
    }
    called
}

/// Whether a parenthesis holds the columns of a query that WITH names: `name (a, b) AS (SELECT …)`.
fn names_query(tokens: &[&Tok], open: usize) -> bool {
    let Some(close) = tokens.iter().skip(open).position(|t| t.is(&Token::RParen)).map(|n| open + n) else {
        return false;
    };
    let behind = |n: usize| tokens.get(close + n);
    let body = ["select", "with", "values", "table"];
    let opens = |n: usize| {
        behind(n).is_some_and(|t| t.is(&Token::LParen)) && behind(n + 1).is_some_and(|t| t.is_any(&body))
    };
    behind(1).is_some_and(|t| t.is_word("as"))
        && (opens(2) || (behind(2).is_some_and(|t| t.is_word("materialized")) && opens(3)) || opens(4))
}

/// Where MariaDB's `NEXT VALUE FOR sequence` stands, which is a call without parentheses.
pub fn next_value(step: &Step, tokens: &[&Tok]) -> Option<Slice> {
    if step.language != Language::Mysql {
        return None;
    }
    tokens.windows(3).find_map(|three| match three {
        [next, value, f] if next.is_word("next") && value.is_word("value") && f.is_word("for") => {
            Some(next.slice)
        }
        _ => None,
    })
}
