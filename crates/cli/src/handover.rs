//! A change handed on for somebody else to apply: one file with its text, what was said of it, its sheets, and the mark of its preview.
//!
//! `NAME.twice` is two lines of JSON. The first holds everything; the second, `{"end":"…"}`, the BLAKE3 hash of the first with its line
//! break, in hexadecimal. `docs/FORMAT.md` describes it.

use std::io::Write;
use std::path::{Path, PathBuf};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use marktwice_core::hash::Running;
use marktwice_core::receipt::{DatabaseId, Previewed};
use marktwice_core::side::AlsoWrites;
use marktwice_core::{Change, Code, Expect};
use marktwice_port::Intent;
use marktwice_run::Preview;
use serde::{Deserialize, Serialize};

use crate::args::{ApplyArgs, ChangeArgs};
use crate::desk::{Desk, user};
use crate::out::new_file;
use crate::report::Trouble;

/// What the first line calls its format.
const FORMAT: &str = "marktwice-handover";
/// The version written, and the newest read.
const VERSION: u32 = 1;
/// How such a file ends.
const ENDING: &str = "twice";

/// Everything that is handed on.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Handover {
    format: String,
    version: u32,
    /// Where it was previewed.
    database: DatabaseId,
    /// By whom and when, as that machine says.
    previewed: Previewed,
    /// What the text is called.
    name: String,
    said: Said,
    sheets: Vec<Kept>,
    mark: Kept,
    /// The public part of the key that its mark is taken under, where columns are hidden.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    key: Option<String>,
}

/// What was said on the line, and holds for the application too.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Said {
    rows: Option<Expect>,
    changes: Option<Expect>,
    allow: Vec<Code>,
    also_writes: Vec<AlsoWrites>,
    again: bool,
    make_archive: bool,
}

/// A file, with what it is called.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Kept {
    name: String,
    file: String,
    /// In base64.
    bytes: String,
}

impl Kept {
    fn of(name: &str, file: &str, bytes: &[u8]) -> Kept {
        Kept { name: name.to_owned(), file: file.to_owned(), bytes: BASE64.encode(bytes) }
    }

    fn bytes(&self, whole: &Path) -> Result<Vec<u8>, Trouble> {
        BASE64.decode(&self.bytes).map_err(|_| altered(whole))
    }
}

fn altered(file: &Path) -> Trouble {
    Trouble::usage(
        format!("{} is not as it was written: it was altered, or is torn", file.display()),
        "have it made again: `marktwice preview CHANGE --out FILE.twice`",
    )
}

fn end(body: &str) -> String {
    let mut hash = Running::default();
    hash.add(body.as_bytes());
    format!("{{\"end\":\"{}\"}}\n", hash.finish())
}

/// Whether a change file is one of these.
pub(crate) fn is_one(file: &Path) -> bool {
    file.extension().is_some_and(|ending| ending == ENDING)
}

/// Makes sure that a preview can be handed on into this file, before anything is done for it.
///
/// # Errors
/// Where it cannot.
pub(crate) fn can_be(file: &Path, change: &Change) -> Result<(), Trouble> {
    if !is_one(file) {
        let hint = format!("call it {}", file.with_extension(ENDING).display());
        return Err(Trouble::usage(format!("what is handed on ends in .{ENDING}"), hint));
    }
    if let Some(secret) = change.params.iter().find(|param| param.secret) {
        return Err(Trouble::usage(
            format!("the value of :{} is secret, and a file that is handed on would hold it", secret.name),
            "hand the change file on, and let the other give the value",
        ));
    }
    crate::html::is_new(file)
}

/// Writes a preview down for somebody else.
///
/// # Errors
/// Where there is no mark of it, or the file cannot be written.
pub(crate) fn write(
    file: &Path,
    desk: &Desk,
    (preview, change): (&Preview, &Change),
    args: &ChangeArgs,
    name: &str,
) -> Result<(), Trouble> {
    let failed = |what: String| Trouble::usage(what, "name another file; nothing is overwritten");
    let Some(mark) = &preview.mark else {
        return Err(failed("no mark was taken, so that there is nothing to hand on".to_owned()));
    };
    let (taken, kept, keyed, key) = desk
        .with(|context| {
            let session = context.open(Intent::Read)?;
            let book = (context.book)(session.database())?;
            let (file, bytes) = book.give_mark(mark)?;
            let (kept, own) = (Kept::of(mark, &file, &bytes), book.mark(Some(mark))?);
            Ok((own.header().taken.clone(), kept, own.header().keyed, book.key_name()))
        })
        .map_err(|failure| Trouble::failure(&failure, "the logbook").on(&desk.shown))?;
    if keyed && key.is_none() {
        return Err(Trouble::usage(
            "columns are hidden here, and nobody else could compare a mark that is taken under this logbook's own key",
            "name a key_file under [logbook] in marktwice.toml, and give it to whoever applies this",
        )
        .on(&desk.shown));
    }
    let mut sheets = Vec::new();
    for sheet in &change.sheets {
        let bytes = std::fs::read(&sheet.file).map_err(|e| failed(format!("{}: {e}", sheet.file)))?;
        let called = Path::new(&sheet.file).file_name().map(|name| name.to_string_lossy().into_owned());
        sheets.push(Kept::of(&sheet.name, &called.unwrap_or_default(), &bytes));
    }
    let handover = Handover {
        format: FORMAT.to_owned(),
        version: VERSION,
        database: preview.database.clone(),
        previewed: Previewed { by: user(), at: taken },
        name: Path::new(name)
            .file_name()
            .map_or_else(|| name.to_owned(), |n| n.to_string_lossy().into_owned()),
        said: Said {
            rows: args.rows,
            changes: args.changes,
            allow: args.allow.clone(),
            also_writes: args.also_writes.clone(),
            again: args.again,
            make_archive: args.make_archive,
        },
        sheets,
        mark: kept,
        key: key.filter(|_| keyed),
    };
    let body = serde_json::to_string(&handover).map_err(|e| failed(e.to_string()))? + "\n";
    let cannot = |e: std::io::Error| failed(format!("cannot write {}: {e}", file.display()));
    let mut out = new_file(file).map_err(cannot)?;
    out.write_all((body.clone() + &end(&body)).as_bytes()).map_err(cannot)?;
    out.sync_all().map_err(cannot)
}

impl Handover {
    /// Reads one, to the last byte.
    ///
    /// # Errors
    /// Where it is none, is of a newer version, or was altered.
    pub(crate) fn read(file: &Path) -> Result<Handover, Trouble> {
        #[derive(Deserialize)]
        struct Version {
            format: String,
            version: u32,
        }
        let text = std::fs::read(file).map_err(|e| {
            Trouble::usage(format!("{} cannot be read: {e}", file.display()), "check its path")
        })?;
        let text = String::from_utf8(text).map_err(|_| altered(file))?;
        let (body, rest) = text.split_once('\n').ok_or_else(|| altered(file))?;
        let body = format!("{body}\n");
        if rest != end(&body) {
            return Err(altered(file));
        }
        let version: Version = serde_json::from_str(&body).map_err(|_| altered(file))?;
        if version.format != FORMAT || version.version > VERSION {
            let what = format!("{} is a {} of version {}", file.display(), version.format, version.version);
            return Err(Trouble::usage(what, format!("this program reads {FORMAT} up to version {VERSION}")));
        }
        serde_json::from_str(&body).map_err(|_| altered(file))
    }

    /// By whom and when it was previewed, as it says.
    pub(crate) fn previewed(&self) -> &Previewed {
        &self.previewed
    }

    /// Who that was, in words.
    pub(crate) fn in_words(&self) -> String {
        format!(
            "{}: previewed by {} on {}, as the file says",
            self.name,
            self.previewed.by.as_deref().unwrap_or("somebody"),
            marktwice_core::words::moment(&self.previewed.at)
        )
    }

    /// Takes its mark into the logbook, and makes the arguments those of the same change held to it; its sheets are laid down in
    /// `folder`.
    ///
    /// # Errors
    /// Where it was previewed on another database, or says something else than the line.
    pub(crate) fn taken(
        &self,
        (file, folder): (&Path, &Path),
        desk: &Desk,
        args: ApplyArgs,
    ) -> Result<ApplyArgs, Trouble> {
        let line = &args.change;
        let more = !line.with.is_empty() || !line.with_file.is_empty() || !line.with_null.is_empty();
        if more || !line.sheet.is_empty() || !line.check.is_empty() || args.mark.is_some() {
            return Err(Trouble::usage(
                format!("{} says itself with what values, sheets and checks, and which mark", file.display()),
                "leave those out, or preview the change file anew",
            ));
        }
        let bytes = self.mark.bytes(file)?;
        let mut shut = false;
        let mark = desk
            .with(|context| {
                let session = context.open(Intent::Read)?;
                let book = (context.book)(session.database())?;
                if !book.is_of(&self.database.identity) {
                    return Ok(Err(session.database().name.clone()));
                }
                let name = book.take_mark(&self.mark.file, &bytes)?;
                // The mark says of itself where it was taken, and whether it can be compared only under a key.
                let own = book.mark(Some(&name))?;
                shut = own.header().keyed && (self.key.is_none() || self.key != book.key_name());
                Ok(if book.is_of(&own.header().database.identity) { Ok(name) } else { Err(String::new()) })
            })
            .map_err(|failure| Trouble::failure(&failure, "the logbook").on(&desk.shown))?;
        let mark = mark.map_err(|here| {
            let there = &self.database.name;
            Trouble::usage(
                format!("{} was previewed on {there}, and this is {here}, another database", file.display()),
                "name the same database with --on, or preview the change here",
            )
        })?;
        if shut {
            let key = self.key.as_deref().unwrap_or("of another logbook");
            return Err(Trouble::usage(
                format!(
                    "{} was previewed with hidden columns, under the key {key}, which is not here",
                    file.display()
                ),
                "name that key_file under [logbook] in marktwice.toml, or preview the change here",
            )
            .on(&desk.shown));
        }
        let mut sheets: Vec<(String, String)> = Vec::new();
        for sheet in &self.sheets {
            let called =
                Path::new(&sheet.file).file_name().map_or_else(|| PathBuf::from("sheet.csv"), PathBuf::from);
            let path = folder.join(format!("{}-{}", sheets.len(), called.display()));
            std::fs::write(&path, sheet.bytes(file)?).map_err(|e| {
                Trouble::usage(format!("the sheet {} cannot be laid down: {e}", sheet.name), "make room")
            })?;
            sheets.push((sheet.name.clone(), path.display().to_string()));
        }
        let said = &self.said;
        let mut change = ChangeArgs {
            file: None,
            rows: line.rows.or(said.rows),
            changes: line.changes.or(said.changes),
            again: line.again || said.again,
            make_archive: line.make_archive || said.make_archive,
            sheet: sheets,
            ..line.clone()
        };
        change.allow.extend(&said.allow);
        change.also_writes.extend(said.also_writes.iter().cloned());
        Ok(ApplyArgs { change, mark: Some(mark), ..args })
    }
}
