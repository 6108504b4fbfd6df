//! What rows show as they are handed over, and the errors that come back through an engine.

use marktwice_core::along::{Along, numbered};
use marktwice_core::breach::Breaches;
use marktwice_core::cell::{CellDiff, diff};
use marktwice_core::check::CheckFound;
use marktwice_core::mark::{Foreseen, HeldRow, Label, Marker, StepKind};
use marktwice_core::notice::{Assigned, Notices};
use marktwice_core::secret::hide_image;
use marktwice_core::table::Target;
use marktwice_core::totals::Totals;
use marktwice_core::{Expect, Image, Value};
use marktwice_port::{DraftMark, EngineError, Hold, LogError, Matched, Phase, Plan, SideWrite, SinkError};

use crate::context::Context;
use crate::outcome::Failure;
use crate::preview::{Block, Show, ShownRow, Unmet};

/// What a rehearsal has made of a step's rows.
pub(crate) struct Proven {
    /// How many really differ.
    pub(crate) changes: u64,
    /// Totals of all columns that may change.
    pub(crate) totals: Totals,
    /// Writes outside of them that were measured.
    pub(crate) measured: Vec<SideWrite>,
    /// How many of the shown rows have been given what they became.
    shown: usize,
}

/// Looks at one step's rows as they are handed over.
pub(crate) struct Collector<'a> {
    pub(crate) step: usize,
    pub(crate) marker: Marker,
    pub(crate) notices: Notices,
    pub(crate) totals: Totals,
    pub(crate) rows: Vec<ShownRow>,
    pub(crate) show: Show,
    /// What is known of the rows once they are held.
    pub(crate) held: Option<Matched>,
    /// Rows that the step takes along, by table.
    pub(crate) along: Vec<Block>,
    /// Constraints that they would break.
    pub(crate) breaches: Breaches,
    /// What checks of each of them have found.
    pub(crate) checks: Vec<CheckFound>,
    /// What a rehearsal has made of them.
    pub(crate) proven: Option<Proven>,
    pub(crate) context: &'a Context<'a>,
}

impl<'a> Collector<'a> {
    pub(crate) fn new(context: &'a Context<'a>, plan: &Plan, show: Show) -> Collector<'a> {
        let seen = |f: &&Foreseen| f.label != Label::Unknown && !plan.target.hidden.contains(&f.column);
        let assigned = plan.foreseen.iter().filter(seen).map(|f| f.column);
        let mut notices = Notices::new(&plan.target, foreseeable(plan));
        // Rows that are there are compared as they are; those that come in as they will be.
        if plan.kind == StepKind::Insert && plan.foreseen.iter().any(|f| f.label == Label::Unknown) {
            notices = notices.without_twins();
        }
        Collector {
            step: plan.step,
            marker: Marker::new(plan.parts.clone()),
            notices,
            totals: Totals::new(plan.target.amounts(assigned)),
            rows: Vec::new(),
            show,
            held: None,
            along: Vec::new(),
            breaches: Breaches::default(),
            checks: Vec::new(),
            proven: None,
            context,
        }
    }

    /// Whether several rows of a join match one row and would give it different values: nobody can tell which is stored.
    pub(crate) fn is_ambiguous(&self) -> bool {
        let many = self.held.as_ref().and_then(|held| held.many.as_ref());
        many.is_some_and(|many| many.differing > 0)
    }

    /// Takes one row into the mark, and looks at it.
    pub(crate) fn row(&mut self, draft: &mut dyn DraftMark, row: &HeldRow) -> Result<(), SinkError> {
        draft.row(self.step, self.marker.take(row))?;
        self.notices.row(row);
        if let Image::Update { before, after } = &row.image {
            self.totals.add(before, after);
        }
        if self.show.wants(&self.rows) {
            self.rows.push(ShownRow::of(row));
        }
        let done = self.marker.summary().matched;
        if done.is_multiple_of(4096) {
            self.context.ambient.progress(Phase::Reading, done, None);
            if (self.context.ambient.stopper())() {
                return Err(Box::new(Stopped));
            }
        }
        Ok(())
    }
}

impl Collector<'_> {
    /// Takes the rows into the mark that the step takes along, and keeps the first ones.
    pub(crate) fn along(
        &mut self,
        hold: &mut dyn Hold,
        plan: &Plan,
        held: &Matched,
    ) -> Result<(), EngineError> {
        let ambient = self.context.ambient;
        let show = self.show.of_many();
        for (number, along, count) in numbered(plan.step, &plan.along, &held.along) {
            let (mut gone, mut written) = (Vec::new(), Vec::new());
            hold.held(number, &mut |row| {
                self.marker.take_along(along, row);
                let goes = row.image.after().is_none();
                let rows = if goes { &mut gone } else { &mut written };
                if show.wants(rows) {
                    rows.push(ShownRow::of(row));
                }
                let done = self.marker.summary().along.rows();
                if done.is_multiple_of(4096) {
                    ambient.progress(Phase::Reading, done, None);
                    if (ambient.stopper())() {
                        return Err(Box::new(Stopped));
                    }
                }
                Ok(())
            })?;
            let both = [(StepKind::Delete, count.deleted, gone), (StepKind::Update, count.written, written)];
            let both = both.into_iter().filter(|(_, count, _)| *count > 0);
            self.along.extend(both.map(|(kind, count, rows)| Block::along(along, kind, count, rows)));
        }
        Ok(())
    }

    /// A rehearsal is about to look at what became of the rows.
    pub(crate) fn rehearsed(&mut self, plan: &Plan) {
        let seen = plan.foreseen.iter().map(|f| f.column).filter(|at| !plan.target.hidden.contains(at));
        let columns = plan.target.amounts(seen);
        let totals = Totals::new(columns);
        self.proven = Some(Proven { changes: 0, totals, measured: Vec::new(), shown: 0 });
    }

    /// What became of one row.
    pub(crate) fn became(&mut self, held: &HeldRow, now: Option<&[Value]>) {
        let Some(proven) = &mut self.proven else { return };
        let before = held.image.before().map(<[Value]>::to_vec);
        let Some(image) = Image::of(before, now.map(<[Value]>::to_vec)) else { return };
        proven.changes += u64::from(image.differs());
        if let Image::Update { before, after } = &image {
            proven.totals.add(before, after);
        }
        if proven.shown < self.rows.len() {
            let same = |row: &&mut ShownRow| row.key == held.key && row.image.before() == held.image.before();
            let row = match held.image.before() {
                Some(_) => self.rows.iter_mut().find(same),
                // What tells rows that come in may be known only now; both times they come in one order.
                None => self.rows.get_mut(proven.shown),
            };
            if let Some(row) = row {
                row.key.clone_from(&held.key);
                row.image = image;
                proven.shown += 1;
            }
        }
    }

    /// Writes outside of the rows that were measured.
    pub(crate) fn measured(&mut self, writes: &[SideWrite]) {
        if let Some(proven) = &mut self.proven {
            proven.measured.extend_from_slice(writes);
        }
    }
}

/// Looks at what triggers have made of other tables.
pub(crate) struct Fired {
    show: Show,
    /// By table, and by what was done.
    pub(crate) blocks: Vec<Block>,
}

impl Fired {
    pub(crate) fn new(show: Show) -> Fired {
        Fired { show, blocks: Vec::new() }
    }

    /// Takes one row that was written.
    pub(crate) fn row(
        &mut self,
        target: &Target,
        key: &[Value],
        (before, now): (Option<&[Value]>, Option<&[Value]>),
    ) {
        let Some(image) = Image::of(before.map(<[Value]>::to_vec), now.map(<[Value]>::to_vec)) else {
            return;
        };
        let kind = image.kind();
        let same = |block: &Block| block.kind == kind && block.target.same_table(target);
        let at = self.blocks.iter().position(same).unwrap_or_else(|| {
            let along = Along { target: target.clone(), kind, foreseen: Vec::new(), follows: Vec::new() };
            self.blocks.push(Block::along(&along, kind, 0, Vec::new()));
            self.blocks.len() - 1
        });
        let Some(block) = self.blocks.get_mut(at) else { return };
        block.matched += 1;
        block.changes += u64::from(image.differs());
        if let Image::Update { before, after } = &image {
            for CellDiff { column, .. } in diff(before, after) {
                if !block.foreseen.iter().any(|f| f.column == column) {
                    let label = Label::Rehearsed;
                    block.foreseen.push(Foreseen { column, label, derived: false, why: None });
                }
            }
        }
        if self.show.wants(&block.rows) {
            block.rows.push(ShownRow { key: target.shown_key(key), image: hide_image(target, image) });
        }
    }
}

/// Somebody asked to stop while rows were handed over.
#[derive(Debug, thiserror::Error)]
#[error("stopped on request")]
pub(crate) struct Stopped;

/// Gives an error of ours back that passed through the engine.
pub(crate) fn unwrap_sink(error: EngineError) -> Failure {
    match error {
        EngineError::Sink(inner) if inner.is::<Stopped>() => Failure::Engine(EngineError::Interrupted),
        EngineError::Sink(inner) => match inner.downcast::<LogError>() {
            Ok(log) => Failure::Log(*log),
            Err(other) => Failure::Engine(EngineError::Sink(other)),
        },
        other => Failure::Engine(other),
    }
}

/// Expected counts (rows, changes) that are not met; `changes` is `None` while it is not known.
pub(crate) fn unmet(
    (rows, changing): (Option<Expect>, Option<Expect>),
    matched: u64,
    changes: Option<u64>,
    total: u64,
) -> Vec<Unmet> {
    let mut all = Vec::new();
    if let Some(expected) = rows.filter(|e| !e.met(matched, total)) {
        all.push(Unmet { what: "rows", expected, found: matched });
    }
    if let (Some(expected), Some(found)) = (changing, changes)
        && !expected.met(found, matched)
    {
        all.push(Unmet { what: "changes", expected, found });
    }
    all
}

/// The assigned columns, of which those whose new value cannot be foreseen show nothing about their operands.
fn foreseeable(plan: &Plan) -> Vec<Assigned> {
    let unknown = |column| plan.foreseen.iter().any(|f| f.column == column && f.label == Label::Unknown);
    let mut assigned = plan.assigned.clone();
    assigned.retain(|a| !plan.target.hidden.contains(&a.column));
    assigned.iter_mut().filter(|a| unknown(a.column)).for_each(|a| a.operands.clear());
    assigned
}
