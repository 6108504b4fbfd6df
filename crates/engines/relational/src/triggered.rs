//! Tables that triggers and routines write: which of them can be held as a whole, and what of that is said beforehand. Which
//! rows they will be nobody can say, so each is copied before anything runs and looked at again when all has run.

use std::time::Instant;

use marktwice_core::image::Place;
use marktwice_core::mark::StepKind;
use marktwice_core::side::SideWrite;
use marktwice_core::table::Target;
use marktwice_core::triggered::{MOST_ROWS, Triggered, is_fired};
use marktwice_core::undo::inverse_kind;
use marktwice_core::way_back::WayBack;
use marktwice_port::{Batch, EngineError, PATIENCE, Plan};
use marktwice_sql::statement::routine::Verb;

use crate::along::{Graph, fired_by};
use crate::detail::Detail;
use crate::driver::Driver;
use crate::layout::fits;
use crate::shell::Tabled;
use crate::statement::detail;

mod copy;
mod restore;

pub use copy::{arrivals, copy, wanted};
pub use restore::restore;

/// Adds to a plan which tables triggers write, for the statement's own rows and for those that it takes along, and which an
/// undo of it will; what can be put back as it was needs nobody's leave in an undo.
///
/// # Errors
/// When the connection fails.
pub fn settle<D: Driver>(driver: &mut D, plan: &mut Plan) -> Result<(), EngineError> {
    let Ok(detail) = detail::<D::Table>(plan) else { return Ok(()) };
    if driver.may_hold(detail).is_err() {
        return Ok(());
    }
    let mut writes = detail.writes.clone();
    if let Some(graph) = &detail.along {
        writes.extend(driver.looking(|driver| of_graph(driver, graph))?);
    }
    let columns = plan.foreseen.iter().filter(|f| !f.derived).map(|f| f.column).collect();
    let kind = inverse_kind(plan.kind);
    let back = Batch { columns, inserts: false, narrow: None, ..batch(plan.step, &plan.target, kind) };
    // What an undo sets off is told in the way back already, where there is anything.
    let undo = match detail.back.allow.is_empty() {
        true => Vec::new(),
        false => driver.looking(|driver| driver.restore_reach(&back))?.0,
    };
    let all: Vec<SideWrite> = writes.iter().chain(&undo).cloned().collect();
    if !all.iter().any(is_fired) {
        return Ok(());
    }
    let own = std::iter::once(&plan.target).chain(plan.along.iter().map(|along| &along.target));
    let own: Vec<Target> = own.cloned().collect();
    plan.triggered = driver.looking(|driver| which(driver, &all, &[], &own, false))?;
    let held = |write: &SideWrite| {
        let table = plan.triggered.iter().find(|table| table.shown == write.table);
        is_fired(write) && table.is_some_and(|table| table.target.is_ok())
    };
    let kept = undo.iter().all(held);
    let told = |write: &SideWrite| writes.iter().any(|own| own.table == write.table);
    let stays = undo.iter().filter(|write| is_fired(write) && !held(write) && !told(write));
    let stays: Vec<String> = stays
        .map(|write| format!("by then {} writes {}, which stays", crate::walk::by(&write.how), write.table))
        .collect();
    if let Some(detail) = plan.detail.downcast_mut::<Detail<D::Table>>() {
        if kept {
            detail.back.allow.clear();
        }
        detail.back.leaves = stays;
    }
    Ok(())
}

/// What triggers write that foreign keys' actions set off.
///
/// # Errors
/// When the engine fails.
pub fn of_graph<D: Driver>(driver: &mut D, graph: &Graph<D::Table>) -> Result<Vec<SideWrite>, EngineError> {
    let mut all = Vec::new();
    for node in &graph.nodes {
        for verb in [Verb::Delete, Verb::Update] {
            all.extend(fired_by(driver, node, verb)?);
        }
    }
    Ok(all)
}

/// Which tables can be held, and put back as they were: those that triggers write, and those that are `known`; `own` are
/// tables whose rows are held one by one. Large ones are not held, except where they are `welcome`.
///
/// # Errors
/// When the engine fails.
pub fn which<D: Driver>(
    driver: &mut D,
    writes: &[SideWrite],
    known: &[Target],
    own: &[Target],
    welcome: bool,
) -> Result<Vec<Triggered>, EngineError> {
    let mut all: Vec<Triggered> = Vec::new();
    // What putting the rows of each back sets off.
    let mut sets_off: Vec<Vec<SideWrite>> = Vec::new();
    let mut waiting: Vec<String> = Vec::new();
    for target in known {
        waiting.push(driver.described(&target.schema, &target.table)?.shown().to_owned());
    }
    let fired = |writes: &[SideWrite]| -> Vec<String> {
        let fired = writes.iter().filter(|write| is_fired(write) && !write.table.is_empty());
        fired.map(|write| write.table.clone()).collect()
    };
    waiting.extend(fired(writes));
    while !waiting.is_empty() {
        let shown = waiting.remove(0);
        if all.iter().any(|table| table.shown == shown) {
            continue;
        }
        let (schema, bare) = match shown.rsplit_once('.') {
            Some((schema, bare)) => (Some(schema), bare),
            None => (None, shown.as_str()),
        };
        let found = match driver.named(schema, bare) {
            Ok(table) => one(driver, &table, own)?,
            Err(_) => Err("it is not a table that can be looked at".to_owned()),
        };
        let (target, further, large) = match found {
            Ok((_, _, true)) if !welcome => {
                (Err(format!("it has more than {MOST_ROWS} rows")), Vec::new(), true)
            }
            Ok((target, further, large)) => (Ok(target), further, large),
            Err(why) => (Err(why), Vec::new(), false),
        };
        // What that writes goes back along with it.
        waiting.extend(fired(&further));
        all.push(Triggered { shown, target, large });
        sets_off.push(further);
    }
    // Where that writes a table that cannot be put back, this one cannot either.
    loop {
        let held = |table: &str| all.iter().any(|t: &Triggered| t.shown == table && t.target.is_ok());
        let outside = |further: &Vec<SideWrite>| further.iter().find(|write| !held(&write.table)).cloned();
        let spoilt = all.iter().zip(&sets_off).enumerate().find_map(|(at, (table, further))| {
            let write = table.target.is_ok().then(|| outside(further)).flatten()?;
            Some((at, write))
        });
        let Some((at, write)) = spoilt else { break };
        if let Some(table) = all.get_mut(at) {
            let what = if write.table.is_empty() { "something else" } else { write.table.as_str() };
            table.target = Err(format!("putting its rows back would write {what} by a trigger"));
        }
    }
    Ok(all)
}

/// A table that can be held, what putting its rows back sets off, and whether it is large; or why it cannot.
type Single = Result<(Target, Vec<SideWrite>, bool), String>;

fn one<D: Driver>(driver: &mut D, table: &D::Table, own: &[Target]) -> Result<Single, EngineError> {
    let target = &Target { key: table.lasting_key(), ..table.target().clone() };
    if own.iter().any(|own| own.same_table(target)) {
        return Ok(Err("the change writes it by itself".to_owned()));
    }
    if target.key.names.is_empty() {
        return Ok(Err("it has no key that tells its rows apart".to_owned()));
    }
    if fits(&target.table, target.columns.len() * 2, D::Table::MOST_COLUMNS, D::Table::ENGINE).is_err() {
        return Ok(Err("its rows are too wide".to_owned()));
    }
    let sql = format!(
        "SELECT count(*) FROM (SELECT 1 AS one FROM {} LIMIT {}) AS marktwice_rows",
        table.from(),
        MOST_ROWS + 1
    );
    let rows = driver.ask_until(&sql, Instant::now() + PATIENCE).ok().map(|answer| answer.count(0, 0));
    let Some(rows) = rows else { return Ok(Err("its rows cannot be read, or not soon enough".to_owned())) };
    let mut sets_off = Vec::new();
    for kind in [StepKind::Update, StepKind::Insert, StepKind::Delete] {
        let (side, back) = driver.restore_reach(&batch(0, target, kind))?;
        sets_off.extend(side);
        if let Some(why) = against(&back) {
            return Ok(Err(why));
        }
    }
    Ok(Ok((target.clone(), sets_off, rows > MOST_ROWS)))
}

/// What speaks against putting the rows of a table back exactly.
fn against(back: &WayBack) -> Option<String> {
    let WayBack { owned, obstacles, unsure, .. } = back;
    let owned = owned.first().map(|owned| format!("{}: {}", owned.column, owned.why));
    obstacles.first().or(owned.as_ref()).or(unsure.first()).cloned()
}

/// Rows of a table that are put back, whatever is to become of each.
pub fn batch(number: usize, target: &Target, kind: StepKind) -> Batch {
    let columns = target.columns.iter().enumerate().filter(|(_, c)| !c.generated).map(|(at, _)| at).collect();
    let target = target.clone();
    Batch { step: number, of: Place::default(), target, kind, columns, inserts: true, narrow: None }
}
