//! Commands that are printed for a person to run next: each is made here, complete with the database, the logbook and what has to be
//! allowed, so that it works when it is pasted.

use std::path::Path;

use marktwice_core::receipt::Receipt;

use crate::args::word;

/// The command that undoes a run; `on` says where (see [`crate::args::Common::on_again`]).
pub(crate) fn undo(receipt: &Receipt, on: &str) -> String {
    let back = receipt.back.clone().unwrap_or_default();
    let allow: String = back.allow.iter().map(|code| format!(" --allow {code}")).collect();
    format!("marktwice undo {}{on}{allow}", receipt.run)
}

/// The command that previews a change again; `None` where it stands in no file.
pub(crate) fn preview(file: &str, on: &str) -> Option<String> {
    Path::new(file).is_file().then(|| format!("marktwice preview {}{on}", word(file)))
}

/// The command that applies a change which was handed over.
pub(crate) fn apply_handed(file: &Path, on: &str) -> String {
    format!("marktwice apply {}{on}", word(&file.display().to_string()))
}

/// A text in which commands stand between backquotes, with `on` at their ends and without the backquotes.
pub(crate) fn complete(text: &str, on: &str) -> String {
    let mut parts = text.split('`').enumerate().peekable();
    let mut out = String::with_capacity(text.len());
    while let Some((at, part)) = parts.next() {
        let last = parts.peek().is_none();
        match (at % 2 == 1 && !last, part.starts_with("marktwice ")) {
            (true, true) => out.extend([part, on]),
            (true, false) => out.extend(["`", part, "`"]),
            // One that nothing closes.
            (false, _) if at % 2 == 1 => out.extend(["`", part]),
            (false, _) => out.push_str(part),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use marktwice_core::Code;
    use marktwice_core::receipt::{DatabaseId, RunKind};
    use marktwice_core::way_back::WayBack;

    use super::*;

    #[test]
    fn commands_in_texts_say_where() {
        let said = complete("no `key` here: `marktwice look t` shows `b`, `c", " --on a.db");
        assert_eq!(said, "no `key` here: marktwice look t --on a.db shows `b`, `c");
        assert_eq!(complete("plain", " --on a.db"), "plain");
    }

    #[test]
    fn an_undo_says_where_and_what_is_allowed() {
        let database = DatabaseId {
            engine: "SQLite".to_owned(),
            version: String::new(),
            name: "a.db".to_owned(),
            identity: "a.db".to_owned(),
            formerly: Vec::new(),
        };
        let mut receipt = Receipt::prepared("4tmg", RunKind::Apply, &database, String::new(), Vec::new());
        receipt.back = Some(WayBack { allow: vec![Code::UndeclaredWrite], ..WayBack::default() });
        assert_eq!(undo(&receipt, " --on a.db"), "marktwice undo 4tmg --on a.db --allow undeclared-write");
        assert_eq!(preview("--sql", ""), None);
    }
}
