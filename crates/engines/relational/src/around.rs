//! What stands around held rows: how many rows the table has, whether it is still the one that was planned with, and what
//! foreign keys' actions would write.

use std::cell::RefCell;

use marktwice_core::mark::StepKind;
use marktwice_core::table::{COUNTED, Extent};
use marktwice_core::triggered::tell;
use marktwice_port::{EngineError, Matched, Plan, SideWrite};

use crate::along::{self, Gathered};
use crate::detail::Detail;
use crate::driver::Driver;
use crate::held::Filled;
use crate::reach::{Assigned, Counter, ForeignKey, count_actions};
use crate::shell::Tabled;
use crate::statement::same_definition;

/// How many rows a table has.
///
/// # Errors
/// What the engine says.
pub fn count<D: Driver>(driver: &mut D, table: &D::Table) -> Result<u64, EngineError> {
    driver.number(&format!("SELECT count(*) FROM {}", table.from()))
}

/// How many rows a table has, without reading a large one for it.
///
/// # Errors
/// What the engine says.
pub fn extent<D: Driver>(driver: &mut D, table: &D::Table) -> Result<Extent, EngineError> {
    match driver.reckoned(table)? {
        Some(rows) if rows > COUNTED => Ok(Extent { rows, about: true }),
        Some(_) | None => count(driver, table).map(Extent::exact),
    }
}

/// Refuses when definitions have changed since the plan was made.
///
/// # Errors
/// [`Overtaken::Definitions`] then.
pub fn still_defined<D: Driver>(driver: &mut D, table: &D::Table) -> Result<(), EngineError> {
    let target = table.target();
    let now = driver.described(&target.schema, &target.table)?;
    same_definition(now.target(), target, "the preview")?;
    driver.still(&now)
}

/// Foreign keys' actions on the held rows of a step.
///
/// # Errors
/// What the engine says.
pub fn actions<D: Driver>(
    driver: &mut D,
    step: usize,
    keys: &[ForeignKey],
    table: &D::Table,
    kind: StepKind,
    assigned: &Assigned,
) -> Result<Vec<SideWrite>, EngineError> {
    // Both closures ask the same connection, one after the other.
    let driver = RefCell::new(driver);
    let mut counter = Counter {
        language: D::Table::LANGUAGE,
        held: &table.held_name(step),
        identity: &table.identity(),
        count: &mut |sql| driver.borrow_mut().number(sql),
        further: &mut |written| driver.borrow_mut().further(written),
    };
    count_actions(&mut counter, keys, table.target(), kind, assigned)
}

/// What is known of held rows, and those that they take along.
pub type Surroundings<T> = (Matched, Vec<Gathered<T>>);

/// What is held, counted, and foreseen to be written elsewhere, once the held table is full.
///
/// # Errors
/// What the engine says.
pub fn surroundings<D: Driver>(
    driver: &mut D,
    plan: &Plan,
    detail: &Detail<D::Table>,
    filled: &Filled<D::Table>,
    lock: bool,
) -> Result<Surroundings<D::Table>, EngineError> {
    let matched = filled.matched;
    let step = &detail.step;
    let whole = plan.kind != StepKind::Insert
        && step.filter.is_none()
        && step.sources.is_none()
        && step.tail.is_none();
    let total = match (whole, plan.counted) {
        // It matches every row that is there.
        (true, _) => Extent::exact(matched),
        (false, true) => Extent::exact(count(driver, &detail.table)?),
        (false, false) => extent(driver, &detail.table)?,
    };
    // What comes in was never there, and goes as it came.
    let mut back = match plan.kind {
        StepKind::Insert => {
            let mut back = detail.back.clone();
            back.obstacles.extend(hold_each_other(driver, detail, filled)?);
            back
        }
        StepKind::Update | StepKind::Delete => driver.rows_back(plan, detail)?,
    };
    let layout = &filled.held.layout;
    let name = |column: usize| layout.after.iter().find(|(at, _)| *at == column).map(|(_, n)| n.clone());
    let assigned: Vec<_> = plan.foreseen.iter().map(|f| (f.column, name(f.column))).collect();
    let mut side = Vec::new();
    if matched > 0 || detail.fires.for_statement {
        side.extend_from_slice(&detail.writes);
    }
    let mut gathered = Vec::new();
    match &detail.along {
        Some(graph) if matched > 0 && !graph.nodes.is_empty() => {
            gathered = driver.pinned(|driver| along::gather(driver, graph, &filled.held, lock))?;
            side.extend(along::side(driver, graph, &gathered)?);
        }
        None if matched > 0 => {
            let more = actions(driver, plan.step, &detail.foreign_keys, &detail.table, plan.kind, &assigned)?;
            if let Some(write) = more.first() {
                back.unsure.push(format!(
                    "rows of {} go along and are not kept; whether what comes back finds what it refers to only an undo can tell",
                    write.table
                ));
            }
            side.extend(more);
        }
        Some(_) | None => {}
    }
    tell(&mut side, &plan.triggered);
    let along = gathered.iter().map(|rows| rows.count).collect();
    let fires = detail.fires.for_statement || (matched > 0 && detail.fires.for_rows);
    Ok((Matched { matched, total, side, along, many: filled.many.clone(), back, fires }, gathered))
}

/// Rows that come in and could not be taken out again, for what they refer to among themselves.
fn hold_each_other<D: Driver>(
    driver: &mut D,
    detail: &Detail<D::Table>,
    filled: &Filled<D::Table>,
) -> Result<Vec<String>, EngineError> {
    let (target, layout) = (detail.table.target(), &filled.held.layout);
    let filled_as = |name: &String| {
        let column = target.position(name)?;
        layout.after.iter().find(|(known, _)| *known == column).map(|(_, name)| name.clone())
    };
    let name = filled.held.name();
    let (mut all, mut themselves) = (Vec::new(), Vec::new());
    for key in detail.foreign_keys.iter().filter(|key| key.is_of(target) && key.leads_to(target)) {
        // What `h` refers to, as a row `m` of them.
        let refers_to = |m: &str| -> Option<String> {
            let pairs = key.child_columns.iter().zip(&key.parent_columns);
            let same: Option<Vec<String>> = pairs
                .map(|(child, parent)| Some(format!("{m}.{} = h.{}", filled_as(parent)?, filled_as(child)?)))
                .collect();
            Some(format!("({})", same?.join(" AND ")))
        };
        // Where NO ACTION does not wait, the engine sees the row's own reference, and does not let it go (found by experiment
        // on MariaDB 10.11).
        if !D::Table::NO_ACTION_WAITS && !["CASCADE", "SET NULL"].contains(&key.on_delete.as_str()) {
            themselves.extend(refers_to("h"));
        }
        // Columns that take no NULL, and become NULL when one of two rows goes: it fails, whichever goes first.
        let closed = |name: &String| {
            target.position(name).and_then(|at| target.columns.get(at)).is_some_and(|column| column.not_null)
        };
        let closes = key.on_delete == "SET NULL" && key.child_columns.iter().any(closed);
        let Some(same) = refers_to("m").filter(|_| closes) else { continue };
        let rows = driver.number(&format!(
            "SELECT count(*) FROM {name} AS h WHERE EXISTS (SELECT 1 FROM {name} AS m WHERE {same})"
        ))?;
        if rows > 0 {
            let columns = key.child_columns.join(", ");
            all.push(format!(
                "rows that come in refer to each other by {columns}, which becomes NULL when one goes and takes none: they \
                 could not be taken out again"
            ));
        }
    }
    if !themselves.is_empty() {
        let sql = format!("SELECT count(*) FROM {name} AS h WHERE {}", themselves.join(" OR "));
        let why = "rows that come in refer to themselves by a foreign key that forbids that they go: the engine does not take \
                   them out again";
        all.extend((driver.number(&sql)? > 0).then(|| why.to_owned()));
    }
    Ok(all)
}

/// What is known of rows that were counted and shown, and are held nowhere.
///
/// # Errors
/// What the engine says.
pub fn plainly_held<D: Driver>(driver: &mut D, detail: &Detail<D::Table>) -> Result<Matched, EngineError> {
    if detail.step.inserted.is_some() {
        let what = "without a temporary table nobody can see which rows would come in";
        return Err(EngineError::denied(what.to_owned()));
    }
    let matched =
        driver.number(&detail.step.query("count(*)", marktwice_sql::query::row_query::Ask::default()))?;
    let total = extent(driver, &detail.table)?;
    let side = if matched > 0 { detail.writes.clone() } else { Vec::new() };
    let fires = detail.fires.for_rows || detail.fires.for_statement;
    let along = Vec::new();
    Ok(Matched { matched, total, side, along, many: None, back: detail.back.clone(), fires })
}
