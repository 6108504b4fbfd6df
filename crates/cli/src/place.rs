//! Which database, and where its logbook is.

use std::path::PathBuf;

use marktwice_sql::Language;

use crate::args::Common;
use crate::config::Config;
use crate::engines;
use crate::report::Trouble;

/// The address of the database: the command line, then the environment, then the configuration.
pub(crate) fn address(common: &Common, config: &Config) -> Result<String, Trouble> {
    let given = match common.on.as_deref().filter(|on| !on.is_empty()) {
        Some(on) => config.database(on).unwrap_or_else(|| on.to_owned()),
        None => match config.on() {
            Some(on) => config.database(on).unwrap_or_else(|| config.resolve(on)),
            None => {
                return Err(Trouble::usage(
                    "no database is named",
                    "say --on FILE, set MARKTWICE_ON, or write on = \"FILE\" into marktwice.toml",
                ));
            }
        },
    };
    match engines::of(&given).map(|kind| kind.language) {
        Some(Language::Sqlite) => Ok(shorter(&given)),
        Some(_) => Ok(given),
        None => Err(Trouble::usage(
            format!("there is no engine for {} addresses", scheme_of(&given)),
            "taken are a path or sqlite:PATH, postgres://USER@HOST/DATABASE, mysql://USER@HOST/DATABASE",
        )),
    }
}

/// The scheme of an address, where that is what stands before the `://`.
fn scheme_of(address: &str) -> String {
    let scheme = address.split("://").next().unwrap_or("");
    let plain = !scheme.is_empty() && scheme.chars().all(|c| c.is_ascii_alphanumeric() || "+-.".contains(c));
    if plain { format!("{scheme}://") } else { "such".to_owned() }
}

/// A path below the current folder is shown from there.
fn shorter(address: &str) -> String {
    let below = std::env::current_dir().ok().and_then(|here| {
        let path = marktwice_sqlite::file_of(address);
        path.strip_prefix(here).ok().map(|p| p.display().to_string())
    });
    below.filter(|p| !p.is_empty()).unwrap_or_else(|| address.to_owned())
}

/// The root of the logbook: the command line, the environment, the configuration, the user's data folder.
pub(crate) fn logbook(common: &Common, config: &Config) -> Result<PathBuf, Trouble> {
    if let Some(folder) =
        common.logbook.clone().filter(|f| !f.as_os_str().is_empty()).or_else(|| config.logbook())
    {
        return Ok(folder);
    }
    directories::BaseDirs::new().map(|dirs| dirs.data_dir().join("marktwice")).ok_or_else(|| {
        Trouble::usage(
            "there is no home folder to keep the logbook in",
            "say --logbook DIR or set MARKTWICE_LOGBOOK",
        )
    })
}
