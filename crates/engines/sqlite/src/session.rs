//! An open database file: the connection, and what bounds the time that is worked on it.

use std::path::{Path, PathBuf};
use std::time::{Instant, SystemTime};

use marktwice_core::param::Bound;
use marktwice_port::{EngineError, Intent, Limits, Stopper};
use rusqlite::{Connection, OpenFlags};

use crate::catalog::Orphans;
use crate::error::engine;

/// Virtual machine steps between two looks whether somebody asked to stop.
pub(crate) const STEPS: i32 = 10_000;

/// An open SQLite database.
pub(crate) struct Lite {
    connection: Option<Connection>,
    /// As it is shown.
    pub(crate) name: String,
    pub(crate) waits: Limits,
    pub(crate) intent: Intent,
    /// Asked while something is at work.
    pub(crate) stop: Option<Stopper>,
    /// What stands for `:name`.
    pub(crate) params: Vec<Bound>,
    /// By how much our own definitions have counted the version of all of them up.
    pub(crate) own_definitions: i64,
    /// Rows without a parent when the transaction began, where a foreign key is looked at only by COMMIT.
    pub(crate) orphans: Option<Orphans>,
    /// Tables whose foreign keys a trial may break, and their rows without a parent before it.
    pub(crate) trial: Option<(Vec<String>, Orphans)>,
    /// Whether a view is open in which rows can be held.
    pub(crate) reading: bool,
    /// Set when a reading session may leave log files of the engine's behind that were not there before.
    tidy: Option<PathBuf>,
    /// A file that is read without a lock, as it was when it was opened.
    unlocked: Option<Unlocked>,
}

/// A file that is read without a lock: one in WAL mode that this user may not write. Locking it would make files beside it,
/// of which its owner could not write the one and would need to.
pub(crate) struct Unlocked {
    path: PathBuf,
    size: u64,
    modified: Option<SystemTime>,
}

impl Unlocked {
    /// A file as it is now.
    pub(crate) fn of(path: &Path) -> std::io::Result<Unlocked> {
        let about = std::fs::metadata(path)?;
        Ok(Unlocked { path: path.to_owned(), size: about.len(), modified: about.modified().ok() })
    }

    /// Whether nobody has written it, or begun to, since.
    fn still(&self) -> bool {
        let now = Unlocked::of(&self.path);
        let same = now.is_ok_and(|now| (now.size, now.modified) == (self.size, self.modified));
        same && !beside(&self.path, "-wal").exists()
    }
}

impl Lite {
    pub(crate) fn new(
        connection: Connection,
        name: String,
        waits: Limits,
        intent: Intent,
        tidy: Option<PathBuf>,
        unlocked: Option<Unlocked>,
    ) -> Self {
        Lite {
            connection: Some(connection),
            name,
            waits,
            intent,
            stop: None,
            params: Vec::new(),
            reading: false,
            tidy,
            unlocked,
            own_definitions: 0,
            orphans: None,
            trial: None,
        }
    }

    /// Gives on what was read, unless somebody has begun to write what is read without a lock.
    pub(crate) fn unless_written<T>(&self, read: Result<T, EngineError>) -> Result<T, EngineError> {
        if self.unlocked.as_ref().is_none_or(Unlocked::still) {
            return read;
        }
        Err(EngineError::moved(format!(
            "{} was written while it was read, and without the right to write it no lock can be taken; nothing that was read \
             is relied on",
            self.name
        )))
    }

    pub(crate) fn connection(&self) -> Result<&Connection, EngineError> {
        self.connection.as_ref().ok_or_else(closed)
    }

    pub(crate) fn connection_mut(&mut self) -> Result<&mut Connection, EngineError> {
        self.connection.as_mut().ok_or_else(closed)
    }

    pub(crate) fn batch(&self, sql: &str) -> Result<(), EngineError> {
        self.connection()?.execute_batch(sql).map_err(engine)
    }

    /// From now on work is interrupted when somebody asks to stop, or when the limit on one statement is reached.
    pub(crate) fn limit_from_now(&mut self) -> Result<(), EngineError> {
        let until = self.waits.statement.map(|limit| Instant::now() + limit);
        let stop = self.stop.clone();
        if stop.is_none() && until.is_none() {
            return self.unlimited();
        }
        let over = move || stop.as_ref().is_some_and(|s| s()) || until.is_some_and(|u| Instant::now() >= u);
        self.connection_mut()?.progress_handler(STEPS, Some(over)).map_err(engine)
    }

    /// Work is not interrupted any more.
    pub(crate) fn unlimited(&mut self) -> Result<(), EngineError> {
        self.connection_mut()?.progress_handler(0, None::<fn() -> bool>).map_err(engine)
    }

    /// An interruption that nobody asked for is the limit's.
    pub(crate) fn too_long(&self, error: EngineError) -> EngineError {
        match (error, self.waits.statement) {
            (EngineError::Interrupted, Some(limit)) if !self.stop.as_ref().is_some_and(|s| s()) => {
                EngineError::Other(format!(
                    "a statement took longer than {} s, the limit that was set",
                    limit.as_secs_f64()
                ))
            }
            (error, _) => error,
        }
    }
}

fn closed() -> EngineError {
    EngineError::Other("the database is closed".to_owned())
}

impl Drop for Lite {
    fn drop(&mut self) {
        self.connection = None;
        // A reader that may not write cannot remove the log files it had to make for a database in WAL mode. The
        // engine itself does, when a connection that may write is the last to close.
        if let Some(path) = self.tidy.take()
            && beside(&path, "-wal").exists()
        {
            let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            let read = |c: Connection| c.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()));
            let _ = Connection::open_with_flags(path, flags).and_then(read);
        }
    }
}

/// The file with `suffix` behind its name.
pub(crate) fn beside(path: &Path, suffix: &str) -> PathBuf {
    let mut name = path.as_os_str().to_os_string();
    name.push(suffix);
    PathBuf::from(name)
}
