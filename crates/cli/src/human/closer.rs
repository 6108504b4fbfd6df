//! The closer look for people: the funnel, near misses, what would pin the rows, and which rows are different in kind.

use std::fmt::Write;

use marktwice_core::study::Side;
use marktwice_run::StepPreview;

use super::cells::{escape, shortened};
use super::table::{Text, TextColumn, draw};
use super::trouble::to_paste;
use super::{BOLD, DIM, KEPT, number, rows, styled, verb};

/// One line of text, however it was laid out, shortened where it is long.
fn condition(text: &str) -> String {
    shortened(&text.split_whitespace().collect::<Vec<_>>().join(" "))
}

/// Each condition with the rows that it leaves.
pub(super) fn funnel(out: &mut String, step: &StepPreview) {
    let steps = &step.study.funnel;
    if steps.is_empty() {
        return;
    }
    out.push('\n');
    let column = |name: &str, cells: Vec<Text>, right: bool, priority: u8| TextColumn {
        name: name.to_owned(),
        cells,
        priority,
        right,
    };
    let all = std::iter::once(("every row".to_owned(), step.total.rows, None))
        .chain(steps.iter().enumerate().map(|(at, s)| {
            let word = if at == 0 { "WHERE" } else { "  AND" };
            (format!("{word} {}", condition(&s.condition)), s.rows, s.alone)
        }))
        .collect::<Vec<_>>();
    let names = all.iter().map(|(name, ..)| Text::plain(name.clone())).collect();
    let about = |at: usize| if at == 0 && step.total.about { "about " } else { "" };
    let left = all.iter().enumerate();
    let left =
        left.map(|(at, (_, left, _))| Text::plain(format!("{}{}", about(at), number(*left)))).collect();
    let alone = all
        .iter()
        .enumerate()
        .map(|(at, (.., alone))| {
            let alone = alone.filter(|_| at > 1);
            alone.map_or_else(Text::default, |rows| Text::default().push(DIM, number(rows)))
        })
        .collect();
    let mut table =
        vec![column("the filter, step by step", names, false, 0), column("rows left", left, true, 0)];
    if all.iter().any(|(.., alone)| alone.is_some()) {
        table.push(column("by itself", alone, true, 1));
    }
    out.push_str(&draw(table, super::width()).0);
}

/// The filter that leaves out rows which would break a constraint.
pub(super) fn unbroken(out: &mut String, step: &StepPreview) {
    if let Some(left) = &step.study.unbroken {
        let rest = format!("{} {}", rows(left.rows), verb(left.rows, "remains", "remain"));
        let _ = writeln!(out, "        to leave out the rows that would break a constraint ({rest}), write:");
        to_paste(out, &left.filter, "          ");
    }
}

/// Rows of a join that find no partner, on either side.
pub(super) fn partners(out: &mut String, step: &StepPreview) {
    let own = escape(&step.block.target.table);
    if !step.study.partners.is_empty() {
        out.push('\n');
    }
    for (at, side) in step.study.partners.iter().enumerate() {
        let source =
            side.source.as_ref().map_or_else(|| "the tables that it is joined to".to_owned(), |s| escape(s));
        let (of, to) = match side.side {
            Side::Target => (&own, &source),
            Side::Source => (&source, &own),
        };
        let among = if side.narrowed { format!("{of} that the filter lets through") } else { of.clone() };
        let head = if at == 0 { "join" } else { "    " };
        if side.rows == 0 {
            let what = format!("every one of the {} of {among} finds a row of {to}", rows(side.of));
            let _ = writeln!(out, "  {}  {}", styled(DIM, head), styled(DIM, &what));
            continue;
        }
        let kept = if side.kept { ", and is matched all the same" } else { "" };
        let (find, kept) = match side.rows {
            1 => ("finds", kept.to_owned()),
            _ => ("find", kept.replace("is", "are")),
        };
        let what =
            format!("{} of the {} of {among} {find} no row of {to}{kept}", number(side.rows), rows(side.of));
        let shown: Vec<String> = side.examples.iter().map(|row| named(&side.columns, row)).collect();
        let more = side.rows.saturating_sub(shown.len() as u64);
        let more = if more > 0 { format!(", and {} more", number(more)) } else { String::new() };
        let _ = writeln!(out, "  {}  {what}", styled(BOLD, head));
        if !shown.is_empty() {
            let _ = writeln!(out, "        {}{more}", shown.join("; "));
        }
    }
}

fn named(columns: &[String], row: &[Option<String>]) -> String {
    let cells = columns.iter().zip(row).map(|(name, value)| {
        format!("{} {}", escape(name), value.as_ref().map_or_else(|| "NULL".to_owned(), |v| shortened(v)))
    });
    cells.collect::<Vec<_>>().join(", ")
}

/// Rows that are barely kept out.
pub(super) fn near_misses(out: &mut String, step: &StepPreview) {
    if step.study.near.is_empty() {
        return;
    }
    out.push('\n');
    for near in &step.study.near {
        let what = format!("{} barely kept out, by {} alone", rows(near.rows), near.by);
        let _ = writeln!(out, "  {}  {what}: {}", styled(BOLD, "near"), condition(&near.condition));
        let shown: Vec<String> = near
            .examples
            .iter()
            .map(|(key, value)| {
                let value = match value {
                    Some(text) => format!("'{}'", shortened(text)),
                    None => "NULL".to_owned(),
                };
                let table = escape(&step.block.target.table);
                if key.is_empty() {
                    format!("{table} with {value}")
                } else {
                    format!("{table} {} {value}", escape(key))
                }
            })
            .collect();
        let more = near.rows.saturating_sub(near.examples.len() as u64);
        let more = if more > 0 { format!(", and {} more", number(more)) } else { String::new() };
        let _ = writeln!(out, "        {}{more}", shown.join(", "));
    }
}

/// What would pin the rows, ready to paste.
pub(super) fn pins(out: &mut String, step: &StepPreview) {
    for offer in &step.study.pins {
        let columns = escape(&offer.columns.join(" and "));
        let is = verb(offer.columns.len() as u64, "is", "are together");
        let why = if offer.declared {
            "by the key".to_owned()
        } else if offer.columns.len() == 1
            && step.block.target.columns.iter().all(|c| c.name != offer.columns.concat())
        {
            "by the row identity".to_owned()
        } else {
            format!("{columns} {is} unique in the data as it is")
        };
        let _ = writeln!(
            out,
            "{KEPT}  {}  {why}:  {}",
            styled(DIM, "pins"),
            styled(BOLD, &escape(&offer.filter))
        );
    }
}

/// Rows that are different in kind, with the condition that leaves them out.
pub(super) fn kinds(out: &mut String, step: &StepPreview) {
    for kind in &step.study.kinds {
        let fits = if kind.fits { "" } else { " (the count would still be another)" };
        let what = format!("in {} {}", rows(kind.rows), escape(&kind.what));
        let _ = writeln!(out, "{KEPT}         {what}; to leave them out, write{fits}:");
        to_paste(out, &kind.filter, "           ");
    }
}
