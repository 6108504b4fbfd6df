//! What an engine must be able to do. Every method says what the caller may rely on; the conformance tests hold
//! each engine to it.

use std::any::Any;
use std::time::Duration;

use marktwice_core::finding::{Code, Finding};
use marktwice_core::hash::Fingerprint;
use marktwice_core::many::Many;
use marktwice_core::mark::{Foreseen, HeldRow, Parts, StepKind};
use marktwice_core::notice::Assigned;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::table::{Pin, Target};
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;
use marktwice_core::way_back::WayBack;

use crate::ambient::{Stopper, Watch};

/// What is to become of a row that was looked up, to be put back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Keep {
    /// It is held, and becomes this row; `None` takes it away.
    Hold(Option<Vec<Value>>),
    /// It is not held.
    Leave,
}

/// Takes a row that was asked for and what is there now, and says what is to become of it.
pub type KeepSink<'a> = dyn FnMut(&RowChange, Option<&[Value]>) -> Result<Keep, SinkError> + 'a;

/// An error of the caller's that passes through an engine while it hands rows over.
pub type SinkError = Box<dyn std::error::Error + Send + Sync>;

/// Takes one held row.
pub type RowSink<'a> = dyn FnMut(&HeldRow) -> Result<(), SinkError> + 'a;
/// Takes one held row and what it is now, after the step.
pub type PairSink<'a> = dyn FnMut(&HeldRow, Option<&[Value]>) -> Result<(), SinkError> + 'a;
/// Gives the next row to look up or to put back; `None` at the end.
pub type ChangeSource<'a> = dyn FnMut() -> Result<Option<RowChange>, SinkError> + 'a;
/// Takes a row that was asked for and what is there now.
pub type FoundSink<'a> = dyn FnMut(&RowChange, Option<&[Value]>) -> Result<(), SinkError> + 'a;

/// How long one question of a closer look may take.
pub const PATIENCE: Duration = Duration::from_secs(2);
/// How long a closer look may take in all.
pub const PATIENCE_IN_ALL: Duration = Duration::from_secs(6);

/// Why a database is opened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Intent {
    /// To read. No real table can be written through such a session.
    Read,
    /// To apply or undo.
    Write,
    /// To find out what became of a run: only where the newest state is, and reading waits for whoever has written the
    /// rows and not ended yet.
    Settle,
}

/// How long to wait for others.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Waits {
    /// For a lock that somebody else holds.
    pub lock: Duration,
    /// For one statement to finish; `None` for as long as it takes.
    pub statement: Option<Duration>,
}

/// Which constraint was broken.
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
}

/// What went wrong in an engine. The texts are for people; they hold no secret.
#[derive(Debug, thiserror::Error)]
pub enum EngineError {
    /// There is nothing at the address.
    #[error("{0}")]
    NotFound(String),
    /// There is something, and it is not a database of this engine.
    #[error("{0}")]
    NotADatabase(String),
    /// The database cannot be written.
    #[error("{0}")]
    ReadOnly(String),
    /// Somebody else holds a lock for longer than the waiting time.
    #[error("{0}")]
    Locked(String),
    /// The statement's grammar is wrong.
    #[error("{}", .0.message)]
    Syntax(Box<Finding>),
    /// The statement breaks a constraint.
    #[error("{message}")]
    Constraint {
        /// Which kind.
        kind: Constraint,
        /// What the engine says, and which row where that can be told.
        message: String,
    },
    /// A disk is full, or a file limit is reached.
    #[error("{0}")]
    NoSpace(String),
    /// Somebody asked to stop while the engine was at work.
    #[error("stopped on request")]
    Interrupted,
    /// The transaction ended under the statement (by a trigger, say).
    #[error("{0}")]
    TransactionGone(String),
    /// The statement is refused before anything runs; the finding says where and what to do.
    #[error("{}", .0.message)]
    Refused(Box<Finding>),
    /// Definitions have changed since the plan was made, so it may mean something else now.
    #[error("{0}")]
    SchemaChanged(String),
    /// The role or user may not do this; the message says what is missing, on what, and what works without it.
    #[error("{0}")]
    Denied(String),
    /// Somebody else changed the rows in the meantime, so the engine will not go on.
    #[error("{0}")]
    Moved(String),
    /// The caller's own error, handed through.
    #[error("{0}")]
    Sink(SinkError),
    /// A subquery gives several values where one is wanted.
    #[error("{0}")]
    SeveralValues(String),
    /// Anything else that the engine says.
    #[error("{0}")]
    Other(String),
}

impl EngineError {
    /// With what to write instead, ready to be pasted, where the statement is refused and there is such a thing.
    #[must_use]
    pub fn with_paste(self, paste: Option<String>) -> EngineError {
        match (self, paste) {
            (EngineError::Refused(finding), Some(paste)) => {
                let hint = finding.hint.clone().map(|h| format!("{h}:"));
                let finding = Finding { hint, paste: Some(paste.into()), ..*finding };
                EngineError::Refused(Box::new(finding))
            }
            (other, _) => other,
        }
    }
}

/// How a write outside the matched rows comes about.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "lowercase", tag = "by", content = "name")]
pub enum SideHow {
    /// A trigger, by name.
    Trigger(String),
    /// A foreign key's action, such as `ON DELETE CASCADE`.
    ForeignKey(String),
    /// It was measured in the transaction; this says as what.
    Measured(String),
    /// A routine that the statement itself calls, by name.
    Routine(String),
    /// It cannot be measured; this says what it is, in words for people.
    Unmeasured(String),
}

impl SideHow {
    /// The finding that it is, by which it can be let pass.
    pub fn code(&self) -> Code {
        match self {
            SideHow::Unmeasured(_) => Code::UnmeasuredWrite,
            SideHow::Trigger(_) | SideHow::ForeignKey(_) | SideHow::Measured(_) | SideHow::Routine(_) => {
                Code::UndeclaredWrite
            }
        }
    }
}

/// A write outside the matched rows or outside the target.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct SideWrite {
    /// The table that is written.
    pub table: String,
    /// How.
    #[serde(flatten)]
    pub how: SideHow,
    /// How many rows, where that can be told beforehand.
    pub rows: Option<u64>,
}

/// A step, understood by an engine and ready to be held, foreseen and executed.
#[derive(Debug)]
pub struct Plan {
    /// What it does.
    pub kind: StepKind,
    /// What it writes.
    pub target: Target,
    /// The statement, verbatim.
    pub statement: String,
    /// Hash of its tokens.
    pub statement_hash: String,
    /// Columns it may change, and how their after-values will be known.
    pub foreseen: Vec<Foreseen>,
    /// Which columns play which part in a mark.
    pub parts: Parts,
    /// Columns that the statement reads from the target, in the order of the table.
    pub reads: Vec<usize>,
    /// The assigned columns, each with its place.
    pub assigned: Vec<Assigned>,
    /// How many rows the statement takes at most, where it says so by a number.
    pub limit: Option<u64>,
    /// What pins its rows.
    pub pin: Pin,
    /// What was noticed from the text and the catalogue.
    pub findings: Vec<Finding>,
    /// A condition, ready to paste, that leaves out rows which already hold the new values.
    pub leave_out: Option<String>,
    /// Settings that bear on what the statement means here.
    pub settings: Vec<String>,
    /// The engine's own part.
    pub detail: Box<dyn Any>,
}

/// Rows that are held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Held {
    /// How many rows match.
    pub matched: u64,
    /// How many rows the target has.
    pub total: u64,
    /// Writes outside the matched rows that are to be expected.
    pub side: Vec<SideWrite>,
    /// Matched rows that several rows of a join match.
    pub many: Option<Many>,
    /// Whether and how an undo will succeed.
    pub back: WayBack,
    /// Whether the statement sets off a trigger, for these rows or by itself: then it does something even where no row
    /// would change.
    pub fires: bool,
}

/// What is to be put back.
#[derive(Debug, Clone)]
pub struct Restore {
    /// The table, as it was when the run was made.
    pub target: Target,
    /// What putting back does: UPDATE, INSERT or DELETE.
    pub kind: StepKind,
    /// For an UPDATE, the columns that are put back.
    pub columns: Vec<usize>,
    /// Whether rows may have to be brought in again in an UPDATE.
    pub inserts: bool,
}

/// How a COMMIT ended.
#[derive(Debug)]
pub enum CommitOutcome {
    /// The engine said so.
    Committed,
    /// The engine refused and the transaction is rolled back: known.
    RolledBack(EngineError),
    /// Nobody can tell.
    Unknown(EngineError),
}

/// An engine.
pub trait Engine {
    /// Opens a database.
    ///
    /// # Errors
    /// When there is none, it is not one of this engine, or it cannot be reached.
    fn open(&self, address: &str, intent: Intent, waits: Waits) -> Result<Box<dyn Session>, EngineError>;
}

/// An open database.
pub trait Session {
    /// Which database it is.
    fn database(&self) -> &DatabaseId;

    /// From now on work is stopped when somebody asks for that, and silence is told.
    fn obey(&mut self, watch: &Watch);

    /// What happened on opening that a person should know, such as an interrupted transaction that was rolled back.
    fn notes(&self) -> &[String];

    /// Understands a change: exactly one statement, in the engine's own language. Runs nothing. `allow` are the findings
    /// that are let pass: where a preview would have to run what nobody knows, it must be asked for by its name.
    ///
    /// # Errors
    /// [`EngineError::Refused`] with a finding for whatever is not taken or not wholly understood.
    fn plan(&mut self, source: &str, allow: &[Code]) -> Result<Plan, EngineError>;

    /// Reads the matched rows and foresees what they would become, in one consistent view. Writes no real table,
    /// and holds no lock while the sink is at work.
    ///
    /// # Errors
    /// When the engine fails, or the sink does.
    fn view(&mut self, plan: &Plan, sink: &mut RowSink<'_>) -> Result<Held, EngineError>;

    /// Reads the first rows that a plan matches, in the order of the key, and gives the number of all of them. Holds
    /// nothing; after-values are not foreseen.
    ///
    /// # Errors
    /// When the engine fails, or the sink does.
    fn peek(&mut self, plan: &Plan, limit: Option<u64>, sink: &mut RowSink<'_>) -> Result<u64, EngineError>;

    /// Looks closer at a step that was viewed, in bounded time: what is not answered soon is left out and said.
    ///
    /// # Errors
    /// When the connection fails.
    fn study(&mut self, plan: &Plan, wish: &Wish) -> Result<Study, EngineError>;

    /// All tables, by name.
    ///
    /// # Errors
    /// When the engine fails.
    fn tables(&mut self) -> Result<Vec<TableSummary>, EngineError>;

    /// One table in full.
    ///
    /// # Errors
    /// When there is no such table.
    fn survey(&mut self, schema: Option<&str>, table: &str) -> Result<Survey, EngineError>;

    /// What became of the transaction that `token` (from [`Tx::token`]) tells; `None` when the engine cannot say.
    ///
    /// # Errors
    /// When the engine fails.
    fn outcome(&mut self, token: &str) -> Result<Option<bool>, EngineError>;

    /// The table as it is defined now.
    ///
    /// # Errors
    /// When there is no such table.
    fn describe(&mut self, schema: &str, table: &str) -> Result<Target, EngineError>;

    /// The first rows of a table in the order of its key, all columns, at most `limit`.
    ///
    /// # Errors
    /// When the engine fails.
    fn sample(&mut self, target: &Target, limit: u32) -> Result<Vec<Vec<Value>>, EngineError>;

    /// Looks rows up by [`RowChange::key`].
    ///
    /// # Errors
    /// When the engine fails, or the source or sink does.
    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError>;

    /// What putting rows back would write outside them, and what definitions say of its success.
    ///
    /// # Errors
    /// When the engine fails.
    fn restore_reach(&mut self, restore: &Restore) -> Result<(Vec<SideWrite>, WayBack), EngineError>;

    /// Fingerprints of the contents of all tables, by name: what proves that a database is as it was.
    ///
    /// # Errors
    /// When the engine fails.
    fn contents(&mut self) -> Result<Vec<(String, Fingerprint)>, EngineError>;

    /// Begins a transaction that keeps other writers out of the marked rows.
    ///
    /// # Errors
    /// When somebody else holds a lock for too long, or the database cannot be written.
    fn begin(&mut self, stop: Stopper) -> Result<Box<dyn Tx + '_>, EngineError>;
}

/// An open transaction. Dropping it rolls back.
pub trait Tx {
    /// How durable its commit will be, and other settings, in words for the receipt.
    fn settings(&self) -> Vec<String>;

    /// Holds the rows of a plan and hands them over.
    ///
    /// # Errors
    /// When the engine fails, or the sink does.
    fn hold(&mut self, plan: &Plan, sink: &mut RowSink<'_>) -> Result<Held, EngineError>;

    /// Hands the held rows over once more.
    ///
    /// # Errors
    /// When the engine fails, or the sink does.
    fn held(&mut self, sink: &mut RowSink<'_>) -> Result<(), EngineError>;

    /// Holds the rows that are to be put back, looked up by [`RowChange::key`]; the sink is handed what is there now
    /// and decides.
    ///
    /// # Errors
    /// When the engine fails, or the source or sink does.
    fn hold_rows(
        &mut self,
        restore: &Restore,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<Held, EngineError>;

    /// Executes the plan's statement, verbatim, through an interface that takes one statement only.
    /// Gives the engine's own count.
    ///
    /// # Errors
    /// When the engine refuses it.
    fn execute(&mut self, plan: &Plan) -> Result<u64, EngineError>;

    /// Puts the held rows back, each guarded by the comparison that [`Tx::hold_rows`] was handed.
    ///
    /// # Errors
    /// When the engine refuses a row.
    fn put(&mut self, restore: &Restore) -> Result<u64, EngineError>;

    /// Makes constraints that wait for COMMIT speak now.
    ///
    /// # Errors
    /// The broken constraint.
    fn settle_constraints(&mut self) -> Result<(), EngineError>;

    /// Pairs each held row with what it is now.
    ///
    /// # Errors
    /// When the engine fails, or the sink does.
    fn pair(&mut self, sink: &mut PairSink<'_>) -> Result<(), EngineError>;

    /// Writes outside the matched rows that were measured in this transaction, where the engine can measure.
    ///
    /// # Errors
    /// When the engine fails.
    fn effects(&mut self) -> Result<Vec<SideWrite>, EngineError>;

    /// How many rows the target has now.
    ///
    /// # Errors
    /// When the engine fails.
    fn total(&mut self) -> Result<u64, EngineError>;

    /// Asserts that the transaction is still the one that was begun.
    ///
    /// # Errors
    /// [`EngineError::TransactionGone`] when it is not.
    fn intact(&mut self) -> Result<(), EngineError>;

    /// What tells this transaction after a crash, where the engine has such a thing.
    fn token(&mut self) -> Option<String>;

    /// Commits.
    fn commit(self: Box<Self>) -> CommitOutcome;

    /// Rolls back.
    ///
    /// # Errors
    /// When the engine does not say that it did.
    fn rollback(self: Box<Self>) -> Result<(), EngineError>;
}
