//! The assigned columns of a step, as what is noticed about their values needs them.

use marktwice_core::notice::Assigned;
use marktwice_core::table::Target;

use crate::classes::length;
use crate::slicing::own_columns;
use crate::step::Step;

/// The assigned columns with their places.
pub fn assigned(step: &Step, target: &Target) -> Vec<Assigned> {
    let mut all = Vec::new();
    for assignment in &step.assignments {
        for (nth, name) in assignment.columns.iter().enumerate() {
            let Some(column) = target.position(&name.text) else { continue };
            let value = assignment.parts.as_ref().and_then(|p| p.get(nth)).map(|s| step.text(*s));
            let own =
                assignment.parts.as_ref().and_then(|p| p.get(nth)).map(|s| own_columns(step, target, *s));
            let mut operands: Vec<usize> = own.iter().flatten().map(|(at, _)| *at).collect();
            operands.dedup();
            let from_itself = operands.contains(&column);
            let plain = |word: &str| value.is_some_and(|v| v.eq_ignore_ascii_case(word));
            all.push(Assigned {
                column,
                place: step.place(name.slice),
                null: plain("null") || plain("default"),
                from_itself,
                room: target.columns.get(column).and_then(|c| length(&c.declared)),
                operands,
            });
        }
    }
    all
}
