//! Errors and findings for people.

use std::fmt::Write;

use marktwice_core::finding::{Finding, Level, Paste, TextPlace};

use super::cells::escape;
use super::{BOLD, DIM, STOP, WARN, rows, styled, verb};
use crate::report::Trouble;

/// One clear error: what is wrong, where, what to do.
pub(crate) fn trouble(trouble: &Trouble) -> String {
    let mut out = String::new();
    let code = trouble.code.as_ref().map_or(String::new(), |c| format!(" ({c})"));
    let on = trouble.on.as_ref().map_or(String::new(), |on| format!("{} · ", styled(BOLD, &escape(on))));
    let _ = writeln!(out, "{on}{}: {}", styled(STOP, &format!("error{code}")), escape(&trouble.message));
    if let Some(place) = &trouble.place {
        out.push_str(&place_lines(place, trouble.file.as_deref(), "  "));
    }
    if let Some(hint) = &trouble.hint {
        let _ = writeln!(out, "  {}", escape(hint));
    }
    if let Some(instead) = &trouble.paste {
        out.push_str(&paste(instead, "    "));
    }
    out
}

/// Lines that are ready to be pasted, as they are.
pub(super) fn to_paste(out: &mut String, text: &str, indent: &str) {
    for line in text.lines() {
        let _ = writeln!(out, "{}{indent}{}", super::KEPT, styled(BOLD, &escape(line)));
    }
}

/// Lines that are ready to be pasted, and what the engine has just said of them.
fn paste(instead: &Paste, indent: &str) -> String {
    let mut out = String::from("\n");
    to_paste(&mut out, &instead.text, indent);
    if !instead.rows.is_empty() {
        let _ = writeln!(out, "{indent}{}", styled(DIM, &asked_in_words(&instead.rows)));
    }
    out.push('\n');
    out
}

/// `asked just now: 3 rows match`.
fn asked_in_words(asked: &[Option<u64>]) -> String {
    let said = |count: &Option<u64>| match count {
        Some(n) => format!("{} {}", rows(*n), verb(*n, "matches", "match")),
        None => "not tried, since only a rehearsal can tell".to_owned(),
    };
    let all: Vec<String> = match asked {
        [one] => vec![said(one)],
        many => many.iter().enumerate().map(|(at, n)| format!("step {}: {}", at + 1, said(n))).collect(),
    };
    format!("asked just now: {}", all.join("; "))
}

/// The line of a place with the text underlined.
pub(crate) fn place_lines(place: &TextPlace, file: Option<&str>, indent: &str) -> String {
    let file = file.map_or(String::new(), |f| format!("{f}, "));
    // A long line is shown around the place, so that the mark stands under its text.
    let room = super::width().map_or(120, |width| width.saturating_sub(indent.len() + 6).clamp(20, 120));
    let long = place.text.chars().count() > room;
    let skip = if long { place.column.saturating_sub(room / 2) } else { 0 };
    let shown: String =
        place.text.chars().skip(skip).take(room).map(|c| if c.is_control() { ' ' } else { c }).collect();
    let lead = if skip > 0 { "…" } else { "" };
    let before: String = place.text.chars().skip(skip).take(place.column - 1 - skip).collect();
    let pad = " ".repeat(unicode_width::UnicodeWidthStr::width(before.as_str()) + lead.chars().count());
    let marked: String = place
        .text
        .chars()
        .skip(place.column - 1)
        .take(place.length.min(room - (place.column - 1 - skip).min(room - 1)))
        .collect();
    let mark = "^".repeat(unicode_width::UnicodeWidthStr::width(marked.as_str()).max(1));
    format!(
        "{indent}{}\n{indent}  {lead}{shown}\n{indent}  {pad}{}\n",
        styled(DIM, &format!("{file}line {}, column {}", place.line, place.column)),
        styled(BOLD, &mark),
    )
}

/// Findings of one kind that are shown; of more of them only how many there are.
const ALIKE: usize = 3;

/// A list of findings.
pub(crate) fn findings(all: &[Finding], allowed: impl Fn(&Finding) -> bool) -> String {
    let mut out = String::new();
    let passed = |finding: &Finding| finding.level == Level::Stop && allowed(finding);
    let kind = |finding: &Finding| (finding.code, finding.level, passed(finding));
    for (at, finding) in all.iter().enumerate() {
        let alike = |other: &&Finding| kind(other) == kind(finding);
        let (before, of_kind) = (all.iter().take(at).filter(alike).count(), all.iter().filter(alike).count());
        // One more is as short as saying so.
        if before >= ALIKE && of_kind > ALIKE + 1 {
            if before == ALIKE {
                let more =
                    format!("and {} more of this kind; --format json lists all of them", of_kind - ALIKE);
                let _ = writeln!(out, "        {}", styled(DIM, &more));
            }
            continue;
        }
        let passed = passed(finding);
        let (style, word) = match finding.level {
            Level::Stop if passed => (WARN, "pass"),
            Level::Stop => (STOP, "stop"),
            Level::Warn => (WARN, "warn"),
            Level::Note => (DIM, "note"),
        };
        let _ = writeln!(
            out,
            "  {}  {}: {}",
            styled(style, word),
            styled(BOLD, finding.code.as_str()),
            escape(&finding.message)
        );
        if finding.level > Level::Note && !passed {
            if let Some(place) = &finding.place {
                out.push_str(&place_lines(place, None, "        "));
            }
            let _ = writeln!(out, "        {}", escape(finding.remedy()));
            if let Some(instead) = &finding.paste {
                out.push_str(&paste(instead, "          "));
            }
        }
    }
    out
}
