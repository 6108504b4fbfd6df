//! `marktwice.toml`: the nearest one, upwards from where the command is started.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use marktwice_core::TextPlace;
use marktwice_core::table::NamedBy;
use serde::Deserialize;

use crate::report::Trouble;

const NAME: &str = "marktwice.toml";

/// What the file may say.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    on: Option<String>,
    logbook: Option<PathBuf>,
    #[serde(default)]
    database: BTreeMap<String, Database>,
    /// By table: the column that names its rows.
    #[serde(default)]
    named_by: BTreeMap<String, String>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Database {
    url: String,
}

/// The configuration and where it was found.
#[derive(Debug, Default)]
pub(crate) struct Config {
    file: File,
    folder: PathBuf,
}

/// A place of which no more than the key is shown: behind it a password may stand.
fn key_only(place: TextPlace) -> TextPlace {
    let Some(at) = place.text.find(['=', '"', '\'']) else { return place };
    let text: String = place.text.get(..at).unwrap_or("").trim_end().to_owned();
    let most = text.chars().count();
    let (column, length) = if place.column > most { (1, most.max(1)) } else { (place.column, place.length) };
    TextPlace {
        length: length.min(most + 1 - column.min(most)).max(1),
        column,
        text: format!("{text} = …"),
        ..place
    }
}

/// What is wrong with a value, without the value itself.
fn without_value(message: &str) -> String {
    match (message.find('"'), message.rfind('"')) {
        (Some(first), Some(last)) if first < last => {
            let (before, after) = (message.get(..first).unwrap_or(""), message.get(last + 1..).unwrap_or(""));
            format!("{before}…{after}")
        }
        _ if message.starts_with("invalid type") || message.starts_with("invalid value") => {
            let kind = message.split(" `").next().unwrap_or("invalid type");
            let expected = message.rfind(", expected").and_then(|at| message.get(at..)).unwrap_or("");
            format!("{kind}{expected}")
        }
        _ => message.to_owned(),
    }
}

impl Config {
    /// Reads the nearest file; an empty configuration where there is none.
    pub(crate) fn nearest(from: &Path) -> Result<Config, Trouble> {
        for folder in from.ancestors() {
            let path = folder.join(NAME);
            match fs::read_to_string(&path) {
                Ok(text) => return Config::parse(&text, folder, &path),
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
                Err(error) => {
                    return Err(Trouble::usage(
                        format!("{} cannot be read: {error}", path.display()),
                        "make it readable",
                    ));
                }
            }
        }
        Ok(Config::default())
    }

    fn parse(text: &str, folder: &Path, path: &Path) -> Result<Config, Trouble> {
        let file: File = toml::from_str(text).map_err(|error| {
            let span = error.span().unwrap_or(0..0);
            let message = error.message().split_whitespace().collect::<Vec<_>>().join(" ");
            let place = key_only(TextPlace::in_source(text, span.start, span.end));
            Trouble::usage(
                without_value(&message),
                "the file may say on, logbook, url under [database.NAME], and TABLE = \"COLUMN\" under [named_by]",
            )
            .at(path.display().to_string(), place)
        })?;
        Ok(Config { file, folder: folder.to_owned() })
    }

    /// The database meant when the command line names none.
    pub(crate) fn on(&self) -> Option<&str> {
        self.file.on.as_deref()
    }

    /// Which columns name the rows of tables.
    pub(crate) fn named_by(&self) -> NamedBy {
        NamedBy(self.file.named_by.clone())
    }

    /// The names of databases that it gives.
    pub(crate) fn names(&self) -> Vec<&str> {
        self.file.database.keys().map(String::as_str).collect()
    }

    /// The address of a database by its name here; paths are relative to the file.
    pub(crate) fn database(&self, name: &str) -> Option<String> {
        self.file.database.get(name).map(|database| self.resolve(&database.url))
    }

    /// A path or a `sqlite:` address in the file is relative to it.
    pub(crate) fn resolve(&self, url: &str) -> String {
        if url.contains("://") {
            return url.to_owned();
        }
        let (scheme, path) = match url.strip_prefix("sqlite:") {
            Some(path) => ("sqlite:", path),
            None => ("", url),
        };
        format!("{scheme}{}", self.folder.join(path).display())
    }

    /// The logbook's folder.
    pub(crate) fn logbook(&self) -> Option<PathBuf> {
        self.file.logbook.as_ref().map(|path| self.folder.join(path))
    }
}
