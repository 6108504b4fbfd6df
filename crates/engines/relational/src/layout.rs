//! The held rows of a server engine: which columns their temporary table has, in which order they are read, and how
//! a row of them becomes a [`HeldRow`].

use std::sync::Arc;

use marktwice_core::Value;
use marktwice_core::finding::{Code, Finding};
use marktwice_core::hash::Sum;
use marktwice_core::image::Image;
use marktwice_core::mark::{HeldRow, Rest, StepKind};
use marktwice_core::table::{Column, Key, KeyKind, Target};
use marktwice_port::{Batch, EngineError};
use marktwice_sql::dialect::ours::{IS_WANTED, ORDINAL, REST, ROW, THERE, before, wanted};
use marktwice_sql::statement::pins::UniqueKey;

use crate::reach::ForeignKey;
use crate::shell::Tabled;

/// How held rows are read: ordinal, all columns before, the foreseen columns after, and two flags for rows that are
/// put back.
#[derive(Debug, Clone)]
pub struct Layout {
    /// The step whose rows they are.
    pub step: usize,
    /// The target.
    pub target: Target,
    /// What is done to its rows.
    pub kind: StepKind,
    /// Whether the engine's own row identity is held too.
    pub row: bool,
    /// Whether each row says if it is there now and if it is wanted.
    pub flags: bool,
    /// Columns that are not held, in order, where only some are: what they hold together is.
    pub rest: Option<Arc<[usize]>>,
    /// Columns that may become something else, known or not.
    pub moving: Vec<usize>,
    /// Columns with an after-value, and the name of that column in the held table, in its own quotes.
    pub after: Vec<(usize, String)>,
}

impl Layout {
    /// Whether the rows come in: then nothing is held of what they were.
    pub fn comes_in(&self) -> bool {
        self.kind == StepKind::Insert && !self.flags
    }

    /// The columns of the target that are held as they were.
    pub fn befores(&self) -> Vec<usize> {
        let all = if self.comes_in() { 0 } else { self.target.columns.len() };
        without(all, self.rest.as_deref())
    }

    /// Whether only the run knows what a column becomes. Rows that are put back are known whole.
    pub fn is_open(&self, at: usize) -> bool {
        !self.flags && self.moving.contains(&at) && !self.after.iter().any(|(known, _)| *known == at)
    }

    /// The columns of `h` in order.
    pub fn columns(&self) -> Vec<String> {
        let mut all = vec![format!("h.{ORDINAL}")];
        all.extend(self.row.then(|| format!("h.{ROW}")));
        all.extend(self.befores().into_iter().map(|at| format!("h.{}", before(at))));
        all.extend(self.rest.iter().flat_map(|_| REST.map(|name| format!("h.{name}"))));
        all.extend(self.after.iter().map(|(_, name)| format!("h.{name}")));
        if self.flags {
            all.extend([format!("h.{THERE}"), format!("h.{IS_WANTED}")]);
        }
        all
    }

    /// How many columns that are.
    pub fn width(&self) -> usize {
        let (row, flags) = (usize::from(self.row), if self.flags { 2 } else { 0 });
        let rest = if self.rest.is_some() { REST.len() } else { 0 };
        1 + row + self.befores().len() + rest + self.after.len() + flags
    }

    /// The row that `values` (in the order of [`Layout::columns`]) stand for.
    pub fn row(&self, values: Vec<Value>) -> HeldRow {
        let mut values = values.into_iter();
        let ordinal = match values.next() {
            Some(Value::Int(n)) => n,
            _ => 0,
        };
        let identity = if self.row { values.next() } else { None };
        let identity = identity.filter(|_| self.target.key.kind == KeyKind::RowIdentity);
        let mut before: Vec<Value>;
        let mut rest = None;
        if let Some(columns) = &self.rest {
            before = vec![Value::Null; self.target.columns.len()];
            let held = (0..).zip(&mut before).filter(|(at, _)| is_held(*at, columns));
            for ((_, cell), value) in held.zip(values.by_ref()) {
                *cell = value;
            }
            let mut number = || if let Some(Value::Int(n)) = values.next() { n } else { 0 };
            let sum = Sum(number(), number());
            rest = Some(Rest { columns: columns.clone(), sum });
        } else {
            let all = if self.comes_in() { 0 } else { self.target.columns.len() };
            before = values.by_ref().take(all).collect();
            before.resize(self.target.columns.len(), Value::Null);
        }
        let cells: Vec<(usize, Value)> = self.after.iter().map(|(at, _)| *at).zip(values.by_ref()).collect();
        let mut flag = || matches!(values.next(), Some(Value::Bool(true) | Value::Int(1)));
        let (there, wanted) = match self.flags {
            true => (flag(), flag()),
            false => (!self.comes_in(), self.kind != StepKind::Delete),
        };
        let key = |row: &[Value]| identity.clone().map_or_else(|| self.key(row), |identity| vec![identity]);
        if !wanted {
            return HeldRow { ordinal, key: key(&before), image: Image::Delete { before }, rest };
        }
        let mut after = before.clone();
        for (at, value) in cells {
            if let Some(cell) = after.get_mut(at) {
                *cell = value;
            }
        }
        let key = key(if there { &before } else { &after });
        let image = if there { Image::Update { before, after } } else { Image::Insert { after } };
        HeldRow { ordinal, key, image, rest }
    }

    fn key(&self, row: &[Value]) -> Vec<Value> {
        key_of(&self.target, row)
    }
}

/// Whether a column is held itself where those in `rest`, in order, are not.
pub fn is_held(at: usize, rest: &[usize]) -> bool {
    rest.binary_search(&at).is_err()
}

/// The numbers below `all`, without some, which come in order.
fn without(all: usize, some: Option<&[usize]>) -> Vec<usize> {
    (0..all).filter(|at| some.is_none_or(|some| is_held(*at, some))).collect()
}

/// Columns of rows that are put back of which it is enough to hold what they hold together: nothing that is put back, or told
/// by, or referred to, is among them.
pub fn rest(batch: &Batch, keys: &[ForeignKey]) -> Option<Arc<[usize]>> {
    let target = &batch.target;
    let told = matches!(target.key.kind, KeyKind::Primary | KeyKind::Unique | KeyKind::RowIdentity);
    let moves = batch.narrow.as_ref().filter(|_| told && batch.kind == StepKind::Update && !batch.inserts)?;
    let mut held: Vec<usize> = twice(batch).into_iter().chain(moves.iter().copied()).collect();
    held.extend(&target.key.columns);
    for key in keys {
        let of = [(key.is_of(target), &key.child_columns), (key.leads_to(target), &key.parent_columns)];
        let names = of.into_iter().filter(|(of, _)| *of).flat_map(|(_, names)| names);
        held.extend(names.filter_map(|name| target.position(name)));
    }
    held.sort_unstable();
    let rest = without(target.columns.len(), Some(&held));
    // Two numbers are no less than one or two columns.
    (rest.len() > REST.len()).then(|| rest.into())
}

/// Columns of which a row that is put back holds two values, what is there and what is wanted: the others are the same,
/// or there is only one of the two. Then an undo is no wider than the statement that it takes back.
pub fn twice(batch: &Batch) -> Vec<usize> {
    if batch.kind != StepKind::Update {
        return Vec::new();
    }
    let generated = |at: &usize| batch.target.columns.get(*at).is_some_and(|c| c.generated);
    (0..batch.target.columns.len()).filter(|at| batch.columns.contains(at) || generated(at)).collect()
}

/// The definitions of a held table's columns for rows that say whether they are there and whether they are wanted: their
/// number, of the type `ordinal`, what tells them beside their key, all they hold, `more`, and the two flags.
///
/// Of the columns in `rest` only what they hold together.
pub fn flagged<T: Tabled>(
    table: &T,
    ordinal: &str,
    rest: Option<&[usize]>,
    more: impl IntoIterator<Item = String>,
) -> Vec<String> {
    let mut columns = vec![format!("{ORDINAL} {ordinal}")];
    columns.extend(table.beside());
    let held = without(table.target().columns.len(), rest);
    columns.extend(held.into_iter().map(|at| format!("{} {}", before(at), table.roomy(at))));
    columns.extend(rest.iter().flat_map(|_| REST.map(|name| format!("{name} {}", T::WHOLE))));
    columns.extend(more);
    columns.extend([THERE, IS_WANTED].map(|name| format!("{name} {}", T::NUMBERED.1)));
    columns
}

/// The held table's column for what a row that is put back becomes in column `at`.
pub fn image(twice: &[usize], at: usize) -> String {
    if twice.contains(&at) { wanted(at) } else { before(at) }
}

/// What goes into the before-columns of a row that is put back, and into the wanted ones of [`twice`]: what is there
/// now, or, for a row that comes in, what it becomes.
pub fn images<'r>(
    twice: &'r [usize],
    now: Option<&'r [Value]>,
    wanted: Option<&'r [Value]>,
) -> impl Iterator<Item = &'r Value> {
    let first = now.or(wanted).unwrap_or_default();
    let second = wanted.or(now).unwrap_or_default();
    first.iter().chain(twice.iter().filter_map(move |at| second.get(*at)))
}

/// Columns of our own beside a row's images, when it is held or put back.
const BESIDE: usize = 8;

/// Refuses a table whose rows do not fit with both their images into what an engine holds at most.
///
/// # Errors
/// [`EngineError::Refused`] then.
pub fn fits(table: &str, columns: usize, most: usize, engine: &str) -> Result<(), EngineError> {
    if columns + BESIDE <= most {
        return Ok(());
    }
    let message = format!(
        "the rows of {table} are too wide: what they hold and what they become takes {columns} columns, and a table of \
         {engine} has at most {most}; neither a run nor an undo could hold them"
    );
    Err(EngineError::Refused(Box::new(
        Finding::new(Code::NotUnderstood, message).hint("assign fewer columns in one statement"),
    )))
}

/// The key of a row; all of it where the table has none.
pub fn key_of(target: &Target, row: &[Value]) -> Vec<Value> {
    match target.key.kind {
        KeyKind::WholeRow => row.to_vec(),
        _ => target.key.columns.iter().filter_map(|&at| row.get(at).cloned()).collect(),
    }
}

/// What tells a table's rows apart: the primary key, else a unique key whose columns refuse NULL, else the whole row.
pub fn choose_key(columns: &[Column], keys: &[UniqueKey]) -> Key {
    let not_null = |at: &usize| columns.get(*at).is_some_and(|c| c.not_null);
    let unique = || keys.iter().find(|k| k.columns.iter().all(not_null));
    match keys.iter().find(|k| k.primary).or_else(unique) {
        Some(chosen) => Key {
            kind: if chosen.primary { KeyKind::Primary } else { KeyKind::Unique },
            names: chosen.columns.iter().filter_map(|&at| columns.get(at)).map(|c| c.name.clone()).collect(),
            columns: chosen.columns.clone(),
        },
        None => Key { kind: KeyKind::WholeRow, names: Vec::new(), columns: Vec::new() },
    }
}
