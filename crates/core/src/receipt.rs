//! Receipts: the record of one run, and the states it passes through.

use serde::{Deserialize, Serialize};

use crate::along::AlongReceipt;
use crate::archive::Making;
use crate::asked::QueryFound;
use crate::change::Terms;
use crate::check::CheckFound;
use crate::finding::{Code, Finding};
use crate::hash::Fingerprint;
use crate::mark::StepKind;
use crate::secret::Secrets;
use crate::sheet::Sheet;
use crate::side::SideWrite;
use crate::triggered::TriggeredReceipt;
use crate::way_back::WayBack;

/// What a receipt calls its format.
pub const RECEIPT_FORMAT: &str = "marktwice-receipt";
/// The version of the receipt format that this program writes, and the newest it reads.
///
/// Version 1: the first. Version 2: the state `set-aside`; `back`, `schema`, and what else moved in that nobody had to know.
///
/// Version 3: several steps; what makes a commit less than safe, what was written besides, and what somebody else had changed
/// since the preview stand by themselves, no more among the settings.
pub const RECEIPT_VERSION: u32 = 3;

/// What kind of run it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RunKind {
    /// A change was applied.
    Apply,
    /// A run was taken back.
    Undo,
}

/// Where a run stands. Only `prepared`, `committing` and the final states decide anything.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RunState {
    /// Begun; COMMIT was not asked for. Found after a death, it means: rolled back.
    Prepared,
    /// All was proven and COMMIT was about to be asked for. Found after a death, it needs settling.
    Committing,
    /// Committed.
    Committed,
    /// Rolled back, or never begun in the database.
    RolledBack,
    /// Nobody can tell, and a person has set it aside.
    SetAside,
}

impl RunState {
    /// Whether nothing came of it.
    pub fn is_rolled_back(self) -> bool {
        self == RunState::RolledBack
    }

    /// Whether the outcome is known.
    pub fn is_final(self) -> bool {
        matches!(self, RunState::Committed | RunState::RolledBack | RunState::SetAside)
    }

    /// How it is called.
    pub fn as_str(self) -> &'static str {
        match self {
            RunState::Prepared => "prepared",
            RunState::Committing => "committing",
            RunState::Committed => "committed",
            RunState::RolledBack => "rolled back",
            RunState::SetAside => "set aside",
        }
    }
}

/// Which database a run was on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct DatabaseId {
    /// The engine's name, such as `SQLite`.
    pub engine: String,
    /// The engine's version.
    pub version: String,
    /// How the database is shown to people, without any secret.
    pub name: String,
    /// What tells this database from every other, wherever a command is started; no secret in it.
    pub identity: String,
    /// Other identities under which the same database has been, or may have been, known: of one node of a cluster, say.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub formerly: Vec<String>,
}

/// One step of a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepReceipt {
    /// What it does.
    pub kind: StepKind,
    /// The table it writes.
    pub table: String,
    /// The schema that it is in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<String>,
    /// The statement as it was executed, character for character; for an undo a sentence in words.
    pub statement: String,
    /// Hash of the statement's tokens: the same for any layout, comments and letter case of keywords.
    pub statement_hash: String,
    /// Hash of the table's definition.
    pub definition: String,
    /// What was expected of it.
    #[serde(flatten)]
    pub terms: Terms,
    /// Rows that matched inside the transaction.
    #[serde(default)]
    pub matched: u64,
    /// Rows that differ afterwards.
    #[serde(default)]
    pub changed: u64,
    /// What the engine itself counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub engine_count: Option<u64>,
    /// What was written outside its rows, and was let pass.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also_written: Vec<SideWrite>,
    /// Rows of this and other tables that foreign keys' actions took along; they are in the snapshot.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub along: Vec<AlongReceipt>,
    /// The other rows of the table, where it is proven that none of them was written: the engine wrote no more rows than were
    /// verified one by one, the table has as many rows as it should, and nothing else wrote it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub untouched: Option<u64>,
    /// Whether their number is reckoned.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub about: bool,
    /// The keys of the rows that came in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub came: Option<Came>,
    /// What its checks have found, once its statement had run.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<CheckFound>,
}

/// The keys of rows that came in, the first ones.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Came {
    /// The columns of the key.
    pub columns: Vec<String>,
    /// Its values, row by row.
    pub keys: Vec<Vec<serde_json::Value>>,
}

/// The snapshot that belongs to a run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SnapshotRef {
    /// File name inside the run's folder.
    pub file: String,
    /// Size in bytes.
    pub bytes: u64,
    /// BLAKE3 of the file, in hexadecimal.
    pub checksum: String,
    /// Rows in it.
    pub rows: u64,
    /// The public part of the key that it is encrypted for, where it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub encrypted_for: Option<String>,
}

/// What is known of the undo of a run when it commits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "is", content = "why")]
pub enum UndoProof {
    /// It was carried out after the change, every row was compared, and all of it was taken back.
    Proven,
    /// Nothing in the definitions leaves doubt, so it was not tried.
    Expected,
    /// It could not be tried, for this reason.
    NotTried(String),
    /// It was tried and fails, for this reason.
    Fails(String),
}

impl UndoProof {
    /// Why an undo is known to fail.
    pub fn fails(&self) -> Option<&str> {
        match self {
            UndoProof::Fails(why) => Some(why),
            UndoProof::Proven | UndoProof::Expected | UndoProof::NotTried(_) => None,
        }
    }

    /// In one sentence.
    pub fn in_words(&self) -> String {
        match self {
            UndoProof::Proven => {
                "proven: it was run after the change, every row was compared, and all of it was rolled back"
                    .to_owned()
            }
            UndoProof::Expected => {
                "expected to work: no trigger, check or foreign key is involved".to_owned()
            }
            UndoProof::NotTried(why) => format!("not tried: {why}"),
            UndoProof::Fails(why) => format!("fails: {why}"),
        }
    }
}

/// Where a run leaves its row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Witness {
    /// The table, with its schema where that was said.
    pub table: String,
    /// What tells its row from all others: 32 hexadecimal digits.
    pub id: String,
}

/// Who previewed a change and when: as that machine told, which proves nothing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Previewed {
    /// The user's name there.
    pub by: Option<String>,
    /// When the mark was taken, UTC, RFC 3339.
    pub at: String,
}

/// The record of one run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Receipt {
    /// Always `marktwice-receipt`.
    pub format: String,
    /// See [`RECEIPT_VERSION`].
    pub version: u32,
    /// The run's short name.
    pub run: String,
    /// What kind of run.
    pub kind: RunKind,
    /// Where it stands.
    pub state: RunState,
    /// Why it stands there, when that needs a reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Which database.
    pub database: DatabaseId,
    /// The change's title.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// The change's reason.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// Who ran it, as the operating system says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub user: Option<String>,
    /// When it began, UTC, RFC 3339.
    pub started: String,
    /// When its outcome was known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended: Option<String>,
    /// Whether an undo left rows of the run as they are: then the run still stands in part.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub partial: bool,
    /// The run that an undo takes back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undo_of: Option<String>,
    /// The mark that was agreed to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mark: Option<String>,
    /// Who had previewed it elsewhere, where it was handed over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub previewed: Option<Previewed>,
    /// How it was agreed to: `answered`, `expected count` or `mark`.
    pub agreed: String,
    /// What was let pass.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub allowed: Vec<Code>,
    /// What was noticed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub findings: Vec<Finding>,
    /// Engine settings that were seen or made, such as how durable a commit is.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub settings: Vec<String>,
    /// What makes a commit less than safe on this server.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<String>,
    /// What somebody else had changed since the preview, in columns that do not matter to the change.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changed_elsewhere: Vec<String>,
    /// Whether the marks that were agreed to come from a rehearsal.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub rehearsed: bool,
    /// The steps, in order.
    pub steps: Vec<StepReceipt>,
    /// The copy of the whole database that was made before: its file, and its size in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copy: Option<(String, u64)>,
    /// The table that was made of the rows as they were, and how many it holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kept_copy: Option<(String, u64)>,
    /// Tables that the run makes for rows that it puts away.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub makes: Vec<Making>,
    /// Its parameters by name: what each is, and its value.
    #[serde(default, skip_serializing_if = "serde_json::Map::is_empty")]
    pub params: serde_json::Map<String, serde_json::Value>,
    /// Spreadsheets that it read as tables.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sheets: Vec<Sheet>,
    /// What checks of the whole change have found.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<QueryFound>,
    /// What triggers and routines have written in other tables; `None` in receipts of before such rows were held.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub triggered: Option<Vec<TriggeredReceipt>>,
    /// Where it leaves a row in its own transaction.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub witness: Option<Witness>,
    /// What tells the engine's transaction, where it has such a thing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// Over all marked rows before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Fingerprint>,
    /// Over all marked rows after.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Fingerprint>,
    /// The snapshot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub snapshot: Option<SnapshotRef>,
    /// Whether and how an undo will succeed, as it was judged before the run was agreed to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back: Option<WayBack>,
    /// Whether the undo was tried, and how that ended; `None` for an undo, and in receipts of before it was tried.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undo_proof: Option<UndoProof>,
    /// When the snapshot was removed on request; from then on the run cannot be taken back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub forgotten: Option<String>,
}

impl Receipt {
    /// Takes secrets out of everything that was said: what was noticed, what checks found, why it ended.
    pub fn scrub(&mut self, secrets: &Secrets) {
        if secrets.is_empty() {
            return;
        }
        let clean = |text: &mut String| *text = secrets.scrub(text);
        let said = self.why.iter_mut().chain(&mut self.warnings).chain(&mut self.changed_elsewhere);
        said.for_each(clean);
        for finding in &mut self.findings {
            clean(&mut finding.message);
            finding.hint.iter_mut().for_each(clean);
        }
        for check in &mut self.checks {
            clean(&mut check.said);
            let answers = check.before.iter_mut().chain(&mut check.found);
            answers.flat_map(|answer| answer.rows.iter_mut().flatten().flatten()).for_each(clean);
        }
        let found = self.steps.iter_mut().flat_map(|step| &mut step.checks);
        let reads = found.flat_map(|check| &mut check.first).flat_map(|failing| &mut failing.reads);
        reads.filter_map(|(_, value)| value.as_mut()).for_each(clean);
    }

    /// The first receipt of a run, `prepared`, with nothing in it that only some runs have.
    pub fn prepared(
        run: &str,
        kind: RunKind,
        database: &DatabaseId,
        started: String,
        steps: Vec<StepReceipt>,
    ) -> Receipt {
        Receipt {
            format: RECEIPT_FORMAT.to_owned(),
            version: RECEIPT_VERSION,
            run: run.to_owned(),
            kind,
            state: RunState::Prepared,
            why: None,
            database: database.clone(),
            title: None,
            reason: None,
            user: None,
            started,
            ended: None,
            partial: false,
            undo_of: None,
            mark: None,
            previewed: None,
            witness: None,
            agreed: String::new(),
            allowed: Vec::new(),
            findings: Vec::new(),
            settings: Vec::new(),
            warnings: Vec::new(),
            changed_elsewhere: Vec::new(),
            rehearsed: false,
            steps,
            copy: None,
            kept_copy: None,
            makes: Vec::new(),
            params: serde_json::Map::new(),
            sheets: Vec::new(),
            checks: Vec::new(),
            triggered: None,
            token: None,
            before: None,
            after: None,
            snapshot: None,
            back: None,
            undo_proof: None,
            forgotten: None,
        }
    }

    /// The receipt of a run of which nothing is known but its name.
    pub fn unknown(run: &str, database: &DatabaseId, now: String) -> Receipt {
        Receipt {
            state: RunState::Committing,
            ..Receipt::prepared(run, RunKind::Apply, database, now, Vec::new())
        }
    }

    /// A receipt of an older version as this one would have it: what stood among the settings in words has its own place.
    #[must_use]
    pub fn upgraded(mut self) -> Receipt {
        if self.version < 3 {
            for said in std::mem::take(&mut self.settings) {
                if let Some(warning) = said.strip_prefix("warning: ") {
                    self.warnings.push(warning.to_owned());
                } else if said.starts_with("since the preview somebody changed ") {
                    self.changed_elsewhere.push(said);
                } else {
                    self.settings.push(said);
                }
            }
            self.version = RECEIPT_VERSION;
        }
        self
    }

    /// Matched and changed rows over all steps.
    pub fn rows(&self) -> (u64, u64) {
        self.steps.iter().fold((0, 0), |(matched, changed), s| (matched + s.matched, changed + s.changed))
    }

    /// Rows that its steps took along.
    pub fn along(&self) -> u64 {
        self.steps.iter().flat_map(|s| &s.along).map(|a| a.deleted + a.changed).sum()
    }

    /// Rows that triggers and routines wrote, where they are in the snapshot.
    pub fn triggered(&self) -> u64 {
        self.triggered.iter().flatten().map(TriggeredReceipt::rows).sum()
    }

    /// Whether this run can be taken back as far as its own record goes.
    pub fn can_be_undone(&self) -> bool {
        self.state == RunState::Committed
            && self.forgotten.is_none()
            && (self.steps.iter().any(|s| s.changed > 0) || self.triggered() > 0)
    }
}
