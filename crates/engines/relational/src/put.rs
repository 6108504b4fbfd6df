//! Putting rows back, in an order that works. Never by replacing rows: a row is updated, inserted or deleted by its key (or
//! its place, or its contents) after what is there was compared and locked.

use marktwice_core::Value;
use marktwice_core::hash::Sum;
use marktwice_core::mark::StepKind;
use marktwice_core::table::KeyKind;
use marktwice_port::{Batch, ChangeSource, Constraint, EngineError, Keep, KeepSink};
use marktwice_sql::dialect::ours::{IS_WANTED, ORDINAL, ROW, THERE, wanted};

use crate::driver::Driver;
use crate::finder::{Finder, Lock};
use crate::held::Held;
use crate::layout::{Layout, flagged, image, images, is_held, rest, twice};
use crate::reach::ForeignKey;
use crate::shell::{Joining, Tabled};
use crate::statement::same_definition;

/// How many rows went back in one statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Together {
    /// All of them.
    All(u64),
    /// So many; for those that are left this condition holds.
    Some(u64, String),
    /// Rows stand in each other's way, and nothing is left of the attempt.
    None,
}

/// The table of a batch as it is defined now, which is as the run had it.
///
/// # Errors
/// Where it is another, or what the engine says.
pub fn table_of<D: Driver>(driver: &mut D, batch: &Batch) -> Result<D::Table, EngineError> {
    let mut table = driver.described(&batch.target.schema, &batch.target.table)?;
    table.tell_by(&batch.target.key);
    same_definition(table.target(), &batch.target, "the run")?;
    driver.still(&table)?;
    Ok(table)
}

/// Makes the held table of rows that are to be put back, and fills it with what is there and what is wanted. Settings
/// must be pinned. `keys` are the foreign keys that matter to the table.
///
/// # Errors
/// What the engine says, or the source or sink does.
pub fn hold_rows<D: Driver>(
    driver: &mut D,
    batch: &Batch,
    (table, keys): (D::Table, &[ForeignKey]),
    source: &mut ChangeSource<'_>,
    sink: &mut KeepSink<'_>,
) -> Result<(Held<D::Table>, u64), EngineError> {
    let making = Making::new(driver, batch, keys, table)?;
    let table = &making.held.table;
    driver.room_to_find(table)?;
    let mut finder = Finder::new(table, Lock::Update, true);
    let (mut held, mut anew, mut buffer) = (0, false, Vec::new());
    loop {
        let chunk = finder.next(driver, source)?;
        if chunk.is_empty() {
            break;
        }
        let mut rows = Vec::with_capacity(chunk.len());
        for (change, now) in chunk {
            let values = now.as_ref().map(|row| row.values.as_slice());
            let (row, values, wanted) = match sink(&change, values).map_err(EngineError::Sink)? {
                Keep::Hold(wanted) => (now.as_ref(), values, wanted),
                Keep::Anew(wanted) => (None, None, Some(wanted)),
                Keep::Leave => continue,
            };
            // Which number it is given shows once all others are known.
            let unnumbered = row.is_none() && now.is_some();
            let key = if unnumbered { &[][..] } else { &change.key };
            anew |= unnumbered;
            let beside = table.beside_of(key, row);
            rows.push(making.row(&mut buffer, change.ordinal, beside, values, wanted.as_deref()));
            held += 1;
        }
        making.load(driver, rows)?;
    }
    if anew {
        number_anew(driver, &making.held)?;
    }
    Ok((making.made(driver)?, held))
}

/// Gives held rows that have no row number one that neither a row of the table nor another held row has.
fn number_anew<D: Driver>(driver: &mut D, held: &Held<D::Table>) -> Result<(), EngineError> {
    let name = held.name();
    let row = held.table.row_identity().map(|row| D::Table::LANGUAGE.quoted(row)).unwrap_or_default();
    let greatest = driver.number(&format!(
        "SELECT max(n) FROM (SELECT 0 AS n UNION ALL SELECT max({row}) FROM {} UNION ALL SELECT max({ROW}) FROM {name}) AS g",
        held.table.from()
    ))?;
    let most = driver.number(&format!("SELECT max({ORDINAL}) FROM {name}"))?;
    if greatest.checked_add(most).is_none_or(|last| last > i64::MAX as u64) {
        let what = format!("{} has no free row number above the greatest one", held.table.target().table);
        return Err(EngineError::Other(what));
    }
    driver.execute(&format!("UPDATE {name} SET {ROW} = {greatest} + {ORDINAL} WHERE {ROW} IS NULL"))?;
    Ok(())
}

/// A held table of rows that are to be put back, while it is filled.
pub struct Making<T: Tabled> {
    held: Held<T>,
    twice: Vec<usize>,
    names: Vec<String>,
}

impl<T: Tabled> Making<T> {
    /// Makes one that is empty.
    ///
    /// # Errors
    /// What the engine says.
    pub fn new<D: Driver<Table = T>>(
        driver: &mut D,
        batch: &Batch,
        keys: &[ForeignKey],
        table: T,
    ) -> Result<Self, EngineError> {
        let (twice, rest) = (twice(batch), rest(batch, keys));
        let becomes = twice.iter().map(|at| format!("{} {}", wanted(*at), table.roomy(*at)));
        let mut columns = flagged(&table, T::NUMBERED.0, rest.as_deref(), becomes);
        let names = columns.iter().filter_map(|c| c.split(' ').next()).map(str::to_owned).collect();
        columns.extend(driver.behind());
        driver.define(&table, batch.step, &columns)?;
        let layout = Layout {
            step: batch.step,
            target: batch.target.clone(),
            kind: batch.kind,
            row: table.row_identity().is_some(),
            flags: true,
            rest,
            moving: batch.columns.clone(),
            after: twice.iter().map(|at| (*at, wanted(*at))).collect(),
        };
        Ok(Making { held: Held::new(layout, &table), twice, names })
    }

    /// A row of it: what is there now, and what is to be there.
    pub fn row(
        &self,
        buffer: &mut Vec<u8>,
        ordinal: i64,
        beside: Vec<Value>,
        now: Option<&[Value]>,
        wanted: Option<&[Value]>,
    ) -> Vec<Value> {
        let mut row = vec![Value::Int(ordinal)];
        row.extend(beside);
        match &self.held.layout.rest {
            None => row.extend(images(&self.twice, now, wanted).cloned()),
            Some(rest) => {
                let (there, becomes) = (now.unwrap_or_default(), wanted.unwrap_or_default());
                row.extend(
                    there.iter().enumerate().filter(|(at, _)| is_held(*at, rest)).map(|(_, v)| v.clone()),
                );
                let others = rest.iter().filter_map(|&at| there.get(at));
                let Sum(first, second) = Sum::of(buffer, others);
                row.extend([Value::Int(first), Value::Int(second)]);
                row.extend(self.twice.iter().filter_map(|&at| becomes.get(at).cloned()));
            }
        }
        row.extend([T::flag(now.is_some()), T::flag(wanted.is_some())]);
        row
    }

    /// Brings rows into it.
    ///
    /// # Errors
    /// What the engine says.
    pub fn load<D: Driver<Table = T>>(
        &self,
        driver: &mut D,
        rows: Vec<Vec<Value>>,
    ) -> Result<(), EngineError> {
        driver.load(&self.held.name(), &self.names, rows)
    }

    /// It, full.
    ///
    /// # Errors
    /// What the engine says.
    pub fn made<D: Driver<Table = T>>(self, driver: &mut D) -> Result<Held<T>, EngineError> {
        driver.loaded(&self.held.name(), false)?;
        Ok(self.held)
    }
}

/// The statement that puts held rows of one kind back, all at once or the one of an ordinal.
pub fn statement<T: Tabled>(held: &Held<T>, batch: &Batch, kind: StepKind, one: Option<&str>) -> String {
    let (table, target) = (&held.table, &batch.target);
    let name = |at: usize| target.columns.get(at).map_or(String::new(), |c| T::LANGUAGE.quoted(&c.name));
    let (from, rows) = (table.from(), format!("{} AS h", held.name()));
    let one = one.map_or(String::new(), |o| format!(" AND h.{ORDINAL} = {o}"));
    let identity = table.identity();
    let same = identity.iter().enumerate();
    let on = same.map(|(nth, (held, own))| format!("t.{own} {} h.{held}", table.equals(nth)));
    let on = on.collect::<Vec<_>>().join(" AND ");
    let or_abort = table.or_abort();
    match kind {
        StepKind::Update => {
            let written = batch.columns.iter().copied().filter(|at| table.writable(*at));
            let of = if T::JOINING == Joining::Join { "t." } else { "" };
            let sets: Vec<String> =
                written.map(|at| format!("{of}{} = h.{}", name(at), wanted(at))).collect();
            let (sets, which) = (sets.join(", "), format!("h.{THERE} AND h.{IS_WANTED}{one}"));
            match T::JOINING {
                Joining::Join => format!("UPDATE {from} AS t JOIN {rows} ON {on} SET {sets} WHERE {which}"),
                Joining::From | Joining::In => {
                    format!("UPDATE{or_abort} {from} AS t SET {sets} FROM {rows} WHERE {on} AND {which}")
                }
            }
        }
        StepKind::Delete => {
            let which = format!("h.{THERE} AND NOT h.{IS_WANTED}{one}");
            match T::JOINING {
                Joining::Join => format!("DELETE t FROM {from} AS t JOIN {rows} ON {on} WHERE {which}"),
                Joining::From => format!("DELETE FROM {from} AS t USING {rows} WHERE {on} AND {which}"),
                Joining::In => {
                    let own = identity.iter().map(|(_, own)| own.clone()).collect::<Vec<_>>().join(", ");
                    let theirs = identity.iter().map(|(held, _)| format!("h.{held}"));
                    let theirs = theirs.collect::<Vec<_>>().join(", ");
                    format!("DELETE FROM {from} WHERE ({own}) IN (SELECT {theirs} FROM {rows} WHERE {which})")
                }
            }
        }
        StepKind::Insert => {
            let stored = |at: &usize| target.columns.get(*at).is_some_and(|c| !c.generated);
            let columns: Vec<usize> = (0..target.columns.len()).filter(stored).collect();
            let twice = twice(batch);
            let mut names: Vec<String> = columns.iter().map(|&at| name(at)).collect();
            let mut values: Vec<String> =
                columns.iter().map(|&at| format!("h.{}", image(&twice, at))).collect();
            if let Some(row) = table.row_identity().filter(|_| target.key.kind == KeyKind::RowIdentity) {
                names.push(T::LANGUAGE.quoted(row));
                values.push(format!("h.{ROW}"));
            }
            let given = if T::JOINING == Joining::From { " OVERRIDING SYSTEM VALUE" } else { "" };
            // Where every column is computed, a row is all that is asked for.
            let list = if names.is_empty() { String::new() } else { format!(" ({})", names.join(", ")) };
            format!(
                "INSERT{or_abort} INTO {}{list}{given} SELECT {} FROM {rows} WHERE NOT h.{THERE} AND h.{IS_WANTED}{one} \
                 ORDER BY h.{ORDINAL}",
                table.inserted_name(),
                values.join(", ")
            )
        }
    }
}

/// Puts all held rows back. All rows of a kind go at once; when rows stand in each other's way (a unique value that is
/// handed on, a parent behind its child) they go one by one, and one that has to wait for another does: since the run
/// itself got from there to here one row at a time, there is an order that works.
///
/// # Errors
/// When the engine refuses a row, or another number of rows answers than were to be put back.
pub fn put<D: Driver>(driver: &mut D, held: &Held<D::Table>, batch: &Batch) -> Result<u64, EngineError> {
    let mut kinds = [
        (StepKind::Delete, format!("{THERE} AND NOT {IS_WANTED}")),
        (StepKind::Update, format!("{THERE} AND {IS_WANTED}")),
        (StepKind::Insert, format!("NOT {THERE} AND {IS_WANTED}")),
    ];
    if batch.inserts {
        let (target, keys) = (held.table.target(), driver.foreign_keys(&held.table)?);
        if keys.iter().any(|key| key.is_of(target) && key.leads_to(target)) {
            // What is put back may refer to what comes in again.
            kinds.swap(1, 2);
        }
    }
    let mut done = 0;
    let counts =
        kinds.each_ref().map(|(_, condition)| format!("count(CASE WHEN {condition} THEN 1 END)")).join(", ");
    let counted = driver.question(&format!("SELECT {counts} FROM {}", held.name()))?;
    let counted = counted.rows.into_iter().next().unwrap_or_default();
    for (at, (kind, condition)) in kinds.into_iter().enumerate() {
        let count = counted.get(at).and_then(Option::as_deref).and_then(|text| text.parse::<u64>().ok());
        let expected =
            count.ok_or_else(|| EngineError::Other("rows to put back were not counted".to_owned()))?;
        if expected == 0 {
            continue;
        }
        let count = match driver.put_all(held, batch, kind)? {
            Together::All(count) => count,
            Together::Some(count, rest) => {
                count + one_by_one(driver, held, batch, kind, &format!("{condition} AND {rest}"))?
            }
            Together::None => one_by_one(driver, held, batch, kind, &condition)?,
        };
        // A key of the table onto itself takes rows along that go anyway, and not every engine counts those.
        let gone = kind == StepKind::Delete && count < expected && still_there(driver, held)? == 0;
        if count != expected && !gone {
            return Err(EngineError::Other(format!("{count} rows answered where {expected} were put back")));
        }
        done += expected;
    }
    Ok(done)
}

/// How many of the held rows that are to go are still there.
fn still_there<D: Driver>(driver: &mut D, held: &Held<D::Table>) -> Result<u64, EngineError> {
    let from = held.table.from();
    driver.number(&format!(
        "SELECT count(*) FROM {} AS h JOIN {from} AS t ON {} WHERE h.{THERE} AND NOT h.{IS_WANTED}",
        held.name(),
        held.pair_on()
    ))
}

fn one_by_one<D: Driver>(
    driver: &mut D,
    held: &Held<D::Table>,
    batch: &Batch,
    kind: StepKind,
    condition: &str,
) -> Result<u64, EngineError> {
    let order = if kind == StepKind::Update { "DESC" } else { "ASC" };
    let listed = driver.question(&format!(
        "SELECT {ORDINAL} FROM {} WHERE {condition} ORDER BY {ORDINAL} {order}",
        held.name()
    ))?;
    let mut waiting: Vec<String> =
        listed.rows.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect();
    let mut done = 0;
    while !waiting.is_empty() {
        let before = waiting.len();
        let mut still = Vec::new();
        let mut last = None;
        for ordinal in waiting {
            match driver.put_one(held, batch, kind, &ordinal)? {
                Ok(count) => done += count,
                Err(error) => {
                    last = Some(error);
                    still.push(ordinal);
                }
            }
        }
        if still.len() == before {
            let round = last.as_ref().is_some_and(|e| e.broken(Constraint::ForeignKey).is_some());
            if round && kind == StepKind::Insert {
                // They refer to each other.
                done += driver.put_unchecked(held, batch, &still)?;
                all_have_parents(driver, held)?;
                return Ok(done);
            }
            return Err(
                last.unwrap_or_else(|| EngineError::Other("rows stand in each other's way".to_owned()))
            );
        }
        waiting = still;
    }
    Ok(done)
}

/// Refuses when a row that was put back without being looked at refers to one that is not there.
fn all_have_parents<D: Driver>(driver: &mut D, held: &Held<D::Table>) -> Result<(), EngineError> {
    let target = held.table.target().clone();
    for key in driver.foreign_keys(&held.table)?.into_iter().filter(|key| key.is_of(&target)) {
        let at: Vec<usize> = key.child_columns.iter().filter_map(|c| target.position(c)).collect();
        let pairs = at.iter().zip(&key.parent_columns);
        let same = pairs.map(|(at, parent)| {
            format!("p.{} = t.{}", D::Table::LANGUAGE.quoted(parent), held.table.column(*at))
        });
        let given = at.iter().map(|at| format!("t.{} IS NOT NULL", held.table.column(*at)));
        let missing = driver.number(&format!(
            "SELECT count(*) FROM {} AS h JOIN {} AS t ON {} WHERE {} AND NOT EXISTS (SELECT 1 FROM {} AS p WHERE {})",
            held.name(),
            held.table.from(),
            held.pair_on(),
            given.collect::<Vec<_>>().join(" AND "),
            key.parent_sql,
            same.collect::<Vec<_>>().join(" AND ")
        ))?;
        if missing > 0 {
            return Err(EngineError::Other(format!(
                "{missing} rows of {} refer by {} to what {} does not have",
                target.table,
                key.child_columns.join(", "),
                key.parent
            )));
        }
    }
    Ok(())
}
