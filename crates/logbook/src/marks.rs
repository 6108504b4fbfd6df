//! Marks on disk: `marks/<time>-<name>.jsonl.zst`.

use std::path::{Path, PathBuf};

use marktwice_core::mark::{MarkRow, MarkSummary};
use marktwice_core::record::{MARK_FORMAT, MARK_VERSION, MarkHeader, MarkTrailer};
use marktwice_port::{DraftMark, LogError, Mark};

use crate::codec::MarkLine;
use crate::lines::{Line, LineReader, LineWriter, damaged};

pub(crate) struct Draft(LineWriter);

impl Draft {
    pub(crate) fn new(path: &Path, header: &MarkHeader) -> Result<Self, LogError> {
        LineWriter::new(path, header).map(Draft)
    }
}

impl DraftMark for Draft {
    fn row(&mut self, row: &MarkRow) -> Result<(), LogError> {
        self.0.line(&MarkLine::of(row))
    }

    fn finish(self: Box<Self>, summary: &MarkSummary) -> Result<(), LogError> {
        let end = *summary;
        self.0.finish(|checksum| MarkTrailer { end, checksum }).map(|_| ())
    }
}

pub(crate) struct Kept {
    path: PathBuf,
    header: MarkHeader,
    summary: MarkSummary,
}

impl Kept {
    /// Opens a mark and reads it through once, so that what is used later is known to be whole.
    pub(crate) fn open(path: &Path) -> Result<Self, LogError> {
        let (header, summary) = read(path, &mut |_| {})?;
        if !path.to_string_lossy().ends_with(&format!("-{}.jsonl.zst", header.mark)) {
            return Err(damaged(path, &format!("it is the mark {}", header.mark)));
        }
        Ok(Kept { path: path.to_owned(), header, summary })
    }
}

/// The command that took a mark, as its first line says; a file that cannot be read is one that may be meant.
pub(crate) fn taken_by(path: &Path) -> Result<Option<String>, LogError> {
    match LineReader::open::<MarkHeader>(path, MARK_FORMAT, MARK_VERSION) {
        Ok((header, _)) => Ok(header.by),
        Err(_) => Ok(None),
    }
}

fn read(path: &Path, give: &mut dyn FnMut(&MarkRow)) -> Result<(MarkHeader, MarkSummary), LogError> {
    let (header, mut reader) = LineReader::open::<MarkHeader>(path, MARK_FORMAT, MARK_VERSION)?;
    let mut rows = 0;
    let trailer: MarkTrailer = loop {
        match reader.next()? {
            Line::Row(line) => {
                let row = serde_json::from_slice::<MarkLine<'_>>(line).ok().and_then(MarkLine::row);
                let Some(row) = row else { return Err(reader.damaged("it is not a row of a mark")) };
                rows += 1;
                give(&row);
            }
            Line::Trailer(line) => match serde_json::from_slice(line) {
                Ok(trailer) => break trailer,
                Err(_) => return Err(reader.damaged("its last line cannot be read")),
            },
        }
    };
    if trailer.checksum != reader.checksum() || trailer.end.matched != rows {
        return Err(reader.damaged("its checksum is another"));
    }
    reader.at_end()?;
    Ok((header, trailer.end))
}

impl Mark for Kept {
    fn header(&self) -> &MarkHeader {
        &self.header
    }

    fn summary(&self) -> &MarkSummary {
        &self.summary
    }

    fn rows(&self, give: &mut dyn FnMut(&MarkRow)) -> Result<(), LogError> {
        read(&self.path, give).map(|_| ())
    }
}
