//! A row as a form: its columns in the user's editor, a line each; only what differs is set.

use std::io::IsTerminal;
use std::path::Path;

use marktwice_core::{Target, TextPlace, Value};
use marktwice_port::Language;
use marktwice_run::OneRow;

use crate::human::{cell, one_line as escape};
use crate::report::Trouble;

/// A row, written down to be edited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Form {
    /// What is handed to the editor.
    pub(crate) text: String,
    /// By column: its name, and the value as it stands there.
    lines: Vec<(String, String)>,
}

/// What was edited: by column, the value as it stood there and as it stands now, as they are typed.
pub(crate) type Edits = Vec<(String, String, String)>;

impl Form {
    /// Writes a row down. `what` says which row it is and where.
    pub(crate) fn of(language: &dyn Language, target: &Target, seen: &OneRow, what: &str) -> Form {
        let mut text = format!(
            "# {}\n# Edit values, save, and close. Only what differs is set; where nothing does, nothing is done.\n\
             # NULL and DEFAULT are those words; a text in single quotes is taken to the letter ('NULL', ' x ', 'it''s').\n",
            escape(what)
        );
        let mut lines = Vec::new();
        for (at, column) in target.columns.iter().enumerate() {
            let value = seen.row.get(at).unwrap_or(&Value::Null);
            let mut about = vec![column.declared.clone()];
            about.retain(|declared| !declared.is_empty());
            about.extend(column.not_null.then(|| "not NULL".to_owned()));
            let means = seen.means.get(at).and_then(Option::as_deref);
            about.extend(means.map(|name| format!("now {name}")));
            let plain = !column.name.starts_with('#') && !column.name.contains(['=', '\n']);
            let typed = language.typed(column, value).filter(|_| plain);
            let why = match (&typed, column.generated, target.key.columns.contains(&at)) {
                (_, true, _) => Some("computed by the database"),
                (_, _, true) => Some("the key; it stays"),
                (None, ..) => Some("cannot be edited here"),
                _ => None,
            };
            about.extend(why.map(str::to_owned));
            text.push_str(&format!("\n# {}\n", escape(&about.join(", "))));
            match typed {
                Some(typed) if why.is_none() => {
                    text.push_str(&format!("{} = {typed}\n", column.name));
                    lines.push((column.name.clone(), typed));
                }
                shown => {
                    let shown = shown.map_or_else(|| cell(value), |shown| escape(&shown));
                    text.push_str(&format!("# {} = {shown}\n", escape(&column.name)));
                }
            }
        }
        Form { text, lines }
    }

    /// What differs in a text that came back.
    ///
    /// # Errors
    /// The place of a line that is no line of this form.
    pub(crate) fn edits(&self, text: &str) -> Result<Edits, Trouble> {
        let mut edits: Edits = Vec::new();
        let mut at = 0;
        let mut lines = text.split_inclusive('\n');
        let mut seen: Vec<&str> = Vec::new();
        while let Some(line) = lines.next() {
            let start = at;
            at += line.len();
            let wrong = |message: String, hint: String, end: usize| {
                let place = TextPlace::in_source(text, start, end.max(start + 1));
                Trouble::usage(message, hint).at("the form".to_owned(), place)
            };
            let shown = line.trim_end();
            if shown.trim().is_empty() || shown.trim_start().starts_with('#') {
                continue;
            }
            let end = start + shown.len();
            let Some((name, value)) = shown.split_once('=') else {
                return Err(wrong(
                    "this line has no equals sign".to_owned(),
                    "write COLUMN = VALUE, one line each; a text of several lines stands in single quotes"
                        .to_owned(),
                    end,
                ));
            };
            let name = name.trim();
            let known = self.lines.iter().find(|(known, _)| known == name);
            let Some((known, before)) = known else {
                let all: Vec<&str> = self.lines.iter().map(|(name, _)| name.as_str()).collect();
                let message = format!("{name} is no column of this form");
                return Err(wrong(message, format!("there are: {}", all.join(", ")), start + name.len()));
            };
            if seen.contains(&known.as_str()) {
                let hint = "leave one of them".to_owned();
                return Err(wrong(format!("{name} stands here twice"), hint, start + name.len()));
            }
            seen.push(known);
            let mut value = value.trim().to_owned();
            if value.starts_with('\'') {
                // A text in quotes goes on until it is closed.
                while value.matches('\'').count() % 2 == 1 {
                    let Some(more) = lines.next() else {
                        let hint =
                            "close it, or write a quote at the beginning of a text twice, in quotes: '''tis'";
                        return Err(wrong("this quote is not closed".to_owned(), hint.to_owned(), end));
                    };
                    at += more.len();
                    value = format!("{value}\n{}", more.trim_end_matches(['\n', '\r']));
                }
                value.truncate(value.trim_end().len());
            }
            if value != *before {
                edits.push((known.clone(), before.clone(), value));
            }
        }
        Ok(edits)
    }
}

/// Marks what was wrong with a form that is opened again.
const WRONG: &str = "#! ";

/// Lets a person edit a file where it is.
///
/// # Errors
/// When there is no editor, or it fails.
pub(crate) fn edit_file(file: &Path) -> Result<(), Trouble> {
    edit::edit_file(file).map_err(|error| {
        let hint = "VISUAL or EDITOR names the editor; nothing was done";
        Trouble::usage(format!("{} cannot be edited: {error}", file.display()), hint)
    })
}

/// Lets a person edit a form until `read` takes it; one that comes back as faulty as it was is given up.
///
/// # Errors
/// What `read` says last, or when there is no editor, or it fails.
pub(crate) fn edited<T>(text: &str, read: impl Fn(&str) -> Result<T, Trouble>) -> Result<T, Trouble> {
    if !(std::io::stdin().is_terminal() && std::io::stdout().is_terminal()) {
        let hint = "write the values: `marktwice set TABLE KEY COLUMN=VALUE`";
        return Err(Trouble::usage("a form needs a terminal to be filled in", hint));
    }
    let mut text = text.to_owned();
    loop {
        let mut builder = edit::Builder::new();
        builder.prefix("marktwice-").suffix(".txt");
        let back = edit::edit_with_builder(&text, &builder).map_err(|error| {
            let hint = "VISUAL or EDITOR names the editor; nothing was done";
            Trouble::usage(format!("the form cannot be edited: {error}"), hint)
        })?;
        let trouble = match read(&back) {
            Ok(read) => return Ok(read),
            Err(trouble) if back == text => return Err(trouble),
            Err(trouble) => trouble,
        };
        let said = [Some(trouble.message.to_string()), trouble.hint].into_iter().flatten();
        let said: String = said.map(|line| format!("{WRONG}{}\n", escape(&line))).collect();
        let rest = back.split_inclusive('\n').filter(|line| !line.starts_with(WRONG));
        text = format!("{said}{}", rest.collect::<String>());
    }
}
