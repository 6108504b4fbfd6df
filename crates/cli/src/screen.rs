//! What a command has to show, and the forms in which it is shown: one trait over the same data for all of them.

use marktwice_core::Code;
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_run::{
    Again, Block, Difference, Entry, Kept, Preview, Rehearsal, Rows, RunOutcome, Seen, Settling, Show, Shown,
    Values,
};
use serde_json::Value as Json;

use crate::args::{Common, Format};
use crate::past::{Past, Shared};
use crate::{human, json};

/// What there is to show.
pub(crate) enum Screen<'a> {
    /// A preview by itself, with the exit status, and what else stands in a command for the same database.
    Preview(&'a Preview, u8, &'a str),
    /// A rehearsal, with the exit status, what the text is called, and what else stands in a command for the same database.
    Rehearsal(&'a Rehearsal, u8, &'a str, &'a str),
    /// Two changes compared, with what they are called, and the exit status.
    Comparison(&'a Difference, [&'a str; 2], u8),
    /// A file compared with its last preview: what it is called, and the exit status.
    Again(&'a Preview, &'a str, u8),
    /// What a run is about, before anything is asked.
    Before(&'a Shown<'a>),
    /// How a run ended.
    Outcome(Ended<'a>),
    /// Runs on a database.
    History(&'a Past),
    /// What everybody's runs have left.
    Shared(&'a Shared),
    /// One run in full, with its first rows, or why they cannot be shown.
    Receipt(&'a Entry, &'a Result<Kept, String>),
    /// What became of runs that were cut off: on what database, which, the exit status, how to go on.
    Settled(&'a str, &'a Settling, u8, &'a str),
    /// Findings explained: all of them, or the one that was asked for.
    Findings(&'a [Code], bool),
    /// All tables.
    Tables(&'a Seen<Vec<TableSummary>>, &'a str),
    /// One table with rows of it, in these columns, which a condition may have chosen.
    Table(&'a Seen<Survey>, &'a Rows, &'a [usize], bool),
    /// What columns hold, how many values of it are shown, and whether a condition has chosen the rows.
    Values(&'a Seen<Values>, Show, bool),
    /// The rows of a run, looked at again, and what else stands in a command for the same database.
    LookedAgain(&'a Again, &'a str),
}

/// How a run ended.
#[derive(Clone, Copy)]
pub(crate) struct Ended<'a> {
    /// The name of the document that says so.
    pub(crate) document: &'a str,
    /// How.
    pub(crate) outcome: &'a RunOutcome,
    /// The exit status.
    pub(crate) status: u8,
    /// The tables of its steps.
    pub(crate) tables: &'a [String],
    /// What the text is called.
    pub(crate) file: &'a str,
    /// What else stands in a command for the same database.
    pub(crate) again: &'a str,
}

/// A form of output.
pub(crate) trait Renderer {
    /// The text of a screen; `None` where this form says it later, together with how it ended.
    fn render(&mut self, screen: &Screen<'_>) -> Option<String>;

    /// Writes such a text to standard output.
    fn print(&self, text: &str);

    /// The same where nothing comes behind it.
    fn print_whole(&self, text: &str) {
        self.print(text);
    }
}

/// The form that was asked for.
pub(crate) fn renderer(common: &Common) -> Box<dyn Renderer> {
    match common.format {
        Format::Human => Box::new(People { verbose: common.verbose }),
        Format::Json => Box::new(Documents::default()),
    }
}

/// Shows a screen in the form that was asked for.
pub(crate) fn show(common: &Common, screen: &Screen<'_>) {
    let mut form = renderer(common);
    if let Some(text) = form.render(screen) {
        form.print_whole(&text);
    }
}

/// The tables of what is shown, by step.
pub(crate) fn tables_of(shown: &Shown<'_>) -> Vec<String> {
    let table = |block: &Block| block.target.table.clone();
    match shown {
        Shown::Change(preview) => preview.steps.iter().map(|step| table(&step.block)).collect(),
        Shown::Undo(preview) => preview.batches.iter().map(|batch| table(&batch.block)).collect(),
    }
}

/// For people.
pub(crate) struct People {
    /// Whether more is said.
    pub(crate) verbose: bool,
}

impl Renderer for People {
    fn render(&mut self, screen: &Screen<'_>) -> Option<String> {
        Some(match screen {
            Screen::Preview(preview, _, on) => {
                format!("{}\n{}", human::preview(preview, self.verbose), human::next_step(preview, on))
            }
            Screen::Rehearsal(seen, _, file, on) => {
                format!(
                    "{}\n{}",
                    human::preview(&seen.preview, self.verbose),
                    human::rehearsed(seen, file, on)
                )
            }
            Screen::Comparison(found, names, _) => human::comparison(found, *names),
            Screen::Again(preview, name, _) => human::again(preview, name),
            Screen::Before(Shown::Change(preview)) => format!("{}\n", human::preview(preview, self.verbose)),
            Screen::Before(Shown::Undo(preview)) => format!("{}\n", human::undo(preview, self.verbose)),
            Screen::Outcome(ended) => {
                let tables: Vec<&str> = ended.tables.iter().map(String::as_str).collect();
                human::outcome(ended.outcome, &tables, ended.file, ended.again)
            }
            Screen::History(past) => {
                human::history(&past.database, (&past.entries, past.left_out), past.size, &past.notes)
            }
            Screen::Shared(shared) => human::shared(shared),
            Screen::Receipt(entry, kept) => human::receipt(entry, kept),
            Screen::Settled(on, all, _, again) => human::settled(on, all, again),
            Screen::Findings(codes, one) => human::why(codes, *one),
            Screen::Tables(seen, on) => human::look::tables(seen, on),
            Screen::Table(seen, rows, columns, filtered) => {
                human::look::table(seen, (rows, columns), *filtered)
            }
            Screen::Values(seen, show, filtered) => human::values::values(seen, *show, *filtered),
            Screen::LookedAgain(seen, on) => human::again::looked(seen, on),
        })
    }

    fn print(&self, text: &str) {
        crate::out::print(text);
    }

    fn print_whole(&self, text: &str) {
        crate::out::print_at_length(text);
    }
}

/// JSON documents, one a command.
#[derive(Default)]
pub(crate) struct Documents {
    /// What was shown before it was asked.
    before: Option<Json>,
}

impl Renderer for Documents {
    fn render(&mut self, screen: &Screen<'_>) -> Option<String> {
        let document = match screen {
            Screen::Preview(preview, status, _) => json::preview(preview, *status),
            Screen::Rehearsal(seen, status, ..) => json::rehearsal(seen, *status),
            Screen::Comparison(found, names, status) => json::comparison(found, *names, *status),
            Screen::Again(preview, name, status) => json::again(preview, name, *status),
            Screen::Before(shown) => {
                self.before = Some(json::shown(shown));
                return None;
            }
            Screen::Outcome(ended) => {
                json::outcome(ended.document, self.before.take(), ended.outcome, ended.status)
            }
            Screen::History(past) => json::history(&past.database, &past.entries, past.size, &past.notes),
            Screen::Shared(shared) => json::shared(shared),
            Screen::Receipt(entry, kept) => json::receipt(entry, kept),
            Screen::Settled(_, all, status, _) => json::settled(all, *status),
            Screen::Findings(codes, _) => json::why(codes),
            Screen::Tables(seen, _) => json::tables(seen),
            // Its rows are handed out as they come.
            Screen::Table(..) => return None,
            Screen::Values(seen, show, _) => json::values(seen, *show),
            Screen::LookedAgain(seen, _) => json::looked_again(seen),
        };
        Some(format!("{:#}", crate::out::clean_document(document)))
    }

    fn print(&self, text: &str) {
        crate::out::print_json(text);
    }
}
