//! What rows, counts and the closer look show of a step, as findings.

use marktwice_core::finding::Level;
use marktwice_core::many::Many;
use marktwice_core::mark::StepKind;
use marktwice_core::notice::Notices;
use marktwice_core::study::{LOOKED_UP, Wish};
use marktwice_core::table::Target;
use marktwice_core::way_back::WayBack;
use marktwice_core::{Code, Finding, Value};
use marktwice_port::{EngineError, Plan, Session, SideHow, SideWrite};

use crate::preview::{Change, Preview};

/// Keys of matched rows that are named in a filter to paste.
const FEW: usize = 10;

/// Looks closer at the step. Nothing depends on it, so that a failure only leaves it out.
pub(crate) fn closer(
    session: &mut dyn Session,
    plan: &Plan,
    change: &Change,
    notices: &Notices,
    preview: &mut Preview,
) {
    let unmet = preview.unmet.iter().any(|u| u.what == "rows");
    let few = preview.matched <= FEW as u64 && preview.rows.len() as u64 == preview.matched;
    let wish = Wish {
        brief: change.quick,
        matched: preview.matched,
        total: preview.total,
        expected: change.rows.filter(|_| unmet),
        example: preview.rows.first().map(|r| r.before.clone()).unwrap_or_default(),
        keys: if few { preview.rows.iter().map(|r| r.key.clone()).collect() } else { Vec::new() },
        references: if change.quick { Vec::new() } else { references(preview) },
        known: notices.with_new_texts(),
    };
    match session.study(plan, &wish) {
        Ok(study) => {
            if study.without_limit.zip(plan.limit).is_some_and(|(all, limit)| all <= limit) {
                // It takes every row that matches, whatever the order.
                preview.findings.retain(|f| f.code != Code::UnstableLimit);
            }
            preview.findings.extend(study.findings.iter().cloned());
            preview.findings.extend(notices.unlike(&plan.target, &study.known));
            // A sum of numbers that stand for rows says nothing.
            let refers = |name: &str| {
                let at = plan.target.position(name);
                study.meanings.iter().any(|(column, ..)| Some(*column) == at)
            };
            preview.totals.retain(|t| !refers(&t.column));
            preview.study = study;
        }
        Err(error) => preview.study.skipped = Some(error.to_string()),
    }
}

/// Values of shown rows, by column, that may refer to other tables: as many as are looked up, however many rows are shown.
fn references(preview: &Preview) -> Vec<(usize, Vec<Value>)> {
    let mut all: Vec<(usize, Vec<Value>)> = Vec::new();
    for at in 0..preview.target.columns.len() {
        let images = preview.rows.iter().flat_map(|r| [Some(&r.before), r.after.as_ref()]).flatten();
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

/// An engine's error in the words of what was noticed about the statement, where that is its reason.
pub(crate) fn explained(error: EngineError, plan: &Plan) -> EngineError {
    let said = match &error {
        EngineError::Other(said) | EngineError::Constraint { message: said, .. } => said,
        _ => return error,
    };
    let reasons = [Code::AndForComma, Code::TooLong, Code::TypeMix];
    let Some(finding) = plan.findings.iter().find(|f| reasons.contains(&f.code)) else { return error };
    let message = format!("{}; the engine says: {said}", finding.message);
    EngineError::Refused(Box::new(Finding { message, ..finding.clone() }))
}

/// Findings that only the rows tell.
pub(crate) fn from_rows(preview: &mut Preview) {
    if preview.matched == 0 {
        let message = format!("no row of {} matches the filter", preview.target.table);
        preview.findings.push(Finding::new(Code::NothingMatched, message));
        return;
    }
    preview
        .findings
        .extend(preview.many.as_ref().map(|many| many_sources(preview.kind, &preview.target, many)));
    let whole = [Code::NoFilter, Code::AlwaysTrue];
    let said = preview.findings.iter().any(|f| whole.contains(&f.code));
    if preview.matched == preview.total
        && preview.total > 1
        && !said
        && !preview.allowed.contains(&Code::NoFilter)
    {
        let message = format!("all {} rows of {} match the filter", preview.total, preview.target.table);
        preview.findings.push(Finding::new(Code::EveryRow, message));
    } else if preview.matched * 2 > preview.total && preview.total >= 10 && preview.matched < preview.total {
        let message = format!(
            "{} of {} rows of {} match the filter",
            preview.matched, preview.total, preview.target.table
        );
        preview.findings.push(Finding::new(Code::OverHalf, message));
    }
}

/// A finding about rows that a join matches more than once.
fn many_sources(kind: StepKind, target: &Target, many: &Many) -> Finding {
    let rows = |n: u64| if n == 1 { "1 row".to_owned() } else { format!("{n} rows") };
    let is = if many.rows == 1 { "is" } else { "are" };
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

/// A finding for each write outside the matched rows.
pub(crate) fn side_findings(side: &[SideWrite]) -> Vec<Finding> {
    side.iter().map(|write| Finding::new(write.how.code(), side_text(write))).collect()
}

/// A finding for each thing that is known to stand in the way of an undo.
pub(crate) fn no_way_back(back: &WayBack) -> Vec<Finding> {
    back.obstacles.iter().map(|why| Finding::new(Code::NoWayBack, why.clone())).collect()
}

/// One write outside the matched rows, in words.
pub(crate) fn side_text(write: &SideWrite) -> String {
    let rows = match write.rows {
        Some(1) => "1 row of ".to_owned(),
        Some(rows) => format!("{rows} rows of "),
        None => String::new(),
    };
    match &write.how {
        SideHow::Trigger(name) => {
            format!(
                "trigger {name} writes {rows}{}; that is not in the snapshot and an undo leaves it",
                write.table
            )
        }
        SideHow::Routine(name) => {
            format!(
                "function {name} writes {rows}{}; that is not in the snapshot and an undo leaves it",
                write.table
            )
        }
        SideHow::Unmeasured(what) => what.clone(),
        SideHow::Measured(what) => format!(
            "{rows}{} were {what} on the way, by a trigger or a foreign key's action; these are not in the snapshot and an undo leaves them",
            write.table
        ),
        SideHow::ForeignKey(action) => format!(
            "a foreign key's {action} writes {rows}{}; these are not in the snapshot and an undo does not bring them back",
            write.table
        ),
    }
}
