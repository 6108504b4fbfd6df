//! What stands beside a step's rows: rows that are put away, taken along or written by triggers, checks, and the first rows of a run
//! that was kept.

use std::fmt::Write;

use marktwice_core::asked::QueryFound;
use marktwice_core::image::Role;
use marktwice_run::{Block, Kept, KeptRows, StepPreview};

use super::preview::done_word;
use super::shown::row_table;
use super::{BOLD, DIM, cells, rows, styled, verb};

/// Checks of the whole change.
pub(super) fn queries(out: &mut String, all: &[QueryFound]) {
    for (at, found) in all.iter().enumerate() {
        if at == 0 {
            out.push('\n');
        }
        let style = match found.holds {
            None => DIM,
            Some(true) => super::GOOD,
            Some(false) => super::STOP,
        };
        let _ = writeln!(out, "  {}  {}", styled(style, "check"), cells::escape(&found.told()));
    }
}

/// What checks of each row have found.
pub(super) fn checks(out: &mut String, block: &Block) {
    if block.checks.is_empty() {
        return;
    }
    out.push('\n');
    for found in &block.checks {
        let style = match (&found.open, found.failing) {
            (Some(_), _) => DIM,
            (None, 0) => super::GOOD,
            _ => super::STOP,
        };
        let text = found.told(&block.target.table);
        let _ = writeln!(out, "  {}  {}", styled(style, "check"), cells::escape(&text));
    }
}

/// Rows of one table that triggers wrote, or that are put right after them.
pub(super) fn by_triggers(out: &mut String, block: &Block, what: &str, by: &str) {
    let table = cells::escape(&block.target.table);
    let what = format!("{} of {table} {what}", rows(block.matched));
    let _ = writeln!(out, "\n  {}{by}", styled(BOLD, &what));
    row_table(out, block, &[]);
}

/// The first rows of a run that was kept.
pub(super) fn kept(out: &mut String, kept: &Kept, several: bool) {
    for KeptRows { place, block } in &kept.rows {
        let table = cells::escape(&block.target.table);
        let step = if several { format!("Step {} · ", place.step + 1) } else { String::new() };
        let by = match place.role {
            Role::Trigger if kept.archives.contains(&block.target.table) => ", put away there",
            Role::Target => "",
            Role::Cascade => ", by a foreign key's action",
            Role::Trigger => ", by a trigger",
            Role::Archive => ", put away",
        };
        let number = rows(block.matched);
        let text = match block.changes {
            0 => format!("{step}{number} of {table} matched, and already held the values"),
            _ => format!("{step}{number} of {table} {}", done_word(block.kind)),
        };
        let among = kept.among.map_or(String::new(), |read| format!(", among the first {}", rows(read)));
        let _ = writeln!(out, "\n  {}{by}{among}", styled(BOLD, &text));
        row_table(out, block, &[]);
    }
}

/// Where the rows are put away before they go, and how that is made first.
pub(super) fn put_away(out: &mut String, step: &StepPreview) {
    let Some(archive) = &step.archive else { return };
    if step.told && step.block.matched > 0 {
        let goes = verb(step.block.matched, "is", "are");
        let what = format!(
            "{} {goes} copied into {} first, all columns by name",
            rows(step.block.matched),
            cells::escape(&archive.target.table)
        );
        let rest = archive.left_to_defaults();
        let rest = match rest.as_slice() {
            [] => String::new(),
            names => format!("; left to its defaults: {}", cells::escape(&names.join(", "))),
        };
        let _ = writeln!(out, "\n  {}{rest}", styled(BOLD, &what));
    }
    if let Some(making) = &archive.making {
        let how = match making.inside {
            true => "made in the same transaction",
            false => "made before the transaction, and stays where that is rolled back",
        };
        let table = cells::escape(&making.table);
        let _ = writeln!(out, "  {table} is not there: it is {how}");
        let _ = writeln!(out, "    {}", cells::escape(&making.definition));
    }
}

/// Rows that are taken along.
pub(super) fn along(out: &mut String, block: &Block) {
    for taken in &block.along {
        let goes = done_word(taken.kind);
        let table = cells::escape(&taken.target.table);
        let what = format!("{} of {table} {goes}", rows(taken.matched));
        let _ = writeln!(out, "\n  {}, by a foreign key's action", styled(BOLD, &what));
        row_table(out, taken, &[]);
    }
}
