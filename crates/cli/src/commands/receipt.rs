//! `receipt`: one run in full, and its rows for a spreadsheet.

use std::path::Path;

use marktwice_core::Value;
use marktwice_core::undo::RowChange;
use marktwice_port::{Intent, LogError, LogErrorKind};
use marktwice_run::{Entry, Failure, find_run};

use super::{Desk, history, print, print_json};
use crate::args::{Common, Format};
use crate::report::Trouble;
use crate::{exit, human, json};

/// Shows one run.
pub(crate) fn run(common: &Common, name: Option<&str>, csv: Option<&Path>) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let past = history::past(&desk)?;
    let failed = |failure: Failure| Trouble::failure(&failure, "the logbook").on(&desk);
    let entry = find_run(&past.entries, name).map_err(failed)?;
    if let Some(path) = csv {
        let rows = write_csv(&desk, &entry, path).map_err(failed)?;
        if common.format == Format::Human {
            print(&format!(
                "{} of run {} written to {}\n",
                human::rows(rows),
                entry.receipt.run,
                path.display()
            ));
            return Ok(exit::DONE);
        }
    }
    match common.format {
        Format::Json => print_json(&json::receipt(&entry)),
        Format::Human => print(&human::receipt(&entry)),
    }
    Ok(exit::DONE)
}

/// One line a row: its number, what became of it, all columns before, all columns after. NULL and bytes are written so
/// that a spreadsheet shows them; for the exact values there is the snapshot itself.
fn write_csv(desk: &Desk, entry: &Entry, path: &Path) -> Result<u64, Failure> {
    let receipt = &entry.receipt;
    let missing = || Failure::Usage {
        message: format!("run {} has no rows in the logbook", receipt.run),
        hint: "marktwice receipt without --csv shows what there is".to_owned(),
    };
    let snapshot = receipt.snapshot.as_ref().filter(|_| receipt.forgotten.is_none()).ok_or_else(missing)?;
    let io = |error: csv::Error| -> Failure {
        LogError::new(LogErrorKind::Io, format!("cannot write {}: {error}", path.display())).into()
    };
    desk.with(|context| {
        let session = context.open(Intent::Read)?;
        let book = (context.book)(session.database())?;
        let mut reader = book.snapshot(&receipt.run, snapshot)?;
        let names: Vec<String> = reader
            .header()
            .tables
            .first()
            .map_or(Vec::new(), |t| t.columns.iter().map(|c| c.name.clone()).collect());
        let mut writer = csv::Writer::from_path(path).map_err(io)?;
        let after = names.iter().map(|n| format!("{n} after"));
        let head =
            ["row".to_owned(), "what".to_owned()].into_iter().chain(names.iter().cloned()).chain(after);
        writer.write_record(head).map_err(io)?;
        let mut rows = 0;
        while let Some(change) = reader.next()? {
            writer.write_record(record(&change, names.len())).map_err(io)?;
            rows += 1;
        }
        writer.flush().map_err(|e| io(e.into()))?;
        Ok(rows)
    })
}

fn record(change: &RowChange, width: usize) -> Vec<String> {
    let what = match (&change.before, &change.after) {
        (Some(before), Some(after)) if before == after => "same",
        (Some(_), Some(_)) => "changed",
        (Some(_), None) => "deleted",
        (None, _) => "inserted",
    };
    let image = |row: &Option<Vec<Value>>| match row {
        Some(row) => row.iter().map(csv_cell).collect(),
        None => vec![String::new(); width],
    };
    let first = [change.ordinal.to_string(), what.to_owned()];
    first.into_iter().chain(image(&change.before)).chain(image(&change.after)).collect()
}

/// A value for a spreadsheet.
pub(super) fn csv_cell(value: &Value) -> String {
    match value {
        Value::Null => "NULL".to_owned(),
        Value::Text(text) => text.clone(),
        Value::Bytes(bytes) => format!("x'{}'", bytes.iter().map(|b| format!("{b:02x}")).collect::<String>()),
        Value::TextBytes(bytes) => String::from_utf8_lossy(bytes).into_owned(),
        other => other.to_json().to_string(),
    }
}
