//! `marktwice.toml`: the nearest one, upwards from where the command is started, and one of the user's own behind it.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

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
    logbook: Option<Logbook>,
    #[serde(default)]
    database: BTreeMap<String, Database>,
    /// By table: the column that names its rows.
    #[serde(default)]
    named_by: BTreeMap<String, String>,
}

/// Where the logbook is, and how long it keeps rows.
#[derive(Debug, Clone, Deserialize)]
#[serde(untagged, expecting = "a folder, or a table with folder, keep and key_file")]
enum Logbook {
    Folder(PathBuf),
    Table(Keeping),
}

#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct Keeping {
    folder: Option<PathBuf>,
    /// As it is written: `90d`.
    keep: Option<String>,
    /// The file with the key that snapshots are encrypted for.
    key_file: Option<PathBuf>,
}

impl Logbook {
    fn folder(&self) -> Option<&Path> {
        match self {
            Logbook::Folder(folder) => Some(folder),
            Logbook::Table(keeping) => keeping.folder.as_deref(),
        }
    }

    fn keep(&self) -> Option<&str> {
        match self {
            Logbook::Folder(_) => None,
            Logbook::Table(keeping) => keeping.keep.as_deref(),
        }
    }

    fn key_file(&self) -> Option<&Path> {
        match self {
            Logbook::Folder(_) => None,
            Logbook::Table(keeping) => keeping.key_file.as_deref(),
        }
    }
}

/// A database with a name.
#[derive(Debug, Default, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Database {
    url: Option<String>,
    /// The variable of the environment that holds the address.
    url_env: Option<String>,
    /// Whether it takes a title, a reason, counts and a fresh mark to change anything there.
    #[serde(default)]
    pub(crate) guarded: bool,
    /// How old the mark may be, as it is written: `1h`, `45m`.
    pub(crate) mark_within: Option<String>,
    /// The table in which each run leaves a row.
    pub(crate) witness: Option<String>,
    /// Columns whose values are never shown, as `table.column`.
    #[serde(default)]
    pub(crate) hide: Vec<String>,
    /// Rows that one run may match at most.
    pub(crate) most_rows: Option<u64>,
    /// Seconds that a lock is waited for, where nothing is said on the line.
    pub(crate) wait: Option<f64>,
    /// Seconds that a statement may take, where nothing is said on the line.
    pub(crate) time_limit: Option<f64>,
}

/// One file, and where it was found.
#[derive(Debug)]
struct Found {
    file: File,
    path: PathBuf,
}

/// The configuration: the nearest file first, then the user's own.
#[derive(Debug, Default)]
pub(crate) struct Config {
    files: Vec<Found>,
}

/// A database as the configuration has it.
#[derive(Debug, Clone)]
pub(crate) struct Named {
    /// Its name.
    pub(crate) name: String,
    /// The address.
    pub(crate) address: String,
    /// The variable that it comes from.
    pub(crate) from: Option<String>,
    /// What else is said of it.
    pub(crate) said: Database,
    /// The file that says so.
    pub(crate) file: PathBuf,
}

/// A place of which no more than the key is shown: behind it a password may stand.
///
/// What has no equals sign is no key: it may be an address, or a part of one.
fn key_only(place: TextPlace) -> TextPlace {
    let at = place.text.find(['=', '"', '\'']);
    let key = at.and_then(|at| place.text.get(..at)).unwrap_or("").trim_end();
    let header = place.text.trim_start().starts_with('[') && at.is_none();
    let plain = |c: char| c.is_alphanumeric() || "_-. []".contains(c);
    if header && place.text.chars().all(plain) {
        return place;
    }
    let text = if key.chars().all(plain) { key.to_owned() } else { String::new() };
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

/// The user's own file.
fn own() -> Option<PathBuf> {
    directories::BaseDirs::new().map(|dirs| dirs.config_dir().join("marktwice").join(NAME))
}

impl Config {
    /// Reads the nearest file and the user's own; an empty configuration where there is none.
    pub(crate) fn nearest(from: &Path) -> Result<Config, Trouble> {
        let mut files = Vec::new();
        for folder in from.ancestors() {
            if let Some(found) = read(&folder.join(NAME))? {
                files.push(found);
                break;
            }
        }
        if let Some(path) = own().filter(|own| files.iter().all(|found| found.path != *own)) {
            files.extend(read(&path)?);
        }
        for found in &files {
            found.fits()?;
        }
        Ok(Config { files })
    }

    /// The files that there are.
    pub(crate) fn files(&self) -> Vec<&Path> {
        self.files.iter().map(|found| found.path.as_path()).collect()
    }

    fn first<'c, T>(&'c self, of: impl Fn(&'c Found) -> Option<T>) -> Option<T> {
        self.files.iter().find_map(of)
    }

    /// The database meant when the command line names none: what the file says, and as an address.
    pub(crate) fn on(&self) -> Option<(&str, String)> {
        self.first(|found| found.file.on.as_deref().map(|on| (on, found.resolve(on))))
    }

    /// Which columns name the rows of tables.
    pub(crate) fn named_by(&self) -> NamedBy {
        let mut all = BTreeMap::new();
        for found in self.files.iter().rev() {
            all.extend(found.file.named_by.clone());
        }
        NamedBy(all)
    }

    /// The names of databases that it gives.
    pub(crate) fn names(&self) -> Vec<&str> {
        let all = self.files.iter().flat_map(|found| found.file.database.keys()).map(String::as_str);
        all.collect::<BTreeSet<_>>().into_iter().collect()
    }

    /// A database by its name here; paths are relative to the file.
    ///
    /// # Errors
    /// Where the variable that holds its address is not set.
    pub(crate) fn database(&self, name: &str) -> Result<Option<Named>, Trouble> {
        let found = self.first(|found| Some((found, found.file.database.get(name)?)));
        found.map(|(found, said)| found.named(name, said)).transpose()
    }

    /// All databases, but for those whose address nobody knows here.
    pub(crate) fn databases(&self) -> Vec<Named> {
        self.names().into_iter().filter_map(|name| self.database(name).ok().flatten()).collect()
    }

    /// The logbook's folder.
    pub(crate) fn logbook(&self) -> Option<PathBuf> {
        self.first(|found| found.file.logbook.as_ref()?.folder().map(|path| found.folder().join(path)))
    }

    /// The file with the key that snapshots are encrypted for.
    pub(crate) fn key_file(&self) -> Option<PathBuf> {
        self.first(|found| found.file.logbook.as_ref()?.key_file().map(|path| found.folder().join(path)))
    }

    /// How long rows of runs are kept, where that is limited.
    pub(crate) fn keep(&self) -> Option<Duration> {
        self.first(|found| within(found.file.logbook.as_ref()?.keep()?))
    }
}

/// Reads a file; `None` where there is none.
fn read(path: &Path) -> Result<Option<Found>, Trouble> {
    let text = match fs::read_to_string(path) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => {
            let message = format!("{} cannot be read: {error}", path.display());
            return Err(Trouble::usage(message, "make it readable"));
        }
    };
    let file: File = toml::from_str(&text).map_err(|error| {
        let span = error.span().unwrap_or(0..0);
        let message = error.message().split_whitespace().collect::<Vec<_>>().join(" ");
        let place = key_only(TextPlace::in_source(&text, span.start, span.end));
        Trouble::usage(
            without_value(&message),
            "the file may say on and logbook (or folder, keep and key_file under [logbook]); under [database.NAME] url or url_env, guarded, mark_within, most_rows, hide, witness, \
             wait and time_limit; and TABLE = \"COLUMN\" under [named_by]",
        )
        .at(path.display().to_string(), place)
    })?;
    Ok(Some(Found { file, path: path.to_owned() }))
}

impl Found {
    fn folder(&self) -> &Path {
        self.path.parent().unwrap_or(Path::new("."))
    }

    /// A path or a `sqlite:` address in the file is relative to it.
    fn resolve(&self, url: &str) -> String {
        if url.contains("://") {
            return url.to_owned();
        }
        let (scheme, path) = match url.strip_prefix("sqlite:") {
            Some(path) => ("sqlite:", path),
            None => ("", url),
        };
        format!("{scheme}{}", self.folder().join(path).display())
    }

    /// Refuses what toml takes and nobody can mean.
    fn fits(&self) -> Result<(), Trouble> {
        let keep = self.file.logbook.as_ref().and_then(Logbook::keep);
        if keep.is_some_and(|text| within(text).is_none_or(|keep| keep.is_zero())) {
            let message = format!("{}: [logbook] has a keep that is no time", self.path.display());
            return Err(Trouble::usage(message, "write days, hours or minutes: 90d"));
        }
        for (name, said) in &self.file.database {
            let wrong = |what: &str, hint: &str| {
                let message = format!("{}: [database.{name}] {what}", self.path.display());
                Err(Trouble::usage(message, hint))
            };
            match (&said.url, &said.url_env) {
                (None, None) => {
                    return wrong("has no address", "write url, or url_env with the name of a variable");
                }
                (Some(_), Some(_)) => return wrong("has two addresses", "leave url or url_env out"),
                _ => {}
            }
            if let Some(text) = &said.mark_within
                && within(text).is_none()
            {
                return wrong(
                    "has a mark_within that is no time",
                    "write hours, minutes or days: 1h, 45m, 2d",
                );
            }
            if let Some(odd) = said.hide.iter().find(|name| !name.contains('.')) {
                let what = format!("hides {odd:?}, which names no column");
                return wrong(&what, "write tables with their columns: hide = [\"keeper.email\"]");
            }
            let sane = |seconds: &Option<f64>| {
                seconds.is_none_or(|s| s.is_finite() && (0.0..=86_400.0).contains(&s))
            };
            if !sane(&said.wait) || !sane(&said.time_limit) {
                return wrong("has a wait or time_limit that is none", "write seconds, up to a day");
            }
        }
        Ok(())
    }

    fn named(&self, name: &str, said: &Database) -> Result<Named, Trouble> {
        let address = match (&said.url, &said.url_env) {
            (Some(url), _) => self.resolve(url),
            (None, Some(variable)) => {
                let set = std::env::var(variable).ok().filter(|url| !url.is_empty());
                set.map(|url| self.resolve(&url)).ok_or_else(|| {
                    Trouble::usage(
                        format!("the address of {name} is in the variable {variable}, which is not set"),
                        format!("set {variable}, or write url into {}", self.path.display()),
                    )
                })?
            }
            (None, None) => return Err(Trouble::usage(format!("{name} has no address"), "write url")),
        };
        let (name, from, said, file) =
            (name.to_owned(), said.url_env.clone(), said.clone(), self.path.clone());
        Ok(Named { name, address, from, said, file })
    }
}

/// A time as it is written: a whole number of minutes, hours or days.
pub(crate) fn within(text: &str) -> Option<Duration> {
    let (number, unit) = text.split_at_checked(text.len().checked_sub(1)?)?;
    let seconds = match unit {
        "m" => 60,
        "h" => 3_600,
        "d" => 86_400,
        _ => return None,
    };
    let number: u64 = number.parse().ok()?;
    number.checked_mul(seconds).map(Duration::from_secs)
}
