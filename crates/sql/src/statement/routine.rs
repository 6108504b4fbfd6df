//! What the text of a trigger (or of the function behind it) says about what it does: which tables it writes, which
//! columns of the new row it sets, and whether it may skip a row.
//!
//! Nothing is promised on this reading alone: it serves to tell a person beforehand, and to call values unknown. What
//! really happened is verified row by row inside the transaction.

use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::text::{Tok, tokenize};

/// What is done to a table that a routine writes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Verb {
    /// Rows come in.
    Insert,
    /// Rows change.
    Update,
    /// Rows go.
    Delete,
    /// Any of these (`REPLACE`, `MERGE`, an insert that updates).
    Several,
    /// All rows go at once, and nobody counts them.
    Truncate,
}

/// A table that a routine writes.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Written {
    /// Its schema, where the text names one.
    pub schema: Option<String>,
    /// Its name, as the catalogue has it.
    pub table: String,
    /// What is done to it.
    pub verb: Verb,
    /// For an update, the columns that it sets, as the text names them.
    pub columns: Vec<String>,
}

/// What a routine does, as far as its text tells.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Routine {
    /// Tables that it writes.
    pub writes: Vec<Written>,
    /// Routines that it calls, as the catalogue has them.
    pub calls: Vec<String>,
    /// What it does beyond rows: definitions, settings of the server, notifications; in the words of its text.
    pub acts: Vec<String>,
    /// Whether it runs something that its text does not show.
    pub dynamic: bool,
    /// Whether it sets variables of the session.
    pub variables: bool,
    /// Columns of the new row that it mentions, and so may set.
    pub new_columns: Vec<String>,
    /// Columns of the new row that it clearly sets.
    pub sets: Vec<String>,
    /// Whether it may set any column of the new row.
    pub new_whole: bool,
    /// Whether it may skip the row.
    pub skips: bool,
}

impl Routine {
    /// A routine of which nothing is known.
    pub fn unknown() -> Routine {
        Routine { dynamic: true, new_whole: true, skips: true, ..Routine::default() }
    }
}

/// Reads a routine's text. One that cannot be cut into words may do anything.
pub fn read(text: &str, language: Language) -> Routine {
    let Ok(all) = tokenize(text, language.dialect()) else { return Routine::unknown() };
    let tokens: Vec<&Tok> = all.iter().filter(|t| !t.is_blank()).collect();
    let mut routine = Routine::default();
    // Where the name of a written table stands: what follows it in parentheses are columns, and no call.
    let mut table = None;
    for (at, token) in tokens.iter().enumerate() {
        let next = tokens.get(at + 1);
        let before = at.checked_sub(1).and_then(|b| tokens.get(b));
        if language == Language::Mysql && variable(&tokens, at) {
            routine.variables = true;
        }
        if next.is_some_and(|n| n.is(&Token::LParen)) && table != Some(at) {
            routine.calls.extend(as_name(token, language));
        }
        let Some(word) = token.word() else { continue };
        let starts = before.is_none_or(|b| {
            b.is(&Token::SemiColon) || b.is_any(&["begin", "then", "else", "loop", "do", "as", "$$"])
        });
        match word.as_str() {
            "insert" | "replace" | "update" | "delete" | "merge" | "truncate"
                if !next.is_some_and(|n| n.is(&Token::LParen))
                    && !before.is_some_and(|b| {
                        b.is_any(&["for", "on", "key", "do", "of", "or", "after", "before"])
                    }) =>
            {
                if let Some((written, last)) = written(&tokens, at, language, verb(&tokens, at, &word)) {
                    routine.writes.push(written);
                    table = Some(last);
                }
            }
            "call" | "perform" => {
                routine
                    .calls
                    .extend(next.and_then(|_| last_part(&tokens, at + 1)).and_then(|t| as_name(t, language)));
            }
            "execute" | "copy" | "prepare" => routine.dynamic = true,
            "create" | "drop" | "alter" | "grant" | "revoke" | "lock" | "listen" | "notify" | "cluster"
            | "vacuum" | "analyze" | "reindex" | "refresh" | "comment" | "rename" | "flush" | "kill"
            | "load" | "install"
                if starts =>
            {
                let words: Vec<&str> = tokens
                    .iter()
                    .skip(at)
                    .take_while(|t| !t.is(&Token::SemiColon))
                    .take(4)
                    .map(|t| t.slice.of(text))
                    .collect();
                routine.acts.push(words.join(" "));
            }
            "set" if next.is_some_and(|n| n.is_any(&["global", "@@global", "persist"])) => {
                routine.acts.push("SET GLOBAL".to_owned());
            }
            "track_counts" => routine.acts.push("track_counts".to_owned()),
            "new" => match next {
                Some(dot) if dot.is(&Token::Period) => {
                    let column = tokens.get(at + 2).and_then(|t| t.name().map(str::to_owned));
                    if sets_new(&tokens, at, language) {
                        routine.sets.extend(column.clone());
                    }
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
    routine.calls.sort();
    routine.calls.dedup();
    routine
}

/// Whether the column of the new row that is named at `at` is given a value here.
fn sets_new(tokens: &[&Tok], at: usize, language: Language) -> bool {
    let before = at.checked_sub(1).and_then(|b| tokens.get(b));
    let sign = tokens.get(at + 3);
    let assigned = sign.is_some_and(|s| s.is(&Token::Assignment));
    let equals = sign.is_some_and(|s| s.is(&Token::Eq));
    let starts = match language {
        // Behind SET, or behind the comma of a list that SET began.
        Language::Mysql => before.is_some_and(|b| b.is_word("set") || b.is(&Token::Comma)),
        _ => before.is_none_or(|b| b.is(&Token::SemiColon) || b.is_any(&["begin", "then", "else", "loop"])),
    };
    assigned || (equals && starts) || before.is_some_and(|b| b.is_word("into"))
}

/// The columns that an UPDATE at `at` sets.
fn set_columns(tokens: &[&Tok], at: usize, language: Language) -> Vec<String> {
    let mut all = Vec::new();
    let mut depth = 0usize;
    let mut expects = false;
    for (here, token) in tokens.iter().enumerate().skip(at + 1) {
        match &token.token.token {
            Token::LParen => depth += 1,
            Token::RParen => depth = depth.saturating_sub(1),
            Token::SemiColon => break,
            Token::Comma if depth == 0 => expects = !all.is_empty(),
            _ if depth == 0 && token.is_any(&["where", "from", "end"]) => break,
            _ if depth == 0 && token.is_word("set") => expects = true,
            _ if expects => {
                all.extend(last_part(tokens, here).and_then(|t| as_name(t, language)));
                expects = false;
            }
            _ => {}
        }
    }
    all
}

/// What a writing word does.
fn verb(tokens: &[&Tok], at: usize, word: &str) -> Verb {
    let rest = tokens.iter().skip(at + 1).take_while(|t| !t.is(&Token::SemiColon));
    match word {
        "update" => Verb::Update,
        "delete" => Verb::Delete,
        "truncate" => Verb::Truncate,
        "insert" if !rest.into_iter().any(|t| t.is_any(&["conflict", "duplicate"])) => Verb::Insert,
        _ => Verb::Several,
    }
}

/// Whether a session variable is set here: `SET @n = …`, `@n := …`, `INTO @n`.
fn variable(tokens: &[&Tok], at: usize) -> bool {
    let Some(token) = tokens.get(at) else { return false };
    let named = token.word().is_some_and(|w| w.starts_with('@') && !w.starts_with("@@"));
    let before = at.checked_sub(1).and_then(|b| tokens.get(b));
    named
        && (tokens.get(at + 1).is_some_and(|n| n.is(&Token::Assignment))
            || before.is_some_and(|b| b.is_any(&["set", "into"])))
}

/// The last part of a name that begins at `at`.
fn last_part<'t>(tokens: &[&'t Tok], mut at: usize) -> Option<&'t Tok> {
    while tokens.get(at + 1).is_some_and(|t| t.is(&Token::Period)) {
        at += 2;
    }
    tokens.get(at).copied()
}

/// A word as the catalogue has it.
fn as_name(token: &Tok, language: Language) -> Option<String> {
    let Token::Word(word) = &token.token.token else { return None };
    Some(if word.quote_style.is_none() { language.folded(&word.value) } else { word.value.clone() })
}

/// The table behind a writing verb, and where its name ends.
fn written(tokens: &[&Tok], at: usize, language: Language, verb: Verb) -> Option<(Written, usize)> {
    let fillers = ["into", "from", "only", "ignore", "low_priority", "delayed", "quick", "table"];
    let mut at = at + 1;
    while tokens.get(at).is_some_and(|t| t.is_any(&fillers)) {
        at += 1;
    }
    let mut schema = None;
    let mut name = as_name(tokens.get(at)?, language)?;
    while tokens.get(at + 1).is_some_and(|t| t.is(&Token::Period)) {
        at += 2;
        schema = Some(name);
        name = as_name(tokens.get(at)?, language)?;
    }
    let columns = if verb == Verb::Update { set_columns(tokens, at, language) } else { Vec::new() };
    Some((Written { schema, table: name, verb, columns }, at))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tables(routine: &Routine) -> Vec<String> {
        let name = |w: &Written| w.schema.iter().chain([&w.table]).cloned().collect::<Vec<_>>().join(".");
        routine.writes.iter().map(name).collect()
    }

    #[test]
    fn bodies() {
        let log = read(
            "BEGIN\n IF NEW.price IS DISTINCT FROM OLD.price THEN\n INSERT INTO Honey.price_log VALUES (OLD.id);\n END IF;\n RETURN NEW;\nEND",
            Language::Postgres,
        );
        assert_eq!(tables(&log), ["honey.price_log"]);
        assert_eq!((log.dynamic, log.new_whole, log.skips), (false, false, false));
        let stamp = read("BEGIN NEW.changed := now(); RETURN NEW; END", Language::Postgres);
        assert_eq!(
            (stamp.writes.len(), stamp.new_columns, stamp.new_whole),
            (0, vec!["changed".to_owned()], false)
        );
        let audit =
            read("BEGIN PERFORM note(row_to_json(NEW)); RETURN COALESCE(NEW, OLD); END", Language::Postgres);
        assert_eq!(
            (audit.calls.contains(&"note".to_owned()), audit.new_whole, audit.skips),
            (true, false, false)
        );
        assert!(read("BEGIN SELECT * INTO NEW FROM x; RETURN NEW; END", Language::Postgres).new_whole);
        assert!(read("BEGIN r := NEW; r.a := 1; RETURN r; END", Language::Postgres).new_whole);
        let odd = read("BEGIN NEW := f(NEW); EXECUTE 'x'; RETURN NULL; END", Language::Postgres);
        assert_eq!((odd.new_whole, odd.dynamic, odd.skips), (true, true, true));
        let my = read(
            "BEGIN SET NEW.total = NEW.qty * 2; DELETE FROM `old log` WHERE id = OLD.id; UPDATE hive SET n = insert('a',1,1,'b') ON DUPLICATE KEY UPDATE x; END",
            Language::Mysql,
        );
        assert_eq!(tables(&my), ["hive", "old log"]);
        let columns = read("INSERT INTO honey.price_log (batch_id) VALUES (round(1.5))", Language::Mysql);
        assert!(
            columns.calls.contains(&"round".to_owned()) && !columns.calls.contains(&"price_log".to_owned())
        );
        let acts = read(
            "BEGIN SET @n = 1; SET GLOBAL max_connections = 2; CALL deep.further(1); TRUNCATE log; REPLACE INTO x VALUES (get_lock('a', 1)); END",
            Language::Mysql,
        );
        assert_eq!((acts.variables, acts.acts), (true, vec!["SET GLOBAL".to_owned()]));
        assert!(["further", "get_lock"].iter().all(|name| acts.calls.contains(&(*name).to_owned())));
        let verbs: Vec<Verb> = acts.writes.iter().map(|w| w.verb).collect();
        assert_eq!(verbs, [Verb::Truncate, Verb::Several]);
        assert_eq!(stamp.sets, ["changed"]);
        let guard = read(
            "BEGIN IF NEW.a = OLD.a AND NEW.b <> 1 THEN NEW.version = OLD.version + 1; END IF; RETURN NEW; END",
            Language::Postgres,
        );
        assert_eq!((guard.sets, guard.new_columns.len()), (vec!["version".to_owned()], 3));
        let set = read(
            "BEGIN SET NEW.x = NEW.y, NEW.z = 2; UPDATE hive h SET h.kilos = f(a, b), note = 'x' WHERE id = 1; END",
            Language::Mysql,
        );
        assert_eq!(
            (set.sets, set.writes[0].columns.clone()),
            (vec!["x".to_owned(), "z".to_owned()], vec!["kilos".to_owned(), "note".to_owned()])
        );
        let drop = read("BEGIN DROP TABLE IF EXISTS x; PERFORM setval('s', 1); END", Language::Postgres);
        assert_eq!((drop.acts.len(), drop.calls), (1, vec!["setval".to_owned()]));
        assert_eq!(read("'open", Language::Postgres), Routine::unknown());
    }
}
