//! A sheet of a table's rows that was edited elsewhere, compared with the rows as they are now.

use std::cell::RefCell;
use std::collections::{HashSet, VecDeque};

use marktwice_core::Value;
use marktwice_core::edited::{Edit, compare};
use marktwice_core::hash::{RowHash, ShortHash};
use marktwice_core::image::{Image, Place};
use marktwice_core::param::ParamKind;
use marktwice_core::sheet::{Sheet, cell};
use marktwice_core::table::{KeyKind, Target};
use marktwice_core::undo::RowChange;
use marktwice_core::value::key_text;
use marktwice_port::{Intent, Phase, SinkError};

use crate::collect::unwrap_sink;
use crate::context::Context;
use crate::outcome::Failure;

/// The column in which a sheet tells each row's state when it was written out.
pub const ROW_MARK: &str = "row_mark";

/// A row of which cells were edited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EditedRow {
    /// Its line in the file.
    pub line: u64,
    /// Its key.
    pub key: Vec<Value>,
    /// The edited cells: the column, what it holds, and what it is to hold.
    pub cells: Vec<(usize, Value, Value)>,
}

/// A line whose key no row has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewLine {
    /// Its line in the file.
    pub line: u64,
    /// Its key.
    pub key: Vec<Value>,
    /// What it says, by column.
    pub cells: Vec<(usize, Value)>,
}

/// What a sheet says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Edits {
    /// Rows with edited cells; the first thousand.
    pub rows: Vec<EditedRow>,
    /// How many there are.
    pub edited: u64,
    /// Lines whose key no row has; the first thousand.
    pub new: Vec<NewLine>,
    /// How many there are.
    pub unknown: u64,
    /// Lines that say what their rows hold.
    pub same: u64,
    /// What is wrong, cell by cell; the first ones, and how many there are.
    pub wrong: (Vec<String>, u64),
    /// Columns of the sheet that the table does not have.
    pub others: Vec<String>,
    /// Rows that have moved since the sheet was written out: the keys of the first thousand.
    pub moved: Vec<Vec<Value>>,
    /// How many there are.
    pub elsewise: u64,
}

/// Things that are named.
const NAMED: usize = 8;

/// Rows of each kind that are kept; the others are counted.
const KEPT: usize = 1_000;

struct Reading<'a> {
    target: &'a Target,
    sheet: &'a Sheet,
    kinds: Vec<(usize, usize, ParamKind)>,
    mark: Option<usize>,
    waiting: VecDeque<(u64, Vec<String>)>,
    found: Edits,
}

impl Reading<'_> {
    fn wrong(&mut self, what: String) {
        self.found.wrong.1 += 1;
        if self.found.wrong.0.len() < NAMED {
            self.found.wrong.0.push(what);
        }
    }

    fn name(&self, column: usize) -> &str {
        self.target.columns.get(column).map_or("", |c| c.name.as_str())
    }

    fn row(&mut self, key: &[Value], now: Option<&[Value]>) {
        let Some((line, cells)) = self.waiting.pop_front() else { return };
        let Some(now) = now else {
            if self.mark.and_then(|at| cells.get(at)).is_some_and(|said| !said.is_empty()) {
                self.wrong(format!(
                    "line {line}: it was written out from a row, and no row has its key now ({}): the key was edited, or the row is gone",
                    key_text(key)
                ));
                return;
            }
            let mut own = Vec::new();
            for (at, column, kind) in self.kinds.clone() {
                let text = cells.get(at).map_or("", String::as_str);
                match cell(kind, text, &self.sheet.form) {
                    Ok(value) => own.push((column, value)),
                    Err(what) => {
                        let name = self.name(column).to_owned();
                        self.wrong(format!("line {line}, {name}: {what}"));
                    }
                }
            }
            self.found.unknown += 1;
            if self.found.new.len() < KEPT {
                self.found.new.push(NewLine { line, key: key.to_vec(), cells: own });
            }
            return;
        };
        if let Some(said) = self.mark.and_then(|at| cells.get(at)).filter(|said| !said.is_empty())
            && *said != row_mark(now)
        {
            self.found.elsewise += 1;
            if self.found.moved.len() < KEPT {
                self.found.moved.push(key.to_vec());
            }
            return;
        }
        let mut edited = Vec::new();
        for (at, column, kind) in self.kinds.clone() {
            if self.target.key.columns.contains(&column) {
                continue;
            }
            let (held, text) =
                (now.get(column).unwrap_or(&Value::Null), cells.get(at).map_or("", String::as_str));
            match compare(kind, held, text, &self.sheet.form) {
                Edit::Same => {}
                Edit::New(_) if self.target.columns.get(column).is_some_and(|c| c.generated) => {
                    let name = self.name(column).to_owned();
                    self.wrong(format!("line {line}, {name}: the engine computes it, and it was edited"));
                }
                Edit::New(new) => edited.push((column, held.clone(), new)),
                Edit::Spoiled(what) => {
                    let name = self.name(column).to_owned();
                    self.wrong(format!("line {line}, {name}: {what}"));
                }
            }
        }
        if edited.is_empty() {
            self.found.same += 1;
        } else {
            self.found.edited += 1;
            if self.found.rows.len() < KEPT {
                self.found.rows.push(EditedRow { line, key: key.to_vec(), cells: edited });
            }
        }
    }
}

/// What a row holds, in a few letters: it is another one as soon as any cell is.
pub fn row_mark(row: &[Value]) -> String {
    let ShortHash(hash) = RowHash::of(row).short();
    format!("{hash:016x}")
}

/// Compares a sheet with a table's rows.
///
/// # Errors
/// Where the table has no key, or the sheet does not have it; when the sheet cannot be read, or the engine fails.
pub fn edited(context: &Context<'_>, target: &Target, sheet: &Sheet) -> Result<Edits, Failure> {
    if !target.hidden.is_empty() {
        return Err(Failure::usage(
            format!(
                "columns of {} are hidden, and a sheet is compared with all that its rows hold",
                target.table
            ),
            "write the statement, and read the sheet as a table: --sheet NAME=FILE",
        ));
    }
    let language = context.engine.language();
    if !matches!(target.key.kind, KeyKind::Primary | KeyKind::Unique) {
        let hint = "give the table a key, or read the sheet as a table: --sheet NAME=FILE";
        return Err(Failure::usage(
            format!("{} has no key by which a line finds its row", target.table),
            hint,
        ));
    }
    let mut reading = Reading {
        target,
        sheet,
        kinds: Vec::new(),
        mark: None,
        waiting: VecDeque::new(),
        found: Edits::default(),
    };
    for (at, name) in sheet.columns.iter().enumerate() {
        match target.position(name) {
            Some(column) => {
                let kind = target.columns.get(column).map_or(ParamKind::Text, |c| language.kind(c));
                reading.kinds.push((at, column, kind));
            }
            None if name == ROW_MARK => reading.mark = Some(at),
            None => reading.found.others.push(name.clone()),
        }
    }
    let mut key_cells = Vec::new();
    for column in &target.key.columns {
        let found = reading.kinds.iter().find(|(_, known, _)| known == column).copied();
        let Some((at, _, kind)) = found else {
            let name = reading.name(*column);
            let hint = "write the sheet out with its key: `marktwice look TABLE --csv`";
            return Err(Failure::usage(format!("the sheet has no column {name}, which tells the row"), hint));
        };
        key_cells.push((at, kind));
    }
    let unread = |what: String| Failure::usage(what, "look at the sheet, and save it again");
    let mut lines = context.ambient.sheet(sheet).map_err(unread)?;
    let mut session = context.open(Intent::Read)?;
    let shared = RefCell::new(reading);
    let mut seen: HashSet<ShortHash> = HashSet::new();
    let (mut done, stop) = (0u64, context.ambient.stopper());
    let mut source = || -> Result<Option<RowChange>, SinkError> {
        loop {
            let Some(line) = lines.next() else { return Ok(None) };
            let (number, cells) = line.map_err(|what| format!("{}: {what}", sheet.file))?;
            done += 1;
            if done.is_multiple_of(4096) {
                context.ambient.progress(Phase::Sheet, done, Some(sheet.lines));
                if stop() {
                    return Err(Box::new(crate::collect::Stopped));
                }
            }
            let mut reading = shared.borrow_mut();
            let key = key_cells
                .iter()
                .map(|(at, kind)| cell(*kind, cells.get(*at).map_or("", String::as_str), &sheet.form));
            let key: Result<Vec<Value>, String> = key.collect();
            let key = match key {
                Ok(key) if key.iter().any(Value::is_null) => {
                    reading.wrong(format!("line {number}: it has no key"));
                    continue;
                }
                Ok(key) => key,
                Err(what) => {
                    reading.wrong(format!("line {number}, its key: {what}"));
                    continue;
                }
            };
            if !seen.insert(RowHash::of(&key).short()) {
                reading.wrong(format!("line {number}: another line has the same key"));
                continue;
            }
            reading.waiting.push_back((number, cells));
            let ordinal = i64::try_from(done).unwrap_or(i64::MAX);
            let image = Image::Insert { after: Vec::new() };
            return Ok(Some(RowChange { place: Place::default(), ordinal, key, key_after: None, image }));
        }
    };
    let looked = session.look_up(target, &mut source, &mut |change, now| {
        shared.borrow_mut().row(&change.key, now);
        Ok(())
    });
    looked.map_err(unwrap_sink)?;
    Ok(shared.into_inner().found)
}
