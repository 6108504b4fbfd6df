//! Connecting to a server.

use std::time::Duration;

use marktwice_core::receipt::DatabaseId;
use marktwice_network::address::{Address, Custom, Host};
use marktwice_network::encryption::Checks;
use marktwice_network::password;
use marktwice_network::watch::GRACE;
use marktwice_port::{Engine, EngineError, Intent, Language, Limits, Session};
use marktwice_relational::session::Opened;
use mysql::consts::CapabilityFlags;
use mysql::{Conn, OptsBuilder, SslOpts};

use crate::client::{My, TextRow, seconds};
use crate::error::{code, message};
use crate::server::Traits;

/// The engine for MariaDB and MySQL.
#[derive(Debug, Clone, Copy, Default)]
pub struct Mysql;

/// What is usual for MariaDB.
pub(crate) const CUSTOM: Custom = Custom {
    engine: "MariaDB",
    schemes: &["mysql", "mariadb"],
    port: 3306,
    sockets: &["/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/tmp/mysql.sock"],
};

/// How long a server may take to answer a connection.
const PATIENCE: Duration = Duration::from_secs(15);

impl Mysql {
    /// Whether an address is one of this engine's.
    pub fn takes(address: &str) -> bool {
        CUSTOM.schemes.iter().any(|s| address.starts_with(&format!("{s}:")))
    }
}

impl Engine for Mysql {
    fn language(&self) -> &dyn Language {
        &marktwice_sql::Language::Mysql
    }

    fn survives_rollback(&self) -> &'static str {
        "AUTO_INCREMENT numbers, and what functions have done outside of the database"
    }

    fn open(&self, address: &str, intent: Intent, waits: Limits) -> Result<Box<dyn Session>, EngineError> {
        let address = Address::parse(address, CUSTOM)?;
        if address.database.is_empty() {
            return Err(EngineError::missing(
                "the address names no database: write mysql://user@host/database".to_owned(),
            ));
        }
        let mut notes = Vec::new();
        let silence = waits.statement.map(|limit| limit + waits.lock + GRACE);
        let mut my = connect(&address, &mut notes, silence)?;
        let wait = seconds(waits.lock);
        my.later(&format!(
            "SET SESSION innodb_lock_wait_timeout = {wait}, SESSION lock_wait_timeout = {wait}"
        ))?;
        my.limit = waits.statement;
        if let Some(limit) = waits.statement {
            my.run(&my.traits.limit(limit))?;
        }
        let database = identity(&mut my, &address)?;
        if intent == Intent::Settle && my.one("SELECT @@global.read_only")?.as_deref() == Some("1") {
            return Err(EngineError::read_only(format!(
                "{} is read-only (as a replica is) and may lag behind: what became of a run is asked of the primary only",
                database.name
            )));
        }
        if intent == Intent::Write {
            may_write(&mut my, &database)?;
        }
        if !my.checks_keys {
            notes.push(KEYS_UNCHECKED.to_owned());
        }
        my.intent = intent;
        Ok(Box::new(Opened::new(my, database, notes)))
    }
}

/// Whether anything can be written here.
pub(crate) fn may_write(my: &mut My, database: &DatabaseId) -> Result<(), EngineError> {
    let flags = my.rows(&format!("SELECT @@global.read_only, @@session.{}", my.traits.read_only))?;
    let on = |at: usize| flags.first().and_then(|r| r.get(at)?.as_deref()) == Some("1");
    if on(0) {
        return Err(EngineError::read_only(format!(
            "{} is read-only (read_only is on, as on a replica): a preview works here, an application only on the primary",
            database.name
        )));
    }
    if on(1) {
        let message = format!("transactions on {} are read-only by default", database.name);
        return Err(EngineError::read_only(message));
    }
    if my.traits.mysql && writes_at_several(my)? {
        return Err(EngineError::read_only(format!(
            "{} is a member of a group that takes writes at several members: locks hold on one of them only, and the group takes no \
             SERIALIZABLE transaction; a preview works here, an application only where the group has a single primary",
            database.name
        )));
    }
    Ok(())
}

/// Whether the server is a member of a replication group without a single primary. Everybody may read these variables, which
/// are not there without the plugin.
fn writes_at_several(my: &mut My) -> Result<bool, EngineError> {
    let rows = my.rows(
        "SHOW GLOBAL VARIABLES WHERE Variable_name IN ('group_replication_group_name', 'group_replication_single_primary_mode')",
    )?;
    let value = |name: &str| {
        let row = rows.iter().find(|row| row.first().and_then(Option::as_deref) == Some(name))?;
        row.get(1)?.clone()
    };
    let named = value("group_replication_group_name").is_some_and(|name| !name.is_empty());
    Ok(named && value("group_replication_single_primary_mode").as_deref() == Some("OFF"))
}

/// Opens a connection; passwords are looked up, and shown nowhere.
pub(crate) fn connect(
    address: &Address,
    notes: &mut Vec<String>,
    silence: Option<Duration>,
) -> Result<My, EngineError> {
    let user =
        address.user.clone().or_else(|| std::env::var("USER").ok()).unwrap_or_else(|| "root".to_owned());
    let (password, note) = password::find(address, &user, password::Custom::Mysql)?;
    notes.extend(note);
    let mut options = OptsBuilder::new()
        .user(Some(&user))
        .pass(password.as_ref().map(|p| p.reveal().to_owned()))
        .db_name(Some(&address.database).filter(|d| !d.is_empty()))
        .tcp_connect_timeout(Some(PATIENCE))
        // A server that has gone silent is given up after its limit; a network that has gone away is noticed anyway.
        .read_timeout(silence)
        .write_timeout(silence)
        .tcp_keepalive_time_ms(Some(15_000))
        // Affected rows are then those that matched, as on the other engines.
        .additional_capabilities(CapabilityFlags::CLIENT_FOUND_ROWS)
        // A statement of the user's is never sent in parts, and nothing is read from files of this machine.
        .local_infile_handler(None);
    options = match &address.host {
        Host::Socket(path) => options.socket(Some(path.display().to_string())).prefer_socket(false),
        Host::Tcp { host, port } => {
            options.ip_or_hostname(Some(host.trim_matches(['[', ']']))).tcp_port(*port).prefer_socket(false)
        }
    };
    options = match address.tls.checks {
        Checks::Off => options,
        Checks::Unchecked => options.ssl_opts(
            SslOpts::default()
                .with_danger_accept_invalid_certs(true)
                .with_danger_skip_domain_validation(true),
        ),
        Checks::Full => options.ssl_opts(SslOpts::default().with_root_cert_path(address.tls.ca.clone())),
    };
    // A file without a certificate in it is told before the library trips over it.
    address.tls.config()?;
    let shown = address.shown(CUSTOM.port);
    let conn = Conn::new(options.clone()).map_err(|e| opening(&e, &shown, &user, address))?;
    let mut my = My {
        params: Vec::new(),
        conn,
        options,
        stop: None,
        own: (String::new(), String::new()),
        pinned: false,
        pins_set: Some(false),
        ahead: String::new(),
        together: true,
        schema: String::new(),
        server: None,
        described: Vec::new(),
        version: String::new(),
        brand: String::new(),
        traits: Traits::of(""),
        temporary: Vec::new(),
        cluster: None,
        own_guard: false,
        checks_keys: true,
        open: false,
        limit: None,
        intent: Intent::Read,
    };
    // Servers that only speak the protocol may not take two statements at once.
    let told = my.several(&["SET NAMES utf8mb4", ABOUT]).or_else(|_| {
        my.together = false;
        my.several(&["SET NAMES utf8mb4"])?;
        Ok::<_, EngineError>(vec![my.rows(ABOUT).unwrap_or_default()])
    })?;
    let told = told.into_iter().last().and_then(|rows| rows.into_iter().next()).unwrap_or_default();
    let cell = |at: usize| told.get(at).cloned().flatten().unwrap_or_default();
    if told.len() == 7 {
        my.own_guard = cell(0) == "1";
        my.checks_keys = cell(6) != "0";
        my.own = (cell(1), cell(2));
        (my.version, my.brand) = (cell(3), brand(&cell(3), &cell(4)));
        my.traits = Traits::of(&my.brand);
        my.schema = cell(5);
        // One question where the server knows all of it.
        let asked = [&set_aside_at_once(&my.traits), my.traits.on_cluster, my.traits.server, SNAPSHOTS];
        if let Ok(mut told) = my.several(&asked) {
            let one = |rows: Option<Vec<TextRow>>| rows?.into_iter().next()?.into_iter().next()?;
            let snapshots =
                told.pop().is_some_and(|rows| rows.iter().flatten().flatten().any(|cell| cell == "ON"));
            if snapshots {
                // A row that nobody matched, changed by somebody else meanwhile, would end a run; what is marked is compared anyhow.
                my.later("SET SESSION innodb_snapshot_isolation = 0")?;
            }
            my.server = one(told.pop());
            let on = one(told.pop());
            my.cluster = cluster(&mut my, on.as_deref() == Some("1"))?;
            return Ok(my);
        }
        set_aside(&mut my)?;
    } else {
        // Servers that only speak the protocol may not know all of it at once.
        my.own_guard = my.one("SELECT @@session.sql_safe_updates")?.unwrap_or_default() == "1";
        my.checks_keys = my.one(CHECKS_KEYS).ok().flatten().as_deref() != Some("0");
        set_aside(&mut my)?;
        my.learn_own()?;
        my.version = my.one("SELECT version()")?.unwrap_or_default();
        let comment = my.one("SELECT @@version_comment").ok().flatten().unwrap_or_default();
        my.brand = brand(&my.version, &comment);
        my.traits = Traits::of(&my.brand);
        my.schema = my.one("SELECT database()")?.unwrap_or_default();
    }
    // Servers without clusters do not know the variable.
    let on = my.one(my.traits.on_cluster).ok().flatten().as_deref() == Some("1");
    my.cluster = cluster(&mut my, on)?;
    Ok(my)
}

/// What is to be known of a server and of the session's own settings, before any of them is set aside.
const ABOUT: &str = "SELECT @@session.sql_safe_updates, @@session.sql_mode, @@session.time_zone, version(), @@version_comment, database(), @@session.foreign_key_checks";

/// Newer MariaDB refuses to write what it finds changed since the transaction's first look, even where it would not write it.
const SNAPSHOTS: &str = "SHOW SESSION VARIABLES LIKE 'innodb_snapshot_isolation'";

const CHECKS_KEYS: &str = "SELECT @@session.foreign_key_checks";
const KEYS_UNCHECKED: &str = "foreign_key_checks is off on this server: no foreign key is checked, and none deletes or changes other rows";

const FIRST: &str =
    "SET SESSION completion_type = 'NO_CHAIN', SESSION autocommit = 1, SESSION sql_select_limit";

fn set_aside_at_once(traits: &Traits) -> String {
    let together: Vec<String> = traits.aside().map(|setting| format!("SESSION {setting}")).collect();
    format!("{FIRST} = {}, {}", u64::MAX, together.join(", "))
}

/// The same one by one: not every server knows all of them.
fn set_aside(my: &mut My) -> Result<(), EngineError> {
    my.run(&format!("{FIRST} = DEFAULT"))?;
    // The most that there is, unsigned or, on servers that only speak the protocol, signed.
    if my.run(&format!("SET SESSION sql_select_limit = {}", u64::MAX)).is_err() {
        my.run(&format!("SET SESSION sql_select_limit = {}", i64::MAX))?;
    }
    for setting in my.traits.aside() {
        let _ = my.run(&format!("SET SESSION {setting}"));
    }
    Ok(())
}

/// The cluster that the server is a node of. What other nodes have ordered is waited for before anything is read: without
/// that a node reads what is no longer true in the cluster.
fn cluster(my: &mut My, on: bool) -> Result<Option<String>, EngineError> {
    if !on {
        return Ok(None);
    }
    my.run("SET SESSION wsrep_sync_wait = 15")?;
    let rows = my.rows("SHOW STATUS LIKE 'wsrep_cluster_state_uuid'")?;
    Ok(rows.into_iter().next().and_then(|row| row.into_iter().nth(1)).flatten().filter(|id| !id.is_empty()))
}

fn opening(error: &mysql::Error, shown: &str, user: &str, address: &Address) -> EngineError {
    let said = message(error);
    match code(error) {
        Some(1045 | 1698) => {
            let hint = if matches!(address.host, Host::Tcp { .. }) { address.tls.hint(&said) } else { "" };
            EngineError::denied(format!("{shown} does not let {user} in: {said}{hint}"))
        }
        Some(1049) => {
            EngineError::missing(format!("there is no database {} on that server", address.database))
        }
        Some(1044) => {
            EngineError::denied(format!("{user} may not use the database {}: {said}", address.database))
        }
        Some(_) => EngineError::missing(format!("{shown} cannot be opened: {said}")),
        None => {
            // Without the driver's own names around it.
            let bare =
                said.strip_prefix("DriverError { ").and_then(|rest| rest.strip_suffix(" }")).unwrap_or(&said);
            EngineError::missing(format!("{shown} cannot be reached: {bare}{}", address.tls.hint(&said)))
        }
    }
}

/// What the server calls itself: many speak this protocol, give a version of MySQL's, and are something else.
fn brand(version: &str, comment: &str) -> String {
    if version.contains("MariaDB") {
        return "MariaDB".to_owned();
    }
    let name: String =
        comment.chars().take_while(|c| c.is_ascii_alphanumeric() || " _.-".contains(*c)).take(40).collect();
    let name = name.split(" - ").next().unwrap_or("").trim().to_owned();
    // MySQL's own, and what distributors write who build it.
    let own =
        name.is_empty() || name.to_ascii_lowercase().starts_with("mysql") || name == "Source distribution";
    if own { "MySQL".to_owned() } else { name }
}

/// What tells this database from every other: the server's own identifier and the database's name.
fn identity(my: &mut My, address: &Address) -> Result<DatabaseId, EngineError> {
    let version = my.version.clone();
    let cluster = my.cluster.clone();
    let told = my.server.take();
    let mut known = |asked: &str| my.one(asked).ok().flatten().filter(|id| !id.is_empty());
    let told = told.filter(|id| !id.is_empty());
    // Servers that only speak the protocol may know either name, or none.
    let told = told.or_else(|| known("SELECT @@global.server_uid"));
    let server = match told.or_else(|| known("SELECT @@global.server_uuid")) {
        Some(id) => id,
        None => my.one("SELECT concat(@@hostname, ':', @@port, ':', @@datadir)")?.unwrap_or_default(),
    };
    Ok(DatabaseId {
        engine: my.brand.clone(),
        version: version.split('-').next().unwrap_or("").to_owned(),
        name: address.shown(CUSTOM.port),
        identity: match &cluster {
            // All nodes of a cluster hold one database.
            Some(cluster) => format!("mysql:cluster:{cluster}/{}", address.database),
            None => format!("mysql:{server}/{}", address.database),
        },
        formerly: cluster.iter().map(|_| format!("mysql:{server}/{}", address.database)).collect(),
    })
}
