//! Marks in use: the header of a new one, the text of a kept one, and what moved between a kept one and now.

use marktwice_core::mark::{MarkRow, MarkSummary, Marker};
use marktwice_core::moved::{Moved, find};
use marktwice_core::receipt::DatabaseId;
use marktwice_core::record::{MARK_FORMAT, MARK_VERSION, MarkHeader, StepRecord};
use marktwice_port::{EngineError, Intent, LogError, Logbook, Mark, Plan, Tx};

use crate::context::Context;
use crate::outcome::Failure;
use crate::preview::ShownRow;

/// How many moved rows are named.
const NAMED: usize = 20;

/// The step of a plan as marks and snapshots record it.
pub(crate) fn step_record(plan: &Plan) -> StepRecord {
    StepRecord {
        kind: plan.kind,
        statement: plan.statement.clone(),
        statement_hash: plan.statement_hash.clone(),
        table: 0,
        foreseen: plan.foreseen.clone(),
    }
}

/// The header of a mark of `plan`; its name is given by the logbook.
pub(crate) fn header(plan: &Plan, database: &DatabaseId, change: &str, taken: &str) -> MarkHeader {
    MarkHeader {
        format: MARK_FORMAT.to_owned(),
        version: MARK_VERSION,
        mark: String::new(),
        taken: taken.to_owned(),
        database: database.clone(),
        by: None,
        change: change.to_owned(),
        params: serde_json::Map::new(),
        settings: plan.settings.clone(),
        steps: vec![step_record(plan)],
        tables: vec![plan.target.clone()],
        parts: plan.parts.clone(),
    }
}

/// The whole text of the change that a mark was taken of, and the mark's name; of the last mark without a name.
///
/// # Errors
/// When there is no such mark.
pub fn mark_text(context: &Context<'_>, name: Option<&str>) -> Result<(String, String), Failure> {
    let session = context.open(Intent::Read)?;
    let book = (context.book)(session.database())?;
    let mark = book.mark(name)?;
    let name_of = mark.header().mark.clone();
    if name.is_none()
        && let Some(run) =
            book.receipts()?.iter().find(|r| r.mark.as_ref() == Some(&name_of) && !r.state.is_rolled_back())
    {
        return Err(Failure::usage(
            format!("the last preview here (mark {name_of}) was applied already, as run {}", run.run),
            "preview the change that is meant, or name it: marktwice apply CHANGE",
        ));
    }
    Ok((name_of, mark.header().change.clone()))
}

/// What a mark rests on that is another now; `None` when all is the same.
pub(crate) fn ground_shifted(mark: &MarkHeader, plan: &Plan) -> Option<String> {
    let taken = &mark.taken;
    match (mark.steps.first(), mark.tables.first()) {
        (Some(_), Some(table)) if table.definition != plan.target.definition => {
            Some(format!("the definition of {} has changed since the preview of {taken}", table.table))
        }
        (Some(step), Some(_)) if step.foreseen != plan.foreseen => {
            Some(format!("what can be foreseen of the change is another than in the preview of {taken}"))
        }
        (Some(_), Some(_)) if mark.settings != plan.settings => {
            Some(format!("the session's settings are others than in the preview of {taken}"))
        }
        (Some(_), Some(_)) => None,
        _ => Some("the mark holds no step".to_owned()),
    }
}

fn sink(error: LogError) -> EngineError {
    EngineError::Sink(Box::new(error))
}

/// Finds the rows that moved between a kept mark and the rows that are held in the transaction.
pub(crate) fn moved(agreed: &Agreed<'_>, tx: &mut dyn Tx, plan: &Plan) -> Result<Moved, EngineError> {
    let mark = agreed.book.mark(Some(&agreed.name)).map_err(sink)?;
    let mut first = |give: &mut dyn FnMut(&MarkRow)| mark.rows(give).map_err(sink);
    let mut second = |give: &mut dyn FnMut(&MarkRow)| -> Result<(), EngineError> {
        let mut marker = Marker::new(plan.parts.clone());
        tx.held(&mut |row| {
            give(&marker.take(row));
            Ok(())
        })
    };
    find(&mut first, &mut second, NAMED)
}

/// Finds the rows that moved between two kept marks.
pub(crate) fn moved_between(first: &dyn Mark, second: &dyn Mark) -> Result<Moved, LogError> {
    find(&mut |give| first.rows(give), &mut |give| second.rows(give), NAMED)
}

/// A mark as it was agreed to. The file is read again only when rows have moved: its totals decide.
pub(crate) struct Agreed<'a> {
    pub(crate) name: String,
    pub(crate) summary: MarkSummary,
    pub(crate) book: &'a dyn Logbook,
    /// Rows that were shown whole, where this very command has shown them.
    pub(crate) shown: &'a [ShownRow],
}
