//! Marks on disk: `marks/<time>-<name>.jsonl.zst`.

use std::path::{Path, PathBuf};

use marktwice_core::Value;
use marktwice_core::mark::{MarkRow, MarkSummary};
use marktwice_core::record::{MARK_FORMAT, MARK_VERSION, MarkHeader, MarkTrailer};
use marktwice_core::table::Target;
use marktwice_port::{DraftMark, LogError, Mark};

use crate::atomic::damaged;
use crate::codec::MarkLine;
use crate::lines::{Line, LineReader, LineWriter};
use crate::worker::{Work, Worker};

struct Lines(LineWriter);

impl Work for Lines {
    type Row = (usize, MarkRow);

    fn take(&mut self, (step, row): &(usize, MarkRow)) -> Result<(), LogError> {
        self.0.line(&MarkLine::of(*step, row)).map(drop)
    }
}

pub(crate) struct Draft(Worker<Lines>);

impl Draft {
    pub(crate) fn new(path: &Path, header: &MarkHeader) -> Result<Self, LogError> {
        LineWriter::new(path, header, None).map(|lines| Draft(Worker::new(Lines(lines))))
    }
}

impl DraftMark for Draft {
    fn row(&mut self, step: usize, row: MarkRow) -> Result<(), LogError> {
        let bytes = row.key.iter().map(Value::weight).sum();
        self.0.row((step, row), bytes)
    }

    fn finish(self: Box<Self>, totals: &[MarkSummary]) -> Result<(), LogError> {
        let end = totals.to_vec();
        // A mark that a power cut takes is taken again: nothing is decided by its being there.
        self.0.finish()?.0.finish(false, |checksum| MarkTrailer { end, checksum }).map(|_| ())
    }
}

pub(crate) struct Kept {
    path: PathBuf,
    header: MarkHeader,
    totals: Vec<MarkSummary>,
}

impl Kept {
    /// Opens a mark and reads it through once, so that what is used later is known to be whole.
    pub(crate) fn open(path: &Path) -> Result<Self, LogError> {
        let (header, totals) = read(path, &mut |_, _| {})?;
        if !path.to_string_lossy().ends_with(&format!("-{}.jsonl.zst", header.mark)) {
            return Err(damaged(path, &format!("it is the mark {}", header.mark)));
        }
        Ok(Kept { path: path.to_owned(), header, totals })
    }
}

/// What a mark says of itself, as far as its first line tells; a file that cannot be read tells nothing.
pub(crate) fn first_line(path: &Path) -> Option<MarkHeader> {
    LineReader::open::<MarkHeader>(path, MARK_FORMAT, MARK_VERSION, None).ok().map(|(header, _)| header)
}

/// A mark's header and totals, after each of its rows was given with its step.
type Read = (MarkHeader, Vec<MarkSummary>);

fn read(path: &Path, give: &mut dyn FnMut(usize, &MarkRow)) -> Result<Read, LogError> {
    let (header, mut reader) = LineReader::open::<MarkHeader>(path, MARK_FORMAT, MARK_VERSION, None)?;
    let mut rows: Vec<u64> = vec![0; header.steps.len()];
    let trailer: MarkTrailer = loop {
        match reader.next()? {
            Line::Row(line) => {
                let row = serde_json::from_slice::<MarkLine<'_>>(line).ok();
                let row = row.and_then(|line| Some((line.s, line.row()?)));
                let Some((step, mut row)) = row else {
                    return Err(reader.damaged("it is not a row of a mark"));
                };
                let table = header.steps.get(step).and_then(|record| header.tables.get(record.table));
                if table.is_some_and(Target::hides_key) {
                    row.key = row.key.into_iter().map(Value::as_pseudonym).collect();
                }
                let Some(count) = rows.get_mut(step) else {
                    return Err(reader.damaged("it is a row of a step that is not there"));
                };
                *count += 1;
                give(step, &row);
            }
            Line::Trailer(line) => match serde_json::from_slice(line) {
                Ok(trailer) => break trailer,
                Err(_) => return Err(reader.damaged("its last line cannot be read")),
            },
        }
    };
    let matched = trailer.end.iter().map(|end| end.matched);
    if trailer.checksum != reader.checksum() || !matched.eq(rows) {
        return Err(reader.damaged("its checksum is another"));
    }
    reader.at_end()?;
    Ok((header, trailer.end))
}

impl Mark for Kept {
    fn header(&self) -> &MarkHeader {
        &self.header
    }

    fn totals(&self) -> &[MarkSummary] {
        &self.totals
    }

    fn rows(&self, step: usize, give: &mut dyn FnMut(&MarkRow)) -> Result<(), LogError> {
        let mut own = |of: usize, row: &MarkRow| {
            if of == step {
                give(row);
            }
        };
        read(&self.path, &mut own).map(|_| ())
    }
}
