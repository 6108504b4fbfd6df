//! `look`: the tables and views of a database, or one of them in full with its rows.

use marktwice_core::near::nearest;
use marktwice_core::{Target, Value};
use marktwice_port::{Ambient, Draft, EngineError, RowSink, Unusable, Which, Work};
use marktwice_run::{
    Failure, MOST_READ, Rows, Show, Spare, each_row, each_view_row, look_again, survey, tables, values,
};

use crate::args::{Common, Format, LookArgs};
use crate::desk::Desk;
use crate::handing::{Document, Handing, Lines};
use crate::out::{cut_off, stream, tell};
use crate::parents::in_condition;
use crate::report::Trouble;
use crate::screen::{Screen, show};
use crate::sheet::{Cell, Sheet};
use crate::{exit, json};

/// Looks.
pub(crate) fn run(common: &Common, args: &LookArgs) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    if let Some(run) = &args.run {
        return again(common, &desk, args, Some(run.as_str()).filter(|run| !run.is_empty()));
    }
    if args.csv && args.table.is_none() {
        let hint = "name the table: `marktwice look TABLE --csv`";
        return Err(Trouble::usage("--csv writes the rows of a table or of a run", hint).on(&desk.shown));
    }
    let Some(typed) = &args.table else {
        let seen = desk.with(tables).map_err(|f| Trouble::failure(&f, "").on(&desk.shown))?;
        show(common, &Screen::Tables(&seen, &common.on_again()));
        return Ok(exit::DONE);
    };
    let (schema, name) = desk.engine.language().table_name(typed);
    let full = desk
        .with(|context| survey(context, schema.as_deref(), &name))
        .map_err(|failure| no_table(&desk, failure, &name))?;
    let target = &full.seen.target;
    let mut refers = || Ok(full.seen.declared.refers.clone());
    let filter = match &args.filter {
        Some(filter) => {
            let (filter, said) = in_condition(&desk, target, &mut refers, filter)?;
            said.iter().for_each(|said| tell(&format!("note: {said}\n")));
            Some(filter)
        }
        None => None,
    };
    let filter = filter.as_deref();
    // A statement is the one thing whose filter is understood; it is never run.
    let rows_of = filter.map_or(Which::All, Which::Condition);
    let draft = Draft { target, schema: true, work: Work::Delete, rows: rows_of };
    let statement = desk.engine.language().compose(&draft);
    let statement =
        statement.map_err(|wrong| Trouble::usage(wrong.message, wrong.hint).on(&desk.shown))?.text;
    if !args.values.is_empty() {
        if let (Some(_), _) | (_, 3..) = (&full.seen.view, args.values.len()) {
            let hint = "name one column of a table, or two for pairs: --values region,phone";
            return Err(Trouble::usage("--values tells what one or two columns of a table hold", hint)
                .on(&desk.shown));
        }
        let seen = desk.with(|context| values(context, target, &args.values, filter, MOST_READ));
        let seen = seen.map_err(|failure| Trouble::failure(&failure, "--where").on(&desk.shown))?;
        show(common, &Screen::Values(&seen, args.show, filter.is_some()));
        return Ok(exit::DONE);
    }
    let limit = match args.show {
        Show::First(n) => Some(n as u64),
        Show::All => None,
    };
    let limit = if args.csv && args.show == Show::First(10) { None } else { limit };
    let seen = &full.seen;
    let chosen = chosen(target, &args.columns).map_err(|trouble| trouble.on(&desk.shown))?;
    let each = |sink: &mut RowSink<'_>| {
        desk.with(|context| match &seen.view {
            Some(_) => {
                let of = (schema.as_deref(), seen);
                each_view_row(context, of, &statement, filter, limit, sink).map(|seen| seen.seen)
            }
            None => each_row(context, &statement, filter, limit, sink).map(|seen| seen.seen.1),
        })
    };
    let mut handing: Box<dyn Handing> = match (args.csv, common.format) {
        (true, _) => {
            let sheet = Sheet::new(stream(), args.csv_raw).with_null(args.null.as_deref());
            Box::new(Lines::new(sheet, target, &chosen, args.row_marks))
        }
        (false, Format::Json) => {
            let head = json::look(&full, filter, &desk.ambient.now().rfc3339);
            Box::new(Document::new(stream(), head, target, &chosen))
        }
        (false, Format::Human) => {
            let mut rows = Vec::new();
            let matched = each(&mut |row| {
                rows.push(row.clone());
                Ok(())
            });
            let matched = matched.map_err(|f| Trouble::failure(&f, "--where").on(&desk.shown))?;
            let found = Rows { target: target.clone(), matched, rows };
            show(common, &Screen::Table(&full, &found, &chosen, filter.is_some()));
            return Ok(exit::DONE);
        }
    };
    match each(&mut |row| Ok(handing.row(row)?)) {
        Err(failure) if !cut_off() => return Err(Trouble::failure(&failure, "--where").on(&desk.shown)),
        Err(_) => {}
        // What cannot be written is noted where it is.
        Ok(matched) => drop(handing.end(matched)),
    }
    Ok(exit::DONE)
}

/// Looks again at the rows of a run.
fn again(common: &Common, desk: &Desk, args: &LookArgs, run: Option<&str>) -> Result<u8, Trouble> {
    let failed = |failure: Failure| Trouble::failure(&failure, "").on(&desk.shown);
    if !args.csv {
        let seen =
            desk.with(|context| look_again(context, Spare::default(), run, args.show, &mut |_, _| Ok(())));
        show(common, &Screen::LookedAgain(&seen.map_err(failed)?, &common.on_again()));
        return Ok(exit::DONE);
    }
    let mut sheet = Sheet::new(stream(), args.csv_raw);
    let mut head = None;
    let seen = desk.with(|context| {
        look_again(context, Spare::default(), run, Show::First(0), &mut |table, row| {
            let columns = &table.target.columns;
            if head != Some((table.step, table.role, table.target.table.clone())) {
                head = Some((table.step, table.role, table.target.table.clone()));
                let names =
                    |when: &str| columns.iter().map(|c| format!("{} {when}", c.name)).collect::<Vec<_>>();
                let first = ["step", "table", "stands"].map(str::to_owned).to_vec();
                sheet.head(&[first, names("before"), names("left"), names("now")].concat())?;
            }
            let image = |row: &Option<Vec<Value>>| match row {
                Some(row) => row.iter().map(Cell::of).collect(),
                None => vec![Cell::Empty; columns.len()],
            };
            let first = [
                Cell::Plain((table.step + 1).to_string()),
                Cell::Text(table.target.table.clone()),
                Cell::Plain(row.stands.as_str().to_owned()),
            ];
            let all = [&row.before, &row.left, &row.now].map(image).concat();
            Ok(sheet.record(&first.into_iter().chain(all).collect::<Vec<_>>())?)
        })
    });
    let _ = sheet.finish();
    match seen {
        Err(failure) if !cut_off() => Err(failed(failure)),
        _ => Ok(exit::DONE),
    }
}

/// What went wrong on looking for a table, with the name that may have been meant.
pub(super) fn no_table(desk: &Desk, failure: Failure, name: &str) -> Trouble {
    let trouble = Trouble::failure(&failure, "").on(&desk.shown);
    if !matches!(failure, Failure::Engine(EngineError::Unusable(Unusable::Missing, _))) {
        return trouble;
    }
    // A database that cannot be looked at has no list of tables either.
    let Ok(all) = desk.with(tables).map(|seen| seen.seen) else { return trouble };
    let names: Vec<&str> = all.iter().map(|t| t.table.as_str()).collect();
    let hint = match nearest(name, names.iter().copied()) {
        Some(near) => format!("did you mean {near}?"),
        None if names.is_empty() => "there are no tables here".to_owned(),
        None => format!("there are: {}", names.join(", ")),
    };
    Trouble { hint: Some(hint), status: exit::USAGE, ..trouble }
}

/// The positions of the columns that were asked for, in that order; all of them where none was.
fn chosen(target: &Target, names: &[String]) -> Result<Vec<usize>, Trouble> {
    if names.is_empty() {
        return Ok((0..target.columns.len()).collect());
    }
    let position = |name: &String| {
        target.position(name.trim()).ok_or_else(|| {
            let (message, hint) = target.no_column(name.trim());
            Trouble::usage(message, hint)
        })
    };
    names.iter().map(position).collect()
}
