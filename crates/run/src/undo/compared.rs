//! Every row of a run compared with what is there now: by looking, or, where batches touch the same rows, by a rehearsal.

use std::cell::RefCell;

use marktwice_core::hash::Tally;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::table::{KeyKind, Target};
use marktwice_core::totals::Totals;
use marktwice_core::undo::{Compared, RowChange, Treatment, treat};
use marktwice_core::{Image, Role, Value};
use marktwice_port::{Intent, Keep, Phase, Session, Tx};

use super::by_triggers::leniently;
use super::rows::KeptRows;
use super::{Back, Source, UndoOptions, Undoing, facts, first_differing, inverse};
use crate::collect::{Fired, unwrap_sink};
use crate::context::Context;
use crate::faults::Conflicts;
use crate::noticed::{Declared, no_way_back, side_findings};
use crate::outcome::{End, Failure, RunOutcome};
use crate::phases::{Begun, Ended, Prepared};
use crate::preview::{BatchPreview, Block, ShownRow, UndoPreview, Unmet};
use marktwice_core::secret::hide_image;
use marktwice_core::value::key_text;

/// Tallies of what was seen, batch by batch: the preview and the run must see the same.
pub(super) type Seen = Vec<Tally>;

/// What was found out before anybody is asked.
pub(super) struct Sight {
    pub(super) preview: UndoPreview,
    pub(super) seen: Seen,
    /// How a rehearsal ended, where it did not come to its end.
    pub(super) ended: Option<RunOutcome>,
}

/// One row that was asked for.
struct Wanted {
    typed: String,
    step: Option<usize>,
    table: Option<String>,
    key: String,
}

/// The rows that were asked for.
pub(super) struct Only {
    /// As typed, with the step or the table that it is about where one is named.
    keys: Vec<Wanted>,
    found: RefCell<Vec<String>>,
}

impl Only {
    /// Reads `418`, `12,2026`, `hive_id=12,season=2026`, `2:418` or `inspection:418`: the number of a step where there are
    /// several, and one of that number; a table where one has rows in the run.
    pub(super) fn parse(typed: &[String], batches: &[Back]) -> Only {
        let mut steps: Vec<usize> = batches.iter().map(|back| back.batch.of.step).collect();
        steps.dedup();
        let tables: Vec<&str> = batches.iter().map(|back| back.batch.target.table.as_str()).collect();
        let one = |typed: &String| {
            let text = typed.replace(", ", ",");
            let whole = Wanted { typed: typed.clone(), step: None, table: None, key: in_order(&text) };
            let Some((named, key)) = text.split_once(':') else { return whole };
            let step = named.parse::<usize>().ok().and_then(|n| n.checked_sub(1));
            let step = step.filter(|step| steps.len() > 1 && steps.contains(step));
            let table = tables.iter().find(|table| table.eq_ignore_ascii_case(named.trim()));
            if step.is_none() && table.is_none() {
                return whole;
            }
            Wanted { step, table: table.map(|t| (*t).to_owned()), key: in_order(key), ..whole }
        };
        Only { keys: typed.iter().map(one).collect(), found: RefCell::default() }
    }

    /// Rows that a step took along are meant only where their table is named.
    fn wants(&self, (step, target): (usize, &Target), change: &RowChange) -> bool {
        let names = &target.key.names;
        if self.keys.is_empty() {
            return true;
        }
        let [before, now] = [key_text(&change.key), key_text(change.key_now())];
        // By the numbers that stand for hidden keys, too.
        let [was, is] = [&change.key[..], change.key_now()].map(|key| key_text(&target.shown_key(key)));
        let keys =
            [by_name(names, &before), by_name(names, &now), before, now, was, is].map(|key| in_order(&key));
        let own = change.place.role == Role::Target;
        let named = self.keys.iter().find(|wanted| {
            let here = wanted.table.as_ref().map_or(own, |table| *table == target.table);
            here && wanted.step.is_none_or(|of| of == step) && keys.contains(&wanted.key)
        });
        if let Some(wanted) = named {
            self.found.borrow_mut().push(wanted.typed.clone());
        }
        named.is_some()
    }

    /// A key that no row of the run has.
    fn missing(&self) -> Option<String> {
        let found = self.found.borrow();
        self.keys.iter().map(|wanted| &wanted.typed).find(|typed| !found.contains(typed)).cloned()
    }
}

/// The parts of a key with the names of its columns, as a person may write them.
fn by_name(names: &[String], key: &str) -> String {
    let values: Vec<&str> = if names.len() == 1 { vec![key] } else { key.split(',').collect() };
    let parts = names.iter().zip(values).map(|(name, value)| format!("{name}={value}"));
    parts.collect::<Vec<_>>().join(",")
}

/// Named parts of a key in one order, whichever they were written in; a key without names as it is.
fn in_order(key: &str) -> String {
    let parts: Option<Vec<(&str, &str)>> = key.split(',').map(|part| part.split_once('=')).collect();
    let Some(mut parts) = parts else { return key.to_owned() };
    let mut named: Vec<String> = parts
        .drain(..)
        .map(|(name, value)| format!("{}={}", name.trim().to_lowercase(), value.trim()))
        .collect();
    named.sort_unstable();
    named.join(",")
}

/// Decides about every row, in the preview and again inside the transaction, and keeps a tally of what it saw:
/// the two must be the same, so that nothing is overwritten that was not shown.
pub(super) struct Judge<'a> {
    options: &'a UndoOptions,
    only: &'a Only,
    back: &'a Back,
    pub(super) conflicts: Conflicts,
    left_alone: Conflicts,
    already_back: u64,
    not_asked: u64,
    renumbered: u64,
    pub(super) seen: Tally,
    buffer: Vec<u8>,
}

impl<'a> Judge<'a> {
    pub(super) fn new(options: &'a UndoOptions, only: &'a Only, back: &'a Back) -> Self {
        let batch = &back.batch;
        Judge {
            options,
            only,
            back,
            conflicts: Conflicts::none(&batch.target),
            left_alone: Conflicts::none(&batch.target),
            already_back: 0,
            not_asked: 0,
            renumbered: 0,
            seen: Tally::default(),
            buffer: Vec::new(),
        }
    }

    pub(super) fn decide(&mut self, change: &RowChange, now: Option<&[Value]>) -> Keep {
        if !self.only.wants((self.back.batch.of.step, &self.back.batch.target), change) {
            self.not_asked += 1;
            return Keep::Leave;
        }
        self.seen.add(&mut self.buffer, change.key.iter().chain(now.unwrap_or_default()));
        match treat(change, now, compared(self.back), self.options.policy) {
            Treatment::Put(wanted) => Keep::Hold(wanted),
            Treatment::PutAnew(wanted) => {
                self.renumbered += 1;
                Keep::Anew(wanted)
            }
            Treatment::AlreadyBack => {
                self.already_back += 1;
                Keep::Leave
            }
            Treatment::Leave(conflict) => {
                self.left_alone.add(&change.key, conflict);
                Keep::Leave
            }
            Treatment::Stop(conflict) => {
                self.conflicts.add(&change.key, conflict);
                Keep::Leave
            }
        }
    }
}

/// How the rows of a batch are compared. Of a table that triggers write what came in besides is part of what the run left.
fn compared(back: &Back) -> Compared<'_> {
    let numbered = back.batch.target.key.kind == KeyKind::RowIdentity && back.batch.of.role != Role::Trigger;
    Compared { columns: &back.batch.columns, open: &back.open, numbered }
}

/// Looks at the rows of one batch as they are compared.
struct Looker<'a> {
    context: &'a Context<'a>,
    judge: Judge<'a>,
    rows: Vec<ShownRow>,
    /// Whether tables that triggers write go back as a whole.
    restores: bool,
    /// Rows of a table that triggers write, by what is done.
    fired: Option<Fired>,
    totals: Totals,
    matched: u64,
    compared: u64,
    of: u64,
}

impl<'a> Looker<'a> {
    fn new(
        context: &'a Context<'a>,
        undoing: &Undoing,
        back: &'a Back,
        options: &'a UndoOptions,
        only: &'a Only,
    ) -> Looker<'a> {
        Looker {
            context,
            judge: Judge::new(options, only, back),
            rows: Vec::new(),
            restores: undoing.restores,
            fired: (back.batch.of.role == Role::Trigger).then(|| Fired::new(options.show.of_many())),
            totals: Totals::new(back.batch.target.amounts(back.batch.columns.iter().copied())),
            matched: 0,
            compared: 0,
            of: undoing.snapshot.rows,
        }
    }

    fn row(&mut self, change: &RowChange, now: Option<&[Value]>) -> Keep {
        self.compared += 1;
        if self.compared.is_multiple_of(4096) {
            self.context.ambient.progress(Phase::Comparing, self.compared, Some(self.of));
        }
        let stopped = self.judge.conflicts.count;
        let kept = self.judge.decide(change, now);
        let stops = self.judge.conflicts.count > stopped;
        let (before, wanted) = match &kept {
            Keep::Hold(wanted) => (now, wanted.as_deref()),
            Keep::Anew(wanted) => (None, Some(wanted.as_slice())),
            // A row that stops the undo is shown as it was meant to be put back.
            Keep::Leave if stops => (change.image.before(), change.image.after()),
            Keep::Leave => return kept,
        };
        self.matched += 1;
        if let Some(fired) = &mut self.fired {
            // Of such a table rows of all kinds go back together.
            fired.row(&self.judge.back.batch.target, &change.key, (before, wanted));
            return kept;
        }
        if let (Some(before), Some(after)) = (before, wanted) {
            self.totals.add(before, after);
        }
        if self.judge.options.show.wants(&self.rows) {
            let image = Image::of(before.map(<[Value]>::to_vec), wanted.map(<[Value]>::to_vec));
            let target = &self.judge.back.batch.target;
            let image = image.map(|image| hide_image(target, image));
            self.rows.extend(image.map(|image| ShownRow { key: target.shown_key(&change.key), image }));
        }
        kept
    }

    fn preview(self, back: &Back) -> (BatchPreview, Tally) {
        let target = &back.batch.target;
        let judge = self.judge;
        let some = |found: Conflicts| (found.count > 0).then_some(found);
        let block = Block {
            kind: back.batch.kind,
            target: target.clone(),
            foreseen: back.foreseen.clone(),
            findings: side_findings(&back.side, Declared::Undo { restores: self.restores })
                .into_iter()
                .chain(no_way_back(&back.way))
                .collect(),
            allowed: judge.options.allow.clone(),
            matched: self.matched,
            changes: self.matched,
            rows: self.rows,
            totals: self.totals.finish(|c| target.columns.get(c).map_or(String::new(), |c| c.name.clone())),
            side: back.side.clone(),
            along: self.fired.map(|fired| fired.blocks).unwrap_or_default(),
            unmet: Vec::new(),
            checks: Vec::new(),
            meanings: Vec::new(),
            filter: Vec::new(),
            operands: Vec::new(),
            chosen: None,
        };
        let preview = BatchPreview {
            block,
            step: back.batch.of.step,
            conflicts: some(judge.conflicts),
            left_alone: some(judge.left_alone),
            follows: back.follows,
            already_back: judge.already_back,
            not_asked: judge.not_asked,
            renumbered: judge.renumbered,
        };
        (preview, judge.seen)
    }
}

/// What was seen of each batch, with its tally.
type Looked = Vec<(BatchPreview, Tally)>;

/// Puts together what was seen of each batch.
fn sight(
    undoing: &Undoing,
    options: &UndoOptions,
    only: &Only,
    (database, notes): (DatabaseId, Vec<String>),
    (seen, triggered): (Looked, Looked),
    rehearsed: bool,
) -> Result<Sight, Failure> {
    let run = undoing.run().to_owned();
    let all = seen.len() == undoing.batches.len();
    if let Some(missing) = only.missing().filter(|_| all) {
        return Err(Failure::usage(
            format!("run {run} changed no row with the key {missing}"),
            "write keys as they are shown: 418, or 12,2026",
        ));
    }
    let (batches, own): (Vec<_>, Vec<_>) = seen.into_iter().unzip();
    let (triggered, mut seen): (Vec<_>, Vec<_>) = triggered.into_iter().unzip();
    seen.extend(own);
    let standing = undoing.standing.clone();
    let title = undoing.entry.receipt.title.clone();
    let mut preview =
        UndoPreview { database, notes, title, run, rehearsed, batches, triggered, standing, unmet: None };
    let matched = preview.matched();
    let expected = options.rows.filter(|e| !e.met(matched, matched));
    preview.unmet = expected.map(|expected| Unmet { what: "rows", expected, found: matched });
    Ok(Sight { preview, seen, ended: None })
}

/// Compares every row with what the run left; nothing is written.
pub(super) fn look(
    context: &Context<'_>,
    session: &mut dyn Session,
    kept: &dyn KeptRows,
    undoing: &Undoing,
    options: &UndoOptions,
    only: &Only,
    notes: Vec<String>,
) -> Result<Sight, Failure> {
    let mut look = |back: &Back, options: &UndoOptions, only: &Only| -> Result<_, Failure> {
        let reader = RefCell::new(kept.open()?);
        let mut looker = Looker::new(context, undoing, back, options, only);
        session
            .look_up(&back.batch.target, &mut || inverse(&reader, back), &mut |change, now| {
                looker.row(change, now);
                Ok(())
            })
            .map_err(unwrap_sink)?;
        Ok(looker.preview(back))
    };
    let seen =
        undoing.batches.iter().map(|back| look(back, options, only)).collect::<Result<Vec<_>, Failure>>()?;
    let (lenient, all) = (leniently(options), Only::parse(&[], &undoing.batches));
    let triggered =
        undoing.with_rows().map(|back| look(back, &lenient, &all)).collect::<Result<Vec<_>, Failure>>()?;
    sight(undoing, options, only, (session.database().clone(), notes), (seen, triggered), false)
}

/// Holds the tables that go back as a whole, and the rows of the run in them.
pub(super) fn hold_triggered<'a, 's>(
    mut begun: Begun<'a, 's>,
    (context, kept): (&Context<'_>, &dyn KeptRows),
    undoing: &Undoing,
    options: &UndoOptions,
    each: &mut dyn FnMut((BatchPreview, Tally)),
) -> Result<Begun<'a, 's>, Ended> {
    begun = begun.hold_triggered(&undoing.whole_tables(), &undoing.unheld)?;
    if !undoing.restores {
        return Ok(begun);
    }
    let (lenient, all) = (leniently(options), Only::parse(&[], &undoing.batches));
    for back in undoing.with_rows() {
        let mut looker = Looker::new(context, undoing, back, &lenient, &all);
        for left in [false, true] {
            let reader = match kept.open() {
                Ok(reader) => RefCell::new(reader),
                Err(error) => return Err(begun.end(End::Failed(error.into()))),
            };
            begun = begun.hold_triggered_rows(
                (&back.batch, left),
                &mut || inverse(&reader, back),
                &mut |change, now| {
                    if !left {
                        return Ok(looker.row(change, now));
                    }
                    Ok(match (treat(change, now, compared(back), lenient.policy), now) {
                        (Treatment::Leave(_), Some(now)) => Keep::Hold(Some(now.to_vec())),
                        _ => Keep::Leave,
                    })
                },
                &mut |tx: &mut dyn Tx, number| first_differing(tx, kept, (back, number)),
            )?;
            if looker.judge.left_alone.count == 0 {
                break;
            }
        }
        each(looker.preview(back));
    }
    Ok(begun)
}

/// Takes the run back for real, and rolls that back again: each batch is compared where the ones before it have left the
/// rows.
pub(super) fn rehearse(
    context: &Context<'_>,
    kept: &dyn KeptRows,
    undoing: &Undoing,
    options: &UndoOptions,
    only: &Only,
    about: (DatabaseId, Vec<String>),
) -> Result<Sight, Failure> {
    let mut session = context.open(Intent::Write)?;
    let prepared = Prepared::unrecorded(context, facts(undoing, options));
    let (mut seen, mut triggered) = (Vec::new(), Vec::new());
    let run = || -> Result<(), Ended> {
        let begun = prepared.begin(&mut *session)?;
        carried_out(begun, (context, kept), undoing, (options, only), (&mut seen, &mut triggered))
    };
    let ended = run().err().map(|ended| *ended);
    Ok(Sight { ended, ..sight(undoing, options, only, about, (seen, triggered), true)? })
}

/// The whole undo, batch by batch, with what was seen of each; the transaction is then rolled back.
pub(super) fn carried_out(
    begun: Begun<'_, '_>,
    (context, kept): (&Context<'_>, &dyn KeptRows),
    undoing: &Undoing,
    (options, only): (&UndoOptions, &Only),
    (seen, triggered): (&mut Looked, &mut Looked),
) -> Result<(), Ended> {
    let mut begun =
        hold_triggered(begun, (context, kept), undoing, options, &mut |found| triggered.push(found))?;
    for back in &undoing.batches {
        let reader = match kept.open() {
            Ok(reader) => RefCell::new(reader),
            Err(error) => return Err(begun.end(End::Failed(error.into()))),
        };
        let mut looker = Looker::new(context, undoing, back, options, only);
        let held = begun.hold_rows(&back.batch, &mut || inverse(&reader, back), &mut |change, now| {
            Ok(looker.row(change, now))
        });
        let conflicts = looker.judge.conflicts.clone();
        seen.push(looker.preview(back));
        let marked = held?;
        if conflicts.count > 0 {
            return Err(marked.end(End::Conflicts(conflicts)));
        }
        begun = marked.put(&back.batch)?.prove_sent(&mut Source { rows: kept, back })?;
    }
    if undoing.restores {
        begun = begun.restore_triggered()?;
    }
    begun.still_put(undoing.left_to_triggers())?.end_undo_rehearsal()
}
