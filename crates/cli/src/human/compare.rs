//! Two ways of writing a change, compared; and a file with its last preview.

use std::fmt::Write;

use marktwice_core::image::Image;
use marktwice_core::mark::StepKind;
use marktwice_core::moved::{How, Moved};
use marktwice_core::value::key_text;
use marktwice_core::words::moment;
use marktwice_run::{Difference, DifferentRow, Preview, Since, StepDifference};

use super::table::{Text, TextColumn, draw};
use super::{AFTER, BOLD, DIM, GOOD, STOP, WARN, cells, database, number, rows, styled, verb, width};

/// Two changes compared.
pub(crate) fn comparison(found: &Difference, names: [&str; 2]) -> String {
    let [a, b] = names_of(names);
    let mut out =
        format!("{} · {} compared with {}\n", database(&found.database), styled(BOLD, &a), styled(BOLD, &b));
    for note in &found.notes {
        let _ = writeln!(out, "{} {note}", styled(WARN, "note:"));
    }
    for (at, step) in found.steps.iter().enumerate() {
        let number_of = if found.steps.len() > 1 { format!("Step {} · ", at + 1) } else { String::new() };
        let what = format!("{} {}", step.kind.verb(), step.target.table);
        let _ = writeln!(out, "\n{number_of}{}", styled(BOLD, &what));
        one_step(&mut out, step, [&a, &b]);
    }
    let open = found.steps.iter().any(|step| step.waits.is_some());
    out.push('\n');
    out.push_str(&if found.same() {
        format!("{}: they match the same rows and give the same values.\n", styled(GOOD, "The same"))
    } else if open && found.steps.iter().all(|s| s.only == [0, 0] && s.otherwise == 0) {
        format!("{}: only a rehearsal can tell the rows of every step.\n", styled(WARN, "Not known"))
    } else if found.steps.iter().all(|s| s.only == [0, 0] && s.otherwise == 0) {
        format!(
            "{}: they match the same rows; the values that were not compared may differ.\n",
            styled(WARN, "Not known")
        )
    } else {
        format!("{}: they do not do the same.\n", styled(STOP, "Different"))
    });
    out
}

/// The names by which two changes are told apart.
fn names_of([a, b]: [&str; 2]) -> [String; 2] {
    let (a, b) = (cells::escape(a), cells::escape(b));
    if a == b { ["the first".to_owned(), "the second".to_owned()] } else { [a, b] }
}

fn one_step(out: &mut String, step: &StepDifference, [a, b]: [&str; 2]) {
    if let Some(why) = &step.waits {
        let _ = writeln!(
            out,
            "  {}",
            styled(WARN, &format!("only a rehearsal can tell its rows: {}", cells::escape(why)))
        );
        return;
    }
    if step.same_statement {
        let _ = writeln!(out, "  the same statement, behind steps that do the same");
        return;
    }
    let [first, second] = step.matched;
    let matches = |n: u64| format!("{} {}", rows(n), verb(n, "matches", "match"));
    let _ = writeln!(out, "  {}: {}; {}: {}", a, matches(first), b, matches(second));
    let mut counts = Vec::new();
    for (n, name) in step.only.iter().zip([a, b]) {
        if *n > 0 {
            counts.push(format!("{} only by {name}", rows(*n)));
        }
    }
    if step.otherwise > 0 {
        counts.push(format!("{} by both, with other results", rows(step.otherwise)));
    }
    if !counts.is_empty() {
        let _ = writeln!(out, "  {}", counts.join(", "));
    }
    for (column, why) in &step.left_out {
        let why = why.as_ref().map_or(String::new(), |why| format!(" ({why})"));
        let text = format!("not compared: {column}{why}; only the run can tell");
        let _ = writeln!(out, "  {}", styled(DIM, &cells::escape(&text)));
    }
    if !step.rows.is_empty() {
        out.push('\n');
        out.push_str(&table(step, [a, b]));
    }
    let total = step.only.iter().sum::<u64>() + step.otherwise;
    let more = total.saturating_sub(step.rows.len() as u64);
    if more > 0 {
        let _ = writeln!(out, "  {}", styled(DIM, &format!("and {} more", rows(more))));
    }
}

/// The differing rows: by which they are matched, and what becomes of the columns that differ in any of them.
fn table(step: &StepDifference, [a, b]: [&str; 2]) -> String {
    let target = &step.target;
    let key = if target.key.names.is_empty() { "row".to_owned() } else { target.key.names.join(", ") };
    let column =
        |name: String, cells: Vec<Text>, priority: u8| TextColumn { name, cells, priority, right: false };
    let by = |row: &DifferentRow| match &row.images {
        [Some(_), None] => format!("only {a}"),
        [None, Some(_)] => format!("only {b}"),
        _ => "both".to_owned(),
    };
    let keys = step.rows.iter().map(|row| Text::plain(cells::escape(&key_text(&row.key)))).collect();
    let mut all = vec![
        column(cells::escape(&key), keys, 0),
        column("matched by".to_owned(), step.rows.iter().map(|row| Text::plain(by(row))).collect(), 0),
    ];
    if target.naming.is_some_and(|at| !target.key.columns.contains(&at))
        && step.kind == StepKind::Delete
        && let Some(at) = target.naming
    {
        let name = |row: &DifferentRow| {
            let image = row.images.iter().flatten().next();
            Text::plain(image.and_then(|i| i.row().get(at)).map(cells::value).unwrap_or_default())
        };
        let title = target.columns.get(at).map_or(String::new(), |c| cells::escape(&c.name));
        all.push(column(title, step.rows.iter().map(name).collect(), 1));
    }
    for (at, about) in target.columns.iter().enumerate() {
        let after = |image: &Option<Image>| image.as_ref().and_then(|i| i.after()?.get(at).cloned());
        let differs = |row: &DifferentRow| {
            let before = row.images.iter().flatten().next().and_then(|i| i.before()?.get(at).cloned());
            let [one, two] = [after(&row.images[0]), after(&row.images[1])];
            match (&one, &two) {
                (Some(one), Some(two)) => one != two,
                (Some(only), None) | (None, Some(only)) => Some(only) != before.as_ref(),
                (None, None) => false,
            }
        };
        if !step.rows.iter().any(differs) {
            continue;
        }
        for (side, name) in [a, b].into_iter().enumerate() {
            let cell = |row: &DifferentRow| {
                let Some(slot) = row.images.get(side) else { return Text::default() };
                let Some(image) = slot else { return Text::default() };
                let before = image.before().and_then(|r| r.get(at)).map(cells::value).unwrap_or_default();
                match after(slot) {
                    Some(value) if image.before().and_then(|r| r.get(at)) != Some(&value) => {
                        Text::plain(before).push(DIM, " → ").push(AFTER, cells::value(&value))
                    }
                    _ => Text::plain(before),
                }
            };
            let title = format!("{} by {name}", cells::escape(&about.name));
            all.push(column(title, step.rows.iter().map(cell).collect(), 1));
        }
    }
    draw(all, width()).0
}

/// What has become of a step's rows since an earlier preview, in one line.
pub(crate) fn since(since: &Since, table: &str) -> String {
    let Moved { joined, left, changed, result, .. } = since.moved;
    let mut parts = Vec::new();
    let mut part = |n: u64, what: &str, how: &[How]| {
        if n == 0 {
            return;
        }
        let named = since.moved.named.iter().filter(|row| how.contains(&row.how)).take(3);
        let named: Vec<String> = named.map(|row| format!("{table} {}", key_text(&row.key))).collect();
        let more = n.saturating_sub(named.len() as u64);
        let more = if more > 0 { format!(" and {} more", number(more)) } else { String::new() };
        parts.push(cells::escape(&format!("{} {what} ({}{more})", rows(n), named.join(", "))));
    };
    part(left, "fewer", &[How::Left]);
    part(joined, "more", &[How::Joined]);
    part(changed, "with other contents", &[How::Changed]);
    part(result, "with other results", &[How::Result]);
    let what = if parts.is_empty() { "the same rows".to_owned() } else { parts.join(", ") };
    let only = if since.rows_only {
        "; what becomes of them is not compared, as other columns are written"
    } else {
        ""
    };
    format!("since the preview of {}: {what}{only}", moment(&since.taken))
}

/// A file compared with its last preview.
pub(crate) fn again(preview: &Preview, name: &str) -> String {
    let when = preview.before.as_deref().map_or(String::new(), moment);
    let name = styled(BOLD, &cells::escape(name));
    let mut out = format!("{} · {name} compared with its preview of {when}\n", database(&preview.database));
    for (at, step) in preview.steps.iter().enumerate() {
        let block = &step.block;
        let number_of = if preview.steps.len() > 1 { format!("Step {} · ", at + 1) } else { String::new() };
        let what = styled(BOLD, &format!("{} {}", block.kind.verb(), block.target.table));
        let _ = writeln!(
            out,
            "\n{number_of}{what} · {} {}",
            rows(block.matched),
            verb(block.matched, "matches", "match")
        );
        let said = match &step.since {
            _ if !step.told => "only a rehearsal can tell its rows".to_owned(),
            Some(found) => since(found, &block.target.table),
            None => "the same rows, and the same becomes of them".to_owned(),
        };
        let _ = writeln!(out, "  {said}");
    }
    let (style, end) = if preview.as_before() { (GOOD, "The same") } else { (STOP, "Different") };
    let _ = writeln!(out, "\n{}. By key and hash: marks hold no values.", styled(style, end));
    out
}
