//! `look`: the tables of a database, or one of them in full with its rows.

use marktwice_port::EngineError;
use marktwice_run::{Failure, Rows, Show, rows, survey, tables};
use marktwice_sql::Language;
use marktwice_sql::compose::table_name;
use marktwice_sql::near::nearest;

use super::{Desk, print, print_json};
use crate::args::{Common, Format, LookArgs};
use crate::report::Trouble;
use crate::{exit, human, json};

/// Looks.
pub(crate) fn run(common: &Common, args: &LookArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let Some(typed) = &args.table else {
        let seen = desk.with(tables).map_err(|f| Trouble::failure(&f, "").on(&desk))?;
        match common.format {
            Format::Json => print_json(&json::tables(&seen)),
            Format::Human => print(&human::look::tables(&seen)),
        }
        return Ok(exit::DONE);
    };
    let (schema, name) = table_name(typed);
    let full = desk
        .with(|context| survey(context, schema.as_deref(), &name))
        .map_err(|failure| no_table(&desk, failure, &name))?;
    let target = &full.seen.target;
    let language = desk.kind.language;
    let from = match language {
        Language::Sqlite => language.quoted(&target.table),
        _ => format!("{}.{}", language.quoted(&target.schema), language.quoted(&target.table)),
    };
    // A statement is the one thing whose filter is understood; it is never run.
    let statement = match &args.filter {
        Some(filter) => format!("DELETE FROM {from} WHERE {filter}"),
        None => format!("DELETE FROM {from}"),
    };
    let limit = match args.show {
        Show::First(n) => Some(n as u64),
        Show::All => None,
    };
    let limit = if args.csv && args.show == Show::First(10) { None } else { limit };
    let found = desk
        .with(|context| rows(context, &statement, limit))
        .map_err(|failure| Trouble::failure(&failure, "--where").on(&desk))?;
    if args.csv {
        print_csv(&found.seen)?;
        return Ok(exit::DONE);
    }
    match common.format {
        Format::Json => print_json(&json::look(&full, &found.seen)),
        Format::Human => print(&human::look::table(&full, &found.seen, args.filter.is_some())),
    }
    Ok(exit::DONE)
}

/// What went wrong on looking for a table, with the name that may have been meant.
pub(super) fn no_table(desk: &Desk, failure: Failure, name: &str) -> Trouble {
    let trouble = Trouble::failure(&failure, "").on(desk);
    if !matches!(failure, Failure::Engine(EngineError::NotFound(_))) {
        return trouble;
    }
    let all = desk.with(tables).map(|seen| seen.seen).unwrap_or_default();
    let names: Vec<&str> = all.iter().map(|t| t.table.as_str()).collect();
    let hint = match nearest(name, names.iter().copied()) {
        Some(near) => format!("did you mean {near}?"),
        None if names.is_empty() => "there are no tables here".to_owned(),
        None => format!("there are: {}", names.join(", ")),
    };
    Trouble { hint: Some(hint), status: exit::USAGE, ..trouble }
}

fn print_csv(found: &Rows) -> Result<(), Trouble> {
    let failed = |e: &dyn std::fmt::Display| Trouble::usage(format!("the rows cannot be written: {e}"), "");
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(found.target.columns.iter().map(|c| c.name.as_str())).map_err(|e| failed(&e))?;
    for row in &found.rows {
        writer.write_record(row.before.iter().map(super::receipt::csv_cell)).map_err(|e| failed(&e))?;
    }
    let bytes = writer.into_inner().map_err(|e| failed(&e))?;
    super::print_bytes(&bytes);
    Ok(())
}
