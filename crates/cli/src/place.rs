//! Which database, and where its logbook is.

use std::path::PathBuf;

use marktwice_core::near::nearest;
use marktwice_demo::Engine as Demo;

use crate::args::Common;
use crate::config::Config;
use crate::engines;
use crate::report::Trouble;

/// The address of the database: the command line, then the environment, then the configuration.
pub(crate) fn address(common: &Common, config: &Config) -> Result<String, Trouble> {
    let given = match common.on.as_deref().filter(|on| !on.is_empty()) {
        Some(on) => match config.database(on) {
            Some(address) => address,
            None => known_or_there(on, config)?,
        },
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
    match engines::of(&given).map(|kind| kind.demo) {
        Some(Demo::Sqlite) => Ok(shorter(&given)),
        Some(_) => Ok(given),
        None => Err(Trouble::usage(
            format!("there is no engine for {} addresses", scheme_of(&given)),
            format!("taken are {}", engines::TAKEN.join(", ")),
        )),
    }
}

/// What was typed, unless it looks like a name and is none that the configuration has.
fn known_or_there(on: &str, config: &Config) -> Result<String, Trouble> {
    let names = config.names();
    let name = on.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '-');
    if !name || names.is_empty() || std::path::Path::new(on).exists() {
        return Ok(on.to_owned());
    }
    let hint = match nearest(on, names.iter().copied()) {
        Some(near) => format!("did you mean {near}? marktwice.toml names {}", names.join(", ")),
        None => format!("marktwice.toml names {}", names.join(", ")),
    };
    Err(Trouble::usage(format!("there is no file and no database {on}"), hint))
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
        let path = engines::file_of(address);
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
