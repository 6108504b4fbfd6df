//! The documents that the program gives with `--format json`, as types: their schemas are derived from these, and every document that
//! a test sees is read into them, strictly.

use std::collections::BTreeMap;

use schemars::{JsonSchema, Schema, schema_for};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

/// A value of a cell: null, a boolean, a number or a text where every reader keeps those, else an object with one tag (`int`, `real`,
/// `decimal`, `text_bytes`, `bytes`) and its text.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
#[allow(dead_code, reason = "only read")]
enum Cell {
    Plain(Option<Plain>),
    Tagged(Tagged),
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
#[allow(dead_code, reason = "only read")]
enum Plain {
    Truth(bool),
    Number(f64),
    Text(String),
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
#[allow(dead_code, reason = "only read")]
enum Tagged {
    /// An integer beyond 2^53.
    Int(String),
    /// `NaN`, `Infinity` or `-Infinity`.
    Real(String),
    /// An exact number, as the engine writes it.
    Decimal(String),
    /// A text that is not valid UTF-8, in base64.
    TextBytes(String),
    /// Bytes, in base64.
    Bytes(String),
}

type Row = BTreeMap<String, Cell>;

/// Declares documents and parts of them: fields in order, each strictly what it says.
macro_rules! parts {
    ($($(#[$about:meta])* $name:ident { $($(#[$of:meta])* $field:ident: $kind:ty,)* })*) => {
        $(
            $(#[$about])*
            #[derive(Debug, Deserialize, JsonSchema)]
            #[serde(deny_unknown_fields)]
            #[allow(dead_code, reason = "only read")]
            struct $name { $($(#[$of])* $field: $kind,)* }
        )*
    };
}

parts! {
    /// Which database.
    Database {
        engine: String, version: String,
        /// How it is called for people.
        name: String,
        /// What tells it from all others.
        identity: String,
        formerly: Option<Vec<String>>,
    }
    /// A row, before and after. Of an update `after` holds only the cells that differ.
    ShownRow { key: Vec<Cell>, before: Option<Row>, after: Option<Row>, }
    /// An expected count that is not met.
    Unmet { what: String, expected: Json, found: u64, }
    /// How the value of a column after the change is known.
    Foreseen {
        column: String,
        /// `exact`, `computed`, `unknown` or `rehearsed`.
        label: String,
        derived: bool, why: Option<String>,
    }
    /// A place in the user's text, from 1.
    Place { line: usize, column: usize, length: usize, text: String, }
    /// Something noticed.
    Finding {
        code: String,
        /// `stop`, `warn` or `note`.
        level: String,
        message: String, place: Option<Place>, hint: Option<String>,
        /// What can be written instead, asked of the engine.
        paste: Option<String>, paste_rows: Option<Json>,
        /// Whether it stops this change.
        stops: bool,
    }
    /// Totals of a numeric column.
    Total { column: String, before: Figures, after: Figures, }
    Figures { sum: Json, least: Json, greatest: Json, }
    /// Rows of one table that are written alike, besides the step's own.
    Along { kind: String, table: String, key: Vec<String>, matched: u64, rows: Vec<ShownRow>, }
    /// What an edit has gained or lost since the last preview of the same file.
    Since {
        preview: String, joined: u64, left: u64, changed: u64, result: u64, rows: Vec<MovedRow>, rows_only: bool,
        same_statement: bool,
    }
    MovedRow { key: Vec<Cell>, how: String, }
    Waits { step: usize, why: String, }
    /// The closer look at a step.
    CloserLook {
        funnel: Vec<Json>, partners: Vec<Json>, near: Vec<Json>, pins: Vec<Json>, kinds: Vec<Json>, leave_out: Option<String>,
        unbroken: Option<Json>, skipped: Option<String>, meanings: Vec<Meaning>,
    }
    /// What a value that refers to another row means.
    Meaning { column: String, value: Cell, name: String, }
    /// Target rows that several rows of a join match.
    Many { rows: u64, differing: u64, examples: Vec<ManyExample>, }
    ManyExample { key: Vec<Cell>, sources: Vec<BTreeMap<String, Option<String>>>, }
    /// Where rows are put away.
    Archive {
        table: String, schema: String, columns: Vec<String>, left_to_defaults: Json, made_by: Option<MadeBy>,
    }
    MadeBy { definition: String, in_transaction: bool, }
    AlreadyRun { run: String, when: String, }
    StaysNull { rows: u64, operands: Json, }
    /// A step of a change, previewed.
    Step {
        kind: String, table: String, key: Vec<String>, matched: u64, changes: Option<u64>, already_so: Option<u64>,
        foreseen: Vec<Foreseen>,
        /// Columns whose values are never shown.
        hidden: Vec<String>,
        rows: Vec<ShownRow>, totals: Vec<Total>, side_effects: Vec<Json>, along: Vec<Along>, findings: Vec<Finding>,
        unmet: Vec<Unmet>, checks: Vec<Json>, name: Option<String>, statement: String, told: bool, since: Option<Since>,
        waits: Vec<Waits>, pinned: Json, total: u64, total_is_reckoned: bool, out_of_reach: Option<u64>,
        closer_look: CloserLook, many_sources: Option<Many>, leave_out: Option<String>, archive: Option<Archive>,
        already_run: Option<AlreadyRun>, way_back: Json, stays_null: StaysNull,
    }
    /// Several steps on one table, together.
    InAll { table: String, updated: u64, equal: u64, inserted: u64, twice: Json, }
    /// A change, previewed.
    OfChange {
        database: Database, title: Option<String>, params: BTreeMap<String, Json>, session: BTreeMap<String, String>,
        in_all: Vec<InAll>, mark: Option<String>, rehearsed: bool, triggered: Vec<Along>, checks: Vec<Json>,
        steps: Vec<Step>, notes: Vec<String>,
    }
    Cells { column: String, expected: Cell, found: Cell, }
    NamedRow { key: Vec<Cell>, what: String, cells: Vec<Cells>, }
    /// Rows that cannot be put back.
    Conflicts { count: u64, rows: Vec<NamedRow>, }
    /// Rows that are not as they should be.
    Faults { count: u64, whole: Option<String>, rows: Vec<NamedRow>, }
    /// Rows that moved between two marks.
    Moved { joined: u64, left: u64, changed: u64, result: u64, elsewhere: u64, rows: Vec<MovedRow>, }
    /// Rows of one kind and table that go back.
    Batch {
        kind: String, table: String, key: Vec<String>, matched: u64, changes: Option<u64>, already_so: Option<u64>,
        foreseen: Vec<Foreseen>, hidden: Vec<String>, rows: Vec<ShownRow>, totals: Vec<Total>, side_effects: Vec<Json>,
        along: Vec<Along>, findings: Vec<Finding>, unmet: Vec<Unmet>, checks: Vec<Json>, step: usize,
        conflicts: Option<Conflicts>, left_alone: Option<Conflicts>, already_back: u64, not_asked: u64, renumbered: u64,
    }
    WholeTable { table: String, rows: Vec<Along>, left_alone: Option<Conflicts>, }
    LeftToTriggers { table: String, why: String, }
    /// An undo, previewed.
    OfUndo {
        database: Database, title: Option<String>, undo_of: String, rehearsed: bool, steps: Vec<Batch>,
        triggered: Vec<WholeTable>, left_to_triggers: Vec<LeftToTriggers>, unmet: Option<Unmet>, notes: Vec<String>,
    }
    /// `preview`.
    PreviewDocument {
        format: String, version: u32, status: u8, database: Database, title: Option<String>, params: BTreeMap<String, Json>,
        session: BTreeMap<String, String>, in_all: Vec<InAll>, mark: Option<String>, rehearsed: bool, triggered: Vec<Along>,
        checks: Vec<Json>, steps: Vec<Step>, notes: Vec<String>,
    }
    /// `rehearse`.
    RehearsalDocument {
        format: String, version: u32, status: u8, database: Database, title: Option<String>, params: BTreeMap<String, Json>,
        session: BTreeMap<String, String>, in_all: Vec<InAll>, mark: Option<String>, rehearsed: bool, triggered: Vec<Along>,
        checks: Vec<Json>, steps: Vec<Step>, notes: Vec<String>,
        /// How the application would end, where it would not come to its commit.
        would_end: Option<OutcomeDocument>,
    }
    /// How `apply`, `set` or `undo` ended.
    OutcomeDocument {
        format: String, version: u32, status: u8,
        /// `committed`, `rolled back` in one of its ways, `declined`, and so on.
        end: String,
        run: Option<String>, message: Option<String>, step: Option<usize>,
        /// What was shown before.
        preview: Option<Shown>,
        moved: Option<Moved>, conflicts: Option<Conflicts>, checks: Option<Json>, faults: Option<Faults>,
        receipt: Option<Receipt>, notes: Vec<String>,
    }
    /// A run's receipt, as on disk but for its checksum.
    Receipt {
        format: String, version: u32, run: String, kind: String, state: String, why: Option<String>, database: Database,
        title: Option<String>, reason: Option<String>, user: Option<String>, started: String, ended: Option<String>,
        partial: Option<bool>, undo_of: Option<String>, mark: Option<String>, previewed: Option<Previewed>, agreed: String,
        allowed: Option<Vec<String>>, findings: Option<Vec<Json>>, settings: Option<Vec<String>>,
        warnings: Option<Vec<String>>, changed_elsewhere: Option<Vec<String>>, rehearsed: Option<bool>, steps: Vec<Json>,
        copy: Option<Json>, kept_copy: Option<Json>, makes: Option<Vec<Json>>, params: Option<Json>,
        sheets: Option<Vec<Json>>, session: Option<Json>, checks: Option<Vec<Json>>, triggered: Option<Vec<Json>>,
        before: Option<String>, after: Option<String>, snapshot: Option<Snapshot>, token: Option<String>,
        witness: Option<Witness>, back: Option<Json>, undo_proof: Option<Json>, forgotten: Option<String>, origin: Option<String>,
    }
    Previewed { by: Option<String>, at: String, }
    Snapshot {
        file: String, bytes: u64, checksum: String, rows: u64,
        /// The public part of the key that it is encrypted for.
        encrypted_for: Option<String>,
    }
    Witness { table: String, id: String, }
    /// A run in the history.
    Entry {
        receipt: Receipt, undone_by: Option<String>, can_undo: bool, undone_in_part: Vec<UndoneInPart>,
        obstacle: Option<String>,
    }
    UndoneInPart { run: String, rows: u64, }
    /// `history`.
    HistoryDocument {
        format: String, version: u32, status: u8, database: Database, logbook_bytes: u64, runs: Vec<Entry>,
        notes: Vec<String>,
    }
    /// `history --shared`.
    SharedHistoryDocument { format: String, version: u32, status: u8, database: Database, witness: String, runs: Vec<Left>, }
    Left {
        id: String, run: String, kind: String, title: Option<String>, statement_hash: String, matched: u64, changed: u64,
        started: String, who: Option<String>, undo_of: Option<String>, own: bool, stands: bool,
    }
    /// `receipt`.
    ReceiptViewDocument {
        format: String, version: u32, status: u8, receipt: Receipt, undone_by: Option<String>, can_undo: bool,
        undone_in_part: Vec<UndoneInPart>, obstacle: Option<String>, first_rows: Vec<KeptRows>, among: Option<u64>,
        unread: Option<String>,
    }
    KeptRows {
        kind: String, table: String, key: Vec<String>, matched: u64, rows: Vec<ShownRow>, step: usize, role: String,
    }
    /// `settle`.
    SettleDocument { format: String, version: u32, status: u8, runs: Vec<Settled>, notes: Vec<String>, }
    Settled {
        run: String, verdict: String, record: Json, witnessed: Json, compared: Json, rows: Vec<Vec<Cell>>, why: Option<String>,
    }
    /// Whatever went wrong.
    ErrorDocument {
        format: String, version: u32, status: u8, database: Option<String>, code: Option<String>, message: String,
        file: Option<String>, place: Option<Place>, hint: Option<String>, paste: Option<String>, paste_rows: Option<Json>,
    }
    /// `why`.
    FindingsDocument { format: String, version: u32, status: u8, findings: Vec<Explained>, }
    Explained { code: String, level: String, why: String, what_to_do: String, can_be_allowed: bool, }
    /// `draft`.
    DraftDocument {
        format: String, version: u32, status: u8, database: String, text: String, common: Vec<Json>, skipped: Option<String>,
        written: Option<String>,
    }
    /// `look` without a table.
    TablesDocument { format: String, version: u32, status: u8, database: Database, tables: Vec<Json>, }
    /// `look TABLE`.
    LookDocument {
        format: String, version: u32, status: u8, database: Database, table: String, schema: String, columns: Vec<Column>,
        key: Json, declared: Json, view: Option<Json>, unique_in_fact: Vec<Vec<String>>, total: u64, skipped: Option<String>,
        notes: Vec<String>,
        /// The condition, as it was run.
        #[serde(rename = "where")]
        condition: Option<String>,
        /// When it was read.
        read: String,
        rows: Vec<LookedRow>, matched: u64,
    }
    Column {
        name: String,
        #[serde(rename = "type")]
        declared: String,
        generated: Option<bool>, not_null: Option<bool>,
    }
    LookedRow { key: Vec<Cell>, row: Row, }
    /// `look --run`.
    RowsOfRunDocument {
        format: String, version: u32, status: u8, database: Database, run: String, committed: Option<String>,
        undone_by: Option<String>, tables: Vec<AgainTable>,
    }
    AgainTable {
        step: usize, table: String, role: String, key: Vec<String>, as_left: u64, as_before: u64, changed: u64, gone: u64,
        there: u64, later: Json, rows: Vec<AgainRow>, why: Option<String>,
    }
    AgainRow {
        key: Vec<Cell>, before: Option<Row>, left: Option<Row>, now: Option<Row>, stands: String, changed_since: Vec<String>,
    }
    /// `look TABLE --values COLUMN`.
    ValuesDocument {
        format: String, version: u32, status: u8, database: Database, table: String, columns: Vec<String>, matched: u64,
        read: u64, every: Option<Every>, different: u64, untold: u64, values: Vec<Group>, spread: Option<Spread>,
    }
    Every { nth: u64, of: String, }
    Group { values: Vec<Cell>, rows: u64, alike: bool, }
    Spread { least: Cell, quarter: Cell, half: Cell, three_quarters: Cell, greatest: Cell, bars: Vec<Bar>, }
    Bar { from: f64, rows: u64, }
    /// `where`.
    WhereDocument {
        format: String, version: u32, status: u8, address: String, name: Option<String>, file: Option<String>,
        variable: Option<String>, logbook: String, guarded: bool, mark_within: Option<u64>, most_rows: Option<u64>,
        witness: Option<String>, hide: Vec<String>, key_file: Option<String>, wait: f64, time_limit: Option<f64>,
        files: Vec<String>, others: Vec<String>,
    }
    /// `witness`.
    WitnessDocument { format: String, version: u32, status: u8, table: String, definition: String, made: bool, }
    /// `key`.
    KeyDocument { format: String, version: u32, status: u8, file: String, key: String, }
    Difference {
        kind: String, table: String, matched: Json, only: Json, otherwise: u64, rows: Vec<DifferentRow>,
        not_compared: Vec<NotCompared>, waits: Option<String>, same_statement: bool, same: bool,
    }
    DifferentRow { key: Vec<Cell>, first: Option<Images>, second: Option<Images>, }
    Images { before: Option<Row>, after: Option<Row>, }
    NotCompared { column: String, why: String, }
    /// `compare` of two changes.
    ComparisonOfTwo {
        format: String, version: u32, status: u8, database: Database, changes: Vec<String>, steps: Vec<Difference>, same: bool,
        notes: Vec<String>,
    }
    /// `compare` of a file with its last preview.
    ComparisonWithLast {
        format: String, version: u32, status: u8, database: Database, title: Option<String>, params: BTreeMap<String, Json>,
        session: BTreeMap<String, String>, in_all: Vec<InAll>, mark: Option<String>, rehearsed: bool, triggered: Vec<Along>,
        checks: Vec<Json>, steps: Vec<Step>, notes: Vec<String>, change: String, compared_with: Option<String>, same: bool,
    }
}

/// What was shown before a question: a change, or an undo.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
#[allow(dead_code, reason = "only read")]
enum Shown {
    Change(Box<OfChange>),
    Undo(Box<OfUndo>),
}

/// `compare`.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(untagged)]
#[allow(dead_code, reason = "only read")]
enum ComparisonDocument {
    Two(Box<ComparisonOfTwo>),
    Last(Box<ComparisonWithLast>),
}

/// A format: how its documents are read, and its schema.
type Kind = (&'static str, fn(&Json) -> Result<(), String>, fn() -> Schema);

fn reads<T: DeserializeOwned>(document: &Json) -> Result<(), String> {
    T::deserialize(document).map(drop).map_err(|error| error.to_string())
}

macro_rules! kinds {
    ($($format:literal: $kind:ty,)*) => {
        [$(($format, reads::<$kind> as fn(&Json) -> Result<(), String>, (|| schema_for!($kind)) as fn() -> Schema),)*]
    };
}

/// All formats of documents.
fn kinds() -> Vec<Kind> {
    kinds! {
        "marktwice-preview": PreviewDocument,
        "marktwice-rehearsal": RehearsalDocument,
        "marktwice-apply": OutcomeDocument,
        "marktwice-set": OutcomeDocument,
        "marktwice-undo": OutcomeDocument,
        "marktwice-comparison": ComparisonDocument,
        "marktwice-history": HistoryDocument,
        "marktwice-shared-history": SharedHistoryDocument,
        "marktwice-receipt-view": ReceiptViewDocument,
        "marktwice-settle": SettleDocument,
        "marktwice-error": ErrorDocument,
        "marktwice-findings": FindingsDocument,
        "marktwice-draft": DraftDocument,
        "marktwice-tables": TablesDocument,
        "marktwice-look": LookDocument,
        "marktwice-rows-of-run": RowsOfRunDocument,
        "marktwice-values": ValuesDocument,
        "marktwice-where": WhereDocument,
        "marktwice-witness": WitnessDocument,
        "marktwice-key": KeyDocument,
    }
    .into()
}

/// Fails where a document of the program is not what its schema says.
///
/// # Errors
/// What is wrong with it; also where its format is not known.
pub fn fits(document: &Json) -> Result<(), String> {
    let Some(format) = document.get("format").and_then(Json::as_str).filter(|f| f.starts_with("marktwice-"))
    else {
        return Ok(());
    };
    let all = kinds();
    let (_, read, _) =
        all.iter().find(|(name, ..)| *name == format).ok_or(format!("{format} has no schema"))?;
    read(document).map_err(|error| format!("{format}: {error}"))
}

/// The schema of each format, as it is kept in `docs/schema`.
pub fn schemas() -> Vec<(&'static str, String)> {
    let text = |(format, _, schema): Kind| {
        let mut schema = schema();
        schema.insert("title".to_owned(), format.into());
        (format, format!("{:#}\n", schema.to_value()))
    };
    kinds().into_iter().map(text).collect()
}
