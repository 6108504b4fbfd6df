//! Standard output and standard error: text for people, bytes as they are, documents; what could not be written is noted.

use std::borrow::Cow;
use std::fs::{File, OpenOptions};
use std::io::{IsTerminal, Write};
use std::path::Path;
use std::sync::OnceLock;

use marktwice_core::secret::Secrets;
use serde_json::Value as Json;

use crate::human;

/// What is never written, whatever a message says.
static SECRETS: OnceLock<Secrets> = OnceLock::new();

/// From now on these are taken out of everything that is written for people, and of documents.
pub(crate) fn keep_out(secrets: Secrets) {
    let _ = SECRETS.set(secrets);
}

fn clean(text: &str) -> Cow<'_, str> {
    match SECRETS.get().filter(|secrets| !secrets.is_empty()) {
        Some(secrets) => Cow::Owned(secrets.scrub(text)),
        None => Cow::Borrowed(text),
    }
}

/// A document without them.
pub(crate) fn clean_document(mut document: Json) -> Json {
    if let Some(secrets) = SECRETS.get() {
        secrets.scrub_document(&mut document);
    }
    document
}

/// Why standard output could not be written, where it could not.
static UNWRITTEN: OnceLock<String> = OnceLock::new();

/// Set where what was streamed could not be written to its end.
static CUT_OFF: OnceLock<()> = OnceLock::new();

/// Notes that standard output could not be written. A reader that went away (a pager that was left) is no error of ours.
fn noted(written: std::io::Result<()>) {
    if let Err(error) = written
        && error.kind() != std::io::ErrorKind::BrokenPipe
    {
        let _ = UNWRITTEN.set(error.to_string());
    }
}

/// A file that is new, and nobody else's to read.
///
/// # Errors
/// Where it is there already, or cannot be made.
pub(crate) fn new_file(path: &Path) -> std::io::Result<File> {
    let mut options = OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    options.open(path)
}

/// Writes to standard output.
pub(crate) fn print(text: &str) {
    let mut out = anstream::stdout();
    noted(out.write_all(human::fit(&clean(text)).as_bytes()).and_then(|()| out.flush()));
}

/// Writes to standard output; what is longer than the terminal is high goes to the pager that the user has chosen.
pub(crate) fn print_at_length(text: &str) {
    let fits = |text: &str| match terminal_size::terminal_size() {
        Some((_, height)) => text.lines().count() < usize::from(height.0),
        None => true,
    };
    let chosen = std::env::var("PAGER").ok().filter(|pager| !pager.trim().is_empty() && pager != "cat");
    let shown = human::fit(&clean(text));
    let Some(pager) = chosen.filter(|_| std::io::stdout().is_terminal() && !fits(&shown)) else {
        return print(text);
    };
    // Colours go through, where the terminal has any; what the user has set for it stays.
    let plain = anstream::stdout().current_choice() == anstream::ColorChoice::Never;
    let bytes = if plain { anstream::adapter::strip_str(&shown).to_string() } else { shown };
    let mut command = std::process::Command::new("sh");
    command.arg("-c").arg(pager).stdin(std::process::Stdio::piped());
    if std::env::var_os("LESS").is_none() {
        command.env("LESS", "FRX");
    }
    let Ok(mut child) = command.spawn() else { return print(text) };
    if let Some(mut to) = child.stdin.take() {
        // Whoever leaves the pager has seen enough.
        let _ = to.write_all(bytes.as_bytes());
    }
    if !child.wait().is_ok_and(|ended| ended.success()) {
        print(text);
    }
}

/// Writes bytes to standard output as they are; on a terminal, so that they do not drive it.
pub(crate) fn print_bytes(bytes: &[u8]) {
    if std::io::stdout().is_terminal() {
        // Not broken into lines of the terminal's width: it may be copied from there.
        let text = human::safe(&String::from_utf8_lossy(bytes));
        let mut out = anstream::stdout();
        noted(out.write_all(text.as_bytes()).and_then(|()| out.flush()));
        return;
    }
    let mut out = std::io::stdout();
    noted(out.write_all(bytes).and_then(|()| out.flush()));
}

/// Standard output for what comes line by line and is not to be kept: the same bytes as [`print_bytes`] writes.
pub(crate) fn stream() -> Box<dyn Write> {
    if std::io::stdout().is_terminal() {
        return Box::new(std::io::LineWriter::new(Stream));
    }
    Box::new(std::io::BufWriter::new(Stream))
}

struct Stream;

impl Write for Stream {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let written = if std::io::stdout().is_terminal() {
            let text = human::safe(&String::from_utf8_lossy(bytes));
            anstream::stdout().write_all(text.as_bytes())
        } else {
            std::io::stdout().write_all(bytes)
        };
        let Err(error) = written else { return Ok(bytes.len()) };
        let kind = error.kind();
        let _ = CUT_OFF.set(());
        noted(Err(error));
        Err(kind.into())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        std::io::stdout().flush()
    }
}

/// Whether what was streamed could not be written to its end; why, where that matters to anybody, is noted.
pub(crate) fn cut_off() -> bool {
    CUT_OFF.get().is_some()
}

/// Writes a JSON document to standard output, without what is never written.
pub(crate) fn print_document(document: Json) {
    print_json(&format!("{:#}", clean_document(document)));
}

/// Writes the text of a cleaned document to standard output.
pub(crate) fn print_json(text: &str) {
    let mut out = anstream::stdout();
    let text = human::safe_json(text);
    noted(writeln!(out, "{text}").and_then(|()| out.flush()));
}

/// Writes to standard error.
pub(crate) fn tell(text: &str) {
    let mut err = anstream::stderr();
    let _ = err.write_all(human::fit(&clean(text)).as_bytes()).and_then(|()| err.flush());
}

/// Why standard output could not be written, where it could not.
pub(crate) fn unwritten() -> Option<&'static String> {
    UNWRITTEN.get()
}
