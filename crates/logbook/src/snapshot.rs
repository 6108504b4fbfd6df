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

use crate::codec::{ReadLine, RowLine};
use crate::lines::{Line, LineReader, LineWriter, damaged, file_checksum};

/// The snapshot's name inside a run's folder.
pub(crate) const FILE: &str = "rows.jsonl.zst";

fn add(totals: &mut SnapshotTotals, change: &RowChange, buffer: &mut Vec<u8>) {
    totals.rows += 1;
    totals.changed += u64::from(change.differs());
    if let Some(before) = &change.before {
        totals.before.add(&RowHash::with(buffer, before));
    }
    if let Some(after) = &change.after {
        totals.after.add(&RowHash::with(buffer, after));
    }
}

fn only_target(header: &SnapshotHeader, path: &Path) -> Result<Target, LogError> {
    match header.tables.as_slice() {
        [target] => Ok(target.clone()),
        _ => Err(damaged(path, "it has more tables than this version puts back")),
    }
}

pub(crate) struct Writer {
    lines: LineWriter,
    target: Target,
    totals: SnapshotTotals,
    path: PathBuf,
    buffer: Vec<u8>,
}

impl Writer {
    pub(crate) fn new(folder: &Path, header: &SnapshotHeader) -> Result<Self, LogError> {
        let path = folder.join(FILE);
        let target = only_target(header, &path)?;
        Ok(Writer {
            lines: LineWriter::new(&path, header)?,
            target,
            totals: SnapshotTotals::default(),
            path,
            buffer: Vec::new(),
        })
    }
}

impl SnapshotWriter for Writer {
    fn row(&mut self, row: &RowChange) -> Result<(), LogError> {
        add(&mut self.totals, row, &mut self.buffer);
        self.lines.line(&RowLine::of(row, &self.target))
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
    target: Target,
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
        let target = only_target(&header, path)?;
        Ok(Reader {
            header,
            target,
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
                match decoded.and_then(|row| row.change(&self.target)) {
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
