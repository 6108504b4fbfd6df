//! Tables that triggers write, in an undo: those that the run's triggers wrote, and those that the undo's own will. They go
//! back last, each as a whole: it is to be as it was before the undo, but for the rows that the run's triggers left.

use marktwice_core::Expect;
use marktwice_core::change::Terms;
use marktwice_core::image::{Place, Role};
use marktwice_core::record::SnapshotHeader;
use marktwice_core::side::AlsoWrites;
use marktwice_core::table::Target;
use marktwice_core::triggered::{self, is_fired, tell};
use marktwice_core::undo::{OnChanged, OnGone, Policy};
use marktwice_core::way_back::WayBack;
use marktwice_port::{Batch, EngineError};

use super::rows::Definitions;
use super::{Back, UndoOptions, Undoing};
use crate::outcome::{End, Failure};

/// What stands for the step of a table in which the run left no rows.
const NO_ROWS: usize = usize::MAX;

/// How rows of such tables are judged: one that has changed since is left to the undo's own triggers, like all that others have
/// written meanwhile.
pub(super) fn leniently(options: &UndoOptions) -> UndoOptions {
    let policy = Policy { changed: OnChanged::Skip, gone: OnGone::Skip };
    UndoOptions { policy, only: Vec::new(), ..options.clone() }
}

impl Undoing {
    /// Tables that go back as a whole.
    pub(super) fn whole_tables(&self) -> Vec<Target> {
        self.triggered.iter().map(|back| back.batch.target.clone()).collect()
    }

    /// Those in which the run left rows.
    pub(super) fn with_rows(&self) -> impl Iterator<Item = &Back> {
        self.triggered.iter().filter(|back| self.restores && back.batch.of.step != NO_ROWS)
    }

    /// What an undo declares: writes of tables that are put right in the end, and, of those that foreign keys' actions take
    /// along, as many rows as are the run's own.
    pub(super) fn terms(&self, of: &Back) -> Terms {
        let whole = self.triggered.iter().filter(|_| self.restores);
        let whole = whole.map(|back| AlsoWrites { table: back.batch.target.table.clone(), rows: None });
        let mut also_writes: Vec<AlsoWrites> = whole.collect();
        for along in &of.along {
            let table = &along.target.table;
            let steps = &self.entry.receipt.steps;
            let own = steps.iter().filter(|step| step.table == *table).map(|step| step.changed);
            let taken = steps.iter().flat_map(|step| &step.along).filter(|taken| taken.table == *table);
            let rows = own.chain(taken.map(|taken| taken.deleted + taken.changed)).sum();
            if rows > 0 {
                let rows = Some(Expect::Range(0, Some(rows)));
                also_writes.push(AlsoWrites { table: table.clone(), rows });
            }
        }
        Terms { also_writes, ..Terms::default() }
    }
}

/// Why the definition of a table stands in the way, where it is not what it was.
pub(super) fn redefined(
    session: &mut Definitions<'_>,
    target: &Target,
    run: &str,
) -> Result<Option<End>, EngineError> {
    let now = session.describe(&target.schema, &target.table)?;
    let why = || End::Changed(format!("the definition of {} has changed since run {run}", target.table));
    Ok((now.definition != target.definition).then(why))
}

/// Finds out which tables go back as a whole, and which are left to the undo's own triggers.
pub(super) fn by_triggers(
    session: &mut Definitions<'_>,
    header: &SnapshotHeader,
    undoing: &mut Undoing,
    options: &UndoOptions,
) -> Result<Result<(), End>, Failure> {
    let receipt = &undoing.entry.receipt;
    let records: Vec<_> = header.along.iter().filter(|along| along.role == Role::Trigger).collect();
    let mut known = Vec::new();
    for record in &records {
        let Some(target) = header.tables.get(record.table) else { continue };
        if let Some(end) = redefined(session, target, &receipt.run)? {
            return Ok(Err(end));
        }
        known.push((record.step, record.table, target.clone()));
    }
    let side = undoing.batches.iter().flat_map(|back| back.side.iter().chain(&back.fired));
    let written: Vec<_> = side.filter(|write| is_fired(write)).cloned().collect();
    let Some(receipts) = &receipt.triggered else {
        // Of older runs nobody knows what triggers wrote.
        return Ok(Ok(()));
    };
    if known.is_empty() && written.is_empty() {
        return Ok(Ok(()));
    }
    let along = |back: &Back| back.along.iter().map(|along| along.target.clone()).collect::<Vec<_>>();
    let own: Vec<Target> = undoing
        .batches
        .iter()
        .flat_map(|back| std::iter::once(back.batch.target.clone()).chain(along(back)))
        .collect();
    let targets: Vec<Target> = known.iter().map(|(_, _, target)| target.clone()).collect();
    let mut found = session.restorable(&written, &targets, &own)?;
    let policy = options.policy;
    let in_part = if !options.only.is_empty() {
        Some("only some rows of the run are put back")
    } else if policy.changed == OnChanged::Skip || policy.gone == OnGone::Skip {
        Some("rows that have changed since are left alone")
    } else {
        None
    };
    for table in &mut found {
        let of_run = table
            .target
            .as_ref()
            .ok()
            .and_then(|target| known.iter().find(|(_, _, known)| known.same_table(target)));
        let left = receipts.iter().find(|r| r.table == table.shown).and_then(|r| r.unheld.clone());
        let why = match left {
            Some(why) if of_run.is_none() => Some(why),
            _ if table.large && of_run.is_none() => {
                Some(format!("it has more than {} rows", triggered::MOST_ROWS))
            }
            _ => None,
        };
        if let (Some(why), Ok(_)) = (why, &table.target) {
            table.target = Err(why);
        }
    }
    undoing.restores = in_part.is_none();
    for table in &found {
        let target = match (&table.target, in_part) {
            (Ok(target), None) => target,
            (Ok(target), Some(why)) => {
                undoing.standing.push((table.shown.clone(), why.to_owned()));
                target
            }
            (Err(why), _) => {
                undoing.standing.push((table.shown.clone(), why.clone()));
                undoing.unheld.push(table.clone());
                continue;
            }
        };
        let of_run = known.iter().find(|(_, _, known)| known.same_table(target));
        let (step, table) = of_run.map_or((NO_ROWS, NO_ROWS), |(step, table, _)| (*step, *table));
        // A run's snapshot has told its rows by this key.
        let target = of_run.map_or(target, |(_, _, target)| target).clone();
        undoing.triggered.push(Back {
            foreseen: triggered::foreseen(&target),
            batch: Batch {
                step: 0,
                of: Place { step, table, role: Role::Trigger },
                columns: (0..target.columns.len()).collect(),
                target,
                kind: triggered::KIND,
                inserts: true,
                narrow: None,
            },
            open: Vec::new(),
            follows: false,
            side: Vec::new(),
            way: WayBack::default(),
            along: Vec::new(),
            fired: Vec::new(),
        });
    }
    for back in &mut undoing.batches {
        tell(&mut back.side, &found);
    }
    Ok(Ok(()))
}
