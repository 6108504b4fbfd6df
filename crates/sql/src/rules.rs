//! The rules that look at one understood statement. One rule a file; each says what it saw, where, and what to do.

pub mod always_true;
pub mod and_for_comma;
pub mod assigned_twice;
pub mod engine_column;
pub mod key_change;
pub mod like_pattern;
pub mod mixed_and_or;
pub mod no_filter;
pub mod not_unique;
pub mod null_compare;
pub mod pipes;
pub mod repeats;
pub mod rows_discarded;
pub mod target_again;
pub mod too_long;
pub mod type_mix;
pub mod unstable_limit;
pub mod volatile_filter;

#[cfg(test)]
mod tests;

use marktwice_core::Finding;
use marktwice_core::table::{Pin, Target};

use crate::statement::pins::UniqueKey;
use crate::statement::step::Step;

/// What a rule may look at.
#[derive(Debug, Clone, Copy)]
pub struct Facts<'a> {
    /// The statement.
    pub step: &'a Step,
    /// Its target.
    pub target: &'a Target,
    /// What pins its rows.
    pub pin: &'a Pin,
    /// Its unique keys.
    pub keys: &'a [UniqueKey],
    /// Columns that the engine numbers by itself.
    pub counted: &'a [usize],
}

/// What the text alone shows of a statement that an engine did not compile for its types.
pub fn early(source: &str, language: crate::Language) -> Option<Finding> {
    let step = crate::statement::slicing::understand_with(source, language, &mut |_, _| true).ok()?;
    and_for_comma::in_text(&step)
}

/// Everything that all rules notice, in the order of the rules.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    if seen.step.inserted.is_some() {
        // The others look at a filter, and at values that are assigned to what is there.
        return rows_discarded::look(seen);
    }
    [
        no_filter::look,
        always_true::look,
        and_for_comma::look,
        assigned_twice::look,
        engine_column::look,
        null_compare::look,
        mixed_and_or::look,
        like_pattern::look,
        type_mix::look,
        too_long::look,
        volatile_filter::look,
        target_again::look,
        unstable_limit::look,
        key_change::look,
        repeats::look,
        not_unique::look,
        rows_discarded::look,
    ]
    .iter()
    .flat_map(|rule| rule(seen))
    .collect()
}
