//! What only the text of a CREATE TABLE tells: the expressions of generated columns.

use marktwice_sql::text::{Tok, tokenize};
use sqlparser::dialect::SQLiteDialect;
use sqlparser::tokenizer::Token;

/// The expression of the generated column `name`, verbatim with its parentheses; `None` when it cannot be found.
pub(crate) fn generated_expression(create_table: &str, name: &str) -> Option<String> {
    let all = tokenize(create_table, &SQLiteDialect {}).ok()?;
    let tokens: Vec<&Tok> = all.iter().filter(|t| !t.is_blank()).collect();
    let open = tokens.iter().position(|t| t.is(&Token::LParen))?;
    let mut depth = 0usize;
    let mut first_of_definition = true;
    let mut inside = false;
    let mut at = open;
    while let Some(token) = tokens.get(at) {
        if token.is(&Token::LParen) {
            depth += 1;
            if depth == 2 && inside && tokens.get(at.checked_sub(1)?).is_some_and(|t| t.is_word("as")) {
                let close = closing(&tokens, at)?;
                return Some(token.slice.to(tokens.get(close)?.slice).of(create_table).to_owned());
            }
        } else if token.is(&Token::RParen) {
            depth = depth.checked_sub(1)?;
            if depth == 0 {
                return None;
            }
        } else if depth == 1 && token.is(&Token::Comma) {
            first_of_definition = true;
            inside = false;
            at += 1;
            continue;
        } else if depth == 1 && first_of_definition {
            inside = token.name().is_some_and(|n| n.eq_ignore_ascii_case(name));
        }
        if depth >= 1 && at > open {
            first_of_definition = false;
        }
        at += 1;
    }
    None
}

/// `ON CONFLICT REPLACE` or `ON CONFLICT IGNORE` in a definition; a text that cannot be read counts as having one.
pub(crate) fn silent_conflict_clause(create_table: &str) -> Option<String> {
    let Ok(all) = tokenize(create_table, &SQLiteDialect {}) else {
        return Some("a conflict clause".to_owned());
    };
    let tokens: Vec<&Tok> = all.iter().filter(|t| !t.is_blank()).collect();
    tokens.windows(3).find_map(|w| match w {
        [on, conflict, what] if on.is_word("on") && conflict.is_word("conflict") => what
            .is_any(&["replace", "ignore"])
            .then(|| format!("ON CONFLICT {}", what.normal().to_uppercase())),
        _ => None,
    })
}

fn closing(tokens: &[&Tok], open: usize) -> Option<usize> {
    let mut depth = 0usize;
    for (at, token) in tokens.iter().enumerate().skip(open) {
        if token.is(&Token::LParen) {
            depth += 1;
        } else if token.is(&Token::RParen) {
            depth = depth.checked_sub(1)?;
            if depth == 0 {
                return Some(at);
            }
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::{generated_expression, silent_conflict_clause};

    #[test]
    fn conflict_clauses() {
        let clause =
            |text: &str| silent_conflict_clause(&format!("CREATE TABLE t (a INT UNIQUE {text}, b TEXT)"));
        assert_eq!(clause("on conflict /* x */ ignore").as_deref(), Some("ON CONFLICT IGNORE"));
        assert_eq!(clause("ON CONFLICT ABORT"), None);
        assert_eq!(clause("DEFAULT 'ON CONFLICT IGNORE'"), None);
    }

    #[test]
    fn expressions_are_verbatim() {
        let table = "CREATE TABLE \"batch\" (id INTEGER PRIMARY KEY, kilos REAL DEFAULT (1 + 2), -- total AS (no)\n \
                     total REAL GENERATED ALWAYS AS (round(kilos * (price), 2)) STORED, \"a b\" AS (id || ')'), \
                     CHECK (total AS (x)), price)";
        assert_eq!(generated_expression(table, "total").as_deref(), Some("(round(kilos * (price), 2))"));
        assert_eq!(generated_expression(table, "A B").as_deref(), Some("(id || ')')"));
        assert_eq!(generated_expression(table, "kilos"), None);
        assert_eq!(generated_expression(table, "price"), None);
    }
}
