//! The commands, one file each, and what they share: finding the database and its logbook, reading a change, and
//! writing a result in the form that was asked for.

mod apply;
mod demo;
mod draft;
mod forget;
mod history;
mod look;
mod preview;
mod receipt;
mod set;
mod settle;
mod undo;
mod why;

use std::io::{Read, Write};
use std::path::Path;
use std::time::Duration;

use marktwice_core::receipt::DatabaseId;
use marktwice_logbook::Shelf;
use marktwice_port::{LogError, Logbook, Waits};
use marktwice_run::{Change, Context};
use marktwice_server::address::without_secrets;
use marktwice_sql::Language;

use crate::ambient::Real;
use crate::args::{Args, ChangeArgs, Colour, Command, Common, Format};
use crate::config::Config;
use crate::engines::{self, Kind};
use crate::report::Trouble;
use crate::{human, json, place};

/// Runs a command and gives its exit status.
pub(crate) fn run(args: Args) -> u8 {
    match args.common.color {
        Colour::Auto => {}
        Colour::Always => anstream::ColorChoice::Always.write_global(),
        Colour::Never => anstream::ColorChoice::Never.write_global(),
    }
    let common = args.common;
    let result = match args.command {
        Command::Look(args) => look::run(&common, &args),
        Command::Set(args) => set::run(&common, &args),
        Command::Draft(args) => draft::run(&common, &args),
        Command::Why { code } => why::run(&common, code.as_deref()),
        Command::Preview(args) => preview::run(&common, args),
        Command::Apply(args) => apply::run(&common, args),
        Command::Undo(args) => undo::run(&common, &args),
        Command::History(args) => history::run(&common, &args),
        Command::Receipt { run, csv } => receipt::run(&common, run.as_deref(), csv.as_deref()),
        Command::Forget(args) => forget::run(&common, &args),
        Command::Settle(args) => settle::run(&common, &args),
        Command::Demo { folder } => demo::run(&common, &folder),
    };
    result.unwrap_or_else(|trouble| {
        let trouble = trouble.without_secrets();
        tell(&human::trouble(&trouble));
        if common.format == Format::Json {
            print_json(&json::trouble(&trouble));
        }
        trouble.status
    })
}

/// Writes to standard output. A reader that went away (a pager that was left) is no error of ours.
pub(crate) fn print(text: &str) {
    let mut out = anstream::stdout();
    let _ = out.write_all(human::fit(text).as_bytes()).and_then(|()| out.flush());
}

/// Writes bytes to standard output as they are; on a terminal, so that they do not drive it.
pub(crate) fn print_bytes(bytes: &[u8]) {
    use std::io::IsTerminal;
    if std::io::stdout().is_terminal() {
        // Not broken into lines of the terminal's width: it may be copied from there.
        let text = human::safe(&String::from_utf8_lossy(bytes));
        let mut out = anstream::stdout();
        let _ = out.write_all(text.as_bytes()).and_then(|()| out.flush());
        return;
    }
    let mut out = std::io::stdout();
    let _ = out.write_all(bytes).and_then(|()| out.flush());
}

/// Writes a JSON document to standard output.
pub(crate) fn print_json(document: &serde_json::Value) {
    let mut out = anstream::stdout();
    let text = human::safe_json(&format!("{document:#}"));
    let _ = writeln!(out, "{text}").and_then(|()| out.flush());
}

/// Writes to standard error.
pub(crate) fn tell(text: &str) {
    let mut err = anstream::stderr();
    let _ = err.write_all(human::fit(text).as_bytes()).and_then(|()| err.flush());
}

/// The surroundings of a command, and the database that it is about.
pub(crate) struct Desk {
    address: String,
    /// The address without its secrets.
    pub(crate) shown: String,
    pub(crate) kind: Kind,
    pub(crate) root: std::path::PathBuf,
    pub(crate) ambient: Real,
    waits: Waits,
}

impl Desk {
    /// Finds the database and its logbook.
    pub(crate) fn find(common: &Common) -> Result<Desk, Trouble> {
        let here = std::env::current_dir().map_err(|e| {
            Trouble::usage(format!("the current folder cannot be read: {e}"), "go to another folder")
        })?;
        let config = Config::nearest(&here)?;
        let address = place::address(common, &config)?;
        Desk::at(address, place::logbook(common, &config)?, common)
    }

    /// A desk for a database and a logbook that are known already.
    pub(crate) fn at(address: String, root: std::path::PathBuf, common: &Common) -> Result<Desk, Trouble> {
        let kind = engines::of(&address)
            .ok_or_else(|| Trouble::usage("there is no engine for this address", "name another with --on"))?;
        let waits = Waits {
            lock: Duration::from_secs_f64(common.wait),
            statement: common.time_limit.map(Duration::from_secs_f64),
        };
        Ok(Desk { shown: without_secrets(&address), kind, address, root, ambient: Real::new(), waits })
    }

    /// Hands the context to `work`.
    pub(crate) fn with<T>(&self, work: impl FnOnce(&Context<'_>) -> T) -> T {
        let book = |database: &DatabaseId| -> Result<Box<dyn Logbook>, LogError> {
            Ok(Box::new(Shelf::open(&self.root, database)?))
        };
        let user = std::env::var("USER").or_else(|_| std::env::var("USERNAME")).ok();
        let context = Context {
            engine: self.kind.engine,
            address: &self.address,
            book: &book,
            ambient: &self.ambient,
            waits: self.waits,
            user,
        };
        let result = work(&context);
        self.ambient.quiet();
        result
    }
}

/// The text of a change and what it is called in messages.
pub(crate) struct Text {
    pub(crate) text: String,
    pub(crate) name: String,
}

/// Reads the change that the arguments name; `None` when they name none.
pub(crate) fn read_text(args: &ChangeArgs) -> Result<Option<Text>, Trouble> {
    if let Some(sql) = &args.sql {
        return Ok(Some(Text { text: sql.clone(), name: "--sql".to_owned() }));
    }
    let Some(path) = &args.file else { return Ok(None) };
    if path.as_os_str() == "-" {
        let mut bytes = Vec::new();
        std::io::stdin().read_to_end(&mut bytes).map_err(|e| {
            Trouble::usage(format!("standard input cannot be read: {e}"), "pipe the change in")
        })?;
        return Ok(Some(Text { text: utf8(bytes, "standard input")?, name: "standard input".to_owned() }));
    }
    let name = path.display().to_string();
    let bytes = std::fs::read(path).map_err(|error| unreadable(path, &error))?;
    Ok(Some(Text { text: utf8(bytes, &name)?, name }))
}

fn unreadable(path: &Path, error: &std::io::Error) -> Trouble {
    let shown = path.display();
    match error.kind() {
        std::io::ErrorKind::NotFound => {
            let text = path.to_string_lossy();
            let statement =
                ["update ", "delete ", "with "].iter().any(|w| text.to_lowercase().starts_with(w));
            let hint = if statement {
                "to give the statement itself, write --sql"
            } else {
                "check the path of the change file"
            };
            Trouble::usage(format!("there is no file {shown}"), hint)
        }
        _ => Trouble::usage(format!("{shown} cannot be read: {error}"), "name a change file"),
    }
}

fn utf8(bytes: Vec<u8>, name: &str) -> Result<String, Trouble> {
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let line = error.as_bytes().iter().take(at).filter(|b| **b == b'\n').count() + 1;
        Trouble::usage(format!("{name} is not UTF-8 text: line {line}, byte {at}"), "save it as UTF-8")
    })
}

/// A change from its text, with what the command line adds to it.
pub(crate) fn change_of(text: &Text, args: &ChangeArgs, language: Language) -> Result<Change, Trouble> {
    let parsed =
        marktwice_sql::Change::parse(&text.text, language).map_err(|e| Trouble::change(e, &text.name))?;
    let mut allow = parsed.allow;
    allow.extend(args.allow.iter().copied());
    Ok(Change {
        source: parsed.source,
        title: parsed.title,
        reason: parsed.reason,
        rows: args.rows.or(parsed.rows),
        changes: args.changes.or(parsed.changes),
        allow,
        again: args.again,
        quick: args.quick,
    })
}
