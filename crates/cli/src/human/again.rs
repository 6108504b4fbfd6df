//! The rows of a run, looked at again, for people.

use std::fmt::Write;

use marktwice_core::Value;
use marktwice_core::image::Role;
use marktwice_core::receipt::RunKind;
use marktwice_core::words::moment;
use marktwice_run::{Again, AgainRow, AgainTable, Stands};

use super::cells::{self, escape};
use super::table::{Text, TextColumn, draw};
use super::{AFTER, BOLD, DIM, GOOD, WARN, database, rows, styled, verb, width};

/// One line, right after a commit.
pub(crate) fn in_short(seen: &Again, on: &str) -> String {
    let tables = seen.tables.iter().filter(|table| table.why.is_none());
    let (mut left, mut others) = (0, 0);
    for table in tables {
        let [as_left, rest @ ..] = table.counts;
        left += as_left;
        others += rest.iter().sum::<u64>();
    }
    match (left, others) {
        (0, 0) => String::new(),
        (1, 0) => styled(DIM, "  read again after the commit: the row is so\n"),
        (_, 0) => styled(DIM, &format!("  read again after the commit: all {} are so\n", rows(left))),
        _ => {
            let what = format!("{} {} something else by now", rows(others), verb(others, "holds", "hold"));
            let look = format!("marktwice look --run {}{on}", seen.receipt.run);
            format!("  {}: {what}; {}\n", styled(WARN, "read again after the commit"), styled(BOLD, &look))
        }
    }
}

/// All of it.
pub(crate) fn looked(seen: &Again, on: &str) -> String {
    let receipt = &seen.receipt;
    let what = match receipt.kind {
        RunKind::Apply => "rows of run",
        RunKind::Undo => "rows of the undo",
    };
    let name = styled(BOLD, &format!("{what} {}", receipt.run));
    let when = moment(receipt.ended.as_deref().unwrap_or(&receipt.started));
    let mut out = format!("{} · {name} · committed {when}\n", database(&seen.database));
    if let Some(title) = &receipt.title {
        let _ = writeln!(out, "{}", escape(title));
    }
    if let Some(by) = &seen.undone_by {
        let _ = writeln!(out, "{} it was taken back by {by}", styled(WARN, "note:"));
    }
    let several = receipt.steps.len() > 1 || seen.tables.len() > 1;
    for table in &seen.tables {
        one(&mut out, table, several);
    }
    if seen.tables.is_empty() {
        out.push_str("\nIt changed no row.\n");
    } else if seen.undone_by.is_none() {
        let _ = writeln!(out, "\nThe run in full: marktwice receipt {}{on}", receipt.run);
    }
    out
}

fn one(out: &mut String, table: &AgainTable, several: bool) {
    out.push('\n');
    let name = escape(&table.target.table);
    if several {
        let by = match table.role {
            Role::Cascade => ", by a foreign key's action",
            Role::Trigger => ", by a trigger",
            Role::Target | Role::Archive => "",
        };
        let step = format!("Step {} · {name}", table.step + 1);
        let _ = writeln!(out, "{}{by}", styled(BOLD, &step));
    }
    if let Some(why) = &table.why {
        let _ = writeln!(out, "  {}", styled(WARN, &escape(&format!("not looked at: {why}"))));
        return;
    }
    let says = ["as the run left", "as before the run", "changed since", "gone", "there again"];
    for (at, (count, says)) in table.counts.iter().zip(says).enumerate().filter(|(_, (n, _))| **n > 0) {
        let them = if at == 0 { if *count == 1 { " it" } else { " them" } } else { "" };
        let text = format!("{} of {name} {} {says}{them}", rows(*count), verb(*count, "is", "are"));
        let style = if at == 0 { GOOD } else { WARN };
        let _ = writeln!(out, "  {}", styled(style, &text));
    }
    if table.later > 0 {
        let text = format!(
            "{} {} written again by a later step",
            rows(table.later),
            verb(table.later, "was", "were")
        );
        let _ = writeln!(out, "  {}", styled(DIM, &text));
    }
    if table.rows.is_empty() {
        return;
    }
    out.push('\n');
    let (text, left_out) = draw(columns(table), width());
    out.push_str(&text);
    let more = table.looked().saturating_sub(table.rows.len() as u64);
    if more > 0 {
        let _ = writeln!(out, "  {}", styled(DIM, &format!("and {} more (--show all)", rows(more))));
    }
    if !left_out.is_empty() {
        let text = format!("not shown for lack of width: {}", left_out.join(", "));
        let _ = writeln!(out, "  {}", styled(DIM, &text));
    }
}

/// The key, the columns that the run or somebody else has changed, and how each row stands.
fn columns(table: &AgainTable) -> Vec<TextColumn> {
    let target = &table.target;
    let whole = |row: &AgainRow| row.before.is_none() || row.left.is_none();
    let differs = |at: &usize| {
        table.rows.iter().any(|row| {
            let [before, left, now] =
                [&row.before, &row.left, &row.now].map(|row| row.as_ref().and_then(|r| r.get(*at)));
            whole(row) || before != left || (now.is_some() && now != left)
        })
    };
    let key: Vec<usize> = target.key.columns.clone();
    let naming = target.naming.filter(|at| !key.contains(at));
    let others =
        (0..target.columns.len()).filter(|at| !key.contains(at) && Some(*at) != naming && differs(at));
    let mut all = Vec::new();
    if key.is_empty() {
        let cells = table.rows.iter().map(|row| Text::plain(cells::key(&row.key))).collect();
        let name = target.key.names.first().cloned().unwrap_or_default();
        all.push(TextColumn { name, cells, priority: 0, right: true });
    }
    for at in key.iter().copied().chain(naming).chain(others) {
        let name = target.columns.get(at).map_or(String::new(), |c| escape(&c.name));
        let priority = if key.contains(&at) { 0 } else { 1 + u8::from(Some(at) == naming) };
        let cells: Vec<Text> = table.rows.iter().map(|row| cell(row, at)).collect();
        let right = key.contains(&at) && cells.iter().all(|c| c.0.len() == 1);
        all.push(TextColumn { name, cells, priority, right });
    }
    let stands = table.rows.iter().map(|row| {
        let (style, text) = match &row.stands {
            Stands::AsLeft if row.left.is_none() => (DIM, "gone, as the run left it".to_owned()),
            Stands::AsLeft => (DIM, "as the run left it".to_owned()),
            Stands::AsBefore => (WARN, "as before the run".to_owned()),
            Stands::Changed(columns) => {
                (WARN, format!("changed since: {}", escape(&target.names(columns).join(", "))))
            }
            Stands::Gone => (WARN, "gone since".to_owned()),
            Stands::There => (WARN, "there again".to_owned()),
        };
        Text::default().push(style, text)
    });
    all.push(TextColumn { name: "now".to_owned(), cells: stands.collect(), priority: 0, right: false });
    all
}

/// What a row held, as the run left it, and what it holds where that is another thing.
fn cell(row: &AgainRow, at: usize) -> Text {
    let of = |row: &Option<Vec<Value>>| row.as_ref().and_then(|row| row.get(at)).cloned();
    let (before, left, now) = (of(&row.before), of(&row.left), of(&row.now));
    let first = before.clone().or(left.clone()).or(now.clone()).unwrap_or(Value::Null);
    let mut text = Text::plain(cells::value(&first));
    if let (Some(before), Some(left)) = (&before, &left)
        && before != left
    {
        text = text.push(DIM, " → ").push(AFTER, cells::value(left));
    }
    let left = left.or(before);
    if let (Some(left), Some(now)) = (left, now)
        && left != now
    {
        text = text.push(DIM, " → ").push(WARN, format!("{} now", cells::value(&now)));
    }
    text
}
