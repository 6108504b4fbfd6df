//! What a table demands of its rows, as its definition says it.

use marktwice_port::EngineError;
use marktwice_relational::breaches::{Rules, Unique};
use marktwice_sql::text::tokenize;
use rusqlite::Connection;
use sqlparser::dialect::SQLiteDialect;
use sqlparser::tokenizer::Token;

use crate::catalog::Table;
use crate::error::engine;
use crate::look::checks;
use crate::names::quoted;

/// Reads them.
pub(crate) fn rules(connection: &Connection, table: &Table) -> Result<Rules, EngineError> {
    let mut rules = Rules { references: true, ..Rules::default() };
    // A conflict clause of the definition has rows skipped or replaced instead.
    if table.conflict_clause.is_some() {
        return Ok(rules);
    }
    let target = &table.target;
    let name = |at: &usize| target.columns.get(*at).map(|c| quoted(&c.name)).unwrap_or_default();
    rules.unique = table
        .keys
        .iter()
        .map(|key| Unique {
            terms: key.columns.iter().map(name).collect(),
            only: None,
            compared: Vec::new(),
            text: None,
            at_the_end: false,
        })
        .collect();
    rules.unique.extend(of_some_rows(connection, &target.table).map_err(engine)?);
    rules.checks = checks(connection, &target.table)?;
    // The one column that takes no other type than its own, whatever the table says.
    rules.checks.extend(table.row_column.map(|at| format!("typeof({}) = 'integer'", name(&at))));
    rules.not_null = (0..target.columns.len())
        .filter(|at| target.columns.get(*at).is_some_and(|c| c.not_null) && Some(*at) != table.row_column)
        .collect();
    Ok(rules)
}

/// Unique indexes over expressions, or for some of the rows only: their parts stand in their texts alone.
fn of_some_rows(connection: &Connection, table: &str) -> rusqlite::Result<Vec<Unique>> {
    let mut statement = connection.prepare_cached(
        "SELECT s.sql FROM pragma_index_list(?1, 'main') AS i JOIN main.sqlite_schema AS s ON s.type = 'index' \
         AND s.name = i.name WHERE i.\"unique\" AND s.sql IS NOT NULL AND (i.partial OR EXISTS \
         (SELECT 1 FROM pragma_index_xinfo(i.name, 'main') AS x WHERE x.key AND x.cid < 0))",
    )?;
    let texts: Vec<String> =
        statement.query_map([table], |row| row.get(0))?.collect::<rusqlite::Result<_>>()?;
    Ok(texts.iter().filter_map(|text| parts(text)).collect())
}

/// The terms and the condition of `CREATE UNIQUE INDEX … ON … (terms) WHERE condition`.
fn parts(text: &str) -> Option<Unique> {
    let tokens = tokenize(text, &SQLiteDialect {}).ok()?;
    let words: Vec<_> = tokens.iter().filter(|t| !t.is_blank()).collect();
    let open = words.iter().position(|t| t.is(&Token::LParen))?;
    let (mut depth, mut from, mut terms) = (0, words.get(open)?.slice.end, Vec::new());
    for (at, word) in words.iter().enumerate().skip(open) {
        depth += i32::from(word.is(&Token::LParen)) - i32::from(word.is(&Token::RParen));
        let ends = depth == 0;
        if ends || (depth == 1 && word.is(&Token::Comma)) {
            let term = text.get(from..word.slice.start)?.trim();
            let bare = ["asc", "desc"].iter().find_map(|order| {
                let cut = term.len().checked_sub(order.len() + 1)?;
                let (term, last) = (term.get(..cut)?, term.get(cut..)?);
                last.trim().eq_ignore_ascii_case(order).then_some(term)
            });
            terms.push(bare.unwrap_or(term).to_owned());
            from = word.slice.end;
        }
        if ends {
            let only = words.get(at + 1).filter(|t| t.is_word("where"));
            let only = only.and_then(|t| text.get(t.slice.end..)).map(|only| only.trim().to_owned());
            return Some(Unique { terms, only, compared: Vec::new(), text: None, at_the_end: false });
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn indexes_are_cut_at_their_own_commas() {
        let found =
            parts("CREATE UNIQUE INDEX u ON t (lower(a || ','), b COLLATE NOCASE DESC) WHERE gone IS NULL")
                .unwrap();
        assert_eq!(found.terms, ["lower(a || ',')", "b COLLATE NOCASE"]);
        assert_eq!(found.only.as_deref(), Some("gone IS NULL"));
        assert_eq!(parts("CREATE UNIQUE INDEX u ON t (a)").unwrap().only, None);
    }
}
