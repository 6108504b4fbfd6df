//! A copy of the whole database, made by the engine's online backup.

use std::fs::OpenOptions;
use std::path::Path;
use std::time::Duration;

use marktwice_port::{EngineError, Told};
use rusqlite::Connection;
use rusqlite::backup::{Backup, StepResult};

use crate::error::engine;

/// Pages that are copied at once.
const PAGES: i32 = 1_000;
/// How long it is waited where the file is in use.
const PAUSE: Duration = Duration::from_millis(20);

/// Copies the database into a new file of which nobody else may read anything.
///
/// # Errors
/// When the file is there already or cannot be written, or it was stopped; what was written is taken away again.
pub(crate) fn copy_database(
    connection: &Connection,
    file: &str,
    told: &mut Told<'_>,
) -> Result<u64, EngineError> {
    let other = |what: String| EngineError::Other(what);
    let mut options = OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    options.open(file).map_err(|error| other(format!("the copy {file} cannot be made: {error}")))?;
    let done = copied(connection, Path::new(file), told);
    if done.is_err() {
        // It is new and ours, and half of a database is of no use to anybody.
        let _ = std::fs::remove_file(file);
    }
    done
}

fn copied(connection: &Connection, file: &Path, told: &mut Told<'_>) -> Result<u64, EngineError> {
    let mut copy = Connection::open(file).map_err(engine)?;
    {
        let backup = Backup::new(connection, &mut copy).map_err(engine)?;
        loop {
            let step = backup.step(PAGES).map_err(engine)?;
            let progress = backup.progress();
            let (all, left) = (progress.pagecount.max(0), progress.remaining.max(0));
            if told(u64::try_from(all - left).unwrap_or(0), u64::try_from(all).unwrap_or(0)) {
                return Err(EngineError::Interrupted);
            }
            match step {
                StepResult::Done => break,
                StepResult::More => {}
                _ => std::thread::sleep(PAUSE),
            }
        }
    }
    let sound: String = copy.query_row("PRAGMA quick_check(1)", [], |row| row.get(0)).map_err(engine)?;
    if sound != "ok" {
        return Err(EngineError::Other(format!("the copy is not sound: {sound}")));
    }
    copy.close().map_err(|(_, error)| engine(error))?;
    let io = |error: std::io::Error| EngineError::Other(format!("the copy cannot be kept: {error}"));
    let written = OpenOptions::new().read(true).write(true).open(file).map_err(io)?;
    written.sync_all().map_err(io)?;
    Ok(written.metadata().map_err(io)?.len())
}
