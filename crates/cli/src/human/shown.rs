//! The rows of a step as a table, each with what becomes of it, and the totals of its columns.

use std::fmt::Write;

use marktwice_core::Value;
use marktwice_core::mark::{Label, StepKind};
use marktwice_core::table::KeyKind;
use marktwice_run::{Block, ShownRow};
use unicode_width::UnicodeWidthStr;

use super::table::{Text, TextColumn, draw};
use super::{AFTER, DIM, WARN, cells, rows, styled, width};

/// The first rows of a step, with how many more there are and which columns are left out.
pub(super) fn row_table(out: &mut String, block: &Block, null_operands: &[String]) {
    if block.rows.is_empty() {
        return;
    }
    out.push('\n');
    let (text, left_out) = draw(columns(block, null_operands), width());
    out.push_str(&text);
    let more = block.matched.saturating_sub(block.rows.len() as u64);
    let mut remarks = Vec::new();
    if more > 0 {
        remarks.push(format!("and {} more (--show all)", rows(more)));
    }
    if !left_out.is_empty() {
        remarks.push(format!("not shown for lack of width: {}", left_out.join(", ")));
    }
    for remark in remarks {
        let _ = writeln!(out, "  {}", styled(DIM, &remark));
    }
}

/// Which columns are shown, in which order: the key, what names the row, what the filter looks at, what changes.
/// Whole rows where rows come or go.
fn columns(block: &Block, null_operands: &[String]) -> Vec<TextColumn> {
    let target = &block.target;
    let mut all = Vec::new();
    if target.key.kind == KeyKind::RowIdentity {
        let name = target.key.names.first().cloned().unwrap_or_default();
        let open = |r: &ShownRow| block.kind == StepKind::Insert && r.key.iter().all(Value::is_null);
        let shown = |r: &ShownRow| if open(r) { "?".to_owned() } else { cells::key(&r.key) };
        let cells = block.rows.iter().map(|r| Text::plain(shown(r))).collect();
        all.push(TextColumn { name, cells, priority: 0, right: true });
    }
    let mut order: Vec<(usize, u8)> = target.key.columns.iter().map(|&c| (c, 0)).collect();
    let add = |order: &mut Vec<(usize, u8)>, column: usize, priority: u8| {
        if !order.iter().any(|(c, _)| *c == column) {
            order.push((column, priority));
        }
    };
    if let Some(chosen) = &block.chosen {
        block.foreseen.iter().for_each(|f| add(&mut order, f.column, 0));
        chosen.iter().for_each(|c| add(&mut order, *c, 1));
    } else if block.kind == StepKind::Update {
        let changing = |c: usize| block.foreseen.iter().any(|f| f.column == c);
        if let Some(naming) = target.naming.filter(|c| !changing(*c)) {
            add(&mut order, naming, 2);
        }
        // Whom a row belongs to says which row it is.
        let refers = block.meanings.iter().map(|(c, ..)| *c).filter(|c| !changing(*c));
        refers.for_each(|c| add(&mut order, c, 3));
        block.filter.iter().filter(|c| !changing(**c)).for_each(|&c| add(&mut order, c, 3));
        block.foreseen.iter().for_each(|f| add(&mut order, f.column, 0));
        block.operands.iter().for_each(|c| add(&mut order, *c, 2));
    } else {
        let naming = target.naming;
        for column in 0..target.columns.len() {
            let priority = if Some(column) == naming || block.filter.contains(&column) { 1 } else { 4 };
            add(&mut order, column, priority);
        }
        order.sort_by_key(|(c, _)| (!target.key.columns.contains(c), *c));
    }
    for (column, priority) in order {
        let name = target.columns.get(column).map_or(String::new(), |c| cells::escape(&c.name));
        let operand = block.operands.contains(&column);
        let cells = if operand { operand_cells(block, column) } else { column_cells(block, column) };
        all.push(TextColumn { name, cells, priority, right: numeric(block, column) });
    }
    if block.kind == StepKind::Update && !block.uncertain() && block.changes < block.matched {
        let null = |row: &ShownRow| {
            let null = |at: usize| row.image.row().get(at).is_some_and(Value::is_null);
            let operands = null_operands.iter().filter_map(|name| target.position(name));
            block.foreseen.iter().any(|f| null(f.column)) && operands.into_iter().any(null)
        };
        let state = |row: &ShownRow| match (row.changes(), null(row)) {
            (true, _) => Text::default(),
            (false, true) => Text::default().push(WARN, "stays NULL"),
            (false, false) => Text::default().push(DIM, "already so"),
        };
        let cells = block.rows.iter().map(state).collect();
        all.push(TextColumn { name: String::new(), cells, priority: 1, right: false });
    }
    all
}

/// What a result was computed from; a NULL that makes it NULL is marked.
fn operand_cells(block: &Block, column: usize) -> Vec<Text> {
    let cell = |row: &ShownRow| {
        let value = row.image.row().get(column).unwrap_or(&Value::Null);
        let null = |at: usize| row.image.after().and_then(|after| after.get(at)).is_some_and(Value::is_null);
        let spoils = value.is_null() && block.foreseen.iter().any(|f| null(f.column));
        Text::default().push(if spoils { WARN } else { DIM }, meant(block, column, value))
    };
    block.rows.iter().map(cell).collect()
}

/// Numbers that do not change stand to the right.
fn numeric(block: &Block, column: usize) -> bool {
    let changes = block.kind == StepKind::Update && block.foreseen.iter().any(|f| f.column == column);
    let is_number = |v: Option<&Value>| {
        matches!(v, Some(Value::Int(_) | Value::Real(_) | Value::Decimal(_) | Value::Null))
    };
    !changes && block.rows.iter().all(|row| is_number(row.image.row().get(column)))
}

/// All cells of a column; where values change, the arrows stand under each other.
fn column_cells(block: &Block, column: usize) -> Vec<Text> {
    let width = |row: &ShownRow| row.image.row().get(column).map_or(0, |v| meant(block, column, v).width());
    let changing = block.kind == StepKind::Update && block.foreseen.iter().any(|f| f.column == column);
    let widest = if changing { block.rows.iter().map(width).max().unwrap_or(0) } else { 0 };
    block.rows.iter().map(|row| cell(block, row, column, widest)).collect()
}

/// A value, and the name of the row that it refers to: `7 (Bellheather)`.
fn meant(block: &Block, column: usize, value: &Value) -> String {
    let shown = cells::value(value);
    let meaning = block.meanings.iter().find(|(of, v, _)| *of == column && v == value);
    match meaning {
        Some((_, _, name)) => format!("{shown} ({})", cells::shortened(name)),
        None => shown,
    }
}

/// A value of at least `width`: numbers to the right, everything else to the left.
fn padded(value: &Value, shown: String, width: usize) -> String {
    let blanks = " ".repeat(width.saturating_sub(shown.width()));
    match value {
        // A number with a name behind it is read from the left.
        Value::Int(_) | Value::Real(_) | Value::Decimal(_) if !shown.ends_with(')') => {
            format!("{blanks}{shown}")
        }
        _ => format!("{shown}{blanks}"),
    }
}

fn cell(block: &Block, row: &ShownRow, column: usize, widest: usize) -> Text {
    let Some(before) = row.image.row().get(column) else { return Text::default() };
    let unknown = block.foreseen.iter().any(|f| f.column == column && f.label == Label::Unknown);
    if unknown && block.kind == StepKind::Insert {
        return Text::default().push(DIM, "?");
    }
    let shown = padded(before, meant(block, column, before), widest);
    let style = if before.is_null() { DIM } else { anstyle::Style::new() };
    let text = Text::default().push(style, shown);
    if block.kind != StepKind::Update {
        return text;
    }
    if unknown {
        return text.push(DIM, " → ?");
    }
    match row.image.after().and_then(|after| after.get(column)) {
        Some(after) if after != before => text.push(DIM, " → ").push(AFTER, meant(block, column, after)),
        _ => text,
    }
}

pub(super) fn totals(out: &mut String, block: &Block) {
    if block.totals.is_empty() || block.matched < 2 {
        return;
    }
    out.push('\n');
    let show = |json: &serde_json::Value| match json {
        serde_json::Value::String(text) => text.clone(),
        serde_json::Value::Null => "none".to_owned(),
        other => other.to_string(),
    };
    let column = |name: &str, cells: Vec<Text>, right: bool| TextColumn {
        name: name.to_owned(),
        cells,
        priority: 0,
        right,
    };
    let pair = |b: &serde_json::Value, a: &serde_json::Value| {
        if a == b {
            Text::plain(show(b))
        } else {
            Text::plain(show(b)).push(DIM, " → ").push(AFTER, show(a))
        }
    };
    let all = &block.totals;
    let table = vec![
        column("totals", all.iter().map(|t| Text::plain(cells::escape(&t.column))).collect(), false),
        column("sum", all.iter().map(|t| pair(&t.before.sum, &t.after.sum)).collect(), false),
        column("least", all.iter().map(|t| pair(&t.before.least, &t.after.least)).collect(), false),
        column("greatest", all.iter().map(|t| pair(&t.before.greatest, &t.after.greatest)).collect(), false),
    ];
    out.push_str(&draw(table, None).0);
}
