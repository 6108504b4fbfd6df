//! The condition that leaves out rows which already hold the values of an UPDATE; the closer look asks it before it is
//! offered.

use marktwice_core::mark::{Foreseen, Label};

use crate::statement::slicing::is_literal;
use crate::statement::step::Step;

/// `region IS NOT 'Moor'`, in the statement's own language: leaves out the rows that already hold the values, when those are
/// literals.
pub fn leave_out(step: &Step, foreseen: &[Foreseen]) -> Option<String> {
    if step.inserted.is_some()
        || foreseen.is_empty()
        || foreseen.iter().any(|f| f.label != Label::Exact || f.derived)
    {
        return None;
    }
    let mut terms = Vec::new();
    for assignment in &step.assignments {
        for (name, value) in assignment.columns.iter().zip(assignment.parts.as_ref()?) {
            if !is_literal(step, *value) {
                return None;
            }
            terms.push(step.language.differs(step.text(name.slice), step.text(*value)));
        }
    }
    match terms.as_slice() {
        [one] => Some(one.clone()),
        many => Some(format!("({})", many.join(" OR "))),
    }
}
