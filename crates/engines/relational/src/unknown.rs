//! Findings about names that are not there: what may have been meant.

use marktwice_core::finding::{Code, Finding, TextPlace};
use marktwice_core::near::nearest;
use marktwice_sql::Language;
use marktwice_sql::refuse::dialects;
use marktwice_sql::refuse::slips::{slip, typographic};
use marktwice_sql::text::slices::Slice;

/// A finding for a name that the engine does not know. `near` are the names that may be meant.
pub fn unknown_name(
    (language, source): (Language, &str),
    at: (usize, usize),
    what: &str,
    name: &str,
    near: &[String],
) -> Finding {
    let last = name.rsplit('.').next().unwrap_or(name);
    let meant = nearest(last, near.iter().map(String::as_str));
    let finding = Finding::new(Code::UnknownName, format!("there is no {what} {name}"))
        .at(TextPlace::in_source(source, at.0, at.1));
    if let Some(hint) = typographic(name) {
        return finding.hint(hint);
    }
    if let Some(hint) = dialects::function(language, name).filter(|_| what == "function") {
        return finding.hint(hint);
    }
    match meant {
        Some(meant) if meant != name => finding.hint(format!("did you mean {meant}?")),
        _ if !near.is_empty() && near.len() <= 40 => finding.hint(format!("there are: {}", near.join(", "))),
        _ => finding,
    }
}

/// A finding for a statement that the engine's grammar does not take.
pub fn syntax(source: &str, statement: Slice, language: Language, at: (usize, usize), said: &str) -> Finding {
    let found = slip(source, statement, language, at.0);
    let place = found.as_ref().and_then(|s| s.at).map_or(at, |s| (s.start, s.end));
    let said = match found.as_ref().and_then(|s| s.at) {
        Some(word) => format!("the statement is not understood from {} on", word.of(source).trim()),
        None => said.to_owned(),
    };
    let finding = Finding::new(Code::NotUnderstood, said).at(TextPlace::in_source(source, place.0, place.1));
    let Some(found) = found else { return finding.hint("correct the statement here, or just before") };
    let finding = finding.hint(found.hint);
    match found.paste {
        Some(paste) => finding.paste(paste),
        None => finding,
    }
}
