//! Putting whole tables back as they are to be, whatever an undo's own triggers have made of them meanwhile.

use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_core::triggered::{Copied, number};
use marktwice_port::EngineError;
use marktwice_sql::dialect::ours::{IS_WANTED, ORDINAL, THERE};

use super::{arrivals, batch};
use crate::around::actions;
use crate::driver::Driver;
use crate::held::Held;
use crate::put::{Making, put};
use crate::shell::Tabled;

/// Rows that are compared at once.
const ROWS: i64 = 5_000;
/// After so many rounds the triggers that putting rows back sets off will not come to rest.
const ROUNDS: usize = 5;

/// Puts tables back: `wanted` are their positions and what each is to be. What that sets off in another of them is put right
/// in the next round; a last one finds nothing left to do. Gives the rows that were put back.
///
/// # Errors
/// When the engine refuses a row, or there is no end to it.
pub fn restore<D: Driver>(driver: &mut D, wanted: &[(usize, Held<D::Table>)]) -> Result<u64, EngineError> {
    let mut done = 0;
    for round in 0..ROUNDS {
        let mut found = 0;
        for (nth, wanted) in wanted {
            found += one(driver, wanted, number(*nth, Copied::Round(round)))?;
        }
        if found == 0 {
            return Ok(done);
        }
        done += found;
    }
    let names: Vec<&str> = wanted.iter().map(|(_, held)| held.table.shown()).collect();
    let message = format!("putting the rows of {} back sets off triggers again and again", names.join(", "));
    Err(EngineError::Other(message))
}

/// A row that is not what it is to be.
struct Differs {
    key: Vec<Value>,
    now: Option<Vec<Value>>,
    wanted: Option<Vec<Value>>,
}

/// Puts one table back as far as it differs by now; gives how many rows did.
fn one<D: Driver>(driver: &mut D, wanted: &Held<D::Table>, number: usize) -> Result<u64, EngineError> {
    arrivals(driver, wanted, false)?;
    let table = &wanted.table;
    let batch = batch(number, table.target(), StepKind::Update);
    let last = driver.number(&format!("SELECT coalesce(max({ORDINAL}), 0) FROM {}", wanted.name()))?;
    let last = i64::try_from(last).unwrap_or(i64::MAX);
    let mut making = None;
    let (mut from, mut differing) = (0, 0);
    while from <= last {
        let range = format!(
            "WHERE h.{ORDINAL} > {from} AND h.{ORDINAL} <= {} AND (h.{THERE} OR h.{IS_WANTED})",
            from + ROWS
        );
        let mut rows: Vec<Differs> = Vec::new();
        driver.pinned(|driver| {
            wanted.pairs_in(driver, &range, &mut |held, now| {
                let image = held.image.after();
                if image != now {
                    let [now, wanted] = [now, image].map(|row| row.map(<[Value]>::to_vec));
                    rows.push(Differs { key: held.key.clone(), now, wanted });
                }
                Ok(())
            })
        })?;
        if !rows.is_empty() {
            let making = match &making {
                Some(making) => making,
                None => making.insert(Making::new(driver, &batch, &[], table.clone())?),
            };
            let mut all = Vec::new();
            for Differs { key, now, wanted } in rows {
                differing += 1;
                let beside = table.beside_of(&key, None);
                all.push(making.row(&mut Vec::new(), differing, beside, now.as_deref(), wanted.as_deref()));
            }
            driver.pinned(|driver| making.load(driver, all))?;
        }
        from += ROWS;
    }
    let Some(making) = making else { return Ok(0) };
    let held = making.made(driver)?;
    alone(driver, &held, number)?;
    let done = driver.acting(|driver| driver.putting(|driver| put(driver, &held, &batch)))?;
    if i64::try_from(done) != Ok(differing) {
        return Err(EngineError::Other(format!(
            "{done} rows of {} answered where {differing} were put back",
            table.shown()
        )));
    }
    Ok(done)
}

/// Refuses where rows that go, or their keys, would take rows of other tables along.
fn alone<D: Driver>(driver: &mut D, held: &Held<D::Table>, number: usize) -> Result<(), EngineError> {
    let keys = driver.foreign_keys(&held.table)?;
    let target = held.table.target();
    if !keys.iter().any(|key| key.leads_to(target)) {
        return Ok(());
    }
    let gone =
        driver.number(&format!("SELECT count(*) FROM {} WHERE {THERE} AND NOT {IS_WANTED}", held.name()))?;
    let assigned: Vec<_> = held.layout.after.iter().map(|(at, name)| (*at, Some(name.clone()))).collect();
    let mut writes = actions(driver, number, &keys, &held.table, StepKind::Update, &assigned)?;
    if gone > 0 {
        writes.extend(actions(driver, number, &keys, &held.table, StepKind::Delete, &assigned)?);
    }
    match writes.first() {
        None => Ok(()),
        Some(write) => Err(EngineError::Other(format!(
            "putting the rows of {} back as they were would write rows of {} that refer to them",
            held.table.shown(),
            write.table
        ))),
    }
}
