//! `set`: columns of one row by its key, in one line: the statement is written, shown, previewed, asked about, applied.

use marktwice_core::Expect;
use marktwice_core::Target;
use marktwice_run::{Agreement, ApplyOptions, Change, Show, survey};
use marktwice_sql::compose::{Uncomposed, key, literal, pair, table, table_name, update};

use super::apply::carry_out;
use super::{Desk, print};
use crate::args::{Common, Format, SetArgs};
use crate::human;
use crate::report::Trouble;

/// Sets.
pub(crate) fn run(common: &Common, args: &SetArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let (schema, name) = table_name(&args.table);
    let seen = desk
        .with(|context| survey(context, schema.as_deref(), &name))
        .map_err(|failure| super::look::no_table(&desk, failure, &name))?
        .seen;
    let keys: Vec<Vec<String>> = seen.declared.keys.into_iter().map(|k| k.columns).collect();
    let (statement, count) = compose(&desk, args, &seen.target, &keys, schema.is_some())
        .map_err(|wrong| Trouble::usage(wrong.message, wrong.hint).on(&desk))?;
    if common.format == Format::Human {
        print(&human::statement(&desk.shown, &statement));
    }
    let change = Change {
        source: statement,
        title: None,
        reason: None,
        rows: Some(Expect::Range(count, Some(count))),
        changes: None,
        allow: args.allow.clone(),
        again: args.again,
        quick: false,
    };
    let agreement = if args.yes { Agreement::Given } else { Agreement::Ask };
    let options = ApplyOptions { agreement, mark: None, hold: args.hold, show: Show::First(20) };
    carry_out(common, &desk, &change, &options, ("marktwice-set", "the statement"))
}

fn compose(
    desk: &Desk,
    args: &SetArgs,
    target: &Target,
    keys: &[Vec<String>],
    schema_said: bool,
) -> Result<(String, u64), Uncomposed> {
    let language = desk.kind.language;
    let rows = key(language, target, keys, &args.key, args.several)?;
    let mut sets: Vec<(String, String)> = Vec::new();
    for typed in &args.sets {
        let (column, value) = pair(target, typed)?;
        sets.push((language.name(&column.name), literal(language, column, value)?));
    }
    let table = table(language, target, schema_said);
    Ok((update(&table, &sets, &rows), rows.len() as u64))
}
