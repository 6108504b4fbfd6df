//! What a column holds, for people: values with their rows, and how numbers and moments are spread.

use std::fmt::Write;

use marktwice_core::Value;
use marktwice_run::{Group, Seen, Show, Spread, Values};

use super::cells::{self, escape};
use super::table::{Text, TextColumn, draw};
use super::{AFTER, BOLD, DIM, WARN, database, number, rows, styled, verb, width};

/// The widest bar.
const WIDE: u64 = 40;

/// All of it.
pub(crate) fn values(seen: &Seen<Values>, show: Show, filtered: bool) -> String {
    let found = &seen.seen;
    let names = found.target.names(&found.columns);
    let what = format!("{} of {}", names.join(", "), found.target.table);
    let which = if filtered { " that match" } else { "" };
    let mut out = format!(
        "{} · {} · {} in {}{which}\n",
        database(&seen.database),
        styled(BOLD, &escape(&what)),
        if found.untold > 0 {
            "more values than are told apart".to_owned()
        } else {
            different(found.groups.len())
        },
        rows(found.matched),
    );
    for note in &seen.notes {
        let _ = writeln!(out, "note: {note}");
    }
    if found.read < found.matched {
        let which = match &found.every {
            Some((nth, column)) => {
                format!(
                    "a sample: {} whose {} is a multiple of {}",
                    rows(found.read),
                    escape(column),
                    number(*nth)
                )
            }
            None => format!("only the first {} by key", rows(found.read)),
        };
        let text = format!("{which} were read; the others may hold more, and the numbers are of these");
        let _ = writeln!(out, "{} {text}", styled(WARN, "note:"));
    }
    if found.groups.is_empty() {
        return out;
    }
    out.push('\n');
    let shown: Vec<&Group> = found.groups.iter().take(show.most()).collect();
    out.push_str(&draw(columns(found, &names, &shown), width()).0);
    let rest = found.groups.len() - shown.len();
    if rest > 0 {
        let held: u64 = found.groups.iter().skip(shown.len()).map(|g| g.rows).sum();
        let text = format!("and {} more values in {} (--show all)", number(rest as u64), rows(held));
        let _ = writeln!(out, "  {}", styled(DIM, &text));
    }
    if found.untold > 0 {
        let text =
            format!("{} {} still other values", rows(found.untold), verb(found.untold, "holds", "hold"));
        let _ = writeln!(out, "  {}", styled(DIM, &text));
    }
    let alike = found.groups.iter().filter(|g| g.alike).count();
    if alike > 0 {
        let text = "≈ differs from the one beside it only in letter case or blanks; a filter on one of them may miss the others";
        let _ = writeln!(out, "  {}", styled(WARN, text));
    }
    if let Some(spread) = &found.spread {
        self::spread(&mut out, spread);
    }
    out
}

fn different(n: usize) -> String {
    if n == 1 { "1 value".to_owned() } else { format!("{} values", number(n as u64)) }
}

fn columns(found: &Values, names: &[String], shown: &[&Group]) -> Vec<TextColumn> {
    let mut all = Vec::new();
    if shown.iter().any(|g| g.alike) {
        let cells =
            shown.iter().map(|g| Text::default().push(WARN, if g.alike { "≈" } else { "" })).collect();
        all.push(TextColumn { name: String::new(), cells, priority: 0, right: false });
    }
    for (nth, name) in names.iter().enumerate() {
        let cell = |group: &&Group| {
            let value = group.values.get(nth).unwrap_or(&Value::Null);
            let style = if value.is_null() { DIM } else { anstyle::Style::new() };
            Text::default().push(style, cells::value(value))
        };
        let numbers = shown.iter().all(|g| {
            matches!(
                g.values.get(nth),
                Some(Value::Int(_) | Value::Real(_) | Value::Decimal(_) | Value::Null)
            )
        });
        let cells = shown.iter().map(cell).collect();
        all.push(TextColumn { name: escape(name), cells, priority: 0, right: numbers });
    }
    let count = shown.iter().map(|g| Text::plain(number(g.rows))).collect();
    all.push(TextColumn { name: "rows".to_owned(), cells: count, priority: 0, right: true });
    let most = found.groups.iter().map(|g| g.rows).max().unwrap_or(1);
    let bars = shown.iter().map(|g| Text::default().push(AFTER, bar(g.rows, most))).collect();
    all.push(TextColumn { name: String::new(), cells: bars, priority: 1, right: false });
    all
}

/// A bar for so many of the most; whatever is there at all has one.
fn bar(rows: u64, most: u64) -> String {
    let length = if rows == 0 { 0 } else { (rows.saturating_mul(WIDE) / most.max(1)).max(1) };
    "▇".repeat(usize::try_from(length).unwrap_or(0))
}

fn spread(out: &mut String, spread: &Spread) {
    out.push('\n');
    let names = ["least", "a quarter up to", "half up to", "three quarters up to", "greatest"];
    let columns = names.iter().zip(&spread.marks).map(|(name, value)| TextColumn {
        name: (*name).to_owned(),
        cells: vec![Text::plain(cells::value(value))],
        priority: 0,
        right: true,
    });
    out.push_str(&draw(columns.collect(), width()).0);
    if spread.bars.is_empty() {
        return;
    }
    out.push('\n');
    let most = spread.bars.iter().map(|(_, rows)| *rows).max().unwrap_or(1);
    let from = spread.bars.iter().map(|(from, _)| Text::plain(short(*from))).collect();
    let rows = spread.bars.iter().map(|(_, rows)| Text::plain(number(*rows))).collect();
    let bars = spread.bars.iter().map(|(_, rows)| Text::default().push(AFTER, bar(*rows, most))).collect();
    let column =
        |name: &str, cells: Vec<Text>, right| TextColumn { name: name.to_owned(), cells, priority: 0, right };
    let table = vec![column("from", from, true), column("rows", rows, true), column("", bars, false)];
    out.push_str(&draw(table, width()).0);
}

/// Where a bar begins, in four figures or so.
fn short(from: f64) -> String {
    let text = format!("{from:.3}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}
