//! What kind of server answers: MariaDB and MySQL share the protocol and most of the language, and part in what stands here. It is told by what
//! the server says of itself, not by statements that fail.

use std::time::Duration;

/// How servers of the family differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Traits {
    /// Whether it is MySQL.
    pub(crate) mysql: bool,
    /// Whether it is MariaDB.
    pub(crate) maria: bool,
    /// Whether a temporary table can stand in a statement only once.
    pub(crate) reads_temporary_once: bool,
    /// Whether a statement gives back the rows that it has brought in.
    pub(crate) returning: bool,
    /// The session's variable for transactions that only read.
    pub(crate) read_only: &'static str,
    /// Whether a limit of time holds for statements that read only.
    pub(crate) limits_reading_only: bool,
    /// The storage engine's own list of foreign keys.
    pub(crate) foreign_keys: &'static str,
    /// Asks for the server's own identifier.
    pub(crate) server: &'static str,
    /// Asks whether the server is a node of a cluster that is told by a variable of the session.
    pub(crate) on_cluster: &'static str,
}

/// Settings of the session that would break our own questions: transactions that go on or end the connection by themselves,
/// limits on time and size, numbers of the catalogue that are old. What bears on the meaning of the statement stays as it is.
const ASIDE: [&str; 3] = ["sql_safe_updates = 0", "sql_big_selects = 1", "sql_auto_is_null = 0"];
const ASIDE_MARIA: [&str; 4] = [
    "max_statement_time = 0",
    "idle_transaction_timeout = 0",
    "idle_readonly_transaction_timeout = 0",
    "idle_write_transaction_timeout = 0",
];
const ASIDE_MYSQL: [&str; 2] = ["max_execution_time = 0", "information_schema_stats_expiry = 0"];

impl Traits {
    /// Those of a server that calls itself so.
    pub(crate) fn of(brand: &str) -> Traits {
        match brand {
            "MySQL" => Traits {
                mysql: true,
                maria: false,
                reads_temporary_once: true,
                returning: false,
                read_only: "transaction_read_only",
                limits_reading_only: true,
                foreign_keys: "INNODB_FOREIGN",
                server: "SELECT @@global.server_uuid",
                on_cluster: "SELECT 0",
            },
            // Others that only speak the protocol are taken for MariaDB, but for what they are known to say otherwise.
            _ => Traits {
                mysql: false,
                maria: brand == "MariaDB",
                reads_temporary_once: false,
                returning: true,
                read_only: "tx_read_only",
                limits_reading_only: false,
                foreign_keys: "INNODB_SYS_FOREIGN",
                server: "SELECT @@global.server_uid",
                on_cluster: "SELECT @@wsrep_on",
            },
        }
    }

    /// The settings of a session that are set aside.
    pub(crate) fn aside(&self) -> impl Iterator<Item = &'static str> + use<> {
        let maria: &[&str] = if self.mysql { &[] } else { &ASIDE_MARIA };
        let mysql: &[&str] = if self.maria { &[] } else { &ASIDE_MYSQL };
        ASIDE.iter().chain(maria).chain(mysql).copied()
    }

    /// Limits statements of a session; none is no limit. The one server counts seconds, the other milliseconds.
    pub(crate) fn limit(&self, limit: Duration) -> String {
        if self.maria {
            format!("SET SESSION max_statement_time = {}", limit.as_secs_f64())
        } else {
            format!("SET SESSION max_execution_time = {}", limit.as_millis())
        }
    }
}
