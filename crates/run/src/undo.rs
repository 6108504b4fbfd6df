//! The undo of a run: every row is compared with what the run left, then put back, as a run of its own. The steps of the run
//! are taken back in reverse, a batch of rows each.

use std::cell::RefCell;

use marktwice_core::along::Along;
use marktwice_core::archive::Made;
use marktwice_core::change::Terms;
use marktwice_core::image::{Place, Role};
use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_core::receipt::{Receipt, RunKind, RunState, SnapshotRef, StepReceipt};
use marktwice_core::record::{SnapshotHeader, StepRecord};
use marktwice_core::side::SideWrite;
use marktwice_core::table::Target;
use marktwice_core::triggered::{Triggered, is_fired};
use marktwice_core::undo::{OnChanged, OnGone, Policy, RowChange, inverse_kind};
use marktwice_core::way_back::WayBack;
use marktwice_core::{Code, Expect, hash};
use marktwice_port::{Batch, EngineError, Intent, Logbook, Reach, Session, SinkError, SnapshotReader};

use crate::apply::Agreement;
use crate::context::{Answer, Context, Question, Shown, Talk};
use crate::history::{Entry, find_run, history};
use crate::outcome::{End, Failure, RunOutcome};
use crate::phases::{Ended, Prepared, StepFacts};
use crate::preview::{Show, UndoPreview};
use crate::settle::tidy_up;

mod by_triggers;
mod compared;
mod parts;
mod readback;
mod rows;
pub(crate) mod trial;

use by_triggers::{by_triggers, redefined};
use compared::{Judge, Only, Sight, hold_triggered};
use parts::{Part, parts};
use readback::{Source, first_differing};
use rows::{Definitions, KeptRows, RowsOf};

/// How to undo.
#[derive(Debug, Clone)]
pub struct UndoOptions {
    /// The run, or a unique part of its name; the last standing application without one.
    pub run: Option<String>,
    /// What it rests on. Without a question, the run must be named.
    pub agreement: Agreement,
    /// Findings that are let pass.
    pub allow: Vec<Code>,
    /// Expected rows.
    pub rows: Option<Expect>,
    /// What to do with rows that changed since, or are gone.
    pub policy: Policy,
    /// The keys of the rows to put back, as they are shown; all without one. Of a run with several steps a key may stand
    /// behind the number of its step: `2:418`.
    pub only: Vec<String>,
    /// Whether to ask inside the open transaction.
    pub hold: bool,
    /// How many rows to show.
    pub show: Show,
}

/// Rows of one step of the run, to be put back.
struct Back {
    batch: Batch,
    foreseen: Vec<Foreseen>,
    /// Columns that the batches before it leave to the database in the same table: what they hold by then is nobody's edit.
    open: Vec<usize>,
    /// Whether a batch before it takes its rows back along.
    follows: bool,
    /// What putting them back writes besides.
    side: Vec<SideWrite>,
    way: WayBack,
    /// What it may take along.
    along: Vec<Along>,
    /// What triggers write that this sets off.
    fired: Vec<SideWrite>,
}

impl Back {
    /// What it takes along of a table.
    fn takes(&self, target: &Target) -> Option<&Along> {
        self.along.iter().find(|along| along.target.same_table(target))
    }
}

/// What is taken back, and how.
struct Undoing {
    entry: Entry,
    snapshot: SnapshotRef,
    batches: Vec<Back>,
    /// Tables that triggers write, and that are held as a whole, with the rows that the run left in them.
    triggered: Vec<Back>,
    /// Whether those go back as a whole: an undo in part leaves them to its own triggers.
    restores: bool,
    /// Tables that triggers write and that cannot be held, each with why.
    unheld: Vec<Triggered>,
    /// Those that are left to what the undo's own triggers make of them, each with why.
    standing: Vec<(String, String)>,
}

impl Undoing {
    /// Whether a batch finds its rows as they should be only after the batches before it: their rows cannot then be compared
    /// by looking alone.
    fn must_rehearse(&self) -> bool {
        let touches = |a: &Back, b: &Back| {
            let table = &b.batch.target.table;
            let same = a.batch.target.shares_rows(&b.batch.target);
            let key = a.batch.columns.iter().any(|c| a.batch.target.key.columns.contains(c));
            // What foreign keys' actions take along is counted only once the rows are held.
            let acts = key || a.batch.kind == StepKind::Delete;
            same || acts
                || a.takes(&b.batch.target).is_some()
                || a.side.iter().any(|write| write.table.eq_ignore_ascii_case(table))
        };
        let each = self.batches.iter().enumerate();
        each.clone().any(|(at, a)| self.batches.iter().skip(at + 1).any(|b| touches(a, b)))
    }

    /// Batches of tables that the undo's own triggers write as well, and that do not go back as a whole: those behind which no
    /// other batch writes the same table.
    fn left_to_triggers(&self) -> impl Iterator<Item = (&Batch, &[Foreseen])> {
        let written = |target: &Target| {
            let side = self.batches.iter().flat_map(|back| back.side.iter().chain(&back.fired));
            let mut fired = side.filter(|write| is_fired(write));
            fired.any(|write| write.table.rsplit('.').next().is_some_and(|name| *name == *target.table))
        };
        let each = self.batches.iter().enumerate();
        let last = each.filter(move |(at, back)| {
            let behind = self.batches.iter().skip(at + 1);
            let again = behind.clone().any(|later| later.batch.target.shares_rows(&back.batch.target));
            !again && written(&back.batch.target)
        });
        last.map(|(_, back)| (&back.batch, &back.foreseen[..]))
    }

    fn run(&self) -> &str {
        &self.entry.receipt.run
    }
}

/// Takes a run back.
///
/// # Errors
/// When it fails before a run is begun; a run's own failure is in the outcome.
pub fn undo(
    context: &Context<'_>,
    options: &UndoOptions,
    talk: &mut dyn Talk,
) -> Result<RunOutcome, Failure> {
    if options.agreement == Agreement::Given && options.run.is_none() {
        return Err(Failure::usage(
            "--yes needs the name of a run: without one it would take whichever run is newest",
            "name the run: `marktwice undo RUN --yes` (`marktwice history` shows the runs)",
        ));
    }
    let mut session = context.open(Intent::Read)?;
    let book = (context.book)(session.database())?;
    let mut notes = session.notes().to_vec();
    let tidied = tidy_up(&*book, context)?;
    tidied.settled()?;
    notes.extend(tidied.notes);
    let undoing = match what_to_take_back(&mut *session, &*book, options)? {
        Ok(undoing) => undoing,
        Err(end) => return Ok(RunOutcome::of(end)),
    };
    let made = undoing.entry.receipt.makes.iter().filter(|making| making.made == Made::Yes);
    notes.extend(made.map(|making| format!("the table {}, which the run made, stays", making.table)));
    let only = Only::parse(&options.only, &undoing.batches);
    let mut kept = None;
    let sight = if undoing.must_rehearse() {
        let database = session.database().clone();
        drop(session);
        talk.tell(
            "its rows hang on one another, so the undo is now rehearsed: run in a transaction that is rolled back; \
             its rows are locked until then",
        );
        compared::rehearse(
            context,
            &RowsOf::new(&*book, &undoing),
            &undoing,
            options,
            &only,
            (database, notes),
        )?
    } else {
        let sight = {
            let rows = RowsOf::new(&*book, &undoing);
            compared::look(context, &mut *session, &rows, &undoing, options, &only, notes)?
        };
        // While somebody thinks no connection is held open.
        kept = Some(session).filter(|_| options.agreement == Agreement::Given);
        // Whoever reads what is shown may take their time too.
        if let Some(session) = &mut kept {
            session.rest()?;
        }
        sight
    };
    let Sight { preview, seen, ended } = sight;
    talk.show(&Shown::Undo(&preview));
    if let Some(conflicts) = preview.conflicts() {
        return Ok(RunOutcome::of(End::Conflicts(conflicts.clone())));
    }
    if let Some(ended) = ended {
        return Ok(ended);
    }
    if let Some(end) = refusal(&preview) {
        return Ok(RunOutcome::of(end));
    }
    if options.agreement == Agreement::Ask && !options.hold {
        let answer = talk.ask(&Question::Before(&Shown::Undo(&preview)));
        if answer != Answer::Yes {
            return Ok(RunOutcome::of(End::Declined(answer)));
        }
    }
    put_back(context, &*book, &undoing, options, &only, (&preview, seen, kept), talk)
}

/// Why a previewed undo is not begun.
fn refusal(preview: &UndoPreview) -> Option<End> {
    let stops = preview.stops();
    if !stops.is_empty() {
        return Some(End::Stopped(stops));
    }
    if let Some(unmet) = &preview.unmet {
        return Some(End::Expectation(vec![unmet.clone()]));
    }
    let nothing = format!("no row of run {} is left to be put back; nothing was begun", preview.run);
    let triggered: u64 = preview.triggered.iter().map(|batch| batch.block.matched).sum();
    (preview.matched() + triggered == 0).then_some(End::NothingToDo(nothing))
}

/// Finds the run and makes sure that it can be taken back at all.
fn what_to_take_back(
    session: &mut dyn Session,
    book: &dyn Logbook,
    options: &UndoOptions,
) -> Result<Result<Undoing, End>, Failure> {
    let entries = history(book)?;
    let entry = match &options.run {
        Some(name) => find_run(&entries, Some(name))?,
        None => {
            let last = entries.iter().find(|e| e.receipt.kind == RunKind::Apply && e.can_undo);
            last.cloned().ok_or_else(|| {
                Failure::usage("there is nothing to undo", "`marktwice history` shows the runs")
            })?
        }
    };
    let receipt = &entry.receipt;
    let run = &receipt.run;
    if receipt.state != RunState::Committed {
        return Err(Failure::usage(
            format!(
                "run {run} was not committed ({}); there is nothing to take back",
                receipt.state.as_str()
            ),
            "`marktwice history` shows the runs",
        ));
    }
    if !book.is_of(&receipt.database.identity) {
        return Err(Failure::usage(
            format!("run {run} was made on another database ({})", receipt.database.name),
            "it is taken back there; how its folder came into this logbook only a person can tell",
        ));
    }
    if let Some(by) = &entry.undone_by {
        return Err(Failure::usage(
            format!("run {run} was taken back already, by {by}"),
            format!("to apply it again, take that undo back: `marktwice undo {by}`"),
        ));
    }
    if let Some(when) = &receipt.forgotten {
        return Err(Failure::usage(
            format!("the rows of run {run} were forgotten on {when}"),
            "it cannot be taken back any more",
        ));
    }
    let Some(snapshot) = receipt.snapshot.clone().filter(|_| receipt.can_be_undone()) else {
        return Err(Failure::usage(format!("run {run} changed nothing"), "there is nothing to take back"));
    };
    let header = book.snapshot(run, &snapshot)?.header().clone();
    batches_of(&mut Definitions::Session(session), entry, snapshot, &header, options)
}

/// The batches of an undo, and the tables that triggers write in it.
fn batches_of(
    session: &mut Definitions<'_>,
    entry: Entry,
    snapshot: SnapshotRef,
    header: &SnapshotHeader,
    options: &UndoOptions,
) -> Result<Result<Undoing, End>, Failure> {
    let receipt = &entry.receipt;
    let run = &receipt.run;
    let mut batches = Vec::new();
    let only_triggers = receipt.steps.iter().all(|step| step.changed == 0);
    for (at, step) in header.steps.iter().enumerate().rev() {
        for part in parts((receipt.steps.get(at), only_triggers), header, (at, step)) {
            let Some(target) = header.tables.get(part.table) else {
                return Err(Failure::usage(
                    format!("the snapshot of {run} holds no table for its step {}", at + 1),
                    "it cannot be taken back",
                ));
            };
            if let Some(end) = redefined(session, target, run)? {
                return Ok(Err(end));
            }
            let of = Place { step: at, table: part.table, role: Role::Target };
            let mut next = back(session, &part, target, (batches.len(), of), options)?;
            let same = batches.iter().filter(|earlier: &&Back| earlier.batch.target.shares_rows(target));
            let unknown = |f: &&Foreseen| f.label == Label::Unknown;
            next.open = same.flat_map(|b| b.foreseen.iter().filter(unknown)).map(|f| f.column).collect();
            let target = &next.batch.target;
            let before = batches.iter().filter(|earlier: &&Back| earlier.batch.of.step == at);
            let taken = before.filter_map(|earlier| earlier.takes(target));
            for along in taken.filter(|along| along.kind == StepKind::Update && along.found_as_before()) {
                next.follows = true;
                next.open.extend(&along.follows);
                next.open.extend(along.foreseen.iter().filter(|f| f.derived).map(|f| f.column));
            }
            // Of an undo's rows, which are written in one part, some may have come in: those go, and are held whole.
            if !next.open.is_empty() || receipt.kind == RunKind::Undo {
                next.batch.narrow = None;
            }
            batches.push(next);
        }
    }
    let mut undoing = Undoing {
        entry,
        snapshot,
        batches,
        triggered: Vec::new(),
        restores: true,
        unheld: Vec::new(),
        standing: Vec::new(),
    };
    match by_triggers(session, header, &mut undoing, options)? {
        Ok(()) => Ok(Ok(undoing)),
        Err(end) => Ok(Err(end)),
    }
}

/// How the rows of one step are put back.
fn back(
    session: &mut Definitions<'_>,
    part: &Part,
    target: &Target,
    (number, of): (usize, Place),
    options: &UndoOptions,
) -> Result<Back, EngineError> {
    let kind = inverse_kind(part.kind);
    let written = |f: &&Foreseen| target.columns.get(f.column).is_some_and(|c| !c.generated);
    let columns: Vec<usize> = part.foreseen.iter().filter(written).map(|f| f.column).collect();
    let mut foreseen: Vec<Foreseen> = match kind {
        StepKind::Update => part
            .foreseen
            .iter()
            .map(|f| {
                // Where somebody's edits stay in other columns, what is derived from them is not known beforehand.
                let unknown = f.derived && options.policy.changed == OnChanged::Overwrite;
                let label = if unknown { Label::Unknown } else { Label::Exact };
                Foreseen { column: f.column, label, derived: f.derived, why: None }
            })
            .collect(),
        // An undone DELETE brings whole rows back; the columns matter when that undo is itself taken back.
        StepKind::Insert | StepKind::Delete => Vec::new(),
    };
    let inserts = kind == StepKind::Update && (part.went || options.policy.gone == OnGone::Insert);
    // What is there is what the run left, column by column: a sum of what does not change is then enough.
    let narrow = (kind == StepKind::Update && options.policy.changed != OnChanged::Overwrite)
        .then(|| part.foreseen.iter().map(|f| f.column).collect());
    let mut batch = Batch { step: number, of, target: target.clone(), kind, columns, inserts, narrow };
    let Reach { side, back: way, along, fired } = session.restore_reach(&batch)?;
    // Columns that something in the database sets whenever a row is written: what they will hold only the undo can tell.
    for owned in &way.owned {
        let Some(column) = target.position(&owned.column) else { continue };
        let derived = !batch.columns.contains(&column);
        foreseen.retain(|f| f.column != column);
        foreseen.push(Foreseen { column, label: Label::Unknown, derived, why: Some(owned.why.clone()) });
        batch.narrow.iter_mut().for_each(|narrow| narrow.push(column));
    }
    foreseen.sort_by_key(|f| f.column);
    Ok(Back { batch, foreseen, open: Vec::new(), follows: false, side, way, along, fired })
}

/// What the numbers of rows that were taken along come behind.
const BEHIND: i64 = 1 << 40;

/// The rows of a step to put back: the inverse of each change that made a difference.
fn inverse(
    reader: &RefCell<Box<dyn SnapshotReader + '_>>,
    back: &Back,
) -> Result<Option<RowChange>, SinkError> {
    let of = back.batch.of;
    loop {
        match reader.borrow_mut().next().map_err(Box::new)? {
            None => return Ok(None),
            Some(mut change) if is_of(change.place, of) => {
                if !change.differs() {
                    continue;
                }
                let taken = change.place.role == Role::Cascade;
                if taken {
                    // Rows of a step and those that it took along of the same table are put back together.
                    change.ordinal += BEHIND;
                }
                let mut change = change.inverse();
                if taken && back.follows {
                    // The key that took it along has taken it back by now.
                    change.key = change.key_after.take().unwrap_or(change.key);
                }
                return Ok(Some(change));
            }
            Some(_) => {}
        }
    }
}

/// Whether a row of the run stands among those that are put back together: a step's own with those of the same table that it
/// took along.
fn is_of(place: Place, of: Place) -> bool {
    (place.step, place.table) == (of.step, of.table)
        && (place.role == Role::Trigger) == (of.role == Role::Trigger)
}

/// What an undo does, in words, in place of a statement.
fn sentence(back: &Back, run: &str) -> String {
    let table = &back.batch.target.table;
    match back.batch.kind {
        StepKind::Update => format!("put the rows of {table} back as they were before run {run}"),
        StepKind::Insert => format!("bring back the rows of {table} that run {run} took away"),
        StepKind::Delete => format!("take away the rows of {table} that run {run} brought in"),
    }
}

/// The batches as the phases know them.
fn facts(undoing: &Undoing, options: &UndoOptions) -> Vec<StepFacts> {
    let run = undoing.run();
    let one = |back: &Back| StepFacts {
        keep: None,
        archive: None,
        keep_copy: None,
        doubt: false,
        target: back.batch.target.clone(),
        record: StepRecord {
            kind: back.batch.kind,
            statement: sentence(back, run),
            statement_hash: hash::texts(["undo", run]),
            table: 0,
            foreseen: back.foreseen.clone(),
        },
        along: back.along.clone(),
        triggered: Vec::new(),
        allowed: options.allow.clone(),
        terms: undoing.terms(back),
    };
    let mut all: Vec<StepFacts> = undoing.batches.iter().map(one).collect();
    let whole = |back: &Back| {
        let target = back.batch.target.clone();
        Triggered { shown: target.table.clone(), target: Ok(target), large: false }
    };
    if let Some(last) = all.last_mut() {
        last.triggered = undoing.triggered.iter().map(whole).chain(undoing.unheld.iter().cloned()).collect();
    }
    all
}

/// Why an undo ends that meets other rows than were shown.
const MOVED: &str = "rows have changed since the preview of this undo";

fn put_back(
    context: &Context<'_>,
    book: &dyn Logbook,
    undoing: &Undoing,
    options: &UndoOptions,
    only: &Only,
    (preview, seen, session): (&UndoPreview, compared::Seen, Option<Box<dyn Session>>),
    talk: &mut dyn Talk,
) -> Result<RunOutcome, Failure> {
    let facts = facts(undoing, options);
    let text: String = facts.iter().map(|facts| format!("-- {}\n", facts.record.statement)).collect();
    let receipts = facts.iter().map(|facts| step_receipt(facts, options)).collect::<Vec<_>>();
    let prepared = Prepared::new(context, book, facts, &text, &mut |run| {
        undo_receipt(context, undoing, options, preview, (run, &receipts))
    })?;
    let mut session = match context.to_write(session) {
        Ok((session, _)) => session,
        Err(error) => return Ok(prepared.failed(error)),
    };
    let hold = options.hold && options.agreement == Agreement::Ask;
    let rows = RowsOf::new(book, undoing);
    let run = || -> Result<RunOutcome, Ended> {
        let mut begun = prepared.begin(&mut *session)?;
        let mut again = compared::Seen::default();
        begun =
            hold_triggered(begun, (context, &rows), undoing, options, &mut |(_, found)| again.push(found))?;
        let whole = again.len();
        if seen.get(..whole) != again.get(..whole) {
            return Err(begun.end(End::Changed(MOVED.to_owned())));
        }
        for (at, back) in undoing.batches.iter().enumerate() {
            let reader = match rows.open() {
                Ok(reader) => RefCell::new(reader),
                Err(error) => return Err(begun.end(End::Failed(error.into()))),
            };
            let mut judge = Judge::new(options, only, back);
            let marked =
                begun.hold_rows(&back.batch, &mut || inverse(&reader, back), &mut |change, now| {
                    Ok(judge.decide(change, now))
                })?;
            if judge.conflicts.count > 0 {
                return Err(marked.end(End::Conflicts(judge.conflicts.clone())));
            }
            again.push(judge.seen);
            if seen.get(whole + at) != again.last() {
                return Err(marked.end(End::Changed(MOVED.to_owned())));
            }
            begun = marked.put(&back.batch)?.prove_sent(&mut Source { rows: &rows, back })?;
        }
        if undoing.restores {
            begun = begun.restore_triggered()?;
        }
        begun = begun.still_put(undoing.left_to_triggers())?;
        let proven = begun.finish()?;
        let proven = if hold { proven.ask(talk)? } else { proven };
        Ok(proven.commit())
    };
    Ok(run().unwrap_or_else(|ended| *ended))
}

fn step_receipt(facts: &StepFacts, options: &UndoOptions) -> StepReceipt {
    StepReceipt {
        kind: facts.record.kind,
        table: facts.target.table.clone(),
        schema: Some(facts.target.schema.clone()),
        statement: facts.record.statement.clone(),
        statement_hash: facts.record.statement_hash.clone(),
        definition: facts.target.definition.clone(),
        terms: Terms { rows: options.rows, ..Terms::default() },
        matched: 0,
        changed: 0,
        engine_count: None,
        also_written: Vec::new(),
        along: Vec::new(),
        untouched: None,
        about: false,
        came: None,
        checks: Vec::new(),
    }
}

/// What has to be allowed where an undo is itself undone: it sets off what the run did.
fn allow_again(of: &Receipt) -> Vec<Code> {
    let mut allow = of.back.clone().unwrap_or_default().allow;
    let unheld = of.triggered.iter().flatten().any(|table| table.unheld.is_some());
    let undeclared = of.allowed.contains(&Code::UndeclaredWrite) || unheld;
    if undeclared && !allow.contains(&Code::UndeclaredWrite) {
        allow.push(Code::UndeclaredWrite);
    }
    allow
}

fn undo_receipt(
    context: &Context<'_>,
    undoing: &Undoing,
    options: &UndoOptions,
    preview: &UndoPreview,
    (run, steps): (&str, &Vec<StepReceipt>),
) -> Receipt {
    let of = &undoing.entry.receipt;
    let started = context.ambient.now().rfc3339;
    let partial = |b: &crate::preview::BatchPreview| b.not_asked > 0 || b.left_alone.is_some();
    Receipt {
        title: of.title.clone(),
        user: context.user.clone(),
        partial: preview.batches.iter().any(partial),
        undo_of: Some(of.run.clone()),
        agreed: if options.agreement == Agreement::Ask { "answered" } else { "run named" }.to_owned(),
        allowed: options.allow.clone(),
        findings: preview.batches.iter().flat_map(|batch| batch.block.findings.clone()).collect(),
        rehearsed: preview.rehearsed,
        back: Some(WayBack { allow: allow_again(of), ..WayBack::default() }),
        ..Receipt::prepared(run, RunKind::Undo, &preview.database, started, steps.clone())
    }
}
