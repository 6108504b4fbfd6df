//! Findings about names that are not there: what may have been meant.

use marktwice_core::finding::{Code, Finding, Place};
use marktwice_sql::Language;
use marktwice_sql::near::nearest;
use marktwice_sql::slices::Slice;
use marktwice_sql::slips::{slip, typographic};

/// A finding for a name that the engine does not know. `near` are names that are more likely meant than `others`.
pub fn unknown_name(
    source: &str,
    at: (usize, usize),
    what: &str,
    name: &str,
    near: &[String],
    others: &[String],
) -> Finding {
    let last = name.rsplit('.').next().unwrap_or(name);
    let meant = nearest(last, near.iter().map(String::as_str))
        .or_else(|| nearest(last, others.iter().map(String::as_str)));
    let finding = Finding::new(Code::UnknownName, format!("there is no {what} {name}"))
        .at(Place::in_source(source, at.0, at.1));
    if let Some(hint) = typographic(name) {
        return finding.hint(hint);
    }
    match meant {
        Some(meant) if meant != name => finding.hint(format!("did you mean {meant}?")),
        _ if !near.is_empty() && near.len() <= 40 => finding.hint(format!("there are: {}", near.join(", "))),
        _ => finding.hint("correct the name"),
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
    let hint = found.map_or_else(|| "correct the statement here, or just before".to_owned(), |s| s.hint);
    Finding::new(Code::NotUnderstood, said).at(Place::in_source(source, place.0, place.1)).hint(hint)
}
