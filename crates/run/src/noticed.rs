//! What rows, counts and the closer look show of a step, as findings.

use marktwice_core::breach::{Breach, Rule, breakers};
use marktwice_core::change::{AlreadySo, Change, Terms};
use marktwice_core::finding::Level;
use marktwice_core::many::Many;
use marktwice_core::mark::StepKind;
use marktwice_core::notice::Notices;
use marktwice_core::side::ELSEWHERE;
use marktwice_core::study::{LOOKED_UP, Scope, Study, Wish};
use marktwice_core::table::Target;
use marktwice_core::triggered::is_fired;
use marktwice_core::way_back::WayBack;
use marktwice_core::words;
use marktwice_core::{Code, Finding, Value};
use marktwice_port::{Broken, Constraint, EngineError, Plan, Session, SideHow, SideWrite};

use crate::broken::looked_at;
use crate::preview::{Block, StepPreview};

/// Keys of matched rows that are named in a filter to paste.
const FEW: usize = 10;

/// Looks closer at the step. Nothing depends on it, so that a failure only leaves it out.
pub(crate) fn closer(
    session: &mut dyn Session,
    plan: &Plan,
    change: &Change,
    (notices, breaches): (&Notices, &[Breach]),
    step: &mut StepPreview,
) {
    // What is near a secret, or pins a row by it, is not to be read either.
    let statement = plan.statement.to_lowercase();
    let secret = change.has_secret() || plan.reads_hidden || !plan.target.hidden.is_empty();
    let veiled = plan.target.hides_key();
    let block = &mut step.block;
    let unmet = block.unmet.iter().any(|u| u.what == "rows");
    let few = !veiled && block.matched <= FEW as u64 && block.rows.len() as u64 == block.matched;
    // Where nothing is found by a subquery, it is looked whether the engine means that.
    let quick = change.quick && (block.matched > 0 || !statement.contains("select"));
    let wish = Wish {
        scope: if quick || secret { Scope::Brief } else { Scope::Whole },
        matched: block.matched,
        total: step.total.rows,
        expected: change.terms(plan.step).rows.filter(|_| unmet),
        leave_out: plan.leave_out.clone().filter(|_| unmet).and_then(|condition| {
            let fits = change.terms(plan.step).rows?.met(block.changes, step.total.rows);
            (fits && block.changes < block.matched).then_some((condition, block.changes))
        }),
        broken: breakers(breaches).filter(|_| !veiled).and_then(|keys| {
            let left = block.matched.checked_sub(keys.len() as u64).filter(|left| *left > 0)?;
            Some((keys, left))
        }),
        example: block.rows.first().filter(|_| !secret).map(|r| r.image.row().to_vec()).unwrap_or_default(),
        keys: if few { block.rows.iter().map(|r| r.key.clone()).collect() } else { Vec::new() },
        references: if change.quick { Vec::new() } else { references(block) },
        known: if secret { Vec::new() } else { notices.with_new_texts() },
        numbered: change.sheets.iter().filter(|s| s.numbers_lines()).map(|s| s.name.clone()).collect(),
    };
    match session.study(plan, &wish) {
        Ok(mut study) => {
            block.findings.extend(study.findings.iter().cloned());
            // A few rows are no custom yet.
            if step.total.rows >= CUSTOM {
                block.findings.extend(notices.unlike(&plan.target, &study.known));
            }
            block.meanings = std::mem::take(&mut study.meanings);
            // A sum of numbers that stand for rows says nothing.
            let refers = |name: &str| {
                let at = plan.target.position(name);
                block.meanings.iter().any(|(column, ..)| Some(*column) == at)
            };
            block.totals.retain(|t| !refers(&t.column));
            study.skipped =
                step.study.skipped.take().into_iter().chain(study.skipped).reduce(|a, b| format!("{a}; {b}"));
            let allow = change.allowed(plan.step);
            study.unbroken =
                study.unbroken.take().filter(|offer| is_unbroken(session, &offer.statement, &allow));
            block.findings.extend(two_answers(session, plan, block.matched, &study));
            step.study = study;
        }
        Err(error) => step.study.skipped = Some(error.to_string()),
    }
}

/// Whether a statement that leaves out the rows which would break a constraint breaks none: without them others may, where rows
/// take values, parents or places from each other.
fn is_unbroken(session: &mut dyn Session, statement: &str, allow: &[Code]) -> bool {
    let Ok(plan) = session.plan(statement, allow, &[]) else { return false };
    looked_at(session, &plan).is_some_and(|breaches| breaches.found.is_empty())
}

/// Whether the engine finds no row by a filter and finds some by its conditions one after the other: its planner has met a fault of
/// its own. Where rows are limited, or joined, the numbers may well differ.
fn two_answers(session: &mut dyn Session, plan: &Plan, matched: u64, study: &Study) -> Option<Finding> {
    let last = study.funnel.last().filter(|last| last.rows > 0 && last.alone.is_some())?;
    if matched > 0 || plan.statement.to_lowercase().contains("limit") {
        return None;
    }
    // Asked once more: a row may have come in meanwhile.
    let again = session.matched_rows(plan, Some(0), &mut |_| Ok(())).ok()?;
    let message = format!(
        "no row matches the filter as it stands, and {} its conditions one after the other",
        words::either(last.rows, "1 row meets", &format!("{} meet", words::rows(last.rows)))
    );
    (again == 0).then(|| Finding::new(Code::TwoAnswers, message))
}

/// Values of shown rows, by column, that may refer to other tables: as many as are looked up, however many rows are shown.
fn references(block: &Block) -> Vec<(usize, Vec<Value>)> {
    let mut all: Vec<(usize, Vec<Value>)> = Vec::new();
    for at in (0..block.target.columns.len()).filter(|at| !block.target.hidden.contains(at)) {
        let images = block.rows.iter().flat_map(|r| [r.image.before(), r.image.after()]).flatten();
        let mut values: Vec<Value> = Vec::new();
        for value in images.filter_map(|image| image.get(at)) {
            if values.len() == LOOKED_UP {
                break;
            }
            if matches!(value, Value::Int(_) | Value::Text(_)) && !values.contains(value) {
                values.push(value.clone());
            }
        }
        if !values.is_empty() {
            all.push((at, values));
        }
    }
    all
}

/// How many rows a table must have for the form of its values to mean something.
const CUSTOM: u64 = 10;

/// An engine's error in the words of what was noticed about the statement, where that is its reason.
pub(crate) fn explained(error: EngineError, plan: &Plan) -> EngineError {
    let said = match &error {
        EngineError::Other(said) => said,
        // The engine has refused to hold what the row would become, as it would refuse the row.
        EngineError::Constraint(broken) if broken.kind == Constraint::NotNull => {
            let columns = broken.columns.join(", ");
            let message =
                format!("{columns} would be NULL, which it refuses; the engine says: {}", broken.message);
            return EngineError::Refused(Box::new(Finding::new(Code::NullRefused, message)));
        }
        EngineError::Constraint(broken) => &broken.message,
        _ => return error,
    };
    let reasons = [Code::AndForComma, Code::OrForConcat, Code::TooLong, Code::TypeMix];
    if let Some(finding) = plan.findings.iter().find(|f| reasons.contains(&f.code)) {
        let message = format!("{}; the engine says: {said}", finding.message);
        return EngineError::Refused(Box::new(Finding { message, ..finding.clone() }));
    }
    match error {
        EngineError::Constraint(broken) => refused_beforehand(*broken, plan),
        other => other,
    }
}

/// What the engine does not even hold, it would not take from the statement.
fn refused_beforehand(broken: Broken, plan: &Plan) -> EngineError {
    let code = match broken.kind {
        Constraint::Type => Code::ValueRefused,
        Constraint::OneValue => Code::ManyValues,
        Constraint::Check => Code::CheckRefused,
        Constraint::Unique | Constraint::NotNull | Constraint::ForeignKey | Constraint::Trigger => {
            return EngineError::Constraint(Box::new(broken));
        }
    };
    let column = broken.columns.iter().find_map(|name| plan.target.position(name));
    let mut places = plan.assigned.iter().filter(|a| column == Some(a.column)).map(|a| a.place.clone());
    let mut finding = Finding::new(code, broken.message).hint(code.remedy());
    finding.place = places.next();
    EngineError::Refused(Box::new(finding))
}

/// Constraints that a step would break, as findings. In a change of several steps another one may mend it.
pub(crate) fn broken(breaches: &[Breach], target: &Target, several: bool) -> Vec<Finding> {
    let one = |breach: &Breach| {
        // What rows that come in together hold, no other step makes another thing of.
        let alone = breach.comes && breach.among;
        let later = (several && !alone).then(|| "another step may mend it".to_owned());
        let unless = breach.unless.clone().or(later);
        let why = unless.as_ref().map_or(String::new(), |why| format!("; {why}"));
        let finding = Finding::new(breach.code(), format!("{}{why}", breach.sentence(&target.table)));
        if breach.rule == Rule::Twins {
            return finding.weighing(Level::Warn).hint("Make sure that they are not brought in twice.");
        }
        if unless.is_some() { finding.weighing(Level::Warn) } else { finding }
    };
    breaches.iter().map(one).collect()
}

/// What was not looked at for lack of time.
pub(crate) fn still_open(open: &[String]) -> Option<String> {
    (!open.is_empty()).then(|| format!("{}: it takes too long", open.join(", ")))
}

/// Findings that only the rows tell.
pub(crate) fn from_rows(step: &mut StepPreview) {
    let (total, block) = (step.total.rows, &mut step.block);
    let table = &block.target.table;
    if block.kind == StepKind::Insert {
        if block.matched == 0 {
            let message = format!("no row would come into {table}");
            block.findings.push(
                Finding::new(Code::NothingMatched, message)
                    .hint("look at what the query gives by itself; rows = \"0+\" says that none will do"),
            );
        }
        return;
    }
    if block.matched == 0 && total == 0 {
        // Nobody's rows are missed, and there are none to be written by mistake.
        for finding in
            block.findings.iter_mut().filter(|f| [Code::NoFilter, Code::AlwaysTrue].contains(&f.code))
        {
            finding.level = Level::Note;
        }
        let finding = Finding::new(Code::NothingMatched, format!("{table} holds no rows"));
        block
            .findings
            .push(finding.weighing(Level::Note).hint("look whether this is the database that is meant"));
        return;
    }
    if block.matched == 0 {
        let message = format!("no row of {table} matches the filter");
        block.findings.push(Finding::new(Code::NothingMatched, message));
        return;
    }
    let many = step.many.as_ref().map(|many| many_sources(block.kind, &block.target, many));
    block.findings.extend(many);
    let whole = [Code::NoFilter, Code::AlwaysTrue];
    let said = block.findings.iter().any(|f| whole.contains(&f.code));
    if block.matched == total && total > 1 && !said && !block.allowed.contains(&Code::NoFilter) {
        let message = format!("all {total} rows of {table} match the filter");
        block.findings.push(Finding::new(Code::EveryRow, message));
    } else if block.matched * 2 > total && total >= 10 && block.matched < total {
        let message = format!("{} of {total} rows of {table} match the filter", block.matched);
        block.findings.push(Finding::new(Code::OverHalf, message));
    }
}

/// A finding about rows that a join matches more than once.
fn many_sources(kind: StepKind, target: &Target, many: &Many) -> Finding {
    let rows = words::rows;
    let is = words::either(many.rows, "is", "are");
    let matched = format!("{} of {} {is} matched by several rows of the join", rows(many.rows), target.table);
    if kind == StepKind::Delete {
        let message = format!("{matched}; each is deleted once");
        return Finding::new(Code::ManySources, message).weighing(Level::Note);
    }
    if many.differing == 0 {
        let message = format!("{matched}; they all give the same values");
        return Finding::new(Code::ManySources, message).weighing(Level::Note);
    }
    let some =
        if many.differing == many.rows { String::new() } else { format!(", {} of them", many.differing) };
    Finding::new(Code::ManySources, format!("{matched}{some} with different values"))
}

/// By what writes outside the matched rows are judged.
#[derive(Clone, Copy)]
pub(crate) enum Declared<'a> {
    /// By what a change declares.
    By(&'a Terms),
    /// An undo declares nothing; it may put tables that triggers write back as a whole.
    Undo {
        /// Whether it does.
        restores: bool,
    },
}

/// A finding for each write outside the matched rows; one that was declared stops nothing.
pub(crate) fn side_findings(side: &[SideWrite], declared: Declared<'_>) -> Vec<Finding> {
    let one = |write: &SideWrite| {
        let finding = Finding::new(write.how.code(), side_text(write));
        let terms = match declared {
            Declared::By(terms) => terms,
            Declared::Undo { restores } if restores && write.held && is_fired(write) => {
                let by = side_text(&SideWrite { held: false, unheld: None, ..write.clone() });
                let by = by.split(';').next().unwrap_or_default();
                let message =
                    format!("{by}; that table goes back to what it was, whatever the trigger makes of it");
                return Finding { message, ..finding }.weighing(Level::Note).hint("nothing; it is put right");
            }
            Declared::Undo { .. } => {
                let code = write.how.code();
                return finding.hint(format!("Look at what is named; let it pass with --allow {code}."));
            }
        };
        if !terms.declares(write, side) {
            let other = terms.also_writes.iter().find(|d| d.names(&write.table)).and_then(|d| d.rows);
            let other = other.map_or(String::new(), |rows| format!("; {rows} rows of it were declared"));
            let table = &write.table;
            let message = format!("{}{other}", finding.message);
            let finding = Finding { message, ..finding };
            if table.is_empty() || table == ELSEWHERE || finding.code != Code::UndeclaredWrite {
                return finding;
            }
            return finding
                .hint(format!("Look at what is named; --also-writes {table} says that it is meant."));
        }
        let message = format!("{}; it is declared", finding.message);
        Finding { message, ..finding }.weighing(Level::Note).hint("nothing; look at what is named")
    };
    side.iter().map(one).collect()
}

/// What was said of the columns that may change, and of rows that hold the new values already.
pub(crate) fn against_terms(block: &Block, terms: &Terms) -> Vec<Finding> {
    let mut found = Vec::new();
    let name = |at: usize| block.target.columns.get(at).map_or("", |c| c.name.as_str());
    if let Some(columns) = &terms.columns {
        let may = |at: usize| columns.iter().any(|c| block.target.position(c) == Some(at));
        let generated = |at: usize| block.target.columns.get(at).is_some_and(|c| c.generated);
        let others = block.foreseen.iter().map(|f| f.column).filter(|at| !may(*at) && !generated(*at));
        let others: Vec<&str> = others.map(name).collect();
        if !others.is_empty() {
            let message =
                format!("{} may change, and only {} was said to", others.join(", "), columns.join(", "));
            found.push(Finding::new(Code::OtherColumns, message));
        }
        if let Some(wrong) = columns.iter().find(|c| block.target.position(c).is_none()) {
            let message = format!("columns says {wrong}, which {} does not have", block.target.table);
            found.push(Finding::new(Code::UnknownName, message));
        }
    }
    let already = block.matched - block.changes;
    let weight = match terms.already_so {
        Some(AlreadySo::Refuse) => Level::Stop,
        Some(AlreadySo::Warn) => Level::Warn,
        Some(AlreadySo::Allow) | None => return found,
    };
    if already > 0 && block.kind == StepKind::Update && !block.uncertain() {
        let (rows, hold) = (words::rows(already), words::either(already, "holds", "hold"));
        let finding = Finding::new(Code::AlreadySo, format!("{rows} already {hold} the new values"));
        found.push(finding.weighing(weight));
    }
    found
}

/// A finding for each thing that is known to stand in the way of an undo.
pub(crate) fn no_way_back(back: &WayBack) -> Vec<Finding> {
    back.obstacles.iter().map(|why| Finding::new(Code::NoWayBack, why.clone())).collect()
}

/// What becomes of what a trigger or a routine writes.
fn fate(write: &SideWrite) -> String {
    match (&write.unheld, write.held) {
        (_, true) => "its rows go into the snapshot, and an undo brings them back".to_owned(),
        (Some(why), _) => format!("that is not in the snapshot and an undo leaves it ({why})"),
        (None, _) => "that is not in the snapshot and an undo leaves it".to_owned(),
    }
}

/// One write outside the matched rows, in words.
pub fn side_text(write: &SideWrite) -> String {
    let rows = match write.rows {
        Some(1) => "1 row of ".to_owned(),
        Some(rows) => format!("{rows} rows of "),
        None => String::new(),
    };
    match &write.how {
        SideHow::Trigger(name) => format!("trigger {name} writes {rows}{}; {}", write.table, fate(write)),
        SideHow::Routine(name) => format!("function {name} writes {rows}{}; {}", write.table, fate(write)),
        SideHow::Unmeasured(what) => what.clone(),
        SideHow::Measured(what) => format!(
            "{} were {what} on the way, by a trigger or a foreign key's action; these are not in the snapshot and an undo leaves them",
            write.table
        ),
        SideHow::ForeignKey(action) if write.held => format!(
            "a foreign key's {action} writes {rows}{}; these are in the snapshot, and an undo brings them back",
            write.table
        ),
        SideHow::ForeignKey(action) => format!(
            "a foreign key's {action} writes {rows}{}; these are not in the snapshot and an undo does not bring them back",
            write.table
        ),
    }
}
