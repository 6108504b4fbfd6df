//! What an engine has understood, what it holds, and what is to be put back.

use std::any::Any;

use marktwice_core::along::{Along, AlongCount};
use marktwice_core::archive::Archive;
use marktwice_core::finding::Finding;
use marktwice_core::image::Place;
use marktwice_core::many::Many;
use marktwice_core::mark::{Foreseen, Parts, StepKind};
use marktwice_core::notice::Assigned;
use marktwice_core::side::SideWrite;
use marktwice_core::table::{Extent, Pin, Target};
use marktwice_core::triggered::Triggered;
use marktwice_core::way_back::WayBack;

/// A step, understood by an engine and ready to be held, foreseen and executed.
#[derive(Debug)]
pub struct Plan {
    /// Which step of its change it is, from 0. Whoever asked for the plan says so; what is held carries the number.
    pub step: usize,
    /// What it does.
    pub kind: StepKind,
    /// What it writes.
    pub target: Target,
    /// The statement, verbatim.
    pub statement: String,
    /// The statement as it is sent, where that is another text: with what it gives back of the rows that come in.
    pub sent: Option<String>,
    /// Whether its rows come from other tables, or are joined with them.
    pub elsewhere: bool,
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
    /// What pins its rows.
    pub pin: Pin,
    /// What was noticed from the text and the catalogue.
    pub findings: Vec<Finding>,
    /// A condition, ready to paste, that leaves out rows which already hold the new values.
    pub leave_out: Option<String>,
    /// Tables of which it may take rows along, parents before children.
    pub along: Vec<Along>,
    /// Tables that triggers write, each with whether its rows are held.
    pub triggered: Vec<Triggered>,
    /// Where its rows are put away before they go.
    pub archive: Option<Archive>,
    /// Settings that bear on what the statement means here.
    pub settings: Vec<String>,
    /// Whether it matters exactly how many rows the target has.
    pub counted: bool,
    /// Whether definitions leave doubt that an undo of it would go through: triggers, conditions on rows, foreign keys.
    pub doubt: bool,
    /// Whether it reaches tables with hidden columns, or uses a secret parameter.
    pub reads_hidden: bool,
    /// Whether it runs routines that name such tables, or of which nobody can tell what they read.
    pub runs_hidden: bool,
    /// The engine's own part.
    pub detail: Box<dyn Any>,
}

/// Rows that are held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Matched {
    /// How many rows match.
    pub matched: u64,
    /// How many rows the target has.
    pub total: Extent,
    /// Writes outside the matched rows that are to be expected.
    pub side: Vec<SideWrite>,
    /// How many rows are taken along and held, for each of [`Plan::along`], or of [`Reach::along`] where rows are put back.
    pub along: Vec<AlongCount>,
    /// Matched rows that several rows of a join match.
    pub many: Option<Many>,
    /// Whether and how an undo will succeed.
    pub back: WayBack,
    /// Whether the statement sets off a trigger, for these rows or by itself: then it does something even where no row
    /// would change.
    pub fires: bool,
}

/// Rows that are to be put back together: an undo is a list of these, the last step of the run first.
#[derive(Debug, Clone)]
pub struct Batch {
    /// Its place in the undo, from 0: what is held carries the number.
    pub step: usize,
    /// Which rows of the run they are.
    pub of: Place,
    /// The table, as it was when the run was made.
    pub target: Target,
    /// What putting back does: UPDATE, INSERT or DELETE.
    pub kind: StepKind,
    /// For an UPDATE, the columns that are put back.
    pub columns: Vec<usize>,
    /// Whether rows may have to be brought in again in an UPDATE.
    pub inserts: bool,
    /// Columns that may change besides, where it is enough to hold those that may, and keys: of all others only what they hold
    /// together is then held ([`HeldRow::rest`](marktwice_core::mark::HeldRow)). `None` holds whole rows.
    pub narrow: Option<Vec<usize>>,
}

/// What putting rows back reaches.
#[derive(Debug, Default)]
pub struct Reach {
    /// What it writes outside the rows that are put back.
    pub side: Vec<SideWrite>,
    /// What definitions say of its success.
    pub back: WayBack,
    /// Tables of which it may take rows along.
    pub along: Vec<Along>,
    /// What triggers write that foreign keys' actions set off.
    pub fired: Vec<SideWrite>,
}
