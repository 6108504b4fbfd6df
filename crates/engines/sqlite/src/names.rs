//! Quoting of names, and the names of our own that must not meet the user's.

/// A name in double quotes.
pub(crate) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// The temporary table that holds the marked rows.
pub(crate) const HELD: &str = "marktwice_held";
/// Its ordinal column.
pub(crate) const ORDINAL: &str = "marktwice_ordinal";
/// Its column for the engine's row identity before.
pub(crate) const ROW: &str = "marktwice_row";

/// Its columns that say, when rows are put back, whether the row is there now and whether it is wanted.
pub(crate) const THERE: &str = "marktwice_there";
pub(crate) const IS_WANTED: &str = "marktwice_is_wanted";

/// Its column for what column `at` of the target holds before.
pub(crate) fn before(at: usize) -> String {
    format!("marktwice_b{at}")
}

/// Its column for what is wanted in column `at` of the target, when rows are put back.
pub(crate) fn wanted(at: usize) -> String {
    format!("marktwice_w{at}")
}
