//! Tables and rows that were looked at, for people.

use marktwice_core::words;
use std::fmt::Write;

use marktwice_core::survey::{Reference, Survey, TableSummary};
use marktwice_core::table::KeyKind;
use marktwice_run::{Rows, Seen};

use super::cells::{escape, key as key_text, shortened, value};
use super::table::{Text, TextColumn, draw};
use super::{BOLD, DIM, database, number, rows, styled, verb, width};

fn column(name: &str, cells: Vec<Text>, priority: u8, right: bool) -> TextColumn {
    TextColumn { name: name.to_owned(), cells, priority, right }
}

/// All tables.
pub(crate) fn tables(seen: &Seen<Vec<TableSummary>>, on: &str) -> String {
    let all = &seen.seen;
    let views = all.iter().filter(|t| t.view).count();
    let count = words::of((all.len() - views) as u64, "table");
    let views = if views > 0 { format!(", {}", words::of(views as u64, "view")) } else { String::new() };
    let mut out = format!("{} · {count}{views}\n", database(&seen.database));
    if all.is_empty() {
        return out;
    }
    out.push('\n');
    let text = |of: &dyn Fn(&TableSummary) -> String| all.iter().map(|t| Text::plain(of(t))).collect();
    let table = vec![
        column("table", text(&|t| escape(&t.table)), 0, false),
        column("rows", text(&|t| t.rows.map_or("?".to_owned(), number)), 0, true),
        column("columns", text(&|t| t.columns.to_string()), 2, true),
        column(
            "key",
            text(&|t| match t.key.as_slice() {
                _ if t.view => "(a view)".to_owned(),
                [] => "none".to_owned(),
                key => escape(&key.join(", ")),
            }),
            1,
            false,
        ),
    ];
    out.push_str(&draw(table, width()).0);
    let _ = writeln!(out, "\nOne table in full: marktwice look TABLE{on}");
    out
}

/// One table in full.
pub(crate) fn table(seen: &Seen<Survey>, (found, chosen): (&Rows, &[usize]), filtered: bool) -> String {
    let Survey { target, declared, view, rows: total, unique_in_fact, skipped } = &seen.seen;
    let what = if view.is_some() { "view · " } else { "" };
    let name = styled(BOLD, &escape(&target.table));
    let mut out = format!("{} · {name} · {what}{}\n", database(&seen.database), rows(*total));
    for note in &seen.notes {
        let _ = writeln!(out, "note: {note}");
    }
    out.push('\n');
    columns(&mut out, &seen.seen);
    out.push('\n');
    let mut lines: Vec<(&str, String)> = Vec::new();
    for key in &declared.keys {
        let what = if key.primary { "primary key" } else { "unique" };
        lines.push((what, escape(&key.columns.join(", "))));
    }
    if let Some(view) = view {
        lines.push(("reads", escape(&view.reads.join(", "))));
        let definition = view.definition.trim().trim_end_matches(';');
        lines.extend(definition.lines().enumerate().map(|(at, line)| {
            let line = line.trim_end();
            (if at == 0 { "definition" } else { "" }, escape(if at == 0 { line.trim_start() } else { line }))
        }));
    }
    match target.key.kind {
        KeyKind::WholeRow if view.is_some() => {}
        KeyKind::RowIdentity => lines.push((
            "no key",
            format!("rows are told apart by the engine's own {}", target.key.names.join("")),
        )),
        KeyKind::WholeRow => lines.push(("no key", "rows are told apart by their whole contents".to_owned())),
        KeyKind::Primary | KeyKind::Unique => {}
    }
    for columns in unique_in_fact {
        lines.push(("unique in fact", format!("{} (nobody declared it)", escape(&columns.join(" with ")))));
    }
    let reference = |r: &Reference, own: &[String], other: &str, others: &[String]| {
        let actions = [("on delete", &r.on_delete), ("on update", &r.on_update)]
            .iter()
            .filter(|(_, action)| !action.is_empty() && *action != "NO ACTION")
            .map(|(when, action)| format!(", {when} {}", action.to_lowercase()))
            .collect::<String>();
        escape(&format!("{} → {other} ({}){actions}", own.join(", "), others.join(", ")))
    };
    for r in &declared.refers {
        lines.push(("refers to", reference(r, &r.child_columns, &r.parent, &r.parent_columns)));
    }
    for r in &declared.referred {
        let own = vec![format!("{} ({})", r.child, r.child_columns.join(", "))];
        lines.push(("referred by", reference(r, &own, &r.parent, &r.parent_columns)));
    }
    lines.extend(
        declared.checks.iter().map(|c| ("check", shortened_line(c.strip_prefix("CHECK ").unwrap_or(c)))),
    );
    lines.extend(declared.triggers.iter().map(|t| ("trigger", shortened_line(t))));
    for kind in lines.chunk_by(|one, next| one.0 == next.0) {
        // One more line would say no more than that there is one more.
        let most = if kind.len() > OF_A_KIND + 1 { OF_A_KIND } else { kind.len() };
        for (what, text) in kind.iter().take(most) {
            let _ = writeln!(out, "  {}  {text}", styled(DIM, &format!("{what:>14}")));
        }
        let more = kind.len() - most;
        if more > 0 {
            let more = format!("{:>14}  and {} more (--format json has all)", "", number(more as u64));
            let _ = writeln!(out, "  {}", styled(DIM, &more));
        }
    }
    if let Some(why) = skipped {
        let _ = writeln!(out, "  {}", styled(DIM, &format!("not looked at: {why}")));
    }
    out.push('\n');
    row_table(&mut out, (found, chosen), filtered);
    out
}

/// Lines of one kind that are shown: nobody reads more of them.
const OF_A_KIND: usize = 8;

fn shortened_line(text: &str) -> String {
    escape(&text.chars().take(160).collect::<String>())
}

fn columns(out: &mut String, survey: &Survey) {
    let target = &survey.target;
    let all = &target.columns;
    let default = |at: usize| survey.declared.defaults.get(at).and_then(Option::as_deref);
    let notes = |at: usize| {
        let mut notes: Vec<String> = Vec::new();
        let Some(column) = all.get(at) else { return String::new() };
        if target.key.columns.contains(&at) {
            notes.push("key".to_owned());
        }
        if column.generated {
            notes.push("computed".to_owned());
        } else if column.not_null {
            notes.push("not NULL".to_owned());
        }
        if let Some(default) = default(at) {
            notes.push(format!("default {}", shortened(default)));
        }
        notes.join(", ")
    };
    let table = vec![
        column("column", all.iter().map(|c| Text::plain(escape(&c.name))).collect(), 0, false),
        column("type", all.iter().map(|c| Text::plain(escape(&c.declared))).collect(), 1, false),
        column("", (0..all.len()).map(|at| Text::default().push(DIM, notes(at))).collect(), 2, false),
    ];
    out.push_str(&draw(table, width()).0);
}

fn row_table(out: &mut String, (found, chosen): (&Rows, &[usize]), filtered: bool) {
    if filtered {
        let _ = writeln!(
            out,
            "  {} {}",
            styled(BOLD, &rows(found.matched)),
            verb(found.matched, "matches", "match")
        );
        if !found.rows.is_empty() {
            out.push('\n');
        }
    }
    if found.rows.is_empty() {
        return;
    }
    let target = &found.target;
    let mut table: Vec<TextColumn> = Vec::new();
    if target.key.kind == KeyKind::RowIdentity {
        let cells = found.rows.iter().map(|r| Text::plain(key_text(&r.key))).collect();
        table.push(column(&target.key.names.join(""), cells, 0, true));
    }
    for (at, about) in chosen.iter().filter_map(|&at| Some((at, target.columns.get(at)?))) {
        let cell = |row: &marktwice_core::mark::HeldRow| {
            row.image.row().get(at).map_or_else(Text::default, |v| {
                let style = if v.is_null() { DIM } else { anstyle::Style::new() };
                Text::default().push(style, value(v))
            })
        };
        let number = found.rows.iter().all(|r| {
            use marktwice_core::Value::{Decimal, Int, Null, Real};
            matches!(r.image.row().get(at), Some(Int(_) | Real(_) | Decimal(_) | Null))
        });
        let priority = if target.key.columns.contains(&at) { 0 } else { 1 };
        table.push(column(&escape(&about.name), found.rows.iter().map(cell).collect(), priority, number));
    }
    let (text, left_out) = draw(table, width());
    out.push_str(&text);
    let more = found.matched.saturating_sub(found.rows.len() as u64);
    if more > 0 {
        let _ = writeln!(out, "  {}", styled(DIM, &format!("and {} more (--show all)", rows(more))));
    }
    if !left_out.is_empty() {
        let text = format!("not shown for lack of width: {}", left_out.join(", "));
        let _ = writeln!(out, "  {}", styled(DIM, &text));
    }
}
