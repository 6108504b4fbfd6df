//! Findings explained, for people.

use std::fmt::Write;

use marktwice_core::Code;
use marktwice_core::finding::Level;

use super::{BOLD, DIM, STOP, WARN, styled};

/// One code in full, or one line for each.
pub(crate) fn why(codes: &[Code], full: bool) -> String {
    let mut out = String::new();
    let widest = codes.iter().map(|c| c.as_str().len()).max().unwrap_or(0);
    for code in codes {
        let (style, word) = match code.level() {
            Level::Stop => (STOP, "stop"),
            Level::Warn => (WARN, "warn"),
            Level::Note => (DIM, "note"),
        };
        let name = format!("{:widest$}", code.as_str());
        if !full {
            let always = if Code::NEVER_ALLOWED.contains(code) { " (always)" } else { "" };
            let _ =
                writeln!(out, "{}  {}  {}{always}", styled(style, word), styled(BOLD, &name), code.meaning());
            continue;
        }
        let weight = match code.level() {
            Level::Stop if Code::NEVER_ALLOWED.contains(code) => "stops a change, always".to_owned(),
            Level::Stop => format!("stops a change, unless it is let pass with --allow {code}"),
            Level::Warn => "a warning: it stops nothing".to_owned(),
            Level::Note => "worth knowing: it stops nothing".to_owned(),
        };
        let _ = writeln!(out, "{} · {weight}\n  {}", styled(BOLD, code.as_str()), code.meaning());
        let _ = writeln!(out, "  What to do: {}", code.remedy());
    }
    out
}

/// The list of all findings as the documentation has it.
#[cfg(test)]
pub(crate) fn document() -> String {
    let mut out = String::from(
        "# Findings\n\nWhat Mark Twice notices about a step before it is applied. This page is made from the code; \
         `marktwice why CODE` says the same.\n\nA `stop` refuses the change unless it is let pass by its code \
         (`--allow CODE`, or `allow = [\"CODE\"]` in the change file); some are never let pass. A `warn` and a `note` \
         stop nothing. A finding may weigh less than its code where that is said.\n\n| code | level | why | what to do |\n\
         |---|---|---|---|\n",
    );
    for code in Code::ALL {
        let level = match code.level() {
            Level::Stop if Code::NEVER_ALLOWED.contains(code) => "stop, always",
            Level::Stop => "stop",
            Level::Warn => "warn",
            Level::Note => "note",
        };
        let cell = |text: &str| text.replace('|', "\\|");
        let _ = writeln!(out, "| `{code}` | {level} | {} | {} |", cell(code.meaning()), cell(code.remedy()));
    }
    out
}

#[cfg(test)]
mod tests {
    /// `MARKTWICE_WRITE_DOCS=1 cargo test` writes the page anew.
    #[test]
    fn the_documentation_has_the_same_findings() {
        let page = super::document();
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/findings.md");
        if std::env::var_os("MARKTWICE_WRITE_DOCS").is_some() {
            std::fs::write(path, &page).unwrap();
        }
        assert!(std::fs::read_to_string(path).unwrap() == page, "docs/findings.md is not what the code says");
    }
}
