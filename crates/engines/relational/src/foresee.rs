//! What can be foreseen of an UPDATE: which after-values the typed temporary table gives exactly, and which only the
//! run can tell.

use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_core::table::Target;
use marktwice_port::EngineError;
use marktwice_sql::Step;
use marktwice_sql::dialect::volatile::{self, Volatile};
use marktwice_sql::statement::routine::{Routine, Verb, Written};
use marktwice_sql::statement::slicing::names_in;
use marktwice_sql::text::slices::Slice;
use sqlparser::tokenizer::Token;

use crate::walk::{Body, Reached, by};

/// A trigger that a statement fires.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trigger {
    /// Its name.
    pub name: String,
    /// Whether it comes before the row is written, so that it may change or skip it.
    pub before: bool,
    /// Whether it fires once for the statement, also where no row matches.
    pub for_statement: bool,
    /// What its text says.
    pub routine: Routine,
    /// Its text, for what it does in the end.
    pub body: Body,
}

/// What an engine knows about a column beyond the target's description.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Extra {
    /// The expression of a generated column; `None` where it cannot be taken over.
    pub generated: Option<String>,
    /// Why the column changes by itself whenever the row does (`ON UPDATE CURRENT_TIMESTAMP`).
    pub moves: Option<String>,
}

/// Foresees all columns that the statement assigns or that the engine derives from those. `why` says for one value why
/// it cannot be told before the run; it is asked for what the text alone does not tell.
///
/// # Errors
/// What `why` answers.
pub fn foresee(
    step: &Step,
    target: &Target,
    extras: &[Extra],
    triggers: &[Trigger],
    why: &mut dyn FnMut(Slice) -> Result<Option<String>, EngineError>,
) -> Result<Vec<Foreseen>, EngineError> {
    if step.kind != StepKind::Update {
        return Ok(Vec::new());
    }
    let mut all: Vec<Foreseen> = Vec::new();
    for assignment in &step.assignments {
        for (at, name) in assignment.columns.iter().enumerate() {
            let Some(column) = target.position(&name.text) else { continue };
            if target.columns.get(column).is_some_and(|c| c.generated) {
                continue;
            }
            let reason = match step.value(assignment, at) {
                None => {
                    // What the value calls is looked at all the same.
                    let known = why(assignment.value)?;
                    Some(known.unwrap_or_else(|| {
                        if assignment.pieces.is_empty() {
                            "its value comes from a row of a subquery".to_owned()
                        } else {
                            format!("only a part of {} is assigned", name.text)
                        }
                    }))
                }
                Some((_, value)) => match clock_or_dice(step, value) {
                    None => why(value)?,
                    known => known,
                },
            };
            // A column assigned twice takes the last value, as the engine does.
            all.retain(|f| f.column != column);
            all.push(label(column, reason, false));
        }
    }
    for trigger in triggers.iter().filter(|t| t.before) {
        for column in trigger.routine.new_columns.iter().filter_map(|c| target.position(c)) {
            let derived = !all.iter().any(|f| f.column == column && !f.derived);
            all.retain(|f| f.column != column);
            all.push(label(column, Some(format!("trigger {} may set it", trigger.name)), derived));
        }
    }
    for (column, extra) in extras.iter().enumerate() {
        if let Some(reason) = extra.moves.clone().filter(|_| !all.iter().any(|f| f.column == column)) {
            all.push(label(column, Some(reason), true));
        }
    }
    let blanket = triggers.iter().filter(|t| t.before).find_map(|t| match &t.routine {
        r if r.new_whole => Some((format!("trigger {} may set any column", t.name), true)),
        r if r.skips => Some((format!("trigger {} may skip rows", t.name), false)),
        _ => None,
    });
    let any_unknown = blanket.is_some() || all.iter().any(|f| f.label == Label::Unknown);
    for (column, about) in target.columns.iter().enumerate() {
        let known = extras.get(column).is_some_and(|e| e.generated.is_some());
        if about.generated {
            let reason =
                (any_unknown || !known).then(|| "it is derived from a value that is not known".to_owned());
            all.push(label(column, reason, true));
        }
    }
    if let Some((reason, every_column)) = blanket {
        for foreseen in &mut all {
            *foreseen = label(foreseen.column, Some(reason.clone()), foreseen.derived);
        }
        for column in (0..target.columns.len()).filter(|_| every_column) {
            if !all.iter().any(|f| f.column == column) {
                all.push(label(column, Some(reason.clone()), true));
            }
        }
    }
    all.sort_by_key(|f| f.column);
    Ok(all)
}

/// Triggers that write the target itself once a row is written: what they set, or take away, only the run can tell.
/// Gives what may skip, take away or rewrite whole rows.
pub fn own_writes(
    all: &mut Vec<Foreseen>,
    target: &Target,
    triggers: &[Trigger],
    reached: &Reached,
    kind: StepKind,
) -> Option<String> {
    let mut skips = triggers
        .iter()
        .find(|t| t.before && t.routine.skips && kind == StepKind::Delete)
        .map(|t| format!("trigger {} may skip rows", t.name));
    let own = |w: &Written| w.table == target.table && w.schema.as_ref().is_none_or(|s| *s == target.schema);
    for (written, how) in reached.writes.iter().filter(|(w, _)| own(w)) {
        let by = by(how);
        let columns: Vec<usize> = written.columns.iter().filter_map(|c| target.position(c)).collect();
        if written.verb != Verb::Update || columns.is_empty() {
            skips.get_or_insert(format!("{by} writes {} itself", target.table));
        }
        for column in columns.into_iter().filter(|_| kind == StepKind::Update) {
            let derived = !all.iter().any(|f| f.column == column && !f.derived);
            all.retain(|f| f.column != column);
            all.push(label(column, Some(format!("{by} writes it")), derived));
        }
    }
    if let Some(why) = skips.as_ref().filter(|_| kind == StepKind::Update) {
        for foreseen in all.iter_mut() {
            *foreseen = label(foreseen.column, Some(why.clone()), foreseen.derived);
        }
    }
    all.sort_by_key(|f| f.column);
    skips
}

pub(crate) fn label(column: usize, why: Option<String>, derived: bool) -> Foreseen {
    let label = if why.is_some() { Label::Unknown } else { Label::Exact };
    Foreseen { column, label, derived, why }
}

/// Why the text of a value already tells that it is another one each time.
pub fn clock_or_dice(step: &Step, value: Slice) -> Option<String> {
    let (kind, place) = volatile::find(step, value)?;
    let word = step.text(place).to_ascii_lowercase();
    Some(match kind {
        Volatile::Clock => format!("{word} reads the clock"),
        Volatile::Random => format!("{word} is random"),
        Volatile::Session => format!("{word} depends on what ran before"),
    })
}

/// Where no temporary table can be made, values are computed and not stored; `in_order` says that one assignment reads
/// what another sets, which only a table could show.
pub fn without_temporary_tables(all: &mut [Foreseen], in_order: bool, why: &str) {
    for f in all.iter_mut().filter(|f| f.label == Label::Exact) {
        f.label = if f.derived || in_order { Label::Unknown } else { Label::Computed };
        f.why = Some(why.to_owned());
    }
}

/// Columns of the target that the filter names, for showing.
pub fn filter_columns(step: &Step, target: &Target) -> Vec<usize> {
    step.filter.as_ref().map_or_else(Vec::new, |filter| named(step, filter.slice, target))
}

/// Columns of the target that a slice names; one that is not qualified may be another table's, which does no harm.
pub fn named(step: &Step, slice: Slice, target: &Target) -> Vec<usize> {
    let mut all: Vec<usize> = names_in(step, slice).iter().filter_map(|name| target.position(name)).collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// Columns that the statement may read from its target: those that it names anywhere, and all of them where the whole
/// row is named.
pub fn reads(step: &Step, target: &Target) -> Vec<usize> {
    let visible = &step.table.visible().text;
    let tokens = step.words(step.statement);
    let whole = tokens.iter().enumerate().any(|(at, token)| {
        let own = token.slice.start >= step.table.slice.start && token.slice.end <= step.table.slice.end;
        // Where other tables are joined, the target's name stands before FROM too.
        let own = own || (step.kind == StepKind::Delete && step.sources.is_some());
        let dot = tokens.get(at + 1).is_some_and(|t| t.is(&Token::Period));
        !own && !dot && token.name().is_some_and(|n| n.eq_ignore_ascii_case(visible))
    });
    let star = tokens.windows(2).any(|pair| match pair {
        [dot, star] => dot.is(&Token::Period) && star.is(&Token::Mul),
        _ => false,
    });
    if whole || star { (0..target.columns.len()).collect() } else { named(step, step.statement, target) }
}
