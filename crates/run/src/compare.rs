//! Two ways of writing a change, compared: do they match the same rows, and give the same values?

use std::cell::RefCell;

use marktwice_core::change::Change;
use marktwice_core::hash::{RowHash, ShortHash};
use marktwice_core::image::Image;
use marktwice_core::mark::{HeldRow, Label, MarkRow, StepKind};
use marktwice_core::moved::{How, find};
use marktwice_core::param::Param;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::secret::hide_image;
use marktwice_core::table::Target;
use marktwice_core::value::{Value, key_text};
use marktwice_port::{EngineError, Hold, Intent, Plan};

use crate::collect::unwrap_sink;
use crate::context::Context;
use crate::noticed::explained;
use crate::outcome::Failure;
use crate::planned::{Planned, plan_all};

/// How many differing rows of a step are named.
const NAMED: usize = 20;

/// What two changes do otherwise.
#[derive(Debug)]
pub struct Difference {
    /// The database.
    pub database: DatabaseId,
    /// What happened on opening that a person should know.
    pub notes: Vec<String>,
    /// Step by step.
    pub steps: Vec<StepDifference>,
}

/// What two steps do otherwise.
#[derive(Debug)]
pub struct StepDifference {
    /// What both do.
    pub kind: StepKind,
    /// The table that both write.
    pub target: Target,
    /// How many rows each matches.
    pub matched: [u64; 2],
    /// Rows that only one of them matches.
    pub only: [u64; 2],
    /// Rows that both match and give other values.
    pub otherwise: u64,
    /// The first of all those.
    pub rows: Vec<DifferentRow>,
    /// Columns that only the run can tell, with the reason: what becomes of them is not compared.
    pub left_out: Vec<(String, Option<String>)>,
    /// Why the rows cannot be compared, where one of the steps rests on an earlier one.
    pub waits: Option<String>,
    /// Whether it rests on earlier steps, and both are the same statement behind steps that do the same.
    pub same_statement: bool,
    /// Whether both are the same statement.
    pub same_text: bool,
}

/// A row that two steps do not treat alike: what it is and becomes in each, where that one matches it.
#[derive(Debug)]
pub struct DifferentRow {
    /// Its key.
    pub key: Vec<Value>,
    /// By the first and by the second.
    pub images: [Option<Image>; 2],
}

impl StepDifference {
    /// Whether both are known to do the same: what only the run can tell is the same where the statement is.
    pub fn same(&self) -> bool {
        let known = self.left_out.is_empty() || self.same_text;
        self.only == [0, 0] && self.otherwise == 0 && self.waits.is_none() && known
    }
}

impl Difference {
    /// Whether both do the same, as far as it is known before a run.
    pub fn same(&self) -> bool {
        self.steps.iter().all(StepDifference::same)
    }
}

/// Compares two changes in one consistent view. Writes nothing, and takes no mark.
///
/// # Errors
/// What went wrong, with the change that it is about: 0 or 1.
pub fn compare(context: &Context<'_>, changes: [&Change; 2]) -> Result<Difference, (usize, Failure)> {
    let of_both = |error: EngineError| (0, Failure::from(error));
    let mut session = context.open(Intent::Read).map_err(of_both)?;
    let language = context.engine.language();
    let [one, two] = changes;
    let other = |param: &&Param| two.params.iter().any(|p| p.name == param.name && p.value != param.value);
    if let Some(param) = one.params.iter().find(other) {
        return Err((1, unlike(&format!("they have other values for :{}", param.name))));
    }
    if one.session != two.session {
        return Err((1, unlike("they are run under other settings of the session")));
    }
    let mut both: Vec<Vec<Planned>> = Vec::new();
    for (which, change) in changes.into_iter().enumerate() {
        let steps = plan_all(&mut *session, language, change).map_err(|e| (which, Failure::from(e)))?;
        both.push(steps);
    }
    let [first, second] = both.as_mut_slice() else { return Err((0, unlike("there are not two changes"))) };
    if first.len() != second.len() {
        return Err((1, unlike("they have another number of steps")));
    }
    // Held rows of both are there at once, so that their steps are numbered through.
    for planned in second.iter_mut() {
        planned.plan.step += first.len();
    }
    for (at, (one, two)) in first.iter().zip(second.iter()).enumerate() {
        let table =
            |planned: &Planned| (planned.plan.target.schema.clone(), planned.plan.target.table.clone());
        if one.plan.kind != two.plan.kind || table(one) != table(two) {
            let what = |p: &Planned| format!("{} {}", p.plan.kind.verb(), p.plan.target.table);
            let (one, two) = (what(one), what(two));
            return Err((1, unlike(&format!("step {} is {one} in the one and {two} in the other", at + 1))));
        }
    }
    let told = |planned: &&Planned| !planned.standing.must_wait();
    let plans: Vec<&Plan> =
        first.iter().chain(second.iter()).filter(told).map(|planned| &planned.plan).collect();
    let pairs: Vec<(&Planned, &Planned)> = first.iter().zip(second.iter()).collect();
    let mut steps = Vec::new();
    let mut at_work = 0;
    let viewed = session.view(&plans, &mut |hold| {
        let mut matched = Vec::new();
        for plan in &plans {
            at_work = plan.step;
            matched.push((plan.step, hold.hold(plan)?.matched));
        }
        let count = |plan: &Plan| matched.iter().find(|(step, _)| *step == plan.step).map_or(0, |(_, n)| *n);
        for (one, two) in &pairs {
            let counts = [count(&one.plan), count(&two.plan)];
            let mut step = difference(hold, (one, two), counts)?;
            // What rests on the same earlier steps is the same where the statement is.
            let alike = steps.iter().all(StepDifference::same);
            if step.waits.is_some() && alike && one.plan.statement_hash == two.plan.statement_hash {
                (step.waits, step.same_statement) = (None, true);
            }
            steps.push(step);
        }
        Ok(())
    });
    if let Err(error) = viewed {
        let step = plans.iter().find(|plan| plan.step == at_work);
        let which = usize::from(at_work >= pairs.len());
        return Err((
            which,
            unwrap_sink(step.map_or_else(|| error_of("no step"), |plan| explained(error, plan))),
        ));
    }
    let (database, notes) = (session.database().clone(), session.notes().to_vec());
    Ok(Difference { database, notes, steps })
}

fn error_of(what: &str) -> EngineError {
    EngineError::Other(what.to_owned())
}

fn unlike(what: &str) -> Failure {
    Failure::usage(
        format!("these two changes cannot be compared: {what}"),
        "name two ways of writing the same change: the same tables, updated or deleted from, in the same order",
    )
}

/// What becomes of a row, without the columns that are not compared.
fn outcome(row: &HeldRow, left_out: &[usize]) -> ShortHash {
    let Some(after) = row.image.after() else { return ShortHash(0) };
    let hidden =
        |(at, value): (usize, &Value)| if left_out.contains(&at) { Value::Null } else { value.clone() };
    RowHash::of(&after.iter().enumerate().map(hidden).collect::<Vec<_>>()).short()
}

fn difference(
    hold: &mut dyn Hold,
    (one, two): (&Planned, &Planned),
    matched: [u64; 2],
) -> Result<StepDifference, EngineError> {
    let (plan, target) = (&one.plan, &one.plan.target);
    let mut unknown: Vec<usize> = Vec::new();
    let mut left_out = Vec::new();
    for foreseen in one.plan.foreseen.iter().chain(&two.plan.foreseen).filter(|f| f.label == Label::Unknown) {
        if !unknown.contains(&foreseen.column) {
            unknown.push(foreseen.column);
            let name = target.columns.get(foreseen.column).map_or_else(String::new, |c| c.name.clone());
            left_out.push((name, foreseen.why.clone()));
        }
    }
    let waits = [one, two].iter().find_map(|p| p.standing.waits.first().map(|wait| wait.why.clone()));
    let mut step = StepDifference {
        kind: plan.kind,
        target: target.clone(),
        matched,
        only: [0, 0],
        otherwise: 0,
        rows: Vec::new(),
        left_out,
        waits,
        same_statement: false,
        same_text: one.plan.statement_hash == two.plan.statement_hash,
    };
    if step.waits.is_some() {
        return Ok(step);
    }
    // Rows are told by their keys here, whatever else the two statements look at.
    let shared = RefCell::new(hold);
    // Rows that come in are told by all that is known of them.
    let comes = one.plan.kind == StepKind::Insert;
    let key_of = |row: &HeldRow| -> Vec<Value> {
        let after = row.image.after().filter(|_| comes).unwrap_or_default();
        let known = after.iter().enumerate().filter(|(at, _)| !unknown.contains(at));
        if comes { known.map(|(_, value)| value.clone()).collect() } else { row.key.clone() }
    };
    let read = |at: usize, give: &mut dyn FnMut(&MarkRow)| -> Result<(), EngineError> {
        shared.borrow_mut().held(at, &mut |row| {
            let (related, rest) = (ShortHash(0), ShortHash(0));
            give(&MarkRow { key: key_of(row), related, rest, after: outcome(row, &unknown) });
            Ok(())
        })
    };
    let (first, second) = (one.plan.step, two.plan.step);
    let moved = find(&mut |give| read(first, give), &mut |give| read(second, give), NAMED)?;
    step.only = [moved.left, moved.joined];
    step.otherwise = moved.changed + moved.result;
    step.rows = moved
        .named
        .iter()
        .filter(|row| row.how != How::Elsewhere)
        .map(|row| DifferentRow { key: row.key.clone(), images: [None, None] })
        .collect();
    // Numbers by their size, other keys by their text.
    step.rows.sort_by_cached_key(|row| {
        let number = row.key.first().map_or(0, |key| if let Value::Int(n) = key { *n } else { 0 });
        (number, key_text(&row.key))
    });
    for (side, at) in [first, second].into_iter().enumerate() {
        let rows = &mut step.rows;
        shared.borrow_mut().held(at, &mut |row| {
            let key = key_of(row);
            let named = rows.iter_mut().find(|named| named.key == key);
            if let Some(image) = named.and_then(|named| named.images.get_mut(side)) {
                *image = Some(hide_image(target, row.image.clone()));
            }
            Ok(())
        })?;
    }
    if comes && !target.hidden.is_empty() {
        // Such rows are told by all that they hold.
        step.rows.iter_mut().for_each(|row| row.key = target.veil.key(&row.key));
    } else {
        step.rows.iter_mut().for_each(|row| row.key = target.shown_key(&row.key));
    }
    Ok(step)
}
