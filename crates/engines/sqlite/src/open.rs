//! Opening a database file: for reading without any chance to write a real table, for writing with durable commits.

use std::fs;
use std::io::Read as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

use marktwice_core::receipt::DatabaseId;
use marktwice_network::address::without_secrets;
use marktwice_port::{Engine, EngineError, Intent, Language, Limits, Session};
use marktwice_relational::session::Opened;
use rusqlite::config::DbConfig;
use rusqlite::{Connection, ErrorCode, OpenFlags};

use crate::error::{engine, locked, message};
use crate::session::{Lite, Unlocked, beside};

/// The SQLite engine.
#[derive(Debug, Clone, Copy, Default)]
pub struct Sqlite;

/// The file behind an address: `sqlite:coop.db`, `sqlite:///srv/coop.db`, or a plain path.
pub fn file_of(address: &str) -> PathBuf {
    let path = address.strip_prefix("sqlite:").unwrap_or(address);
    PathBuf::from(path.strip_prefix("//").filter(|rest| rest.starts_with('/')).unwrap_or(path))
}

impl Engine for Sqlite {
    fn language(&self) -> &dyn Language {
        &marktwice_sql::Language::Sqlite
    }

    fn open(&self, address: &str, intent: Intent, waits: Limits) -> Result<Box<dyn Session>, EngineError> {
        let path = file_of(address);
        let shown = path.display().to_string();
        // What is no file may be a mistyped address of a server.
        let missing = without_secrets(&shown);
        match fs::metadata(&path) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                return Err(EngineError::missing(format!("there is no file {missing}")));
            }
            Err(error) => return Err(EngineError::missing(format!("{missing} cannot be opened: {error}"))),
            Ok(about) if about.is_dir() => {
                return Err(EngineError::not_a_database(format!(
                    "{shown} is a folder, not a SQLite database"
                )));
            }
            Ok(_) => {}
        }
        let identity = fs::canonicalize(&path)
            .map_err(|e| EngineError::missing(format!("{shown} cannot be opened: {e}")))?;
        let database = DatabaseId {
            engine: "SQLite".to_owned(),
            version: rusqlite::version().to_owned(),
            name: shown,
            identity: identity.display().to_string(),
            formerly: Vec::new(),
        };
        let mut notes = Vec::new();
        let had_wal = beside(&path, "-wal").exists();
        let unlocked =
            if intent != Intent::Write && leaves_a_log(&path) { Unlocked::of(&path).ok() } else { None };
        let connection = match intent {
            Intent::Read | Intent::Settle if unlocked.is_some() => {
                let note = "it is read without a lock, as this user may not write it; should somebody else begin to, the \
                            reading ends";
                notes.push(note.to_owned());
                open_unlocked(&path, &database.name, waits.lock)?
            }
            Intent::Read | Intent::Settle => open_read(&path, &database.name, waits.lock, &mut notes)?,
            Intent::Write => open_write(&path, &database.name, waits.lock)?,
        };
        let tidy = intent != Intent::Write && !had_wal && unlocked.is_none();
        let lite =
            Lite::new(connection, database.name.clone(), waits, intent, tidy.then_some(path), unlocked);
        Ok(Box::new(Opened::new(lite, database, notes)))
    }
}

fn connect(path: &Path, flags: OpenFlags, wait: Duration) -> rusqlite::Result<Connection> {
    let connection = Connection::open_with_flags(path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
    connection.busy_timeout(wait)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_DQS_DML, true)?;
    // Off by default in SQLite, and of no effect inside a transaction. What compiles while reading must set off the
    // same actions as what runs while writing.
    connection.pragma_update(None, "foreign_keys", true)?;
    Ok(connection)
}

/// Reads the header, so that a file that is no database, or one that needs recovery, says so now.
fn touch(connection: &Connection) -> rusqlite::Result<()> {
    connection.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()))
}

fn open_read(
    path: &Path,
    name: &str,
    wait: Duration,
    notes: &mut Vec<String>,
) -> Result<Connection, EngineError> {
    let attempt = || -> rusqlite::Result<Connection> {
        let connection = connect(path, OpenFlags::SQLITE_OPEN_READ_ONLY, wait)?;
        touch(&connection)?;
        Ok(connection)
    };
    let connection = match attempt() {
        Err(error)
            if matches!(error.sqlite_error_code(), Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen))
                && (beside(path, "-journal").exists() || beside(path, "-wal").exists()) =>
        {
            // A writer died. Only a connection that may write can roll its transaction back (or read its log),
            // which is what any program that opens the file does.
            let recovered = connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE, wait).and_then(|c| touch(&c));
            recovered.map_err(|e| opening(e, name, wait))?;
            notes.push(format!(
                "a program died while it wrote {name}; SQLite has now rolled its unfinished transaction back"
            ));
            attempt()
        }
        other => other,
    };
    connection.map_err(|e| opening(e, name, wait))
}

/// Whether reading a file under a lock would leave a log of ours beside it: it is in WAL mode, nobody has it open, and this
/// user may not write it.
fn leaves_a_log(path: &Path) -> bool {
    // Bytes 18 and 19 of the header are 2 in WAL mode: <https://www.sqlite.org/fileformat.html#file_format_version_numbers>.
    let mut header = [0; 20];
    let read = fs::File::open(path).and_then(|mut file| file.read_exact(&mut header));
    let wal = read.is_ok() && header.ends_with(&[2, 2]);
    wal && !beside(path, "-wal").exists() && fs::OpenOptions::new().write(true).open(path).is_err()
}

/// Opens a file as one that nobody writes: without locks, and without files beside it.
fn open_unlocked(path: &Path, name: &str, wait: Duration) -> Result<Connection, EngineError> {
    let mut address = "file:".to_owned();
    for byte in path.as_os_str().as_encoded_bytes() {
        let plain = byte.is_ascii_alphanumeric() || b"/._-~".contains(byte);
        address.push_str(&if plain { char::from(*byte).to_string() } else { format!("%{byte:02X}") });
    }
    address.push_str("?immutable=1");
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
    let opened = connect(Path::new(&address), flags, wait).and_then(|c| touch(&c).map(|()| c));
    opened.map_err(|e| opening(e, name, wait))
}

fn open_write(path: &Path, name: &str, wait: Duration) -> Result<Connection, EngineError> {
    // Asked before anything is read: reading a file in WAL mode would leave files beside it that its owner cannot write.
    let connection =
        connect(path, OpenFlags::SQLITE_OPEN_READ_WRITE, wait).map_err(|e| opening(e, name, wait))?;
    if connection.is_readonly("main").map_err(engine)? {
        return Err(EngineError::read_only(format!("{name} is read-only: it cannot be written")));
    }
    let open = || -> rusqlite::Result<()> {
        touch(&connection)?;
        // EXTRA also syncs the folder after the rollback journal is removed: without it a power cut can bring a
        // committed transaction's journal back.
        connection.pragma_update(None, "synchronous", "EXTRA")
    };
    open().map_err(|e| opening(e, name, wait))?;
    Ok(connection)
}

fn opening(error: rusqlite::Error, name: &str, wait: Duration) -> EngineError {
    match error.sqlite_error_code() {
        Some(ErrorCode::NotADatabase) => {
            EngineError::not_a_database(format!("{name} is not a SQLite database"))
        }
        Some(ErrorCode::CannotOpen | ErrorCode::PermissionDenied) => {
            EngineError::missing(format!("{name} cannot be opened: {}", message(&error)))
        }
        _ => locked(error, name, wait),
    }
}
