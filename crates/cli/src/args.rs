//! The arguments. No type of the parser's leaves this crate: each command turns its arguments into a plain request.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Parser, Subcommand, ValueEnum};
use marktwice_core::side::AlsoWrites;
use marktwice_core::{Code, Expect};
use marktwice_run::Show;

use crate::exit;

mod parse;

pub(crate) use parse::word;
use parse::{code, date, given, said, seconds, show};

/// Preview, snapshot, apply and undo a targeted UPDATE or DELETE.
///
/// Mark Twice shows exactly which rows a statement matches and what would change, keeps those rows, and applies the
/// statement in one transaction that commits only when everything turns out as previewed. Later it puts the rows
/// back exactly.
#[derive(Debug, Parser)]
#[command(name = "marktwice", version, after_help = exit::HELP, max_term_width = 110)]
pub(crate) struct Args {
    #[command(flatten)]
    pub(crate) common: Common,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Under what options stand in the help: what to change, what is expected, where, and how it is shown.
const WHAT: &str = "What to change";
/// See [`WHAT`].
const EXPECTED: &str = "What is expected";
/// See [`WHAT`].
const WHERE: &str = "Where";
/// See [`WHAT`].
const SHOWN: &str = "How it is shown";

/// Options of every command.
#[derive(Debug, ClapArgs)]
pub(crate) struct Common {
    /// The database: a path, a URL (sqlite:coop.db), or a name from marktwice.toml
    #[arg(help_heading = WHERE, long, global = true, value_name = "DATABASE", env = "MARKTWICE_ON", hide_env_values = true)]
    pub(crate) on: Option<String>,
    /// Whether the database was named on the command line itself.
    #[arg(skip)]
    pub(crate) on_is_said: bool,
    /// Whether the line names the logbook.
    #[arg(skip)]
    pub(crate) logbook_is_said: bool,
    /// Where marks, snapshots and receipts are kept
    #[arg(help_heading = WHERE, long, global = true, value_name = "DIR", env = "MARKTWICE_LOGBOOK", hide_env_values = true)]
    pub(crate) logbook: Option<PathBuf>,
    /// How results are written
    #[arg(help_heading = SHOWN, long, global = true, value_enum, default_value_t = Format::Human)]
    pub(crate) format: Format,
    /// When to use colour
    #[arg(help_heading = SHOWN, long, global = true, value_enum, default_value_t = Colour::Auto)]
    pub(crate) color: Colour,
    /// How long to wait for a lock that somebody else holds, in seconds [default: 5]
    #[arg(help_heading = WHERE, long, global = true, value_name = "SECONDS", value_parser = seconds)]
    pub(crate) wait: Option<f64>,
    /// How long one statement may take, in seconds; it is then stopped and rolled back [default: no limit]
    #[arg(help_heading = WHERE, long, global = true, value_name = "SECONDS", value_parser = seconds)]
    pub(crate) time_limit: Option<f64>,
    /// Say more: settings, hashes, places of files
    #[arg(help_heading = SHOWN, short, long, global = true)]
    pub(crate) verbose: bool,
}

impl Common {
    /// What a command that is printed to be run next must say of the database: the same as this one did, without a
    /// password.
    pub(crate) fn on_again(&self) -> String {
        let on = self.on.as_ref().filter(|_| self.on_is_said);
        let on = on.map(|on| format!(" --on {}", word(&marktwice_network::address::without_password(on))));
        let book = self.logbook.as_ref().filter(|_| self.logbook_is_said);
        let book = book.map(|folder| format!(" --logbook {}", word(&folder.display().to_string())));
        on.into_iter().chain(book).collect()
    }
}

/// How results are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    Human,
    /// One JSON document.
    Json,
}

/// When to use colour.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Colour {
    /// On a terminal, unless `NO_COLOR` is set.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// What to do with rows that changed since the run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Changed {
    /// Put nothing back.
    Stop,
    /// Leave those rows alone.
    Skip,
    /// Put the old values back all the same; other columns keep what they hold now.
    Overwrite,
}

/// What to do with rows that are gone.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Gone {
    /// Put nothing back.
    Stop,
    /// Leave them out.
    Skip,
    /// Bring them in again.
    Insert,
}

/// `compare`.
#[derive(Debug, ClapArgs)]
pub(crate) struct CompareArgs {
    /// One or two change files; - for standard input. One by itself is compared with its last preview
    #[arg(value_name = "CHANGE", num_args = 0..=2)]
    pub(crate) files: Vec<PathBuf>,
    /// The statement itself, in place of a change file; once or twice
    #[arg(help_heading = WHAT, long, value_name = "TEXT")]
    pub(crate) sql: Vec<String>,
    /// Let a finding that stops pass, by its code
    #[arg(help_heading = EXPECTED, long, value_name = "CODE", value_parser = code)]
    pub(crate) allow: Vec<Code>,
    /// A value for :name in the changes: NAME=VALUE; may be given more than once
    #[arg(help_heading = WHAT, long, value_name = "NAME=VALUE", value_parser = given)]
    pub(crate) with: Vec<(String, String)>,
    /// A value for :name in the changes, read from a file, or from standard input where that is -: NAME=FILE; may be given more than once
    #[arg(help_heading = WHAT, long, value_name = "NAME=FILE", value_parser = given)]
    pub(crate) with_file: Vec<(String, String)>,
    /// NULL for :name in the changes; may be given more than once
    #[arg(help_heading = WHAT, long, value_name = "NAME")]
    pub(crate) with_null: Vec<String>,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Look at the tables, or at one of them: columns, keys, what is unique in fact, references, rows
    #[command(
        after_long_help = "Examples:\n  marktwice look\n  marktwice look batch --where \"flower = 'lime' AND season = 2026\"\n  marktwice look keeper --values region"
    )]
    Look(LookArgs),
    /// Set columns of one row, by its key: shows the statement, previews it, asks, applies it
    #[command(
        after_long_help = "Examples:\n  marktwice set inspection 418 day=2026-05-11 --was day=2026-05-10\n  marktwice set hive 12 apiary=\"Whin Bank\" --yes"
    )]
    Set(SetArgs),
    /// Write a change file to start from, or the steps of a statement that is refused as one
    #[command(
        after_long_help = "Examples:\n  marktwice draft keeper --where \"region = 'Dale'\" --set region=Moor\n  marktwice draft keeper --rows-like 3,5,9 --set region=Moor --to moved.sql"
    )]
    Draft(DraftArgs),
    /// Show which rows a change matches and what would become of them; writes nothing
    #[command(
        after_long_help = "Examples:\n  marktwice preview changes/price.sql --html price.html\n  marktwice preview --sql \"UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5)\"\n  marktwice preview changes/price.sql --out price.twice"
    )]
    Preview(PreviewArgs),
    /// Compare two ways of writing a change: do they match the same rows, and give the same values?
    #[command(
        after_long_help = "Examples:\n  marktwice compare changes/region.sql changes/region_corrected.sql"
    )]
    Compare(CompareArgs),
    /// Run a change for real, constraints and triggers included, in a transaction that is always rolled back
    #[command(after_long_help = "Examples:\n  marktwice rehearse changes/apiary_given_up.sql")]
    Rehearse(PreviewArgs),
    /// Preview, ask, and apply in one transaction that commits only if everything turns out as previewed
    #[command(
        after_long_help = "Examples:\n  marktwice apply changes/region_corrected.sql\n  marktwice apply changes/region_corrected.sql --yes\n  marktwice apply price.twice --yes"
    )]
    Apply(ApplyArgs),
    /// Put the rows of a run back exactly as they were
    #[command(after_long_help = "Examples:\n  marktwice undo\n  marktwice undo --rows 12")]
    Undo(UndoArgs),
    /// Runs on this database, newest first, with which can still be undone
    #[command(after_long_help = "Examples:\n  marktwice history --table keeper --since 2026")]
    History(HistoryArgs),
    /// One run in full
    Receipt {
        /// The run, or a unique part of its name; the last run without one
        run: Option<String>,
        /// Write the rows of its snapshot, before and after, into this new file; - for standard output
        #[arg(help_heading = SHOWN, long, value_name = "FILE")]
        csv: Option<PathBuf>,
        /// Write texts to the letter, also those that a spreadsheet would run as formulas
        #[arg(help_heading = SHOWN, long, requires = "csv")]
        csv_raw: bool,
        /// Write a page for a second person into this new file, to be opened by any browser
        #[arg(help_heading = SHOWN, long, value_name = "FILE", conflicts_with = "csv")]
        html: Option<PathBuf>,
        /// How many rows to show of each step and table
        #[arg(help_heading = SHOWN, long, value_name = "N|all", default_value = "10", value_parser = show)]
        show: Show,
    },
    /// Remove the row contents of runs and keep their receipts; they cannot be undone any more
    Forget(ForgetArgs),
    /// Find out what became of runs that were cut off, or set one aside
    Settle(SettleArgs),
    /// Say what a finding means and what to do; all of them without a code
    Why {
        /// The code, as it stands in front of the finding
        code: Option<String>,
    },
    /// Write the manual pages and completions into a folder, for packages
    #[command(hide = true)]
    Pages {
        /// The folder
        folder: PathBuf,
    },
    /// Show the table in which each run leaves a row (witness = "TABLE" in marktwice.toml), and make it
    Witness {
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Make a key file, for snapshots that nobody can read without it (key_file = "FILE" under [logbook] in marktwice.toml)
    Key {
        /// The file to make
        file: PathBuf,
    },
    /// Say which database is meant, what guards it, and where that is written
    Where,
    /// Make the demo database and walk through one full example
    Demo {
        /// The folder to make
        #[arg(default_value = "marktwice-demo")]
        folder: PathBuf,
    },
}

/// What is to be changed.
#[derive(Debug, Clone, ClapArgs)]
pub(crate) struct ChangeArgs {
    /// A change file, or - for standard input; to apply also one that preview --out has written
    #[arg(value_name = "CHANGE", conflicts_with = "sql")]
    pub(crate) file: Option<PathBuf>,
    /// The statement itself
    #[arg(help_heading = WHAT, long, value_name = "TEXT")]
    pub(crate) sql: Option<String>,
    /// Expected matched rows: 12, 1-20, 1+, or all for every row of the table on purpose
    #[arg(help_heading = EXPECTED, long, value_name = "COUNT")]
    pub(crate) rows: Option<Expect>,
    /// Expected rows that really differ afterwards
    #[arg(help_heading = EXPECTED, long, value_name = "COUNT")]
    pub(crate) changes: Option<Expect>,
    /// Let a finding pass, by its code; may be given more than once
    #[arg(help_heading = EXPECTED, long, value_name = "CODE", value_parser = code)]
    pub(crate) allow: Vec<Code>,
    /// A table beside the target that is known to be written, by a trigger or a foreign key's action, and how many of its rows
    /// (TABLE=COUNT); may be given more than once
    #[arg(help_heading = EXPECTED, long, value_name = "TABLE")]
    pub(crate) also_writes: Vec<AlsoWrites>,
    /// A query that must give this value at the end of the transaction: "SELECT count(*) FROM batch WHERE price_per_kg > 40 = 0".
    /// The value is what stands behind the last equals sign; may be given more than once
    #[arg(help_heading = EXPECTED, long, value_name = "SQL = VALUE")]
    pub(crate) check: Vec<String>,
    /// A value for :name in the change: NAME=VALUE; may be given more than once
    #[arg(help_heading = WHAT, long, value_name = "NAME=VALUE", value_parser = given)]
    pub(crate) with: Vec<(String, String)>,
    /// A value for :name in the change, read from a file, or from standard input where that is -: NAME=FILE; may be given more than once
    #[arg(help_heading = WHAT, long, value_name = "NAME=FILE", value_parser = given)]
    pub(crate) with_file: Vec<(String, String)>,
    /// A spreadsheet as CSV that the change reads as a table of this name: NAME=FILE; may be given more than once
    #[arg(help_heading = WHAT, long, value_name = "NAME=FILE", value_parser = given)]
    pub(crate) sheet: Vec<(String, String)>,
    /// NULL for :name in the change; may be given more than once
    #[arg(help_heading = WHAT, long, value_name = "NAME")]
    pub(crate) with_null: Vec<String>,
    /// Make the table that archive_to names where it is not there, with the columns and the key of the rows
    #[arg(help_heading = WHAT, long)]
    pub(crate) make_archive: bool,
    /// A second run of a statement that was committed already is meant
    #[arg(help_heading = EXPECTED, long)]
    pub(crate) again: bool,
    /// Leave out the closer look at the table: funnel, near misses, what would pin the rows, subqueries
    #[arg(help_heading = SHOWN, long)]
    pub(crate) quick: bool,
    /// How many rows to show
    #[arg(help_heading = SHOWN, long, value_name = "N|all", default_value = "20", value_parser = show)]
    pub(crate) show: Show,
    /// Which columns to show besides the key and what changes: a,b
    #[arg(help_heading = SHOWN, long, value_name = "COLUMN", value_delimiter = ',', num_args = 1)]
    pub(crate) columns: Vec<String>,
}

/// Arguments of `look`.
#[derive(Debug, ClapArgs)]
pub(crate) struct LookArgs {
    /// The table; all of them without one
    pub(crate) table: Option<String>,
    /// Only rows for which this condition holds
    #[arg(help_heading = WHAT, long = "where", value_name = "CONDITION", requires = "table")]
    pub(crate) filter: Option<String>,
    /// The rows of a run: as they were, as it left them, and as they stand now; the last run without a name
    #[arg(long, value_name = "RUN", num_args = 0..=1, default_missing_value = "", conflicts_with = "table")]
    pub(crate) run: Option<String>,
    /// Only these columns of the rows: a,b
    #[arg(help_heading = SHOWN, long, value_name = "COLUMN", value_delimiter = ',', num_args = 1, requires = "table", conflicts_with_all = ["values", "run"])]
    pub(crate) columns: Vec<String>,
    /// What this column holds: every value with its rows; two columns (REGION,PHONE) give pairs
    #[arg(help_heading = SHOWN, long, value_name = "COLUMN", value_delimiter = ',', num_args = 1, requires = "table", conflicts_with_all = ["csv", "run"])]
    pub(crate) values: Vec<String>,
    /// Write the rows as CSV to standard output, and nothing else
    #[arg(help_heading = SHOWN, long)]
    pub(crate) csv: bool,
    /// Write texts to the letter, also those that a spreadsheet would run as formulas
    #[arg(help_heading = SHOWN, long, requires = "csv")]
    pub(crate) csv_raw: bool,
    /// What is written for NULL in CSV; without it an empty cell
    #[arg(help_heading = WHAT, long, value_name = "TEXT", requires = "csv", conflicts_with = "run")]
    pub(crate) null: Option<String>,
    /// Tell each row's state in a column of its own, so that draft --from notices rows that have changed meanwhile
    #[arg(help_heading = SHOWN, long, requires = "csv", conflicts_with = "run")]
    pub(crate) row_marks: bool,
    /// How many rows to show
    #[arg(help_heading = SHOWN, long, value_name = "N|all", default_value = "10", value_parser = show)]
    pub(crate) show: Show,
}

impl ChangeArgs {
    /// What an application of the same must say again: what was let pass and declared on the line.
    pub(crate) fn said_again(&self) -> String {
        let allow = self.allow.iter().map(|code| format!(" --allow {code}"));
        let also =
            self.also_writes.iter().map(|table| format!(" --also-writes {}", word(&table.to_string())));
        let check = self.check.iter().map(|check| format!(" --check {}", word(check)));
        let make = self.make_archive.then(|| " --make-archive".to_owned());
        let again = self.again.then(|| " --again".to_owned());
        allow.chain(also).chain(check).chain(make).chain(again).collect()
    }
}

/// Arguments of `set`.
#[derive(Debug, ClapArgs)]
pub(crate) struct SetArgs {
    /// The table
    pub(crate) table: String,
    /// The row: its key (418), all columns of it (hive_id=3,season=2026), or a unique column (email=ann@heather.example)
    #[arg(
        allow_hyphen_values = true,
        required_unless_present = "from",
        default_value = "",
        hide_default_value = true
    )]
    pub(crate) key: String,
    /// What to set: COLUMN=VALUE; NULL and DEFAULT are those words, and texts in single quotes ('NULL'). Without any, the row is
    /// opened as a form in your editor, and what differs afterwards is set
    #[arg(value_name = "COLUMN=VALUE")]
    pub(crate) sets: Vec<String>,
    /// What a column holds now, as far as you know: COLUMN=VALUE; where a row holds something else nothing is begun. Given
    /// again for the same column, one of the values will do
    #[arg(help_heading = EXPECTED, long, value_name = "COLUMN=VALUE", value_parser = said)]
    pub(crate) was: Vec<(String, String)>,
    /// Set the cells that were edited in this CSV file, which marktwice look TABLE --csv has written, row by row
    #[arg(help_heading = WHAT, long, value_name = "FILE", conflicts_with_all = ["key", "sets", "was", "several"])]
    pub(crate) from: Option<PathBuf>,
    /// What stands for NULL in that file
    #[arg(help_heading = WHAT, long, value_name = "TEXT", requires = "from")]
    pub(crate) null: Option<String>,
    /// Several keys are meant: 3,4,7, or hive_id=3,season=2026;hive_id=4,season=2026
    #[arg(help_heading = WHAT, long)]
    pub(crate) several: bool,
    /// Do not ask: what was agreed to is exactly the rows that the key names
    #[arg(help_heading = EXPECTED, long)]
    pub(crate) yes: bool,
    /// Ask inside the open transaction, with the outcome as it stands there; 60 s without an answer roll back
    #[arg(help_heading = EXPECTED, long, conflicts_with = "yes")]
    pub(crate) hold: bool,
    /// Let a finding pass, by its code; may be given more than once
    #[arg(help_heading = EXPECTED, long, value_name = "CODE", value_parser = code)]
    pub(crate) allow: Vec<Code>,
    /// A table beside this one that is known to be written, and how many of its rows (TABLE=COUNT); may be given more than once
    #[arg(help_heading = EXPECTED, long, value_name = "TABLE")]
    pub(crate) also_writes: Vec<AlsoWrites>,
    /// A second run of a statement that was committed already is meant
    #[arg(help_heading = EXPECTED, long)]
    pub(crate) again: bool,
}

/// Arguments of `draft`.
#[derive(Debug, ClapArgs)]
pub(crate) struct DraftArgs {
    /// The table
    #[arg(required_unless_present = "sql")]
    pub(crate) table: Option<String>,
    /// Which rows: a condition; the rows that it matches are counted
    #[arg(help_heading = WHAT, long = "where", value_name = "CONDITION")]
    pub(crate) filter: Option<String>,
    /// Which rows, by their keys (3,5,9, or hive_id=3,season=2026;hive_id=4,season=2026): conditions that hold for exactly these
    /// are looked for, or for the fewest others
    #[arg(help_heading = WHAT, long, value_name = "KEYS", conflicts_with = "filter", allow_hyphen_values = true)]
    pub(crate) rows_like: Option<String>,
    /// What to set: COLUMN=VALUE; may be given more than once
    #[arg(help_heading = WHAT, long = "set", value_name = "COLUMN=VALUE", conflicts_with = "delete")]
    pub(crate) sets: Vec<String>,
    /// Delete rows instead
    #[arg(help_heading = WHAT, long)]
    pub(crate) delete: bool,
    /// Write two steps that bring the table up to what this table says: what is there is updated, and what is not comes in
    #[arg(help_heading = WHAT, long, value_name = "TABLE", conflicts_with_all = ["filter", "rows_like", "sets", "delete"])]
    pub(crate) from_table: Option<String>,
    /// The columns of both tables that tell whether a row is there already (a,b); without them the table's own key
    #[arg(help_heading = WHAT, long, value_name = "COLUMN", value_delimiter = ',', num_args = 1, requires = "from_table")]
    pub(crate) key: Vec<String>,
    /// Write a change of the cells that were edited in this CSV file, which marktwice look TABLE --csv has written
    #[arg(help_heading = WHAT, long, value_name = "FILE", conflicts_with_all = ["filter", "rows_like", "sets", "delete", "from_table"])]
    pub(crate) from: Option<PathBuf>,
    /// What stands for NULL in that file
    #[arg(help_heading = WHAT, long, value_name = "TEXT", requires = "from")]
    pub(crate) null: Option<String>,
    /// What becomes of lines whose key no row has: insert them; without this they are refused
    #[arg(help_heading = WHAT, long, value_name = "insert", value_parser = ["insert"], requires = "from")]
    pub(crate) new_lines: Option<String>,
    /// A statement that is not taken as it is: write what to run instead, step by step
    #[arg(help_heading = WHAT, long, value_name = "TEXT", conflicts_with_all = ["table", "filter", "rows_like", "sets", "delete", "from_table"])]
    pub(crate) sql: Option<String>,
    /// Write into this file instead of to standard output; a file that is there is not overwritten
    #[arg(long, value_name = "FILE")]
    pub(crate) to: Option<PathBuf>,
}

/// Arguments of `preview`.
#[derive(Debug, ClapArgs)]
pub(crate) struct PreviewArgs {
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
    /// Write a page for a second person into this new file, to be opened by any browser
    #[arg(help_heading = SHOWN, long, value_name = "FILE")]
    pub(crate) html: Option<PathBuf>,
    /// Hand the change on with its mark, its sheets and what was said of it, in this new file (NAME.twice), for somebody else to apply
    #[arg(help_heading = SHOWN, long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
}

/// Arguments of `apply`.
#[derive(Debug, Clone, ClapArgs)]
pub(crate) struct ApplyArgs {
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
    /// Do not ask: what was agreed to is an expected count or a mark
    #[arg(help_heading = EXPECTED, long)]
    pub(crate) yes: bool,
    /// Hold the application to this mark (a preview's); without CHANGE, the mark's own statement
    #[arg(help_heading = EXPECTED, long, value_name = "ID")]
    pub(crate) mark: Option<String>,
    /// Ask inside the open transaction, with the outcome as it stands there; 60 s without an answer roll back
    #[arg(help_heading = EXPECTED, long, conflicts_with = "yes")]
    pub(crate) hold: bool,
    /// Make a table of this name of the matched rows as they are, in the same transaction (SQLite, PostgreSQL)
    #[arg(help_heading = EXPECTED, long, value_name = "NAME")]
    pub(crate) keep_copy: Option<String>,
    /// Copy the whole database into this new file before anything begins (SQLite)
    #[arg(help_heading = EXPECTED, long, value_name = "FILE")]
    pub(crate) copy_database: Option<PathBuf>,
}

/// Arguments of `settle`.
#[derive(Debug, ClapArgs)]
pub(crate) struct SettleArgs {
    /// The run; all that were cut off without one
    #[arg(value_name = "RUN", required_if_eq("aside", "true"))]
    pub(crate) run: Option<String>,
    /// Set the run aside: its outcome stays unknown, and it stands in nobody's way any more
    #[arg(long, requires = "reason")]
    pub(crate) aside: bool,
    /// Why it is set aside; kept in its receipt
    #[arg(long, value_name = "TEXT", requires = "aside")]
    pub(crate) reason: Option<String>,
}

/// Arguments of `history`.
#[derive(Debug, ClapArgs)]
pub(crate) struct HistoryArgs {
    /// Everybody's runs, as the witness in the database has them
    #[arg(long, conflicts_with_all = ["table", "outcome"])]
    pub(crate) shared: bool,
    /// Only runs whose title has this text
    #[arg(long, value_name = "TEXT")]
    pub(crate) title: Option<String>,
    /// Only runs on this table
    #[arg(long, value_name = "NAME")]
    pub(crate) table: Option<String>,
    /// Only runs that began on this day or later (2026-05-11, or the beginning of a day: 2026-05)
    #[arg(long, value_name = "DATE", value_parser = date)]
    pub(crate) since: Option<String>,
    /// Only runs that ended so
    #[arg(long, value_enum)]
    pub(crate) outcome: Option<Outcome>,
}

/// How a run ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Outcome {
    /// Committed.
    Committed,
    /// Rolled back.
    RolledBack,
    /// Committed, and taken back since.
    Undone,
    /// Not known.
    Unknown,
}

/// Arguments of `forget`.
#[derive(Debug, ClapArgs)]
pub(crate) struct ForgetArgs {
    /// The runs, by name or a unique part of it
    #[arg(required_unless_present = "before", conflicts_with = "before")]
    pub(crate) runs: Vec<String>,
    /// All runs that began before this day
    #[arg(long, value_name = "DATE", value_parser = date)]
    pub(crate) before: Option<String>,
    /// Do not ask
    #[arg(long)]
    pub(crate) yes: bool,
}

/// Arguments of `undo`.
#[derive(Debug, ClapArgs)]
pub(crate) struct UndoArgs {
    /// The run, or a unique part of its name; the last application that still stands without one
    pub(crate) run: Option<String>,
    /// Do not ask: the run is named, or an expected count is given
    #[arg(help_heading = EXPECTED, long)]
    pub(crate) yes: bool,
    /// Expected rows
    #[arg(help_heading = EXPECTED, long, value_name = "COUNT")]
    pub(crate) rows: Option<Expect>,
    /// What to do with rows that hold something else than the run left
    #[arg(help_heading = EXPECTED, long, value_enum, default_value_t = Changed::Stop)]
    pub(crate) changed: Changed,
    /// What to do with rows that are gone
    #[arg(help_heading = EXPECTED, long, value_enum, default_value_t = Gone::Stop)]
    pub(crate) gone: Gone,
    /// Put only the row with this key back, written as it is shown (418, or 12,2026); may be given more than once
    #[arg(help_heading = WHAT, long, value_name = "KEY")]
    pub(crate) only: Vec<String>,
    /// Let a finding pass, by its code; may be given more than once
    #[arg(help_heading = EXPECTED, long, value_name = "CODE", value_parser = code)]
    pub(crate) allow: Vec<Code>,
    /// Ask inside the open transaction
    #[arg(help_heading = EXPECTED, long, conflicts_with = "yes")]
    pub(crate) hold: bool,
    /// How many rows to show
    #[arg(help_heading = SHOWN, long, value_name = "N|all", default_value = "20", value_parser = show)]
    pub(crate) show: Show,
}
