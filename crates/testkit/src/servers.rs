//! Private throwaway servers: PostgreSQL, MariaDB and MySQL in a temporary folder, on a Unix socket, run as an ordinary user
//! when the tests run as root. A server ends, and its folder goes, when this process does, however that comes about:
//! the shell that watches over it reads from a pipe that only this process holds open.
//!
//! Where a server's programs are not installed its tests are skipped, aloud; in CI that is a failure.

use std::path::{Path, PathBuf};
use std::process::{ChildStdin, Command, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use crate::sql::Db;

/// How long a server may take to answer for the first time.
const PATIENCE: Duration = Duration::from_secs(90);

/// Which server.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Brand {
    /// PostgreSQL.
    Postgres,
    /// MariaDB.
    Maria,
    /// MySQL.
    Mysql,
}

/// A server of our own.
#[derive(Debug)]
pub struct Server {
    /// Which.
    pub brand: Brand,
    folder: PathBuf,
    databases: AtomicU32,
    _leash: ChildStdin,
}

/// The PostgreSQL server of this process.
pub fn postgres() -> Option<&'static Server> {
    static SERVER: OnceLock<Option<Server>> = OnceLock::new();
    SERVER.get_or_init(|| start(Brand::Postgres, &[])).as_ref()
}

/// The MariaDB server of this process.
pub fn maria() -> Option<&'static Server> {
    static SERVER: OnceLock<Option<Server>> = OnceLock::new();
    SERVER.get_or_init(|| start(Brand::Maria, &[])).as_ref()
}

/// The MySQL server of this process; `None`, said aloud, where its programs are not in the cache.
pub fn mysql() -> Option<&'static Server> {
    static SERVER: OnceLock<Option<Server>> = OnceLock::new();
    SERVER.get_or_init(|| start(Brand::Mysql, &[])).as_ref()
}

/// Whether MySQL stands for its family in this process.
static MYSQL: std::sync::atomic::AtomicBool = std::sync::atomic::AtomicBool::new(false);

/// Lets MySQL stand for its family in this process.
pub fn choose_mysql() {
    MYSQL.store(true, Ordering::Relaxed);
}

/// Whether MySQL was chosen (see [`choose_mysql`]), or `MARKTWICE_TEST_FAMILY=mysql` says so.
pub fn is_mysql() -> bool {
    MYSQL.load(Ordering::Relaxed)
        || std::env::var("MARKTWICE_TEST_FAMILY").is_ok_and(|family| family == "mysql")
}

/// The server of MariaDB's family that was chosen; MariaDB where nothing was said.
pub fn family() -> Option<&'static Server> {
    if is_mysql() { mysql() } else { maria() }
}

/// Both servers, those that can be had.
pub fn all() -> Vec<&'static Server> {
    [postgres(), maria()].into_iter().flatten().collect()
}

/// Both servers, started anew so that each COMMIT is synced to the disk, as servers do in use.
pub fn all_that_sync() -> Vec<Server> {
    let postgres = start(Brand::Postgres, &["fsync=on"]);
    let maria = start(Brand::Maria, &["--skip-networking", "--innodb-flush-method=fsync"]);
    [postgres, maria].into_iter().flatten().collect()
}

/// Finds a program on the path or where Debian's packages put it.
fn program(name: &str) -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    // Another version's programs can be put before those that are installed.
    let chosen = std::env::var_os("MARKTWICE_TEST_SERVERS").unwrap_or_default();
    let mut folders: Vec<PathBuf> =
        std::env::split_paths(&chosen).chain(std::env::split_paths(&path)).collect();
    folders.extend(["/usr/sbin", "/usr/bin", "/usr/local/bin"].map(PathBuf::from));
    let mut versions: Vec<PathBuf> = std::fs::read_dir("/usr/lib/postgresql")
        .map(|all| all.filter_map(|e| Some(e.ok()?.path().join("bin"))).collect())
        .unwrap_or_default();
    versions.sort();
    folders.extend(versions.into_iter().rev());
    folders.into_iter().map(|folder| folder.join(name)).find(|path| path.is_file())
}

/// Where programs of servers lie that the system does not bring: `MARKTWICE_TEST_CACHE`, else a folder of the user's cache.
fn cache() -> PathBuf {
    let chosen = std::env::var_os("MARKTWICE_TEST_CACHE").map(PathBuf::from);
    // Servers run as an ordinary user, who cannot enter root's home.
    let own = || match rustix::process::geteuid().is_root() {
        true => PathBuf::from("/var/cache"),
        false => PathBuf::from(std::env::var_os("HOME").unwrap_or_default()).join(".cache"),
    };
    chosen.unwrap_or_else(|| own().join("marktwice-servers"))
}

/// A command of the server's, as an ordinary user.
fn as_ordinary_user() -> Vec<&'static str> {
    if rustix::process::geteuid().is_root() {
        vec!["setpriv", "--reuid=nobody", "--regid=nogroup", "--clear-groups", "--"]
    } else {
        Vec::new()
    }
}

fn quiet(words: &[&str]) {
    let (first, rest) = words.split_first().expect("a command");
    let output = Command::new(first).args(rest).current_dir("/").output().expect("it starts");
    assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// Starts a program that ends, and whose folder goes, when this process does.
fn leashed(signal: &str, folder: &str, words: &[&str]) -> ChildStdin {
    let script = "signal=$1; folder=$2; shift 2; \"$@\" >\"$folder/log\" 2>&1 & server=$!; read -r _; \
                  kill -$signal $server; wait $server; rm -rf \"$folder\"";
    #[expect(
        clippy::zombie_processes,
        reason = "the shell ends with this process, which has nothing to wait for"
    )]
    let mut child = Command::new("sh")
        .args(["-c", script, "sh", signal, folder])
        .args(words)
        .current_dir("/")
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("a shell");
    child.stdin.take().expect("a pipe")
}

/// Says that something is not tested here, and why.
pub fn skipped(why: &str) {
    assert!(std::env::var_os("CI").is_none(), "SKIPPED: {why}; in CI that is a failure");
    eprintln!("SKIPPED: {why}");
}

/// Starts a server with further options of its own; `None` where it is not installed.
pub fn start(brand: Brand, options: &[&str]) -> Option<Server> {
    let (needed, package) = match brand {
        Brand::Postgres => (["initdb", "postgres"], "postgresql"),
        Brand::Maria => (["mariadb-install-db", "mariadbd"], "mariadb-server-core"),
        Brand::Mysql => return start_mysql(options),
    };
    let [Some(install), Some(server)] = needed.map(program) else {
        skipped(&format!("{brand:?} is not installed here (the package {package})"));
        return None;
    };
    let folder = tempfile::Builder::new().prefix("marktwice-server-").tempdir().expect("a folder").keep();
    let shown = folder.display().to_string();
    let data = folder.join("data").display().to_string();
    let socket = folder.join("socket").display().to_string();
    std::fs::create_dir(folder.join("data")).expect("made");
    std::fs::create_dir(folder.join("socket")).expect("made");
    let user = as_ordinary_user();
    if !user.is_empty() {
        quiet(&["chown", "-R", "nobody:nogroup", &shown]);
    }
    quiet(&["chmod", "755", &shown]);
    // Programs that lie elsewhere than the system's are told where what belongs to them lies.
    let root = server.parent().and_then(Path::parent).filter(|root| *root != Path::new("/usr"));
    let elsewhere: Vec<String> = match root.filter(|root| root.join("share/mariadb").is_dir()) {
        Some(root) => vec![
            format!("--lc-messages-dir={}/share/mariadb", root.display()),
            format!("--character-sets-dir={}/share/mariadb/charsets", root.display()),
            format!("--plugin-dir={}/lib/mysql/plugin", root.display()),
        ],
        None => Vec::new(),
    };
    let base = root.map(|root| format!("--basedir={}", root.display()));
    let (install, server) = (install.display().to_string(), server.display().to_string());
    let mut words = user.clone();
    let listen = format!("unix_socket_directories={socket}");
    let file = format!("--socket={socket}/s");
    let (at, pid) = (format!("--datadir={data}"), format!("--pid-file={data}/pid"));
    // A server that starts clears its temporary folder of what looks left over, another's open tables included.
    let own = format!("--tmpdir={data}");
    match brand {
        Brand::Postgres => {
            words.extend([
                &install as &str,
                "-D",
                &data,
                "-U",
                "tester",
                "-A",
                "trust",
                "--no-sync",
                "-E",
                "UTF8",
                "--locale=C.UTF-8",
            ]);
            quiet(&words);
            words.truncate(user.len());
            words.extend([
                &server as &str,
                "-D",
                &data,
                "-c",
                &listen,
                "-c",
                "fsync=off",
                "-c",
                "max_connections=60",
            ]);
            if !options.iter().any(|o| o.starts_with("listen_addresses")) {
                words.extend(["-c", "listen_addresses="]);
            }
            for option in options {
                words.extend(["-c", option]);
            }
        }
        Brand::Maria => {
            words.extend([
                &install as &str,
                "--no-defaults",
                &at,
                // Two that are made at once would each clear the common folder away from the other.
                &own,
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
                "--skip-name-resolve",
            ]);
            if !elsewhere.is_empty() {
                words.extend(base.as_deref());
                words.extend(elsewhere.iter().map(String::as_str));
            }
            quiet(&words);
            words.truncate(user.len());
            words.extend([
                &server as &str,
                "--no-defaults",
                &at,
                &own,
                &file,
                &pid,
                "--innodb-flush-log-at-trx-commit=1",
                "--innodb-flush-method=nosync",
                "--innodb-buffer-pool-size=64M",
                "--performance-schema=off",
            ]);
            words.extend(elsewhere.iter().map(String::as_str));
            if options.is_empty() {
                words.push("--skip-networking");
            }
            words.extend(options);
        }
        Brand::Mysql => unreachable!("it is started in its own way"),
    }
    // The first word is a fast way down for PostgreSQL; MariaDB is rid of its data anyway.
    let signal = if brand == Brand::Postgres { "INT" } else { "KILL" };
    let leash = leashed(signal, &shown, &words);
    let server = Server { brand, folder, databases: AtomicU32::new(0), _leash: leash };
    Some(answering(server))
}

/// Starts MySQL from the cache of programs.
fn start_mysql(options: &[&str]) -> Option<Server> {
    let root = cache().join("mysql/usr");
    let program = root.join("sbin/mysqld");
    if !program.is_file() {
        // The long run asks for it and fails without.
        assert!(std::env::var_os("MARKTWICE_TEST_MYSQL").is_none(), "MySQL is not in {}", cache().display());
        eprintln!("SKIPPED: MySQL is not in the cache of programs (.ci/servers mysql)");
        return None;
    }
    let folder = tempfile::Builder::new().prefix("marktwice-server-").tempdir().expect("a folder").keep();
    let shown = folder.display().to_string();
    std::fs::create_dir(folder.join("socket")).expect("made");
    let user = as_ordinary_user();
    if !user.is_empty() {
        quiet(&["chown", "-R", "nobody:nogroup", &shown]);
    }
    quiet(&["chmod", "755", &shown]);
    let mut words: Vec<String> = user.iter().map(|&word| word.to_owned()).collect();
    words.extend([
        program.display().to_string(),
        "--no-defaults".to_owned(),
        format!("--datadir={shown}/data"),
        format!("--tmpdir={shown}"),
        format!("--lc-messages-dir={}/share/mysql", root.display()),
        format!("--character-sets-dir={}/share/mysql/charsets", root.display()),
        format!("--plugin-dir={}/lib/mysql/plugin", root.display()),
        "--secure-file-priv=NULL".to_owned(),
        "--innodb-flush-method=nosync".to_owned(),
        "--innodb-buffer-pool-size=64M".to_owned(),
    ]);
    let first = words.len();
    words.push("--initialize-insecure".to_owned());
    quiet(&words.iter().map(String::as_str).collect::<Vec<_>>());
    words.truncate(first);
    words.extend([
        format!("--socket={shown}/socket/s"),
        format!("--pid-file={shown}/data/pid"),
        "--mysqlx=OFF".to_owned(),
    ]);
    // The log of changes is on, as it is by default, and is not synced: no machine fails here.
    words.push("--sync-binlog=0".to_owned());
    // Stories make functions of every kind.
    words.push("--log-bin-trust-function-creators=ON".to_owned());
    if options.is_empty() {
        words.push("--skip-networking".to_owned());
    }
    words.extend(options.iter().map(|&option| option.to_owned()));
    let leash = leashed("KILL", &shown, &words.iter().map(String::as_str).collect::<Vec<_>>());
    Some(answering(Server { brand: Brand::Mysql, folder, databases: AtomicU32::new(0), _leash: leash }))
}

/// A server, once it answers.
fn answering(server: Server) -> Server {
    let log = server.folder.join("log");
    let since = Instant::now();
    while let Err(error) = Db::try_open(&server.root_url()) {
        let said = std::fs::read_to_string(&log).unwrap_or_default();
        let last: Vec<&str> = said.lines().rev().take(30).collect();
        let last = last.into_iter().rev().collect::<Vec<_>>().join("\n");
        assert!(since.elapsed() < PATIENCE, "the server does not answer ({error}):\n{last}");
        std::thread::sleep(Duration::from_millis(100));
    }
    server
}

impl Server {
    /// The address of a database on this server, for its owner.
    pub fn url(&self, database: &str) -> String {
        let socket = self.socket().display().to_string();
        match self.brand {
            Brand::Postgres => format!("postgres://tester@/{database}?host={socket}"),
            Brand::Maria | Brand::Mysql => format!("mysql://root@localhost/{database}?socket={socket}/s"),
        }
    }

    fn root_url(&self) -> String {
        self.url(if self.brand == Brand::Postgres { "postgres" } else { "" })
    }

    /// The folder of its socket.
    pub fn socket(&self) -> PathBuf {
        self.folder.join("socket")
    }

    /// The number of MariaDB's process.
    pub fn pid(&self) -> String {
        let pid = std::fs::read_to_string(self.folder.join("data/pid")).expect("a running server");
        pid.trim().to_owned()
    }

    /// Kills it, as a machine that fails does.
    pub fn kill(&self) {
        quiet(&["kill", "-KILL", &self.pid()]);
    }

    /// The address of a new, empty database.
    pub fn database(&self) -> String {
        let n = self.databases.fetch_add(1, Ordering::SeqCst);
        let name = format!("scene_{n}");
        let mut db = Db::open(&self.root_url());
        match self.brand {
            Brand::Postgres => db.run(&format!("CREATE DATABASE {name}")),
            Brand::Maria | Brand::Mysql => db.run(&format!("CREATE DATABASE {name} CHARACTER SET utf8mb4")),
        }
        self.url(&name)
    }
}

/// Starts a cluster of three MariaDB nodes on addresses of this machine; `None` where it is not installed.
pub fn cluster() -> Option<Vec<Server>> {
    let provider = ["/usr/lib/galera/libgalera_smm.so", "/usr/lib64/galera-4/libgalera_smm.so"];
    let provider = provider.into_iter().find(|path| Path::new(path).exists());
    let (Some(provider), Some(_), Some(_)) = (provider, program("wsrep_sst_rsync"), program("rsync")) else {
        let message =
            "SKIPPED: no cluster is installed here (galera-4, rsync and the server's wsrep_sst_rsync)";
        assert!(std::env::var_os("CI").is_none(), "{message}; in CI that is a failure");
        eprintln!("{message}");
        return None;
    };
    let dice = fastrand::u32(..);
    let address = |n: u32| format!("127.{}.{}.{n}", 64 + dice % 100, 1 + (dice >> 8) % 250);
    let mut nodes = Vec::new();
    for n in 1..=3 {
        let (own, first) = (address(n), address(1));
        let join = if n == 1 { "gcomm://".to_owned() } else { format!("gcomm://{first}:4567") };
        let options = [
            format!("--bind-address={own}"),
            "--port=3306".to_owned(),
            "--binlog-format=ROW".to_owned(),
            "--innodb-autoinc-lock-mode=2".to_owned(),
            "--wsrep-on=ON".to_owned(),
            format!("--wsrep-provider={provider}"),
            format!("--wsrep-cluster-address={join}"),
            format!("--wsrep-node-address={own}"),
            "--wsrep-sst-method=rsync".to_owned(),
            format!("--wsrep-sst-receive-address={own}:4444"),
            format!(
                "--wsrep-provider-options=gmcast.listen_addr=tcp://{own}:4567;ist.recv_addr={own}:4568;gcache.size=8M;\
                 evs.keepalive_period=PT0.5S;evs.suspect_timeout=PT2S;evs.inactive_timeout=PT4S"
            ),
        ];
        let mut options: Vec<&str> = options.iter().map(String::as_str).collect();
        if n == 1 {
            options.push("--wsrep-new-cluster");
        }
        let node = start(Brand::Maria, &options)?;
        let since = Instant::now();
        let ready = || {
            Db::try_open(&node.root_url())
                .ok()
                .is_some_and(|mut db| db.try_run("SELECT 1 FROM mysql.db").is_ok())
        };
        while !ready() {
            assert!(since.elapsed() < PATIENCE, "the node does not join");
            std::thread::sleep(Duration::from_millis(200));
        }
        nodes.push(node);
    }
    Some(nodes)
}

/// A pooler before a PostgreSQL server of ours.
#[derive(Debug)]
pub struct Pooler {
    folder: PathBuf,
    _leash: ChildStdin,
}

/// Starts a pooler before a server; `None` where it is not installed.
pub fn pooler(server: &Server, mode: &str, options: &str) -> Option<Pooler> {
    let Some(program) = program("pgbouncer") else {
        let message = "SKIPPED: no pooler is installed here (the package pgbouncer)";
        assert!(std::env::var_os("CI").is_none(), "{message}; in CI that is a failure");
        eprintln!("{message}");
        return None;
    };
    let folder = tempfile::Builder::new().prefix("marktwice-pooler-").tempdir().expect("a folder").keep();
    let shown = folder.display().to_string();
    let config = folder.join("ini");
    let text = format!(
        "[databases]\n* = host={} user=tester\n[pgbouncer]\nunix_socket_dir = {shown}\nlisten_addr =\nlisten_port = 6432\n\
         auth_type = any\npool_mode = {mode}\nignore_startup_parameters = extra_float_digits,options\n\
         max_client_conn = 50\ndefault_pool_size = 5\n{options}\n",
        server.socket().display()
    );
    std::fs::write(&config, text).expect("written");
    let user = as_ordinary_user();
    if !user.is_empty() {
        quiet(&["chown", "-R", "nobody:nogroup", &shown]);
    }
    quiet(&["chmod", "755", &shown]);
    let (program, config) = (program.display().to_string(), config.display().to_string());
    let mut words = user;
    words.extend([program.as_str(), "-q", config.as_str()]);
    let leash = leashed("INT", &shown, &words);
    let pooler = Pooler { folder, _leash: leash };
    let since = Instant::now();
    while !pooler.folder.join(".s.PGSQL.6432").exists() {
        let said = std::fs::read_to_string(pooler.folder.join("log")).unwrap_or_default();
        assert!(since.elapsed() < PATIENCE, "the pooler does not answer:\n{said}");
        std::thread::sleep(Duration::from_millis(50));
    }
    Some(pooler)
}

impl Pooler {
    /// The address of a database through the pooler.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://tester@localhost:6432/{database}?host={}", self.folder.display())
    }

    /// The folder of its socket.
    pub fn socket(&self) -> &Path {
        &self.folder
    }
}

/// Where files of a server's may be read by it.
pub fn readable_by_servers(path: &Path, private: bool) {
    if rustix::process::geteuid().is_root() {
        quiet(&["chown", "nobody:nogroup", &path.display().to_string()]);
    }
    quiet(&["chmod", if private { "600" } else { "644" }, &path.display().to_string()]);
}

/// A server with encryption and passwords, reachable at two addresses of this machine. Its certificate names the first
/// only.
pub struct Guarded {
    /// The server; its socket lets everybody in.
    pub server: Server,
    /// The address that the certificate names.
    pub named: String,
    /// Another address of the same server.
    pub unnamed: String,
    /// The certificate that signed the server's.
    pub ca: PathBuf,
    _folder: tempfile::TempDir,
}

/// Starts such a server; `None` where it is not installed.
pub fn guarded(brand: Brand) -> Option<Guarded> {
    let folder = tempfile::Builder::new().prefix("marktwice-guarded-").tempdir().expect("a folder");
    quiet(&["chmod", "755", &folder.path().display().to_string()]);
    // Any address of 127.0.0.0/8 is this machine; two servers of two test runs do not meet.
    let dice = fastrand::u32(..);
    let [a, b] = [1u32, 2].map(|n| format!("127.{}.{}.{n}", 64 + dice % 100, 1 + (dice >> 8) % 250));
    let ca_key = rcgen::KeyPair::generate().expect("a key");
    let mut ca = rcgen::CertificateParams::new(Vec::new()).expect("parameters");
    ca.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
    let ca_pem = ca.self_signed(&ca_key).expect("signed").pem();
    let issuer = rcgen::Issuer::new(ca, ca_key);
    let key = rcgen::KeyPair::generate().expect("a key");
    let certificate = rcgen::CertificateParams::new(vec!["db.heathermoor.example".to_owned(), a.clone()])
        .expect("parameters")
        .signed_by(&key, &issuer)
        .expect("signed");
    let write = |name: &str, text: String, private: bool| {
        let path = folder.path().join(name);
        std::fs::write(&path, text).expect("written");
        readable_by_servers(&path, private);
        path
    };
    let certificate = write("server.pem", certificate.pem(), false).display().to_string();
    let key = write("server.key", key.serialize_pem(), true).display().to_string();
    let hba = "local all all trust\nhostssl all all 127.0.0.0/8 scram-sha-256\nhostnossl all all 127.0.0.0/8 reject\n";
    let hba = write("hba", hba.to_owned(), false).display().to_string();
    let ca = write("ca.pem", ca_pem, false);
    let options: Vec<String> = match brand {
        Brand::Postgres => vec![
            format!("listen_addresses={a},{b}"),
            "ssl=on".to_owned(),
            format!("ssl_cert_file={certificate}"),
            format!("ssl_key_file={key}"),
            format!("hba_file={hba}"),
        ],
        Brand::Maria | Brand::Mysql => vec![
            format!("--bind-address={a},{b}"),
            "--port=3306".to_owned(),
            format!("--ssl-cert={certificate}"),
            format!("--ssl-key={key}"),
        ],
    };
    let options: Vec<&str> = options.iter().map(String::as_str).collect();
    let server = start(brand, &options)?;
    Some(Guarded { server, named: a, unnamed: b, ca, _folder: folder })
}
