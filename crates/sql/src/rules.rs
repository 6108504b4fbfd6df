//! The rules that look at one understood statement. One rule a file; each says what it saw, where, and what to do.

pub mod always_true;
pub mod key_change;
pub mod no_filter;
pub mod not_unique;
pub mod null_compare;
pub mod target_again;
pub mod unstable_limit;
pub mod volatile_filter;

#[cfg(test)]
mod tests;

use marktwice_core::Finding;
use marktwice_core::table::{Pin, Target};

use crate::pins::UniqueKey;
use crate::step::Step;

/// What a rule may look at.
#[derive(Debug, Clone, Copy)]
pub struct Seen<'a> {
    /// The statement.
    pub step: &'a Step,
    /// Its target.
    pub target: &'a Target,
    /// What pins its rows.
    pub pin: &'a Pin,
    /// Its unique keys.
    pub keys: &'a [UniqueKey],
}

/// Everything that all rules notice, in the order of the rules.
pub fn look(seen: Seen<'_>) -> Vec<Finding> {
    [
        no_filter::look,
        always_true::look,
        null_compare::look,
        volatile_filter::look,
        target_again::look,
        unstable_limit::look,
        key_change::look,
        not_unique::look,
    ]
    .iter()
    .flat_map(|rule| rule(seen))
    .collect()
}
