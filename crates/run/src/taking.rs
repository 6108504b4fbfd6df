//! How the first mark is taken: by looking, or, where steps rest on one another, by a rehearsal.

use marktwice_core::Finding;
use marktwice_core::change::Change;
use marktwice_core::check::CheckFound;
use marktwice_core::finding::{Code, Level};
use marktwice_core::hash::fresh_seed;
use marktwice_core::mark::{Label, MarkSummary, StepKind};
use marktwice_core::notice::Notices;
use marktwice_core::receipt::{Receipt, RunState};
use marktwice_core::side::ELSEWHERE;
use marktwice_core::study::Study;
use marktwice_core::table::{Extent, Target};
use marktwice_core::way_back::WayBack;
use marktwice_core::witness::{Left, of_all};
use marktwice_core::words;
use marktwice_port::{EngineError, Intent, Logbook, Mark, Matched, Phase, Plan, Session, SideWrite};

use crate::checked::{asked, foreseen, open_ones};
use crate::collect::{Collector, unmet, unwrap_sink};
use crate::context::{Context, Talk};
use crate::given::only_rehearsed;
use crate::history::standing;
use crate::mark::since_then;
use crate::noticed::{
    Declared, against_terms, broken, closer, explained, from_rows, no_way_back, side_findings, still_open,
};
use crate::outcome::{Failure, RunOutcome};
use crate::planned::{Planned, crosses, hidden_columns, mark_header, plan_all};
use crate::preview::{Block, Preview, Show, Since, StepPreview};
use crate::rehearsal::{Rehearsed, rehearse};
use crate::settle::{Tidied, tidy_up};
use crate::sheets::spread;

/// What a mark says that took it, where a preview did.
pub(crate) const PREVIEW: &str = "preview";
/// The same where a rehearsal did.
pub(crate) const REHEARSAL: &str = "rehearsal";
/// The same where it was taken on the way to a question.
pub(crate) const APPLY: &str = "apply";

/// A preview with what an application needs to go on from it.
pub(crate) struct Taken {
    pub(crate) preview: Preview,
    pub(crate) steps: Vec<Planned>,
    pub(crate) totals: Vec<MarkSummary>,
    pub(crate) tidied: Tidied,
    pub(crate) book: Box<dyn Logbook>,
    /// The session that it was previewed in: set up as the change says, and with its sheets.
    pub(crate) session: Option<Box<dyn Session>>,
    /// The change, with tables that it declares named as the engine names them, and what its checks may show.
    pub(crate) change: Change,
    /// The mark that it is held to.
    pub(crate) held_to: Option<Box<dyn Mark>>,
    /// How the rehearsal ended, where it did not come to its end.
    pub(crate) ended: Option<RunOutcome>,
}

/// Previews a change and keeps its mark.
///
/// # Errors
/// When the database or the logbook fails, or a statement is refused.
pub fn preview(context: &Context<'_>, change: &Change, show: Show) -> Result<Preview, Failure> {
    take(context, change, show, (PREVIEW, None), Way::Look).map(|taken| taken.preview)
}

/// Previews a file again and compares it with its last preview, also where the statement is the same.
///
/// # Errors
/// As [`preview`], and when there is no earlier preview of the file.
pub fn preview_again(context: &Context<'_>, change: &Change, show: Show) -> Result<Preview, Failure> {
    let session = context.open(Intent::Read)?;
    let book = (context.book)(session.database())?;
    let earlier = change.origin.as_deref().map(|origin| book.last_of(origin)).transpose()?.flatten();
    drop(session);
    let Some(earlier) = earlier else {
        return Err(Failure::usage(
            "there is no earlier preview of this file to compare it with",
            "preview it, edit it, and compare; or name the other change too",
        ));
    };
    let preview = preview(context, change, show)?;
    if earlier.header().steps.len() != preview.steps.len() {
        return Err(Failure::usage(
            "the last preview of this file had another number of steps",
            "name the other change too",
        ));
    }
    Ok(Preview { before: Some(earlier.header().taken.clone()), ..preview })
}

/// What a rehearsal has shown.
#[derive(Debug)]
pub struct Rehearsal {
    /// The change, with what became of its rows.
    pub preview: Preview,
    /// How an application would have ended, where it would not have come to its commit.
    pub ended: Option<RunOutcome>,
}

/// Runs a change for real in one transaction that is always rolled back, and keeps its mark.
///
/// # Errors
/// When the database or the logbook fails before anything is begun, or a statement is refused.
pub fn rehearse_change(
    context: &Context<'_>,
    change: &Change,
    show: Show,
    talk: &mut dyn Talk,
) -> Result<Rehearsal, Failure> {
    let taken = take(context, change, show, (REHEARSAL, None), Way::Rehearse(talk))?;
    taken.tidied.settled()?;
    Ok(Rehearsal { preview: taken.preview, ended: taken.ended })
}

/// Tables that a change declares with their schemas are named as the engine names them: writes are told apart by that.
fn name_declared_tables(session: &mut dyn Session, change: &mut Change) -> Result<(), Failure> {
    let declared = change.steps.iter_mut().flat_map(|step| &mut step.terms.also_writes);
    for declared in declared.filter(|declared| declared.table.contains('.')) {
        if let Some(name) = session.shown_name(&declared.table)? {
            declared.table = name;
        }
    }
    Ok(())
}

/// The change with its checks, of which those are marked whose answers may show what is hidden.
fn with_hidden_checks(
    session: &mut dyn Session,
    change: &Change,
    steps: &[Planned],
) -> Result<Change, Failure> {
    let mut change = change.clone();
    let known = hidden_columns(steps.iter().map(|step| &step.plan));
    for check in &mut change.checks {
        check.hidden = session.discloses(&check.sql, &known)?;
    }
    Ok(change)
}

/// How the rows of a change are told.
pub(crate) enum Way<'t> {
    /// By looking.
    Look,
    /// By a rehearsal where steps rest on earlier ones; that is told before.
    IfItMust(&'t mut dyn Talk),
    /// By a rehearsal.
    Rehearse(&'t mut dyn Talk),
}

/// Previews a change, for whom it is taken and with the mark that it is to be held to.
pub(crate) fn take(
    context: &Context<'_>,
    change: &Change,
    show: Show,
    (by, held_to): (&str, Option<&str>),
    way: Way<'_>,
) -> Result<Taken, Failure> {
    let at_work = |phase| context.ambient.progress(phase, 0, None);
    at_work(Phase::Planning);
    let mut session = context.open(Intent::Read)?;
    let book = (context.book)(session.database())?;
    let hides = change.has_secret() || !context.hide.is_empty();
    let hash_key = if hides { Some(book.hash_key()?) } else { None };
    let held_to = held_to.map(|name| book.mark(Some(name))).transpose()?;
    let earlier = change.origin.as_deref().map(|origin| book.last_of(origin)).transpose()?.flatten();
    // Only hashes under one seed can be compared.
    let seed = match &held_to {
        Some(mark) => mark.header().seed,
        None => Some(earlier.as_ref().and_then(|mark| mark.header().seed).unwrap_or_else(fresh_seed)),
    };
    let mut change = Change { hash_key, seed, ..change.clone() };
    name_declared_tables(&mut *session, &mut change)?;
    let change = &change;
    let sheets = spread(context, &mut *session, change)?;
    let steps = plan_all(&mut *session, context.engine.language(), change)?;
    there_to_show(change, &steps)?;
    let change = &with_hidden_checks(&mut *session, change, &steps)?;
    let open_checks = open_ones(&mut *session, &steps, change)?;
    let mut notes = session.notes().to_vec();
    notes.extend(sheets);
    let tidied = tidy_up(&*book, context)?;
    notes.extend(tidied.notes.iter().cloned());
    let waits = steps.iter().any(|step| step.standing.must_wait());
    let stopped = steps.iter().any(|step| step.is_stopped(change));
    let said = match &way {
        Way::Rehearse(_) => before_any_rehearsal(context),
        Way::Look | Way::IfItMust(_) => before_a_rehearsal(&steps),
    };
    let talk = match way {
        Way::Look => None,
        Way::IfItMust(talk) => Some(talk).filter(|_| waits),
        Way::Rehearse(talk) => Some(talk),
    };
    let talk = talk.filter(|_| !stopped && tidied.unsettled.is_none());
    let open: Vec<usize> = match talk {
        Some(_) => Vec::new(),
        None => steps.iter().filter(|s| s.standing.must_wait()).map(|s| s.plan.step).collect(),
    };
    let stamp = context.ambient.now();
    let mut header = mark_header(&steps, session.database(), change, (&stamp.rfc3339, by), open.clone());
    header.key = book.key_name().filter(|_| header.keyed);
    let (name, mut draft) = book.draft_mark(header, &stamp.compact)?;
    let mut seen: Vec<Collector<'_>> =
        steps.iter().map(|step| Collector::new(context, &step.plan, show)).collect();
    let rehearsed = talk.is_some();
    let (mut ended, mut whole, mut triggered) = (None, true, Vec::new());
    let mut checks = Vec::new();
    if let Some(talk) = talk {
        talk.tell(&said);
        session.rest()?;
        match rehearse(context, change, &steps, &mut *draft, (&mut seen, show))? {
            Rehearsed::All(blocks, found) => (triggered, checks) = (blocks, found),
            Rehearsed::Stopped => whole = false,
            Rehearsed::Ended(outcome) => (ended, whole) = (Some(*outcome), false),
        }
    } else {
        at_work(Phase::Finding);
        let told: Vec<&Planned> = steps.iter().filter(|s| !open.contains(&s.plan.step)).collect();
        let plans: Vec<&Plan> = told.iter().map(|step| &step.plan).collect();
        let mut step_at_work = 0;
        let mut answers = Vec::new();
        let viewed = session.view(&plans, &mut |hold| {
            for plan in &plans {
                step_at_work = plan.step;
                let held = hold.hold(plan)?;
                if let Some(collector) = seen.get_mut(plan.step) {
                    // Where nobody looks on, the run itself tells.
                    // Where several source rows give one row different values, nobody knows which it would hold.
                    let known = held.many.as_ref().is_none_or(|many| many.differing == 0);
                    if !change.quick && held.matched > 0 && known {
                        collector.breaches = hold.breaches(plan)?;
                    }
                    for check in &change.terms(plan.step).each {
                        collector.checks.push(hold.each(plan.step, check)?);
                    }
                    collector.held = Some(held);
                }
            }
            answers.extend(asked(hold, change, &open_checks));
            for plan in &plans {
                let Some(collector) = seen.get_mut(plan.step) else { continue };
                hold.held(plan.step, &mut |row| collector.row(&mut *draft, row))?;
                if let Some(held) = collector.held.clone() {
                    collector.along(hold, plan, &held)?;
                }
            }
            Ok(())
        });
        if let Err(error) = viewed {
            return Err(match steps.get(step_at_work) {
                Some(step) => unwrap_sink(explained(error, &step.plan)),
                None => unwrap_sink(error),
            });
        }
        checks = foreseen(change, &open_checks, answers)?;
    }
    let totals: Vec<MarkSummary> = seen.iter().map(|collector| *collector.marker.summary()).collect();
    // A mark that does not cover what it says it covers is none.
    let whole_name = name.clone();
    let mark = if whole {
        draft.finish(&totals)?;
        Some(name)
    } else {
        None
    };
    let mut since: Vec<Option<Since>> = vec![None; steps.len()];
    if let (Some(earlier), true) = (earlier, whole) {
        let kept: &dyn Mark = &*earlier;
        for (at, step) in steps.iter().enumerate().filter(|(at, _)| !open.contains(at)) {
            if let Some(slot) = since.get_mut(at) {
                *slot = since_then(kept, &*book, (&whole_name, totals.get(at)), at, &step.plan)?;
            }
        }
    }
    let receipts = book.receipts()?;
    at_work(Phase::Closer);
    let mut previews = Vec::new();
    for (planned, mut collector) in steps.iter().zip(seen) {
        collector
            .breaches
            .found
            .iter_mut()
            .for_each(|breach| breach.hide(&planned.plan.target, context.hide));
        let mut step = assemble(planned, change, &collector, &receipts);
        if let Some(many) = &mut step.many {
            let target = &planned.plan.target;
            many.hide(target, planned.plan.reads_hidden);
        }
        step.since = since.get_mut(planned.plan.step).and_then(Option::take);
        let notices = collector.notices;
        step.block.rows = collector.rows;
        step.block.along = collector.along;
        step.block.hide();
        step.block.totals = collector
            .proven
            .map_or(collector.totals, |proven| proven.totals)
            .finish(|c| planned.plan.target.columns.get(c).map_or(String::new(), |c| c.name.clone()));
        if step.told {
            notice(planned, &notices, &mut step);
            // What the database holds now is not what the step will meet behind others.
            if !planned.standing.must_wait() {
                closer(
                    &mut *session,
                    &planned.plan,
                    change,
                    (&notices, &collector.breaches.found),
                    &mut step,
                );
            }
        }
        step.block.findings.sort_by_key(|f| std::cmp::Reverse(f.level));
        previews.push(step);
    }
    if let Some(table) = context.witness {
        match session.left(table, LEFT) {
            Ok(left) => run_elsewhere(&mut previews, &steps, &left, &receipts),
            Err(EngineError::Interrupted) => return Err(EngineError::Interrupted.into()),
            Err(error) => {
                let what = format!(
                    "the witness {table} cannot be read, so that nobody knows what others have done: {error}"
                );
                // A look goes on without it; nothing is applied.
                if by == APPLY {
                    return Err(EngineError::Other(what).into());
                }
                notes.push(what);
            }
        }
    }
    if rehearsed && !context.engine.survives_rollback().is_empty() {
        only_rehearsed(&mut previews);
    }
    let preview = Preview {
        database: session.database().clone(),
        notes,
        title: change.title.clone(),
        params: change.params.clone(),
        session: change.session.clone(),
        mark,
        rehearsed,
        before: None,
        triggered,
        checks,
        steps: previews,
    };
    Ok(Taken {
        preview,
        steps,
        totals,
        tidied,
        book,
        session: Some(session),
        change: change.clone(),
        held_to,
        ended,
    })
}

/// What is said before a rehearsal that was asked for.
fn before_any_rehearsal(context: &Context<'_>) -> String {
    let stays = context.engine.survives_rollback();
    let stays = if stays.is_empty() { String::new() } else { format!("; not taken back: {stays}") };
    format!(
        "all of it is now run in a transaction that is rolled back; its rows are locked until then{stays}"
    )
}

/// What is said before anything is written, though all of it is rolled back.
fn before_a_rehearsal(steps: &[Planned]) -> String {
    let waiting: Vec<String> = steps
        .iter()
        .filter(|step| step.standing.must_wait())
        .map(|step| (step.plan.step + 1).to_string())
        .collect();
    let n = waiting.len() as u64;
    let (which, rest) = (words::either(n, "step", "steps"), words::either(n, "rests", "rest"));
    format!(
        "{which} {} {rest} on earlier ones, so all of it is now rehearsed: run in a transaction that is rolled back; \
         its rows are locked until then",
        waiting.join(", ")
    )
}

/// What is known of a step's rows, as a preview tells it.
fn assemble(
    planned: &Planned,
    change: &Change,
    collector: &Collector<'_>,
    receipts: &[Receipt],
) -> StepPreview {
    let plan = &planned.plan;
    let told = collector.held.is_some();
    let nothing = Matched {
        matched: 0,
        total: Extent::default(),
        side: Vec::new(),
        along: Vec::new(),
        many: None,
        back: WayBack::default(),
        fires: false,
    };
    let held = collector.held.as_ref().unwrap_or(&nothing);
    let summary = collector.marker.summary();
    let terms = change.terms(plan.step);
    let mut step = StepPreview {
        block: Block {
            kind: plan.kind,
            target: plan.target.clone(),
            foreseen: plan.foreseen.clone(),
            findings: plan.findings.clone(),
            allowed: change.allowed(plan.step),
            matched: summary.matched,
            changes: summary.changes,
            rows: Vec::new(),
            totals: Vec::new(),
            side: held.side.clone(),
            along: Vec::new(),
            unmet: Vec::new(),
            checks: Vec::new(),
            meanings: Vec::new(),
            filter: plan.reads.clone(),
            operands: operands(plan),
            chosen: chosen(&change.shown, &plan.target),
        },
        name: terms.name.clone(),
        statement: plan.statement.clone(),
        twice: {
            let among = collector.breaches.found.iter().filter(|b| b.comes && b.among);
            among.map(|breach| breach.rows).max().unwrap_or_default()
        },
        sent: plan.sent.clone(),
        elsewhere: plan.elsewhere,
        pin: plan.pin.clone(),
        waits: planned.standing.waits.clone(),
        since: None,
        told,
        study: Study::default(),
        total: held.total,
        many: held.many.clone(),
        already_run: None,
        back: WayBack {
            allow: crosses(plan)
                .then_some(Code::UndeclaredWrite)
                .into_iter()
                .chain(held.back.allow.clone())
                .collect(),
            ..held.back.clone()
        },
        fires: held.fires,
        stays_null: (0, Vec::new()),
        archive: plan.archive.clone(),
    };
    if !told {
        let open = |check| CheckFound::open(check, "what rows the step meets".to_owned());
        step.block.checks = change.terms(plan.step).each.iter().map(open).collect();
        already_run(&mut step, plan, receipts);
        return step;
    }
    if plan.kind == StepKind::Update && collector.is_ambiguous() {
        // Which of the values is stored nobody can tell, so none is shown as a fact.
        for foreseen in &mut step.block.foreseen {
            foreseen.label = Label::Unknown;
            foreseen.why = Some("several rows of the join give different values".to_owned());
        }
    }
    let block = &mut step.block;
    if let Some(proven) = &collector.proven {
        block.changes = proven.changes;
        for foreseen in block.foreseen.iter_mut().filter(|f| f.label == Label::Unknown) {
            foreseen.label = Label::Rehearsed;
        }
        let all_declared = terms.declares_all(&block.side);
        let known = |write: &SideWrite| {
            (all_declared && write.table == ELSEWHERE)
                || block.side.iter().any(|side| side.table == write.table)
        };
        let more: Vec<SideWrite> = proven.measured.iter().filter(|write| !known(write)).cloned().collect();
        block.side.extend(more);
    }
    let changes = (!block.uncertain()).then_some(block.changes);
    block.unmet = unmet((terms.rows, terms.changes), block.matched, changes, step.total.rows);
    from_rows(&mut step);
    let several = change.steps.len() > 1;
    step.block.findings.extend(broken(&collector.breaches.found, &plan.target, several));
    step.block.checks.clone_from(&collector.checks);
    step.study.skipped = still_open(&collector.breaches.open);
    step.block.findings.extend(side_findings(&step.block.side, Declared::By(&terms)));
    step.block.findings.extend(against_terms(&step.block, &terms));
    if step.block.matched > 0 {
        step.block.findings.extend(no_way_back(&step.back));
    }
    already_run(&mut step, plan, receipts);
    step
}

/// The columns of a table among those that were asked for.
fn chosen(shown: &[String], target: &Target) -> Option<Vec<usize>> {
    (!shown.is_empty()).then(|| shown.iter().filter_map(|name| target.position(name)).collect())
}

/// Refuses a column to be shown that no step's table has.
fn there_to_show(change: &Change, steps: &[Planned]) -> Result<(), Failure> {
    for name in &change.shown {
        let Some(first) = steps.first().map(|step| &step.plan.target) else { continue };
        if steps.iter().all(|step| step.plan.target.position(name).is_none()) {
            let (message, hint) = first.no_column(name);
            return Err(Failure::usage(message, hint));
        }
    }
    Ok(())
}

/// Columns from which an UPDATE computes, where nothing else shows them: beside the result they let it be checked by eye.
fn operands(plan: &Plan) -> Vec<usize> {
    let target = &plan.target;
    let elsewhere = |at: &usize| {
        plan.kind != StepKind::Update
            || target.naming == Some(*at)
            || target.key.columns.contains(at)
            || plan.reads.contains(at)
            || plan.foreseen.iter().any(|f| f.column == *at)
    };
    plan.parts.related.iter().copied().filter(|at| !elsewhere(at)).collect()
}

/// What the rows alone have shown.
fn notice(planned: &Planned, notices: &Notices, step: &mut StepPreview) {
    let plan = &planned.plan;
    if step.many.as_ref().is_none_or(|many| many.differing == 0) {
        let said: Vec<Code> = step.block.findings.iter().map(|f| f.code).collect();
        let seen = notices.findings(&plan.target).into_iter();
        step.block.findings.extend(seen.filter(|f| f.code != Code::TooLong || !said.contains(&f.code)));
    } else if plan.kind == StepKind::Update {
        step.block.totals.clear();
    }
    step.stays_null = notices.stays_null(&plan.target);
}

/// Rows of a witness that are looked through.
const LEFT: u32 = 10_000;

/// Whether somebody else's logbook has a run of the same statements that stands, as the witness in the database tells.
fn run_elsewhere(steps: &mut [StepPreview], plans: &[Planned], left: &[Left], receipts: &[Receipt]) {
    let hashes: Vec<&str> = plans.iter().map(|step| step.plan.statement_hash.as_str()).collect();
    let hash = of_all(&hashes);
    let ours = |left: &Left| receipts.iter().any(|r| r.witness.as_ref().is_some_and(|own| own.id == left.id));
    let same =
        |one: &&Left| one.kind == "apply" && one.statement_hash == hash && one.stands(left) && !ours(one);
    let (Some(same), Some(first)) = (left.iter().find(same), steps.first_mut()) else { return };
    if first.already_run.is_some() || first.nothing_to_do() {
        return;
    }
    let who = same.who.as_ref().map_or(String::new(), |who| format!(" by {who}"));
    let message = format!(
        "the same was committed from another logbook{who} as {} on {}, says the witness",
        same.run,
        words::moment(&same.started)
    );
    first.block.findings.push(Finding::new(Code::AlreadyRun, message));
}

/// Whether the same statement stands committed.
fn already_run(step: &mut StepPreview, plan: &Plan, receipts: &[Receipt]) {
    let same = receipts.iter().find(|r| {
        r.state == RunState::Committed
            && standing(receipts, &r.run)
            && r.steps.iter().any(|s| s.statement_hash == plan.statement_hash)
    });
    let Some(same) = same else { return };
    let when = same.ended.clone().unwrap_or_else(|| same.started.clone());
    if step.nothing_to_do() {
        // It has been done; what was expected of it was met then. Another number of rows that match is another matter.
        let block = &mut step.block;
        block.unmet.retain(|unmet| unmet.what == "rows" && block.matched > 0);
        for finding in block.findings.iter_mut().filter(|f| f.code == Code::NothingMatched) {
            *finding = finding.clone().weighing(Level::Note).hint("nothing");
            finding.message =
                format!("no row of {} matches any more: run {} has done it", block.target.table, same.run);
        }
    } else {
        let message = format!("the same statement was committed as {} on {}", same.run, words::moment(&when));
        step.block.findings.push(Finding::new(Code::AlreadyRun, message));
    }
    step.already_run = Some((same.run.clone(), when));
}
