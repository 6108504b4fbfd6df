//! Runs on disk: `runs/<time>-<name>/` with `change.sql`, `receipt.json` and the snapshot.

use std::fs;
use std::path::{Path, PathBuf};

use marktwice_core::receipt::{RECEIPT_FORMAT, RECEIPT_VERSION, Receipt, RunState};
use marktwice_core::record::SnapshotHeader;
use marktwice_port::{LogError, LogErrorKind, RunFolder, SnapshotWriter};
use serde_json::Value as Json;

use crate::atomic;
use crate::atomic::damaged;
use crate::bounded;
use crate::cipher::FileKey;
use crate::faults::action;
use crate::lines::check_version;
use crate::snapshot;

pub(crate) const CHANGE: &str = "change.sql";
pub(crate) const RECEIPT: &str = "receipt.json";

pub(crate) struct Folder {
    pub(crate) run: String,
    pub(crate) path: PathBuf,
    /// The note among the unsettled runs, removed once the outcome is written down.
    pub(crate) unsettled: PathBuf,
    /// What its snapshot is encrypted for.
    pub(crate) key: Option<FileKey>,
}

impl RunFolder for Folder {
    fn run(&self) -> &str {
        &self.run
    }

    fn receipt(&mut self, receipt: &Receipt) -> Result<(), LogError> {
        let path = self.path.join(RECEIPT);
        let cannot = |e| LogError::new(LogErrorKind::Io, format!("cannot encode the receipt: {e}"));
        let mut json = serde_json::to_value(receipt).map_err(cannot)?;
        seal(&mut json);
        let text = format!("{json:#}\n");
        match receipt.state {
            RunState::Prepared => atomic::write_for_now(&path, text.as_bytes())?,
            RunState::Committing => {
                // The last moment before COMMIT: from here on everything that tells of the run has to outlive a power cut.
                atomic::sync_file(&self.path.join(CHANGE))?;
                atomic::write(&path, text.as_bytes())?;
                atomic::sync_folder(self.path.parent().unwrap_or(&self.path))?;
            }
            RunState::Committed | RunState::RolledBack | RunState::SetAside => {
                atomic::write(&path, text.as_bytes())?;
            }
        }
        if receipt.state.is_final() {
            match action().and_then(|()| fs::remove_file(&self.unsettled)) {
                // The note is only a shortcut to the receipt, which says by itself that it is settled.
                Ok(()) | Err(_) => {}
            }
        }
        Ok(())
    }

    fn snapshot(&mut self, header: &SnapshotHeader) -> Result<Box<dyn SnapshotWriter>, LogError> {
        Ok(Box::new(snapshot::Writer::new(&self.path, header, self.key.clone())?))
    }
}

/// The key under which a receipt carries its own checksum.
const CHECKSUM: &str = "checksum";

/// Gives a receipt its checksum: BLAKE3 over its compact JSON, keys in their order, without the checksum itself.
pub fn seal(json: &mut Json) {
    if let Some(object) = json.as_object_mut() {
        object.shift_remove(CHECKSUM);
    }
    let checksum = checksum(json);
    if let Some(object) = json.as_object_mut() {
        object.insert(CHECKSUM.to_owned(), checksum.into());
    }
}

/// The checksum of what stands without one.
fn checksum(json: &Json) -> String {
    blake3::hash(json.to_string().as_bytes()).to_hex().to_string()
}

/// Reads the receipt in a run's folder; `None` when the run died before it had one.
pub(crate) fn read_receipt(folder: &Path) -> Result<Option<Receipt>, LogError> {
    let path = folder.join(RECEIPT);
    let bytes = match bounded::document(&path) {
        Ok(bytes) => bytes,
        Err(error) if error.kind == LogErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(error),
    };
    // A power cut may leave the first one empty; behind the sync before COMMIT there is none like that.
    if bytes.is_empty() {
        return Ok(None);
    }
    check_version(&bytes, RECEIPT_FORMAT, RECEIPT_VERSION, &path)?;
    let mut json: Json = serde_json::from_slice(&bytes).map_err(|e| damaged(&path, &e.to_string()))?;
    let said = json.as_object_mut().and_then(|object| object.shift_remove(CHECKSUM));
    if said.as_ref().and_then(Json::as_str) != Some(&*checksum(&json)) {
        return Err(damaged(&path, "its checksum is another"));
    }
    let receipt: Receipt = serde_json::from_value(json).map_err(|e| damaged(&path, &e.to_string()))?;
    if !folder.to_string_lossy().ends_with(&format!("-{}", receipt.run)) {
        return Err(damaged(&path, &format!("it is the receipt of run {}", receipt.run)));
    }
    Ok(Some(receipt.upgraded()))
}
