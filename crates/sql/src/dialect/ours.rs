//! Names of our own for temporary tables, their columns and aliases. They stand beside the user's names in one statement
//! and one search path, so each process makes up its own: no table, column or text of the user's can be called alike
//! and stand in the way, or be read in place of the other.

use std::fmt;
use std::hash::{BuildHasher, Hasher};
use std::sync::LazyLock;

/// What tells this process's names from everybody's.
static TAG: LazyLock<String> = LazyLock::new(|| {
    let dice = std::collections::hash_map::RandomState::new().build_hasher().finish();
    format!("marktwice_{:08x}", dice & 0xffff_ffff)
});

/// A name of our own, without quotes: it needs none in any engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ours(&'static str);

impl fmt::Display for Ours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}_{}", *TAG, self.0)
    }
}

/// Whether a name, with a schema or without, is one of ours.
pub fn is_ours(name: &str) -> bool {
    name.rsplit('.').next().unwrap_or(name).trim_start_matches('`').starts_with(TAG.as_str())
}

/// The temporary table that holds the rows of a step, counted from 0.
pub fn held(step: usize) -> String {
    format!("{}_held{}", *TAG, step + 1)
}

/// The temporary table of the contents of rows that were there before a step, counted from 0.
pub fn earlier(step: usize) -> String {
    format!("{}_earlier{}", *TAG, step + 1)
}

/// The temporary table of contents that are asked for.
pub const ASKED: Ours = Ours("asked");
/// The temporary table of contents that are there.
pub const FOUND: Ours = Ours("found");
/// A temporary table that is made only to see whether the engine makes it.
pub const TRIED: Ours = Ours("tried");
/// The view that lets a server tell what a text calls.
pub const SEEN: Ours = Ours("seen");
/// The held table's ordinal column.
pub const ORDINAL: Ours = Ours("ordinal");
/// Its column for the engine's row identity before.
pub const ROW: Ours = Ours("row");
/// Its columns that say, when rows are put back, whether the row is there now and whether it is wanted.
pub const THERE: Ours = Ours("there");
/// See [`THERE`].
pub const IS_WANTED: Ours = Ours("is_wanted");
/// Its column for how many foreign keys' actions lead to a row that is taken along.
pub const WAVE: Ours = Ours("wave");
/// Its columns for where a row without a key stands: the partition and the place in it.
pub const PART: Ours = Ours("part");
/// See [`PART`].
pub const PLACE: Ours = Ours("place");
/// Its columns for rows without a key: hashes of the contents before and after, and how many rows of each content there
/// must be in the table afterwards.
pub const WAS: Ours = Ours("was");
/// See [`WAS`].
pub const WILL: Ours = Ours("will");
/// See [`WAS`].
pub const LEFT: Ours = Ours("left");
/// See [`WAS`].
pub const MADE: Ours = Ours("made");

/// Its columns for what columns that are not held hold together.
pub const REST: [Ours; 2] = [Ours("rest"), Ours("more")];

/// The held table's column for what column `at` of the target holds before.
pub fn before(at: usize) -> String {
    format!("{}_b{at}", *TAG)
}

/// Its column for what is wanted in column `at` of the target, when rows are put back.
pub fn wanted(at: usize) -> String {
    format!("{}_w{at}", *TAG)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_alike_within_a_process_and_fit_every_engine() {
        assert_eq!(held(0), held(0));
        assert_ne!(held(0), held(1));
        assert_ne!(held(0), "marktwice_held1");
        // PostgreSQL cuts names off at 63 bytes.
        assert!(IS_WANTED.to_string().len() < 40 && before(1599).len() < 40);
        assert_ne!(before(11), wanted(11));
    }
}
