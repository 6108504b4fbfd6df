//! Connecting to a server.

use std::time::Duration;

use marktwice_core::receipt::DatabaseId;
use marktwice_network::address::{Address, Custom, Host};
use marktwice_network::password;
use marktwice_port::{Engine, EngineError, Intent, Language, Limits, Session};
use marktwice_relational::driver::Driver;
use marktwice_relational::session::Opened;
use postgres::config::SslMode;
use postgres::{Client, Config, NoTls};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::client::{Pg, Wire};
use crate::error::{message, plain};
use crate::pooler;
use crate::sending::Ahead;

/// The PostgreSQL engine.
#[derive(Debug, Clone, Copy, Default)]
pub struct Postgres;

/// What is usual for PostgreSQL.
pub(crate) const CUSTOM: Custom = Custom {
    engine: "PostgreSQL",
    schemes: &["postgres", "postgresql"],
    port: 5432,
    sockets: &["/var/run/postgresql", "/run/postgresql"],
};

/// How long a server may take to answer a connection.
const PATIENCE: Duration = Duration::from_secs(15);

impl Postgres {
    /// Whether an address is one of this engine's.
    pub fn takes(address: &str) -> bool {
        CUSTOM.schemes.iter().any(|s| address.starts_with(&format!("{s}:")))
    }
}

impl Engine for Postgres {
    fn language(&self) -> &dyn Language {
        &marktwice_sql::Language::Postgres
    }

    fn survives_rollback(&self) -> &'static str {
        "numbers that sequences have given, and what functions have done outside of the database"
    }

    fn open(&self, address: &str, intent: Intent, waits: Limits) -> Result<Box<dyn Session>, EngineError> {
        let address = Address::parse(address, CUSTOM)?;
        let mut notes = Vec::new();
        let mut pg = connect(&address, &mut notes)?;
        let second = pooler::second(&address);
        let millis = |d: Duration| u64::try_from(d.as_millis()).unwrap_or(u64::MAX).clamp(1, 86_400_000);
        // A limit of 0 would mean to wait for ever; the role's own limits would break our questions off.
        let limit = waits.statement.map_or(0, millis);
        pg.locals = format!(
            "SET LOCAL lock_timeout = {}; SET LOCAL statement_timeout = {limit}; \
             SET LOCAL idle_in_transaction_session_timeout = 0; SET LOCAL client_min_messages = error",
            millis(waits.lock)
        );
        pg.limit = waits.statement;
        pg.lock = waits.lock;
        let (about, cluster) = pg.looking(|pg| {
            let about = pg.rows(&format!(
                "SELECT pg_catalog.pg_is_in_recovery(), pg_catalog.current_setting('default_transaction_read_only') = 'on', \
                 pg_catalog.has_database_privilege(pg_catalog.current_database(), 'TEMP'), pg_catalog.current_database(), \
                 (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database()), pg_catalog.current_setting('server_version'), ({})",
                pooler::LEFT
            ))?;
            // A role without the right to ask breaks the transaction off; what was read so far is kept.
            Ok((about, pg.one("SELECT system_identifier FROM pg_catalog.pg_control_system()")))
        })?;
        let about = about.into_iter().next().unwrap_or_default();
        let told = |at: usize| about.get(at).and_then(Option::as_deref);
        pooler::refuse(&mut pg, &address, second, told(6))?;
        // Where the cluster's own identifier is not to be had, the address has to do.
        let cluster = cluster.ok().flatten().unwrap_or_else(|| address.shown(CUSTOM.port));
        let database = identity(&address, &cluster, [3, 4, 5].map(|at| told(at).unwrap_or_default()));
        let flag = |at: usize| told(at) == Some("t");
        let (replica, read_only, temp) = (flag(0), flag(1), flag(2));
        if intent == Intent::Settle && replica {
            return Err(EngineError::read_only(format!(
                "{} is a read replica, which may lag behind: what became of a run is asked of the primary only",
                database.name
            )));
        }
        (pg.replica, pg.read_only) = (replica, read_only);
        if intent == Intent::Write {
            may_write(&pg, &database)?;
        }
        pg.temp = temp && !replica;
        Ok(Box::new(Opened::new(pg, database, notes)))
    }
}

/// Whether anything can be written here.
pub(crate) fn may_write(pg: &Pg, database: &DatabaseId) -> Result<(), EngineError> {
    let name = &database.name;
    if pg.replica {
        return Err(EngineError::read_only(format!(
            "{name} is a read replica: a preview works here, an application only on the primary"
        )));
    }
    if pg.read_only {
        return Err(EngineError::read_only(format!(
            "transactions on {name} are read-only by default for this role (default_transaction_read_only)"
        )));
    }
    Ok(())
}

/// Opens a connection; passwords are looked up, and shown nowhere.
pub(crate) fn connect(address: &Address, notes: &mut Vec<String>) -> Result<Pg, EngineError> {
    let user = address
        .user
        .clone()
        .or_else(|| ["PGUSER", "USER"].iter().find_map(|name| std::env::var(name).ok()))
        .unwrap_or_else(|| "postgres".to_owned());
    let (password, note) = password::find(address, &user, password::Custom::Postgres)?;
    notes.extend(note);
    let mut config = Config::new();
    config
        .user(&user)
        .port(address.port)
        .application_name("marktwice")
        .connect_timeout(PATIENCE)
        // A network that has gone away is noticed although nothing is sent.
        .keepalives_idle(Duration::from_secs(15))
        .keepalives_interval(Duration::from_secs(5))
        .keepalives_retries(4);
    if !address.database.is_empty() {
        config.dbname(&address.database);
    }
    if let Some(password) = &password {
        config.password(password.reveal());
    }
    match &address.host {
        Host::Socket(path) => config.host_path(path),
        Host::Tcp { host, .. } => config.host(host.trim_matches(['[', ']'])),
    };
    if let Some(schema) = &address.schema {
        let quoted = format!("\"{}\"", schema.replace('"', "\"\""));
        // Blanks and backslashes are escaped in this option, see the documentation of `options`.
        let escaped = quoted.replace('\\', "\\\\").replace(' ', "\\ ");
        config.options(&format!("-c search_path={escaped}"));
    }
    let shown = address.shown(CUSTOM.port);
    let failed = |error: postgres::Error| opening(&error, &shown, &user, password.is_some(), address);
    let (client, wire) = match address.tls.config()? {
        None => {
            config.ssl_mode(SslMode::Disable);
            (config.connect(NoTls).map_err(failed)?, Wire::Plain)
        }
        Some(tls) => {
            config.ssl_mode(SslMode::Require);
            let tls = MakeRustlsConnect::new(tls);
            let client: Client = config.connect(tls.clone()).map_err(failed)?;
            (client, Wire::Encrypted(tls))
        }
    };
    Ok(Pg {
        client,
        wire,
        stop: None,
        limit: None,
        silent: None,
        lock: Duration::ZERO,
        address: Some(address.clone()),
        locals: "SET LOCAL client_min_messages = error".to_owned(),
        backend: None,
        inside: false,
        pinned: false,
        pins: None,
        ahead: Ahead::default(),
        own: Vec::new(),
        params: Vec::new(),
        temp: false,
        replica: false,
        read_only: false,
    })
}

fn opening(
    error: &postgres::Error,
    shown: &str,
    user: &str,
    had_password: bool,
    address: &Address,
) -> EngineError {
    let Some(db) = error.as_db_error() else {
        let text = plain(error);
        let hint = if text.contains("password missing") {
            "; give a password in the address, in PGPASSWORD, or in ~/.pgpass"
        } else {
            address.tls.hint(&text)
        };
        return EngineError::missing(format!("{shown} cannot be reached: {text}{hint}"));
    };
    match db.code().code() {
        "28P01" if had_password => {
            EngineError::denied(format!("{shown} does not take the password of {user}"))
        }
        "28P01" | "28000" => EngineError::denied(format!(
            "{shown} does not let {user} in: {}{}",
            message(db),
            address.tls.hint(&message(db))
        )),
        "3D000" => EngineError::missing(format!(
            "there is no database {} on that server",
            if address.database.is_empty() { user } else { &address.database }
        )),
        "42501" => EngineError::denied(format!("{user} may not connect to {shown}: {}", message(db))),
        _ => EngineError::missing(format!("{shown} cannot be opened: {}", message(db))),
    }
}

/// What tells this database from every other: the cluster's own identifier and the database's object identifier.
fn identity(address: &Address, cluster: &str, [name, oid, version]: [&str; 3]) -> DatabaseId {
    let mut named = address.clone();
    named.database = name.to_owned();
    DatabaseId {
        engine: "PostgreSQL".to_owned(),
        version: version.to_owned(),
        name: named.shown(CUSTOM.port),
        identity: format!("postgresql:{cluster}/{oid}"),
        formerly: Vec::new(),
    }
}
