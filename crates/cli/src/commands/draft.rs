//! `draft`: a change file to start from, or the steps of a statement that is refused as one.

use std::io::Write;
use std::path::Path;

use marktwice_core::Target;
use marktwice_run::{Failure, rows, target};
use marktwice_sql::Language;
use marktwice_sql::compose::{literal, pair, table, table_name};
use marktwice_sql::near::nearest;

use super::{Desk, print};
use crate::args::{Common, DraftArgs};
use crate::exit;
use crate::report::Trouble;

/// Keys that are named in the filter of a draft without a condition.
const EXAMPLES: u64 = 1;

/// Writes the draft.
pub(crate) fn run(common: &Common, args: &DraftArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let text = match (&args.sql, &args.table) {
        (Some(sql), _) => steps(&desk, sql)?,
        (None, Some(name)) => draft(&desk, args, name)?,
        (None, None) => return Err(Trouble::usage("no table is named", "name a table")),
    };
    match &args.to {
        Some(path) => {
            write_new(path, &text)?;
            print(&format!("{} is written. Next: marktwice preview {}\n", path.display(), path.display()));
        }
        None => super::print_bytes(text.as_bytes()),
    }
    Ok(exit::DONE)
}

fn write_new(path: &Path, text: &str) -> Result<(), Trouble> {
    let failed = |e: std::io::Error| {
        let hint = if e.kind() == std::io::ErrorKind::AlreadyExists {
            "name another file; nothing is overwritten"
        } else {
            "name a file that can be written"
        };
        Trouble::usage(format!("{} cannot be written: {e}", path.display()), hint)
    };
    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).open(path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)
}

/// What to run instead of a statement that is refused.
fn steps(desk: &Desk, sql: &str) -> Result<String, Trouble> {
    let refused = |failure: &Failure| Trouble::failure(failure, "--sql").on(desk);
    match desk.with(|context| rows(context, sql, Some(0))) {
        Ok(seen) => Ok(format!(
            "/* marktwice\ntitle  = \"\"\nreason = \"\"\nrows   = {}\n*/\n{};\n",
            seen.seen.matched,
            sql.trim().trim_end_matches(';')
        )),
        Err(failure) => {
            let Some(paste) = failure.finding().and_then(|f| f.paste.clone()) else {
                return Err(refused(&failure));
            };
            let steps = marktwice_sql::text::split(&paste, desk.kind.language);
            let many = steps.len();
            let mut out = String::new();
            for (at, step) in steps.iter().enumerate() {
                if at > 0 {
                    out.push('\n');
                }
                if many > 1 {
                    out.push_str(&format!("-- step {} of {many}: a change of its own\n", at + 1));
                }
                out.push_str(&format!("/* marktwice\ntitle  = \"\"\nreason = \"\"\n*/\n{step};\n"));
            }
            Ok(out)
        }
    }
}

fn draft(desk: &Desk, args: &DraftArgs, typed: &str) -> Result<String, Trouble> {
    let (schema, name) = table_name(typed);
    let seen = desk
        .with(|context| target(context, schema.as_deref(), &name))
        .map_err(|failure| super::look::no_table(desk, failure, &name))?
        .seen;
    let language = desk.kind.language;
    let table = table(language, &seen, schema.is_some());
    let (filter, count) = match &args.filter {
        Some(filter) => {
            let statement = format!("DELETE FROM {table} WHERE {filter}");
            let found = desk
                .with(|context| rows(context, &statement, Some(0)))
                .map_err(|failure| Trouble::failure(&failure, "--where").on(desk))?;
            (filter.clone(), found.seen.matched)
        }
        None => example(desk, &seen, &table)?,
    };
    let mut out = format!("/* marktwice\ntitle  = \"\"\nreason = \"\"\nrows   = {count}\n*/\n");
    if args.delete {
        out.push_str(&format!("DELETE FROM {table}\n WHERE {filter};\n"));
    } else {
        out.push_str(&format!("UPDATE {table}\n   SET {}\n WHERE {filter};\n", sets(language, args, &seen)?));
    }
    out.push_str(&columns(&seen));
    Ok(out)
}

/// What to set: what was said, or every column with its own value, to be changed or taken out.
fn sets(language: Language, args: &DraftArgs, target: &Target) -> Result<String, Trouble> {
    if args.sets.is_empty() {
        let free: Vec<String> = target
            .columns
            .iter()
            .enumerate()
            .filter(|(at, c)| !c.generated && !target.key.columns.contains(at))
            .map(|(_, c)| format!("{0} = {0}", language.name(&c.name)))
            .collect();
        return Ok(free.join(",\n       "));
    }
    let sets: Result<Vec<String>, _> = args
        .sets
        .iter()
        .map(|typed| {
            let (column, value) = pair(target, typed)?;
            Ok(format!("{} = {}", language.name(&column.name), literal(language, column, value)?))
        })
        .collect();
    sets.map(|all| all.join(",\n       "))
        .map_err(|wrong: marktwice_sql::compose::Uncomposed| Trouble::usage(wrong.message, wrong.hint))
}

/// The key of the first row, to start from.
fn example(desk: &Desk, target: &Target, table: &str) -> Result<(String, u64), Trouble> {
    let language = desk.kind.language;
    let statement = format!("DELETE FROM {table}");
    let found = desk
        .with(|context| rows(context, &statement, Some(EXAMPLES)))
        .map_err(|failure| Trouble::failure(&failure, "the table").on(desk))?;
    let Some(first) = found.seen.rows.first() else {
        return Err(Trouble::usage(format!("{} has no rows", target.table), "there is nothing to change"));
    };
    let names = target.key.names.iter().map(|k| language.name(k));
    let values = first.key.iter().map(|v| language.literal(v));
    let terms: Option<Vec<String>> =
        names.zip(values).map(|(name, value)| Some(format!("{name} = {}", value?))).collect();
    match terms.filter(|t| !t.is_empty()) {
        Some(terms) => Ok((terms.join(" AND "), 1)),
        // Without a key there is only what the row holds.
        None => {
            let near = nearest("name", target.columns.iter().map(|c| c.name.as_str()));
            let column = near.or_else(|| target.columns.first().map(|c| c.name.as_str())).unwrap_or("");
            let at = target.position(column).unwrap_or(0);
            let value =
                first.before.get(at).and_then(|v| language.literal(v)).unwrap_or_else(|| "NULL".to_owned());
            let filter = format!("{} = {value}", language.name(column));
            let statement = format!("DELETE FROM {table} WHERE {filter}");
            let count = desk.with(|context| rows(context, &statement, Some(0))).map_or(1, |f| f.seen.matched);
            Ok((filter, count))
        }
    }
}

/// The columns with their types, as a comment behind the statement.
fn columns(target: &Target) -> String {
    let widest = target.columns.iter().map(|c| c.name.chars().count()).max().unwrap_or(0);
    let mut out = String::from("\n");
    for (at, column) in target.columns.iter().enumerate() {
        let mut notes: Vec<&str> = Vec::new();
        if target.key.columns.contains(&at) {
            notes.push("key");
        }
        if column.not_null {
            notes.push("not NULL");
        }
        if column.generated {
            notes.push("computed");
        }
        let line = |text: &str| text.replace(['\n', '\r'], " ");
        let name = line(&column.name);
        let notes = if notes.is_empty() { String::new() } else { format!("  ({})", notes.join(", ")) };
        out.push_str(format!("-- {name:widest$}  {}{notes}", line(&column.declared)).trim_end());
        out.push('\n');
    }
    out
}
