//! Rows handed out as they come, however many they are: as CSV, or as the rows of one JSON document. Nothing is written before
//! the first row, or the end, has come, so that what is refused leaves nothing behind.

use std::io::{self, Write};

use marktwice_core::Target;
use marktwice_core::mark::HeldRow;
use marktwice_core::value::list_to_json;
use marktwice_run::{ROW_MARK, row_mark};
use serde_json::{Value as Json, json};

use crate::human::safe_json;
use crate::sheet::{Cell, Sheet};

/// A way of writing rows.
pub(crate) trait Handing {
    /// One more row.
    fn row(&mut self, row: &HeldRow) -> io::Result<()>;

    /// All rows have come; `matched` is how many there are, handed out or not.
    fn end(&mut self, matched: u64) -> io::Result<()>;
}

/// As CSV.
pub(crate) struct Lines<W: Write> {
    sheet: Sheet<W>,
    names: Vec<String>,
    chosen: Vec<usize>,
    begun: bool,
    /// Whether each row's state is told, so that it is noticed when it has moved.
    marks: bool,
}

impl<W: Write> Lines<W> {
    /// These columns of a table's rows, written so; with `marks` each row's state too.
    pub(crate) fn new(sheet: Sheet<W>, target: &Target, chosen: &[usize], marks: bool) -> Lines<W> {
        let mut names = target.names(chosen);
        names.extend(marks.then(|| ROW_MARK.to_owned()));
        Lines { sheet, names, chosen: chosen.to_vec(), begun: false, marks }
    }

    fn begin(&mut self) -> io::Result<()> {
        match std::mem::replace(&mut self.begun, true) {
            true => Ok(()),
            false => self.sheet.head(&self.names),
        }
    }
}

impl<W: Write> Handing for Lines<W> {
    fn row(&mut self, row: &HeldRow) -> io::Result<()> {
        self.begin()?;
        let row = row.image.row();
        let mut cells: Vec<Cell> = self.chosen.iter().filter_map(|&at| row.get(at)).map(Cell::of).collect();
        cells.extend(self.marks.then(|| Cell::Text(row_mark(row))));
        self.sheet.record(&cells)
    }

    fn end(&mut self, _: u64) -> io::Result<()> {
        self.begin()?;
        self.sheet.flush()
    }
}

/// As the rows of a document, which stand behind everything else that it says.
pub(crate) struct Document<W: Write> {
    to: W,
    head: Json,
    names: Vec<String>,
    chosen: Vec<usize>,
    begun: bool,
}

impl<W: Write> Document<W> {
    /// These columns of a table's rows, behind `head`.
    pub(crate) fn new(to: W, head: Json, target: &Target, chosen: &[usize]) -> Document<W> {
        Document { to, head, names: target.names(chosen), chosen: chosen.to_vec(), begun: false }
    }

    /// What stands before the rows, or between two of them.
    fn begin(&mut self) -> io::Result<()> {
        if std::mem::replace(&mut self.begun, true) {
            return Ok(());
        }
        let head = safe_json(&format!("{:#}", self.head));
        write!(self.to, "{},\n  \"rows\": [", head.strip_suffix("\n}").unwrap_or(&head))
    }
}

impl<W: Write> Handing for Document<W> {
    fn row(&mut self, row: &HeldRow) -> io::Result<()> {
        let between = if self.begun { "," } else { "" };
        self.begin()?;
        let held = row.image.row();
        let cells = self.names.iter().zip(&self.chosen);
        let cells = cells.filter_map(|(name, &at)| Some((name.clone(), held.get(at)?.to_json())));
        let row = json!({ "key": list_to_json(&row.key), "row": Json::Object(cells.collect()) });
        let row = safe_json(&format!("{row:#}")).replace('\n', "\n    ");
        write!(self.to, "{between}\n    {row}")
    }

    fn end(&mut self, matched: u64) -> io::Result<()> {
        let close = if self.begun { "\n  ]" } else { "]" };
        self.begin()?;
        writeln!(self.to, "{close},\n  \"matched\": {matched}\n}}")?;
        self.to.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use marktwice_core::table::{Column, Key, KeyKind};
    use marktwice_core::{Image, Value};

    fn target() -> Target {
        let column = |name: &str| Column {
            name: name.into(),
            declared: String::new(),
            generated: false,
            not_null: false,
        };
        Target {
            table: "hive".into(),
            schema: String::new(),
            columns: vec![column("id"), column("note")],
            key: Key { kind: KeyKind::Primary, names: vec!["id".into()], columns: vec![0] },
            definition: String::new(),
            naming: None,
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Default::default(),
            family: Vec::new(),
        }
    }

    fn handed(rows: &[(i64, &str)]) -> [String; 2] {
        let (mut lines, mut document) = (Vec::new(), Vec::new());
        let head = json!({ "format": "f", "odd": { "rows": { "x": 1 } } });
        let mut csv = Lines::new(Sheet::new(&mut lines, false), &target(), &[1, 0], false);
        let mut json = Document::new(&mut document, head, &target(), &[1]);
        for (id, note) in rows {
            let before = vec![Value::Int(*id), Value::Text((*note).into())];
            let row = HeldRow {
                ordinal: 1,
                key: vec![Value::Int(*id)],
                image: Image::Delete { before },
                rest: None,
            };
            csv.row(&row).unwrap();
            json.row(&row).unwrap();
        }
        csv.end(7).unwrap();
        json.end(7).unwrap();
        drop((csv, json));
        [lines, document].map(|bytes| String::from_utf8(bytes).unwrap())
    }

    #[test]
    fn rows_are_one_document_however_many_they_are() {
        for (rows, lines) in
            [(&[][..], "note,id\n"), (&[(1, "a\n\u{1b}"), (2, "}")], "note,id\n\"a\n\u{1b}\",1\n},2\n")]
        {
            let [csv, document] = handed(rows);
            assert_eq!(csv, lines);
            let read: Json = serde_json::from_str(&document).unwrap_or_else(|e| panic!("{e}: {document}"));
            assert_eq!((read["rows"].as_array().unwrap().len(), &read["matched"]), (rows.len(), &7.into()));
            assert_eq!(read["odd"]["rows"]["x"], 1);
        }
    }
}
