//! What the text of a trigger (or of the function behind it) says about what it does: which tables it writes, which
//! columns of the new row it sets, and whether it may skip a row.
//!
//! Nothing is promised on this reading alone: it serves to tell a person beforehand, and to call values unknown. What
//! really happened is verified row by row inside the transaction.

use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::query::mentions::BEHIND_TABLE;
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

impl Routine {
    /// What it runs as a text of its own.
    fn take_over(&mut self, inner: Routine) {
        self.writes.extend(inner.writes);
        self.calls.extend(inner.calls);
        self.acts.extend(inner.acts);
        self.dynamic |= inner.dynamic;
        self.variables |= inner.variables;
    }
}

/// The text that EXECUTE at `at` runs, where it is written out whole.
fn constant(tokens: &[&Tok], at: usize) -> Option<String> {
    let Token::SingleQuotedString(text) = &tokens.get(at + 1)?.token.token else { return None };
    let next = tokens.get(at + 2);
    let ends = next.is_none_or(|t| t.is(&Token::SemiColon) || t.is_any(&["into", "using", "loop"]));
    ends.then(|| text.replace("''", "'"))
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
                let several = if language == Language::Mysql { several(&tokens, at, &word) } else { None };
                if let Some((all, last)) = several {
                    routine.writes.extend(all);
                    table = Some(last);
                } else if let Some((written, last)) = written(&tokens, at, language, verb(&tokens, at, &word))
                {
                    routine.writes.push(written);
                    table = Some(last);
                }
            }
            "call" | "perform" => {
                routine
                    .calls
                    .extend(next.and_then(|_| last_part(&tokens, at + 1)).and_then(|t| as_name(t, language)));
            }
            "execute" => match constant(&tokens, at) {
                Some(inner) => routine.take_over(read(&inner, language)),
                None => routine.dynamic = true,
            },
            "copy" | "prepare" => routine.dynamic = true,
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

/// A table of a joined UPDATE or DELETE.
struct Joined {
    schema: Option<String>,
    table: String,
    /// The name that it has in the statement.
    visible: String,
}

/// The tables of a list, `a JOIN b AS x ON …, c`, and where it ends.
fn table_list(tokens: &[&Tok], from: usize, ends: &[&str]) -> (Vec<Joined>, usize) {
    let opens = ["join", "straight_join"];
    let mut all = Vec::new();
    let (mut at, mut expects, mut depth) = (from, true, 0_i32);
    while let Some(token) = tokens.get(at).filter(|t| !t.is(&Token::SemiColon)) {
        if depth == 0 && token.is_any(ends) {
            break;
        }
        if token.is(&Token::LParen) && !expects {
            depth += 1;
        } else if token.is(&Token::RParen) {
            depth = (depth - 1).max(0);
        } else if depth == 0 && (token.is_any(&opens) || token.is(&Token::Comma)) {
            expects = true;
        } else if token.is_any(&["on", "using"]) {
            expects = false;
        } else if expects
            && !token.is(&Token::LParen)
            && !token.is_any(&["ignore", "low_priority", "quick", "from"])
        {
            let mut schema = None;
            let Some(mut name) = as_name(token, Language::Mysql) else { break };
            while tokens.get(at + 1).is_some_and(|t| t.is(&Token::Period)) {
                at += 2;
                schema = Some(name);
                let Some(next) = tokens.get(at).and_then(|t| as_name(t, Language::Mysql)) else {
                    return (all, at);
                };
                name = next;
            }
            let mut next = at + 1 + usize::from(tokens.get(at + 1).is_some_and(|t| t.is_word("as")));
            let alias = tokens.get(next).filter(|t| !t.is_any(&BEHIND_TABLE) && !t.is_any(ends));
            let alias = alias.and_then(|t| as_name(t, Language::Mysql));
            if alias.is_none() {
                next = at;
            }
            let visible = alias.unwrap_or_else(|| name.clone());
            all.push(Joined { schema, table: name, visible });
            (at, expects) = (next, false);
        }
        at += 1;
    }
    (all, at)
}

/// What an UPDATE or DELETE of joined tables writes, table by table, and the last word of its list; `None` for one of a single
/// table. A column that no table is named for may be any table's.
fn several(tokens: &[&Tok], at: usize, word: &str) -> Option<(Vec<Written>, usize)> {
    let is = |name: &str, other: &str| name.eq_ignore_ascii_case(other);
    match word {
        "update" => {
            let (tables, set) = table_list(tokens, at + 1, &["set"]);
            if tables.len() < 2 {
                return None;
            }
            let mut all: Vec<Written> = Vec::new();
            for (owner, column) in set_pairs(tokens, set) {
                let named =
                    tables.iter().filter(|t| owner.as_ref().is_none_or(|owner| is(owner, &t.visible)));
                for Joined { schema, table, .. } in named {
                    match all.iter_mut().find(|w| w.schema == *schema && w.table == *table) {
                        Some(known) => known.columns.push(column.clone()),
                        None => all.push(Written {
                            schema: schema.clone(),
                            table: table.clone(),
                            verb: Verb::Update,
                            columns: vec![column.clone()],
                        }),
                    }
                }
            }
            Some((all, set))
        }
        "delete" => {
            // `DELETE a, b FROM list`, or `DELETE FROM a, b USING list`.
            let first = tokens.get(at + 1)?;
            let (targets, then) = match first.is_word("from") {
                true => table_list(tokens, at + 2, &["using", "where", "order", "limit", "returning"]),
                false => table_list(tokens, at + 1, &["from"]),
            };
            if first.is_word("from") && !tokens.get(then).is_some_and(|t| t.is_word("using")) {
                return None;
            }
            let (tables, end) = table_list(tokens, then + 1, &["where", "order", "limit", "returning"]);
            let gone = |target: &Joined| {
                let of = tables.iter().find(|t| is(&t.visible, &target.table));
                let (schema, table) = of.map_or((&target.schema, &target.table), |t| (&t.schema, &t.table));
                Written {
                    schema: schema.clone(),
                    table: table.clone(),
                    verb: Verb::Delete,
                    columns: Vec::new(),
                }
            };
            Some((targets.iter().map(gone).collect(), end.saturating_sub(1)))
        }
        _ => None,
    }
}

/// The columns that SET at `at` assigns, each with the table that is named for it.
fn set_pairs(tokens: &[&Tok], at: usize) -> Vec<(Option<String>, String)> {
    let mut all = Vec::new();
    let (mut depth, mut expects) = (0_usize, true);
    let mut here = at + 1;
    while let Some(token) = tokens.get(here).filter(|t| !t.is(&Token::SemiColon)) {
        match &token.token.token {
            Token::LParen => depth += 1,
            Token::RParen => depth = depth.saturating_sub(1),
            Token::Comma if depth == 0 => expects = true,
            _ if depth == 0 && token.is_any(&["where", "order", "limit", "end"]) => break,
            _ if expects => {
                let mut parts: Vec<String> = as_name(token, Language::Mysql).into_iter().collect();
                while tokens.get(here + 1).is_some_and(|t| t.is(&Token::Period)) {
                    here += 2;
                    parts.extend(tokens.get(here).and_then(|t| as_name(t, Language::Mysql)));
                }
                if let Some(column) = parts.pop() {
                    all.push((parts.pop(), column));
                }
                expects = false;
            }
            _ => {}
        }
        here += 1;
    }
    all
}

/// A text in which words in double quotes are names (the mode ANSI_QUOTES), written as everybody reads it; `None` for one that cannot
/// be cut into words.
pub fn without_ansi_quotes(text: &str) -> Option<String> {
    let tokens = tokenize(text, Language::Mysql.dialect()).ok()?;
    let mut out = String::new();
    let mut end = 0;
    for token in &tokens {
        let name = match &token.token.token {
            Token::DoubleQuotedString(name) => name,
            Token::Word(word) if word.quote_style == Some('"') => &word.value,
            _ => continue,
        };
        out.push_str(text.get(end..token.slice.start)?);
        out.push_str(&format!("`{}`", name.replace('`', "``")));
        end = token.slice.end;
    }
    out.push_str(text.get(end..)?);
    Some(out)
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
        let odd = read("BEGIN NEW := f(NEW); EXECUTE x; RETURN NULL; END", Language::Postgres);
        assert_eq!((odd.new_whole, odd.dynamic, odd.skips), (true, true, true));
        let known = read("BEGIN EXECUTE 'UPDATE log SET n = 1' USING x; RETURN NEW; END", Language::Postgres);
        assert_eq!((tables(&known), known.dynamic), (vec!["log".to_owned()], false));
        assert!(read("BEGIN EXECUTE 'UPDATE ' || t; END", Language::Postgres).dynamic);
        let grant = read("BEGIN EXECUTE 'GRANT SELECT ON t TO bob'; END", Language::Postgres);
        assert_eq!(grant.acts.len(), 1);
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
        for (text, written) in [
            ("UPDATE a JOIN b ON a.i = b.i SET b.x = 1", vec!["b(x)"]),
            ("UPDATE a, b SET b.x = 1, a.y = 2 WHERE a.i = b.i", vec!["a(y)", "b(x)"]),
            (
                "UPDATE log AS l JOIN deep.b AS k ON l.i = k.i SET k.x = f(1, 2), l.y = 3",
                vec!["log(y)", "b(x)"],
            ),
            ("UPDATE a JOIN b ON a.i = b.i SET x = 1", vec!["a(x)", "b(x)"]),
            ("DELETE k FROM a JOIN b AS k ON k.i = a.i", vec!["b()"]),
            ("DELETE FROM a, b USING a JOIN b ON a.i = b.i WHERE a.n IN (1, 2)", vec!["a()", "b()"]),
            ("DELETE FROM a WHERE i = 1", vec!["a()"]),
        ] {
            let found = read(&format!("BEGIN {text}; END"), Language::Mysql);
            let shown = found.writes.iter().map(|w| format!("{}({})", w.table, w.columns.join(" ")));
            assert_eq!(shown.collect::<Vec<_>>(), written, "{text}");
        }
        let quoted = without_ansi_quotes("UPDATE \"a\" JOIN \"b c\" SET \"b c\".x = 'it''s \"so\"'").unwrap();
        assert_eq!(quoted, "UPDATE `a` JOIN `b c` SET `b c`.x = 'it''s \"so\"'");
        let drop = read("BEGIN DROP TABLE IF EXISTS x; PERFORM setval('s', 1); END", Language::Postgres);
        assert_eq!((drop.acts.len(), drop.calls), (1, vec!["setval".to_owned()]));
        assert_eq!(read("'open", Language::Postgres), Routine::unknown());
    }
}
