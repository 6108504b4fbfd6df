//! Runs on disk: `runs/<time>-<name>/` with `change.sql`, `receipt.json` and the snapshot.

use std::fs;
use std::path::{Path, PathBuf};

use marktwice_core::receipt::{RECEIPT_VERSION, Receipt};
use marktwice_core::record::{RECEIPT_FORMAT, SnapshotHeader};
use marktwice_port::{LogError, LogErrorKind, RunFolder, SnapshotWriter};

use crate::atomic::{self, io_error};
use crate::faults::action;
use crate::lines::{check_version, damaged};
use crate::snapshot;

pub(crate) const CHANGE: &str = "change.sql";
pub(crate) const RECEIPT: &str = "receipt.json";

pub(crate) struct Folder {
    pub(crate) run: String,
    pub(crate) path: PathBuf,
    /// The note among the unsettled runs, removed once the outcome is written down.
    pub(crate) unsettled: PathBuf,
}

impl RunFolder for Folder {
    fn run(&self) -> &str {
        &self.run
    }

    fn receipt(&mut self, receipt: &Receipt) -> Result<(), LogError> {
        let path = self.path.join(RECEIPT);
        let mut text = serde_json::to_vec_pretty(receipt)
            .map_err(|e| LogError::new(LogErrorKind::Io, format!("cannot encode the receipt: {e}")))?;
        text.push(b'\n');
        atomic::write(&path, &text)?;
        if receipt.state.is_final() {
            match action().and_then(|()| fs::remove_file(&self.unsettled)) {
                // The note is only a shortcut to the receipt, which says by itself that it is settled.
                Ok(()) | Err(_) => {}
            }
        }
        Ok(())
    }

    fn snapshot(&mut self, header: &SnapshotHeader) -> Result<Box<dyn SnapshotWriter>, LogError> {
        Ok(Box::new(snapshot::Writer::new(&self.path, header)?))
    }
}

/// Reads the receipt in a run's folder; `None` when the run died before it had one.
pub(crate) fn read_receipt(folder: &Path) -> Result<Option<Receipt>, LogError> {
    let path = folder.join(RECEIPT);
    let bytes = match fs::read(&path) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(io_error("read", &path, &error)),
    };
    check_version(&bytes, RECEIPT_FORMAT, RECEIPT_VERSION, &path)?;
    serde_json::from_slice(&bytes).map(Some).map_err(|e| damaged(&path, &e.to_string()))
}
