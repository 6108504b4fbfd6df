//! The tables that a text names, told by where their names stand: for hints about a text that the engine does not take.

use crate::dialect::language::Language;
use crate::text::{Tok, tokenize};
use sqlparser::tokenizer::Token;

/// Words behind which tables stand, and words that may stand between.
const AHEAD: &[&str] = &["update", "from", "join", "into", "using"];
const BETWEEN: &[&str] =
    &["only", "lateral", "ignore", "low_priority", "quick", "or", "replace", "abort", "rollback", "fail"];
/// Words that may stand behind a table's name and are no other name of it.
pub(crate) const NO_ALIAS: &[&str] = &[
    "set",
    "where",
    "from",
    "join",
    "inner",
    "left",
    "right",
    "full",
    "cross",
    "natural",
    "on",
    "using",
    "values",
    "select",
    "order",
    "group",
    "having",
    "limit",
    "returning",
    "union",
    "default",
    "with",
    "as",
    "partition",
    "use",
    "force",
    "ignore",
];

/// The tables among which a column of this name would have to be, a qualified one under the table or the alias before it; all
/// tables of the text where none of them is called so.
pub fn tables_for(source: &str, language: Language, column: &str) -> Vec<String> {
    let all = tables(source, language);
    let before = column.rsplit_once('.').map(|(before, _)| before.rsplit('.').next().unwrap_or(before));
    let called = |(table, alias): &&(String, Option<String>)| {
        before.is_some_and(|before| alias.as_ref().unwrap_or(table).eq_ignore_ascii_case(before))
    };
    let own: Vec<String> = all.iter().filter(called).map(|(table, _)| table.clone()).collect();
    if own.is_empty() { all.into_iter().map(|(table, _)| table).collect() } else { own }
}

/// Tables with their aliases.
fn tables(source: &str, language: Language) -> Vec<(String, Option<String>)> {
    let tokens = tokenize(source, language.dialect()).unwrap_or_default();
    let tokens: Vec<&Tok> = tokens.iter().filter(|t| !t.is_blank()).collect();
    let mut found = Vec::new();
    for start in (0..tokens.len()).filter(|at| tokens.get(*at).is_some_and(|t| t.is_any(AHEAD))) {
        let mut at = start + 1;
        loop {
            while tokens.get(at).is_some_and(|t| t.is_any(BETWEEN)) {
                at += 1;
            }
            // A name in quotes is taken as it stands.
            let name_at = |at: usize| {
                let token = tokens.get(at)?;
                let name = token.name()?;
                Some(if token.word().is_some() { language.folded(name) } else { name.to_owned() })
            };
            let Some(mut name) = name_at(at) else { break };
            at += 1;
            while tokens.get(at).is_some_and(|t| t.is(&Token::Period)) {
                name = name_at(at + 1).unwrap_or(name);
                at += 2;
            }
            at += usize::from(tokens.get(at).is_some_and(|t| t.is_word("as")));
            let alias = tokens.get(at).filter(|t| !t.is_any(NO_ALIAS)).and_then(|t| t.name());
            at += usize::from(alias.is_some());
            found.push((name, alias.map(str::to_owned)));
            if !tokens.get(at).is_some_and(|t| t.is(&Token::Comma)) {
                break;
            }
            at += 1;
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_stand_where_tables_stand() {
        let of = |source: &str, column: &str| tables_for(source, Language::Sqlite, column).join(" ");
        assert_eq!(of("UPDATE hive SET note = 'x' WHERE txet = 1", "txet"), "hive");
        assert_eq!(
            of("UPDATE OR ABORT hive AS h SET note = 1 FROM keeper k, lid WHERE k.x = 1", "x"),
            "hive keeper lid"
        );
        assert_eq!(of("UPDATE hive AS h SET note = 1 FROM keeper k, lid WHERE k.x = 1", "k.x"), "keeper");
        assert_eq!(
            of("DELETE FROM main.hive WHERE note IN (SELECT id FROM note JOIN lid ON a = b)", "y"),
            "hive note lid"
        );
        assert_eq!(of("INSERT INTO hive (note, x) SELECT a FROM keeper", "x"), "hive keeper");
        assert_eq!(of("UPDATE hive SET note = 'x' WHERE other.txet = 1", "other.txet"), "hive");
        assert_eq!(of("UPDATE 'x", "y"), "");
        assert_eq!(tables_for("UPDATE \"The Hive\" SET a = 1", Language::Postgres, "b"), ["The Hive"]);
        assert_eq!(tables_for("UPDATE The_Hive SET a = 1", Language::Postgres, "b"), ["the_hive"]);
    }
}
