//! The logbook of one database: a folder of its own under the logbook's root, named after the database and the
//! hash of its identity, found wherever a command is started.

use std::any::Any;
use std::ffi::OsString;
use std::fs::{self, File, OpenOptions};
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::time::{Duration, Instant};

use marktwice_core::hash::{self, HashKey};
use marktwice_core::receipt::{DatabaseId, Receipt, SnapshotRef};
use marktwice_core::record::MarkHeader;
use marktwice_core::secret::HiddenColumns;
use marktwice_port::{Damaged, DraftMark, LogError, LogErrorKind, Logbook, Mark, RunFolder, SnapshotReader};

use crate::atomic::{self, io_error, make_folder};
use crate::bounded;
use crate::cipher::FileKey;
use crate::known::ReadReceipts;
use crate::marks::{Draft, Kept, first_line};
use crate::runs::{CHANGE, Folder, RECEIPT, read_receipt};
use crate::snapshot::Reader;

/// Bytes of a mark from which on it is not read again only to tell what an edit has changed.
const LARGE_MARK: u64 = 16 << 20;

/// Marks older than the newest this many are removed when a new one is kept: a mark is good for one agreement.
const MARKS_KEPT: usize = 50;
/// A command that only looks for runs that were cut off has the lock for a moment; a run has it for longer.
const LOCK_WAIT: Duration = Duration::from_millis(400);
/// Letters and digits of short names: none that are easily taken for another, no vowels that make words.
const ALPHABET: &[u8] = b"23456789bcdfghjkmnpqrstvwxz";

/// The part of a logbook that belongs to one database.
#[derive(Debug, Clone)]
pub struct Shelf {
    folder: PathBuf,
    /// Identities of the database, the present one first.
    identities: Vec<String>,
    /// Receipts that were read, as long as their files are the same: a command asks for all of them several times.
    read: ReadReceipts,
    /// What snapshots are encrypted for, and read with.
    key: Option<Result<FileKey, LogError>>,
    /// Columns whose values are never shown.
    hide: HiddenColumns,
}

/// A database that a logbook knows.
#[derive(Debug, Clone)]
pub struct Overview {
    /// Which database.
    pub database: DatabaseId,
    /// Its part of the logbook.
    pub shelf: Shelf,
}

/// All databases that the logbook under `root` knows, by name.
///
/// # Errors
/// When the folder cannot be read.
pub fn databases(root: &Path) -> Result<Vec<Overview>, LogError> {
    let mut all = Vec::new();
    for folder in sorted_entries(root)? {
        if let Ok(bytes) = bounded::document(&folder.join("database.json"))
            && let Ok(database) = serde_json::from_slice(&bytes)
        {
            let identities = identities(&database);
            all.push(Overview {
                database,
                shelf: Shelf {
                    folder,
                    identities,
                    read: ReadReceipts::default(),
                    key: None,
                    hide: HiddenColumns::default(),
                },
            });
        }
    }
    Ok(all)
}

fn sorted_entries(folder: &Path) -> Result<Vec<PathBuf>, LogError> {
    let entries = match fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(io_error("read the folder", folder, &error)),
    };
    let mut names: Vec<OsString> = entries
        .map(|entry| entry.map(|e| e.file_name()))
        .collect::<Result<_, _>>()
        .map_err(|e| io_error("read the folder", folder, &e))?;
    names.sort_unstable();
    Ok(names.into_iter().map(|name| folder.join(name)).collect())
}

fn file_name(path: &Path) -> &str {
    path.file_name().and_then(|n| n.to_str()).unwrap_or("")
}

/// The short name at the end of `<time>-<name>` or `<time>-<name>.jsonl.zst`.
fn short_name(path: &Path) -> &str {
    let stem = file_name(path).split('.').find(|part| part.contains('-')).unwrap_or("");
    stem.rsplit('-').next().unwrap_or("")
}

/// The time at the beginning of a name, made later than that of the last one where the clock has been put back in between:
/// names are sorted, and what came last must stay the last.
fn in_order(stamp: &str, earlier: &[PathBuf]) -> String {
    let last = earlier.iter().map(|path| file_name(path).split('-').next().unwrap_or("")).max().unwrap_or("");
    if stamp > last {
        return stamp.to_owned();
    }
    let (base, count) = last.split_once('_').unwrap_or((last, "0"));
    format!("{base}_{:06}", count.parse::<u32>().unwrap_or(0) + 1)
}

fn identities(database: &DatabaseId) -> Vec<String> {
    std::iter::once(&database.identity).chain(&database.formerly).cloned().collect()
}

impl Shelf {
    /// Opens the part of the logbook under `root` that belongs to `database`, making it where it is new.
    ///
    /// # Errors
    /// When it cannot be made or written.
    pub fn open(root: &Path, database: &DatabaseId) -> Result<Shelf, LogError> {
        let mut shelf = Shelf::at(root, database);
        make_folder(root)?;
        let ignore = root.join(".gitignore");
        if !ignore.exists() {
            atomic::write(&ignore, b"# Row contents of databases: not for version control.\n*\n")?;
        }
        for part in ["marks", "runs", "unsettled"] {
            make_folder(&shelf.folder.join(part))?;
        }
        let about = shelf.folder.join("database.json");
        let kept: Option<DatabaseId> =
            bounded::document(&about).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok());
        let mut known = kept.clone().unwrap_or_else(|| database.clone());
        for former in &database.formerly {
            if !known.formerly.contains(former) {
                known.formerly.push(former.clone());
            }
        }
        if kept.as_ref() != Some(&known) {
            let text = serde_json::to_vec_pretty(&known).map_err(|e| {
                LogError::new(LogErrorKind::Io, format!("cannot encode {}: {e}", about.display()))
            })?;
            atomic::write(&about, &text)?;
        }
        shelf.identities = identities(&known);
        shelf.identities.push(database.identity.clone());
        for former in &database.formerly {
            shelf.take_over(root, &DatabaseId { identity: former.clone(), ..database.clone() })?;
        }
        Ok(shelf)
    }

    /// Takes over the runs that are kept under a former identity of the database: the folder of each is moved as it is,
    /// then the note of it, so that a death in between leaves each run in one of the two places.
    fn take_over(&self, root: &Path, former: &DatabaseId) -> Result<(), LogError> {
        let old = Shelf::at(root, former);
        if old.folder == self.folder || !old.folder.join("runs").exists() {
            return Ok(());
        }
        // A run that is at work under the former identity goes on there.
        let Ok(_lock) = old.lock() else { return Ok(()) };
        for run in old.run_folders()? {
            let to = self.folder.join("runs").join(file_name(&run));
            fs::rename(&run, &to).map_err(|e| io_error("move", &run, &e))?;
        }
        atomic::sync_folder(&self.folder.join("runs"))?;
        for note in sorted_entries(&old.folder.join("unsettled"))? {
            let to = self.folder.join("unsettled").join(file_name(&note));
            fs::rename(&note, &to).map_err(|e| io_error("move", &note, &e))?;
        }
        Ok(())
    }

    /// The part that belongs to `database`, whether it is there or not; nothing is written.
    pub fn at(root: &Path, database: &DatabaseId) -> Shelf {
        let tail = hash::texts([database.engine.as_str(), database.identity.as_str()]);
        let plain: String = database
            .identity
            .rsplit(['/', '\\'])
            .next()
            .unwrap_or("")
            .chars()
            .filter(|c| c.is_ascii_alphanumeric() || ".-_".contains(*c))
            .take(40)
            .collect();
        let name = format!("{}-{}", plain.trim_start_matches('.'), tail.get(..8).unwrap_or(""));
        Shelf {
            folder: root.join(name),
            identities: identities(database),
            read: ReadReceipts::default(),
            key: None,
            hide: HiddenColumns::default(),
        }
    }

    /// Its folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    fn run_folders(&self) -> Result<Vec<PathBuf>, LogError> {
        sorted_entries(&self.folder.join("runs"))
    }

    fn mark_files(&self) -> Result<Vec<PathBuf>, LogError> {
        let mut files = sorted_entries(&self.folder.join("marks"))?;
        files.retain(|f| file_name(f).ends_with(".jsonl.zst"));
        Ok(files)
    }

    fn run_folder(&self, run: &str) -> Result<PathBuf, LogError> {
        self.run_folders()?
            .into_iter()
            .find(|f| short_name(f) == run)
            .ok_or_else(|| LogError::new(LogErrorKind::NotFound, format!("there is no run {run}")))
    }

    fn new_name(&self, taken: &[PathBuf]) -> Result<String, LogError> {
        loop {
            let mut dice = [0u8; 4];
            getrandom::fill(&mut dice)
                .map_err(|e| LogError::new(LogErrorKind::Io, format!("no random numbers: {e}")))?;
            let letter =
                |d: &u8| ALPHABET.get(usize::from(*d) % ALPHABET.len()).copied().map_or('2', char::from);
            let name: String = dice.iter().map(letter).collect();
            if !taken.iter().any(|path| short_name(path) == name) {
                return Ok(name);
            }
        }
    }

    /// The same, with receipts that were read before.
    #[must_use]
    pub fn sharing(self, read: &ReadReceipts) -> Shelf {
        Shelf { read: read.clone(), ..self }
    }

    /// The same, with snapshots encrypted for a key from now on. One that could not be had is in the way of a new run, and of what is
    /// encrypted; of nothing else.
    #[must_use]
    pub fn encrypting(self, key: Option<Result<FileKey, LogError>>) -> Shelf {
        Shelf { key, ..self }
    }

    /// The same, with columns whose values are never shown: what a snapshot says of its tables hides them, and a new one, which holds
    /// them, has to be encrypted.
    #[must_use]
    pub fn hiding(self, columns: &HiddenColumns) -> Shelf {
        Shelf { hide: columns.clone(), ..self }
    }

    /// What a new snapshot is encrypted for.
    fn key(&self) -> Result<Option<FileKey>, LogError> {
        if self.key.is_none() && !self.hide.is_empty() {
            let what = "columns of this database are hidden, and a snapshot holds them: it has to be encrypted, and no key_file is set";
            return Err(LogError::new(LogErrorKind::Key, what));
        }
        self.key.clone().transpose()
    }

    /// The receipt in a run's folder; `None` when the run died before it had one.
    fn receipt_of(&self, folder: &Path) -> Result<Option<Rc<Receipt>>, LogError> {
        self.read.receipt(&self.folder, folder)
    }

    /// All receipts that can be read, the newest first.
    fn whole(&self) -> Result<Vec<Rc<Receipt>>, LogError> {
        let folders = self.run_folders()?;
        let mut all = Vec::new();
        for folder in folders.iter().rev() {
            match self.receipt_of(folder) {
                Ok(receipt) => all.extend(receipt),
                Err(error) if error.kind == LogErrorKind::Damaged => {}
                Err(error) => return Err(error),
            }
        }
        self.read.keep(&self.folder, &folders);
        Ok(all)
    }

    fn folder_of(&self, run: String, path: PathBuf) -> Folder {
        let unsettled = self.folder.join("unsettled").join(&run);
        Folder { run, path, unsettled, key: None }
    }
}

impl Logbook for Shelf {
    fn lock(&self) -> Result<Box<dyn Any>, LogError> {
        let path = self.folder.join("lock");
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false);
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
        let file: File = options.open(&path).map_err(|e| io_error("lock", &path, &e))?;
        let until = Instant::now() + LOCK_WAIT;
        let locked = loop {
            match file.try_lock() {
                Err(fs::TryLockError::WouldBlock) if Instant::now() < until => {
                    std::thread::sleep(Duration::from_millis(20));
                }
                other => break other,
            }
        };
        match locked {
            // The system takes the lock away with the file, so a dead process leaves none behind.
            Ok(()) => Ok(Box::new(file)),
            Err(fs::TryLockError::WouldBlock) => Err(LogError::new(
                LogErrorKind::Busy,
                "another marktwice is at work on this database; wait until it has ended",
            )),
            Err(fs::TryLockError::Error(error)) => Err(io_error("lock", &path, &error)),
        }
    }

    fn key_name(&self) -> Option<String> {
        self.key.as_ref()?.as_ref().ok().map(FileKey::name)
    }

    fn hash_key(&self) -> Result<HashKey, LogError> {
        if let Some(Ok(key)) = &self.key {
            return Ok(key.hash_key());
        }
        let path = self.folder.join("key");
        let read = || fs::read_to_string(&path);
        let text = match read() {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                let mut dice = [0u8; 32];
                getrandom::fill(&mut dice)
                    .map_err(|e| LogError::new(LogErrorKind::Io, format!("no random numbers: {e}")))?;
                let digits: String = dice.iter().map(|byte| format!("{byte:02x}")).collect();
                atomic::write(&path, format!("{digits}\n").as_bytes())?;
                read()
            }
            other => other,
        };
        let text = text.map_err(|e| io_error("read", &path, &e))?;
        let digit = |at: usize| text.get(at * 2..at * 2 + 2).and_then(|two| u8::from_str_radix(two, 16).ok());
        let mut key = [0u8; 32];
        for (at, byte) in key.iter_mut().enumerate() {
            let what = || LogError::new(LogErrorKind::Damaged, format!("{} is no key", path.display()));
            *byte = digit(at).ok_or_else(what)?;
        }
        Ok(HashKey(key))
    }

    fn draft_mark(
        &self,
        mut header: MarkHeader,
        stamp: &str,
    ) -> Result<(String, Box<dyn DraftMark>), LogError> {
        let files = self.mark_files()?;
        let name = self.new_name(&files)?;
        for old in files.iter().rev().skip(MARKS_KEPT - 1) {
            // An old mark that cannot be removed is only in the way of nothing.
            let _ = fs::remove_file(old);
        }
        header.mark.clone_from(&name);
        let stamp = in_order(stamp, &files);
        let path = self.folder.join("marks").join(format!("{stamp}-{name}.jsonl.zst"));
        Ok((name, Box::new(Draft::new(&path, &header)?)))
    }

    fn mark(&self, name: Option<&str>) -> Result<Box<dyn Mark>, LogError> {
        let files = self.mark_files()?;
        let wanted = match name {
            // Marks that were taken on the way to a question are not meant, those of previews and rehearsals are; older ones do not
            // say.
            None => files.iter().rev().find(|path| {
                first_line(path)
                    .and_then(|header| header.by)
                    .is_none_or(|by| by == "preview" || by == "rehearsal")
            }),
            Some(name) => files.iter().find(|f| short_name(f) == name),
        };
        match (wanted, name) {
            (Some(path), _) => Ok(Box::new(Kept::open(path)?)),
            (None, Some(name)) => {
                Err(LogError::new(LogErrorKind::NotFound, format!("there is no mark {name}")))
            }
            (None, None) => {
                Err(LogError::new(LogErrorKind::NotFound, "nothing was previewed on this database yet"))
            }
        }
    }

    fn give_mark(&self, name: &str) -> Result<(String, Vec<u8>), LogError> {
        // What is handed on is whole.
        self.mark(Some(name))?;
        let files = self.mark_files()?;
        let none = || LogError::new(LogErrorKind::NotFound, format!("there is no mark {name}"));
        let path = files.iter().find(|file| short_name(file) == name).ok_or_else(none)?;
        let bytes = fs::read(path).map_err(|e| io_error("read", path, &e))?;
        Ok((file_name(path).to_owned(), bytes))
    }

    fn take_mark(&self, file: &str, bytes: &[u8]) -> Result<String, LogError> {
        let plain = |c: char| c.is_ascii_alphanumeric() || "-.".contains(c);
        let whole = file.ends_with(".jsonl.zst") && file.chars().all(plain) && !file.contains("..");
        let name = short_name(Path::new(file)).to_owned();
        if !whole || name.is_empty() {
            return Err(LogError::new(LogErrorKind::Damaged, format!("{file} is no name of a mark")));
        }
        if let Some(path) = self.mark_files()?.iter().find(|file| short_name(file) == name) {
            let there = fs::read(path).map_err(|e| io_error("read", path, &e))?;
            if there == bytes {
                return Ok(name);
            }
            return Err(atomic::damaged(path, &format!("another mark is called {name} here")));
        }
        let path = self.folder.join("marks").join(file);
        atomic::write(&path, bytes)?;
        match Kept::open(&path) {
            Ok(_) => Ok(name),
            Err(error) => {
                let _ = fs::remove_file(&path);
                Err(error)
            }
        }
    }

    fn last_of(&self, origin: &str) -> Result<Option<Box<dyn Mark>>, LogError> {
        let files = self.mark_files()?;
        let of = |path: &&PathBuf| first_line(path).is_some_and(|h| h.origin.as_deref() == Some(origin));
        let small = |path: &&PathBuf| fs::metadata(path).is_ok_and(|about| about.len() <= LARGE_MARK);
        // What cannot be read is no reason not to look at the change as it is now.
        let last = files.iter().rev().find(of).filter(small).and_then(|path| Kept::open(path).ok());
        Ok(last.map(|mark| Box::new(mark) as Box<dyn Mark>))
    }

    fn begin_run(
        &self,
        stamp: &str,
        change: &str,
        make: &mut dyn FnMut(&str) -> Receipt,
    ) -> Result<Box<dyn RunFolder>, LogError> {
        // A key that cannot be had is known before anything is begun.
        let key = self.key()?;
        let earlier = self.run_folders()?;
        let name = self.new_name(&earlier)?;
        let stamp = in_order(stamp, &earlier);
        let path = self.folder.join("runs").join(format!("{stamp}-{name}"));
        // Nothing of this has to be durable yet: should it be lost, nothing was begun. Before COMMIT is asked for it is synced.
        atomic::make_folder_for_now(&path)?;
        let mut folder = Folder { key, ..self.folder_of(name.clone(), path) };
        atomic::write_for_now(&folder.path.join(CHANGE), change.as_bytes())?;
        // The note comes before the receipt: a receipt that is not final is always found through a note.
        atomic::write_for_now(&folder.unsettled, file_name(&folder.path).as_bytes())?;
        folder.receipt(&make(&name))?;
        Ok(Box::new(folder))
    }

    fn open_run(&self, run: &str) -> Result<Box<dyn RunFolder>, LogError> {
        let path = self.run_folder(run)?;
        Ok(Box::new(self.folder_of(run.to_owned(), path)))
    }

    fn is_of(&self, identity: &str) -> bool {
        self.identities.iter().any(|known| known == identity)
    }

    fn receipts(&self) -> Result<Vec<Receipt>, LogError> {
        Ok(self.whole()?.iter().map(|receipt| Receipt::clone(receipt)).collect())
    }

    fn damaged(&self) -> Result<Vec<Damaged>, LogError> {
        let mut all = Vec::new();
        for folder in self.run_folders()? {
            if let Err(error) = self.receipt_of(&folder)
                && error.kind == LogErrorKind::Damaged
            {
                let run = short_name(&folder).to_owned();
                let open = self.folder.join("unsettled").join(&run).exists();
                let why = error.message.replace(&format!("{}/", folder.display()), "");
                all.push(Damaged { run, why, open });
            }
        }
        Ok(all)
    }

    fn set_aside(&self, receipt: &Receipt) -> Result<(), LogError> {
        let folder = self.run_folder(&receipt.run)?;
        if read_receipt(&folder).is_err() {
            let path = folder.join(RECEIPT);
            let bytes = bounded::document(&path)?;
            atomic::write(&folder.join("receipt.damaged.json"), &bytes)?;
        }
        self.open_run(&receipt.run)?.receipt(receipt)
    }

    fn unsettled(&self) -> Result<Vec<Receipt>, LogError> {
        // A receipt tells by itself that it is not settled, so that a lost note loses nothing.
        let all = self.whole()?;
        let open = all.iter().rev().filter(|receipt| !receipt.state.is_final());
        let open: Vec<Receipt> = open.map(|receipt| Receipt::clone(receipt)).collect();
        for note in sorted_entries(&self.folder.join("unsettled"))? {
            let run = file_name(&note);
            let receipt = match self.run_folder(run) {
                Ok(folder) => self.receipt_of(&folder),
                Err(_) => Ok(None),
            };
            match receipt {
                Ok(Some(receipt)) if !receipt.state.is_final() => {}
                // What a damaged one says nobody knows: its note stays until a person has set it aside.
                Err(error) if error.kind == LogErrorKind::Damaged => {}
                Err(error) => return Err(error),
                // Settled, or dead before it had a receipt: nothing was begun in the database.
                Ok(_) => {
                    let _ = fs::remove_file(&note);
                }
            }
        }
        Ok(open)
    }

    fn forget(&self, receipt: &Receipt) -> Result<(), LogError> {
        self.open_run(&receipt.run)?.receipt(receipt)?;
        let folder = self.run_folder(&receipt.run)?;
        for name in [crate::snapshot::FILE, crate::snapshot::ENCRYPTED] {
            let path = folder.join(name);
            match fs::remove_file(&path) {
                Ok(()) => atomic::sync_folder(&folder)?,
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
                Err(error) => return Err(io_error("remove", &path, &error)),
            }
        }
        Ok(())
    }

    fn size(&self) -> Result<u64, LogError> {
        let mut open = vec![self.folder.clone()];
        let mut bytes = 0;
        while let Some(folder) = open.pop() {
            for path in sorted_entries(&folder)? {
                match fs::symlink_metadata(&path) {
                    Ok(about) if about.is_dir() => open.push(path),
                    Ok(about) => bytes += about.len(),
                    // Something that went while it was counted takes up nothing.
                    Err(_) => {}
                }
            }
        }
        Ok(bytes)
    }

    fn change(&self, run: &str) -> Result<String, LogError> {
        let path = self.run_folder(run)?.join(CHANGE);
        bounded::text(&path)
    }

    fn snapshot(&self, run: &str, expected: &SnapshotRef) -> Result<Box<dyn SnapshotReader>, LogError> {
        let path = self.run_folder(run)?.join(&expected.file);
        let (key, lost) = match &self.key {
            None => (None, None),
            Some(Ok(key)) => (Some(key), None),
            Some(Err(error)) => (None, Some(error)),
        };
        let mut reader = match (Reader::open(&path, expected, key), lost) {
            (Err(error), Some(lost)) if error.kind == LogErrorKind::Key => return Err(lost.clone()),
            (opened, _) => opened?,
        };
        if !self.hide.is_empty() {
            reader.hide(&self.hide, self.hash_key()?);
        }
        Ok(Box::new(reader))
    }
}

#[cfg(test)]
mod tests;
