//! The contents of a whole row as one hash, computed by the server: what tells rows apart that have no key.

use crate::catalog::Table;
use crate::values::Form;

/// An expression for the hash of a row whose column `at` is `column(at)`. Identity is of bytes, not of collation.
pub(crate) fn content(table: &Table, column: impl Fn(usize) -> String) -> String {
    known_content(table, &[], column)
}

/// The same without columns that only the run knows.
pub(crate) fn known_content(table: &Table, open: &[usize], column: impl Fn(usize) -> String) -> String {
    let cells: Vec<String> = table
        .types
        .iter()
        .enumerate()
        .filter(|(at, _)| !open.contains(at))
        .map(|(at, of)| {
            let x = column(at);
            let text = match (of.form, of.kind.as_str()) {
                // A FLOAT as text is rounded; the double that it stands for is not.
                (_, "float" | "double") => format!("CAST(CAST({x} AS DOUBLE) AS CHAR)"),
                (_, "bit") => format!("CAST({x} + 0 AS CHAR)"),
                (_, "uuid" | "inet4" | "inet6") => format!("CAST({x} AS CHAR)"),
                (Form::Text | Form::Bytes, _) => format!("HEX({x})"),
                _ => format!("CAST({x} AS CHAR)"),
            };
            // No text of a value is the letter N alone.
            format!("IFNULL({text}, 'N')")
        })
        .collect();
    let cells = if cells.is_empty() { "''".to_owned() } else { cells.join(", ") };
    format!("(SHA2(CONCAT_WS('|', {cells}), 256) COLLATE utf8mb4_bin)")
}
