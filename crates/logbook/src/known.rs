//! Receipts that are known: read once, and not again as long as their files are the same. Those of earlier commands are kept
//! together in `receipts.jsonl.zst`, so that a command on a logbook of a thousand runs does not read a thousand files. It is a copy:
//! what is not in it, or has another file by now, is read from the receipt itself, and without it all are.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use marktwice_core::receipt::Receipt;
use marktwice_port::LogError;
use serde::{Deserialize, Serialize};

use crate::atomic::damaged;
use crate::lines::{Line, LineReader, LineWriter};
use crate::runs::{RECEIPT, read_receipt};

/// The name of the copy, in the folder of a database.
const FILE: &str = "receipts.jsonl.zst";
/// The format in its first line.
const FORMAT: &str = "marktwice-receipts";
/// The version of that format.
const VERSION: u32 = 1;
/// So many receipts are read one by one before they are put into the copy.
const NEW: usize = 16;
/// A file that was written later than this before it was read may be written again without that being seen: clocks of file
/// systems are coarse.
const SETTLES: Duration = Duration::from_millis(if cfg!(test) { 300 } else { 2_000 });

/// What tells a file that was replaced or written: its number, its length in bytes, and when it was written and changed in any
/// way, in nanoseconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
struct FileMark {
    number: u64,
    bytes: u64,
    written: u64,
    changed: u64,
}

impl FileMark {
    fn of(path: &Path) -> Option<FileMark> {
        let about = fs::metadata(path).ok()?;
        let written = nanoseconds(about.modified().ok()?)?;
        #[cfg(unix)]
        let (number, changed) = {
            use std::os::unix::fs::MetadataExt;
            let (seconds, rest) =
                (u64::try_from(about.ctime()).ok()?, u64::try_from(about.ctime_nsec()).ok()?);
            (about.ino(), seconds.checked_mul(1_000_000_000)?.checked_add(rest)?)
        };
        #[cfg(not(unix))]
        let (number, changed) = (0, written);
        Some(FileMark { number, bytes: about.len(), written, changed })
    }
}

fn nanoseconds(moment: SystemTime) -> Option<u64> {
    u64::try_from(moment.duration_since(UNIX_EPOCH).ok()?.as_nanos()).ok()
}

#[derive(Serialize, Deserialize)]
struct Header {
    format: String,
    version: u32,
    /// Another program may read receipts in another way.
    program: String,
}

impl Header {
    fn ours() -> Header {
        Header { format: FORMAT.to_owned(), version: VERSION, program: env!("CARGO_PKG_VERSION").to_owned() }
    }
}

/// The last line: how many there are, and the checksum of all lines before.
#[derive(Serialize, Deserialize)]
struct Trailer {
    end: u64,
    checksum: String,
}

#[derive(Serialize)]
struct Written<'r> {
    folder: &'r str,
    file: FileMark,
    receipt: &'r Receipt,
}

#[derive(Deserialize)]
struct Read {
    folder: String,
    file: FileMark,
    receipt: Receipt,
}

#[derive(Debug)]
struct One {
    file: FileMark,
    receipt: Rc<Receipt>,
    /// Whether it is in the copy.
    kept: bool,
}

/// The receipts of one database, by the names of their folders.
#[derive(Debug, Default)]
struct Known(HashMap<String, One>);

/// Receipts that were read; those of one command share them.
#[derive(Debug, Clone, Default)]
pub struct ReadReceipts(Rc<RefCell<HashMap<PathBuf, Known>>>);

impl ReadReceipts {
    /// The receipt in the folder of a run of the database `shelf`; `None` when the run died before it had one.
    pub(crate) fn receipt(&self, shelf: &Path, run: &Path) -> Result<Option<Rc<Receipt>>, LogError> {
        let name = run.file_name().and_then(|name| name.to_str());
        let file = FileMark::of(&run.join(RECEIPT));
        let (Some(name), Some(file)) = (name, file) else { return Ok(read_receipt(run)?.map(Rc::new)) };
        let mut all = self.0.borrow_mut();
        // A copy that cannot be read is none.
        let known =
            all.entry(shelf.to_owned()).or_insert_with(|| load(&shelf.join(FILE)).unwrap_or_default());
        if let Some(one) = known.0.get(name).filter(|one| one.file == file) {
            return Ok(Some(one.receipt.clone()));
        }
        let receipt = read_receipt(run)?.map(Rc::new);
        match &receipt {
            Some(receipt) => {
                known.0.insert(name.to_owned(), One { file, receipt: receipt.clone(), kept: false });
            }
            None => drop(known.0.remove(name)),
        }
        Ok(receipt)
    }

    /// Puts what was read into the copy, once that is worth a file; `runs` are the folders that are there.
    pub(crate) fn keep(&self, shelf: &Path, runs: &[PathBuf]) {
        let mut all = self.0.borrow_mut();
        let Some(known) = all.get_mut(shelf) else { return };
        let there: HashSet<&str> = runs.iter().filter_map(|run| run.file_name()?.to_str()).collect();
        let before = nanoseconds(SystemTime::now())
            .and_then(|now| now.checked_sub(u64::try_from(SETTLES.as_nanos()).ok()?));
        let settled =
            |one: &One| before.is_some_and(|before| one.file.written.max(one.file.changed) < before);
        let were = known.0.len();
        known.0.retain(|name, one| there.contains(name.as_str()) || !one.kept);
        let new = known.0.values().filter(|one| !one.kept && settled(one)).count();
        if new < NEW && known.0.len() == were {
            return;
        }
        let mut written: Vec<(&str, &One)> = known.0.iter().map(|(name, one)| (name.as_str(), one)).collect();
        written.retain(|(name, one)| there.contains(name) && settled(one));
        written.sort_unstable_by_key(|(name, _)| *name);
        // What cannot be kept is read again.
        if save(&shelf.join(FILE), &written).is_ok() {
            known.0.values_mut().filter(|one| settled(one)).for_each(|one| one.kept = true);
        }
    }
}

fn save(path: &Path, all: &[(&str, &One)]) -> Result<(), LogError> {
    let mut lines = LineWriter::new(path, &Header::ours(), None)?;
    for (folder, one) in all {
        lines.line(&Written { folder, file: one.file, receipt: &one.receipt })?;
    }
    let end = all.len() as u64;
    lines.finish(false, |checksum| Trailer { end, checksum }).map(drop)
}

fn load(path: &Path) -> Result<Known, LogError> {
    let (header, mut reader): (Header, _) = LineReader::open(path, FORMAT, VERSION, None)?;
    let mut all = HashMap::new();
    if header.program != Header::ours().program {
        return Ok(Known(all));
    }
    let wrong = |e: serde_json::Error| damaged(path, &e.to_string());
    let trailer: Trailer = loop {
        match reader.next()? {
            Line::Row(line) => {
                let Read { folder, file, receipt } = serde_json::from_slice(line).map_err(wrong)?;
                all.insert(folder, One { file, receipt: Rc::new(receipt), kept: true });
            }
            Line::Trailer(line) => break serde_json::from_slice(line).map_err(wrong)?,
        }
    };
    if trailer.checksum != reader.checksum() || trailer.end != all.len() as u64 {
        return Err(damaged(path, "its checksum is another"));
    }
    reader.at_end()?;
    Ok(Known(all))
}
