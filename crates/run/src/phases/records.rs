//! What the snapshot of a run records of its steps.

use marktwice_core::along::{Along, AlongRecord};
use marktwice_core::image::Role;
use marktwice_core::receipt::Receipt;
use marktwice_core::record::{SNAPSHOT_FORMAT, SNAPSHOT_VERSION, SnapshotHeader, StepRecord};
use marktwice_core::table::Target;
use marktwice_core::triggered;

use super::StepFacts;
use crate::planned::tables;

/// The steps of a run as its snapshot records them, what they take along, and the tables of both.
pub(super) struct Records {
    pub(super) steps: Vec<StepRecord>,
    pub(super) along: Vec<AlongRecord>,
    pub(super) tables: Vec<Target>,
}

impl Records {
    /// The header of the run's snapshot.
    pub(super) fn header(&self, receipt: &Receipt) -> SnapshotHeader {
        SnapshotHeader {
            format: SNAPSHOT_FORMAT.to_owned(),
            version: SNAPSHOT_VERSION,
            run: receipt.run.clone(),
            database: receipt.database.clone(),
            params: serde_json::Map::new(),
            steps: self.steps.clone(),
            tables: self.tables.clone(),
            along: self.along.clone(),
        }
    }
}

/// What the snapshot of a run of these steps records of them.
pub(super) fn records(steps: &[StepFacts]) -> Records {
    let own = steps.iter().map(|facts| &facts.target);
    let along = steps.iter().flat_map(|facts| &facts.along).map(|along| &along.target);
    let mut fired: Vec<&Target> = Vec::new();
    for target in steps.iter().flat_map(|facts| &facts.triggered).filter_map(|t| t.target.as_ref().ok()) {
        if !fired.iter().any(|known| known.same_table(target)) {
            fired.push(target);
        }
    }
    let (tables, at) = tables(own.chain(along).chain(fired.iter().copied()));
    let mut at = at.into_iter();
    let record = |(facts, table): (&StepFacts, usize)| StepRecord { table, ..facts.record.clone() };
    let own = steps.iter().zip(at.by_ref()).map(record).collect();
    let all = steps.iter().enumerate().flat_map(|(step, facts)| facts.along.iter().map(move |a| (step, a)));
    let record = |((step, along), table): ((usize, &Along), usize)| AlongRecord {
        step,
        table,
        role: Role::Cascade,
        kind: along.kind,
        foreseen: along.foreseen.clone(),
    };
    let mut along: Vec<AlongRecord> = all.zip(at.by_ref()).map(record).collect();
    // Which step a trigger's row is due to nobody asks: they are compared once, when all steps have run.
    let last = steps.len().saturating_sub(1);
    along.extend(fired.iter().zip(at).map(|(target, table)| AlongRecord {
        step: last,
        table,
        role: Role::Trigger,
        kind: triggered::KIND,
        foreseen: triggered::foreseen(target),
    }));
    Records { steps: own, along, tables }
}
