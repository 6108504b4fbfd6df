//! Standard output and standard error: text for people, bytes as they are, documents; what could not be written is noted.

use std::io::{IsTerminal, Write};
use std::sync::OnceLock;

use crate::human;

/// Why standard output could not be written, where it could not.
static UNWRITTEN: OnceLock<String> = OnceLock::new();

/// Notes that standard output could not be written. A reader that went away (a pager that was left) is no error of ours.
fn noted(written: std::io::Result<()>) {
    if let Err(error) = written
        && error.kind() != std::io::ErrorKind::BrokenPipe
    {
        let _ = UNWRITTEN.set(error.to_string());
    }
}

/// Writes to standard output.
pub(crate) fn print(text: &str) {
    let mut out = anstream::stdout();
    noted(out.write_all(human::fit(text).as_bytes()).and_then(|()| out.flush()));
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

/// Writes a JSON document to standard output.
pub(crate) fn print_document(text: &str) {
    let mut out = anstream::stdout();
    let text = human::safe_json(text);
    noted(writeln!(out, "{text}").and_then(|()| out.flush()));
}

/// Writes to standard error.
pub(crate) fn tell(text: &str) {
    let mut err = anstream::stderr();
    let _ = err.write_all(human::fit(text).as_bytes()).and_then(|()| err.flush());
}

/// Why standard output could not be written, where it could not.
pub(crate) fn unwritten() -> Option<&'static String> {
    UNWRITTEN.get()
}
