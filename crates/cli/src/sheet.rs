//! Rows for a spreadsheet, as CSV (RFC 4180): NULL is an empty cell, an empty text is `""`; numbers are numbers; a text that
//! a spreadsheet would run as a formula has an apostrophe before it, unless it is wanted to the letter.

use std::io::{self, Write};

use marktwice_core::Value;
use marktwice_core::sheet::text;

/// A cell.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Cell {
    /// Nothing: NULL, or no row.
    Empty,
    /// A number, a truth, or bytes in hexadecimal.
    Plain(String),
    /// A text of somebody's.
    Text(String),
}

impl Cell {
    /// The cell of a value.
    pub(crate) fn of(value: &Value) -> Cell {
        match (value, text(value)) {
            (_, None) => Cell::Empty,
            (Value::Text(_) | Value::TextBytes(_), Some(text)) => Cell::Text(text),
            (_, Some(text)) => Cell::Plain(text),
        }
    }
}

/// Writes records.
pub(crate) struct Sheet<W: Write> {
    to: W,
    /// Whether texts are written to the letter.
    raw: bool,
    /// What is written for NULL.
    null: Option<String>,
}

impl<W: Write> Sheet<W> {
    /// A sheet that is written there.
    pub(crate) fn new(to: W, raw: bool) -> Sheet<W> {
        Sheet { to, raw, null: None }
    }

    /// With a text for NULL.
    pub(crate) fn with_null(self, null: Option<&str>) -> Sheet<W> {
        Sheet { null: null.map(str::to_owned), ..self }
    }

    /// Names of columns.
    pub(crate) fn head(&mut self, names: &[String]) -> io::Result<()> {
        self.record(&names.iter().cloned().map(Cell::Text).collect::<Vec<_>>())
    }

    /// One line.
    pub(crate) fn record(&mut self, cells: &[Cell]) -> io::Result<()> {
        let written: Vec<String> = cells.iter().map(|cell| self.cell(cell)).collect();
        self.to.write_all(written.join(",").as_bytes())?;
        self.to.write_all(b"\n")
    }

    fn cell(&self, cell: &Cell) -> String {
        let text = match cell {
            Cell::Empty => return self.null.clone().unwrap_or_default(),
            Cell::Plain(text) => text.clone(),
            Cell::Text(text) if !self.raw && is_formula(text) => format!("'{text}"),
            Cell::Text(text) => text.clone(),
        };
        let trimmed = text.trim().len() == text.len();
        if text.is_empty() || !trimmed || text.contains(['"', ',', '\n', '\r', ';', '\t']) {
            format!("\"{}\"", text.replace('"', "\"\""))
        } else {
            text
        }
    }

    /// Hands over what was held back.
    pub(crate) fn flush(&mut self) -> io::Result<()> {
        self.to.flush()
    }

    /// What it is written to, with everything in it.
    pub(crate) fn finish(mut self) -> io::Result<W> {
        self.to.flush()?;
        Ok(self.to)
    }
}

/// Whether a spreadsheet would take a text for a formula; a plain number is none.
fn is_formula(text: &str) -> bool {
    let first = text.trim_start_matches([' ', '"']).chars().next();
    let number = text.parse::<f64>().is_ok_and(f64::is_finite);
    matches!(first, Some('=' | '+' | '-' | '@' | '\t' | '\r' | '\n')) && !number
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(raw: bool, cells: &[Cell]) -> String {
        let mut sheet = Sheet::new(Vec::new(), raw);
        sheet.record(cells).unwrap();
        String::from_utf8(sheet.finish().unwrap()).unwrap()
    }

    #[test]
    fn cells_keep_what_they_are() {
        let of = |values: &[Value]| line(false, &values.iter().map(Cell::of).collect::<Vec<_>>());
        let text = |t: &str| Value::Text(t.into());
        assert_eq!(of(&[Value::Null, text(""), text(" a ")]), ",\"\",\" a \"\n");
        assert_eq!(of(&[Value::Decimal("4.50".to_owned().into()), Value::Int(-3)]), "4.50,-3\n");
        assert_eq!(of(&[text("=1+1"), text("-5"), text("-x"), text("@a")]), "'=1+1,-5,'-x,'@a\n");
        assert_eq!(line(true, &[Cell::of(&text("=1+1"))]), "=1+1\n");
        assert_eq!(of(&[text("a,b\"c\nd"), Value::Bytes(vec![0, 255])]), "\"a,b\"\"c\nd\",x'00ff'\n");
    }
}
