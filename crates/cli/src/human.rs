//! Results for people: quiet, aligned, exact. Where it runs first, then numbers, then rows, then what needs
//! attention, then the one next step. Colour only supports what the words already say.

pub(crate) mod again;
mod beside;
mod cells;
mod closer;
mod compare;
mod conflicts;
mod history;
pub(crate) mod look;
mod next;
mod outcome;
mod preview;
mod shared;
mod shown;
mod table;
mod trouble;
pub(crate) mod values;
mod why;

use anstyle::{AnsiColor, Style};
pub(crate) use marktwice_core::words::{either as verb, number, rows};

pub(crate) use cells::{escape as one_line, key as keys, safe, safe_json, value as cell};
pub(crate) use compare::{again, comparison};
pub(crate) use history::{facts, history, outcome_in_words, receipt, step_facts, to_forget};
pub(crate) use next::{next_step, rehearsed};
pub(crate) use outcome::{outcome, question, question_inside, settled};
pub(crate) use preview::{about_step, beside_step, param, preview, undo};
pub(crate) use shared::shared;
pub(crate) use table::rows_of;
pub(crate) use trouble::trouble;
pub(crate) use why::why;

pub(crate) const BOLD: Style = Style::new().bold();
pub(crate) const DIM: Style = Style::new().dimmed();
pub(crate) const STOP: Style = AnsiColor::Red.on_default().bold();
pub(crate) const WARN: Style = AnsiColor::Yellow.on_default();
pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
pub(crate) const AFTER: Style = AnsiColor::Cyan.on_default();

/// All of them.
pub(crate) const COLOURS: &[Style] = &[BOLD, DIM, STOP, WARN, GOOD, AFTER];

/// A text in a style.
pub(crate) fn styled(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

/// A size for people: `14.4 MB`.
pub(crate) fn size(bytes: u64) -> String {
    match bytes {
        0..1_000 => format!("{bytes} bytes"),
        1_000..1_000_000 => format!("{:.1} kB", bytes as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

/// Columns of the terminal; `None` where the output is no terminal.
pub(crate) fn width() -> Option<usize> {
    use std::io::IsTerminal;
    if !std::io::stdout().is_terminal() {
        return None;
    }
    terminal_size::terminal_size().map(|(width, _)| usize::from(width.0).max(40))
}

/// Breaks lines that are too long for the terminal between words; what is in columns fits already.
pub(crate) fn fit(text: &str) -> String {
    let text = &cells::safe(text);
    match width() {
        Some(width) => fit_to(text, width),
        None => text.replace(KEPT, ""),
    }
}

/// Stands before a line that is kept in one piece whatever the width, because somebody may paste it. It is never shown;
/// no data can bring it in, because control characters are made visible.
pub(crate) const KEPT: char = '\0';

/// A statement of ours, to be shown before it is previewed.
pub(crate) fn statement(on: &str, text: &str) -> String {
    let head = format!("{} · the statement is\n", styled(BOLD, &cells::escape(on)));
    let lines = text.lines().map(|line| format!("{KEPT}  {}\n", styled(DIM, &cells::escape(line))));
    head + &lines.collect::<String>() + "\n"
}

fn fit_to(text: &str, width: usize) -> String {
    let mut out = String::with_capacity(text.len());
    for line in text.split_inclusive('\n') {
        if let Some(kept) = line.strip_prefix(KEPT) {
            out.push_str(kept);
            continue;
        }
        let bare = line.trim_end_matches('\n');
        if textwrap::core::display_width(bare) <= width {
            out.push_str(line);
            continue;
        }
        let indent = " ".repeat(hanging(&anstream::adapter::strip_str(bare).to_string()));
        let options = textwrap::Options::new(width)
            .subsequent_indent(&indent)
            .word_splitter(textwrap::WordSplitter::NoHyphenation);
        out.push_str(&textwrap::fill(bare, options));
        out.push('\n');
    }
    out
}

/// How far the rest of a broken line is set in: under what stands behind its label (`  warn  null-refused: …`), or a little more
/// than its beginning.
fn hanging(line: &str) -> usize {
    let lead = line.len() - line.trim_start().len();
    let rest = line.trim_start();
    let label = rest.find("  ").filter(|end| lead > 0 && *end <= 12 && !rest[..*end].contains(' '));
    let gap = label.map(|end| rest.len() - rest[end..].trim_start().len());
    lead + gap.unwrap_or(2)
}

/// The database that something is about, as every screen begins.
fn database(id: &marktwice_core::receipt::DatabaseId) -> String {
    format!("{} ({})", styled(BOLD, &cells::escape(&id.name)), id.engine)
}

/// `3 tables`, or `3 steps` where a table has more than one of them.
pub(crate) fn steps_or_tables<'t>(tables: impl Iterator<Item = &'t str>) -> String {
    let all: Vec<&str> = tables.collect();
    let mut each = all.clone();
    each.sort_unstable();
    each.dedup();
    match all.len() {
        1 => "1 table".to_owned(),
        n => format!("{n} {}", if each.len() == n { "tables" } else { "steps" }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_break_between_words() {
        let text = "  note  not-unique: the filter compares neither the key nor a unique column\nshort\n";
        let fitted = fit_to(text, 40);
        assert!(fitted.lines().all(|l| l.chars().count() <= 40), "{fitted}");
        assert_eq!(
            fitted.split_whitespace().collect::<Vec<_>>(),
            text.split_whitespace().collect::<Vec<_>>()
        );
        assert!(fitted.lines().nth(1).unwrap().starts_with("        neither"), "{fitted}");
    }

    #[test]
    fn numbers_for_people() {
        for (n, text) in [(0, "0"), (999, "999"), (3204, "3 204"), (1_000_000, "1 000 000")] {
            assert_eq!(number(n), text);
        }
        assert_eq!((rows(1), rows(2000)), ("1 row".to_owned(), "2 000 rows".to_owned()));
    }
}
