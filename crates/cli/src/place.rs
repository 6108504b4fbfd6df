//! Which database, and where its logbook is.

use std::path::PathBuf;

use marktwice_core::near::nearest;
use marktwice_demo::Engine as Demo;
use marktwice_port::{Intent, Limits};
use percent_encoding::percent_decode_str;

use crate::args::Common;
use crate::config::{Config, Named};
use crate::engines;
use crate::report::Trouble;

/// The address of the database (the command line, then the environment, then the configuration), and what the configuration
/// says of it, under whatever name or address it was meant.
pub(crate) fn address(common: &Common, config: &Config) -> Result<(String, Option<Named>), Trouble> {
    let (given, named) = match common.on.as_deref().filter(|on| !on.is_empty()) {
        Some(on) => match config.database(on)? {
            Some(named) => (named.address.clone(), Some(named)),
            None => (known_or_there(on, config)?, None),
        },
        None => match config.on() {
            Some((on, address)) => match config.database(on)? {
                Some(named) => (named.address.clone(), Some(named)),
                None => (address, None),
            },
            None => {
                return Err(Trouble::usage(
                    "no database is named",
                    "say --on FILE, set MARKTWICE_ON, or write on = \"FILE\" into marktwice.toml",
                ));
            }
        },
    };
    let named =
        named.or_else(|| config.databases().into_iter().find(|known| is_same(&known.address, &given)));
    match engines::of(&given).map(|kind| kind.demo) {
        Some(Demo::Sqlite) => Ok((shorter(&given), named)),
        Some(_) => Ok((given, named)),
        None => Err(Trouble::usage(
            format!("there is no engine for {} addresses", scheme_of(&given)),
            format!("taken are {}", engines::TAKEN.join(", ")),
        )),
    }
}

/// Whether two addresses are of one database, as far as they tell: whoever connects, and how, does not matter.
fn is_same(one: &str, other: &str) -> bool {
    let of = |address: &str| engines::of(address).map(|kind| kind.demo);
    match (of(one), of(other)) {
        (Some(Demo::Sqlite), Some(Demo::Sqlite)) => {
            let file = |address: &str| {
                let file = engines::file_of(address);
                // Another name of a file, a hard link too, is the same file.
                #[cfg(unix)]
                if let Ok(about) = std::fs::metadata(&file) {
                    use std::os::unix::fs::MetadataExt;
                    return Err((about.dev(), about.ino()));
                }
                Ok(std::fs::canonicalize(&file)
                    .unwrap_or_else(|_| std::path::absolute(&file).unwrap_or(file)))
            };
            let files: [Result<PathBuf, (u64, u64)>; 2] = [file(one), file(other)];
            let [one, other] = files;
            one == other
        }
        (Some(a), Some(b)) if a == b => where_to(one) == where_to(other),
        _ => false,
    }
}

/// The configured database that an address opens under another name, by what the servers say of themselves: asked where an address was
/// typed that no spelling in the configuration matches, and a database of that engine is guarded or hides columns.
pub(crate) fn opened_as(address: &str, config: &Config, waits: Limits) -> Option<Named> {
    let kind = engines::of(address).filter(|kind| kind.demo != Demo::Sqlite)?;
    let matters = |known: &Named| {
        (known.said.guarded || !known.said.hide.is_empty())
            && engines::of(&known.address).is_some_and(|other| other.demo == kind.demo)
    };
    let known: Vec<Named> = config.databases().into_iter().filter(matters).collect();
    if known.is_empty() {
        return None;
    }
    let identity = |address: &str| {
        let session = kind.engine.open(address, Intent::Read, waits).ok()?;
        Some(session.database().identity.clone())
    };
    let own = identity(address)?;
    known.into_iter().find(|known| identity(&known.address).as_ref() == Some(&own))
}

/// The place of an address: host, port and database, without who connects and how, in one spelling.
fn where_to(address: &str) -> String {
    let (_, rest) = address.split_once("://").unwrap_or(("", address));
    let (place, query) = rest.split_once('?').unwrap_or((rest, ""));
    let (host, database) = place.split_once('/').unwrap_or((place, ""));
    let host = host.rsplit_once('@').map_or(host, |(_, host)| host).to_ascii_lowercase();
    let host = host.strip_suffix(":5432").or_else(|| host.strip_suffix(":3306")).unwrap_or(&host);
    // A socket is named behind the place.
    let socket =
        query.split('&').find_map(|part| part.strip_prefix("host=").or(part.strip_prefix("socket=")));
    let plain = |text: &str| percent_decode_str(text).decode_utf8_lossy().into_owned();
    // A socket may stand in the place of the host as well.
    let host = plain(host);
    let socket = socket.map(plain).or_else(|| Some(host.clone()).filter(|host| host.starts_with('/')));
    let host = if socket.is_some() { String::new() } else { host };
    let socket = socket.map(|path| {
        std::fs::canonicalize(&path)
            .map_or_else(|_| path.trim_end_matches('/').to_owned(), |p| p.display().to_string())
    });
    format!("{host}/{}?{}", plain(database), socket.unwrap_or_default())
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_database_under_several_addresses() {
        for (one, other, same) in [
            (
                "postgres://ann@db.example/coop",
                "postgresql://bob:x@DB.example:5432/coop?sslmode=require",
                true,
            ),
            ("mysql://h/coop", "mariadb://ann:secret@h:3306/coop", true),
            ("mysql://h/coop", "mysql://h:3307/coop", false),
            ("mysql://h/coop", "mysql://h/coop2", false),
            ("mysql://h/coop", "postgres://h/coop", false),
            ("postgres:///coop?host=/run/a", "postgres://x@/coop?sslmode=off&host=/run/a", true),
            ("postgres:///coop?host=/run/a", "postgres:///coop?host=/run/b", false),
            ("postgres:///co%6Fp?host=/tmp/../tmp", "postgres://%2Ftmp/coop", true),
            ("mysql://h/live%5Fdb", "mysql://h/live_db", true),
            ("sqlite:a/../coop.db", "coop.db", false),
            ("sqlite:coop.db", "./coop.db", true),
        ] {
            assert_eq!(is_same(one, other), same, "{one} {other}");
        }
    }
}
