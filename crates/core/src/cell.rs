//! The difference between two images of one row, cell by cell.

use crate::value::Value;

/// One cell that differs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CellDiff {
    /// The position of the column among the target's.
    pub column: usize,
    /// The earlier value.
    pub before: Value,
    /// The later value.
    pub after: Value,
}

/// All cells in which two images of a row differ.
pub fn diff(before: &[Value], after: &[Value]) -> Vec<CellDiff> {
    before
        .iter()
        .zip(after)
        .enumerate()
        .filter(|(_, (b, a))| b != a)
        .map(|(column, (b, a))| CellDiff { column, before: b.clone(), after: a.clone() })
        .collect()
}

/// The values at `columns`, in that order; positions outside the row are passed over.
pub fn pick<'a>(row: &'a [Value], columns: &'a [usize]) -> impl Iterator<Item = &'a Value> + 'a {
    columns.iter().filter_map(move |&c| row.get(c))
}
