//! Snapshots on disk: `rows.jsonl.zst` in a run's folder.

use std::path::{Path, PathBuf};

use marktwice_core::hash::RowHash;
use marktwice_core::receipt::SnapshotRef;
use marktwice_core::record::{
    SNAPSHOT_FORMAT, SNAPSHOT_VERSION, SnapshotHeader, SnapshotTotals, SnapshotTrailer,
};
use marktwice_core::table::Target;
use marktwice_core::undo::RowChange;
use marktwice_port::{LogError, SnapshotReader, SnapshotWriter};

use crate::atomic::damaged;
use crate::codec::{ReadLine, RowLine};
use crate::lines::{Line, LineReader, LineWriter, file_checksum};

/// The snapshot's name inside a run's folder.
pub(crate) const FILE: &str = "rows.jsonl.zst";

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

pub(crate) struct Writer {
    lines: LineWriter,
    tables: Vec<Target>,
    totals: SnapshotTotals,
    path: PathBuf,
    buffer: Vec<u8>,
}

impl Writer {
    pub(crate) fn new(folder: &Path, header: &SnapshotHeader) -> Result<Self, LogError> {
        let path = folder.join(FILE);
        Ok(Writer {
            lines: LineWriter::new(&path, header)?,
            tables: header.tables.clone(),
            totals: SnapshotTotals::default(),
            path,
            buffer: Vec::new(),
        })
    }
}

impl SnapshotWriter for Writer {
    fn row(&mut self, row: &RowChange) -> Result<(), LogError> {
        let target = self.tables.get(row.place.table).ok_or_else(|| unlisted(&self.path))?;
        add(&mut self.totals, row, &mut self.buffer);
        self.lines.line(&RowLine::of(row, target))
    }

    fn finish(self: Box<Self>) -> Result<(SnapshotRef, SnapshotTotals), LogError> {
        let end = self.totals;
        let written = self.lines.finish(|checksum| SnapshotTrailer { end, checksum })?;
        let reference = SnapshotRef {
            file: FILE.to_owned(),
            bytes: written.bytes,
            checksum: written.checksum,
            rows: end.rows,
        };
        verify(&self.path, &reference, &end)?;
        Ok((reference, end))
    }
}

fn unlisted(path: &Path) -> LogError {
    damaged(path, "a row is of a table that its first line does not name")
}

/// Reads a snapshot through: every row decodes, and counts, fingerprints and checksums are the given ones.
fn verify(path: &Path, expected: &SnapshotRef, totals: &SnapshotTotals) -> Result<(), LogError> {
    let mut reader = Reader { thorough: true, ..Reader::open(path, expected)? };
    while reader.next()?.is_some() {}
    if reader.totals != *totals {
        return Err(damaged(path, "what was read back is not what was written"));
    }
    Ok(())
}

pub(crate) struct Reader {
    header: SnapshotHeader,
    lines: LineReader,
    totals: SnapshotTotals,
    path: PathBuf,
    ended: bool,
    /// Whether fingerprints are made again of every row. Once is enough, right after writing: from then on the
    /// checksum of the file, which stands in the receipt, holds for all of it.
    thorough: bool,
    buffer: Vec<u8>,
}

impl Reader {
    pub(crate) fn open(path: &Path, expected: &SnapshotRef) -> Result<Self, LogError> {
        let found = file_checksum(path)?;
        if found.checksum != expected.checksum || found.bytes != expected.bytes {
            return Err(damaged(path, "it is not the file that the receipt speaks of"));
        }
        let (header, lines) = LineReader::open::<SnapshotHeader>(path, SNAPSHOT_FORMAT, SNAPSHOT_VERSION)?;
        Ok(Reader {
            header,
            lines,
            totals: SnapshotTotals::default(),
            path: path.to_owned(),
            ended: false,
            thorough: false,
            buffer: Vec::new(),
        })
    }
}

impl SnapshotReader for Reader {
    fn header(&self) -> &SnapshotHeader {
        &self.header
    }

    fn next(&mut self) -> Result<Option<RowChange>, LogError> {
        if self.ended {
            return Ok(None);
        }
        match self.lines.next()? {
            Line::Row(line) => {
                let decoded = serde_json::from_slice::<ReadLine>(line).map_err(|e| e.to_string());
                let tables = &self.header.tables;
                let steps = self.header.steps.len();
                let change = decoded.and_then(|row| match tables.get(row.table) {
                    Some(target) if row.step < steps => row.change(target),
                    _ => Err("it is of a step or table that the first line does not name".to_owned()),
                });
                match change {
                    Ok(change) => {
                        if self.thorough {
                            add(&mut self.totals, &change, &mut self.buffer);
                        } else {
                            self.totals.rows += 1;
                        }
                        Ok(Some(change))
                    }
                    Err(what) => Err(self.lines.damaged(&what)),
                }
            }
            Line::Trailer(line) => {
                let trailer = serde_json::from_slice::<SnapshotTrailer>(line).map_err(|e| e.to_string());
                let trailer = trailer.map_err(|what| damaged(&self.path, &what))?;
                let same = if self.thorough {
                    trailer.end == self.totals
                } else {
                    trailer.end.rows == self.totals.rows
                };
                if trailer.checksum != self.lines.checksum() || !same {
                    return Err(damaged(&self.path, "its totals or its checksum are others"));
                }
                self.ended = true;
                self.lines.at_end()?;
                Ok(None)
            }
        }
    }
}
