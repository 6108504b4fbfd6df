//! `apply`: preview, agreement, and the run.

use std::cell::Cell;
use std::io::IsTerminal;
use std::path::Path;
use std::time::Duration;

use marktwice_core::Change;
use marktwice_core::param::Param;
use marktwice_core::sheet::{Sheet, text as written};
use marktwice_run::{
    Agreement, ApplyOptions, MarkedChange, RunOutcome, Show, Shown, apply, look_again, mark_text,
};

use crate::args::{ApplyArgs, ChangeArgs, Common, Format};
use crate::desk::{Desk, Text, change_of, read_text, user};
use crate::form::edit_file;
use crate::guard::Line;
use crate::handover::{self, Handover};
use crate::html::{cut, cut_undo, for_a_question, is_new};
use crate::out::{print, tell};
use crate::report::Trouble;
use crate::screen::{Ended, People, Renderer, Screen, renderer, tables_of};
use crate::talk::Terminal;
use crate::{exit, human};

/// Applies a change.
pub(crate) fn run(common: &Common, args: ApplyArgs) -> Result<u8, Trouble> {
    loop {
        // Each edit is a change of its own.
        if let Some(status) = once(common, args.clone())? {
            return Ok(status);
        }
    }
}

fn once(common: &Common, args: ApplyArgs) -> Result<Option<u8>, Trouble> {
    let desk = Desk::find(common)?;
    // Its sheets lie in the folder, which is gone with it.
    let (args, handed, _folder) = match args.change.file.clone().filter(|file| handover::is_one(file)) {
        None => (args, None, None),
        Some(file) => {
            let folder = tempfile::Builder::new().prefix("marktwice-").tempdir();
            let folder =
                folder.map_err(|e| Trouble::usage(format!("no folder can be made: {e}"), "make room"))?;
            let handover = Handover::read(&file)?;
            tell(&format!("{}\n", human::one_line(&handover.in_words())));
            let args = handover.taken((&file, folder.path()), &desk, args)?;
            (args, Some(handover), Some(folder))
        }
    };
    let (text, last, checks, params, sheets) = match read_text(&args.change)? {
        Some(text) => (text, None, Vec::new(), Vec::new(), Vec::new()),
        None => {
            let MarkedChange { mark, text, checks, params, sheets, .. } = desk
                .with(|context| mark_text(context, args.mark.as_deref()))
                .map_err(|failure| Trouble::failure(&failure, "the logbook").on(&desk.shown))?;
            (Text { text, name: format!("mark {mark}"), origin: None }, Some(mark), checks, params, sheets)
        }
    };
    let mut own = with_the_marks(args.change.clone(), &params)?;
    let named = |sheet: &Sheet| own.sheet.iter().any(|(name, _)| *name == sheet.name);
    let files = sheets.into_iter().filter(|sheet| !named(sheet)).map(|sheet| (sheet.name, sheet.file));
    let files: Vec<(String, String)> = files.collect();
    own.sheet.extend(files);
    let change = change_of(&text, &own, desk.engine.language(), checks)?;
    let agreement = if args.yes { Agreement::Given } else { Agreement::Ask };
    // Without a change the last preview is meant, and held to. It is no agreement by itself: --yes needs more.
    let implied =
        last.filter(|_| !args.yes || (0..change.steps.len()).all(|at| change.terms(at).rows.is_some()));
    let mark = args.mark.clone().or(implied);
    if let Some(guard) = &desk.guard {
        let on = |trouble: Trouble| trouble.on(&desk.shown);
        guard.takes(&change, &Line { mark: mark.as_deref(), rows: args.change.rows }).map_err(on)?;
        let held_to = mark.as_deref().unwrap_or_default();
        let taken = desk
            .with(|context| mark_text(context, Some(held_to)))
            .map_err(|failure| Trouble::failure(&failure, "the logbook").on(&desk.shown))?
            .taken;
        // What somebody else has previewed was looked at by two.
        let by = handed.as_ref().map(|handover| handover.previewed().by.as_deref());
        if by.is_none_or(|by| by.is_none() || by == user().as_deref()) {
            guard.takes_mark(held_to, age(&taken)).map_err(on)?;
        }
    }
    let copy_database = args.copy_database.as_deref().map(new_file).transpose()?;
    let options = ApplyOptions {
        agreement,
        mark,
        hold: args.hold,
        show: args.change.show,
        copy_database,
        keep_copy: args.keep_copy.clone(),
        most_rows: None,
        previewed: handed.as_ref().map(|handover| handover.previewed().clone()),
    };
    let file = args.change.file.as_deref().filter(|file| *file != Path::new("-") && args.mark.is_none());
    carry_out_or_edit(common, &desk, &change, &options, ("marktwice-apply", &text.name), file)
}

/// How long ago something was, as it is written in UTC; nothing is younger than now.
fn age(taken: &str) -> Option<Duration> {
    let taken: jiff::Timestamp = taken.parse().ok()?;
    let since = jiff::Timestamp::now().duration_since(taken);
    Some(since.unsigned_abs())
        .filter(|_| !since.is_negative() || since.unsigned_abs() < Duration::from_secs(300))
}

/// The arguments with the values of a mark, which it is held to.
fn with_the_marks(mut args: ChangeArgs, params: &[Param]) -> Result<ChangeArgs, Trouble> {
    // A secret is in no mark, and given again; whether it is the same the statement's own hash tells.
    for param in params.iter().filter(|param| !param.secret) {
        let text = written(&param.value);
        let said =
            args.with.iter().find(|(name, _)| *name == param.name).map(|(_, value)| Some(value.clone()));
        let null = args.with_null.contains(&param.name).then_some(None);
        match said.or(null) {
            Some(other) if other != text => {
                let message = format!("the mark was taken with another value of {}", param.name);
                return Err(Trouble::usage(
                    message,
                    "preview the change with this one, or leave the value out",
                ));
            }
            Some(_) => {}
            None => match text {
                Some(text) => args.with.push((param.name.clone(), text)),
                None => args.with_null.push(param.name.clone()),
            },
        }
    }
    Ok(args)
}

/// The whole path of a file that must not be there yet.
fn new_file(path: &Path) -> Result<String, Trouble> {
    let whole = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    is_new(path)?;
    Ok(whole.display().to_string())
}

/// Previews, asks and applies; tells how it ended, and gives the exit status. `told` is the format of the JSON document
/// and what the text is called.
pub(super) fn carry_out(
    common: &Common,
    desk: &Desk,
    change: &Change,
    options: &ApplyOptions,
    told: (&str, &str),
) -> Result<u8, Trouble> {
    // Without a file nobody is offered to edit it.
    carry_out_or_edit(common, desk, change, options, told, None)
        .map(|status| status.unwrap_or(exit::DECLINED))
}

/// The same with the file that the change is in: `None` where it was edited instead, and is to be previewed again.
fn carry_out_or_edit(
    common: &Common,
    desk: &Desk,
    change: &Change,
    options: &ApplyOptions,
    told: (&str, &str),
    edits: Option<&Path>,
) -> Result<Option<u8>, Trouble> {
    let (document, name) = told;
    let asks = asks(common, options.agreement);
    let (show, first) = for_a_question(options.show, asks);
    let options = &ApplyOptions { most_rows: desk.most_rows, show, ..options.clone() };
    let mut stage = Stage::showing(common, first);
    let wants_to = Cell::new(false);
    let mut outcome = {
        let mut show_it = |shown: &Shown<'_>| stage.before(shown);
        let mut talk = Terminal {
            show: &mut show_it,
            ambient: &desk.ambient,
            name: desk.guard.as_ref().map(|guard| guard.name.as_str()),
            edits: edits.map(|_| &wants_to),
        };
        desk.with(|context| apply(context, change, options, &mut talk))
            .map_err(|failure| Trouble::failure(&failure, name).on(&desk.shown))?
    };
    if let Some(file) = edits.filter(|_| wants_to.get()) {
        edit_file(file)?;
        return Ok(None);
    }
    let status = stage.finish(document, &outcome, name);
    if common.format == Format::Human && status == exit::DONE {
        read_again(common, desk, &mut outcome);
    }
    if status == exit::DONE {
        desk.forget_old();
    }
    Ok(Some(status))
}

/// Whether somebody is there who is asked.
pub(super) fn asks(common: &Common, agreement: Agreement) -> bool {
    agreement == Agreement::Ask && common.format == Format::Human && std::io::stdin().is_terminal()
}

/// Rows up to which they are read again without being asked for.
const FEW: u64 = 1_000;

/// Says what the rows hold by now, read anew once the commit is through.
fn read_again(common: &Common, desk: &Desk, outcome: &mut RunOutcome) {
    let session = std::mem::take(&mut outcome.session);
    let Some(receipt) = outcome.receipt.as_ref().filter(|receipt| receipt.rows().0 <= FEW) else { return };
    // It is one more look: where it fails, nothing is said that would not hold.
    let seen = desk
        .with(|context| look_again(context, session, Some(&receipt.run), Show::First(0), &mut |_, _| Ok(())));
    match seen {
        Ok(seen) => print(&human::again::in_short(&seen, &common.on_again())),
        Err(failure) => tell(&format!(
            "note: the rows could not be re-read after the commit ({failure}); look again with: marktwice look --run {}{}\n",
            receipt.run,
            common.on_again()
        )),
    }
}

/// Shows a run from before anything is asked until it has ended.
pub(super) struct Stage<'c> {
    common: &'c Common,
    form: Box<dyn Renderer>,
    /// The tables of its steps.
    tables: Vec<String>,
    /// How many rows are shown at first, where more are there to be asked for.
    first: Option<Show>,
}

impl<'c> Stage<'c> {
    /// One that shows so many rows at first, where more are there to be asked for.
    pub(super) fn showing(common: &'c Common, first: Option<Show>) -> Self {
        Stage { common, form: renderer(common), tables: Vec::new(), first }
    }

    /// Shows what the run is about.
    pub(super) fn before(&mut self, shown: &Shown<'_>) {
        let text = match (shown, self.first) {
            (Shown::Change(preview), Some(first)) => {
                let mut some = (*preview).clone();
                cut(&mut some, first);
                self.form.render(&Screen::Before(&Shown::Change(&some)))
            }
            (Shown::Undo(preview), Some(first)) => {
                let mut some = (*preview).clone();
                cut_undo(&mut some, first);
                self.form.render(&Screen::Before(&Shown::Undo(&some)))
            }
            (shown, None) => self.form.render(&Screen::Before(shown)),
        };
        if let Some(text) = text {
            self.form.print(&text);
        }
        self.tables = tables_of(shown);
    }

    /// Tells how it ended and gives the exit status. What went wrong goes to standard error, for people, whatever form was
    /// asked for.
    pub(super) fn finish(mut self, document: &str, outcome: &RunOutcome, file: &str) -> u8 {
        let status = exit::of_end(&outcome.end);
        let (tables, again) = (&self.tables, &self.common.on_again());
        let screen = Screen::Outcome(Ended { document, outcome, status, tables, file, again });
        let done = status == exit::DONE || status == exit::RECEIPT_INCOMPLETE;
        let machine = self.common.format == Format::Json;
        if machine || done {
            let text = self.form.render(&screen).unwrap_or_default();
            self.form.print(&text);
        }
        if if machine { status != exit::DONE } else { !done } {
            tell(&People { verbose: false }.render(&screen).unwrap_or_default());
        }
        status
    }
}
