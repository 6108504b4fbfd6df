//! Marks in use: the text of a kept one, and what moved between a kept one and now.

use marktwice_core::asked::QueryCheck;
use marktwice_core::hash::Hashing;
use marktwice_core::mark::{Comparison, MarkRow, MarkSummary, Marker, Parts, StepKind, agreement};
use marktwice_core::moved::{Moved, find};
use marktwice_core::param::{Param, from_map};
use marktwice_core::record::MarkHeader;
use marktwice_core::sheet::Sheet;
use marktwice_port::{EngineError, Intent, LogError, Logbook, Mark, Plan, Tx};

use crate::context::Context;
use crate::outcome::Failure;
use crate::preview::{ShownRow, Since};

/// How many moved rows are named.
const NAMED: usize = 20;

/// The change that a mark was taken of.
#[derive(Debug, Clone)]
pub struct MarkedChange {
    /// The mark.
    pub mark: String,
    /// When it was taken, UTC, RFC 3339.
    pub taken: String,
    /// The whole text.
    pub text: String,
    /// Checks of the whole change, also those that do not stand in the text.
    pub checks: Vec<QueryCheck>,
    /// Its parameters with their values.
    pub params: Vec<Param>,
    /// Spreadsheets that it reads as tables.
    pub sheets: Vec<Sheet>,
}

/// The change that a mark was taken of; of the last mark without a name.
///
/// # Errors
/// When there is no such mark.
pub fn mark_text(context: &Context<'_>, name: Option<&str>) -> Result<MarkedChange, Failure> {
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
            "preview the change that is meant, or name it: `marktwice apply CHANGE`",
        ));
    }
    let MarkHeader { change, checks, params, sheets, .. } = mark.header();
    let (text, checks, params) = (change.clone(), checks.clone(), from_map(params));
    let taken = mark.header().taken.clone();
    Ok(MarkedChange { mark: name_of, taken, text, checks, params, sheets: sheets.clone() })
}

/// What a mark rests on that is another now for a step; `None` when all is the same.
pub(crate) fn ground_shifted(
    mark: &MarkHeader,
    at: usize,
    plan: &Plan,
    key: Option<&String>,
) -> Option<String> {
    let taken = &mark.taken;
    let step = mark.steps.get(at);
    let keyed = matches!(plan.parts.hashing, Hashing::Keyed(_));
    if mark.keyed && keyed && mark.key.as_ref().is_some_and(|own| Some(own) != key) {
        return Some(format!(
            "mark {} was taken under another key_file, so its rows cannot be compared: preview the change again",
            mark.mark
        ));
    }
    match step.and_then(|step| Some((step, mark.tables.get(step.table)?))) {
        Some((_, table)) if table.definition != plan.target.definition => {
            Some(format!("the definition of {} has changed since the preview of {taken}", table.table))
        }
        Some((_, table)) if mark.keyed != keyed || table.hidden != plan.target.hidden => Some(format!(
            "other columns of {} are hidden now than when mark {} was taken, so its rows cannot be compared: preview the change again",
            table.table, mark.mark
        )),
        Some((step, _)) if step.foreseen != plan.foreseen => {
            Some(format!("what can be foreseen of the change is another than in the preview of {taken}"))
        }
        Some(_) if mark.settings != plan.settings => {
            Some(format!("the session's settings are others than in the preview of {taken}"))
        }
        Some(_) => None,
        None => Some("the mark holds no such step".to_owned()),
    }
}

fn sink(error: LogError) -> EngineError {
    EngineError::Sink(Box::new(error))
}

/// Finds the rows that moved between a kept mark and the rows that are held in the transaction.
pub(crate) fn moved(agreed: &Agreed<'_>, tx: &mut dyn Tx, plan: &Plan) -> Result<Moved, EngineError> {
    let mark = agreed.book.mark(Some(&agreed.name)).map_err(sink)?;
    let mut first = |give: &mut dyn FnMut(&MarkRow)| mark.rows(plan.step, give).map_err(sink);
    let mut second = |give: &mut dyn FnMut(&MarkRow)| -> Result<(), EngineError> {
        let mut marker = Marker::new(plan.parts.clone());
        tx.held(plan.step, &mut |row| {
            give(&marker.take(row));
            Ok(())
        })
    };
    find(&mut first, &mut second, NAMED)
}

/// Finds the rows of a step that moved between two kept marks.
pub(crate) fn moved_between(first: &dyn Mark, second: &dyn Mark, step: usize) -> Result<Moved, LogError> {
    find(&mut |give| first.rows(step, give), &mut |give| second.rows(step, give), NAMED)
}

/// What has become of a step's rows since an earlier mark of the same file; `None` where the step was another, and where the same
/// statement finds the same.
pub(crate) fn since_then(
    earlier: &dyn Mark,
    book: &dyn Logbook,
    (name, totals): (&str, Option<&MarkSummary>),
    at: usize,
    plan: &Plan,
) -> Result<Option<Since>, LogError> {
    let header = earlier.header();
    let Some((step, table)) = header.steps.get(at).and_then(|s| Some((s, header.tables.get(s.table)?)))
    else {
        return Ok(None);
    };
    let target = &plan.target;
    let same_table =
        (&table.schema, &table.table, &table.key) == (&target.schema, &target.table, &target.key);
    // Rows that come in have no key yet by which one could be told again.
    if step.kind != plan.kind || step.kind == StepKind::Insert || !same_table || header.open.contains(&at) {
        return Ok(None);
    }
    let same_text = step.statement_hash == plan.statement_hash;
    // Where other columns are hidden, or another key is used, not even the rows can be told again.
    if header.keyed && (table.hidden != target.hidden || header.key != book.key_name()) {
        return Ok(None);
    }
    // Hashes under another key or seed, or under none, say nothing about each other.
    let alike = match plan.parts.hashing {
        Hashing::Keyed(_) => header.keyed,
        Hashing::Seeded(seed) => header.seed == Some(seed),
        Hashing::Plain => !header.keyed && header.seed.is_none(),
    };
    let own = Parts { hashing: Hashing::Plain, veil: None, ..plan.parts.clone() };
    let rows_only = !alike || header.parts.get(at) != Some(&own);
    let both = earlier.totals().get(at).zip(totals);
    let same = both.is_some_and(|(a, b)| agreement(a, b) == Comparison::Same) && !rows_only;
    let moved = if same {
        Moved::default()
    } else {
        let fresh = book.mark(Some(name))?;
        // Hashes over other columns say nothing about each other.
        let bare = |row: &MarkRow| match rows_only {
            true => MarkRow { key: row.key.clone(), ..MarkRow::default() },
            false => row.clone(),
        };
        find(
            &mut |give| earlier.rows(at, &mut |row| give(&bare(row))),
            &mut |give| fresh.rows(at, &mut |row| give(&bare(row))),
            NAMED,
        )?
    };
    if same_text && moved.total() == 0 {
        return Ok(None);
    }
    Ok(Some(Since { taken: header.taken.clone(), moved, rows_only, same_text }))
}

/// A mark as it was agreed to. The file is read again only when rows have moved: its totals decide.
pub(crate) struct Agreed<'a> {
    pub(crate) name: String,
    /// By step.
    pub(crate) totals: Vec<MarkSummary>,
    pub(crate) book: &'a dyn Logbook,
    /// Rows that this very command has shown whole, by step.
    pub(crate) shown: Vec<&'a [ShownRow]>,
}
