//! Tables as they are before triggers write them, held row by row.

use marktwice_core::mark::StepKind;
use marktwice_core::table::Target;
use marktwice_port::EngineError;
use marktwice_sql::dialect::ours::{IS_WANTED, ROW, THERE, before};

use crate::along::not_among;
use crate::driver::Driver;
use crate::held::Held;
use crate::layout::{Layout, flagged, image, twice};
use crate::shell::{Joining, Tabled};
use crate::statement::same_definition;

/// Makes a held table for all rows of a table.
fn define<D: Driver>(driver: &mut D, table: &D::Table, number: usize) -> Result<Held<D::Table>, EngineError> {
    let mut columns = flagged(table, D::Table::COUNTED, None, []);
    columns.extend(driver.behind());
    driver.define(table, number, &columns)?;
    let layout = Layout {
        step: number,
        target: table.target().clone(),
        kind: StepKind::Update,
        row: table.row_identity().is_some(),
        flags: true,
        rest: None,
        moving: Vec::new(),
        after: Vec::new(),
    };
    Ok(Held::new(layout, table))
}

/// Columns of such a held table, and what stands in them of a row `c` of the table.
fn columns<T: Tabled>(table: &T) -> (Vec<String>, Vec<String>) {
    let row = table.row_identity().map(|row| (ROW.to_string(), format!("c.{}", T::LANGUAGE.quoted(row))));
    let all = 0..table.target().columns.len();
    row.into_iter().chain(all.map(|at| (before(at), format!("c.{}", table.column(at))))).unzip()
}

/// Holds all rows of a table as they are.
///
/// # Errors
/// What the engine says; [`Overtaken`](marktwice_port::EngineError::Overtaken) where it is defined otherwise by now.
pub fn copy<D: Driver>(
    driver: &mut D,
    target: &Target,
    number: usize,
) -> Result<Held<D::Table>, EngineError> {
    let mut table = driver.described(&target.schema, &target.table)?;
    table.tell_by(&target.key);
    same_definition(table.target(), target, "the preview")?;
    driver.still(&table)?;
    let held = define(driver, &table, number)?;
    let (names, values) = columns(&table);
    let sql = format!(
        "INSERT INTO {} ({}, {THERE}, {IS_WANTED}) SELECT {}, TRUE, TRUE FROM {} AS c",
        held.name(),
        names.join(", "),
        values.join(", "),
        table.from()
    );
    driver.pinned(|driver| driver.execute(&sql))?;
    driver.loaded(&held.name(), true)?;
    Ok(held)
}

/// Adds to a held table those rows that its table has and it has not, as ones that were not there (`wanted`), or as ones that
/// are not to be there.
///
/// # Errors
/// What the engine says.
pub fn arrivals<D: Driver>(driver: &mut D, held: &Held<D::Table>, wanted: bool) -> Result<u64, EngineError> {
    let table = &held.table;
    let (names, values) = columns(table);
    let flags = if wanted { "FALSE, TRUE" } else { "TRUE, FALSE" };
    let (name, identity) = (held.name(), table.identity());
    // While it grows it would be read on and on; where no list is made of it, it is read once beforehand.
    let (known, from) = if D::Table::JOINING == Joining::From {
        let keys: Vec<&str> = identity.iter().map(|(held, _)| held.as_str()).collect();
        let known = format!("WITH marktwice_m AS MATERIALIZED (SELECT {} FROM {name}) ", keys.join(", "));
        (known, "marktwice_m")
    } else {
        (String::new(), name.as_str())
    };
    let sql = format!(
        "INSERT INTO {name} ({}, {THERE}, {IS_WANTED}) {known}SELECT {}, {flags} FROM {} AS c WHERE {}",
        names.join(", "),
        values.join(", "),
        table.from(),
        not_among::<D::Table>(from, &identity),
    );
    let came = driver.pinned(|driver| driver.execute(&sql))?;
    if came > 0 {
        driver.loaded(&held.name(), true)?;
    }
    Ok(came)
}

/// Holds what a table is to be: what it was (`start`), but for rows that go back to something else (`back`), and those that
/// are left to others (`left`).
///
/// # Errors
/// What the engine says.
pub fn wanted<D: Driver>(
    driver: &mut D,
    start: &Held<D::Table>,
    [back, left]: [Option<&Held<D::Table>>; 2],
    number: usize,
) -> Result<Held<D::Table>, EngineError> {
    let table = &start.table;
    let held = define(driver, table, number)?;
    let (names, _) = columns(table);
    let list = names.join(", ");
    let identity: Vec<(String, String)> =
        table.identity().into_iter().map(|(held, _)| (held.clone(), held)).collect();
    let own = names.iter().map(|name| format!("c.{name}")).collect::<Vec<_>>().join(", ");
    let others = [back, left].into_iter().flatten();
    let conditions: Vec<String> =
        others.map(|other| not_among::<D::Table>(&other.name(), &identity)).collect();
    let conditions =
        if conditions.is_empty() { String::new() } else { format!(" WHERE {}", conditions.join(" AND ")) };
    let (name, start) = (held.name(), start.name());
    let mut all = vec![format!(
        "INSERT INTO {name} ({list}, {THERE}, {IS_WANTED}) SELECT {own}, FALSE, TRUE FROM {start} AS c{conditions}"
    )];
    if let Some(back) = back {
        let twice = twice(&super::batch(0, table.target(), StepKind::Update));
        let row = table.row_identity().map(|_| format!("c.{ROW}"));
        let columns = 0..table.target().columns.len();
        let images: Vec<String> =
            row.into_iter().chain(columns.map(|at| format!("c.{}", image(&twice, at)))).collect();
        all.push(format!(
            "INSERT INTO {name} ({list}, {THERE}, {IS_WANTED}) SELECT {}, FALSE, TRUE FROM {} AS c WHERE c.{IS_WANTED}",
            images.join(", "),
            back.name()
        ));
    }
    if let Some(left) = left {
        all.push(format!(
            "INSERT INTO {name} ({list}, {THERE}, {IS_WANTED}) SELECT {own}, FALSE, FALSE FROM {} AS c",
            left.name()
        ));
    }
    for sql in all {
        driver.execute(&sql)?;
    }
    driver.loaded(&name, true)?;
    Ok(held)
}
