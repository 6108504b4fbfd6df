//! Small questions to the engine: queries of ours around slices of the user's text, for few rows, answered as text.

/// Rows of a query, as text.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Texts {
    /// Names of the columns.
    pub columns: Vec<String>,
    /// The rows; `None` is NULL.
    pub rows: Vec<Vec<Option<String>>>,
}

impl Texts {
    /// A cell.
    pub fn text(&self, row: usize, column: usize) -> Option<&str> {
        self.rows.get(row)?.get(column)?.as_deref()
    }

    /// A cell as a count; 0 where there is none.
    pub fn count(&self, row: usize, column: usize) -> u64 {
        self.text(row, column).and_then(|t| t.parse().ok()).unwrap_or(0)
    }
}

/// Runs one query and gives its rows.
pub type Asker<'a, E> = dyn FnMut(&str) -> Result<Texts, E> + 'a;
