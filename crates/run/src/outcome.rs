//! How a use case ended. Exit statuses are given to these in one place of the command line, not here.

use marktwice_core::asked::QueryFound;
use marktwice_core::check::CheckFound;
use marktwice_core::moved::Moved;
use marktwice_core::receipt::Receipt;
use marktwice_core::{Code, Finding};
use marktwice_port::{EngineError, LogError};

use crate::context::{Answer, Spare};
use crate::faults::{Conflicts, Faults};
use crate::preview::Unmet;

/// A failure that is nobody's finding.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// The engine failed or refused.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// The logbook failed.
    #[error(transparent)]
    Log(#[from] LogError),
    /// The request cannot be meant as it stands.
    #[error("{message}")]
    Usage {
        /// What is wrong with it.
        message: String,
        /// What to do.
        hint: String,
    },
    /// A run whose outcome is unknown stands in the way.
    #[error("run {run} was cut off while it committed, and its outcome is not known yet")]
    Unsettled {
        /// The run.
        run: String,
    },
}

impl Failure {
    pub(crate) fn usage(message: impl Into<String>, hint: impl Into<String>) -> Failure {
        Failure::Usage { message: message.into(), hint: hint.into() }
    }

    /// The finding inside, when it is a refusal of the statement.
    pub fn finding(&self) -> Option<&Finding> {
        match self {
            Failure::Engine(EngineError::Refused(finding)) => Some(finding),
            _ => None,
        }
    }
}

/// How an attempt ended.
#[derive(Debug)]
pub enum End {
    /// Committed, and the receipt says so.
    Committed,
    /// Committed, and the receipt could not be completed.
    ReceiptIncomplete(LogError),
    /// There was nothing to do, and nothing was begun.
    NothingToDo(String),
    /// A finding stopped it before it began.
    Stopped(Vec<Code>),
    /// An expected count is not met.
    Expectation(Vec<Unmet>),
    /// Checks do not hold for rows of a table.
    Checks(String, Vec<CheckFound>),
    /// Checks of the whole change do not hold.
    Queries(Vec<QueryFound>),
    /// Rows have moved.
    Moved(Moved),
    /// Rows that were to be put back have changed since.
    Conflicts(Conflicts),
    /// What a previewed change rests on is another now (the table's definition, say).
    Changed(String),
    /// Rows are not as they should be after the statement.
    Verification(Faults),
    /// Rows outside the matched ones would be, or were, written without that being allowed.
    SideEffects(String, Code),
    /// The undo was tried after the change, and fails.
    NoUndo(String),
    /// Nobody agreed.
    Declined(Answer),
    /// The engine or the logbook failed.
    Failed(Failure),
    /// Nobody can tell whether the commit went through.
    Unknown(EngineError),
}

/// How an attempt ended, and its record.
#[derive(Debug)]
pub struct RunOutcome {
    /// How.
    pub end: End,
    /// The step that it ended in, from 0, where there are several and it ended in one.
    pub step: Option<usize>,
    /// The run's receipt, when a run was begun.
    pub receipt: Option<Receipt>,
    /// What else a person should know.
    pub notes: Vec<String>,
    /// The session that it was committed in, for whoever asks next.
    pub session: Spare,
}

impl RunOutcome {
    /// An attempt of which nothing but its end is known: all there is to say of one that ended before a run was begun.
    pub(crate) fn of(end: End) -> Self {
        RunOutcome { end, step: None, receipt: None, notes: Vec::new(), session: Spare::default() }
    }
}
