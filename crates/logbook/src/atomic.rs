//! The one way in which this program writes a file that must not be torn: write beside it, sync, rename, sync the
//! folder. Files are private to the user (0600), folders too (0700).

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use marktwice_port::{LogError, LogErrorKind};

use crate::faults::{self, action};

/// Counts the drafts of this process.
static DRAFTS: AtomicU64 = AtomicU64::new(0);

/// An I/O error about a path, as a logbook error.
pub fn io_error(doing: &str, path: &Path, error: &io::Error) -> LogError {
    let kind = match error.kind() {
        io::ErrorKind::NotFound => LogErrorKind::NotFound,
        io::ErrorKind::StorageFull | io::ErrorKind::FileTooLarge | io::ErrorKind::QuotaExceeded => {
            LogErrorKind::NoSpace
        }
        _ => LogErrorKind::Io,
    };
    LogError::new(kind, format!("cannot {doing} {}: {}", path.display(), plain(error)))
}

/// An error about a file that does not hold what it should.
pub(crate) fn damaged(path: &Path, what: &str) -> LogError {
    LogError::new(LogErrorKind::Damaged, format!("{} is damaged: {what}", path.display()))
}

/// The system's own words without the error number.
fn plain(error: &io::Error) -> String {
    let text = error.to_string();
    match text.find(" (os error") {
        Some(at) => text.get(..at).unwrap_or(&text).to_lowercase(),
        None => text,
    }
}

/// Makes a folder and its parents, private to the user, and syncs each new one's parent.
///
/// # Errors
/// When a folder cannot be made or synced.
pub fn make_folder(path: &Path) -> Result<(), LogError> {
    if path.is_dir() {
        return Ok(());
    }
    make_folder_for_now(path)?;
    sync_folder(path.parent().unwrap_or(path))
}

/// The same, where whoever needs it to be durable syncs its parent.
///
/// # Errors
/// When a folder cannot be made.
pub fn make_folder_for_now(path: &Path) -> Result<(), LogError> {
    if let Some(parent) = path.parent().filter(|p| !p.as_os_str().is_empty()) {
        make_folder(parent)?;
    }
    let mut builder = fs::DirBuilder::new();
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    match action().and_then(|()| builder.create(path)) {
        Ok(()) => {
            faults::made(path);
            Ok(())
        }
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists && path.is_dir() => Ok(()),
        Err(error) => Err(io_error("make the folder", path, &error)),
    }
}

/// Makes the entries of a folder durable.
///
/// # Errors
/// When the folder cannot be opened or synced.
pub fn sync_folder(path: &Path) -> Result<(), LogError> {
    let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
    #[cfg(unix)]
    action()
        .and_then(|()| File::open(path))
        .and_then(|f| f.sync_all())
        .map_err(|e| io_error("sync the folder", path, &e))?;
    faults::folder_synced(path);
    Ok(())
}

/// A file that becomes visible under its own name only when it is complete and durable.
#[derive(Debug)]
pub struct Pending {
    file: Option<File>,
    draft: PathBuf,
    path: PathBuf,
}

impl Pending {
    /// Begins to write `path`, beside it.
    ///
    /// # Errors
    /// When the draft cannot be made.
    pub fn new(path: &Path) -> Result<Pending, LogError> {
        let mut name = path.file_name().unwrap_or_default().to_os_string();
        // Two processes may write the same file at once (a logbook's first files): each has a draft of its own.
        let number = DRAFTS.fetch_add(1, Ordering::Relaxed);
        name.push(format!(".{}-{number}.draft", std::process::id()));
        let draft = path.with_file_name(name);
        let mut options = OpenOptions::new();
        options.write(true).create(true).truncate(true);
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
        let file = action().and_then(|()| options.open(&draft)).map_err(|e| io_error("write", &draft, &e))?;
        Ok(Pending { file: Some(file), draft, path: path.to_owned() })
    }

    /// Syncs the file, gives it its name and syncs the folder.
    ///
    /// # Errors
    /// When any of that fails; the file then has not got its name.
    pub fn publish(self) -> Result<(), LogError> {
        let folder = self.path.parent().unwrap_or(Path::new(".")).to_owned();
        self.publish_in_time(true)?;
        sync_folder(&folder)
    }

    /// Gives the file its name, `synced` or not; the folder is synced by others, where it has to be at all.
    ///
    /// # Errors
    /// When any of that fails; the file then has not got its name.
    pub fn publish_in_time(mut self, synced: bool) -> Result<(), LogError> {
        if let Some(file) = self.file.take().filter(|_| synced) {
            action().and_then(|()| file.sync_all()).map_err(|e| io_error("sync", &self.draft, &e))?;
            faults::synced(&self.draft);
        }
        action()
            .and_then(|()| fs::rename(&self.draft, &self.path))
            .map_err(|e| io_error("rename", &self.draft, &e))?;
        faults::renamed(&self.draft, &self.path);
        Ok(())
    }

    /// The path it will have.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

impl Write for Pending {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        action()?;
        self.file.as_mut().map_or(Err(io::ErrorKind::NotConnected.into()), |f| f.write(bytes))
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.as_mut().map_or(Ok(()), File::flush)
    }
}

impl Drop for Pending {
    fn drop(&mut self) {
        if self.file.is_some() {
            // An abandoned draft is of no use to anybody; failing to remove it harms nothing.
            let _ = fs::remove_file(&self.draft);
        }
    }
}

/// Writes a whole small file.
///
/// # Errors
/// When it cannot be written durably; what was there before stays whole.
pub fn write(path: &Path, bytes: &[u8]) -> Result<(), LogError> {
    let mut pending = Pending::new(path)?;
    pending.write_all(bytes).map_err(|e| io_error("write", path, &e))?;
    pending.publish()
}

/// Writes a whole small file that only has to be durable once somebody syncs it: until then a power cut may leave it empty, or
/// not there.
///
/// # Errors
/// When it cannot be written; what was there before stays whole.
pub fn write_for_now(path: &Path, bytes: &[u8]) -> Result<(), LogError> {
    let mut pending = Pending::new(path)?;
    pending.write_all(bytes).map_err(|e| io_error("write", path, &e))?;
    pending.publish_in_time(false)
}

/// Makes the contents of such a file durable.
///
/// # Errors
/// When it cannot be synced.
pub fn sync_file(path: &Path) -> Result<(), LogError> {
    let synced = action().and_then(|()| File::open(path)).and_then(|file| file.sync_all());
    synced.map_err(|e| io_error("sync", path, &e))?;
    faults::synced(path);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_abandoned_draft_leaves_the_old_file() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a/b/receipt.json");
        make_folder(path.parent().unwrap()).unwrap();
        write(&path, b"old").unwrap();
        let mut pending = Pending::new(&path).unwrap();
        pending.write_all(b"half").unwrap();
        drop(pending);
        assert_eq!(fs::read(&path).unwrap(), b"old");
        assert_eq!(fs::read_dir(path.parent().unwrap()).unwrap().count(), 1);
    }

    #[cfg(unix)]
    #[test]
    fn private_to_the_user() {
        use std::os::unix::fs::PermissionsExt;
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("book/x.json");
        make_folder(path.parent().unwrap()).unwrap();
        write(&path, b"{}").unwrap();
        let mode = |p: &Path| fs::metadata(p).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode(&path), mode(path.parent().unwrap())), (0o600, 0o700));
    }

    #[test]
    fn a_folder_under_a_file_is_refused_with_its_path() {
        let dir = tempfile::tempdir().unwrap();
        fs::write(dir.path().join("f"), "").unwrap();
        let error = make_folder(&dir.path().join("f/book")).unwrap_err();
        assert!(error.message.contains("/f:"), "{}", error.message);
    }
}
