//! Another connection to a database of any engine, as a colleague's shell would have it: runs scripts, gives values,
//! and dumps everything by type and content, so that equal dumps are equal databases. It shares no code with the
//! engines under test.

use mysql::prelude::Queryable;
use postgres::NoTls;
use rusqlite::Connection;

/// A connection.
pub enum Db {
    /// SQLite.
    Sqlite(Connection),
    /// PostgreSQL.
    Postgres(Box<postgres::Client>),
    /// MariaDB.
    Maria(Box<mysql::Conn>),
}

/// The value of a parameter in an address.
fn parameter<'a>(url: &'a str, name: &str) -> Option<&'a str> {
    let (_, query) = url.split_once('?')?;
    query.split('&').find_map(|pair| pair.strip_prefix(name)?.strip_prefix('='))
}

impl Db {
    /// Connects to the database at an address of the kind that [`crate::servers::Server::url`] gives, or a file.
    ///
    /// # Errors
    /// What the library says.
    pub fn try_open(url: &str) -> Result<Db, String> {
        let main = url.split('?').next().unwrap_or(url);
        let name = main.rsplit('/').next().unwrap_or("");
        if url.starts_with("postgres:") {
            let mut config = postgres::Config::new();
            config.user("tester").dbname(name).host_path(parameter(url, "host").unwrap_or("/"));
            if let Some(schema) = parameter(url, "schema") {
                config.options(&format!("-c search_path={schema}"));
            }
            return config.connect(NoTls).map(|c| Db::Postgres(Box::new(c))).map_err(|e| e.to_string());
        }
        if url.starts_with("mysql:") {
            let options = mysql::OptsBuilder::new()
                .user(Some("root"))
                .db_name(Some(name).filter(|n| !n.is_empty()))
                .socket(parameter(url, "socket"))
                .prefer_socket(true);
            return mysql::Conn::new(options).map(|c| Db::Maria(Box::new(c))).map_err(|e| e.to_string());
        }
        let db = Connection::open(url).map_err(|e| e.to_string())?;
        db.pragma_update(None, "foreign_keys", false).map_err(|e| e.to_string())?;
        Ok(Db::Sqlite(db))
    }

    /// The same; a test that cannot connect fails.
    pub fn open(url: &str) -> Db {
        Db::try_open(url).unwrap_or_else(|e| panic!("{url}: {e}"))
    }

    /// From now on a lock that somebody else holds is waited for so many seconds, and then it is an error.
    pub fn wait_at_most(&mut self, seconds: u32) {
        match self {
            Db::Sqlite(_) => self.run(&format!("PRAGMA busy_timeout = {};", seconds * 1000)),
            Db::Postgres(_) => self.run(&format!("SET lock_timeout = '{seconds}s';")),
            Db::Maria(_) => self.run(&format!("SET lock_wait_timeout = {seconds};")),
        }
    }

    /// Runs a script. For MariaDB a line that is `//` alone ends a statement, and so does a semicolon at a line's end
    /// outside of such blocks.
    pub fn run(&mut self, script: &str) {
        self.try_run(script).unwrap_or_else(|e| panic!("{script}: {e}"));
    }

    /// The same, with the error.
    ///
    /// # Errors
    /// What the server says.
    pub fn try_run(&mut self, script: &str) -> Result<(), String> {
        match self {
            Db::Sqlite(db) => db.execute_batch(script).map_err(|e| e.to_string()),
            Db::Postgres(db) => db.batch_execute(script).map_err(|e| match e.as_db_error() {
                Some(db) => db.to_string(),
                None => e.to_string(),
            }),
            Db::Maria(db) => {
                for statement in statements(script) {
                    db.query_drop(&statement).map_err(|e| format!("{statement}: {e}"))?;
                }
                Ok(())
            }
        }
    }

    /// Rows as texts, NULL as `∅`.
    pub fn rows(&mut self, query: &str) -> Vec<Vec<String>> {
        match self {
            Db::Sqlite(db) => {
                let mut statement = db.prepare(query).unwrap_or_else(|e| panic!("{query}: {e}"));
                let width = statement.column_count();
                let mut rows = statement.query([]).expect(query);
                let mut all = Vec::new();
                while let Some(row) = rows.next().expect(query) {
                    all.push((0..width).map(|i| shown(row.get_ref(i).expect(query))).collect());
                }
                all
            }
            Db::Postgres(db) => {
                let messages = db.simple_query(query).unwrap_or_else(|e| panic!("{query}: {e:?}"));
                let mut all = Vec::new();
                for message in messages {
                    if let postgres::SimpleQueryMessage::Row(row) = message {
                        all.push((0..row.len()).map(|i| row.get(i).unwrap_or("∅").to_owned()).collect());
                    }
                }
                all
            }
            Db::Maria(db) => {
                let rows: Vec<mysql::Row> = db.exec(query, ()).unwrap_or_else(|e| panic!("{query}: {e}"));
                rows.into_iter()
                    .map(|row| row.unwrap().into_iter().map(|v| format!("{v:?}")).collect())
                    .collect()
            }
        }
    }

    /// Executes one statement and gives the rows that it matched.
    ///
    /// # Errors
    /// What the engine says.
    pub fn execute(&mut self, statement: &str) -> Result<u64, String> {
        if statement.to_ascii_uppercase().contains(" RETURNING ") {
            return self.returned(statement);
        }
        match self {
            Db::Sqlite(db) => db.execute(statement, []).map(|n| n as u64).map_err(|e| e.to_string()),
            Db::Postgres(db) => db.execute(statement, &[]).map_err(|e| e.to_string()),
            Db::Maria(db) => {
                use mysql::prelude::Queryable;
                db.exec_drop(statement, ()).map_err(|e| e.to_string())?;
                // Rows matched, where the server tells; it counts changed rows otherwise.
                let info = db.info_str().to_string();
                let matched =
                    info.strip_prefix("Rows matched: ").and_then(|r| r.split(' ').next()?.parse().ok());
                Ok(matched.unwrap_or_else(|| db.affected_rows()))
            }
        }
    }

    /// Runs a statement that gives its rows back and counts these.
    fn returned(&mut self, statement: &str) -> Result<u64, String> {
        match self {
            Db::Sqlite(db) => {
                let mut statement = db.prepare(statement).map_err(|e| e.to_string())?;
                let rows = statement.query_map([], |_| Ok(())).map_err(|e| e.to_string())?;
                rows.map(|r| r.map_err(|e| e.to_string())).try_fold(0, |n, row| row.map(|()| n + 1))
            }
            Db::Postgres(db) => {
                db.query(statement, &[]).map(|rows| rows.len() as u64).map_err(|e| e.to_string())
            }
            Db::Maria(db) => {
                use mysql::prelude::Queryable;
                let rows: Vec<mysql::Row> = db.exec(statement, ()).map_err(|e| e.to_string())?;
                Ok(rows.len() as u64)
            }
        }
    }

    /// One value as text.
    pub fn value(&mut self, query: &str) -> String {
        self.rows(query).into_iter().next().and_then(|r| r.into_iter().next()).unwrap_or_default()
    }

    /// Every row of every table, sorted.
    pub fn dump(&mut self) -> Vec<String> {
        let names: Vec<String> = match self {
            Db::Sqlite(_) => {
                let sql = "SELECT '\"' || replace(name, '\"', '\"\"') || '\"' FROM pragma_table_list WHERE schema = 'main' AND type = 'table' AND name NOT LIKE 'sqlite_%'";
                let Db::Sqlite(db) = self else { return Vec::new() };
                let mut statement = db.prepare(sql).expect(sql);
                statement.query_map([], |r| r.get(0)).expect(sql).map(|r| r.expect(sql)).collect()
            }
            Db::Postgres(_) => self.rows("SELECT oid::regclass::text FROM pg_class WHERE relkind = 'r' AND relpersistence <> 't' AND relnamespace NOT IN ('pg_catalog'::regnamespace, 'information_schema'::regnamespace)")
                .into_iter().flatten().collect(),
            Db::Maria(db) => {
                let names: Vec<String> = db.query("SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = database() AND TABLE_TYPE = 'BASE TABLE'").expect("names");
                names.into_iter().map(|n| format!("`{}`", n.replace('`', "``"))).collect()
            }
        };
        let only = if matches!(self, Db::Postgres(_)) { "ONLY " } else { "" };
        let mut all = Vec::new();
        for name in names {
            for row in self.rows(&format!("SELECT * FROM {only}{name}")) {
                all.push(format!("{name}: {}", row.join(" | ")));
            }
        }
        all.sort();
        all
    }
}

/// A value of SQLite's, by storage class and content.
fn shown(value: rusqlite::types::ValueRef<'_>) -> String {
    match value {
        rusqlite::types::ValueRef::Text(bytes) => match std::str::from_utf8(bytes) {
            Ok(text) => format!("'{text}'"),
            Err(_) => format!("{bytes:?}"),
        },
        other => format!("{other:?}"),
    }
}

/// Statements of a script: ended by a semicolon at the end of a line, or, between two lines `//`, not at all.
fn statements(script: &str) -> Vec<String> {
    let mut all = vec![String::new()];
    let mut block = false;
    for line in script.lines() {
        if line.trim() == "//" {
            block = !block;
            all.push(String::new());
            continue;
        }
        let last = all.last_mut().expect("one");
        last.push_str(line);
        last.push('\n');
        if !block && line.trim_end().ends_with(';') {
            all.push(String::new());
        }
    }
    all.into_iter()
        .map(|s| s.trim().trim_end_matches(';').to_owned())
        .filter(|s| s.lines().any(|l| !l.trim().is_empty() && !l.trim_start().starts_with("--")))
        .collect()
}
