//! Passwords: in the address, in a named environment variable, or in the engine's customary variable or file. A file
//! that others may read is passed over, as the engines' own shells do.

use std::fs;
use std::path::{Path, PathBuf};

use marktwice_port::EngineError;

use crate::address::{Address, Host, Secret};

/// Where an engine's users keep their passwords.
#[derive(Debug, Clone, Copy)]
pub enum Custom {
    /// `PGPASSWORD`, and `.pgpass` or the file that `PGPASSFILE` names.
    Postgres,
    /// `MYSQL_PWD`, and the `[client]` part of `.my.cnf`.
    Mysql,
}

/// The password for `user`, and a note where a file was passed over.
///
/// # Errors
/// When the address names an environment variable that is not set.
pub fn find(
    address: &Address,
    user: &str,
    custom: Custom,
) -> Result<(Option<Secret>, Option<String>), EngineError> {
    if let Some(password) = &address.password {
        return Ok((Some(password.clone()), None));
    }
    if let Some(name) = &address.password_env {
        return match std::env::var(name) {
            Ok(password) => Ok((Some(Secret::new(password)), None)),
            Err(_) => Err(EngineError::Other(format!(
                "the address says that the password is in the environment variable {name}, which is not set"
            ))),
        };
    }
    let (variable, file) = match custom {
        Custom::Postgres => {
            ("PGPASSWORD", std::env::var_os("PGPASSFILE").map(PathBuf::from).or_else(|| home(".pgpass")))
        }
        Custom::Mysql => ("MYSQL_PWD", home(".my.cnf")),
    };
    if let Ok(password) = std::env::var(variable) {
        return Ok((Some(Secret::new(password)), None));
    }
    let Some(file) = file else { return Ok((None, None)) };
    let Ok(text) = fs::read_to_string(&file) else { return Ok((None, None)) };
    if !is_private(&file) {
        let note = format!("{} is passed over: others may read it (make it 0600)", file.display());
        return Ok((None, Some(note)));
    }
    let found = match custom {
        Custom::Postgres => in_pgpass(&text, address, user),
        Custom::Mysql => in_my_cnf(&text),
    };
    Ok((found.map(Secret::new), None))
}

fn home(name: &str) -> Option<PathBuf> {
    std::env::var_os("HOME").map(|home| Path::new(&home).join(name))
}

#[cfg(unix)]
fn is_private(file: &Path) -> bool {
    use std::os::unix::fs::PermissionsExt;
    fs::metadata(file).is_ok_and(|about| about.permissions().mode() & 0o077 == 0)
}

#[cfg(not(unix))]
fn is_private(_: &Path) -> bool {
    true
}

/// `host:port:database:user:password`, `*` for any, `\` before a colon or itself; by
/// <https://www.postgresql.org/docs/current/libpq-pgpass.html>.
fn in_pgpass(text: &str, address: &Address, user: &str) -> Option<String> {
    let host = match &address.host {
        Host::Socket(_) => "localhost",
        Host::Tcp { host, .. } => host,
    };
    let port = address.port.to_string();
    let wanted = [host, &port, &address.database, user];
    text.lines().filter(|line| !line.starts_with('#')).find_map(|line| {
        let fields = fields(line);
        let (password, keys) = fields.split_last()?;
        let fits =
            keys.len() == 4 && keys.iter().zip(wanted).all(|(key, wanted)| key == "*" || key == wanted);
        fits.then(|| password.clone())
    })
}

fn fields(line: &str) -> Vec<String> {
    let mut all = vec![String::new()];
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        match (c, all.len()) {
            ('\\', _) => all.last_mut().map(|field| field.extend(chars.next())).unwrap_or_default(),
            (':', 1..5) => all.push(String::new()),
            _ => all.last_mut().map(|field| field.push(c)).unwrap_or_default(),
        }
    }
    all
}

fn in_my_cnf(text: &str) -> Option<String> {
    let mut client = false;
    text.lines().map(str::trim).find_map(|line| {
        if let Some(group) = line.strip_prefix('[').and_then(|l| l.strip_suffix(']')) {
            client = ["client", "client-mariadb", "mysql", "mariadb"].contains(&group);
            return None;
        }
        let (name, value) = line.split_once('=')?;
        let value = value.trim().trim_matches(['"', '\'']);
        (client && name.trim() == "password").then(|| value.to_owned())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::address;

    const PG: address::Custom =
        address::Custom { engine: "PostgreSQL", schemes: &["postgres"], port: 5432, sockets: &[] };

    #[test]
    fn password_files() {
        let address = Address::parse("postgres://db.example/coop", PG).unwrap();
        let text =
            "# hosts\nother:*:*:ann:no\ndb.example:5432:coop:bob:no\n*:*:coop:ann:a\\:b\\\\c:d\n*:*:*:*:last";
        assert_eq!(in_pgpass(text, &address, "ann").as_deref(), Some("a:b\\c:d"));
        assert_eq!(in_pgpass(text, &address, "eve").as_deref(), Some("last"));
        let cnf = "[mysqld]\npassword=no\n[client]\nuser = ann\npassword = \"x y\"\n";
        assert_eq!(in_my_cnf(cnf).as_deref(), Some("x y"));
    }
}
