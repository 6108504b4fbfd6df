//! `no-filter`: a statement without WHERE.

use marktwice_core::{Code, Finding};

use super::Facts;

/// Looks for a missing filter.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    // Where the target is one of the joined tables, the condition of the join is a filter too.
    let joined = seen.step.sources.as_ref().is_some_and(|s| {
        s.with_target && seen.step.words(s.slice).iter().any(|t| t.is_any(&["on", "using", "natural"]))
    });
    // A LIMIT bounds it; whether it says which rows is another rule's matter.
    let bounded = seen.step.tail.as_ref().is_some_and(|t| t.limit.is_some());
    if seen.step.filter.is_some() || joined || bounded {
        return Vec::new();
    }
    let message = format!(
        "there is no WHERE: this {} is for every row of {}",
        seen.step.kind.verb(),
        seen.target.table
    );
    vec![Finding::new(Code::NoFilter, message).at(seen.step.place(seen.step.statement))]
}
