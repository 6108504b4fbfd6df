//! What a text must hold before the engine is asked: exactly one UPDATE, DELETE or INSERT. Anything else is refused here, with
//! what to write instead.

use marktwice_core::finding::{Code, Finding, TextPlace};
use sqlparser::tokenizer::Token;

use super::{at_depth_0, significant, span_place, whole};
use crate::dialect::language::Language;
use crate::query::placeholders::placeholders;
use crate::refuse::instead;
use crate::text::slices::Slice;
use crate::text::{Tok, statements, tokenize};

/// The careful habit itself: BEGIN, a look, the change, a look, COMMIT. All but the change is done for them.
pub(crate) const AROUND: &[&str] =
    &["begin", "start", "commit", "end", "rollback", "select", "savepoint", "release"];

/// What a text holds, before the engine is asked: exactly one UPDATE, DELETE or INSERT.
///
/// # Errors
/// A stop finding that says what to write instead.
pub fn single_statement(source: &str, language: Language) -> Result<Slice, Finding> {
    if let Some(at) = source.find('\0') {
        // The engine would stop reading here, and a WHERE behind it would be lost.
        return Err(Finding::new(Code::NotUnderstood, "there is a NUL character in the text")
            .at(TextPlace::in_source(source, at, at + 1))
            .hint("take it out; in a value, write char(0)"));
    }
    if language == Language::Mysql {
        executable_comment(source)?;
    }
    let tokens = tokenize(source, language.dialect()).map_err(|error| {
        let message = format!("the text cannot be cut into words: {}", error.message);
        // An open comment is noticed at the end; where it begins is what a person wants to see.
        let open = source.rfind("/*").filter(|at| !source.get(*at..).is_some_and(|rest| rest.contains("*/")));
        match open.filter(|_| error.message.contains("comment")) {
            Some(at) => Finding::new(Code::NotUnderstood, message)
                .at(TextPlace::in_source(source, at, at + 2))
                .hint("close the comment"),
            None => Finding::new(Code::NotUnderstood, message)
                .at(error.place)
                .hint("close the quote; a quote inside a text is written twice: 'O''Dell'"),
        }
    })?;
    let all = statements(&tokens);
    let Some(first) = all.first() else {
        return Err(Finding::new(Code::NotAChange, "there is no statement")
            .hint("write an UPDATE, a DELETE or an INSERT"));
    };
    let first = significant(first);
    if let Some(second) = all.get(1) {
        let at = significant(second);
        let more = all.len();
        let message = format!("there are {more} statements, and not all of them are steps of a change");
        let changes: Vec<&str> = all
            .iter()
            .map(|s| significant(s))
            .filter(|s| !s.first().is_some_and(|t| t.is_any(AROUND)))
            .map(|words| whole(&words).of(source))
            .collect();
        let odd = all.iter().map(|s| significant(s)).find(|s| s.first().is_some_and(|t| t.is_any(AROUND)));
        let finding = Finding::new(Code::SeveralStatements, message)
            .at(span_place(source, odd.as_deref().unwrap_or(&at)));
        return Err(if changes.is_empty() {
            finding
        } else {
            finding
                .hint("leave out BEGIN, SELECT and COMMIT: looking, the transaction and its end are taken care of:")
                .paste(format!("{};", changes.join(";\n")))
        });
    }
    let verb = main_verb(&first);
    match verb.and_then(Tok::word).as_deref() {
        Some("update" | "delete" | "insert" | "replace") => {}
        word => {
            let finding = not_a_change(source, verb.or(first.first().copied()));
            let paste = match word {
                Some("truncate") => instead::truncate(source, &first),
                Some("merge") => instead::merge(source, &first, language),
                _ => None,
            };
            return Err(match paste {
                Some(paste) => finding.paste(paste),
                None => finding,
            });
        }
    }
    // Those that are written `:name` are given their values.
    let named = placeholders(source, language);
    let nameless = |t: &Tok| !named.iter().any(|(range, _)| range.start == t.slice.start);
    if let Some(parameter) = first.iter().find(|t| is_parameter(t, language) && nameless(t)) {
        let (start, end) = (parameter.slice.start, parameter.slice.end);
        return Err(Finding::new(Code::NotUnderstood, "the statement has a parameter that nobody fills in")
            .at(TextPlace::in_source(source, start, end))
            .hint("write :name and give it a value (--with name=VALUE), or write the value in its place"));
    }
    Ok(whole(&first))
}

/// The engine runs what stands in `/*! … */`, and no reader sees it: a WHERE in there may or may not count.
fn executable_comment(source: &str) -> Result<(), Finding> {
    let Some(at) = ["/*!", "/*M!"].iter().filter_map(|mark| source.find(mark)).min() else {
        return hint_that_sets(source);
    };
    // Inside a text in quotes it is no comment; what cannot be cut into tokens is refused later.
    let blind: String = source.replace("/*!", "/**").replace("/*M!", "/***");
    let in_text = tokenize(&blind, Language::Mysql.dialect())
        .is_ok_and(|tokens| tokens.iter().any(|t| !t.is_blank() && t.slice.start < at && t.slice.end > at));
    if in_text {
        return Ok(());
    }
    Err(Finding::new(Code::NotUnderstood, "the engine would execute this comment")
        .at(TextPlace::in_source(source, at, at + 3))
        .hint("write what is meant without the comment around it"))
}

/// A hint may set a variable for its statement, `foreign_key_checks` for one.
fn hint_that_sets(source: &str) -> Result<(), Finding> {
    let tokens = tokenize(source, Language::Mysql.dialect()).unwrap_or_default();
    let sets = |token: &&Tok| {
        let comment = token.block_comment().filter(|text| text.starts_with('+'));
        comment.is_some_and(|text| text.to_ascii_lowercase().contains("set_var"))
    };
    let Some(hint) = tokens.iter().find(sets) else { return Ok(()) };
    Err(Finding::new(Code::NotUnderstood, "the hint SET_VAR changes settings while the statement runs")
        .at(TextPlace::in_source(source, hint.slice.start, hint.slice.end))
        .hint("leave it out; settings for a change stand in its block: [session]"))
}

fn is_parameter(token: &Tok, language: Language) -> bool {
    match (&token.token.token, language) {
        (Token::Placeholder(_), _) => true,
        // In PostgreSQL these are operators and array slices.
        (Token::Colon | Token::AtSign, Language::Sqlite | Language::Mysql) => true,
        (Token::Word(w), Language::Mysql) => {
            w.quote_style.is_none() && w.value.starts_with('@') && !w.value.starts_with("@@")
        }
        _ => false,
    }
}

fn not_a_change(source: &str, verb: Option<&Tok>) -> Finding {
    let word = verb.map(|t| t.slice.of(source).to_uppercase()).unwrap_or_default();
    let (message, hint) = match word.as_str() {
        "SELECT" | "VALUES" | "EXPLAIN" => (
            format!("{word} reads; there is nothing to apply"),
            "write the UPDATE or DELETE itself; its preview shows the rows".to_owned(),
        ),
        "TRUNCATE" => (
            "TRUNCATE empties a table without a row being looked at".to_owned(),
            "write a DELETE, with rows = \"all\":".to_owned(),
        ),
        "MERGE" => (
            "MERGE writes in several ways at once".to_owned(),
            "write its branches apart, one change for each:".to_owned(),
        ),
        "BEGIN" | "COMMIT" | "END" | "ROLLBACK" | "SAVEPOINT" | "RELEASE" | "START" => (
            format!("{word} is transaction control; the transaction is opened and ended for you"),
            "leave it out".to_owned(),
        ),
        "CREATE" | "DROP" | "ALTER" | "REINDEX" | "RENAME" | "COMMENT" | "CLUSTER" => {
            (format!("{word} changes definitions, not rows"), "run it in the engine's own shell".to_owned())
        }
        "GRANT" | "REVOKE" | "DENY" => {
            (format!("{word} changes rights, not rows"), "run it in the engine's own shell".to_owned())
        }
        "CALL" | "DO" | "EXECUTE" | "EXEC" | "PREPARE" | "DECLARE" => (
            format!("{word} runs code of its own, and nobody can tell beforehand which rows that writes"),
            "write the UPDATE or DELETE that is meant".to_owned(),
        ),
        "COPY" | "LOAD" => (
            format!("{word} brings rows in from a file"),
            "bring them into a table of their own in the engine's own shell, and INSERT … SELECT from it"
                .to_owned(),
        ),
        "LOCK" | "UNLOCK" => {
            (format!("{word} is not needed: the matched rows are held for you"), "leave it out".to_owned())
        }
        "PRAGMA" | "ATTACH" | "DETACH" | "VACUUM" | "ANALYZE" | "SET" | "USE" => (
            format!("{word} changes settings or files, not rows"),
            "leave it out; run it in the engine's own shell if it is needed".to_owned(),
        ),
        _ => {
            let near = marktwice_core::near::nearest(&word, ["UPDATE", "DELETE", "INSERT"]);
            let hint = near.map_or("begin the statement with UPDATE, DELETE or INSERT".to_owned(), |n| {
                format!("did you mean {n}?")
            });
            ("this is no UPDATE, DELETE or INSERT".to_owned(), hint)
        }
    };
    let finding = Finding::new(Code::NotAChange, message).hint(hint);
    match verb {
        Some(token) => finding.at(TextPlace::in_source(source, token.slice.start, token.slice.end)),
        None => finding,
    }
}

/// The verb of the statement: its first word, or the first verb at depth 0 behind a WITH clause.
pub(crate) fn main_verb<'a>(tokens: &[&'a Tok]) -> Option<&'a Tok> {
    let first = *tokens.first()?;
    if !first.is_word("with") {
        return Some(first);
    }
    at_depth_0(tokens, 1)
        .map(|(_, t)| t)
        .find(|t| t.is_any(&["update", "delete", "select", "insert", "replace", "values", "merge"]))
}
