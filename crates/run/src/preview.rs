//! What a preview tells: of a change step by step, of an undo batch by batch.

use marktwice_core::along::Along;
use marktwice_core::archive::Archive;
use marktwice_core::asked::QueryFound;
use marktwice_core::change::Setting;
use marktwice_core::check::CheckFound;
use marktwice_core::many::Many;
use marktwice_core::mark::{Foreseen, HeldRow, Label, StepKind};
use marktwice_core::moved::Moved;
use marktwice_core::param::Param;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::secret::hide_image;
use marktwice_core::side::{ELSEWHERE, SideWrite};
use marktwice_core::steps::Dependence;
use marktwice_core::study::Study;
use marktwice_core::table::{Extent, Pin, Target};
use marktwice_core::totals::ColumnTotals;
use marktwice_core::way_back::WayBack;
use marktwice_core::{Code, Expect, Finding, Image, Value};

use crate::faults::Conflicts;

/// How many rows are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Show {
    /// So many of each step.
    First(usize),
    /// All of them.
    All,
}

/// Bytes of values after which no more of the first rows are shown: a person reads none of them to the end.
const HEAVY: usize = 16 << 20;

impl Show {
    /// How many at most.
    pub fn most(self) -> usize {
        match self {
            Show::First(most) => most,
            Show::All => usize::MAX,
        }
    }

    /// For each of many tables, where a step's own rows are one.
    pub(crate) fn of_many(self) -> Show {
        match self {
            Show::First(most) => Show::First(most.div_ceil(4)),
            Show::All => Show::All,
        }
    }

    /// Whether one more row is shown behind those that are.
    pub(crate) fn wants(self, shown: &[ShownRow]) -> bool {
        match self {
            Show::First(most) => {
                shown.len() < most && shown.iter().map(|row| row.image.weight()).sum::<usize>() < HEAVY
            }
            Show::All => true,
        }
    }
}

/// One row to show.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShownRow {
    /// Its key.
    pub key: Vec<Value>,
    /// What it holds and what it would become.
    pub image: Image,
}

impl ShownRow {
    pub(crate) fn of(row: &HeldRow) -> ShownRow {
        ShownRow { key: row.key.clone(), image: row.image.clone() }
    }

    /// Whether anything is foreseen to change.
    pub fn changes(&self) -> bool {
        self.image.differs()
    }
}

/// An expected count that is not met.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unmet {
    /// `rows` or `changes`.
    pub what: &'static str,
    /// What was expected.
    pub expected: Expect,
    /// What is.
    pub found: u64,
}

/// Rows of one table that are written together: those of a step, or of a batch of an undo.
#[derive(Debug, Clone)]
pub struct Block {
    /// What is done to them.
    pub kind: StepKind,
    /// Their table.
    pub target: Target,
    /// Columns that may change, and how their after-values are known.
    pub foreseen: Vec<Foreseen>,
    /// Everything that was noticed.
    pub findings: Vec<Finding>,
    /// What was let pass.
    pub allowed: Vec<Code>,
    /// How many they are.
    pub matched: u64,
    /// How many would change, as far as it is known.
    pub changes: u64,
    /// The first of them.
    pub rows: Vec<ShownRow>,
    /// Totals of numeric columns that change.
    pub totals: Vec<ColumnTotals>,
    /// Writes outside of them.
    pub side: Vec<SideWrite>,
    /// Rows of other tables, and others of this one, that they take along: those that go and those that stay by themselves.
    pub along: Vec<Block>,
    /// Expected counts that are not met.
    pub unmet: Vec<Unmet>,
    /// What checks of each row have found.
    pub checks: Vec<CheckFound>,
    /// What values refer to: column, value, and the name of the row it refers to.
    pub meanings: Vec<(usize, Value, String)>,
    /// Columns that the filter names.
    pub filter: Vec<usize>,
    /// Columns that assigned expressions read, and that are shown for nothing else.
    pub operands: Vec<usize>,
    /// The columns that were asked for, besides the key and what changes.
    pub chosen: Option<Vec<usize>>,
}

impl Block {
    /// Rows that are taken along, of one table and all of them written alike.
    pub(crate) fn along(along: &Along, kind: StepKind, count: u64, rows: Vec<ShownRow>) -> Block {
        Block {
            kind,
            target: along.target.clone(),
            foreseen: if kind == StepKind::Update { along.foreseen.clone() } else { Vec::new() },
            findings: Vec::new(),
            allowed: Vec::new(),
            matched: count,
            changes: count,
            rows,
            totals: Vec::new(),
            side: Vec::new(),
            along: Vec::new(),
            unmet: Vec::new(),
            checks: Vec::new(),
            meanings: Vec::new(),
            filter: Vec::new(),
            operands: Vec::new(),
            chosen: None,
        }
    }

    /// Hides what is hidden of its rows, and of those that they take along.
    pub(crate) fn hide(&mut self) {
        for row in &mut self.rows {
            row.key = self.target.shown_key(&row.key);
            row.image = hide_image(&self.target, row.image.clone());
        }
        self.along.iter_mut().for_each(Block::hide);
        self.checks.iter_mut().for_each(|check| check.hide(&self.target));
    }

    /// Checks that do not hold.
    pub fn failing(&self) -> Vec<CheckFound> {
        self.checks.iter().filter(|check| check.failing > 0).cloned().collect()
    }

    /// Whether some after-values are not known before the run.
    pub fn uncertain(&self) -> bool {
        self.foreseen.iter().any(|f| f.label == Label::Unknown)
    }

    /// The findings that stop it.
    pub fn stops(&self) -> Vec<Code> {
        let stops = self.findings.iter().filter(|f| f.stops(&self.allowed));
        let mut codes: Vec<Code> = stops.map(|f| f.code).collect();
        codes.dedup();
        codes
    }
}

/// What an edit of a file has made of a step's rows.
#[derive(Debug, Clone)]
pub struct Since {
    /// When the earlier preview was taken, UTC, RFC 3339.
    pub taken: String,
    /// Rows that joined, left, or hold or would hold other values.
    pub moved: Moved,
    /// Whether only which rows they are could be compared, since the statement looks at other columns.
    pub rows_only: bool,
    /// Whether the statement is the same.
    pub same_text: bool,
}

/// The preview of one step.
#[derive(Debug, Clone)]
pub struct StepPreview {
    /// Its rows.
    pub block: Block,
    /// What the step is called, where the change says so.
    pub name: Option<String>,
    /// The statement.
    pub statement: String,
    /// Rows that would come in and hold what others of them do in a key.
    pub twice: u64,
    /// The statement as it is sent, where that is another text.
    pub sent: Option<String>,
    /// Whether its rows come from other tables, or are joined with them.
    pub elsewhere: bool,
    /// What pins the rows.
    pub pin: Pin,
    /// Why its rows can only be told by a rehearsal; empty for a step that stands by itself.
    pub waits: Vec<Dependence>,
    /// What has become of its rows since the last preview of the same file.
    pub since: Option<Since>,
    /// Whether its rows were told: looked at, or rehearsed.
    pub told: bool,
    /// Where its rows are put away before they go.
    pub archive: Option<Archive>,
    /// What a closer look has found.
    pub study: Study,
    /// Rows of the whole target.
    pub total: Extent,
    /// Rows that several rows of a join match.
    pub many: Option<Many>,
    /// The run of the same statement that stands committed, with its time.
    pub already_run: Option<(String, String)>,
    /// Whether and how an undo will succeed.
    pub back: WayBack,
    /// Whether triggers are set off, also where no row would change.
    pub fires: bool,
    /// Rows that stay NULL because an operand is NULL, and the columns that are.
    pub stays_null: (u64, Vec<String>),
}

impl StepPreview {
    /// Whether nothing would be done.
    pub fn nothing_to_do(&self) -> bool {
        let block = &self.block;
        // What a trigger does, or a right that is missing, is met all the same.
        let silent = !self.fires && !block.findings.iter().any(|f| f.code == Code::MissingPrivilege);
        self.told && silent && (block.matched == 0 || (block.changes == 0 && !block.uncertain()))
    }

    /// The other rows of the table, where nothing that is known of the statement reaches them: no trigger, no foreign key's
    /// action and no routine that writes the table, and nothing of which nobody can say what it writes.
    pub fn out_of_reach(&self) -> Option<Extent> {
        let block = &self.block;
        let own = |write: &SideWrite| {
            let bare = write.table.rsplit('.').next().unwrap_or(&write.table);
            bare.eq_ignore_ascii_case(&block.target.table)
                || write.table.is_empty()
                || write.table == ELSEWHERE
        };
        let sure = block.side.iter().all(|w| !own(w) && w.how.code() != Code::UnmeasuredWrite)
            && !block.findings.iter().any(|f| f.code == Code::MaySkip);
        // Rows that come in are none of those that are there.
        let own = if block.kind == StepKind::Insert { 0 } else { block.matched };
        self.total.without(own).filter(|_| self.told && sure && block.matched > 0)
    }
}

/// What becomes of a table that one step updates and another brings rows into.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InAll {
    /// The table.
    pub table: String,
    /// Rows that hold something else afterwards; where that is not known, all that match.
    pub updated: u64,
    /// Rows that are equal already, where that is known.
    pub equal: Option<u64>,
    /// Rows that come in.
    pub inserted: u64,
    /// Rows that the source gives more than once.
    pub twice: u64,
}

/// The preview of a change.
#[derive(Debug, Clone)]
pub struct Preview {
    /// Which database.
    pub database: DatabaseId,
    /// What happened on the way that a person should know.
    pub notes: Vec<String>,
    /// The change's title.
    pub title: Option<String>,
    /// Its parameters.
    pub params: Vec<Param>,
    /// Settings of the session that it is run under.
    pub session: Vec<Setting>,
    /// The mark that was taken; `None` where a rehearsal did not come to its end.
    pub mark: Option<String>,
    /// Whether its rows were told by a rehearsal, as far as it came.
    pub rehearsed: bool,
    /// When the preview was taken that it is compared with, where that was asked for.
    pub before: Option<String>,
    /// What triggers have written in other tables, where that was rehearsed: by table, and by what was done.
    pub triggered: Vec<Block>,
    /// What checks of the whole change have found, or why only the run can tell.
    pub checks: Vec<QueryFound>,
    /// The steps, in order.
    pub steps: Vec<StepPreview>,
}

impl Preview {
    /// Whether a check does not hold.
    pub fn fails(&self) -> bool {
        self.checks_failing().next().is_some()
            || self.steps.iter().any(|step| step.block.checks.iter().any(|check| check.failing > 0))
    }

    /// Checks of the whole change that do not hold.
    pub fn checks_failing(&self) -> impl Iterator<Item = &QueryFound> {
        self.checks.iter().filter(|found| found.holds == Some(false))
    }

    /// Whether its rows, and what would become of them, are those of the earlier preview.
    pub fn as_before(&self) -> bool {
        let same = |since: &Since| since.moved.total() == 0 && !since.rows_only;
        self.steps.iter().all(|step| step.told && step.since.as_ref().is_none_or(same))
    }

    /// The findings that stop it, over all steps.
    pub fn stops(&self) -> Vec<Code> {
        let mut all: Vec<Code> = Vec::new();
        for code in self.steps.iter().flat_map(|step| step.block.stops()) {
            if !all.contains(&code) {
                all.push(code);
            }
        }
        all
    }

    /// Expected counts that are not met, each with its step (from 0).
    pub fn unmet(&self) -> Vec<(usize, &Unmet)> {
        let steps = self.steps.iter().enumerate();
        steps.flat_map(|(at, step)| step.block.unmet.iter().map(move |unmet| (at, unmet))).collect()
    }

    /// Whether nothing would be done.
    pub fn nothing_to_do(&self) -> bool {
        self.steps.iter().all(StepPreview::nothing_to_do)
    }

    /// Tables that one step updates and another brings rows into, with what becomes of them in all; only where all of it is
    /// known.
    pub fn in_all(&self) -> Vec<InAll> {
        let mut all = Vec::new();
        for (at, update) in self.steps.iter().enumerate() {
            let same = |step: &&StepPreview| {
                step.elsewhere
                    && step.block.kind == StepKind::Insert
                    && step.block.target.same_table(&update.block.target)
            };
            let Some(insert) = self.steps.iter().skip(at + 1).find(same) else { continue };
            if update.block.kind != StepKind::Update || !update.elsewhere || !(update.told && insert.told) {
                continue;
            }
            let sure = !update.block.uncertain();
            let matched_again = update.many.as_ref().map_or(0, |many| many.rows);
            all.push(InAll {
                table: update.block.target.table.clone(),
                updated: if sure { update.block.changes } else { update.block.matched },
                equal: sure.then(|| update.block.matched - update.block.changes),
                inserted: insert.block.matched,
                twice: matched_again + insert.twice,
            });
        }
        all
    }

    /// Steps whose rows only a rehearsal can tell, from 0.
    pub fn open(&self) -> Vec<usize> {
        self.steps.iter().enumerate().filter(|(_, step)| !step.told).map(|(at, _)| at).collect()
    }

    /// Everything that was noticed, over all steps.
    pub fn findings(&self) -> impl Iterator<Item = &Finding> {
        self.steps.iter().flat_map(|step| &step.block.findings)
    }

    /// The whole way back: what is known of any step.
    pub fn back(&self) -> WayBack {
        let mut steps = self.steps.iter();
        let mut all = steps.next().map(|step| step.back.clone()).unwrap_or_default();
        for step in steps {
            all.and(&step.back);
        }
        all
    }
}

/// The preview of one batch of an undo.
#[derive(Debug, Clone)]
pub struct BatchPreview {
    /// Its rows.
    pub block: Block,
    /// The step of the run that it takes back, from 0.
    pub step: usize,
    /// Rows that cannot be put back.
    pub conflicts: Option<Conflicts>,
    /// Rows that are left alone, as it was told to.
    pub left_alone: Option<Conflicts>,
    /// Whether rows before them take theirs back along.
    pub follows: bool,
    /// Rows that are as they were before the run already.
    pub already_back: u64,
    /// Rows of the run that were not asked for.
    pub not_asked: u64,
    /// Rows that come back under a new row number, since another row has theirs now.
    pub renumbered: u64,
}

/// The preview of an undo.
#[derive(Debug, Clone)]
pub struct UndoPreview {
    /// Which database.
    pub database: DatabaseId,
    /// What happened on the way that a person should know.
    pub notes: Vec<String>,
    /// The title of the change that is taken back.
    pub title: Option<String>,
    /// The run that is taken back.
    pub run: String,
    /// Whether its rows were told by a rehearsal.
    pub rehearsed: bool,
    /// The batches, in the order in which they are put back: the run's last step first.
    pub batches: Vec<BatchPreview>,
    /// Rows of other tables that triggers wrote: they go back last, each table as a whole.
    pub triggered: Vec<BatchPreview>,
    /// Tables that are left to what the undo's own triggers make of them, each with why.
    pub standing: Vec<(String, String)>,
    /// An expected count of rows that is not met.
    pub unmet: Option<Unmet>,
}

impl UndoPreview {
    /// Rows that would be put back.
    pub fn matched(&self) -> u64 {
        self.batches.iter().map(|batch| batch.block.matched).sum()
    }

    /// The findings that stop it.
    pub fn stops(&self) -> Vec<Code> {
        let mut all: Vec<Code> = Vec::new();
        for code in self.batches.iter().flat_map(|batch| batch.block.stops()) {
            if !all.contains(&code) {
                all.push(code);
            }
        }
        all
    }

    /// The first rows that cannot be put back.
    pub fn conflicts(&self) -> Option<&Conflicts> {
        self.batches.iter().find_map(|batch| batch.conflicts.as_ref())
    }
}
