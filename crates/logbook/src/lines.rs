//! JSON lines in zstd, with a checksum in the last line. Any `zstd -dc FILE | jq` reads them; those that are encrypted (`cipher`) once they
//! are decrypted.
//!
//! The first line is a header, the last one begins with `{"end":` and carries the BLAKE3 hash of every
//! uncompressed byte before it. A file without that last line is torn.

use std::fs::File;
use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::path::{Path, PathBuf};

use marktwice_port::{LogError, LogErrorKind};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::atomic::{Pending, damaged, io_error};
use crate::bounded;
use crate::cipher::{self, FileKey, Plain, Sink};

/// Level 1: a mark is mostly hashes, which no level makes smaller, and a snapshot is waited for.
const LEVEL: i32 = 1;
/// How much is read at once.
const BLOCK: usize = 1 << 17;
const TRAILER: &[u8] = b"{\"end\":";

/// Hashes and counts what passes through to a file.
struct Hashing {
    inner: BufWriter<Pending>,
    hasher: blake3::Hasher,
    bytes: u64,
}

impl Write for Hashing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let done = self.inner.write(bytes)?;
        self.hasher.update(bytes.get(..done).unwrap_or(bytes));
        self.bytes += done as u64;
        Ok(done)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

/// What a finished file is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Written {
    pub(crate) bytes: u64,
    pub(crate) checksum: String,
    /// Bytes of all lines but the last, uncompressed, and their hash.
    plain: u64,
    lines: blake3::Hash,
    /// The last line.
    trailer: Vec<u8>,
}

/// Writes lines.
pub(crate) struct LineWriter {
    encoder: zstd::Encoder<'static, Sink<Hashing>>,
    hasher: blake3::Hasher,
    path: PathBuf,
    /// Lines that are neither hashed nor compressed yet: both are far cheaper by the block.
    block: Vec<u8>,
    /// Bytes of all lines that are, uncompressed.
    plain: u64,
}

impl LineWriter {
    /// A file that begins with `header`; encrypted where there is a key.
    pub(crate) fn new(
        path: &Path,
        header: &impl Serialize,
        key: Option<&FileKey>,
    ) -> Result<LineWriter, LogError> {
        let inner = BufWriter::new(Pending::new(path)?);
        let hashing = Hashing { inner, hasher: blake3::Hasher::new(), bytes: 0 };
        let encoder = Sink::new(hashing, key).and_then(|sink| zstd::Encoder::new(sink, LEVEL));
        let encoder = encoder.map_err(|e| io_error("write", path, &e))?;
        let mut writer = LineWriter {
            encoder,
            hasher: blake3::Hasher::new(),
            path: path.to_owned(),
            block: Vec::with_capacity(BLOCK + (BLOCK >> 3)),
            plain: 0,
        };
        writer.line(header)?;
        Ok(writer)
    }

    /// Writes a line, and gives it as it is written.
    pub(crate) fn line(&mut self, line: &impl Serialize) -> Result<&[u8], LogError> {
        if self.block.len() >= BLOCK {
            self.put()?;
        }
        let from = self.block.len();
        self.encode(line)?;
        Ok(self.block.get(from..).unwrap_or_default())
    }

    /// Hashes and compresses what is there.
    fn put(&mut self) -> Result<(), LogError> {
        self.plain += self.block.len() as u64;
        self.hasher.update(&self.block);
        self.encoder.write_all(&self.block).map_err(|e| io_error("write", &self.path, &e))?;
        self.block.clear();
        Ok(())
    }

    fn encode(&mut self, line: &impl Serialize) -> Result<(), LogError> {
        serde_json::to_writer(&mut self.block, line).map_err(|e| {
            LogError::new(LogErrorKind::Io, format!("cannot encode {}: {e}", self.path.display()))
        })?;
        self.block.push(b'\n');
        Ok(())
    }

    /// Writes the trailer that `make` gives for the checksum and gives the file its name, `synced` or not.
    pub(crate) fn finish<T: Serialize>(
        mut self,
        synced: bool,
        make: impl FnOnce(String) -> T,
    ) -> Result<Written, LogError> {
        self.put()?;
        let lines = self.hasher.finalize();
        let plain = self.plain;
        self.encode(&make(lines.to_hex().to_string()))?;
        let trailer = std::mem::take(&mut self.block);
        let path = self.path;
        let failed = |e: &io::Error| io_error("write", &path, e);
        self.encoder.write_all(&trailer).map_err(|e| failed(&e))?;
        let mut hashing = self.encoder.finish().and_then(Sink::finish).map_err(|e| failed(&e))?;
        hashing.flush().map_err(|e| failed(&e))?;
        let checksum = hashing.hasher.finalize().to_hex().to_string();
        let written = Written { bytes: hashing.bytes, checksum, plain, lines, trailer };
        let pending = hashing.inner.into_inner().map_err(|e| failed(e.error()))?;
        pending.publish_in_time(synced)?;
        Ok(written)
    }
}

/// One line of a file.
pub(crate) enum Line<'a> {
    /// A row.
    Row(&'a [u8]),
    /// The trailer; its checksum is still to be compared with [`LineReader::checksum`].
    Trailer(&'a [u8]),
}

/// Reads lines.
pub(crate) struct LineReader {
    lines: BufReader<zstd::Decoder<'static, Plain>>,
    hasher: blake3::Hasher,
    path: PathBuf,
    line: Vec<u8>,
    number: u64,
}

impl LineReader {
    /// Opens a file and reads its header, which must say that it is of `format` and not newer than `newest`.
    pub(crate) fn open<H: DeserializeOwned>(
        path: &Path,
        format: &str,
        newest: u32,
        key: Option<&FileKey>,
    ) -> Result<(H, Self), LogError> {
        let file = cipher::open(path, key, BLOCK)?;
        let decoder = zstd::Decoder::with_buffer(file).map_err(|e| io_error("read", path, &e))?;
        let mut reader = LineReader {
            lines: BufReader::with_capacity(1 << 16, decoder),
            hasher: blake3::Hasher::new(),
            path: path.to_owned(),
            line: Vec::new(),
            number: 0,
        };
        if !reader.read_line(bounded::HEADER)? {
            return Err(reader.damaged("it is empty"));
        }
        reader.hasher.update(&reader.line);
        check_version(&reader.line, format, newest, path)?;
        let header =
            serde_json::from_slice(&reader.line).map_err(|e| reader.damaged(&format!("its header: {e}")))?;
        Ok((header, reader))
    }

    /// Reads a line of at most `most` bytes; a file that unpacks without an end is damaged.
    fn read_line(&mut self, most: u64) -> Result<bool, LogError> {
        self.line.clear();
        self.number += 1;
        match (&mut self.lines).take(most).read_until(b'\n', &mut self.line) {
            Ok(0) => Ok(false),
            Ok(read) if read as u64 == most => {
                self.line = Vec::new();
                Err(self.damaged(&format!("it is longer than {} MiB", most >> 20)))
            }
            Ok(_) => Ok(true),
            Err(error) => Err(self.damaged(&format!("it cannot be unpacked ({error})"))),
        }
    }

    pub(crate) fn next(&mut self) -> Result<Line<'_>, LogError> {
        if !self.read_line(bounded::LINE)? || !self.line.ends_with(b"\n") {
            return Err(self.damaged("it ends before its last line"));
        }
        if self.line.starts_with(TRAILER) {
            Ok(Line::Trailer(&self.line))
        } else {
            self.hasher.update(&self.line);
            Ok(Line::Row(&self.line))
        }
    }

    /// The checksum over all that was read before the trailer.
    pub(crate) fn checksum(&self) -> String {
        self.hasher.finalize().to_hex().to_string()
    }

    /// Makes sure that nothing stands behind the trailer.
    pub(crate) fn at_end(&mut self) -> Result<(), LogError> {
        if self.read_line(bounded::LINE)? {
            Err(self.damaged("something stands behind its last line"))
        } else {
            Ok(())
        }
    }

    pub(crate) fn damaged(&self, what: &str) -> LogError {
        damaged(&self.path, &format!("line {}: {what}", self.number))
    }
}

/// Refuses what is of another format or newer than this program.
pub(crate) fn check_version(json: &[u8], format: &str, newest: u32, path: &Path) -> Result<(), LogError> {
    #[derive(serde::Deserialize)]
    struct Version {
        format: String,
        version: u32,
    }
    let found: Version = serde_json::from_slice(json)
        .map_err(|e| damaged(path, &format!("it does not say its format ({e})")))?;
    if found.format != format {
        return Err(damaged(path, &format!("it is a {}, not a {format}", found.format)));
    }
    if found.version > newest {
        let (name, version) = (path.display(), found.version);
        let message = format!("{name} is of format version {version}; this program reads up to {newest}");
        return Err(LogError::new(LogErrorKind::Newer, message));
    }
    Ok(())
}

/// Size and BLAKE3 of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Checksum {
    pub(crate) bytes: u64,
    pub(crate) checksum: String,
}

/// Hashes what is read through it.
struct Sounding {
    inner: File,
    hasher: blake3::Hasher,
    bytes: u64,
}

impl Read for Sounding {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(into)?;
        self.hasher.update(into.get(..read).unwrap_or_default());
        self.bytes += read as u64;
        Ok(read)
    }
}

/// Reads a finished file again: it is, byte for byte, what was written, and unpacks to it. One that is encrypted is read twice for
/// that.
pub(crate) fn verify(path: &Path, written: &Written, key: Option<&FileKey>) -> Result<(), LogError> {
    let (same, found) = if key.is_some() {
        let (same, _) = unpacks(cipher::open(path, key, BLOCK)?, path, written)?;
        (same, file_checksum(path)?)
    } else {
        let file = Sounding { inner: bounded::open(path)?, hasher: blake3::Hasher::new(), bytes: 0 };
        let (same, file) = unpacks(BufReader::with_capacity(BLOCK, file), path, written)?;
        let Sounding { hasher, bytes, .. } = file.into_inner();
        (same, Checksum { bytes, checksum: hasher.finalize().to_hex().to_string() })
    };
    if same && found.bytes == written.bytes && found.checksum == written.checksum {
        Ok(())
    } else {
        Err(damaged(path, OTHER))
    }
}

/// What is wrong with a file that is not what was written.
const OTHER: &str = "what was read back is not what was written";

/// Whether what is compressed there unpacks to what was written, and nothing stands behind it.
fn unpacks<R: BufRead>(file: R, path: &Path, written: &Written) -> Result<(bool, R), LogError> {
    let unreadable = |e: &io::Error| damaged(path, &format!("it cannot be unpacked ({e})"));
    let mut plain = zstd::Decoder::with_buffer(file).map_err(|e| io_error("read", path, &e))?;
    let mut hasher = blake3::Hasher::new();
    let mut block = vec![0u8; BLOCK];
    let mut left = written.plain;
    while left > 0 {
        let most = usize::try_from(left).unwrap_or(BLOCK).min(BLOCK);
        let into = block.get_mut(..most).unwrap_or_default();
        let read = plain.read(into).map_err(|e| unreadable(&e))?;
        if read == 0 {
            return Err(damaged(path, OTHER));
        }
        hasher.update(block.get(..read).unwrap_or_default());
        left -= read as u64;
    }
    let mut trailer = Vec::new();
    (&mut plain).take(bounded::LINE).read_to_end(&mut trailer).map_err(|e| unreadable(&e))?;
    let mut file = plain.finish();
    // Nothing may stand behind what was unpacked.
    let behind = io::copy(&mut file, &mut io::sink()).map_err(|e| unreadable(&e))?;
    Ok((hasher.finalize() == written.lines && trailer == written.trailer && behind == 0, file))
}

/// Size and BLAKE3 of a whole file.
pub(crate) fn file_checksum(path: &Path) -> Result<Checksum, LogError> {
    let mut file = bounded::open(path)?;
    let mut hasher = blake3::Hasher::new();
    let mut buffer = vec![0u8; 1 << 16];
    let mut bytes = 0;
    loop {
        let read = file.read(&mut buffer).map_err(|e| io_error("read", path, &e))?;
        if read == 0 {
            return Ok(Checksum { bytes, checksum: hasher.finalize().to_hex().to_string() });
        }
        bytes += read as u64;
        hasher.update(buffer.get(..read).unwrap_or(&[]));
    }
}
