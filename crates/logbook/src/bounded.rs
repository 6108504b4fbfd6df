//! Reading files that somebody else may have put there: nothing is waited for that is no file, and nothing is read without
//! an end.

use std::fs::{self, File};
use std::io::{self, Read};
use std::path::Path;

use marktwice_port::LogError;

use crate::atomic::{damaged, io_error};

/// A small document is never longer: a receipt, a change, what is known of a database. In bytes.
const DOCUMENT: u64 = if cfg!(test) { 1 << 20 } else { 256 << 20 };
/// The first line of a mark or a snapshot is never longer. In bytes.
pub(crate) const HEADER: u64 = DOCUMENT;
/// No line is longer: a row with all its values. In bytes.
pub(crate) const LINE: u64 = 2 << 30;

/// Opens a file; a pipe or a device is none.
///
/// # Errors
/// When it cannot be opened.
pub(crate) fn open(path: &Path) -> Result<File, LogError> {
    let about = fs::metadata(path).map_err(|e| io_error("read", path, &e))?;
    if !about.is_file() {
        return Err(damaged(path, "it is no file"));
    }
    File::open(path).map_err(|e| io_error("read", path, &e))
}

/// Reads a small document.
///
/// # Errors
/// When it cannot be read, or is none.
pub(crate) fn document(path: &Path) -> Result<Vec<u8>, LogError> {
    let file = open(path)?;
    let length = file.metadata().map_or(0, |about| about.len().min(DOCUMENT));
    // One byte more, so that the end is seen without another, larger room for it.
    let mut bytes = Vec::with_capacity(usize::try_from(length).unwrap_or(0) + 1);
    file.take(DOCUMENT + 1).read_to_end(&mut bytes).map_err(|e| io_error("read", path, &e))?;
    if bytes.len() as u64 > DOCUMENT {
        return Err(damaged(path, &format!("it is longer than {} MiB", DOCUMENT >> 20)));
    }
    Ok(bytes)
}

/// The same as text.
///
/// # Errors
/// When it cannot be read, is none, or is not UTF-8.
pub(crate) fn text(path: &Path) -> Result<String, LogError> {
    String::from_utf8(document(path)?)
        .map_err(|e| io_error("read", path, &io::Error::new(io::ErrorKind::InvalidData, e)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lines::LineReader;
    use marktwice_port::LogErrorKind;

    #[test]
    fn nothing_is_read_without_an_end() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("receipt.json");
        fs::write(&path, vec![b' '; usize::try_from(DOCUMENT).unwrap() + 1]).unwrap();
        assert_eq!(document(&path).unwrap_err().kind, LogErrorKind::Damaged);
        // A few bytes that unpack to far more.
        let bomb = folder.path().join("mark.zst");
        let packed = zstd::encode_all(&vec![b'x'; 8 << 20][..], 19).unwrap();
        assert!(packed.len() < 4096);
        fs::write(&bomb, packed).unwrap();
        let error = LineReader::open::<serde_json::Value>(&bomb, "x", 1, None).err().unwrap();
        assert!(error.message.contains("longer than"), "{}", error.message);
        // A pipe is not waited for.
        let pipe = folder.path().join("pipe");
        assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
        for error in [
            document(&pipe).unwrap_err(),
            LineReader::open::<serde_json::Value>(&pipe, "x", 1, None).err().unwrap(),
        ] {
            assert!(error.message.contains("it is no file"), "{}", error.message);
        }
        assert_eq!(document(&folder.path().join("none")).unwrap_err().kind, LogErrorKind::NotFound);
    }
}
