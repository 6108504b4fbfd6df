//! `set`: columns of one row by its key, in one line: the statement is written, shown, previewed, asked about, applied.

use marktwice_core::check::EachCheck;
use marktwice_core::{Change, Code, Expect, Target, Terms};
use marktwice_port::{Draft, Which, Work};
use marktwice_run::{Agreement, ApplyOptions, Show, rows, survey};

use super::apply::carry_out;
use crate::args::{Common, Format, SetArgs};
use crate::desk::Desk;
use crate::out::print;
use crate::parents::named;
use crate::report::Trouble;
use crate::{exit, human};

/// Sets.
pub(crate) fn run(common: &Common, args: &SetArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let (schema, name) = desk.engine.language().table_name(&args.table);
    let seen = desk
        .with(|context| survey(context, schema.as_deref(), &name))
        .map_err(|failure| super::look::no_table(&desk, failure, &name))?
        .seen;
    let keys: Vec<Vec<String>> = seen.declared.keys.iter().cloned().map(|k| k.columns).collect();
    let named = named(&desk, &seen.target, &seen.declared.refers, &args.sets)?;
    let rows = Which::Typed { key: &args.key, keys: &keys, several: args.several };
    let draft = Draft { target: &seen.target, schema: schema.is_some(), work: Work::Set(&named.sets), rows };
    let composed = desk.engine.language().compose(&draft);
    let mut composed = composed.map_err(|wrong| Trouble::usage(wrong.message, wrong.hint).on(&desk.shown))?;
    // Whoever reads the statement sees the key, and whose it is.
    composed.text = format!("{}{}", desk.engine.language().comment(&named.said), composed.text);
    if common.format == Format::Human {
        print(&human::statement(&desk.shown, &composed.text));
    }
    let rows = composed.rows.map(|count| Expect::Range(count, Some(count)));
    let terms = Terms {
        rows,
        also_writes: args.also_writes.clone(),
        each: said_to_be(&seen.target, &args.was),
        ..Terms::default()
    };
    let change =
        Change { allow: args.allow.clone(), again: args.again, ..Change::of(composed.text).with(terms) };
    let agreement = if args.yes { Agreement::Given } else { Agreement::Ask };
    let options = ApplyOptions { agreement, mark: None, hold: args.hold, show: Show::First(20) };
    if let Some(missing) = missing(&desk, &seen.target, schema.is_some(), args, &keys, composed.rows) {
        return Err(missing);
    }
    carry_out(common, &desk, &change, &options, ("marktwice-set", "the statement"))
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

/// Which of the typed keys no row has: each is asked for by itself.
fn missing(
    desk: &Desk,
    target: &Target,
    schema: bool,
    args: &SetArgs,
    keys: &[Vec<String>],
    wanted: Option<u64>,
) -> Option<Trouble> {
    let language = desk.engine.language();
    let count = |key: &str, several: bool| {
        let rows_of = Which::Typed { key, keys, several };
        let draft = Draft { target, schema, work: Work::Delete, rows: rows_of };
        let text = language.compose(&draft).ok()?.text;
        Some(desk.with(|context| rows(context, &text, None, Some(0))).ok()?.seen.matched)
    };
    let found = count(&args.key, args.several)?;
    let allowed = args.allow.contains(&Code::NothingMatched);
    if allowed || wanted.is_none_or(|wanted| found >= wanted) {
        return None;
    }
    let each = args.key.split(if args.key.contains('=') { ';' } else { ',' });
    let gone: Vec<&str> = match args.several {
        true => each.map(str::trim).filter(|key| count(key, false) == Some(0)).collect(),
        false => vec![args.key.as_str()],
    };
    let message = match gone.as_slice() {
        [] => return None,
        [one] => format!("no row of {} has the key {one}", target.table),
        many => format!("no row of {} has the keys {}", target.table, many.join(", ")),
    };
    let hint = "look for the row first: marktwice look TABLE --where CONDITION";
    Some(
        Trouble {
            status: exit::STOPPED,
            code: Some(Code::NothingMatched.as_str()),
            ..Trouble::usage(message, hint)
        }
        .on(&desk.shown),
    )
}
