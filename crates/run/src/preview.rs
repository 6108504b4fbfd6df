//! The preview: which rows, with what contents, and what they would become. It takes the first mark.

use marktwice_core::many::Many;
use marktwice_core::mark::{After, Foreseen, Label, MarkSummary, Marker, StepKind};
use marktwice_core::notice::{Assigned, Notices};
use marktwice_core::receipt::{DatabaseId, RunState};
use marktwice_core::study::Study;
use marktwice_core::table::{Pin, Target};
use marktwice_core::totals::{ColumnTotals, Totals};
use marktwice_core::way_back::WayBack;
use marktwice_core::{Code, Expect, Finding, Value};
use marktwice_port::{EngineError, Held, Intent, LogError, Logbook, Phase, Plan, Session, SideWrite};

use crate::context::Context;
use crate::faults::Conflicts;
use crate::history::standing;
use crate::mark;
use crate::noticed::{closer, explained, from_rows, no_way_back, side_findings};
use crate::outcome::Failure;
use crate::settle::{Tidied, tidy_up};

/// A change as it was asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// The whole text.
    pub source: String,
    /// Its title.
    pub title: Option<String>,
    /// Its reason.
    pub reason: Option<String>,
    /// Expected matched rows.
    pub rows: Option<Expect>,
    /// Expected changed rows.
    pub changes: Option<Expect>,
    /// Findings that are let pass.
    pub allow: Vec<Code>,
    /// Whether a second run of the same statement is meant.
    pub again: bool,
    /// Whether the closer look (funnel, near misses, what would pin the rows) is left out.
    pub quick: bool,
}

impl Change {
    /// What is let pass, `rows = "all"` taken into account.
    pub(crate) fn allowed(&self) -> Vec<Code> {
        let mut allowed = self.allow.clone();
        if self.rows == Some(Expect::All) {
            allowed.extend([Code::NoFilter, Code::AlwaysTrue]);
        }
        if self.rows.is_some_and(Expect::allows_none) {
            allowed.push(Code::NothingMatched);
        }
        if self.again {
            allowed.push(Code::AlreadyRun);
        }
        allowed
    }
}

/// How many rows are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Show {
    /// So many.
    First(usize),
    /// All of them.
    All,
}

impl Show {
    pub(crate) fn wants(self, shown: usize) -> bool {
        match self {
            Show::First(most) => shown < most,
            Show::All => true,
        }
    }
}

/// One row to show.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShownRow {
    /// Its key.
    pub key: Vec<Value>,
    /// What it holds; empty for a row that comes in.
    pub before: Vec<Value>,
    /// What it would become; `None` when it would go.
    pub after: Option<Vec<Value>>,
}

impl ShownRow {
    /// Whether anything is foreseen to change.
    pub fn changes(&self) -> bool {
        self.after.as_ref() != Some(&self.before)
    }
}

/// An expected count that is not met.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unmet {
    /// `rows` or `changes`.
    pub what: &'static str,
    /// What was expected.
    pub expected: Expect,
    /// What is.
    pub found: u64,
}

/// A preview.
#[derive(Debug, Clone)]
pub struct Preview {
    /// Which database.
    pub database: DatabaseId,
    /// What happened on the way that a person should know.
    pub notes: Vec<String>,
    /// The change's title.
    pub title: Option<String>,
    /// What the step does.
    pub kind: StepKind,
    /// Its target.
    pub target: Target,
    /// The statement.
    pub statement: String,
    /// What pins the rows; `None` for an undo, whose rows are pinned by the snapshot.
    pub pin: Option<Pin>,
    /// Columns that may change, and how their after-values are known.
    pub foreseen: Vec<Foreseen>,
    /// What a closer look has found.
    pub study: Study,
    /// Columns that the filter names.
    pub filter: Vec<usize>,
    /// Everything that was noticed.
    pub findings: Vec<Finding>,
    /// What was let pass.
    pub allowed: Vec<Code>,
    /// Matched rows.
    pub matched: u64,
    /// Rows that would change, as far as it is known.
    pub changes: u64,
    /// Rows of the whole target.
    pub total: u64,
    /// The first rows.
    pub rows: Vec<ShownRow>,
    /// Totals of numeric columns that change.
    pub totals: Vec<ColumnTotals>,
    /// Writes outside the matched rows.
    pub side: Vec<SideWrite>,
    /// Rows that several rows of a join match.
    pub many: Option<Many>,
    /// Expected counts that are not met.
    pub unmet: Vec<Unmet>,
    /// A condition that leaves out rows which already hold the values.
    pub leave_out: Option<String>,
    /// The run of the same statement that stands committed, with its time.
    pub already_run: Option<(String, String)>,
    /// The name of the mark that was taken.
    pub mark: Option<String>,
    /// The run that is to be taken back, when this is the preview of an undo.
    pub undo_of: Option<String>,
    /// Rows that cannot be put back.
    pub conflicts: Option<Conflicts>,
    /// Rows that an undo leaves alone, as it was told to.
    pub left_alone: Option<Conflicts>,
    /// Rows that are as they were before the run already.
    pub already_back: u64,
    /// Rows of the run that an undo was not asked for.
    pub not_asked: u64,
    /// Whether and how an undo will succeed.
    pub back: WayBack,
    /// Whether triggers are set off, also where no row would change.
    pub fires: bool,
    /// Rows that stay NULL because an operand is NULL, and the columns that are.
    pub stays_null: (u64, Vec<String>),
}

impl Preview {
    /// Whether some after-values are not known before the run.
    pub fn uncertain(&self) -> bool {
        self.foreseen.iter().any(|f| f.label == Label::Unknown)
    }

    /// The findings that stop it.
    pub fn stops(&self) -> Vec<Code> {
        let mut codes: Vec<Code> =
            self.findings.iter().filter(|f| f.stops(&self.allowed)).map(|f| f.code).collect();
        codes.dedup();
        codes
    }

    /// Whether nothing would be done.
    pub fn nothing_to_do(&self) -> bool {
        // What a trigger does, or a right that is missing, is met all the same.
        let silent = !self.fires && !self.findings.iter().any(|f| f.code == Code::MissingPrivilege);
        silent && (self.matched == 0 || (self.changes == 0 && !self.uncertain()))
    }
}

/// A preview with what an application needs to go on from it.
pub(crate) struct Taken {
    pub(crate) preview: Preview,
    pub(crate) plan: Plan,
    pub(crate) summary: MarkSummary,
    pub(crate) tidied: Tidied,
    pub(crate) book: Box<dyn Logbook>,
}

/// Previews a change and keeps its mark.
///
/// # Errors
/// When the database or the logbook fails, or the statement is refused.
pub fn preview(context: &Context<'_>, change: &Change, show: Show) -> Result<Preview, Failure> {
    take(context, change, show, PREVIEW).map(|taken| taken.preview)
}

/// What a mark says that took it, where a preview did.
pub(crate) const PREVIEW: &str = "preview";
/// The same where it was taken on the way to a question.
pub(crate) const APPLY: &str = "apply";

pub(crate) fn take(context: &Context<'_>, change: &Change, show: Show, by: &str) -> Result<Taken, Failure> {
    let mut session = context.open(Intent::Read)?;
    let plan = session.plan(&change.source, &change.allowed())?;
    let book = (context.book)(session.database())?;
    let mut notes = session.notes().to_vec();
    let tidied = tidy_up(&*book, context)?;
    notes.extend(tidied.notes.iter().cloned());
    let stamp = context.ambient.now();
    let mut header = mark::header(&plan, session.database(), &change.source, &stamp.rfc3339);
    header.by = Some(by.to_owned());
    let (name, mut draft) = book.draft_mark(header, &stamp.compact)?;
    let mut marker = Marker::new(plan.parts.clone());
    let mut rows: Vec<ShownRow> = Vec::new();
    let assigned = plan.foreseen.iter().filter(|f| f.label != Label::Unknown).map(|f| f.column);
    let mut totals = Totals::new(assigned);
    let mut notices = Notices::new(&plan.target, foreseeable(&plan));
    let stop = context.ambient.stopper();
    let held = session.view(&plan, &mut |row| {
        draft.row(&marker.take(row))?;
        notices.row(row);
        if let After::Row(after) = &row.after {
            totals.add(&row.before, after);
        }
        if show.wants(rows.len()) {
            let after = match &row.after {
                After::Row(after) => Some(after.clone()),
                After::Gone => None,
            };
            rows.push(ShownRow { key: row.key.clone(), before: row.before.clone(), after });
        }
        let done = marker.summary().matched;
        if done.is_multiple_of(4096) {
            context.ambient.progress(Phase::Reading, done, None);
            if stop() {
                return Err(Box::new(Stopped));
            }
        }
        Ok(())
    });
    let held = held.map_err(|error| unwrap_sink(explained(error, &plan)))?;
    draft.finish(marker.summary())?;
    let summary = *marker.summary();
    let column = |c: usize| plan.target.columns.get(c).map_or(String::new(), |c| c.name.clone());
    let totals = totals.finish(column);
    let mut preview = assemble(
        &*session,
        &plan,
        change,
        &held,
        &summary,
        Shown { rows, totals, notes, mark: name },
        &*book,
    )?;
    if preview.many.as_ref().is_none_or(|many| many.differing == 0) {
        let said: Vec<Code> = preview.findings.iter().map(|f| f.code).collect();
        let seen = notices.findings(&plan.target).into_iter();
        preview.findings.extend(seen.filter(|f| f.code != Code::TooLong || !said.contains(&f.code)));
    }
    preview.stays_null = notices.stays_null(&plan.target);
    closer(&mut *session, &plan, change, &notices, &mut preview);
    preview.findings.sort_by_key(|f| std::cmp::Reverse(f.level));
    Ok(Taken { preview, plan, summary, tidied, book })
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

struct Shown {
    rows: Vec<ShownRow>,
    totals: Vec<ColumnTotals>,
    notes: Vec<String>,
    mark: String,
}

fn assemble(
    session: &dyn Session,
    plan: &Plan,
    change: &Change,
    held: &Held,
    summary: &MarkSummary,
    shown: Shown,
    book: &dyn Logbook,
) -> Result<Preview, LogError> {
    let mut preview = Preview {
        database: session.database().clone(),
        notes: shown.notes,
        title: change.title.clone(),
        kind: plan.kind,
        target: plan.target.clone(),
        statement: plan.statement.clone(),
        pin: Some(plan.pin.clone()),
        foreseen: plan.foreseen.clone(),
        study: Study::default(),
        filter: plan.reads.clone(),
        findings: plan.findings.clone(),
        allowed: change.allowed(),
        matched: summary.matched,
        changes: summary.changes,
        total: held.total,
        rows: shown.rows,
        totals: shown.totals,
        side: held.side.clone(),
        many: held.many.clone(),
        unmet: Vec::new(),
        leave_out: plan.leave_out.clone(),
        already_run: None,
        mark: Some(shown.mark),
        undo_of: None,
        conflicts: None,
        left_alone: None,
        already_back: 0,
        not_asked: 0,
        back: held.back.clone(),
        fires: held.fires,
        stays_null: (0, Vec::new()),
    };
    if plan.kind == StepKind::Update && preview.many.as_ref().is_some_and(|many| many.differing > 0) {
        // Which of the values is stored nobody can tell, so none is shown as a fact.
        for foreseen in &mut preview.foreseen {
            foreseen.label = Label::Unknown;
            foreseen.why = Some("several rows of the join give different values".to_owned());
        }
        preview.totals.clear();
    }
    preview.unmet =
        unmet(change, preview.matched, (!preview.uncertain()).then_some(preview.changes), preview.total);
    from_rows(&mut preview);
    preview.findings.extend(side_findings(&preview.side));
    if preview.matched > 0 {
        preview.findings.extend(no_way_back(&preview.back));
    }
    let receipts = book.receipts()?;
    let same = receipts.iter().find(|r| {
        r.state == RunState::Committed
            && standing(&receipts, &r.run)
            && r.steps.iter().any(|s| s.statement_hash == plan.statement_hash)
    });
    if let Some(same) = same {
        let when = same.ended.clone().unwrap_or_else(|| same.started.clone());
        if !preview.nothing_to_do() || preview.matched == 0 {
            let message = format!("the same statement was committed as {} on {when}", same.run);
            preview.findings.push(Finding::new(Code::AlreadyRun, message));
        }
        preview.already_run = Some((same.run.clone(), when));
    }
    Ok(preview)
}

/// Expected counts that are not met; `changes` is `None` while it is not known.
pub(crate) fn unmet(change: &Change, matched: u64, changes: Option<u64>, total: u64) -> Vec<Unmet> {
    let mut all = Vec::new();
    if let Some(expected) = change.rows.filter(|e| !e.met(matched, total)) {
        all.push(Unmet { what: "rows", expected, found: matched });
    }
    if let (Some(expected), Some(found)) = (change.changes, changes)
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
    assigned.iter_mut().filter(|a| unknown(a.column)).for_each(|a| a.operands.clear());
    assigned
}
