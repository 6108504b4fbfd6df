//! Looking again at just the rows of a run: each as it was, as the run left it, and as it stands now.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};

use marktwice_core::hash::RowHash;
use marktwice_core::image::{Place, Role};
use marktwice_core::receipt::{DatabaseId, Receipt, RunState, SnapshotRef};
use marktwice_core::secret::hide_rows;
use marktwice_core::table::{KeyKind, Target};
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;
use marktwice_port::{Logbook, Phase, Session, SinkError, SnapshotReader};

use crate::collect::{Stopped, unwrap_sink};
use crate::context::{Context, Spare};
use crate::history::{find_run, history};
use crate::outcome::Failure;
use crate::preview::Show;

/// How a row of a run stands now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Stands {
    /// As the run left it.
    AsLeft,
    /// As it was before the run.
    AsBefore,
    /// It holds something else in these columns.
    Changed(Vec<usize>),
    /// The run left it, and it is gone.
    Gone,
    /// The run took it away, and one with its key is there.
    There,
}

impl Stands {
    /// What it is called.
    pub fn as_str(&self) -> &'static str {
        match self {
            Stands::AsLeft => "as-left",
            Stands::AsBefore => "as-before",
            Stands::Changed(_) => "changed",
            Stands::Gone => "gone",
            Stands::There => "there",
        }
    }
}

/// A row of a run: whole rows, each `None` where there was none.
#[derive(Debug, Clone, PartialEq)]
pub struct AgainRow {
    /// Its key, as the run left it.
    pub key: Vec<Value>,
    /// As it was before the run.
    pub before: Option<Vec<Value>>,
    /// As the run left it.
    pub left: Option<Vec<Value>>,
    /// As it is now.
    pub now: Option<Vec<Value>>,
    /// How it stands.
    pub stands: Stands,
}

/// The rows of a run in one table, written by one step.
#[derive(Debug, Clone, PartialEq)]
pub struct AgainTable {
    /// The table, as it was when the run was made.
    pub target: Target,
    /// The step, from 0.
    pub step: usize,
    /// The part that the rows play.
    pub role: Role,
    /// How many rows are as the run left them, as before it, changed, gone, and there again.
    pub counts: [u64; 5],
    /// Rows that a later step of the run wrote again; they are told there.
    pub later: u64,
    /// The first of them, those that are not as the run left them before the others.
    pub rows: Vec<AgainRow>,
    /// Why they could not be looked at.
    pub why: Option<String>,
}

impl AgainTable {
    /// All rows that were looked at.
    pub fn looked(&self) -> u64 {
        self.counts.iter().sum()
    }
}

/// The rows of a run, looked at again.
#[derive(Debug, Clone, PartialEq)]
pub struct Again {
    /// The database.
    pub database: DatabaseId,
    /// The run.
    pub receipt: Receipt,
    /// The run that took it back, where one did.
    pub undone_by: Option<String>,
    /// By step and table.
    pub tables: Vec<AgainTable>,
}

/// Takes each row as it is looked at.
pub type EachRow<'a> = dyn FnMut(&AgainTable, &AgainRow) -> Result<(), SinkError> + 'a;

/// Looks at the rows of a run; the last one without a name. Each row is handed over as well. `session` is what the run has left
/// behind: another transaction of it sees what has been committed as every other session does.
///
/// # Errors
/// When there is no such run, it has no rows in the logbook, or the database or `each` fails.
pub fn look_again(
    context: &Context<'_>,
    session: Spare,
    run: Option<&str>,
    show: Show,
    each: &mut EachRow<'_>,
) -> Result<Again, Failure> {
    let mut session = context.resume(session)?;
    let book = (context.book)(session.database())?;
    let entry = find_run(&history(&*book)?, run)?;
    let receipt = entry.receipt;
    let name = receipt.run.clone();
    let Some(snapshot) = receipt.snapshot.clone().filter(|_| receipt.forgotten.is_none()) else {
        let what = match (&receipt.forgotten, receipt.state) {
            (Some(when), _) => format!("the rows of run {name} were forgotten on {when}"),
            (None, RunState::Committed) => format!("run {name} has no rows in the logbook"),
            (None, state) => format!("run {name} was not committed ({})", state.as_str()),
        };
        return Err(Failure::usage(what, "`marktwice history` shows the runs"));
    };
    let header = book.snapshot(&name, &snapshot)?.header().clone();
    let own = header.steps.iter().enumerate();
    let mut places: Vec<Place> =
        own.map(|(step, record)| Place { step, table: record.table, role: Role::Target }).collect();
    places.extend(header.along.iter().map(|a| Place { step: a.step, table: a.table, role: a.role }));
    let mut tables = Vec::new();
    // Later steps first: a row that two wrote is as the last of them left it.
    let mut written: HashSet<RowHash> = HashSet::new();
    places.sort_by_key(|place| (std::cmp::Reverse(place.step), place.role != Role::Target));
    // Rows of a part are rows of the whole.
    let one = |table: usize| {
        let target = header.tables.get(table);
        header.tables.iter().position(|other| target.is_some_and(|t| t.shares_rows(other))).unwrap_or(table)
    };
    let twice =
        |place: &Place| places.iter().filter(|other| one(other.table) == one(place.table)).count() > 1;
    let first = first_images(&*book, &name, &snapshot, (&places, &one))?;
    for place in &places {
        let Some(target) = header.tables.get(place.table) else { continue };
        let table = AgainTable {
            target: target.clone(),
            step: place.step,
            role: place.role,
            counts: [0; 5],
            later: 0,
            rows: Vec::new(),
            why: None,
        };
        let reader = book.snapshot(&name, &snapshot)?;
        let mut looking = Looking {
            table,
            place: *place,
            show,
            written: &mut written,
            first: &first,
            keeps: twice(place),
            one: one(place.table),
            seen: 0,
        };
        looking.look(context, (&mut *session, reader), each)?;
        let table = looking.table;
        if table.why.is_some() || table.looked() + table.later > 0 {
            tables.push(table);
        }
    }
    tables.sort_by_key(|table| (table.step, table.role != Role::Target));
    Ok(Again { database: session.database().clone(), receipt, undone_by: entry.undone_by, tables })
}

/// What rows held before the run that several of its steps wrote, by the key that the last of them left.
type FirstImages = HashMap<RowHash, Option<Vec<Value>>>;

fn first_images(
    book: &dyn Logbook,
    run: &str,
    snapshot: &SnapshotRef,
    (places, one): (&[Place], &dyn Fn(usize) -> usize),
) -> Result<FirstImages, Failure> {
    let mut first = FirstImages::new();
    let mut places: Vec<&Place> = places
        .iter()
        .filter(|p| places.iter().filter(|o| one(o.table) == one(p.table)).count() > 1)
        .collect();
    places.sort_by_key(|place| place.step);
    for place in places {
        let table = one(place.table);
        let mut reader = book.snapshot(run, snapshot)?;
        // A key that is handed on must not be taken for the row that had it before.
        let mut now = FirstImages::new();
        while let Some(change) = reader.next()? {
            if change.place != *place || !change.differs() {
                continue;
            }
            let own = || change.image.before().map(<[Value]>::to_vec);
            let before = first.remove(&hash_of(table, &change.key)).unwrap_or_else(own);
            now.insert(hash_of(table, change.key_now()), before);
        }
        first.extend(now);
    }
    Ok(first)
}

fn hash_of(table: usize, key: &[Value]) -> RowHash {
    let table = Value::Int(i64::try_from(table).unwrap_or(-1));
    RowHash::of(&std::iter::once(table).chain(key.iter().cloned()).collect::<Vec<_>>())
}

struct Looking<'a> {
    table: AgainTable,
    place: Place,
    show: Show,
    /// Keys that later steps wrote, where several write the same table.
    written: &'a mut HashSet<RowHash>,
    first: &'a FirstImages,
    keeps: bool,
    /// The table, where tables that share rows count as one.
    one: usize,
    seen: u64,
}

impl Looking<'_> {
    fn look(
        &mut self,
        context: &Context<'_>,
        (session, reader): (&mut dyn Session, Box<dyn SnapshotReader>),
        each: &mut EachRow<'_>,
    ) -> Result<(), Failure> {
        let target = self.table.target.clone();
        if target.key.kind == KeyKind::WholeRow {
            self.table.why = Some("nobody can tell a row of the run from an equal one".to_owned());
            return Ok(());
        }
        let now = session.describe(&target.schema, &target.table);
        if now.is_ok_and(|now| now.definition != target.definition) {
            self.table.why = Some(format!("the definition of {} has changed since the run", target.table));
            return Ok(());
        }
        let reader = RefCell::new(reader);
        let place = self.place;
        let this = RefCell::new(self);
        let mut source = || -> Result<Option<RowChange>, SinkError> {
            loop {
                let Some(change) = reader.borrow_mut().next().map_err(Box::new)? else { return Ok(None) };
                if change.place != place || !change.differs() {
                    continue;
                }
                let key = change.key_now().to_vec();
                let mut this = this.borrow_mut();
                let hash = hash_of(this.one, &key);
                if this.keeps && !this.written.insert(hash) {
                    this.table.later += 1;
                    continue;
                }
                // It is looked up by the key that the run left.
                return Ok(Some(RowChange { key, key_after: None, ..change }));
            }
        };
        let looked = session.look_up(&target, &mut source, &mut |change, now| {
            this.borrow_mut().row(context, change, now, each)
        });
        looked.map_err(unwrap_sink)
    }

    fn row(
        &mut self,
        context: &Context<'_>,
        change: &RowChange,
        now: Option<&[Value]>,
        each: &mut EachRow<'_>,
    ) -> Result<(), SinkError> {
        self.seen += 1;
        if self.seen.is_multiple_of(4096) {
            context.ambient.progress(Phase::Comparing, self.seen, None);
            if (context.ambient.stopper())() {
                return Err(Box::new(Stopped));
            }
        }
        let first = self.keeps.then(|| self.first.get(&hash_of(self.one, change.key_now()))).flatten();
        let before = first.map_or_else(|| change.image.before(), |first| first.as_deref());
        let left = change.image.after();
        let stands = match (left, now) {
            (left, now) if left == now => Stands::AsLeft,
            (Some(_), None) => Stands::Gone,
            (_, now) if before == now => Stands::AsBefore,
            (None, _) => Stands::There,
            (Some(left), Some(now)) => {
                let both = left.iter().zip(now).enumerate();
                Stands::Changed(both.filter(|(_, (a, b))| a != b).map(|(at, _)| at).collect())
            }
        };
        let at = match &stands {
            Stands::AsLeft => 0,
            Stands::AsBefore => 1,
            Stands::Changed(_) => 2,
            Stands::Gone => 3,
            Stands::There => 4,
        };
        if let Some(count) = self.table.counts.get_mut(at) {
            *count += 1;
        }
        let rows = [before, left, now].map(|row| row.map(<[Value]>::to_vec));
        let [before, left, now] = hide_rows(&self.table.target, rows);
        let key = self.table.target.shown_key(change.key_now());
        let row = AgainRow { key, before, left, now, stands };
        each(&self.table, &row)?;
        let rows = &mut self.table.rows;
        if rows.len() < self.show.most() {
            rows.push(row);
        } else if row.stands != Stands::AsLeft
            && let Some(place) = rows.iter().rposition(|kept| kept.stands == Stands::AsLeft)
        {
            // What somebody has changed is what one looks for.
            rows.remove(place);
            rows.push(row);
        }
        Ok(())
    }
}
