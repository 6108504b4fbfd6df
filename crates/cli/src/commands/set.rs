//! `set`: columns of one row by its key, in one line: the statement is written, shown, previewed, asked about, applied.

use std::path::Path;

use marktwice_core::check::EachCheck;
use marktwice_core::table::KeyKind;
use marktwice_core::value::key_text;
use marktwice_core::{Change, Code, Expect, Target, Terms};
use marktwice_port::{Draft, Which, Work};
use marktwice_run::{Agreement, ApplyOptions, Show, one_row, rows, survey};

use super::apply::carry_out;
use super::draft::{Back, from_sheet};
use crate::args::{Common, Format, SetArgs};
use crate::dated::dated;
use crate::desk::Desk;
use crate::form::{Form, edited};
use crate::out::{print, tell};
use crate::parents::named;
use crate::report::Trouble;
use crate::typed::Typed;
use crate::{exit, human};

/// Sets.
pub(crate) fn run(common: &Common, args: &SetArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    if let Some(guard) = &desk.guard {
        return Err(guard.refuses("one line changes nothing there").on(&desk.shown));
    }
    if let Some(file) = &args.from {
        return from_file(common, &desk, args, file);
    }
    let (schema, name) = desk.engine.language().table_name(&args.table);
    let seen = desk
        .with(|context| survey(context, schema.as_deref(), &name))
        .map_err(|failure| super::look::no_table(&desk, failure, &name))?
        .seen;
    let mut keys: Vec<Vec<String>> = seen.declared.keys.iter().cloned().map(|k| k.columns).collect();
    if let Some(columns) = not_declared(&desk, &seen.target, schema.is_some(), args, &keys)? {
        keys.push(columns);
    }
    let (table, several) = (&seen.target, args.several);
    let typed = Typed { table, schema: schema.is_some(), key: &args.key, keys: &keys, several };
    let Some((sets, was)) = (match args.sets.as_slice() {
        [] => by_form(&desk, typed)?,
        sets => Some((sets.to_vec(), Vec::new())),
    }) else {
        tell("Nothing differs in the form; nothing was done.\n");
        return Ok(exit::DECLINED);
    };
    let named = named(&desk, &seen.target, &seen.declared.refers, &sets)?;
    let dated = dated(&desk, &seen.target, schema.is_some(), &named.sets)?;
    let rows = typed.which();
    let draft = Draft { target: &dated, schema: schema.is_some(), work: Work::Set(&named.sets), rows };
    let composed = desk.engine.language().compose(&draft);
    let mut composed = composed.map_err(|wrong| Trouble::usage(wrong.message, wrong.hint).on(&desk.shown))?;
    if seen.target.key.kind == KeyKind::RowIdentity && keys.is_empty() {
        let (own, table) = (seen.target.key.names.join(""), &seen.target.table);
        tell(&format!(
            "note: {own} is the engine's own number of a row of {table}; nobody declared it, and it may change when the file is rebuilt\n"
        ));
    }
    // Whoever reads the statement sees the key, and whose it is.
    composed.text = format!("{}{}", desk.engine.language().comment(&named.said), composed.text);
    if common.format == Format::Human {
        print(&human::statement(&desk.shown, &composed.text));
    }
    let rows = composed.rows.map(|count| Expect::Range(count, Some(count)));
    let terms = Terms {
        rows,
        also_writes: args.also_writes.clone(),
        each: said_to_be(&seen.target, &[args.was.as_slice(), &was].concat()),
        ..Terms::default()
    };
    let change =
        Change { allow: args.allow.clone(), again: args.again, ..Change::of(composed.text).with(terms) };
    if !args.allow.contains(&Code::NothingMatched) {
        let (table, schema) = (&seen.target, schema.is_some());
        Typed { table, schema, key: &args.key, keys: &keys, several: args.several }
            .there(&desk, composed.rows)?;
    }
    carry_out(common, &desk, &change, &options(args), ("marktwice-set", "the statement"))
}

fn options(args: &SetArgs) -> ApplyOptions {
    ApplyOptions {
        agreement: if args.yes { Agreement::Given } else { Agreement::Ask },
        mark: None,
        hold: args.hold,
        show: Show::First(20),
        copy_database: None,
        keep_copy: None,
        most_rows: None,
        previewed: None,
    }
}

/// Sets the cells that were edited in a sheet: each row is a step, held to what it holds now.
fn from_file(common: &Common, desk: &Desk, args: &SetArgs, file: &Path) -> Result<u8, Trouble> {
    let back = Back { table: &args.table, file, null: args.null.as_deref(), takes_new: false };
    let text = from_sheet(desk, &back)?;
    let read = marktwice_change::read(&text, desk.engine.language());
    let mut change = read.map_err(|error| Trouble::usage(error.message, error.hint).on(&desk.shown))?;
    change.allow.extend(args.allow.iter().copied());
    change.again = args.again;
    for step in &mut change.steps {
        step.terms.also_writes.extend(args.also_writes.iter().cloned());
    }
    carry_out(common, desk, &change, &options(args), ("marktwice-set", "the sheet"))
}

/// What is to be set, and what the columns held.
type Filled = (Vec<String>, Vec<(String, String)>);

/// Lets a person edit the row; `None` where nothing differs afterwards. That each column held what the form has shown is
/// asked again, where that can be compared.
fn by_form(desk: &Desk, typed: Typed<'_>) -> Result<Option<Filled>, Trouble> {
    let language = desk.engine.language();
    if typed.several {
        let hint = "leave out --several, or write the values: COLUMN=VALUE";
        return Err(Trouble::usage("a form is filled in for one row", hint).on(&desk.shown));
    }
    let compose = |work: Work<'_>| {
        let draft = Draft { target: typed.table, schema: typed.schema, work, rows: typed.which() };
        language.compose(&draft).map_err(|wrong| Trouble::usage(wrong.message, wrong.hint).on(&desk.shown))
    };
    let row = compose(Work::Delete)?;
    typed.there(desk, row.rows)?;
    let seen = desk.with(|context| one_row(context, &row.text));
    let seen = seen.map_err(|failure| Trouble::failure(&failure, "the row").on(&desk.shown))?.seen;
    let Some(seen) = seen else {
        let hint = "name the whole key: `marktwice look` shows the rows";
        return Err(Trouble::usage("a form is filled in for one row", hint).on(&desk.shown));
    };
    let what = format!("{} {} of {}", typed.table.table, typed.key, desk.shown);
    let form = Form::of(language, typed.table, &seen, &what);
    let edits = edited(&form.text, |text| {
        let edits = form.edits(text)?;
        let sets: Vec<String> = edits.iter().map(|(column, _, now)| format!("{column}={now}")).collect();
        if !sets.is_empty() {
            compose(Work::Set(&sets))?;
        }
        Ok(edits)
    })
    .map_err(|trouble| trouble.on(&desk.shown))?;
    let was = |(column, before, _): &(String, String, String)| {
        let at = typed.table.position(column)?;
        let (about, value) = (typed.table.columns.get(at)?, seen.row.get(at)?);
        let seen = !typed.table.hidden.contains(&at);
        (seen && about.compares(value)).then(|| (column.clone(), before.clone()))
    };
    let was = edits.iter().filter_map(was).collect();
    let sets: Vec<String> = edits.iter().map(|(column, _, now)| format!("{column}={now}")).collect();
    Ok((!sets.is_empty()).then_some((sets, was)))
}

/// Rows that are named where a key is none.
const NAMED: usize = 5;

/// Columns that were typed as a key and that nobody declared one, where they tell one row all the same; `None` where what was
/// typed is a declared key, or none at all, which is then said in the usual way.
fn not_declared(
    desk: &Desk,
    target: &Target,
    schema: bool,
    args: &SetArgs,
    keys: &[Vec<String>],
) -> Result<Option<Vec<String>>, Trouble> {
    let language = desk.engine.language();
    let statement = |keys: &[Vec<String>]| {
        let rows = Which::Typed { key: &args.key, keys, several: false };
        language.compose(&Draft { target, schema, work: Work::Delete, rows }).map(|composed| composed.text)
    };
    let named = args.key.split(',').filter_map(|part| part.split_once('='));
    let named = named.filter_map(|(name, _)| target.columns.get(target.position(name.trim())?));
    let columns: Vec<String> = named.map(|column| column.name.clone()).collect();
    if args.several || columns.is_empty() || statement(keys).is_ok() {
        return Ok(None);
    }
    let Ok(text) = statement(std::slice::from_ref(&columns)) else { return Ok(None) };
    let found = desk.with(|context| rows(context, &text, None, Some(NAMED as u64)));
    let found = found.map_err(|failure| Trouble::failure(&failure, "the row").on(&desk.shown))?.seen;
    let list = columns.join(" and ");
    if found.matched > 1 {
        let shown: Vec<String> = found.rows.iter().map(|row| key_text(&row.key)).collect();
        let more = found.matched.saturating_sub(shown.len() as u64);
        let more = if more > 0 { format!(", and {more} more") } else { String::new() };
        let message = format!("{} rows of {} have this {list}", found.matched, target.table);
        let key = if target.key.names.is_empty() { "them".to_owned() } else { target.key.names.join(", ") };
        let hint = format!("name more columns, or one of them by {key}: {}{more}", shown.join("; "));
        return Err(Trouble::usage(message, hint).on(&desk.shown));
    }
    if found.matched == 1 {
        let (tells, does) = match columns.len() {
            1 => ("tells", "it always does"),
            _ => ("tell", "they always do"),
        };
        let table = &target.table;
        tell(&format!("note: {list} {tells} one row of {table} now; nobody declared that {does}\n"));
    }
    Ok(Some(columns))
}

/// What columns were said to hold: each column once, with all that was said of it.
fn said_to_be(target: &Target, was: &[(String, String)]) -> Vec<EachCheck> {
    let mut all: Vec<(String, Vec<String>)> = Vec::new();
    for (column, value) in was {
        let column =
            target.position(column).and_then(|at| target.columns.get(at)).map_or(column, |c| &c.name);
        match all.iter_mut().find(|(known, _)| known == column) {
            Some((_, values)) => values.push(value.clone()),
            None => all.push((column.clone(), vec![value.clone()])),
        }
    }
    all.into_iter().map(|(column, values)| EachCheck::was(&column, values)).collect()
}
