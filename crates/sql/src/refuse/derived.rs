//! A statement that reads the table which it writes, for a server that does not take that.

use crate::dialect::language::Language;
use crate::text::slices::Slice;
use crate::text::tables::tables_for;
use crate::text::tokenize;
use sqlparser::tokenizer::Token;

/// The statement with each subquery that reads the table it writes inside a derived table, which is made before anything is written;
/// `None` where there is no such subquery.
pub fn in_derived_tables(source: &str, statement: Slice) -> Option<String> {
    let tokens = tokenize(source, Language::Mysql.dialect()).ok()?;
    let tokens: Vec<_> = tokens
        .iter()
        .filter(|t| !t.is_blank() && t.slice.start >= statement.start && t.slice.end <= statement.end)
        .collect();
    let target = tables_for(source, Language::Mysql, "").into_iter().next()?;
    let (mut text, mut from, mut at, mut wrapped) = (String::new(), statement.start, 0, 0);
    while at + 1 < tokens.len() {
        let (open, first) = (tokens.get(at)?, tokens.get(at + 1)?);
        at += 1;
        if !open.is(&Token::LParen) || !first.is_word("select") {
            continue;
        }
        let mut depth = 0;
        let close = tokens.iter().enumerate().skip(at - 1).find_map(|(n, token)| {
            depth += i32::from(token.is(&Token::LParen)) - i32::from(token.is(&Token::RParen));
            (depth == 0).then_some(n)
        })?;
        let inner = tokens.get(at..close)?;
        if !inner.iter().any(|t| t.name().is_some_and(|name| name.eq_ignore_ascii_case(&target))) {
            continue;
        }
        let (start, end) = (first.slice.start, tokens.get(close)?.slice.start);
        text.push_str(source.get(from..start)?);
        wrapped += 1;
        text.push_str(&format!("SELECT * FROM ({}) AS again{wrapped}", source.get(start..end)?));
        from = end;
        at = close;
    }
    text.push_str(source.get(from..statement.end)?);
    (wrapped > 0).then(|| format!("{text};"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn subqueries_go_into_derived_tables() {
        let of = |source: &str| in_derived_tables(source, Slice { start: 0, end: source.len() });
        assert_eq!(
            of("DELETE FROM jar WHERE id = (SELECT max(o.id) FROM jar AS o) AND k IN (SELECT k FROM lid)")
                .as_deref(),
            Some(
                "DELETE FROM jar WHERE id = (SELECT * FROM (SELECT max(o.id) FROM jar AS o) AS again1) AND k IN (SELECT k FROM lid);"
            )
        );
        assert_eq!(of("DELETE FROM jar WHERE id = 1"), None);
        assert_eq!(of("DELETE FROM jar WHERE id = (SELECT max(id) FROM jar"), None);
    }
}
