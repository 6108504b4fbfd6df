//! Looking rows up, a chunk at a time: by key, or by their whole contents where there is no key.

use std::collections::HashMap;

use marktwice_core::Value;
use marktwice_core::hash::Sum;
use marktwice_core::table::KeyKind;
use marktwice_core::undo::RowChange;
use marktwice_port::{ChangeSource, EngineError, FoundSink};

use crate::driver::Driver;
use crate::shell::Tabled;

/// How many rows are looked up at once, and how many bytes of values; one row is, whatever it holds.
const CHUNK: usize = 500;
const HEAVY: usize = 16 << 20;

/// How rows that are found are locked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lock {
    /// Not at all.
    None,
    /// So that nobody is still writing them.
    Shared,
    /// So that they can be written.
    Update,
}

/// A row that was found: what it holds and, where it has no key, where it stands.
#[derive(Debug, Clone)]
pub struct Found {
    /// All columns.
    pub values: Vec<Value>,
    /// The engine's own place, if it needs one.
    pub place: Vec<Value>,
}

impl Found {
    /// A row whose place is of no use.
    pub fn of(values: Vec<Value>) -> Found {
        Found { values, place: Vec::new() }
    }
}

/// Rows that are asked for at once.
#[derive(Debug)]
pub struct Asked<'a> {
    /// They.
    pub changes: &'a [RowChange],
    /// Of rows that only their contents tell: that the so manieth of its like is meant; `None` for one that is not looked
    /// for.
    pub nth: &'a [Option<u32>],
    /// How they are locked.
    pub lock: Lock,
    /// Whether the contents that are there have been listed in a temporary table.
    pub listed: bool,
}

/// Looks rows up.
#[derive(Debug)]
pub struct Finder<'t, T> {
    table: &'t T,
    lock: Lock,
    listed: bool,
    /// How often each content was asked for.
    times: HashMap<Sum, u32>,
    buffer: Vec<u8>,
}

impl<'t, T: Tabled> Finder<'t, T> {
    /// A finder that locks what it finds, or not. `listed` says that [`Driver::room_to_find`] was there for it.
    pub fn new(table: &'t T, lock: Lock, listed: bool) -> Self {
        Finder { table, lock, listed, times: HashMap::new(), buffer: Vec::new() }
    }

    /// Reads the next chunk of changes and looks their rows up, in order. Empty at the end. Settings must be pinned.
    ///
    /// # Errors
    /// What the engine says, or the source does.
    pub fn next<D: Driver<Table = T>>(
        &mut self,
        driver: &mut D,
        source: &mut ChangeSource<'_>,
    ) -> Result<Vec<(RowChange, Option<Found>)>, EngineError> {
        let (mut changes, mut weight) = (Vec::<RowChange>::new(), 0);
        while changes.len() < CHUNK
            && weight < HEAVY
            && let Some(change) = source().map_err(EngineError::Sink)?
        {
            weight += change.image.weight();
            changes.push(change);
        }
        if changes.is_empty() {
            return Ok(Vec::new());
        }
        let whole = self.table.target().key.kind == KeyKind::WholeRow;
        let nth: Vec<Option<u32>> = changes
            .iter()
            .map(|change| {
                // What the run took away from a table without a key is not looked for: an equal row is another row.
                if !whole || change.image.before().is_none() {
                    return (!whole).then_some(1);
                }
                let times = self.times.entry(Sum::of(&mut self.buffer, &change.key)).or_default();
                *times += 1;
                Some(*times)
            })
            .collect();
        let asked = Asked { changes: &changes, nth: &nth, lock: self.lock, listed: self.listed };
        let found = driver.find(self.table, &asked)?;
        let found = found.into_iter().zip(&nth).map(|(row, nth)| row.filter(|_| nth.is_some()));
        Ok(changes.into_iter().zip(found).collect())
    }

    /// Looks all rows up and hands them over.
    ///
    /// # Errors
    /// What the engine says, or the source or sink does.
    pub fn hand_over<D: Driver<Table = T>>(
        &mut self,
        driver: &mut D,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError> {
        loop {
            let chunk = self.next(driver, source)?;
            if chunk.is_empty() {
                return Ok(());
            }
            for (change, now) in &chunk {
                sink(change, now.as_ref().map(|row| row.values.as_slice())).map_err(EngineError::Sink)?;
            }
        }
    }
}
