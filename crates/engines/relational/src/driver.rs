//! What an engine gives, so that sessions, transactions, held rows and what is put back can be written once.

use std::time::Instant;

use marktwice_core::finding::Code;
use marktwice_core::param::Bound;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::steps::Touches;
use marktwice_core::way_back::WayBack;
use marktwice_port::{
    Batch, ChangeSource, CommitOutcome, Constraint, EngineError, FoundSink, Plan, Settings, SideWrite,
    Stopper, Told, Watch,
};
use marktwice_sql::Step;
use marktwice_sql::query::ask::Texts;
use marktwice_sql::query::check::Question;
use marktwice_sql::statement::routine::Written;

use crate::around;
use crate::breaches::Rules;
use crate::detail::Detail;
use crate::finder::{Asked, Found};
use crate::held::{Filled, Held};
use crate::put::{self, Together};
use crate::reach::ForeignKey;
use crate::recipe::Recipe;
use crate::shell::{Shell, Tabled};
use crate::transaction::OfStep;
use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_core::survey::{Declared, OfView, TableSummary};
use marktwice_core::table::Target;

/// What is done in a view of an engine's.
pub type Working<'a, D> = dyn FnMut(&mut D) -> Result<(), EngineError> + 'a;

/// A table or a view in a list.
#[derive(Debug)]
pub struct Listed {
    /// What is told of it; its rows are counted by others.
    pub about: TableSummary,
    /// It, as it stands behind FROM where only its own rows are meant.
    pub from: String,
}

/// A column of a table or view, as the engine resolves a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Origin {
    /// The schema, where the engine has several.
    pub schema: Option<String>,
    /// The table or view.
    pub table: String,
    /// The column.
    pub column: String,
}

/// A view.
#[derive(Debug)]
pub struct Viewed<T> {
    /// Its columns, as those of a table whose rows are told apart by their contents.
    pub table: T,
    /// What it is made of.
    pub of: OfView,
}

/// A connection, with all that is the engine's own. What a method answers with an error is what the engine said.
#[expect(
    clippy::missing_errors_doc,
    reason = "every one of them fails as the engine does; the trait says so"
)]
pub trait Driver: Shell + 'static {
    /// What tells the transaction that is open.
    type Here: Default;
    /// What the engine has counted before a step, or while it was at work.
    type Books: Default;

    /// Whether what is measured is counted by table.
    const COUNTS_TABLES: bool = false;

    // The connection.

    /// From now on work is stopped when somebody asks for that, and silence is told.
    fn obey(&mut self, watch: &Watch);

    /// Does one action: a limit on statements begins anew.
    fn acting<R>(
        &mut self,
        work: impl FnOnce(&mut Self) -> Result<R, EngineError>,
    ) -> Result<R, EngineError> {
        work(self)
    }

    /// Does something under pinned settings: values are then read and written exactly.
    fn pinned<R>(
        &mut self,
        work: impl FnOnce(&mut Self) -> Result<R, EngineError>,
    ) -> Result<R, EngineError> {
        work(self)
    }

    /// Does something that reads the catalogue, in a transaction of its own where one is needed.
    fn looking<R>(
        &mut self,
        work: impl FnOnce(&mut Self) -> Result<R, EngineError>,
    ) -> Result<R, EngineError> {
        work(self)
    }

    /// Reads rows that a text of the user's asks for, outside a view; names in it keep their meaning.
    fn peeking<R>(
        &mut self,
        work: impl FnOnce(&mut Self) -> Result<R, EngineError>,
    ) -> Result<R, EngineError>;

    /// The same in a view.
    fn plainly<R>(
        &mut self,
        work: impl FnOnce(&mut Self) -> Result<R, EngineError>,
    ) -> Result<R, EngineError> {
        work(self)
    }

    /// One question with a limit, of which nothing is left but its answer.
    fn ask_until(&mut self, sql: &str, until: Instant) -> Result<Texts, EngineError>;

    /// Ends what reading has left open, where an end waits for the next statement.
    fn rest(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    /// From now on `:name` stands for this value.
    fn bind(&mut self, value: Bound) -> Result<(), EngineError>;

    /// Settings of a session that a change may make: those that bear on what its statements mean.
    const SETTINGS: &'static [&'static str] = &[];

    /// Makes one of them, for the session.
    ///
    /// # Errors
    /// What the engine says of the value.
    fn set(&mut self, _name: &str, _value: &str) -> Result<(), EngineError> {
        Ok(())
    }

    /// Finds out which types values have in a statement that is about to be asked, where the engine says so.
    fn type_values(&mut self, _statement: &str) -> Result<(), EngineError> {
        Ok(())
    }

    // The catalogue.

    /// A table as it is defined now.
    fn described(&mut self, schema: &str, table: &str) -> Result<Self::Table, EngineError>;

    /// A table that a name stands for, where no schema may be told.
    fn named(&mut self, schema: Option<&str>, table: &str) -> Result<Self::Table, EngineError>;

    /// All foreign keys that matter to a table.
    fn foreign_keys(&mut self, table: &Self::Table) -> Result<Vec<ForeignKey>, EngineError>;

    /// Schema and name of each table, in order; `parts` are tables that only hold the rows of another one too, and not that
    /// other one.
    fn names(&mut self, parts: bool) -> Result<Vec<(String, String)>, EngineError>;

    /// All tables and views that can be named without a schema, in order: a question or two, however many there are.
    fn listed(&mut self) -> Result<Vec<Listed>, EngineError>;

    /// A view that a name stands for; `None` where it stands for none.
    fn viewed(
        &mut self,
        schema: Option<&str>,
        name: &str,
    ) -> Result<Option<Viewed<Self::Table>>, EngineError>;

    /// Refuses when reading the rows of a step would call what is not known to do no more than give a value.
    fn only_reads(&mut self, _: &Step) -> Result<(), EngineError> {
        Ok(())
    }

    /// Whether a foreign key is asked again of a row that the same transaction has written before, though its columns stay.
    const ASKS_KEYS_AGAIN: bool = false;

    /// Whether a table that is made inside a transaction is a part of it.
    const MAKES_TABLES_INSIDE: bool = true;

    /// What stands behind the columns of a table that is made, so that its rows are rolled back.
    const TABLES_ARE: &'static str = "";

    /// Asks for the schema in which a table is made that is named without one.
    const HOME: &'static str;

    /// What stands behind a SELECT so that it waits for whoever has written what it reads and not ended yet.
    const AND_WAIT: &'static str = "";

    /// See [`marktwice_port::Session::may_write`].
    ///
    /// # Errors
    /// Where nothing can be written here.
    fn may_write(&mut self, _: &DatabaseId) -> Result<bool, EngineError> {
        Ok(false)
    }

    /// The schema in which a table is made that is named without one.
    fn home(&mut self) -> Result<String, EngineError> {
        let answer = self.question(Self::HOME)?;
        let first = answer.rows.into_iter().next().and_then(|row| row.into_iter().next());
        first
            .flatten()
            .ok_or_else(|| EngineError::Other("no schema is set in which a table is made".to_owned()))
    }

    /// Makes a table of this definition.
    fn make_table(&mut self, definition: &str) -> Result<(), EngineError> {
        self.execute(definition).map(drop)
    }

    /// The types of the columns of a table, as another table is declared that takes every value of them.
    fn stored_types(&mut self, own: &Target) -> Result<Vec<String>, EngineError> {
        Ok(own.columns.iter().map(|column| column.declared.clone()).collect())
    }

    /// Copies the whole database into a new file; see [`Session::copy_database`](marktwice_port::Session::copy_database).
    fn copy_database(&mut self, _file: &str, _told: &mut Told<'_>) -> Result<u64, EngineError> {
        let what = "only an embedded database is copied as a file; a server has means of its own";
        Err(EngineError::Other(what.to_owned()))
    }

    /// Does something that must not write, whatever it calls.
    fn guarded<R>(
        &mut self,
        work: impl FnOnce(&mut Self) -> Result<R, EngineError>,
    ) -> Result<R, EngineError> {
        work(self)
    }

    /// What a query of somebody's reads: through views and functions too.
    fn reads(&mut self, question: &Question) -> Result<Touches, EngineError>;

    /// The same as the engine itself resolves the names in it, where it can be asked; no column may be left out.
    fn reads_as_resolved(&mut self, question: &Question) -> Result<Touches, EngineError> {
        self.reads(question)
    }

    /// The same inside a view, whose rows stay held.
    fn ask_here(&mut self, sql: &str, until: Instant) -> Result<Texts, EngineError> {
        self.ask_until(sql, until)
    }

    /// The column that a name stands for in `{head} SELECT {name} {tail}`; `None` where it stands for anything else.
    fn origin(&mut self, head: &str, name: &str, tail: &str) -> Result<Option<Origin>, EngineError>;

    /// Bare names of tables that a table shares rows with: what it is a part of, and its parts.
    fn relatives(&mut self, _: &Self::Table) -> Result<Vec<String>, EngineError> {
        Ok(Vec::new())
    }

    /// What a table demands of its rows.
    fn rules(&mut self, table: &Self::Table) -> Result<Rules, EngineError>;

    /// Defaults, checks and triggers of a table; its keys are filled in by others.
    fn declared(&mut self, table: &Self::Table) -> Result<Declared, EngineError>;

    /// Refuses when definitions have changed since a plan was made.
    fn unchanged(&mut self, detail: &Detail<Self::Table>) -> Result<(), EngineError> {
        around::still_defined(self, &detail.table)
    }

    /// What makes a table unfit to be the witness: triggers and rules, or that its rows are not rolled back.
    fn unfit_witness(&mut self, table: &Self::Table) -> Result<Option<String>, EngineError> {
        let triggers = self.declared(table)?.triggers;
        Ok(triggers.first().map(|trigger| format!("it has a trigger ({trigger})")))
    }

    /// What would make COMMIT fail, of constraints that only COMMIT looks at.
    fn would_commit(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    /// Begins what [`Driver::end_trial`] takes back: a savepoint.
    fn begin_trial(&mut self, _: &[Target]) -> Result<(), EngineError> {
        self.execute("SAVEPOINT marktwice_trial").map(drop)
    }

    /// Drops temporary tables that rows were held in.
    fn drop_held(&mut self, names: &[String]) -> Result<(), EngineError> {
        names.iter().try_for_each(|name| self.execute(&format!("DROP TABLE IF EXISTS {name}")).map(drop))
    }

    /// What COMMIT would say inside a trial, of constraints that only COMMIT looks at.
    fn would_commit_trial(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    /// Takes back what was written since [`Driver::begin_trial`].
    fn end_trial(&mut self) -> Result<(), EngineError>;

    /// What else speaks against the table of a plan being what it was.
    fn still(&mut self, _: &Self::Table) -> Result<(), EngineError> {
        Ok(())
    }

    /// How many rows a table has, as it can be told without reading them; `None` where it has to be counted.
    fn reckoned(&mut self, table: &Self::Table) -> Result<Option<u64>, EngineError>;

    // Understanding.

    /// See [`marktwice_port::Session::plan`].
    fn plan(&mut self, source: &str, allow: &[Code], earlier: &[Plan]) -> Result<Plan, EngineError>;

    /// Whether plain views can be written here; they are then refused with the statement for the table behind.
    fn writes_views(&self) -> bool {
        true
    }

    /// See [`marktwice_port::Session::touches`].
    fn touches(&mut self, plan: &Plan) -> Result<Touches, EngineError>;

    /// See [`marktwice_port::Session::restore_reach`].
    fn restore_reach(&mut self, batch: &Batch) -> Result<(Vec<SideWrite>, WayBack), EngineError>;

    /// Adds to a plan's way back what the held rows say.
    fn rows_back(&mut self, plan: &Plan, detail: &Detail<Self::Table>) -> Result<WayBack, EngineError>;

    /// What follows from a foreign key's action that writes a table, beyond foreign keys: its triggers.
    fn further(&mut self, _: &Written) -> Result<Vec<SideWrite>, EngineError> {
        Ok(Vec::new())
    }

    // Holding.

    /// Refuses where no rows can be held: they are then only looked at.
    fn may_hold(&self, _: &Detail<Self::Table>) -> Result<(), EngineError> {
        Ok(())
    }

    /// The columns of a plan's held table, and what fills them.
    fn recipe(&self, plan: &Plan, detail: &Detail<Self::Table>) -> Recipe;

    /// Makes a held table of these columns.
    fn define(&mut self, table: &Self::Table, step: usize, columns: &[String]) -> Result<(), EngineError>;

    /// Fills the held table of a plan under the user's own settings, and locks its rows in a transaction.
    fn fill(
        &mut self,
        plan: &Plan,
        detail: &Detail<Self::Table>,
        lock: bool,
    ) -> Result<Filled<Self::Table>, EngineError>;

    /// Works in one consistent view, in which the held tables of the plans are made already where they can be.
    fn viewing(&mut self, plans: &[&Plan], work: &mut Working<'_, Self>) -> Result<(), EngineError>;

    /// Rows of a view are about to be handed over: no more are held.
    fn handing_over(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    // Finding rows again.

    /// Makes what [`Driver::find`] needs for a table without a key, where temporary tables can be made.
    fn room_to_find(&mut self, _: &Self::Table) -> Result<(), EngineError> {
        Ok(())
    }

    /// Looks rows up, each at its place in what is given back. Settings are pinned.
    fn find(&mut self, table: &Self::Table, asked: &Asked<'_>) -> Result<Vec<Option<Found>>, EngineError>;

    /// See [`marktwice_port::Session::look_up`].
    fn look_up(
        &mut self,
        target: &Target,
        source: &mut ChangeSource<'_>,
        sink: &mut FoundSink<'_>,
    ) -> Result<(), EngineError>;

    // Putting rows back.

    /// Columns of our own behind those of rows that are put back.
    fn behind(&self) -> Vec<String> {
        Vec::new()
    }

    /// Brings rows into a held table: `names` are its columns, in the order of the values.
    fn load(&mut self, held: &str, names: &[String], rows: Vec<Vec<Value>>) -> Result<(), EngineError>;

    /// All rows are in a table of ours that was filled one after the other: of what is joined by more than its key every column
    /// `matters`.
    fn loaded(&mut self, _held: &str, _matters: bool) -> Result<(), EngineError> {
        Ok(())
    }

    /// Puts rows back under the settings for that; constraints that can wait do.
    fn putting<R>(
        &mut self,
        work: impl FnOnce(&mut Self) -> Result<R, EngineError>,
    ) -> Result<R, EngineError>;

    /// Whether another row may only have to go first.
    fn waits(error: &EngineError) -> bool {
        error.broken(Constraint::Unique).is_some()
    }

    /// Runs a statement that puts rows back, so that nothing is left of it when rows stand in each other's way: the inner
    /// error.
    fn attempt(&mut self, sql: &str) -> Result<Result<u64, EngineError>, EngineError> {
        match self.execute(sql) {
            Err(error) if Self::waits(&error) => Ok(Err(error)),
            other => other.map(Ok),
        }
    }

    /// Puts all held rows of one kind back in one statement, or as many as that can be done with.
    fn put_all(
        &mut self,
        held: &Held<Self::Table>,
        batch: &Batch,
        kind: StepKind,
    ) -> Result<Together, EngineError> {
        let sql = put::statement(held, batch, kind, None);
        Ok(self.attempt(&sql)?.map_or(Together::None, Together::All))
    }

    /// Puts the rows of some ordinals back though they refer to each other, where the engine looks at each row by itself; the
    /// caller makes sure of their parents.
    fn put_unchecked(
        &mut self,
        held: &Held<Self::Table>,
        _: &Batch,
        _: &[String],
    ) -> Result<u64, EngineError> {
        let table = &held.table.target().table;
        Err(EngineError::Other(format!("rows of {table} refer to each other, and none can come in first")))
    }

    /// Puts the row of an ordinal back; the inner error says that another row may have to go first.
    fn put_one(
        &mut self,
        held: &Held<Self::Table>,
        batch: &Batch,
        kind: StepKind,
        ordinal: &str,
    ) -> Result<Result<u64, EngineError>, EngineError> {
        let sql = put::statement(held, batch, kind, Some(ordinal));
        self.attempt(&sql)
    }

    // The transaction.

    /// Begins one that keeps other writers out of the rows.
    fn start(&mut self, stop: Stopper) -> Result<(), EngineError>;

    /// Looks where it is, now that it is open: what tells it, and how durable its commit will be.
    fn arrive(&mut self) -> Result<(Self::Here, Settings), EngineError>;

    /// Rows of a step are held: opens the books on what it will write.
    fn kept(
        &mut self,
        held: &Held<Self::Table>,
        keys: &[ForeignKey],
        kind: StepKind,
        assigned: &[usize],
    ) -> Result<Self::Books, EngineError>;

    /// Rows that a step takes along are held: notes what they are to be, where only their contents will tell them.
    fn expect(&mut self, _: &Held<Self::Table>) -> Result<(), EngineError> {
        Ok(())
    }

    /// Runs the statement of a plan, verbatim, through an interface that takes one statement only.
    fn run(&mut self, plan: &Plan, of: &mut OfStep<Self>) -> Result<u64, EngineError>
    where
        Self: Sized;

    /// Writes outside the held rows that were measured since the books were opened.
    fn effects(&mut self, _: &OfStep<Self>) -> Result<Vec<SideWrite>, EngineError>
    where
        Self: Sized,
    {
        Ok(Vec::new())
    }

    /// Makes constraints that wait for COMMIT speak now.
    fn settle_constraints(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    /// Refuses when the transaction is not the one that was begun.
    fn intact(&mut self, here: &Self::Here) -> Result<(), EngineError>;

    /// What tells the transaction after a crash.
    fn token(&mut self, _: &Self::Here) -> Option<String> {
        None
    }

    /// Commits what is known to be intact.
    fn commit(&mut self, here: &Self::Here) -> CommitOutcome;

    /// Rolls back.
    fn roll_back(&mut self) -> Result<(), EngineError>;

    /// See [`marktwice_port::Session::outcome`].
    fn outcome(&mut self, _token: &str) -> Result<Option<bool>, EngineError> {
        Ok(None)
    }
}
