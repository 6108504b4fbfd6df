//! Numbers that the engine gave rows in a rehearsal, and that a later step names: where they are used up by it the run gives others, and
//! the step finds no row.

use marktwice_core::finding::{Code, Finding};
use marktwice_core::mark::{Label, StepKind};
use marktwice_core::table::Pin;
use marktwice_core::value::{Value, key_text};

use crate::preview::StepPreview;

/// Stops steps that find a row by a number which only the rehearsal has given it.
pub(crate) fn only_rehearsed(steps: &mut [StepPreview]) {
    for at in 1..steps.len() {
        let (earlier, rest) = steps.split_at_mut(at);
        let Some(step) = rest.first_mut() else { continue };
        // A value that is kept has a name, and is the run's own.
        let kept = step.waits.iter().any(|wait| wait.kept);
        if step.block.kind == StepKind::Insert || kept || step.pin == Pin::Nothing {
            continue;
        }
        let given = earlier.iter().enumerate().filter(|(_, before)| {
            let (block, key) = (&before.block, &before.block.target.key);
            let unknown = |column: &usize| {
                block.foreseen.iter().any(|f| f.column == *column && f.label == Label::Rehearsed)
            };
            block.kind == StepKind::Insert
                && block.target.shares_rows(&step.block.target)
                && key.columns.iter().any(unknown)
        });
        let key_of = |row: &[Value], columns: &[usize]| -> Vec<Value> {
            columns.iter().filter_map(|column| row.get(*column)).cloned().collect()
        };
        let columns = &step.block.target.key.columns;
        let found = given.into_iter().find_map(|(number, before)| {
            let came: Vec<Vec<Value>> =
                before.block.rows.iter().map(|row| key_of(row.image.row(), columns)).collect();
            let mut found = step.block.rows.iter().map(|row| key_of(row.image.row(), columns));
            found.find(|key| came.contains(key)).map(|key| (number, key))
        });
        if let Some((number, key)) = found {
            let message = format!(
                "{} is the number that step {} was given in the rehearsal; the run gives another",
                key_text(&step.block.target.shown_key(&key)),
                number + 1
            );
            step.block.findings.push(Finding::new(Code::GivenNumber, message));
        }
    }
}
