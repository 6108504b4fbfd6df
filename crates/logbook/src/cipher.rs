//! Snapshots that only the holder of a key can read: the compressed lines in the open format age, version 1, for one X25519
//! recipient. `age -d -i KEY rows.jsonl.zst.age | zstd -dc | jq` reads them, without this program.

use std::fs::OpenOptions;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::Path;

use age::secrecy::ExposeSecret;
use age::stream::StreamWriter;
use age::x25519::Identity;
use marktwice_core::hash::HashKey;
use marktwice_port::{LogError, LogErrorKind};

use crate::atomic::io_error;
use crate::bounded;

/// How every such file begins.
const MAGIC: &[u8] = b"age-encryption.org/v1";
/// How the line of a key file begins that holds the key.
const SECRET: &str = "AGE-SECRET-KEY-1";

/// The key that snapshots are encrypted for and read with.
#[derive(Clone)]
pub struct FileKey(Identity);

impl std::fmt::Debug for FileKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "FileKey({})", self.name())
    }
}

impl FileKey {
    /// Reads a key file: lines that begin with `#` are skipped, and one line is the key.
    ///
    /// # Errors
    /// When it cannot be read, or holds no key or several.
    pub fn read(path: &Path) -> Result<FileKey, LogError> {
        let text = bounded::text(path).map_err(|error| LogError { kind: LogErrorKind::Key, ..error })?;
        let none = |what: &str| {
            LogError::new(LogErrorKind::Key, format!("{} is no key file: {what}", path.display()))
        };
        let mut lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
        let (Some(line), None) = (lines.next(), lines.next()) else {
            return Err(none("it has to hold one line with a key"));
        };
        // What is there instead may be a secret of another kind: it is not said.
        line.parse()
            .map(FileKey)
            .map_err(|_| none(&format!("its line does not begin with {SECRET}, or is torn")))
    }

    /// Makes a new key, and writes it into a new file that only the user may read.
    ///
    /// # Errors
    /// When there is a file of that name, or it cannot be written.
    pub fn make(path: &Path) -> Result<FileKey, LogError> {
        let key = FileKey(Identity::generate());
        let mut options = OpenOptions::new();
        options.write(true).create_new(true);
        #[cfg(unix)]
        std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
        let mut file = options.open(path).map_err(|e| io_error("make", path, &e))?;
        let text = format!("# public key: {}\n{}\n", key.name(), key.0.to_string().expose_secret());
        let written = file.write_all(text.as_bytes()).and_then(|()| file.sync_all());
        written.map_err(|e| io_error("write", path, &e))?;
        Ok(key)
    }

    /// What is said of it: its public part, `age1…`.
    pub fn name(&self) -> String {
        self.0.to_public().to_string()
    }

    /// The key for hashes of what is hidden: whoever has this key makes the same hashes.
    pub(crate) fn hash_key(&self) -> HashKey {
        let secret = self.0.to_string();
        HashKey(blake3::derive_key(
            "marktwice 2026 hashes of hidden values",
            secret.expose_secret().as_bytes(),
        ))
    }

    /// Encrypts what is written.
    fn around<W: Write>(&self, to: W) -> io::Result<StreamWriter<W>> {
        let recipient = self.0.to_public();
        let one: [&dyn age::Recipient; 1] = [&recipient];
        age::Encryptor::with_recipients(one.into_iter()).map_err(io::Error::other)?.wrap_output(to)
    }
}

/// What is written as it is, or encrypted.
pub(crate) enum Sink<W: Write> {
    Plain(W),
    Encrypted(StreamWriter<W>),
}

impl<W: Write> Sink<W> {
    pub(crate) fn new(to: W, key: Option<&FileKey>) -> io::Result<Self> {
        match key {
            None => Ok(Sink::Plain(to)),
            Some(key) => key.around(to).map(Sink::Encrypted),
        }
    }

    /// Writes the end, and gives what it was written to.
    pub(crate) fn finish(self) -> io::Result<W> {
        match self {
            Sink::Plain(to) => Ok(to),
            Sink::Encrypted(stream) => stream.finish(),
        }
    }
}

impl<W: Write> Write for Sink<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Sink::Plain(to) => to.write(bytes),
            Sink::Encrypted(stream) => stream.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Sink::Plain(to) => to.flush(),
            Sink::Encrypted(stream) => stream.flush(),
        }
    }
}

/// What a file holds once it is decrypted, where it is encrypted.
pub(crate) type Plain = Box<dyn BufRead + Send>;

/// Opens a file for reading, decrypted where it is encrypted.
///
/// # Errors
/// When it cannot be read, or not with this key.
pub(crate) fn open(path: &Path, key: Option<&FileKey>, block: usize) -> Result<Plain, LogError> {
    let mut file = BufReader::with_capacity(block, bounded::open(path)?);
    let encrypted = file.fill_buf().map_err(|e| io_error("read", path, &e))?.starts_with(MAGIC);
    if !encrypted {
        return Ok(Box::new(file));
    }
    let shut =
        |what: &str| LogError::new(LogErrorKind::Key, format!("{} is encrypted, {what}", path.display()));
    let Some(key) = key else {
        return Err(shut("and no key_file is set: without its key nobody can read it"));
    };
    let stream = age::Decryptor::new_buffered(file)
        .and_then(|decryptor| decryptor.decrypt(std::iter::once(&key.0 as &dyn age::Identity)))
        .map_err(|error| match error {
            age::DecryptError::NoMatchingKeys => shut(&format!(
                "and not for the key {} of the key_file: without its own key nobody can read it",
                key.name()
            )),
            age::DecryptError::Io(error) => io_error("read", path, &error),
            other => crate::atomic::damaged(path, &format!("it cannot be decrypted ({other})")),
        })?;
    let stream: Box<dyn Read + Send> = Box::new(stream);
    Ok(Box::new(BufReader::with_capacity(block, stream)))
}
