//! Rows, totals and findings as a page shows them.

use marktwice_core::cell::diff;
use marktwice_core::finding::{Finding, Level};
use marktwice_core::mark::{Label, StepKind};
use marktwice_core::secret::hide_image;
use marktwice_core::table::KeyKind;
use marktwice_core::totals::{ColumnTotals, Figures};
use marktwice_core::{Code, Image, Value};
use marktwice_run::Block;

use super::page::{Cell, Noticed, Place, Rows, Total};
use super::{MOST, plot};
use crate::human::{self, number, rows};

pub(super) fn holds(holds: Option<bool>) -> &'static str {
    match holds {
        Some(true) => "holds",
        Some(false) => "stop",
        None => "open",
    }
}

pub(super) fn percent(part: u64, whole: u64) -> f64 {
    if whole == 0 { 0.0 } else { (part as f64 * 1000.0 / whole as f64).round() / 10.0 }
}

pub(super) fn noticed(finding: &Finding, allowed: &[Code]) -> Noticed {
    let passed = finding.level == Level::Stop && finding.passes(allowed);
    let word = match finding.level {
        Level::Stop if passed => "pass",
        Level::Stop => "stop",
        Level::Warn => "warn",
        Level::Note => "note",
    };
    let place = finding.place.as_ref().map(|place| Place {
        line: place.line,
        column: place.column,
        text: place.text.clone(),
    });
    let hint = (finding.level > Level::Note && !passed).then(|| finding.remedy().to_owned());
    Noticed { word, code: finding.code.as_str(), message: finding.message.clone(), place, hint }
}

pub(super) fn total(of: &ColumnTotals) -> Total {
    let figure = |value: &serde_json::Value| match value {
        serde_json::Value::Null => "none".to_owned(),
        serde_json::Value::String(text) => text.clone(),
        other => other.to_string(),
    };
    let figures = |f: &Figures| [figure(&f.sum), figure(&f.least), figure(&f.greatest)];
    let drawn = of.spread.pairs.len() as u64;
    let among = match drawn < of.spread.of {
        true => format!("{} of {} that change, evenly chosen", number(drawn), rows(of.spread.of)),
        false => format!("{} that change", rows(drawn)),
    };
    Total {
        column: of.column.clone(),
        before: figures(&of.before),
        after: figures(&of.after),
        plot: plot::spread(&of.spread, &of.column),
        caption: format!("{}: how its values are spread, before and after. {among}.", of.column),
    }
}

/// The rows of a block: the key first, then what changes, then all other columns that are known to matter; whole rows where rows
/// come or go.
pub(super) fn table(block: &Block, by: &str) -> Rows {
    let target = &block.target;
    let mut order: Vec<usize> = target.key.columns.clone();
    let add = |order: &mut Vec<usize>, at: usize| {
        if !order.contains(&at) {
            order.push(at);
        }
    };
    target.naming.iter().for_each(|at| add(&mut order, *at));
    block.foreseen.iter().for_each(|f| add(&mut order, f.column));
    match &block.chosen {
        Some(chosen) => chosen.iter().for_each(|at| add(&mut order, *at)),
        None => (0..target.columns.len()).for_each(|at| add(&mut order, at)),
    }
    let by_number = target.key.kind == KeyKind::RowIdentity;
    let mut columns: Vec<String> = target.key.names.iter().take(usize::from(by_number)).cloned().collect();
    let name = |at: &usize| target.columns.get(*at).map_or(String::new(), |c| c.name.clone());
    columns.extend(order.iter().map(name));
    let shown = block.rows.iter().take(MOST).map(|row| {
        let image = hide_image(target, row.image.clone());
        let mut cells: Vec<Cell> = Vec::new();
        if by_number {
            cells.push(Cell { before: human::keys(&row.key), after: String::new(), changed: false });
        }
        cells.extend(order.iter().map(|&at| cell(block, &image, at)));
        cells
    });
    let shown: Vec<Vec<Cell>> = shown.collect();
    let what = match block.kind {
        StepKind::Update => ", before and after",
        StepKind::Insert => " that come in",
        StepKind::Delete => " that go",
    };
    let more = block.matched.saturating_sub(shown.len() as u64);
    let caption = match more {
        0 => format!("{}, all of them shown", rows(block.matched)),
        more => format!(
            "the first {} of {}; {} more are counted and not shown",
            number(shown.len() as u64),
            number(block.matched),
            number(more)
        ),
    };
    let by = if by.is_empty() { String::new() } else { format!(", {by}") };
    Rows { title: format!("Rows of {}{what}{by}", target.table), caption, columns, rows: shown }
}

fn cell(block: &Block, image: &Image, at: usize) -> Cell {
    let shown = |value: Option<&Value>| match value {
        // A page has room.
        Some(Value::Text(text)) if text.chars().count() > 40 => human::one_line(text),
        Some(value) => human::cell(value),
        None => String::new(),
    };
    let unknown = |at: usize| block.foreseen.iter().any(|f| f.column == at && f.label == Label::Unknown);
    match image {
        Image::Update { before, after } if unknown(at) && before.get(at) == after.get(at) => {
            Cell { before: shown(before.get(at)), after: "only the run can tell".to_owned(), changed: true }
        }
        Image::Update { before, after } => {
            let changed = diff(before, after).iter().any(|cell| cell.column == at);
            Cell { before: shown(before.get(at)), after: shown(after.get(at)), changed }
        }
        other if unknown(at) && other.before().is_none() => {
            Cell { before: "only the run can tell".to_owned(), after: String::new(), changed: false }
        }
        other => Cell { before: shown(other.row().get(at)), after: String::new(), changed: false },
    }
}
