//! Checks of each row: asked of the held rows and what they would become, and in the transaction of what they are afterwards.

use marktwice_core::check::{CheckFound, EachCheck, Failing, Was};
use marktwice_core::finding::{Code, Finding};
use marktwice_core::mark::StepKind;
use marktwice_core::near::nearest;
use marktwice_core::table::KeyKind;
use marktwice_port::EngineError;
use marktwice_sql::compose;
use marktwice_sql::dialect::ours::{ORDINAL, before};
use marktwice_sql::query::each::{Each, Reading, Side, each};

use crate::driver::Driver;
use crate::held::Held;
use crate::shell::Tabled;

/// Rows that are named for each check.
const NAMED: usize = 5;

fn refused(finding: Finding) -> EngineError {
    EngineError::Refused(Box::new(finding))
}

/// Asks a check of the held rows of a step; `written` says that its statement has run.
///
/// # Errors
/// [`EngineError::Refused`] for a condition that is none, or what the engine says.
pub fn ask<D: Driver>(
    driver: &mut D,
    held: &Held<D::Table>,
    check: &EachCheck,
    written: bool,
) -> Result<CheckFound, EngineError> {
    if let Some(said) = &check.was {
        return was(driver, held, check, said);
    }
    let asked = each(&check.each, D::Table::LANGUAGE).map_err(refused)?;
    understood(held, check, &asked)?;
    driver.only_reads(asked.step())?;
    let layout = &held.layout;
    // Rows that only their contents tell were proven to be what was foreseen.
    let now = written && layout.kind != StepKind::Delete && layout.target.key.kind != KeyKind::WholeRow;
    let stands = |read: &Reading| -> Option<String> {
        let at = layout.target.position(&read.column)?;
        match read.side {
            // A row that comes in was nothing before.
            Side::Old if layout.comes_in() => Some("NULL".to_owned()),
            Side::Old => Some(format!("h.{}", before(at))),
            Side::New if now => {
                let column = layout.target.columns.get(at)?;
                Some(format!("t.{}", D::Table::LANGUAGE.quoted(&column.name)))
            }
            Side::New => match layout.after.iter().find(|(column, _)| *column == at) {
                Some((_, name)) => Some(format!("h.{name}")),
                None => (!held.may_change(at)).then(|| format!("h.{}", before(at))),
            },
        }
    };
    if let Some(open) = asked.reads.iter().find(|read| stands(read).is_none()) {
        return Ok(CheckFound::open(check, format!("what becomes of {}", open.column)));
    }
    let condition = asked.with(&|read| stands(read).unwrap_or_default());
    let from = if now {
        format!("{} AS h JOIN {} AS t ON {}", held.name(), held.table.from(), held.pair_on())
    } else {
        format!("{} AS h", held.name())
    };
    let mut seen: Vec<&Reading> = Vec::new();
    for read in &asked.reads {
        if !seen.iter().any(|s| s.side == read.side && s.column == read.column) {
            seen.push(read);
        }
    }
    let list = seen.iter().filter_map(|read| stands(read));
    let names = seen
        .iter()
        .map(|read| format!("{}.{}", if read.side == Side::Old { "old" } else { "new" }, read.column));
    count(driver, held, check, (&condition, &from), names.zip(list).collect())
}

/// Asks whether the rows held what was said.
fn was<D: Driver>(
    driver: &mut D,
    held: &Held<D::Table>,
    check: &EachCheck,
    said: &Was,
) -> Result<CheckFound, EngineError> {
    let target = &held.layout.target;
    let stands = target.position(&said.column).map_or_else(String::new, |at| format!("h.{}", before(at)));
    let composed = compose::was(D::Table::LANGUAGE, target, (&said.column, &stands), &said.values);
    let condition = composed.map_err(|wrong| {
        let message = format!("the old value of {}: {}", said.column, wrong.message);
        refused(Finding::new(Code::UnknownName, message).hint(wrong.hint))
    })?;
    let from = format!("{} AS h", held.name());
    count(driver, held, check, (&condition, &from), vec![(format!("old.{}", said.column), stands)])
}

/// Counts the rows of which a condition is not true, and names the first; `reads` are what is told of them.
fn count<D: Driver>(
    driver: &mut D,
    held: &Held<D::Table>,
    check: &EachCheck,
    (condition, from): (&str, &str),
    reads: Vec<(String, String)>,
) -> Result<CheckFound, EngineError> {
    let rows = driver.number(&format!("SELECT count(*) FROM {}", held.name()))?;
    // Only what is true passes; what NULL makes of it does not.
    let fails = format!("FROM {from} WHERE ({condition}\n) IS NOT TRUE");
    let failing = driver.number(&format!("SELECT count(*) {fails}"))?;
    let mut first = Vec::new();
    if failing > 0 {
        let (names, list): (Vec<String>, Vec<String>) = reads.into_iter().unzip();
        let sql =
            format!("SELECT h.{ORDINAL}, {} {fails} ORDER BY h.{ORDINAL} LIMIT {NAMED}", list.join(", "));
        for row in driver.question(&sql)?.rows {
            let mut cells = row.into_iter();
            let Some(ordinal) = cells.next().flatten() else { continue };
            let key = driver.pinned(|driver| held.key_of(driver, &ordinal))?;
            first.push(Failing { key, reads: names.iter().cloned().zip(cells).collect() });
        }
    }
    Ok(CheckFound { check: check.clone(), rows, failing, first, open: None })
}

/// Refuses columns that are not there, that stand there bare, and a side that a step does not have.
fn understood<T: Tabled>(held: &Held<T>, check: &EachCheck, asked: &Each) -> Result<(), EngineError> {
    let target = &held.layout.target;
    let said = |code: Code, what: String, hint: String| {
        Err(refused(Finding::new(code, format!("the check `{}` {what}", check.each)).hint(hint)))
    };
    if let Some(name) = asked.bare(&|name| target.position(name).is_some()) {
        let hint = format!("write old.{name} for what it was, new.{name} for what it is afterwards");
        return said(Code::AmbiguousName, format!("does not say which {name} it means"), hint);
    }
    if asked.reads.is_empty() {
        let hint = "write one condition over the row: new.price <= old.price * 1.25".to_owned();
        return said(Code::NotUnderstood, "reads nothing of the row".to_owned(), hint);
    }
    for read in &asked.reads {
        if target.position(&read.column).is_none() {
            let near = nearest(&read.column, target.columns.iter().map(|c| c.name.as_str()));
            let hint =
                near.map_or_else(|| "correct the name".to_owned(), |near| format!("did you mean {near}?"));
            return said(
                Code::UnknownName,
                format!("reads {}, which {} does not have", read.column, target.table),
                hint,
            );
        }
        if read.side == Side::New && held.layout.kind == StepKind::Delete {
            let what = "reads new, and a DELETE leaves no row".to_owned();
            return said(Code::NotUnderstood, what, "write old, which is what goes".to_owned());
        }
    }
    Ok(())
}
