//! `draft`: a change file to start from, or the steps of a statement that is refused as one.

use std::io::Write;
use std::path::Path;

use marktwice_change::sheets::SheetBlock;
use marktwice_change::{block, step_block};
use marktwice_core::study::Alike;
use marktwice_core::{Target, words};
use marktwice_port::{Draft, Merge, Which, Work};
use marktwice_run::{Edits, Failure, InCommon, edited, in_common, rows, survey, target};

use crate::args::{Common, DraftArgs, Format, word};
use crate::dated::dated;
use crate::desk::Desk;
use crate::out::{print, print_document};
use crate::parents::in_condition;
use crate::report::Trouble;
use crate::typed::Typed;
use crate::{csv_file, exit, json};

/// Keys that are named in the filter of a draft without a condition.
const EXAMPLES: u64 = 1;

/// Writes the draft.
pub(crate) fn run(common: &Common, args: &DraftArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let (text, alike) = match (&args.sql, &args.table) {
        (Some(sql), _) => (steps(&desk, sql)?, InCommon::default()),
        (None, Some(table)) if args.from.is_some() => {
            let file = args.from.as_deref().unwrap_or(Path::new(""));
            let back = Back { table, file, null: args.null.as_deref(), takes_new: args.new_lines.is_some() };
            (from_sheet(&desk, &back)?, InCommon::default())
        }
        (None, Some(name)) => match &args.from_table {
            Some(from) => (from_table(&desk, (name, from), &args.key)?, InCommon::default()),
            None => draft(&desk, args, name)?,
        },
        (None, None) => return Err(Trouble::usage("no table is named", "name a table")),
    };
    if let Some(path) = &args.to {
        write_new(path, &text)?;
    }
    if common.format == Format::Json {
        print_document(json::draft(&desk.shown, (&text, &alike), args.to.as_deref()));
        return Ok(exit::DONE);
    }
    match &args.to {
        Some(path) => {
            let (shown, on) = (path.display().to_string(), common.on_again());
            print(&format!("{shown} is written. Next: marktwice preview {}{on}\n", word(&shown)));
        }
        None => crate::out::print_bytes(text.as_bytes()),
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

/// What to run instead of a statement that is refused: one change, of several steps where it takes several.
fn steps(desk: &Desk, sql: &str) -> Result<String, Trouble> {
    let refused = |failure: &Failure| Trouble::failure(failure, "--sql").on(&desk.shown);
    let language = desk.engine.language();
    let end = language.end();
    match desk.with(|context| rows(context, sql, None, Some(0))) {
        Ok(seen) => {
            Ok(format!("{}{}{end}\n", block("", Some(seen.seen.matched)), sql.trim().trim_end_matches(end)))
        }
        Err(failure) => {
            let Some(paste) = failure.finding().and_then(|f| f.paste.as_ref()) else {
                return Err(refused(&failure));
            };
            let cut = language.cut(&paste.text).map(|cut| cut.steps).unwrap_or_default();
            let steps: Vec<&str> = cut.into_iter().filter_map(|range| paste.text.get(range)).collect();
            if let ([step], [rows]) = (steps.as_slice(), paste.rows.as_slice()) {
                return Ok(format!("{}{step}{end}\n", block("", *rows)));
            }
            // What was asked just now is what is expected; a step that waits for another says nothing.
            let counted = steps.iter().zip(paste.rows.iter().chain(std::iter::repeat(&None)));
            let each = counted.map(|(step, rows)| format!("{}{step}{end}\n", step_block(*rows)));
            Ok(format!("{}\n{}", block("", None), each.collect::<Vec<_>>().join("\n")))
        }
    }
}

/// A table as it was typed, and whether its schema was said.
fn named(desk: &Desk, typed: &str) -> Result<(Target, bool), Trouble> {
    let (schema, name) = desk.engine.language().table_name(typed);
    let found = desk.with(|context| target(context, schema.as_deref(), &name));
    let found = found.map_err(|failure| super::look::no_table(desk, failure, &name))?;
    Ok((found.seen, schema.is_some()))
}

/// The steps that bring a table up to what another one says. The engine is asked whether it takes them before they are written.
fn from_table(desk: &Desk, (into, from): (&str, &str), key: &[String]) -> Result<String, Trouble> {
    let language = desk.engine.language();
    let ((own, own_said), (other, other_said)) = (named(desk, into)?, named(desk, from)?);
    let merge = Merge { target: (&own, own_said), source: (&other, other_said), key };
    let merged = language.merge(&merge).map_err(|wrong| Trouble::usage(wrong.message, wrong.hint))?;
    let mut text = block(&format!("{into} as {from} has it"), None);
    text.push_str(&language.comment(&merged.said));
    for step in &merged.steps {
        desk.with(|context| rows(context, step, None, Some(0)))
            .map_err(|failure| Trouble::failure(&failure, "the drafted step").on(&desk.shown))?;
        // A second run finds nothing to do, and that is as it should be.
        text.push_str(&format!("\n/* marktwice step\nrows = \"0+\"\n*/\n{step}{}\n", language.end()));
    }
    Ok(text)
}

/// Steps that are written out one by one: with more of them a sheet is better read as a table.
const STEPS: u64 = 300;

/// A sheet that comes back.
#[derive(Clone, Copy)]
pub(super) struct Back<'a> {
    /// The table, as it was typed.
    pub(super) table: &'a str,
    /// The sheet's file.
    pub(super) file: &'a Path,
    /// What stands for NULL in it.
    pub(super) null: Option<&'a str>,
    /// Whether lines whose key no row has come in.
    pub(super) takes_new: bool,
}

/// The cells of a table that were edited in a sheet, as one change: each row by its key, and held to what it holds now.
pub(super) fn from_sheet(desk: &Desk, back: &Back<'_>) -> Result<String, Trouble> {
    let Back { table: typed, file: path, null, takes_new } = *back;
    let language = desk.engine.language();
    let (own, schema) = named(desk, typed)?;
    let block_of = SheetBlock { null: null.map(str::to_owned), ..SheetBlock::default() };
    let sheet = csv_file::look("sheet", path, &block_of)?;
    let found = desk.with(|context| edited(context, &own, &sheet));
    let found = found.map_err(|failure| Trouble::failure(&failure, typed).on(&desk.shown))?;
    let shown = path.display().to_string();
    refuse(&own, &found, &shown, takes_new)?;
    let steps = edited_steps(desk, &own, schema, &found)?;
    if steps.is_empty() {
        return Err(Trouble::usage(
            format!("{shown} says what {typed} holds"),
            "edit it first; nothing is to be changed",
        ));
    }
    let mut text = block(&format!("{typed} as it was edited in {}", file_name(path)), None);
    let hold = words::either(found.same, "says what its row holds", "say what their rows hold");
    let mut said = vec![format!("{} {hold}", words::of(found.same, "line"))];
    let draft = Draft { target: &own, schema, work: Work::Delete, rows: Which::All };
    let whole = language.compose(&draft).map_err(|wrong| Trouble::usage(wrong.message, wrong.hint))?.text;
    let all = desk.with(|context| rows(context, &whole, None, Some(0)));
    let all = all.map_err(|failure| Trouble::failure(&failure, typed).on(&desk.shown))?.seen.matched;
    let unsaid = all.saturating_sub(found.same + found.edited);
    if unsaid > 0 {
        let (rows, have) = (words::rows(unsaid), words::either(unsaid, "has", "have"));
        said.push(format!("{rows} of {typed} {have} no line there; nothing becomes of them: a line that is taken out deletes nothing"));
    }
    if !found.others.is_empty() {
        said.push(format!("left out, since {typed} has no such column: {}", found.others.join(", ")));
    }
    text.push_str(&language.comment(&said));
    for (terms, step) in steps {
        text.push_str(&format!("\n/* marktwice step\n{terms}*/\n{step}{}\n", language.end()));
    }
    Ok(text)
}

fn file_name(path: &Path) -> String {
    path.file_name().map_or_else(String::new, |name| name.to_string_lossy().into_owned())
}

/// Refuses a sheet in which anything is in doubt: what is drafted is all of it, or nothing.
fn refuse(own: &Target, found: &Edits, shown: &str, takes_new: bool) -> Result<(), Trouble> {
    let (wrong, bad) = &found.wrong;
    if *bad > 0 {
        let more = bad - wrong.len() as u64;
        let more = if more > 0 { format!("; and {} more", words::number(more)) } else { String::new() };
        let message = format!("{shown} cannot be taken back as it is: {}{more}", wrong.join("; "));
        return Err(Trouble::usage(
            message,
            "correct these cells, or bring their columns back as they were written out",
        ));
    }
    let keys = |all: &[Vec<marktwice_core::Value>], n: u64| {
        let first: Vec<String> = all.iter().take(5).map(|key| marktwice_core::value::key_text(key)).collect();
        let more = n - first.len() as u64;
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        format!("{}{more}", first.join("; "))
    };
    if !found.moved.is_empty() {
        let n = found.elsewise;
        let (rows, have) = (words::rows(n), words::either(n, "has", "have"));
        let message = format!(
            "{rows} of {} {have} changed since {shown} was written out: {}",
            own.table,
            keys(&found.moved, n)
        );
        return Err(Trouble::usage(message, "write the sheet out again, and edit that one"));
    }
    if let (Some(first), false) = (found.new.first(), takes_new) {
        let n = found.unknown;
        let all: Vec<_> = found.new.iter().map(|new| new.key.clone()).collect();
        let message = format!(
            "{} of {shown} {} a key that no row of {} has (the first one is line {}): {}",
            words::of(n, "line"),
            words::either(n, "has", "have"),
            own.table,
            first.line,
            keys(&all, n)
        );
        let hint = "a key that was edited is not taken; lines that are new come in with --new-lines insert";
        return Err(Trouble::usage(message, hint));
    }
    Ok(())
}

/// The steps, each with what stands in its block.
fn edited_steps(
    desk: &Desk,
    own: &Target,
    schema: bool,
    found: &Edits,
) -> Result<Vec<(String, String)>, Trouble> {
    let language = desk.engine.language();
    let column = |at: usize| own.columns.get(at);
    let typed = |at: usize, value: &marktwice_core::Value| {
        let text = column(at).and_then(|column| language.typed(column, value));
        text.ok_or_else(|| {
            let name = column(at).map_or("", |c| c.name.as_str());
            Trouble::usage(
                format!("a value of {name} cannot be written in a change"),
                "leave that cell as it was",
            )
        })
    };
    let all = found.edited + found.unknown;
    if all > STEPS {
        let message =
            format!("{} were edited or are new, and each would be a step of its own", words::rows(all));
        let hint = "have the change read the sheet as a table instead, and join it: --sheet edited=FILE.csv";
        return Err(Trouble::usage(message, hint));
    }
    let mut steps = Vec::new();
    for row in &found.rows {
        let mut sets = Vec::new();
        let mut was: Vec<String> = Vec::new();
        for (at, held, new) in &row.cells {
            let name = column(*at).map_or_else(String::new, |c| c.name.clone());
            sets.push(format!("{name}={}", typed(*at, new)?));
            if let Ok(held) = typed(*at, held) {
                was.push(format!("{} = {}", toml_text(&name), toml_text(&held)));
            }
        }
        let draft = Draft {
            target: own,
            schema,
            work: Work::Set(&sets),
            rows: Which::Row { key: &row.key, row: &[] },
        };
        let composed = language.compose(&draft).map_err(|wrong| Trouble::usage(wrong.message, wrong.hint))?;
        steps.push((format!("rows = 1\nwas = {{ {} }}\n", was.join(", ")), composed.text));
    }
    if let Some(first) = found.new.first() {
        let columns: Vec<usize> = first.cells.iter().map(|(at, _)| *at).collect();
        let columns: Vec<usize> =
            columns.into_iter().filter(|at| column(*at).is_some_and(|c| !c.generated)).collect();
        let mut rows = Vec::new();
        for new in &found.new {
            let cells = new.cells.iter().filter(|(at, _)| columns.contains(at));
            rows.push(cells.map(|(at, value)| typed(*at, value)).collect::<Result<Vec<String>, _>>()?);
        }
        let text = language.incoming((own, schema), &columns, &rows);
        let text = text.map_err(|wrong| Trouble::usage(wrong.message, wrong.hint))?;
        steps.push((format!("rows = {}\n", rows.len()), text));
    }
    Ok(steps)
}

/// A text as TOML has it.
fn toml_text(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

/// Rows that are looked at for what they have in common.
const ALIKE: u64 = 200;

fn draft(desk: &Desk, args: &DraftArgs, typed: &str) -> Result<(String, InCommon), Trouble> {
    let language = desk.engine.language();
    let (schema, name) = language.table_name(typed);
    let survey = || {
        desk.with(|context| survey(context, schema.as_deref(), &name))
            .map(|seen| seen.seen)
            .map_err(|failure| Trouble::failure(&failure, typed).on(&desk.shown))
    };
    let (seen, _) = named(desk, typed)?;
    let dated = dated(desk, &seen, schema.is_some(), &args.sets)?;
    let compose = |work: Work<'_>, rows: Which<'_>| {
        let draft = Draft { target: &dated, schema: schema.is_some(), work, rows };
        language.compose(&draft).map_err(|wrong| Trouble::usage(wrong.message, wrong.hint))
    };
    let count = |rows_of: Which<'_>, what: &str, limit: u64| {
        let statement = compose(Work::Delete, rows_of)?.text;
        let condition = match rows_of {
            Which::Condition(filter) => Some(filter),
            _ => None,
        };
        desk.with(|context| rows(context, &statement, condition, Some(limit)))
            .map_err(|failure| Trouble::failure(&failure, what).on(&desk.shown))
    };
    let work = match (args.delete, args.sets.as_slice()) {
        (true, _) => Work::Delete,
        (false, []) => Work::SetEach,
        (false, sets) => Work::Set(sets),
    };
    let (mut said, mut common) = (Vec::new(), InCommon::default());
    let (text, matched) = if let Some(filter) = &args.filter {
        let mut refers = || Ok(survey()?.declared.refers);
        let (filter, words) = in_condition(desk, &seen, &mut refers, filter)?;
        said = words;
        let rows_of = Which::Condition(&filter);
        (compose(work, rows_of)?.text, count(rows_of, "--where", 0)?.seen.matched)
    } else if let Some(key) = &args.rows_like {
        let keys: Vec<Vec<String>> = survey()?.declared.keys.into_iter().map(|k| k.columns).collect();
        let typed = Typed { table: &seen, schema: schema.is_some(), key, keys: &keys, several: true };
        let by_key = compose(Work::Delete, typed.which())?;
        typed.there(desk, by_key.rows)?;
        let found = desk.with(|context| in_common(context, &by_key.text, ALIKE));
        let found = found.map_err(|failure| Trouble::failure(&failure, "--rows-like").on(&desk.shown))?.seen;
        let exactly = found.common.first().filter(|first| first.others == 0);
        let rows_of = exactly.map_or_else(|| typed.which(), |first| Which::Condition(&first.condition));
        let text = compose(work, rows_of)?.text;
        let matched = found.matched;
        common = found;
        (text, matched)
    } else {
        let found = count(Which::All, "the table", EXAMPLES)?;
        let Some(first) = found.seen.rows.first() else {
            return Err(Trouble::usage(format!("{} has no rows", seen.table), "there is nothing to change"));
        };
        let rows_of = Which::Row { key: &first.key, row: first.image.row() };
        let composed = compose(work, rows_of)?;
        let matched = match composed.rows {
            Some(rows) => rows,
            None => count(rows_of, "the table", 0)?.seen.matched,
        };
        (composed.text, matched)
    };
    let alike = match &args.rows_like {
        Some(_) => language.comment(&in_words(&common, matched)) + "\n",
        None => String::new(),
    };
    let (said, columns) = (language.comment(&said), language.comment(&columns(&seen)));
    let text = format!("{}{said}{text}{}\n\n{alike}{columns}", block("", Some(matched)), language.end());
    Ok((text, common))
}

/// What rows have in common, in words.
fn in_words(found: &InCommon, rows: u64) -> Vec<String> {
    let common = found.common.as_slice();
    let these = match rows {
        1 => "this row".to_owned(),
        _ => format!("these {}", words::rows(rows)),
    };
    let exactly = common.first().is_some_and(|first| first.others == 0);
    let head = match (common, exactly) {
        ([], _) => format!("nothing in one or two columns tells {these} from the others"),
        (_, true) => format!("what holds for {these} and no others:"),
        (_, false) => {
            format!("nothing in one or two columns holds for {these} alone; for the fewest others:")
        }
    };
    let line = |offer: &Alike| {
        let more = offer.others.saturating_sub(offer.examples.len() as u64);
        let more = if more > 0 { format!("; and {} more", words::number(more)) } else { String::new() };
        let others = match offer.others {
            0 => String::new(),
            others => format!("  (and {}: {}{more})", words::of(others, "other"), offer.examples.join("; ")),
        };
        format!("  {}{others}", offer.condition)
    };
    let skipped = found.skipped.iter().map(|skipped| format!("  {skipped}"));
    std::iter::once(head).chain(common.iter().map(line)).chain(skipped).collect()
}

/// The columns with their types.
fn columns(target: &Target) -> Vec<String> {
    let widest = target.columns.iter().map(|c| c.name.chars().count()).max().unwrap_or(0);
    let columns = target.columns.iter().enumerate();
    columns
        .map(|(at, column)| {
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
            let notes = if notes.is_empty() { String::new() } else { format!("  ({})", notes.join(", ")) };
            format!("{:widest$}  {}{notes}", column.name, column.declared)
        })
        .collect()
}
