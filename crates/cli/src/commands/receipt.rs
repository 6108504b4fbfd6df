//! `receipt`: one run in full, and its rows for a spreadsheet.

use std::io::{BufWriter, Write};
use std::path::Path;

use marktwice_core::secret::hide_image;
use marktwice_core::undo::RowChange;
use marktwice_core::{Image, Target, Value};
use marktwice_port::{Intent, LogError, LogErrorKind};
use marktwice_run::{Entry, Failure, Show, find_run, kept_rows};

use crate::args::{Common, Format};
use crate::desk::Desk;
use crate::html::{self, About};
use crate::out::{new_file, print};
use crate::past::past;
use crate::report::Trouble;
use crate::screen::{Screen, show};
use crate::sheet::{Cell, Sheet};
use crate::{exit, human};

/// Shows one run.
pub(crate) fn run(
    common: &Common,
    name: Option<&str>,
    (csv, raw): (Option<&Path>, bool),
    page: Option<&Path>,
    first: Show,
) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let past = past(&desk)?;
    let failed = |failure: Failure| Trouble::failure(&failure, "the logbook").on(&desk.shown);
    let entry = find_run(&past.entries, name).map_err(failed)?;
    if let Some(path) = csv {
        let rows = write_csv(&desk, &entry, path, raw).map_err(failed)?;
        if path == Path::new("-") {
            return Ok(exit::DONE);
        }
        if common.format == Format::Human {
            print(&format!(
                "{} of run {} written to {}\n",
                human::rows(rows),
                entry.receipt.run,
                path.display()
            ));
            return Ok(exit::DONE);
        }
    }
    if let Some(file) = page {
        html::is_new(file)?;
        let many = html::gathered(first);
        let kept =
            desk.with(|context| kept_rows(context, &entry, many)).map_err(|failure| failure.to_string());
        let on = common.on_again();
        html::receipt(file, &entry, &kept, &About::of(None, &on, &on))?;
    }
    // A receipt is shown whatever became of its rows.
    let kept = desk.with(|context| kept_rows(context, &entry, first)).map_err(|failure| failure.to_string());
    show(common, &Screen::Receipt(&entry, &kept));
    Ok(exit::DONE)
}

/// The file that rows are written to, which is new and nobody else's to read, or standard output.
fn open(path: &Path) -> Result<Box<dyn Write>, Failure> {
    if path == Path::new("-") {
        return Ok(Box::new(std::io::stdout().lock()));
    }
    match new_file(path) {
        Ok(file) => Ok(Box::new(BufWriter::new(file))),
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Err(Failure::Usage {
            message: format!("{} is there already", path.display()),
            hint: "name another file; nothing is overwritten".to_owned(),
        }),
        Err(error) => Err(not_written(path, &error)),
    }
}

fn not_written(path: &Path, error: &std::io::Error) -> Failure {
    LogError::new(LogErrorKind::Io, format!("cannot write {}: {error}", path.display())).into()
}

/// One line a row: its number, what became of it, all columns before, all columns after. For the exact values there is the
/// snapshot itself.
fn write_csv(desk: &Desk, entry: &Entry, path: &Path, raw: bool) -> Result<u64, Failure> {
    let receipt = &entry.receipt;
    let missing = || Failure::Usage {
        message: format!("run {} has no rows in the logbook", receipt.run),
        hint: "`marktwice receipt` without --csv shows what there is".to_owned(),
    };
    let snapshot = receipt.snapshot.as_ref().filter(|_| receipt.forgotten.is_none()).ok_or_else(missing)?;
    let io = |error: std::io::Error| not_written(path, &error);
    desk.with(|context| {
        let session = context.open(Intent::Read)?;
        let book = (context.book)(session.database())?;
        let mut reader = book.snapshot(&receipt.run, snapshot)?;
        let header = reader.header().clone();
        let several = header.steps.len() > 1 || receipt.along() + receipt.triggered() > 0;
        let mut sheet = Sheet::new(open(path)?, raw);
        let mut rows = 0;
        let mut head = None;
        while let Some(change) = reader.next()? {
            let place = change.place;
            let names = header.tables.get(place.table).map_or(&[][..], |t| t.columns.as_slice());
            // Each step, and each table that it took rows of along, has a head of its own, because its columns are others.
            if head != Some(place) {
                let first: &[&str] =
                    if several { &["step", "table", "row", "what"] } else { &["row", "what"] };
                let after = names.iter().map(|c| format!("{} after", c.name));
                let own = first.iter().map(|name| (*name).to_owned());
                let names: Vec<String> =
                    own.chain(names.iter().map(|c| c.name.clone())).chain(after).collect();
                sheet.head(&names).map_err(io)?;
                head = Some(place);
            }
            let table = header.tables.get(place.table).map_or("", |t| t.table.as_str());
            let step = [Cell::Plain((place.step + 1).to_string()), Cell::Text(table.to_owned())];
            let own = step.into_iter().filter(|_| several);
            let cells: Vec<Cell> =
                own.chain(record(&change, header.tables.get(place.table), names.len())).collect();
            sheet.record(&cells).map_err(io)?;
            rows += 1;
        }
        if head.is_none() {
            sheet.head(&["row".to_owned(), "what".to_owned()]).map_err(io)?;
        }
        sheet.finish().map_err(io)?;
        Ok(rows)
    })
}

fn record(change: &RowChange, target: Option<&Target>, width: usize) -> Vec<Cell> {
    let what = match &change.image {
        Image::Update { before, after } if before == after => "same",
        Image::Update { .. } => "changed",
        Image::Delete { .. } => "deleted",
        Image::Insert { .. } => "inserted",
    };
    let image = |row: Option<&[Value]>| match row {
        Some(row) => row.iter().map(Cell::of).collect(),
        None => vec![Cell::Empty; width],
    };
    let first = [Cell::Plain(change.ordinal.to_string()), Cell::Plain(what.to_owned())];
    let shown = match target {
        Some(target) => hide_image(target, change.image.clone()),
        None => change.image.clone(),
    };
    let (before, after) = (image(shown.before()), image(shown.after()));
    first.into_iter().chain(before).chain(after).collect()
}
