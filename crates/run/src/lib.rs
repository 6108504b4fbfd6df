//! The use cases: preview, apply, undo, history, settle. They put an engine, a logbook and the core together in the
//! order that the promises need; they know no query language, no file format and no terminal.

mod again;
mod apply;
mod broken;
mod checked;
mod collect;
mod compare;
mod context;
mod edited;
mod faults;
mod forget;
mod given;
mod history;
mod kept;
mod look;
mod mark;
mod noticed;
mod outcome;
mod pastes;
mod phases;
mod planned;
mod preview;
mod rehearsal;
mod settle;
mod sheets;
mod taking;
mod undo;
mod values;

pub use again::{Again, AgainRow, AgainTable, EachRow, Stands, look_again};
pub use apply::{Agreement, ApplyOptions, apply};
pub use compare::{Difference, DifferentRow, StepDifference, compare};
pub use context::{Answer, Context, OpenBook, Question, Shown, Spare, Talk};
pub use edited::{EditedRow, Edits, NewLine, ROW_MARK, edited, row_mark};
pub use faults::{Conflicts, Faults, NamedConflict, NamedFault};
pub use forget::{Chosen, forget, forgettable};
pub use history::{Entry, find_run, history, look_at_definitions};
pub use kept::{Kept, KeptRows, kept_rows};
pub use look::{
    InCommon, OneRow, Rows, Seen, each_row, each_view_row, in_common, one_row, rows, survey, tables, target,
};
pub use mark::{MarkedChange, mark_text};
pub use noticed::side_text;
pub use outcome::{End, Failure, RunOutcome};
pub use preview::{
    BatchPreview, Block, InAll, Preview, Show, ShownRow, Since, StepPreview, UndoPreview, Unmet,
};
pub use settle::{Compared, Settled, Settling, Verdict, damaged, set_aside, settle};
pub use taking::{Rehearsal, preview, preview_again, rehearse_change};
pub use undo::{UndoOptions, undo};
pub use values::{Group, MOST_READ, Spread, Values, values};
