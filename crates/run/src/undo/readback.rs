//! What is wrong with rows that do not read back from where they were loaded to.

use std::cell::RefCell;

use marktwice_core::cell::{CellDiff, diff};
use marktwice_core::mark::StepKind;
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;
use marktwice_port::{EngineError, LogError, SnapshotReader, Tx};

use super::rows::KeptRows;
use super::{Back, inverse};
use crate::phases::Sent;
use marktwice_core::secret::hide_cell;
use marktwice_core::value::key_text;

/// The rows of a batch as the run's snapshot has them.
pub(super) struct Source<'a> {
    pub(super) rows: &'a dyn KeptRows,
    pub(super) back: &'a Back,
}

impl Sent for Source<'_> {
    fn differing(&mut self, tx: &mut dyn Tx) -> Result<String, EngineError> {
        first_differing(tx, self.rows, (self.back, self.back.batch.step))
    }

    fn each(&mut self, sink: &mut dyn FnMut(&RowChange)) -> Result<(), EngineError> {
        let reader = rows_of(self.rows)?;
        while let Some(change) = inverse(&reader, self.back).map_err(EngineError::Sink)? {
            sink(&change);
        }
        Ok(())
    }
}

/// The rows of the run, from its snapshot.
fn rows_of(rows: &dyn KeptRows) -> Result<RefCell<Box<dyn SnapshotReader + '_>>, EngineError> {
    let reader = rows.open();
    reader.map(RefCell::new).map_err(|error: LogError| EngineError::Sink(Box::new(error)))
}

/// The first held row that does not say what the snapshot says. Both come in the order of their numbers.
pub(super) fn first_differing(
    tx: &mut dyn Tx,
    rows: &dyn KeptRows,
    (back, number): (&Back, usize),
) -> Result<String, EngineError> {
    let batch = &back.batch;
    let reader = rows_of(rows)?;
    let mut found = None;
    let mut kept = None;
    tx.held(number, &mut |row| {
        while found.is_none()
            && kept.as_ref().is_none_or(|kept: &RowChange| kept.ordinal < row.ordinal)
            && let Some(next) = inverse(&reader, back)?
        {
            kept = Some(next);
        }
        let (Some(kept), Some(after), None) = (&kept, row.image.after(), &found) else { return Ok(()) };
        let wanted = kept.image.after().unwrap_or_default();
        let looked = |cell: &CellDiff| batch.kind != StepKind::Update || batch.columns.contains(&cell.column);
        let cell = diff(wanted, after).into_iter().find(looked);
        found = cell.filter(|_| kept.ordinal == row.ordinal).map(|cell| {
            let cell = hide_cell(&batch.target, cell);
            let name = batch.target.columns.get(cell.column).map_or("", |c| c.name.as_str());
            let text = |value: &Value| value.to_json().to_string();
            format!(
                "row {} of {}: {name} was {} before the run, and the engine reads that back as {}",
                key_text(&batch.target.shown_key(&row.key)),
                batch.target.table,
                text(&cell.before),
                text(&cell.after)
            )
        });
        Ok(())
    })?;
    Ok(found.unwrap_or_else(|| {
        format!(
            "what is in {} now does not read back as it was read, so nothing could be verified",
            batch.target.table
        )
    }))
}
