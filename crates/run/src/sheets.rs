//! Spreadsheets as tables: what their columns are, by what the steps do with them, and their rows on the way into the engine.

use marktwice_core::Value;
use marktwice_core::change::Change;
use marktwice_core::finding::TextPlace;
use marktwice_core::param::ParamKind;
use marktwice_core::sheet::{LINE, Sheet, cell};
use marktwice_core::words;
use marktwice_port::{Phase, Session, SheetColumn, SheetTable, SheetUse};

use crate::collect::unwrap_sink;
use crate::context::Context;
use crate::outcome::Failure;

/// Cells that are named where they do not fit.
const NAMED: usize = 5;

/// What a column is, what it is like, and where that is said.
type Known = (ParamKind, Option<(Option<String>, String, String)>, usize);

/// What stops a sheet on its way.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
struct Stopped(String);

/// Whether a step reads a sheet.
pub(crate) fn names_sheet(step: &str, sheet: &Sheet) -> bool {
    // A word that is called like it counts, wherever it stands: then it is one more reason to be another change.
    names(step, &sheet.name)
}

/// Whether a text has a name anywhere in it, whatever it is there.
pub(crate) fn names(text: &str, name: &str) -> bool {
    text.to_lowercase().contains(&name.to_lowercase())
}

/// Makes the tables of a change's sheets in a session. What was taken for granted is said.
///
/// # Errors
/// Where a sheet cannot be read, a column is used in two ways, or cells do not fit; when the engine fails.
pub(crate) fn spread(
    context: &Context<'_>,
    session: &mut dyn Session,
    change: &Change,
) -> Result<Vec<String>, Failure> {
    let mut said = Vec::new();
    for sheet in &change.sheets {
        let table = typed(context, session, change, sheet)?;
        fill(context, session, sheet, &table)?;
        let read = (0..change.steps.len()).any(|step| names_sheet(&change.only(step), sheet));
        let unread = if read { "" } else { "; no step reads it" };
        said.push(format!("{}{unread}", in_words(sheet, &table)));
    }
    Ok(said)
}

/// `sheet prices: 12 lines of prices.csv; price as decimal`.
fn in_words(sheet: &Sheet, table: &SheetTable) -> String {
    let typed = table.columns.iter().filter(|c| c.kind != ParamKind::Text && !is_line(sheet, &c.name));
    let typed: Vec<String> = typed.map(|c| format!("{} as {}", c.name, c.kind.as_str())).collect();
    let typed = if typed.is_empty() { String::new() } else { format!("; {}", typed.join(", ")) };
    let form = &sheet.form;
    let comma = if form.decimal_comma { ", decimal commas" } else { "" };
    let separator = match form.separator {
        '\t' => "tabs".to_owned(),
        other => format!("\"{other}\""),
    };
    format!(
        "sheet {}: {} of {}, separated by {separator}{comma}{typed}",
        sheet.name,
        words::of(sheet.lines, "line"),
        name(&sheet.file)
    )
}

/// The last part of a path: where it lies is in the receipt.
fn name(path: &str) -> &str {
    path.rsplit(['/', '\\']).next().unwrap_or(path)
}

fn is_line(sheet: &Sheet, name: &str) -> bool {
    sheet.numbers_lines() && name == LINE
}

/// What its columns are.
fn typed(
    context: &Context<'_>,
    session: &mut dyn Session,
    change: &Change,
    sheet: &Sheet,
) -> Result<SheetTable, Failure> {
    let language = context.engine.language();
    let mut uses: Vec<SheetUse> = Vec::new();
    for step in 0..change.steps.len() {
        let all = language.sheet_uses(&change.only(step), &sheet.name, &sheet.columns);
        uses.extend(all);
    }
    let mut columns: Vec<SheetColumn> = Vec::new();
    if sheet.numbers_lines() {
        let (name, kind) = (LINE.to_owned(), ParamKind::Integer);
        columns.push(SheetColumn { name, kind, like: None, compared: false });
    }
    for (at, name) in sheet.columns.iter().enumerate() {
        let mut known: Option<Known> = None;
        let mut number = false;
        let mut compared = false;
        for of in uses.iter().filter(|of| of.column == at) {
            compared |= of.compared;
            number |= of.number;
            let Some((schema, Some(table), column)) = &of.with else { continue };
            let Some(found) = session.column(schema.as_deref(), table, column)? else { continue };
            let kind = language.kind(&found);
            match &known {
                Some((other, _, first)) if *other != kind => {
                    let place = |at: usize| TextPlace::in_source(&change.source, at, at).line;
                    let message = format!(
                        "{name} of the sheet {} is used as {} (line {}) and as {} (line {})",
                        sheet.name,
                        other.as_str(),
                        place(*first),
                        kind.as_str(),
                        place(of.range.start)
                    );
                    let hint = "give the sheet a column for each, or say what it is: [sheet.NAME.types]";
                    if !sheet.types.contains_key(name) {
                        return Err(Failure::usage(message, hint));
                    }
                }
                Some(_) => {}
                None => {
                    let like = (schema.clone(), table.clone(), column.clone());
                    known = Some((kind, Some(like), of.range.start));
                }
            }
        }
        let computed = if number { ParamKind::Decimal } else { ParamKind::Text };
        let (kind, like) = match (sheet.types.get(name), known) {
            (Some(kind), _) => (*kind, None),
            (None, Some((kind, like, _))) => (kind, like),
            (None, None) => (computed, None),
        };
        columns.push(SheetColumn { name: name.clone(), kind, like, compared });
    }
    Ok(SheetTable { name: sheet.name.clone(), columns })
}

fn fill(
    context: &Context<'_>,
    session: &mut dyn Session,
    sheet: &Sheet,
    table: &SheetTable,
) -> Result<(), Failure> {
    let unread = |what: String| Failure::usage(what, "look at the sheet, and save it again");
    let lines = context.ambient.sheet(sheet).map_err(unread)?;
    let mut lines = lines.peekable();
    let numbered = sheet.numbers_lines();
    let (mut wrong, mut bad) = (Vec::new(), 0u64);
    let mut done = 0u64;
    let stop = context.ambient.stopper();
    let mut next = || -> Result<Option<Vec<Value>>, marktwice_port::SinkError> {
        loop {
            let Some(line) = lines.next() else { return Ok(None) };
            let (number, cells) = line.map_err(Stopped)?;
            done += 1;
            if done.is_multiple_of(4096) {
                context.ambient.progress(Phase::Sheet, done, Some(sheet.lines));
                if stop() {
                    return Err(Box::new(crate::collect::Stopped));
                }
            }
            let own = table.columns.iter().skip(usize::from(numbered));
            let mut row: Vec<Value> = Vec::with_capacity(table.columns.len());
            if numbered {
                row.push(Value::Int(i64::try_from(number).unwrap_or(i64::MAX)));
            }
            for (column, text) in own.zip(&cells) {
                match cell(column.kind, text, &sheet.form) {
                    Ok(value) => row.push(value),
                    Err(what) => {
                        bad += 1;
                        row.push(Value::Null);
                        if wrong.len() < NAMED {
                            wrong.push(format!("line {number}, {}: {what}", column.name));
                        }
                    }
                }
            }
            // Once a cell does not fit, the others are only looked at.
            if bad == 0 {
                return Ok(Some(row));
            }
        }
    };
    let filled = session.spread(table, &mut next);
    if bad > 0 {
        let more = bad - wrong.len() as u64;
        let more = if more > 0 { format!("; and {more} more") } else { String::new() };
        let message = format!(
            "{} {} of {} {} what {} used for: {}{more}",
            words::number(bad),
            words::either(bad, "cell", "cells"),
            sheet.file,
            words::either(bad, "does not fit", "do not fit"),
            words::either(bad, "it is", "they are"),
            wrong.join("; ")
        );
        return Err(Failure::usage(
            message,
            "correct the sheet, or say how it is written: [sheet.NAME] decimal, days, null",
        ));
    }
    match filled {
        Ok(_) => Ok(()),
        Err(marktwice_port::EngineError::Sink(sink)) if sink.is::<Stopped>() => {
            Err(unread(format!("{}: {sink}", sheet.file)))
        }
        Err(error) => Err(unwrap_sink(error)),
    }
}
