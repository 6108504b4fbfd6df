//! What the text of a trigger (or of the function behind it) says about what it does: which tables it writes, which
//! columns of the new row it sets, and whether it may skip a row.
//!
//! Nothing is promised on this reading alone: it serves to tell a person beforehand, and to call values unknown. What
//! really happened is verified row by row inside the transaction.

use sqlparser::tokenizer::Token;

use crate::language::Language;
use crate::text::{Tok, tokenize};

/// What a routine does, as far as its text tells.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Routine {
    /// Tables that it writes, as it names them, without a schema.
    pub writes: Vec<String>,
    /// Whether it runs something that its text does not show.
    pub calls: bool,
    /// Columns of the new row that it mentions, and so may set.
    pub new_columns: Vec<String>,
    /// Whether it may set any column of the new row.
    pub new_whole: bool,
    /// Whether it may skip the row.
    pub skips: bool,
}

impl Routine {
    /// A routine of which nothing is known.
    pub fn unknown() -> Routine {
        Routine { calls: true, new_whole: true, skips: true, ..Routine::default() }
    }
}

/// Reads a routine's text. One that cannot be cut into words may do anything.
pub fn read(text: &str, language: Language) -> Routine {
    let Ok(all) = tokenize(text, language.dialect()) else { return Routine::unknown() };
    let tokens: Vec<&Tok> = all.iter().filter(|t| !t.is_blank()).collect();
    let mut routine = Routine::default();
    for (at, token) in tokens.iter().enumerate() {
        let Some(word) = token.word() else { continue };
        let next = tokens.get(at + 1);
        let before = at.checked_sub(1).and_then(|b| tokens.get(b));
        match word.as_str() {
            "insert" | "replace" | "update" | "delete" | "merge" | "truncate"
                if !next.is_some_and(|n| n.is(&Token::LParen))
                    && !before.is_some_and(|b| b.is_any(&["for", "on", "key", "do", "of"])) =>
            {
                routine.writes.extend(written(&tokens, at, language));
            }
            "call" | "execute" | "perform" | "copy" | "dblink" => routine.calls = true,
            "new" => match next {
                Some(dot) if dot.is(&Token::Period) => {
                    let column = tokens.get(at + 2).and_then(|t| t.name().map(str::to_owned));
                    routine.new_columns.extend(column);
                }
                Some(sign) if sign.is(&Token::Assignment) || sign.is(&Token::Eq) => routine.new_whole = true,
                _ if before.is_some_and(|b| b.is_word("into")) => routine.new_whole = true,
                // Read, or given back as it is.
                _ => {}
            },
            "return" if next.is_some_and(|n| n.is_any(&["null", "old"])) => routine.skips = true,
            // Another row is given back, in place of the new one.
            "return" if next.is_some_and(|n| n.word().is_some() && !n.is_any(&["new", "coalesce"])) => {
                routine.new_whole = true;
            }
            _ => {}
        }
    }
    routine.writes.sort();
    routine.writes.dedup();
    routine
}

/// The table behind a writing verb.
fn written(tokens: &[&Tok], verb: usize, language: Language) -> Option<String> {
    let fillers = ["into", "from", "only", "ignore", "low_priority", "delayed", "quick", "table"];
    let mut at = verb + 1;
    while tokens.get(at).is_some_and(|t| t.is_any(&fillers)) {
        at += 1;
    }
    let mut name = tokens.get(at)?;
    while tokens.get(at + 1).is_some_and(|t| t.is(&Token::Period)) {
        at += 2;
        name = tokens.get(at)?;
    }
    let Token::Word(word) = &name.token.token else { return None };
    Some(if word.quote_style.is_none() { language.folded(&word.value) } else { word.value.clone() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bodies() {
        let log = read(
            "BEGIN\n IF NEW.price IS DISTINCT FROM OLD.price THEN\n INSERT INTO Honey.price_log VALUES (OLD.id);\n END IF;\n RETURN NEW;\nEND",
            Language::Postgres,
        );
        assert_eq!(log.writes, ["price_log"]);
        assert_eq!((log.calls, log.new_whole, log.skips), (false, false, false));
        let stamp = read("BEGIN NEW.changed := now(); RETURN NEW; END", Language::Postgres);
        assert_eq!(
            (stamp.writes.len(), stamp.new_columns, stamp.new_whole),
            (0, vec!["changed".to_owned()], false)
        );
        let audit =
            read("BEGIN PERFORM note(row_to_json(NEW)); RETURN COALESCE(NEW, OLD); END", Language::Postgres);
        assert_eq!((audit.calls, audit.new_whole, audit.skips), (true, false, false));
        assert!(read("BEGIN SELECT * INTO NEW FROM x; RETURN NEW; END", Language::Postgres).new_whole);
        assert!(read("BEGIN r := NEW; r.a := 1; RETURN r; END", Language::Postgres).new_whole);
        let odd = read("BEGIN NEW := f(NEW); EXECUTE 'x'; RETURN NULL; END", Language::Postgres);
        assert_eq!((odd.new_whole, odd.calls, odd.skips), (true, true, true));
        let my = read(
            "BEGIN SET NEW.total = NEW.qty * 2; DELETE FROM `old log` WHERE id = OLD.id; UPDATE hive SET n = insert('a',1,1,'b') ON DUPLICATE KEY UPDATE x; END",
            Language::Mysql,
        );
        assert_eq!(my.writes, ["hive", "old log"]);
        assert_eq!(read("'open", Language::Postgres), Routine::unknown());
    }
}
