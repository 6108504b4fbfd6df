//! What kind of server answers: MariaDB and MySQL share the protocol and most of the language, and part in what stands here. It is told by what
//! the server says of itself, not by statements that fail.

/// How servers of the family differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Traits {
    /// Whether it is MySQL.
    pub(crate) mysql: bool,
    /// Whether a temporary table can stand in a statement only once.
    pub(crate) reads_temporary_once: bool,
    /// Whether a statement gives back the rows that it has brought in.
    pub(crate) returning: bool,
    /// The session's variable for transactions that only read.
    pub(crate) read_only: &'static str,
    /// Whether a limit of time in milliseconds holds, and for statements that read only.
    pub(crate) limits_reading_only: bool,
    /// The storage engine's own list of foreign keys.
    pub(crate) foreign_keys: &'static str,
}

impl Traits {
    /// Those of a server that calls itself so.
    pub(crate) fn of(brand: &str) -> Traits {
        match brand {
            "MySQL" => Traits {
                mysql: true,
                reads_temporary_once: true,
                returning: false,
                read_only: "transaction_read_only",
                limits_reading_only: true,
                foreign_keys: "INNODB_FOREIGN",
            },
            _ => Traits {
                mysql: false,
                reads_temporary_once: false,
                returning: true,
                read_only: "tx_read_only",
                limits_reading_only: false,
                foreign_keys: "INNODB_SYS_FOREIGN",
            },
        }
    }
}
