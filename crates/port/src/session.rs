//! An engine and an open database.

use std::time::Duration;

use marktwice_core::archive::Archive;
use marktwice_core::change::Setting;
use marktwice_core::finding::Code;
use marktwice_core::hash::{Fingerprint, HashKey};
use marktwice_core::param::{Bound, ParamKind};
use marktwice_core::receipt::DatabaseId;
use marktwice_core::secret::HiddenColumns;
use marktwice_core::side::SideWrite;
use marktwice_core::steps::Touches;
use marktwice_core::study::{Study, Wish};
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::table::{Column, NamedBy, Target};
use marktwice_core::triggered::Triggered;
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;
use marktwice_core::witness::Left;

use crate::ambient::{Stopper, Watch};
use crate::error::{EngineError, SinkError};
use crate::language::Language;
use crate::plan::{Batch, Plan, Reach};
use crate::transaction::{ChangeSource, Hold, RowSink, Tx};

/// Takes a row that was asked for and what is there now.
pub type FoundSink<'a> = dyn FnMut(&RowChange, Option<&[Value]>) -> Result<(), SinkError> + 'a;
/// What is done in a view: first the steps are held, then their rows are handed over.
pub type Viewing<'a> = dyn FnMut(&mut dyn Hold) -> Result<(), EngineError> + 'a;

/// A column of a sheet's table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SheetColumn {
    /// Its name.
    pub name: String,
    /// What it holds.
    pub kind: ParamKind,
    /// The column that it is compared with or assigned to: table, schema where it was said, and column.
    pub like: Option<(Option<String>, String, String)>,
    /// Whether rows are found by it.
    pub compared: bool,
}

/// A sheet's table, before it is filled.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SheetTable {
    /// Its name.
    pub name: String,
    /// Its columns.
    pub columns: Vec<SheetColumn>,
}

/// Gives the next row of a sheet; `None` at the end.
pub type SheetRows<'a> = dyn FnMut() -> Result<Option<Vec<Value>>, SinkError> + 'a;

/// Told how far something is, and of how much; says whether to stop.
pub type Told<'a> = dyn FnMut(u64, u64) -> bool + 'a;

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
pub struct Limits {
    /// For a lock that somebody else holds.
    pub lock: Duration,
    /// For one statement to finish; `None` for as long as it takes.
    pub statement: Option<Duration>,
}

/// An engine.
pub trait Engine {
    /// The language of its texts.
    fn language(&self) -> &dyn Language;

    /// What a rollback does not take back, in words; nothing where it takes back all.
    fn survives_rollback(&self) -> &'static str {
        ""
    }

    /// Opens a database.
    ///
    /// # Errors
    /// When there is none, it is not one of this engine, or it cannot be reached.
    fn open(&self, address: &str, intent: Intent, waits: Limits) -> Result<Box<dyn Session>, EngineError>;
}

/// An open database. What a question has begun on the server to read in may last, with its locks, until the next one: see
/// [`Session::rest`].
pub trait Session {
    /// Which database it is.
    fn database(&self) -> &DatabaseId;

    /// From now on work is stopped when somebody asks for that, and silence is told.
    fn obey(&mut self, watch: &Watch);

    /// From now on `:name` in the texts of steps and checks stands for these values, which are bound and never pasted.
    ///
    /// # Errors
    /// Where the engine binds none.
    fn bind(&mut self, values: &[Bound]) -> Result<(), EngineError> {
        match values.first() {
            None => Ok(()),
            Some(first) => {
                Err(EngineError::Other(format!("this engine binds no parameters: {}", first.name)))
            }
        }
    }

    /// From now on statements are run under these settings of the session; before a transaction is begun.
    ///
    /// # Errors
    /// [`EngineError::Refused`] for a setting that a change may not make here, and for a value that the engine does not take.
    fn set_up(&mut self, settings: &[Setting]) -> Result<(), EngineError> {
        match settings.first() {
            None => Ok(()),
            Some(setting) => Err(EngineError::Other(format!("this engine takes no setting: {setting}"))),
        }
    }

    /// The column of a table that can be named here; `None` where there is no such table, or no such column.
    ///
    /// # Errors
    /// When the engine fails.
    fn column(
        &mut self,
        _schema: Option<&str>,
        _table: &str,
        _column: &str,
    ) -> Result<Option<Column>, EngineError> {
        Ok(None)
    }

    /// Makes a temporary table of a sheet, for as long as this session lasts; gives how many rows it has.
    ///
    /// # Errors
    /// [`EngineError::Refused`] where there is a table of that name; when the engine, or the source, fails.
    fn spread(&mut self, sheet: &SheetTable, _rows: &mut SheetRows<'_>) -> Result<u64, EngineError> {
        Err(EngineError::Other(format!("this engine takes no sheets: {}", sheet.name)))
    }

    /// From now on the rows of some tables are named by these columns, where the engine would have chosen others.
    fn name_by(&mut self, _names: &NamedBy) {}

    /// From now on the values of these columns are told by nothing that is made of their tables; `key` is what numbers of rows are made
    /// under.
    fn hide(&mut self, columns: &HiddenColumns, key: HashKey);

    /// What happened on opening that a person should know, such as an interrupted transaction that was rolled back.
    fn notes(&self) -> &[String];

    /// Hides in a plan what may show these columns (table and column), beside those that are hidden already.
    ///
    /// # Errors
    /// As [`Session::plan`].
    fn conceal(&mut self, _plan: &mut Plan, _also: &[(String, String)]) -> Result<(), EngineError> {
        Ok(())
    }

    /// How a table is named where writes of it are told, however somebody has typed its name; `None` where it stands for none.
    ///
    /// # Errors
    /// When the engine fails.
    fn shown_name(&mut self, _typed: &str) -> Result<Option<String>, EngineError> {
        Ok(None)
    }

    /// Whether the answer to a query may show a hidden column, or one of these, or a secret parameter. An engine that does not know
    /// says that it may, where anything is hidden.
    ///
    /// # Errors
    /// When the engine fails.
    fn discloses(&mut self, _query: &str, also: &[(String, String)]) -> Result<bool, EngineError> {
        Ok(!also.is_empty())
    }

    /// Ends on the server what earlier questions have begun, so that nothing is held while somebody else is waited for. To be called
    /// before a session that lives on is left alone; one that is dropped holds nothing.
    ///
    /// # Errors
    /// When the connection fails.
    fn rest(&mut self) -> Result<(), EngineError> {
        Ok(())
    }

    /// Lets a session that was opened to read write too, where the engine needs no other connection for that; `false` where it
    /// does.
    ///
    /// # Errors
    /// Where nothing can be written here: what opening it to write would have said.
    fn may_write(&mut self) -> Result<bool, EngineError> {
        Ok(false)
    }

    /// Understands a step: exactly one statement, in the engine's own language. Runs nothing. `allow` are the findings
    /// that are let pass: where a preview would have to run what nobody knows, it must be asked for by its name. `earlier`
    /// are the steps of the same change that will have run by then.
    ///
    /// # Errors
    /// [`EngineError::Refused`] with a finding for whatever is not taken or not wholly understood.
    fn plan(&mut self, source: &str, allow: &[Code], earlier: &[Plan]) -> Result<Plan, EngineError>;

    /// Lets `work` read the rows of plans and what they would become, all in one consistent view. Writes no real table, and
    /// holds no lock while rows are handed over.
    ///
    /// # Errors
    /// When the engine fails, or `work` does.
    fn view(&mut self, plans: &[&Plan], work: &mut Viewing<'_>) -> Result<(), EngineError>;

    /// What a step reads and writes, through views, subqueries, keys and triggers too.
    ///
    /// # Errors
    /// When the engine fails.
    fn touches(&mut self, plan: &Plan) -> Result<Touches, EngineError>;

    /// Adds to a plan that its rows are copied into a table before they go, with where each column goes; with `make` the table
    /// may not be there yet, and the plan says how it will be made.
    ///
    /// # Errors
    /// [`EngineError::Refused`] where they cannot be put away there, or could not be taken out again.
    fn archive(&mut self, _plan: &mut Plan, table: &str, _make: bool) -> Result<(), EngineError> {
        Err(EngineError::Other(format!("this engine puts no rows away: {table}")))
    }

    /// The same as [`Tx::make_archive`] where the engine makes no table inside a transaction: it is there from then on, whatever
    /// becomes of the run.
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

    /// Copies the whole database, as it stands now, into a new file; `told` is told how many pages are done, of how many, and says
    /// whether to stop. Gives the size of the file in bytes. A file that is there already is not written.
    ///
    /// # Errors
    /// Where the engine has no such copy, the file cannot be made, or it was stopped; a part of a file is taken away again.
    fn copy_database(&mut self, _file: &str, _told: &mut Told<'_>) -> Result<u64, EngineError> {
        let what = "only an embedded database is copied as a file; a server has means of its own";
        Err(EngineError::Other(what.to_owned()))
    }

    /// What a query reads that a change is checked by; runs nothing.
    ///
    /// # Errors
    /// [`EngineError::Refused`] for one that may do more than read; what the engine says of it.
    fn reads(&mut self, query: &str) -> Result<Touches, EngineError> {
        Err(EngineError::Other(format!("this engine asks no queries: {query}")))
    }

    /// Reads the first rows that a plan matches, in the order of the key, and gives the number of all of them. Holds
    /// nothing; after-values are not foreseen.
    ///
    /// # Errors
    /// When the engine fails, or the sink does.
    fn matched_rows(
        &mut self,
        plan: &Plan,
        limit: Option<u64>,
        sink: &mut RowSink<'_>,
    ) -> Result<u64, EngineError>;

    /// Looks closer at a step that was viewed, in bounded time: what is not answered soon is left out and said.
    ///
    /// # Errors
    /// When the connection fails.
    fn study(&mut self, plan: &Plan, wish: &Wish) -> Result<Study, EngineError>;

    /// Reads the first rows of a view that the condition of a statement on it lets through, in no order, and gives the
    /// number of all of them. The statement itself is never run.
    ///
    /// # Errors
    /// When there is no such view, when the condition is refused, or the engine or the sink fails.
    fn view_rows(
        &mut self,
        schema: Option<&str>,
        view: &str,
        statement: &str,
        limit: Option<u64>,
        sink: &mut RowSink<'_>,
    ) -> Result<u64, EngineError>;

    /// All tables and views, by name.
    ///
    /// # Errors
    /// When the engine fails.
    fn tables(&mut self) -> Result<Vec<TableSummary>, EngineError>;

    /// One table or view in full.
    ///
    /// # Errors
    /// When there is no such table.
    fn survey(&mut self, schema: Option<&str>, table: &str) -> Result<Survey, EngineError>;

    /// Whether a row with that identifier was left in a table by a transaction that has committed (see [`Tx::leave`]); `None` where
    /// nobody can say.
    ///
    /// # Errors
    /// When the connection fails.
    fn was_left(&mut self, _table: &str, _id: &str) -> Result<Option<bool>, EngineError> {
        Ok(None)
    }

    /// The newest rows of such a table, whoever left them, at most `most`: each value as text, in the order of its columns.
    ///
    /// # Errors
    /// What the engine says, such as that there is none.
    fn left(&mut self, table: &str, _most: u32) -> Result<Vec<Left>, EngineError> {
        Err(EngineError::Other(format!("this engine has no table {table} that runs leave rows in")))
    }

    /// The definition of such a table here, and makes it where that is wanted.
    ///
    /// # Errors
    /// What the engine says of it.
    fn table_to_leave_in(&mut self, table: &str, _make: bool) -> Result<String, EngineError> {
        Err(EngineError::Other(format!("this engine makes no table {table}")))
    }

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
    fn first_rows(&mut self, target: &Target, limit: u32) -> Result<Vec<Vec<Value>>, EngineError>;

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

    /// What putting rows back reaches, as far as definitions say.
    ///
    /// # Errors
    /// When the engine fails.
    fn restore_reach(&mut self, batch: &Batch) -> Result<Reach, EngineError>;

    /// Which tables can be put back as they were as a whole, whatever triggers make of them meanwhile: those of `known`, and
    /// those that triggers write. `own` are put back row by row.
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
