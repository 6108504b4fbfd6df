//! The change file: any SQL client can run it; our part is TOML in block comments whose first line is exactly
//! `/* marktwice` (about the file) or `/* marktwice step` (about the statement that follows).

use std::str::FromStr;

use marktwice_core::finding::Place;
use marktwice_core::{Code, Expect};
use serde::Deserialize;

use crate::language::Language;
use crate::text::{Tok, statements, tokenize};

/// A change: the user's text and what it says about itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// The whole text, byte order mark stripped.
    pub source: String,
    /// A short title.
    pub title: Option<String>,
    /// Why it is done.
    pub reason: Option<String>,
    /// Expected matched rows.
    pub rows: Option<Expect>,
    /// Expected changed rows.
    pub changes: Option<Expect>,
    /// Findings that are let pass.
    pub allow: Vec<Code>,
}

/// What is wrong with a change file.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{message}")]
pub struct ChangeError {
    /// What is wrong.
    pub message: String,
    /// Where, when it has a place.
    pub place: Option<Place>,
    /// What to do.
    pub hint: String,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Header {
    title: Option<String>,
    reason: Option<String>,
    #[serde(default, deserialize_with = "expectation")]
    rows: Option<Expect>,
    #[serde(default, deserialize_with = "expectation")]
    changes: Option<Expect>,
    #[serde(default, deserialize_with = "codes")]
    allow: Vec<Code>,
}

/// What a block about one step may say.
const STEP_KEYS: &str = "rows, changes and allow";

fn expectation<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Option<Expect>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged, expecting = "an expected count: 12, \"1-20\", \"1+\" or \"all\"")]
    enum Form {
        Number(i64),
        Text(String),
    }
    let text = match Form::deserialize(deserializer)? {
        Form::Number(n) => n.to_string(),
        Form::Text(text) => text,
    };
    Expect::from_str(&text).map(Some).map_err(serde::de::Error::custom)
}

fn codes<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Vec<Code>, D::Error> {
    Vec::<String>::deserialize(deserializer)?
        .iter()
        .map(|text| {
            text.parse::<Code>().map_err(|()| {
                let near = crate::near::nearest(text, Code::ALL.iter().map(|c| c.as_str()));
                let hint = near.map_or(String::new(), |n| format!("; did you mean `{n}`?"));
                serde::de::Error::custom(format!("`{text}` is no finding's code{hint}"))
            })
        })
        .collect()
}

/// What a block comment is to us.
enum Block {
    Foreign,
    File,
    Step,
    Mistyped,
}

fn classify(comment: &str) -> Block {
    match comment.lines().next().unwrap_or("") {
        " marktwice" => Block::File,
        " marktwice step" => Block::Step,
        first => {
            let word = first.trim().to_ascii_lowercase().replace([' ', '-', '_', ':'], "");
            if word.starts_with("marktwice") { Block::Mistyped } else { Block::Foreign }
        }
    }
}

impl Change {
    /// Reads a change from its text.
    ///
    /// A text that cannot be cut into tokens is taken without a header: the engine's own error about it, which
    /// comes later, says more.
    ///
    /// # Errors
    /// When a block of ours is mistyped, stands after its statement, is not TOML, or says what it may not.
    pub fn parse(text: &str, language: Language) -> Result<Change, ChangeError> {
        let source = text.strip_prefix('\u{feff}').unwrap_or(text).to_owned();
        let Ok(tokens) = tokenize(&source, language.dialect()) else {
            if source.contains("/* marktwice") {
                return Err(ChangeError {
                    message: "a quote or a comment is not closed, so the marktwice block cannot be trusted"
                        .into(),
                    place: tokenize(&source, language.dialect()).err().map(|e| e.place),
                    hint: "close it".into(),
                });
            }
            return Ok(Change::bare(source));
        };
        let mut change = Change::bare(source);
        let mut seen = (false, false);
        let first_word = tokens.iter().position(|t| !t.is_blank()).unwrap_or(tokens.len());
        for (at, token) in tokens.iter().enumerate() {
            let Some(comment) = token.block_comment() else { continue };
            let step = match classify(comment) {
                Block::Foreign => continue,
                Block::Mistyped => return Err(change.mistyped(token)),
                Block::File => false,
                Block::Step => true,
            };
            if at > first_word {
                return Err(change.error(
                    token,
                    "a marktwice block stands after the statement it is about",
                    "put it in front of the statement",
                ));
            }
            if std::mem::replace(if step { &mut seen.1 } else { &mut seen.0 }, true) {
                return Err(change.error(token, "there are two blocks of the same kind", "make them one"));
            }
            change.read_block(token, comment, step)?;
        }
        Ok(change)
    }

    fn bare(source: String) -> Change {
        Change { source, title: None, reason: None, rows: None, changes: None, allow: Vec::new() }
    }

    fn read_block(&mut self, token: &Tok, comment: &str, step: bool) -> Result<(), ChangeError> {
        let first_line = comment.find('\n').map_or(comment.len(), |at| at + 1);
        let body = comment.get(first_line..).unwrap_or("");
        let offset = token.slice.start + 2 + first_line;
        let header: Header = toml::from_str(body).map_err(|error| {
            let span = error.span().unwrap_or(0..0);
            ChangeError {
                message: one_line(error.message()),
                place: Some(Place::in_source(&self.source, offset + span.start, offset + span.end)),
                hint: "a block may say title, reason, rows, changes and allow".into(),
            }
        })?;
        let Header { title, reason, rows, changes, allow } = header;
        if step && (title.is_some() || reason.is_some()) {
            return Err(self.error(
                token,
                &format!("title and reason are about the whole file; a step block may say {STEP_KEYS}"),
                "move them into a block that begins with `/* marktwice`",
            ));
        }
        if (rows.is_some() && self.rows.is_some()) || (changes.is_some() && self.changes.is_some()) {
            return Err(self.error(token, "an expected count is said twice", "say it once"));
        }
        self.title = title.or(self.title.take());
        self.reason = reason.or(self.reason.take());
        self.rows = rows.or(self.rows);
        self.changes = changes.or(self.changes);
        self.allow.extend(allow);
        Ok(())
    }

    fn mistyped(&self, token: &Tok) -> ChangeError {
        self.error(
            token,
            "this comment looks like a marktwice block and is not one, so what it says would be ignored",
            "its first line must be exactly `/* marktwice` or `/* marktwice step`",
        )
    }

    fn error(&self, token: &Tok, message: &str, hint: &str) -> ChangeError {
        ChangeError {
            message: message.to_owned(),
            place: Some(Place::in_source(&self.source, token.slice.start, token.slice.end)),
            hint: hint.to_owned(),
        }
    }

    /// How many statements the text holds, when it can be cut into tokens at all.
    pub fn statement_count(&self, language: Language) -> Option<usize> {
        tokenize(&self.source, language.dialect()).ok().map(|tokens| statements(&tokens).len())
    }
}

fn one_line(message: &str) -> String {
    message.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_whole_header() {
        let text = "\u{feff}/* marktwice\ntitle = \"Two keepers move\"\nrows = \"1-20\"\nchanges = 2\nallow = [\"key-change\"]\n*/\nUPDATE keeper SET a = 1;";
        let change = Change::parse(text, Language::Sqlite).unwrap();
        assert_eq!(change.title.as_deref(), Some("Two keepers move"));
        assert_eq!(change.rows, Some(Expect::Range(1, Some(20))));
        assert_eq!(change.changes, Some(Expect::Range(2, Some(2))));
        assert_eq!(change.allow, [Code::KeyChange]);
        assert_eq!(change.statement_count(Language::Sqlite), Some(1));
    }

    #[test]
    fn crlf_and_step_blocks() {
        let text =
            "/* marktwice\r\ntitle = \"t\"\r\n*/\r\n/* marktwice step\r\nrows = 3\r\n*/\r\nDELETE FROM sale";
        let change = Change::parse(text, Language::Sqlite).unwrap();
        assert_eq!((change.title.as_deref(), change.rows), (Some("t"), Some(Expect::Range(3, Some(3)))));
    }

    #[test]
    fn errors_have_their_place() {
        for (text, line, column, part) in [
            ("/* marktwice\ntitle = \"x\"\nrosw = 2\n*/\nDELETE FROM sale", 3, 1, "rosw"),
            ("/* marktwice\nrows = \"two\"\n*/\nDELETE FROM sale", 2, 8, "not an expected count"),
            ("/* marktwice\nrows = -1\n*/\nDELETE FROM sale", 2, 8, "not an expected count"),
            ("/* marktwice\nallow = [\"no-filtre\"]\n*/\nDELETE FROM sale", 2, 9, "did you mean `no-filter`"),
            ("/* marktwice\ntitle = \n*/\nDELETE FROM sale", 2, 9, ""),
            ("/*marktwice\nrows = 2\n*/\nDELETE FROM sale", 1, 1, "looks like"),
            ("/* Mark Twice\nrows = 2\n*/\nDELETE FROM sale", 1, 1, "looks like"),
            ("DELETE FROM sale /* marktwice\nrows = 2\n*/", 1, 18, "after the statement"),
            ("/* marktwice step\ntitle = \"x\"\n*/\nDELETE FROM sale", 1, 1, "whole file"),
            ("/* marktwice\nrows = 1\n*/\n/* marktwice step\nrows = 2\n*/DELETE FROM sale", 4, 1, "twice"),
        ] {
            let error = Change::parse(text, Language::Sqlite).unwrap_err();
            let place = error.place.clone().unwrap();
            assert_eq!((place.line, place.column), (line, column), "{text}: {}", error.message);
            assert!(error.message.contains(part), "{text}: {}", error.message);
        }
    }

    #[test]
    fn other_comments_and_look_alikes_in_texts_are_left_alone() {
        let text = "/* about marktwice */ UPDATE k SET a = '/* marktwice\nrows = 9\n*/' -- marktwice";
        assert_eq!(Change::parse(text, Language::Sqlite).unwrap().rows, None);
    }
}
