//! What stands on a page.

use marktwice_core::receipt::DatabaseId;
use serde::Serialize;

/// One name and what stands behind it.
#[derive(Serialize)]
pub(super) struct Fact {
    pub(super) name: &'static str,
    pub(super) text: String,
}

/// A line with a word in front that says how it stands.
#[derive(Serialize)]
pub(super) struct Said {
    pub(super) word: &'static str,
    pub(super) text: String,
}

/// Which of the two marks are made.
#[derive(Serialize)]
pub(super) struct Marks {
    pub(super) first: bool,
    pub(super) second: bool,
    pub(super) said: &'static str,
}

#[derive(Serialize)]
pub(super) struct Page {
    pub(super) title: String,
    pub(super) kind: String,
    pub(super) marks: Marks,
    pub(super) reason: Option<String>,
    pub(super) told: String,
    pub(super) database: DatabaseId,
    pub(super) facts: Vec<Fact>,
    pub(super) notes: Vec<String>,
    pub(super) steps: Vec<Step>,
    pub(super) also: Vec<Rows>,
    pub(super) checks: Vec<Said>,
    pub(super) back: Vec<String>,
    pub(super) commands: Vec<Command>,
    pub(super) version: &'static str,
    pub(super) made: String,
    pub(super) hidden: String,
}

#[derive(Serialize)]
pub(super) struct Command {
    pub(super) what: &'static str,
    pub(super) text: String,
}

#[derive(Serialize, Default)]
pub(super) struct Step {
    pub(super) title: String,
    pub(super) statement: String,
    pub(super) said: Vec<String>,
    pub(super) share: Option<Share>,
    pub(super) funnel: Vec<Left>,
    pub(super) tables: Vec<Rows>,
    pub(super) totals: Vec<Total>,
    pub(super) findings: Vec<Noticed>,
    pub(super) beside: Vec<String>,
    pub(super) along: Vec<Rows>,
    pub(super) checks: Vec<Said>,
}

/// How much of the table it is.
#[derive(Serialize)]
pub(super) struct Share {
    pub(super) text: String,
    pub(super) percent: f64,
}

/// What a condition leaves.
#[derive(Serialize)]
pub(super) struct Left {
    pub(super) condition: String,
    pub(super) rows: String,
    pub(super) alone: String,
    pub(super) percent: f64,
}

#[derive(Serialize)]
pub(super) struct Rows {
    pub(super) title: String,
    pub(super) caption: String,
    pub(super) columns: Vec<String>,
    pub(super) rows: Vec<Vec<Cell>>,
}

#[derive(Serialize)]
pub(super) struct Cell {
    pub(super) before: String,
    pub(super) after: String,
    pub(super) changed: bool,
}

#[derive(Serialize)]
pub(super) struct Total {
    pub(super) column: String,
    pub(super) before: [String; 3],
    pub(super) after: [String; 3],
    pub(super) plot: Option<String>,
    pub(super) caption: String,
}

#[derive(Serialize)]
pub(super) struct Noticed {
    pub(super) word: &'static str,
    pub(super) code: &'static str,
    pub(super) message: String,
    pub(super) place: Option<Place>,
    pub(super) hint: Option<String>,
}

#[derive(Serialize)]
pub(super) struct Place {
    pub(super) line: usize,
    pub(super) column: usize,
    pub(super) text: String,
}
