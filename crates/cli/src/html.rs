//! A report for a second person: one page without network and scripts, of a preview, a rehearsal, or a run.

use std::io::Write as _;
use std::path::Path;

use marktwice_run::{Block, Entry, Kept, Preview, Rehearsal, Show, UndoPreview};
use minijinja::Environment;

use crate::human;
use crate::out::new_file;
use crate::report::Trouble;

use change::of_preview;
use page::Page;
use run::of_run;

mod change;
mod page;
mod plot;
mod rows;
mod run;

/// Rows that a page shows of each step: more is nobody's to read.
pub(crate) const MOST: usize = 2_000;
/// Rows that are shown where nothing was said.
const FIRST: usize = 500;

/// How many rows are gathered for a page, where so many are shown beside it.
pub(crate) fn gathered(show: Show) -> Show {
    Show::First(show.most().clamp(FIRST, MOST))
}

/// Shows no more rows beside the page than was said.
pub(crate) fn cut(preview: &mut Preview, show: Show) {
    let most = show.most();
    let of_many = most.div_ceil(4);
    let along = |block: &mut Block| block.along.iter_mut().for_each(|b| b.rows.truncate(of_many));
    for step in &mut preview.steps {
        step.block.rows.truncate(most);
        along(&mut step.block);
    }
    preview.triggered.iter_mut().for_each(|block| block.rows.truncate(of_many));
}

/// The same of an undo.
pub(crate) fn cut_undo(preview: &mut UndoPreview, show: Show) {
    let of_many = show.most().div_ceil(4);
    preview.batches.iter_mut().for_each(|batch| batch.block.rows.truncate(show.most()));
    let along = preview.triggered.iter_mut().flat_map(|batch| &mut batch.block.along);
    along.for_each(|block| block.rows.truncate(of_many));
}

/// How many rows are gathered where somebody may want to see all of them, and what is shown at first.
pub(crate) fn for_a_question(show: Show, asks: bool) -> (Show, Option<Show>) {
    match show {
        Show::First(most) if asks => (Show::First(most.max(MOST)), Some(show)),
        show => (show, None),
    }
}

/// What a page needs to know that its subject does not say.
pub(crate) struct About<'a> {
    /// The reason for the change.
    pub(crate) reason: Option<&'a str>,
    /// What else stands in a command for the same database.
    pub(crate) again: &'a str,
    /// The part of it that says which database and logbook.
    pub(crate) on: &'a str,
    /// When the page is made.
    pub(crate) now: String,
}

/// Writes a page into a new file.
///
/// # Errors
/// Where it is there already, or cannot be written.
fn write(file: &Path, page: &Page) -> Result<(), Trouble> {
    let failed = |what: String| Trouble::usage(what, "name another file; nothing is overwritten");
    // What is never written is taken out before it is escaped, and would be written otherwise.
    let page = serde_json::to_value(page).map(crate::out::clean_document);
    let page = page.map_err(|e| failed(format!("the page cannot be made: {e}")))?;
    let text = render(&page).map_err(|e| failed(format!("the page cannot be made: {e}")))?;
    let name = file.display();
    let mut out = new_file(file).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => failed(format!("{name} is there already")),
        _ => failed(format!("cannot write {name}: {error}")),
    })?;
    out.write_all(text.as_bytes()).map_err(|error| failed(format!("cannot write {name}: {error}")))
}

/// Makes sure that a file is not there yet, before anything is done for it.
///
/// # Errors
/// Where it is.
pub(crate) fn is_new(file: &Path) -> Result<(), Trouble> {
    match file.try_exists() {
        Ok(true) => Err(Trouble::usage(
            format!("{} is there already", file.display()),
            "name another file; nothing is overwritten",
        )),
        Ok(false) | Err(_) => Ok(()),
    }
}

fn render(page: &serde_json::Value) -> Result<String, minijinja::Error> {
    let mut pages = Environment::new();
    pages.set_trim_blocks(true);
    pages.set_lstrip_blocks(true);
    pages.set_auto_escape_callback(|_| minijinja::AutoEscape::Html);
    pages.add_template("page.html", include_str!("html/page.html"))?;
    pages.add_template("rows.html", include_str!("html/rows.html"))?;
    pages.get_template("page.html")?.render(minijinja::Value::from_serialize(page))
}

/// A page about a preview.
///
/// # Errors
/// See [`write`].
pub(crate) fn preview(file: &Path, preview: &Preview, about: &About<'_>) -> Result<(), Trouble> {
    let next = plain(&human::next_step(preview, about.again));
    write(file, &of_preview(preview, about, ("Preview", next.join(" "))))
}

/// A page about a rehearsal.
///
/// # Errors
/// See [`write`].
pub(crate) fn rehearsal(file: &Path, seen: &Rehearsal, about: &About<'_>, name: &str) -> Result<(), Trouble> {
    let next = plain(&human::rehearsed(seen, name, about.again));
    write(file, &of_preview(&seen.preview, about, ("Rehearsal", next.join(" "))))
}

/// A page about a run.
///
/// # Errors
/// See [`write`].
pub(crate) fn receipt(
    file: &Path,
    entry: &Entry,
    kept: &Result<Kept, String>,
    about: &About<'_>,
) -> Result<(), Trouble> {
    write(file, &of_run(entry, kept, about))
}

/// A text for people without its styles, line by line; what is set in belongs to the line before.
fn plain(text: &str) -> Vec<String> {
    let bare = anstream::adapter::strip_str(text).to_string().replace(human::KEPT, "");
    let mut lines: Vec<String> = Vec::new();
    for line in bare.lines().filter(|line| !line.trim().is_empty()) {
        match lines.last_mut() {
            Some(last) if line.starts_with("     ") => {
                last.push(' ');
                last.push_str(line.trim());
            }
            _ => lines.push(line.split_whitespace().collect::<Vec<_>>().join(" ")),
        }
    }
    lines
}

fn collected(work: impl FnOnce(&mut String)) -> Vec<String> {
    let mut out = String::new();
    work(&mut out);
    plain(&out)
}

impl<'a> About<'a> {
    /// What is known now.
    pub(crate) fn of(reason: Option<&'a str>, again: &'a str, on: &'a str) -> About<'a> {
        let now = jiff::Timestamp::now().strftime("%Y-%m-%d %H:%M UTC").to_string();
        About { reason, again, on, now }
    }
}
