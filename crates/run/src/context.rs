//! What every use case is given: the engine, the address, the logbook and the surroundings.

use std::panic::{AssertUnwindSafe, catch_unwind};

use marktwice_core::receipt::DatabaseId;
use marktwice_core::secret::HiddenColumns;
use marktwice_core::table::NamedBy;
use marktwice_port::around::{Around, AroundSession};
use marktwice_port::{
    Ambient, CommitOutcome, Engine, EngineError, Intent, Limits, LogError, Logbook, Session, Watch,
};

use crate::preview::{Preview, UndoPreview};

/// Opens the logbook of a database.
pub type OpenBook<'a> = dyn Fn(&DatabaseId) -> Result<Box<dyn Logbook>, LogError> + 'a;

/// The surroundings of a use case.
pub struct Context<'a> {
    /// The engine.
    pub engine: &'a dyn Engine,
    /// The address of the database.
    pub address: &'a str,
    /// How to open its logbook.
    pub book: &'a OpenBook<'a>,
    /// Clock, interruption and progress.
    pub ambient: &'a dyn Ambient,
    /// How long to wait for others.
    pub waits: Limits,
    /// Which columns name the rows of tables, where somebody has said so.
    pub named_by: &'a NamedBy,
    /// Columns whose values are never shown.
    pub hide: &'a HiddenColumns,
    /// The table in which each run leaves a row, where there is to be one.
    pub witness: Option<&'a str>,
    /// Who runs this, as the operating system says.
    pub user: Option<String>,
}

/// Takes the values out of what an engine says, where columns are hidden.
#[derive(Clone, Copy)]
struct Discreet;

impl Around for Discreet {
    fn call<R>(&self, work: impl FnOnce() -> Result<R, EngineError>) -> Result<R, EngineError> {
        work().map_err(EngineError::without_values)
    }

    fn look<R>(&self, work: impl FnOnce() -> Result<R, EngineError>) -> Result<R, EngineError> {
        self.call(work)
    }

    fn commit(&self, commit: impl FnOnce() -> CommitOutcome) -> CommitOutcome {
        match commit() {
            CommitOutcome::Committed => CommitOutcome::Committed,
            CommitOutcome::RolledBack(error) => CommitOutcome::RolledBack(error.without_values()),
            CommitOutcome::Unknown(error) => CommitOutcome::Unknown(error.without_values()),
        }
    }
}

/// A session that a run has left behind, in no transaction; or none.
#[derive(Default)]
pub struct Spare(pub(crate) Option<Box<dyn Session>>);

impl std::fmt::Debug for Spare {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(if self.0.is_some() { "Spare(a session)" } else { "Spare(none)" })
    }
}

impl Context<'_> {
    /// What a run has left behind, or else another session that reads.
    ///
    /// # Errors
    /// When the engine cannot open one.
    pub(crate) fn resume(&self, spare: Spare) -> Result<Box<dyn Session>, EngineError> {
        let Some(mut session) = spare.0 else { return self.open(Intent::Read) };
        session.obey(&self.watch());
        Ok(session)
    }

    fn watch(&self) -> Watch {
        Watch { stop: self.ambient.stopper(), silent: self.ambient.silent() }
    }

    /// Opens the database; from the first question on a request to stop is obeyed.
    ///
    /// # Errors
    /// When the engine cannot.
    pub fn open(&self, intent: Intent) -> Result<Box<dyn Session>, EngineError> {
        // Nothing is begun yet, so that a driver that loses its head is an error like any other.
        let opened = catch_unwind(AssertUnwindSafe(|| self.engine.open(self.address, intent, self.waits)));
        let mut session = opened.unwrap_or_else(|panic| {
            let said = panic.downcast_ref::<String>().map(String::as_str);
            let said = said.or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("no reason given");
            Err(EngineError::Other(format!("the driver failed on connecting: {said}")))
        })?;
        session.obey(&self.watch());
        session.name_by(self.named_by);
        if !self.hide.is_empty() {
            // Whatever it says from here on may name a value.
            session = Box::new(AroundSession { inner: session, around: Discreet });
            let key = (self.book)(session.database()).and_then(|book| book.hash_key());
            session.hide(self.hide, key.map_err(|error| EngineError::Sink(Box::new(error)))?);
        }
        Ok(session)
    }

    /// A session to write in: the given one, where it may be used for that, or another. Says whether it is fresh.
    ///
    /// # Errors
    /// When none can be opened, or nothing can be written here.
    pub(crate) fn to_write(
        &self,
        session: Option<Box<dyn Session>>,
    ) -> Result<(Box<dyn Session>, bool), EngineError> {
        if let Some(mut session) = session
            && session.may_write()?
        {
            return Ok((session, false));
        }
        self.open(Intent::Write).map(|session| (session, true))
    }
}

/// What is shown before anything is asked or refused.
#[derive(Debug, Clone, Copy)]
pub enum Shown<'a> {
    /// A change.
    Change(&'a Preview),
    /// An undo.
    Undo(&'a UndoPreview),
}

/// What is asked of a person.
#[derive(Debug)]
pub enum Question<'a> {
    /// Before the transaction is opened: shall these rows be committed?
    Before(&'a Shown<'a>),
    /// Inside the open transaction, with the outcome as it stands there.
    Inside {
        /// The run.
        run: &'a str,
        /// Rows that matched.
        matched: u64,
        /// Rows that differ now.
        changed: u64,
    },
}

/// What was answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answer {
    /// Yes.
    Yes,
    /// No.
    No,
    /// Nobody is there to answer.
    NobodyThere,
    /// The time ran out.
    TooLate,
    /// The question was interrupted.
    Interrupted,
}

/// The other side of a run: a person at a terminal, or a script.
pub trait Talk {
    /// Shows what was found, before anything is asked or refused.
    fn show(&mut self, shown: &Shown<'_>);

    /// Tells something that a person should know before the commit.
    fn tell(&mut self, text: &str);

    /// Asks.
    fn ask(&mut self, question: &Question<'_>) -> Answer;
}
