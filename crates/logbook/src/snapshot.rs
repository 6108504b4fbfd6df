//! Snapshots on disk: `rows.jsonl.zst` in a run's folder, `rows.jsonl.zst.age` where it is encrypted.

use std::path::{Path, PathBuf};

use marktwice_core::Value;
use marktwice_core::hash::{HashKey, RowHash};
use marktwice_core::receipt::SnapshotRef;
use marktwice_core::record::{
    SNAPSHOT_FORMAT, SNAPSHOT_VERSION, SnapshotHeader, SnapshotTotals, SnapshotTrailer,
};
use marktwice_core::secret::HiddenColumns;
use marktwice_core::table::Target;
use marktwice_core::undo::RowChange;
use marktwice_port::{LogError, SnapshotReader, SnapshotWriter};

use crate::ahead::{Ahead, Source};
use crate::atomic::damaged;
use crate::cipher::FileKey;
use crate::codec::{IsRow, ReadLine, RowLine};
use crate::lines::{self, Line, LineReader, LineWriter, file_checksum};
use crate::worker::{Work, Worker};

/// The snapshot's name inside a run's folder.
pub(crate) const FILE: &str = "rows.jsonl.zst";
/// The same of one that is encrypted.
pub(crate) const ENCRYPTED: &str = "rows.jsonl.zst.age";

/// What it is called, for whom it is encrypted or not.
fn name(key: Option<&FileKey>) -> &'static str {
    if key.is_some() { ENCRYPTED } else { FILE }
}

fn add(totals: &mut SnapshotTotals, change: &RowChange, buffer: &mut Vec<u8>) {
    totals.rows += 1;
    totals.changed += u64::from(change.differs());
    if let Some(before) = change.image.before() {
        totals.before.add(&RowHash::with(buffer, before));
    }
    if let Some(after) = change.image.after() {
        totals.after.add(&RowHash::with(buffer, after));
    }
}

/// What is done with each row: it is encoded, read again from what it was encoded as, and compared.
struct Encoding {
    lines: LineWriter,
    tables: Vec<Target>,
    path: PathBuf,
}

impl Work for Encoding {
    type Row = RowChange;

    fn take(&mut self, row: &RowChange) -> Result<(), LogError> {
        let target = self.tables.get(row.place.table).ok_or_else(|| unlisted(&self.path))?;
        let line = self.lines.line(&RowLine::of(row, target))?;
        // That the file holds these bytes is proven in the end; that they are the row, here.
        match (IsRow { change: row, target }).line(line) {
            Ok(true) => Ok(()),
            Ok(false) => Err(damaged(&self.path, "a row does not read back as it was written")),
            Err(what) => Err(damaged(&self.path, &format!("a row does not read back: {what}"))),
        }
    }
}

pub(crate) struct Writer {
    rows: Worker<Encoding>,
    totals: SnapshotTotals,
    buffer: Vec<u8>,
    path: PathBuf,
    key: Option<FileKey>,
}

impl Writer {
    /// A new one; encrypted where there is a key.
    pub(crate) fn new(
        folder: &Path,
        header: &SnapshotHeader,
        key: Option<FileKey>,
    ) -> Result<Self, LogError> {
        let path = folder.join(name(key.as_ref()));
        let rows = Worker::new(Encoding {
            lines: LineWriter::new(&path, header, key.as_ref())?,
            tables: header.tables.clone(),
            path: path.clone(),
        });
        Ok(Writer { rows, totals: SnapshotTotals::default(), buffer: Vec::new(), path, key })
    }
}

impl SnapshotWriter for Writer {
    fn row(&mut self, row: RowChange) -> Result<(), LogError> {
        let bytes = weight(&row);
        // Here, and not where it is written: there is more to do there.
        add(&mut self.totals, &row, &mut self.buffer);
        self.rows.row(row, bytes)
    }

    fn finish(self: Box<Self>) -> Result<(SnapshotRef, SnapshotTotals), LogError> {
        let end = self.totals;
        let Encoding { lines, .. } = self.rows.finish()?;
        let written = lines.finish(true, |checksum| SnapshotTrailer { end, checksum })?;
        lines::verify(&self.path, &written, self.key.as_ref())?;
        let reference = SnapshotRef {
            file: name(self.key.as_ref()).to_owned(),
            encrypted_for: self.key.as_ref().map(FileKey::name),
            bytes: written.bytes,
            checksum: written.checksum,
            rows: end.rows,
        };
        Ok((reference, end))
    }
}

fn unlisted(path: &Path) -> LogError {
    damaged(path, "a row is of a table that its first line does not name")
}

/// A snapshot, read row by row.
pub(crate) struct Reader {
    header: SnapshotHeader,
    rows: Ahead<Decoding>,
}

/// What its rows are decoded with.
struct Decoding {
    lines: LineReader,
    tables: Vec<Target>,
    steps: usize,
    rows: u64,
    path: PathBuf,
}

impl Reader {
    pub(crate) fn open(path: &Path, expected: &SnapshotRef, key: Option<&FileKey>) -> Result<Self, LogError> {
        let found = file_checksum(path)?;
        if found.checksum != expected.checksum || found.bytes != expected.bytes {
            return Err(damaged(path, "it is not the file that the receipt speaks of"));
        }
        let (header, lines) =
            LineReader::open::<SnapshotHeader>(path, SNAPSHOT_FORMAT, SNAPSHOT_VERSION, key)?;
        let (tables, steps) = (header.tables.clone(), header.steps.len());
        let rows = Ahead::new(Decoding { lines, tables, steps, rows: 0, path: path.to_owned() });
        Ok(Reader { header, rows })
    }

    /// Hides columns in what it says of its tables.
    pub(crate) fn hide(&mut self, columns: &HiddenColumns, key: HashKey) {
        self.header.tables.iter_mut().for_each(|table| columns.apply(table, key));
    }
}

impl SnapshotReader for Reader {
    fn header(&self) -> &SnapshotHeader {
        &self.header
    }

    fn next(&mut self) -> Result<Option<RowChange>, LogError> {
        self.rows.next()
    }
}

impl Source for Decoding {
    type Row = RowChange;

    fn weight(row: &RowChange) -> usize {
        weight(row)
    }

    fn next(&mut self) -> Result<Option<RowChange>, LogError> {
        match self.lines.next()? {
            Line::Row(line) => {
                let change = decode(line, &self.tables);
                let change = match change {
                    Ok(change) if change.place.step >= self.steps => Err(UNNAMED.to_owned()),
                    other => other,
                };
                self.rows += 1;
                change.map(Some).map_err(|what| self.lines.damaged(&what))
            }
            Line::Trailer(line) => {
                let trailer = serde_json::from_slice::<SnapshotTrailer>(line).map_err(|e| e.to_string());
                let trailer = trailer.map_err(|what| damaged(&self.path, &what))?;
                if trailer.checksum != self.lines.checksum() || trailer.end.rows != self.rows {
                    return Err(damaged(&self.path, "its totals or its checksum are others"));
                }
                self.lines.at_end()?;
                Ok(None)
            }
        }
    }
}

/// What is wrong with a row that stands nowhere.
const UNNAMED: &str = "it is of a step or table that the first line does not name";

/// The row of a line, or what is wrong with the line.
fn decode(line: &[u8], tables: &[Target]) -> Result<RowChange, String> {
    // Once for the line, and not for each of its texts.
    let line = std::str::from_utf8(line).map_err(|e| e.to_string())?;
    let read: ReadLine<'_> = serde_json::from_str(line).map_err(|e| e.to_string())?;
    let target = tables.get(read.table).ok_or(UNNAMED)?;
    read.change(target)
}

/// How many bytes of memory a row takes, about.
fn weight(row: &RowChange) -> usize {
    let cells = row.image.before().map_or(0, <[_]>::len) + row.image.after().map_or(0, <[_]>::len);
    row.image.weight() + cells * size_of::<Value>()
}
