//! Findings about names that are not there: what may have been meant.

use marktwice_core::finding::{Code, Finding, Place};
use marktwice_sql::near::nearest;

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
    match meant {
        Some(meant) if meant != name => finding.hint(format!("did you mean {meant}?")),
        _ if !near.is_empty() && near.len() <= 40 => finding.hint(format!("there are: {}", near.join(", "))),
        _ => finding.hint("correct the name"),
    }
}

/// A finding for a statement that the engine's grammar does not take.
pub fn syntax(source: &str, at: (usize, usize), said: &str, word: Option<&str>) -> Finding {
    let keywords = ["WHERE", "SET", "FROM", "AND", "UPDATE", "DELETE", "VALUES", "IN", "LIKE", "BETWEEN"];
    let meant =
        word.and_then(|w| nearest(w, keywords)).filter(|m| word.is_some_and(|w| !m.eq_ignore_ascii_case(w)));
    Finding::new(Code::NotUnderstood, said).at(Place::in_source(source, at.0, at.1)).hint(match meant {
        Some(meant) => format!("did you mean {meant}?"),
        None => "correct the statement here, or just before".to_owned(),
    })
}
