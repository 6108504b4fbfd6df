//! Rows of other tables that triggers and routines write: nobody can say beforehand which they will be. So the tables are held
//! as they are before anything runs, and compared with what they are once all has run.

use serde::{Deserialize, Serialize};

use crate::kind::StepKind;
use crate::mark::{Foreseen, Label};
use crate::side::{SideHow, SideWrite};
use crate::table::Target;

/// Rows that a table may have so that it is held as a whole.
pub const MOST_ROWS: u64 = 100_000;

/// A table that triggers or routines write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Triggered {
    /// Its name, as writes outside the rows have it.
    pub shown: String,
    /// The table, where its rows are held; else why they are not.
    pub target: Result<Target, String>,
    /// Whether it has more rows than [`MOST_ROWS`].
    pub large: bool,
}

/// Held tables carry numbers behind those of all rows that steps take along: some for each table.
const BEHIND: usize = 1_000_000_000_000;

/// What a table that triggers write is held for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Copied {
    /// As it was before anything ran.
    Before,
    /// As an undo is to leave it.
    Wanted,
    /// Rows of it that go back.
    Back,
    /// Rows of it that are left to the undo's own triggers.
    Left,
    /// Rows that go back, in one round.
    Round(usize),
}

/// The number that the held rows of the `nth` table carry.
pub fn number(nth: usize, copied: Copied) -> usize {
    let which = match copied {
        Copied::Before => 0,
        Copied::Wanted => 1,
        Copied::Back => 2,
        Copied::Left => 3,
        Copied::Round(round) => 4 + round,
    };
    BEHIND + nth * 100 + which
}

/// Whether a write outside the rows is one of a trigger or a routine.
pub fn is_fired(write: &SideWrite) -> bool {
    matches!(write.how, SideHow::Trigger(_) | SideHow::Routine(_))
}

/// Says of writes outside the rows whether they are held, and why not.
pub fn tell(side: &mut [SideWrite], triggered: &[Triggered]) {
    for write in side.iter_mut().filter(|write| is_fired(write)) {
        let Some(table) = triggered.iter().find(|table| table.shown == write.table) else { continue };
        write.held = table.target.is_ok();
        write.unheld = table.target.as_ref().err().cloned();
    }
}

/// How the columns of such a table may change: nobody knows, in any of them.
pub fn foreseen(target: &Target) -> Vec<Foreseen> {
    let columns = target.columns.iter().enumerate();
    columns
        .map(|(column, c)| Foreseen { column, label: Label::Unknown, derived: c.generated, why: None })
        .collect()
}

/// What is recorded of a table's rows as being done to them; some may come in or go all the same.
pub const KIND: StepKind = StepKind::Update;

/// What triggers and routines have done to a table, in a receipt.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TriggeredReceipt {
    /// The table.
    pub table: String,
    /// Rows that came in.
    #[serde(default)]
    pub inserted: u64,
    /// Rows that went.
    #[serde(default)]
    pub deleted: u64,
    /// Rows that hold something else.
    #[serde(default)]
    pub changed: u64,
    /// Whether they are rows that a step has put away there.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub archive: bool,
    /// Why its rows are not in the snapshot; then none are counted here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unheld: Option<String>,
}

impl TriggeredReceipt {
    /// One of a table that is not held.
    pub fn unheld(table: &str, why: &str) -> TriggeredReceipt {
        let unheld = Some(why.to_owned());
        TriggeredReceipt {
            table: table.to_owned(),
            inserted: 0,
            deleted: 0,
            changed: 0,
            archive: false,
            unheld,
        }
    }

    /// All rows.
    pub fn rows(&self) -> u64 {
        self.inserted + self.deleted + self.changed
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::{Key, KeyKind};

    #[test]
    fn numbers_do_not_meet() {
        let one = |nth| {
            [Copied::Before, Copied::Wanted, Copied::Back, Copied::Left, Copied::Round(0), Copied::Round(9)]
                .map(|c| number(nth, c))
        };
        let mut all: Vec<usize> = (0..3).flat_map(one).collect();
        all.push(crate::along::number(999, 200));
        let count = all.len();
        all.sort_unstable();
        all.dedup();
        assert_eq!(all.len(), count);
    }

    #[test]
    fn writes_of_held_tables_are_told_so() {
        let write = |table: &str, how| SideWrite::new(table, how, None);
        let mut side = vec![
            write("log", SideHow::Trigger("t".into())),
            write("log", SideHow::ForeignKey("ON DELETE CASCADE".into())),
            write("big", SideHow::Routine("f".into())),
        ];
        let key = Key { kind: KeyKind::WholeRow, names: Vec::new(), columns: Vec::new() };
        let (table, schema, definition) = ("log".to_owned(), String::new(), String::new());
        let target = Target {
            table,
            schema,
            columns: vec![],
            key,
            definition,
            naming: None,
            refers: vec![],
            hidden: vec![],
            veil: Default::default(),
            family: Vec::new(),
        };
        let why = "it has too many rows".to_owned();
        let held = Triggered { shown: "log".into(), target: Ok(target), large: false };
        tell(&mut side, &[held, Triggered { shown: "big".into(), target: Err(why.clone()), large: true }]);
        let told: Vec<_> = side.iter().map(|w| (w.held, w.unheld.clone())).collect();
        assert_eq!(told, [(true, None), (false, None), (false, Some(why))]);
    }
}
