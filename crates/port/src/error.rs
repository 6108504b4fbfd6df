//! What goes wrong in an engine.

use marktwice_core::finding::Finding;
use marktwice_core::secret::without_values;

/// An error of the caller's that passes through an engine while it hands rows over.
pub type SinkError = Box<dyn std::error::Error + Send + Sync>;

/// Which rule of the data was broken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Constraint {
    /// UNIQUE or PRIMARY KEY.
    Unique,
    /// NOT NULL.
    NotNull,
    /// CHECK.
    Check,
    /// FOREIGN KEY.
    ForeignKey,
    /// A declared type.
    Type,
    /// A trigger's own refusal.
    Trigger,
    /// A subquery gives several values where one is wanted.
    OneValue,
}

/// A broken rule of the data, as far as the engine tells it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Broken {
    /// Which kind of rule.
    pub kind: Constraint,
    /// The constraint's own name.
    pub name: Option<String>,
    /// The columns that it is about.
    pub columns: Vec<String>,
    /// What the engine says, and which row where that can be told.
    pub message: String,
}

impl Broken {
    /// One of which nothing but the engine's words is known.
    pub fn new(kind: Constraint, message: impl Into<String>) -> Broken {
        Broken { kind, name: None, columns: Vec::new(), message: message.into() }
    }
}

/// Why a database cannot be used as it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unusable {
    /// There is nothing at the address, or no such table.
    Missing,
    /// The address itself cannot be meant as it stands.
    Address,
    /// There is something, and it is not a database of this engine.
    NotADatabase,
    /// It cannot be written.
    ReadOnly,
    /// Somebody else holds a lock for longer than the waiting time.
    Locked,
    /// A disk is full, or a file limit is reached.
    NoSpace,
    /// The role or user may not do this; the message says what is missing, on what, and what works without it.
    Denied,
}

/// What somebody else did in the meantime.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Overtaken {
    /// Definitions have changed since the plan was made, so it may mean something else now.
    Definitions,
    /// Rows have changed, so the engine will not go on.
    Rows,
    /// The transaction ended under the statement (by a trigger, say).
    Transaction,
}

/// What went wrong in an engine. The texts are for people; they hold no secret.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// The database cannot be used as it is.
    #[error("{1}")]
    Unusable(Unusable, String),
    /// Somebody else was quicker.
    #[error("{1}")]
    Overtaken(Overtaken, String),
    /// The statement is refused before anything runs, or its grammar is wrong; the finding says where and what to do.
    #[error("{}", .0.message)]
    Refused(Box<Finding>),
    /// The statement breaks a rule of the data.
    #[error("{}", .0.message)]
    Constraint(Box<Broken>),
    /// Somebody asked to stop while the engine was at work.
    #[error("stopped on request")]
    Interrupted,
    /// The caller's own error, handed through.
    #[error("{0}")]
    Sink(#[source] SinkError),
    /// Anything else that the engine says.
    #[error("{0}")]
    Other(String),
}

impl EngineError {
    /// The same without the values that the engine names in it: names of columns, tables and constraints stay. What a trigger says in
    /// words of its own may hold anything, and goes.
    #[must_use]
    pub fn without_values(self) -> EngineError {
        match self {
            EngineError::Constraint(broken) => {
                let message = match broken.kind {
                    Constraint::Trigger => {
                        "a trigger refuses it; its words may hold what is hidden here, and are not shown"
                            .to_owned()
                    }
                    _ => without_values(&broken.message),
                };
                EngineError::Constraint(Box::new(Broken { message, ..*broken }))
            }
            EngineError::Other(said) => EngineError::Other(without_values(&said)),
            other => other,
        }
    }

    /// There is no such thing.
    pub fn missing(said: impl Into<String>) -> EngineError {
        EngineError::Unusable(Unusable::Missing, said.into())
    }

    /// It is something else than a database of this engine.
    pub fn not_a_database(said: impl Into<String>) -> EngineError {
        EngineError::Unusable(Unusable::NotADatabase, said.into())
    }

    /// It cannot be written.
    pub fn read_only(said: impl Into<String>) -> EngineError {
        EngineError::Unusable(Unusable::ReadOnly, said.into())
    }

    /// Somebody else holds a lock.
    pub fn locked(said: impl Into<String>) -> EngineError {
        EngineError::Unusable(Unusable::Locked, said.into())
    }

    /// There is no room left.
    pub fn no_space(said: impl Into<String>) -> EngineError {
        EngineError::Unusable(Unusable::NoSpace, said.into())
    }

    /// A right is missing.
    pub fn denied(said: impl Into<String>) -> EngineError {
        EngineError::Unusable(Unusable::Denied, said.into())
    }

    /// Definitions are not what they were.
    pub fn redefined(said: impl Into<String>) -> EngineError {
        EngineError::Overtaken(Overtaken::Definitions, said.into())
    }

    /// Rows are not what they were.
    pub fn moved(said: impl Into<String>) -> EngineError {
        EngineError::Overtaken(Overtaken::Rows, said.into())
    }

    /// The transaction is not the one that was begun.
    pub fn transaction_gone(said: impl Into<String>) -> EngineError {
        EngineError::Overtaken(Overtaken::Transaction, said.into())
    }

    /// The broken rule, if it is one of this kind.
    pub fn broken(&self, kind: Constraint) -> Option<&Broken> {
        match self {
            EngineError::Constraint(broken) if broken.kind == kind => Some(broken),
            _ => None,
        }
    }

    /// With what to write instead, ready to be pasted, where the statement is refused and there is such a thing.
    #[must_use]
    pub fn with_paste(self, paste: Option<String>) -> EngineError {
        match (self, paste) {
            (EngineError::Refused(finding), Some(paste)) => {
                let hint = finding.hint.clone().map(|h| format!("{h}:"));
                let finding = Finding { hint, ..*finding }.paste(paste);
                EngineError::Refused(Box::new(finding))
            }
            (other, _) => other,
        }
    }
}
