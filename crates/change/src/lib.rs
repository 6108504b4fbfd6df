//! The change file: any client of the engine can run it; our part is TOML in block comments whose first line is exactly
//! `/* marktwice` (about the file) or `/* marktwice step` (about the step that follows).
//!
//! Nothing here knows a query language: an engine's [`Language`] says where comments and steps stand.

use std::collections::BTreeMap;
use std::ops::Range;
use std::str::FromStr;

use marktwice_core::asked::QueryCheck;
use marktwice_core::change::{AlreadySo, Change, ChangeStep, Setting, Terms};
use marktwice_core::check::EachCheck;
use marktwice_core::finding::TextPlace;
use marktwice_core::side::AlsoWrites;
use marktwice_core::{Code, Expect};
use marktwice_port::Language;
use serde::Deserialize;

mod checks;
pub mod params;
pub mod sheets;

use checks::Check;
use params::{Declared, Expected};
use sheets::SheetBlock;

/// What is wrong with a change file.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{message}")]
pub struct ChangeError {
    /// What is wrong.
    pub message: String,
    /// Where, when it has a place.
    pub place: Option<TextPlace>,
    /// What to do.
    pub hint: String,
}

/// What a block may say, about the file and about a step.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Header {
    title: Option<String>,
    reason: Option<String>,
    name: Option<String>,
    #[serde(default, deserialize_with = "expectation")]
    rows: Option<Expect>,
    #[serde(default, deserialize_with = "expectation")]
    changes: Option<Expect>,
    #[serde(default, deserialize_with = "codes")]
    allow: Vec<Code>,
    #[serde(default)]
    also_writes: Vec<AlsoWrites>,
    columns: Option<Vec<String>>,
    already_so: Option<AlreadySo>,
    archive_to: Option<String>,
    keep: Option<String>,
    #[serde(default)]
    params: BTreeMap<String, Declared>,
    #[serde(default)]
    sheet: BTreeMap<String, SheetBlock>,
    #[serde(default)]
    session: BTreeMap<String, String>,
    #[serde(default)]
    was: BTreeMap<String, Said>,
    #[serde(default)]
    check: Vec<Check>,
}

/// What a column was said to hold: a value, or a list of those that will do.
#[derive(Debug, Deserialize)]
#[serde(transparent)]
struct Said(toml::Value);

impl Said {
    /// The values as they would be typed; the error says what it is instead.
    fn values(&self) -> Result<Vec<String>, &'static str> {
        let one = |value: &toml::Value| match value {
            toml::Value::String(text) => Ok(text.clone()),
            toml::Value::Integer(_)
            | toml::Value::Float(_)
            | toml::Value::Boolean(_)
            | toml::Value::Datetime(_) => Ok(value.to_string()),
            toml::Value::Array(_) | toml::Value::Table(_) => Err("something that is no value"),
        };
        match &self.0 {
            toml::Value::Array(all) if all.is_empty() => Err("an empty list"),
            toml::Value::Array(all) => all.iter().map(one).collect(),
            value => Ok(vec![one(value)?]),
        }
    }
}

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
                let near = marktwice_core::near::nearest(text, Code::ALL.iter().map(|c| c.as_str()));
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

/// Reads a change from its text. A byte order mark is left out.
///
/// A text that cannot be cut is taken without a header, as one step: the engine's own error about it, which comes later,
/// says more.
///
/// # Errors
/// When a block of ours is mistyped, stands where it belongs to no step, is not TOML, or says what it may not.
pub fn read(text: &str, language: &dyn Language) -> Result<Change, ChangeError> {
    read_whole(text, language).map(|(change, _)| change)
}

/// What a text declares besides, which needs values or files.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct More {
    /// Parameters.
    pub params: Vec<Expected>,
    /// Sheets, by name.
    pub sheets: BTreeMap<String, SheetBlock>,
}

/// The same, with what it declares.
///
/// # Errors
/// As [`read`].
pub fn read_whole(text: &str, language: &dyn Language) -> Result<(Change, More), ChangeError> {
    let source = text.strip_prefix('\u{feff}').unwrap_or(text).to_owned();
    let cut = match language.cut(&source) {
        Ok(cut) => cut,
        Err(place) if source.contains("/* marktwice") => {
            return Err(ChangeError {
                message: "a quote or a comment is not closed, so the marktwice block cannot be trusted"
                    .into(),
                place: Some(place),
                hint: "close it".into(),
            });
        }
        Err(_) => return Ok((Change::of(source), More::default())),
    };
    let step = |range: Range<usize>| ChangeStep { terms: Terms::default(), range };
    let mut steps: Vec<ChangeStep> = cut.steps.into_iter().map(step).collect();
    if steps.is_empty() {
        steps.push(step(0..source.len()));
    }
    let mut reader = Reader {
        change: Change { steps, ..Change::of(source) },
        file: false,
        blocks: Vec::new(),
        checks: Vec::new(),
        more: More::default(),
    };
    for comment in cut.comments {
        reader.comment(comment)?;
    }
    reader.give_checks()?;
    Ok((reader.change, reader.more))
}

/// A text for a block about the whole file, with what is known already.
pub fn block(title: &str, rows: Option<u64>) -> String {
    let rows = rows.map_or(String::new(), |n| format!("rows   = {n}\n"));
    format!("/* marktwice\ntitle  = {}\nreason = \"\"\n{rows}*/\n", toml::Value::String(title.to_owned()))
}

/// A text for a block about one step.
pub fn step_block(rows: Option<u64>) -> String {
    rows.map_or(String::new(), |n| format!("/* marktwice step\nrows = {n}\n*/\n"))
}

/// How a check is said.
const CHECK: &str = "say sql with one of gives, at_least and at_most (or both), empty, unchanged and changes_by; or each, a condition over old and new";

struct Reader {
    change: Change,
    /// Whether a block about the file was read.
    file: bool,
    /// Steps that have a block of their own.
    blocks: Vec<usize>,
    /// Checks, each with its block and the step whose block that is.
    checks: Vec<(Range<usize>, Option<usize>, Check)>,
    /// What is declared.
    more: More,
}

impl Reader {
    fn comment(&mut self, inside: Range<usize>) -> Result<(), ChangeError> {
        let comment = self.change.source.get(inside.clone()).unwrap_or_default().to_owned();
        let step = match classify(&comment) {
            Block::Foreign => return Ok(()),
            Block::Mistyped => {
                return Err(self.error(
                    &inside,
                    "this comment looks like a marktwice block and is not one, so what it says would be ignored",
                    "its first line must be exactly `/* marktwice` or `/* marktwice step`",
                ));
            }
            Block::File => false,
            Block::Step => true,
        };
        // A text without any step has no place for a block, and the engine's side says so.
        let empty = self.change.steps.iter().all(|s| s.range == (0..self.change.source.len()));
        let starts = self.change.steps.iter().map(|s| s.range.start).collect::<Vec<_>>();
        let next = starts.iter().position(|start| *start >= inside.end).or(empty.then_some(0));
        // What is about the file stands in front of all steps.
        let next = next.filter(|next| step || *next == 0);
        let within = |s: &ChangeStep| s.range.contains(&inside.start);
        let Some(next) = next.filter(|_| empty || !self.change.steps.iter().any(within)) else {
            return Err(self.error(
                &inside,
                "a marktwice block stands after the statement it is about",
                "put it in front of the statement",
            ));
        };
        let again = if step {
            let again = self.blocks.contains(&next);
            self.blocks.push(next);
            again
        } else {
            std::mem::replace(&mut self.file, true)
        };
        if again {
            return Err(self.error(&inside, "there are two blocks of the same kind", "make them one"));
        }
        self.read(&inside, &comment, step.then_some(next))
    }

    fn read(&mut self, inside: &Range<usize>, comment: &str, step: Option<usize>) -> Result<(), ChangeError> {
        let first_line = comment.find('\n').map_or(comment.len(), |at| at + 1);
        let body = comment.get(first_line..).unwrap_or("");
        let offset = inside.start + first_line;
        let header: Header = toml::from_str(body).map_err(|error| {
            let span = error.span().unwrap_or(0..0);
            ChangeError {
                message: one_line(error.message()),
                place: Some(TextPlace::in_source(
                    &self.change.source,
                    offset + span.start,
                    offset + span.end,
                )),
                hint: format!("a block may say title, reason, params, sheet, session, {}", Terms::KEYS),
            }
        })?;
        let Header {
            title,
            reason,
            name,
            rows,
            changes,
            allow,
            also_writes,
            columns,
            already_so,
            archive_to,
            keep,
            params,
            sheet,
            session,
            was,
            check,
        } = header;
        if step.is_some() && !(params.is_empty() && sheet.is_empty() && session.is_empty()) {
            let what = "parameters, sheets and settings of the session are about the whole file";
            return Err(self.error(inside, what, "move them into a block that begins with `/* marktwice`"));
        }
        for (name, declared) in params {
            let form = "write [params.NAME] with type = \"date\" (text, integer, decimal, real, boolean, date, time, moment), default and meaning";
            self.more.params.push(declared.named(&name).map_err(|what| self.error(inside, &what, form))?);
        }
        self.more.sheets.extend(sheet);
        self.change.session.extend(session.into_iter().map(|(name, value)| Setting { name, value }));
        if let Some(name) = keep.as_deref().filter(|name| !params::is_name(name)) {
            let what = format!("keep says \"{name}\", which is no name of a parameter");
            return Err(self.error(inside, &what, "write letters, digits and _"));
        }
        if keep.is_some() && rows.is_some_and(|rows| rows != Expect::Range(1, Some(1))) {
            let what = "keep keeps the key of one row, and another number of rows is expected";
            return Err(self.error(inside, what, "bring that row in by a step of its own"));
        }
        let rows = rows.or(keep.as_ref().map(|_| Expect::Range(1, Some(1))));
        let mut each = Vec::new();
        for (column, said) in was {
            let values = said.values().map_err(|what| {
                let what = format!("was.{column} says {what}");
                self.error(inside, &what, "write the old value as a text, a number, or a list of these")
            })?;
            each.push(EachCheck::was(&column, values));
        }
        let mut terms =
            Terms { name, rows, changes, allow, also_writes, columns, already_so, archive_to, keep, each };
        self.checks.extend(check.into_iter().map(|check| (inside.clone(), step, check)));
        let several = self.change.steps.len() > 1;
        let own = Terms { allow: Vec::new(), ..terms.clone() } != Terms::default();
        if step.is_some() && (title.is_some() || reason.is_some()) {
            return Err(self.error(
                inside,
                &format!("title and reason are about the whole file; a step block may say {}", Terms::KEYS),
                "move them into a block that begins with `/* marktwice`",
            ));
        }
        if step.is_none() && several && own {
            return Err(self.error(
                inside,
                "what is expected of rows and columns is about one step, and there are several",
                "move them into a block that begins with `/* marktwice step`, in front of their step",
            ));
        }
        if step.is_none() {
            self.change.title = title.filter(|t| !t.trim().is_empty());
            self.change.reason = reason.filter(|t| !t.trim().is_empty());
            self.change.allow.append(&mut terms.allow);
        }
        let at = step.unwrap_or(0);
        let said = self.change.terms(at);
        if said.said_twice(&terms).is_some() {
            return Err(self.error(inside, "one thing is said twice", "say it once"));
        }
        if let Some(step) = self.change.steps.get_mut(at) {
            step.terms = said.under(terms);
        }
        Ok(())
    }

    /// Gives each check to its step, once all steps have their names.
    fn give_checks(&mut self) -> Result<(), ChangeError> {
        for (inside, own, check) in std::mem::take(&mut self.checks) {
            let wants = check.wants().map_err(|what| self.error(&inside, &what, CHECK))?;
            let Check { name, each, step, sql, .. } = check;
            let each = match (each, sql, wants) {
                (Some(each), None, None) => each,
                (None, Some(sql), Some(wants)) if step.is_none() => {
                    self.change.checks.push(QueryCheck { name, sql, wants, hidden: false });
                    continue;
                }
                (None, Some(_), Some(_)) => {
                    let what = "a check by a query is about the whole change, not about a step";
                    return Err(self.error(&inside, what, "leave step out"));
                }
                (None, Some(_), None) => {
                    return Err(self.error(&inside, "a check does not say what its query must give", CHECK));
                }
                _ => {
                    return Err(self.error(
                        &inside,
                        "a check says neither one condition nor one query",
                        CHECK,
                    ));
                }
            };
            let several = self.change.steps.len() > 1;
            let named = |step: &str| {
                let names = self.change.steps.iter().map(|s| s.terms.name.as_deref());
                names.enumerate().find(|(_, name)| *name == Some(step)).map(|(at, _)| at)
            };
            let at = match (own, step.as_deref()) {
                (Some(own), None) => Some(own),
                (None, None) if !several => Some(0),
                (_, Some(step)) => named(step).filter(|at| own.is_none_or(|own| own == *at)),
                (None, None) => None,
            };
            let Some(at) = at else {
                let what = match &step {
                    Some(step) => format!("a check is about step \"{step}\", and no step here has that name"),
                    None => "a check does not say which step it is about, and there are several".to_owned(),
                };
                let hint = "say step = \"NAME\", or write the check into the step's own block";
                return Err(self.error(&inside, &what, hint));
            };
            if let Some(step) = self.change.steps.get_mut(at) {
                step.terms.each.push(EachCheck { name, each, was: None });
            }
        }
        Ok(())
    }

    fn error(&self, inside: &Range<usize>, message: &str, hint: &str) -> ChangeError {
        ChangeError {
            message: message.to_owned(),
            // With the signs around it.
            place: Some(TextPlace::in_source(&self.change.source, inside.start - 2, inside.end + 2)),
            hint: hint.to_owned(),
        }
    }
}

fn one_line(message: &str) -> String {
    message.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use marktwice_core::asked::{Wanted, Wants};
    use marktwice_sql::Language;

    #[test]
    fn a_whole_header() {
        let text = "\u{feff}/* marktwice\ntitle = \"Two keepers move\"\nrows = \"1-20\"\nchanges = 2\nallow = [\"key-change\"]\n*/\nUPDATE keeper SET a = 1;";
        let change = read(text, &Language::Sqlite).unwrap();
        assert_eq!(change.title.as_deref(), Some("Two keepers move"));
        assert_eq!(change.terms(0).rows, Some(Expect::Range(1, Some(20))));
        assert_eq!(change.terms(0).changes, Some(Expect::Range(2, Some(2))));
        assert_eq!(change.allow, [Code::KeyChange]);
        assert_eq!(change.steps.len(), 1);
    }

    #[test]
    fn checks_by_a_query() {
        let check = |said: &str| {
            let text = format!("/* marktwice\n[[check]]\n{said}\n*/\nDELETE FROM sale");
            read(&text, &Language::Sqlite).map(|change| change.checks).map_err(|error| error.message)
        };
        for (said, wants) in [
            ("sql = \"SELECT 1\"\ngives = 0", Wants::Gives(Wanted::Number(0.into()))),
            (
                "sql = \"SELECT 1\"\nat_least = 1\nat_most = 3",
                Wants::Between(Wanted::Number(1.into()), Wanted::Number(3.into())),
            ),
            ("sql = \"SELECT 1\"\nat_least = 2026-05-10", Wants::AtLeast(Wanted::Text("2026-05-10".into()))),
            ("sql = \"SELECT 1\"\nempty = true", Wants::Empty(true)),
            ("sql = \"SELECT 1\"\nchanges_by = -2", Wants::ChangesBy(Wanted::Number((-2).into()))),
            ("sql = \"SELECT 1\"\ngives = \"0\"", Wants::Gives(Wanted::Text("0".into()))),
        ] {
            assert_eq!(check(said).unwrap()[0].wants, wants, "{said}");
        }
        for (said, wrong) in [
            ("sql = \"SELECT 1\"", "must give"),
            ("gives = 1", "neither one condition nor one query"),
            ("sql = \"SELECT 1\"\ngives = 1\nempty = true", "two things"),
            ("sql = \"SELECT 1\"\neach = \"old.a = 1\"\ngives = 1", "neither"),
            ("sql = \"SELECT 1\"\nempty = false", "said as true"),
            ("sql = \"SELECT 1\"\nchanges_by = \"2\"", "no number"),
            ("sql = \"SELECT 1\"\nat_most = true", "no order"),
            ("sql = \"SELECT 1\"\ngives = [1]", "no value"),
            ("sql = \"SELECT 1\"\ngives = 1\nstep = \"a\"", "whole change"),
        ] {
            assert!(check(said).unwrap_err().contains(wrong), "{said}");
        }
    }

    #[test]
    fn crlf_and_step_blocks() {
        let text =
            "/* marktwice\r\ntitle = \"t\"\r\n*/\r\n/* marktwice step\r\nrows = 3\r\n*/\r\nDELETE FROM sale";
        let change = read(text, &Language::Sqlite).unwrap();
        assert_eq!(
            (change.title.as_deref(), change.terms(0).rows),
            (Some("t"), Some(Expect::Range(3, Some(3))))
        );
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
            let error = read(text, &Language::Sqlite).unwrap_err();
            let place = error.place.clone().unwrap();
            assert_eq!((place.line, place.column), (line, column), "{text}: {}", error.message);
            assert!(error.message.contains(part), "{text}: {}", error.message);
        }
    }

    #[test]
    fn other_comments_and_look_alikes_in_texts_are_left_alone() {
        let text = "/* about marktwice */ UPDATE k SET a = '/* marktwice\nrows = 9\n*/' -- marktwice";
        assert_eq!(read(text, &Language::Sqlite).unwrap().terms(0).rows, None);
    }

    #[test]
    fn several_steps() {
        let text = "/* marktwice\ntitle = \"Season's end\"\nallow = [\"not-unique\"]\n*/\n/* marktwice step\nname = \"hives\"\n\
                    rows = 3\n*/\nUPDATE hive SET queen = NULL WHERE apiary_id = 2;\n-- then\n/* marktwice step\nrows = \"1+\"\n*/\n\
                    DELETE FROM apiary WHERE apiary_id = 2;\n";
        let change = read(text, &Language::Sqlite).unwrap();
        assert_eq!(change.steps.len(), 2);
        assert_eq!(change.terms(0).name.as_deref(), Some("hives"));
        assert_eq!(change.terms(1).rows, Some(Expect::Range(1, None)));
        assert_eq!(change.allowed(1), [Code::NotUnique]);
        assert!(change.only(1).contains("DELETE") && !change.only(1).contains("UPDATE"));
        for (text, part) in [
            ("/* marktwice\nrows = 2\n*/\nDELETE FROM a; DELETE FROM b", "about one step"),
            ("DELETE FROM a; /* marktwice\ntitle = \"x\"\n*/ DELETE FROM b", "after the statement"),
            ("DELETE FROM a; DELETE /* marktwice step\nrows = 1\n*/ FROM b", "after the statement"),
            ("DELETE FROM a; DELETE FROM b; /* marktwice step\nrows = 1\n*/", "after the statement"),
            (
                "DELETE FROM a; /* marktwice step\nrows = 1\n*/ /* marktwice step\nrows = 1\n*/ DELETE FROM b",
                "two blocks",
            ),
        ] {
            let error = read(text, &Language::Sqlite).unwrap_err();
            assert!(error.message.contains(part), "{text}: {}", error.message);
        }
        // What is no chain of steps is left to the engine's side to refuse, as a whole.
        assert_eq!(read("BEGIN; DELETE FROM a; COMMIT", &Language::Sqlite).unwrap().steps.len(), 1);
    }
}
