//! `key`: a new key for snapshots, in a file that only the user may read.

use std::path::Path;

use marktwice_logbook::FileKey;
use marktwice_run::Failure;
use serde_json::json;

use crate::args::{Common, Format};
use crate::out::{print, print_document};
use crate::report::Trouble;
use crate::{exit, human};

/// Makes it. Nothing is connected to, and nothing is overwritten.
pub(crate) fn run(common: &Common, file: &Path) -> Result<u8, Trouble> {
    crate::html::is_new(file)?;
    let key = FileKey::make(file).map_err(|error| Trouble::failure(&Failure::Log(error), "the key"))?;
    let (shown, name) = (file.display().to_string(), key.name());
    if common.format == Format::Json {
        let document = json!({ "format": "marktwice-key", "version": 1, "status": exit::DONE, "file": shown, "key": name });
        print_document(document);
        return Ok(exit::DONE);
    }
    let quoted = serde_json::Value::String(shown.clone());
    print(&format!(
        "{} holds a new key, {name}. Name it in marktwice.toml:\n\n  [logbook]\n  key_file = {quoted}\n\n\
         From then on snapshots are encrypted for it. Keep a copy of the file elsewhere: without it nobody can read them, and no run of \
         theirs can be taken back.\n",
        human::one_line(&shown)
    ));
    Ok(exit::DONE)
}
