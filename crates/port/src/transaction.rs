//! Held rows and the transaction of a run.

use marktwice_core::archive::Archive;
use marktwice_core::asked::Answer;
use marktwice_core::breach::Breaches;
use marktwice_core::check::{CheckFound, EachCheck};
use marktwice_core::mark::HeldRow;
use marktwice_core::param::Bound;
use marktwice_core::side::SideWrite;
use marktwice_core::table::Target;
use marktwice_core::triggered::Triggered;
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;

use crate::error::{EngineError, SinkError};
use crate::plan::{Batch, Matched, Plan, Reach};

/// What is to become of a row that was looked up, to be put back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Keep {
    /// It is held, and becomes this row; `None` takes it away.
    Hold(Option<Vec<Value>>),
    /// It is held, and comes in as this row under a row number that no other has.
    Anew(Vec<Value>),
    /// It is not held.
    Leave,
}

/// Gives the next row to look up or to put back; `None` at the end.
pub type ChangeSource<'a> = dyn FnMut() -> Result<Option<RowChange>, SinkError> + 'a;
/// Takes a row that was asked for and what is there now, and says what is to become of it.
pub type KeepSink<'a> = dyn FnMut(&RowChange, Option<&[Value]>) -> Result<Keep, SinkError> + 'a;

/// Takes one held row.
pub type RowSink<'a> = dyn FnMut(&HeldRow) -> Result<(), SinkError> + 'a;
/// Takes one held row and what it is now, after the step.
pub type PairSink<'a> = dyn FnMut(&HeldRow, Option<&[Value]>) -> Result<(), SinkError> + 'a;
/// What is set in a transaction, for its receipt.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Settings {
    /// What was seen or made, such as how durable a commit is.
    pub said: Vec<String>,
    /// What makes a commit less than safe.
    pub warnings: Vec<String>,
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

/// Rows that are held, in a view or in a transaction.
pub trait Hold {
    /// Holds the rows of a step as they are here and now, and foresees what they would become.
    ///
    /// # Errors
    /// When the engine fails.
    fn hold(&mut self, plan: &Plan) -> Result<Matched, EngineError>;

    /// Hands the held rows of a step over, in the order of their numbers. In a view nothing more is held from then on.
    ///
    /// # Errors
    /// When the engine fails, or the sink does.
    fn held(&mut self, step: usize, sink: &mut RowSink<'_>) -> Result<(), EngineError>;

    /// Asks a check of each held row of a step: in a view of what it would become, in a transaction of what it is once the
    /// statement has run.
    ///
    /// # Errors
    /// [`EngineError::Refused`] for a condition that is none; when the engine fails.
    fn each(&mut self, _step: usize, check: &EachCheck) -> Result<CheckFound, EngineError> {
        Err(EngineError::Other(format!("this engine asks no checks: {}", check.each)))
    }

    /// Asks a query that only reads, under the user's settings: what it gives as things stand here and now.
    ///
    /// # Errors
    /// [`EngineError::Refused`] for one that may do more than read, or that is another thing at each reading; when the engine fails.
    fn ask(&mut self, query: &str) -> Result<Answer, EngineError> {
        Err(EngineError::Other(format!("this engine asks no queries: {query}")))
    }

    /// Which constraints the held rows of a step would break, in bounded time; asked before they are handed over.
    ///
    /// # Errors
    /// When the connection fails.
    fn breaches(&mut self, _: &Plan) -> Result<Breaches, EngineError> {
        Ok(Breaches::default())
    }
}

/// An open transaction. Dropping it rolls back.
pub trait Tx: Hold {
    /// How durable its commit will be, and what makes it less than safe.
    fn settings(&self) -> Settings;

    /// Holds the rows that are to be put back, looked up by [`RowChange::key`]; the sink is handed what is there now
    /// and decides.
    ///
    /// # Errors
    /// When the engine fails, or the source or sink does.
    fn hold_rows(
        &mut self,
        batch: &Batch,
        source: &mut ChangeSource<'_>,
        sink: &mut KeepSink<'_>,
    ) -> Result<Matched, EngineError>;

    /// Makes a table of the held rows of a step, as they are before it; gives how many it holds. It is rolled back with
    /// everything else.
    ///
    /// # Errors
    /// Where the engine makes no table inside a transaction, or refuses it.
    fn keep_copy(&mut self, plan: &Plan, name: &str) -> Result<u64, EngineError> {
        Err(EngineError::Other(format!("this engine makes no table {name} of {}", plan.target.table)))
    }

    /// Makes a table that rows are to be put away in, as a part of this transaction, and puts it as it is then into `archive`, and
    /// into the tables that are to be `held`; `there` where another step has had it made already.
    ///
    /// # Errors
    /// What the engine says of the definition; where it has made another table than that.
    fn make_archive(
        &mut self,
        archive: &mut Archive,
        _held: &mut [Triggered],
        _there: bool,
    ) -> Result<(), EngineError> {
        Err(EngineError::Other(format!("this engine makes no table {}", archive.target.table)))
    }

    /// Copies the held rows of a step to where its plan puts them away; gives the engine's own count.
    ///
    /// # Errors
    /// When the engine refuses one.
    fn archive(&mut self, step: usize, archive: &Archive) -> Result<u64, EngineError> {
        Err(EngineError::Other(format!(
            "this engine puts no rows of step {step} away in {}",
            archive.target.table
        )))
    }

    /// Executes the plan's statement, verbatim, through an interface that takes one statement only.
    /// Gives the engine's own count.
    ///
    /// # Errors
    /// When the engine refuses it.
    fn execute(&mut self, plan: &Plan) -> Result<u64, EngineError>;

    /// From now on `:name` stands for a value that was found out on the way.
    ///
    /// # Errors
    /// Where the engine binds none.
    fn bind(&mut self, value: Bound) -> Result<(), EngineError> {
        Err(EngineError::Other(format!("this engine binds no parameters: {}", value.name)))
    }

    /// Puts the held rows back, each guarded by the comparison that [`Tx::hold_rows`] was handed.
    ///
    /// # Errors
    /// When the engine refuses a row.
    fn put(&mut self, batch: &Batch) -> Result<u64, EngineError>;

    /// Holds whole tables as they are, before triggers write them; one that is held already stays as it was.
    ///
    /// # Errors
    /// When the engine fails, or a table is not defined as it was.
    fn hold_triggered(&mut self, tables: &[Target]) -> Result<(), EngineError> {
        let names = tables.iter().map(|table| table.table.as_str()).collect::<Vec<_>>().join(", ");
        Err(EngineError::Other(format!("this engine holds no tables as a whole: {names}")))
    }

    /// What has become of those tables by now: of each the number under which [`Tx::pair`] gives its rows, with those that
    /// have come in. Rows that are as they were are among them.
    ///
    /// # Errors
    /// When the engine fails.
    fn triggered(&mut self) -> Result<Vec<(usize, Target)>, EngineError> {
        Ok(Vec::new())
    }

    /// Holds rows of such a table that are to be put back, or, where they are `left`, that are not, whatever else is; gives
    /// the number under which they can be read again.
    ///
    /// # Errors
    /// When the engine fails, or the source or sink does.
    fn hold_triggered_rows(
        &mut self,
        batch: &Batch,
        _left: bool,
        _source: &mut ChangeSource<'_>,
        _sink: &mut KeepSink<'_>,
    ) -> Result<usize, EngineError> {
        Err(EngineError::Other(format!("this engine holds no tables as a whole: {}", batch.target.table)))
    }

    /// Puts those tables back as they were when they were held, but for the rows of [`Tx::hold_triggered_rows`], and proves
    /// that they are so. Gives the rows that were written for it.
    ///
    /// # Errors
    /// When the engine refuses a row, or something else keeps writing them.
    fn restore_triggered(&mut self) -> Result<u64, EngineError> {
        Ok(0)
    }

    /// A table as it is defined here and now.
    ///
    /// # Errors
    /// When there is no such table.
    fn describe(&mut self, _schema: &str, table: &str) -> Result<Target, EngineError> {
        Err(EngineError::Other(format!("this engine describes no table {table} inside a transaction")))
    }

    /// The same as [`Session::restore_reach`](crate::Session::restore_reach), inside the transaction.
    ///
    /// # Errors
    /// When the engine fails.
    fn restore_reach(&mut self, batch: &Batch) -> Result<Reach, EngineError> {
        Err(EngineError::Other(format!("this engine tries no undo of {}", batch.target.table)))
    }

    /// The same as [`Session::restorable`](crate::Session::restorable), inside the transaction.
    ///
    /// # Errors
    /// When the engine fails.
    fn restorable(
        &mut self,
        _written: &[SideWrite],
        _known: &[Target],
        _own: &[Target],
    ) -> Result<Vec<Triggered>, EngineError> {
        Ok(Vec::new())
    }

    /// Begins a trial of the undo: all that is written until [`Tx::end_trial`] is taken back there. What steps have held is put aside, and
    /// not needed any more. Says whether the engine can do that; `tables` are those that the undo may write.
    ///
    /// # Errors
    /// When the engine fails.
    fn begin_trial(&mut self, _tables: &[Target]) -> Result<bool, EngineError> {
        Ok(false)
    }

    /// What COMMIT would say if it came now, inside a trial.
    ///
    /// # Errors
    /// The broken constraint.
    fn would_commit_trial(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    /// Whether the engine asks a foreign key again of a row that this transaction has written before, though its columns stay as
    /// they are: it would not ask in a transaction of the undo's own.
    fn asks_keys_again(&self) -> bool {
        false
    }

    /// Takes everything back that a trial has written.
    ///
    /// # Errors
    /// When that cannot be done: the transaction is then good for nothing but a rollback.
    fn end_trial(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    /// Makes constraints that wait for COMMIT speak now.
    ///
    /// # Errors
    /// The broken constraint.
    fn settle_constraints(&mut self) -> Result<(), EngineError>;

    /// What would make COMMIT fail, of constraints that only COMMIT looks at.
    ///
    /// # Errors
    /// The broken constraint.
    fn would_commit(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    /// Pairs each held row of a step with what it is now.
    ///
    /// # Errors
    /// When the engine fails, or the sink does.
    fn pair(&mut self, step: usize, sink: &mut PairSink<'_>) -> Result<(), EngineError>;

    /// Writes outside the matched rows that were measured since a step was held, where the engine can measure.
    ///
    /// # Errors
    /// When the engine fails.
    fn effects(&mut self, step: usize) -> Result<Vec<SideWrite>, EngineError>;

    /// Whether [`Tx::effects`] counts rows by table.
    fn counts_tables(&self) -> bool {
        false
    }

    /// How many rows the target of a step has now.
    ///
    /// # Errors
    /// When the engine fails.
    fn total(&mut self, step: usize) -> Result<u64, EngineError>;

    /// Asserts that the transaction is still the one that was begun.
    ///
    /// # Errors
    /// [`Overtaken::Transaction`] when it is not.
    fn intact(&mut self) -> Result<(), EngineError>;

    /// Leaves a row (of [`marktwice_core::witness::COLUMNS`]) in a table that others keep, as a part of this transaction.
    ///
    /// # Errors
    /// When the table is not there, or does not take it.
    fn leave(&mut self, table: &str, _row: Vec<Value>) -> Result<(), EngineError> {
        Err(EngineError::Other(format!("this engine leaves no rows in {table}")))
    }

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
