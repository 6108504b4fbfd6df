//! The history and one receipt for people.

use marktwice_core::words;
use std::fmt::Write;

use marktwice_core::mark::StepKind;
use marktwice_core::param::from_map;
use marktwice_core::receipt::{DatabaseId, Receipt, RunKind, RunState, StepReceipt, UndoProof};
use marktwice_run::{Entry, Kept, side_text};

use super::table::{Text, TextColumn, draw};
use marktwice_core::words::moment;

use super::{BOLD, DIM, GOOD, STOP, WARN, beside, cells, number, rows, size, styled, trouble, width};

fn state(entry: &Entry) -> Text {
    match entry.receipt.state {
        RunState::Committed => Text::default().push(GOOD, "committed"),
        RunState::RolledBack => Text::plain("rolled back"),
        RunState::Prepared => Text::default().push(STOP, "not ended"),
        RunState::Committing => Text::default().push(STOP, "unknown"),
        RunState::SetAside => Text::default().push(DIM, "set aside"),
    }
}

/// What can be done about a run.
fn open_to(entry: &Entry) -> Text {
    match (&entry.undone_by, entry.receipt.state) {
        (Some(by), _) => Text::default().push(DIM, format!("undone by {by}")),
        (None, RunState::Committing | RunState::Prepared) => Text::plain("settle"),
        (None, _) if entry.receipt.forgotten.is_some() => Text::default().push(DIM, "rows forgotten"),
        (None, _) => Text::plain(cells::escape(&entry.in_words())),
    }
}

/// A text of at most `most` characters.
pub(super) fn cut(text: &str, most: usize) -> String {
    let text = cells::escape(text);
    if text.chars().count() <= most { text } else { text.chars().take(most - 1).chain(['…']).collect() }
}

fn what(receipt: &Receipt) -> String {
    let of = |step: &StepReceipt| format!("{} {}", step.kind.verb(), step.table);
    match (receipt.kind, &receipt.undo_of, receipt.steps.as_slice()) {
        (RunKind::Undo, Some(of), _) => format!("undo of {of}"),
        (_, _, [only]) => of(only),
        (_, _, [first, rest @ ..]) => format!("{} and {} more", of(first), rest.len()),
        (_, _, []) => String::new(),
    }
}

/// All runs.
pub(crate) fn history(
    database: &DatabaseId,
    (entries, left_out): (&[Entry], usize),
    bytes: u64,
    notes: &[String],
) -> String {
    let mut out = format!(
        "{} ({}) · {}\n",
        styled(BOLD, &cells::escape(&database.name)),
        database.engine,
        words::of(entries.len() as u64, "run")
    );
    let notes: String =
        notes.iter().map(|note| format!("  {} {}\n", styled(WARN, "warn"), cells::escape(note))).collect();
    if entries.is_empty() {
        out.push_str(&match (notes.is_empty(), left_out) {
            (false, _) => notes,
            (true, 0) => "  none yet\n".to_owned(),
            (true, n) => format!("  none of {} fits\n", words::of(n as u64, "run")),
        });
        return out;
    }
    let column = |name: &str, priority: u8, cell: &dyn Fn(&Entry) -> Text| TextColumn {
        name: name.to_owned(),
        cells: entries.iter().map(cell).collect(),
        priority,
        right: name == "rows",
    };
    let count =
        |e: &Entry| if e.receipt.steps.is_empty() { String::new() } else { number(e.receipt.rows().1) };
    let title = |e: &Entry| Text::plain(e.receipt.title.as_deref().map_or(String::new(), |t| cut(t, 40)));
    let why = |e: &Entry| {
        let text = e
            .receipt
            .why
            .as_deref()
            .filter(|_| matches!(e.receipt.state, RunState::RolledBack | RunState::SetAside))
            .unwrap_or("");
        Text::default().push(DIM, cut(text, 40))
    };
    let mut columns = vec![
        column("run", 0, &|e| Text::default().push(BOLD, &e.receipt.run)),
        column("started", 3, &|e| Text::plain(moment(&e.receipt.started))),
        column("what", 0, &|e| Text::plain(cells::escape(&what(&e.receipt)))),
        column("rows", 0, &|e| Text::plain(count(e))),
        column("outcome", 0, &state),
        column("", 0, &open_to),
        column("title", 2, &title),
    ];
    if entries.iter().any(|e| matches!(e.receipt.state, RunState::RolledBack | RunState::SetAside)) {
        columns.push(column("why", 4, &why));
    }
    let (text, _) = draw(columns, width());
    out.push_str(&text);
    let _ =
        writeln!(out, "  {}", styled(DIM, &format!("the logbook of this database takes up {}", size(bytes))));
    out.push_str(&notes);
    out
}

/// What would be forgotten.
pub(crate) fn to_forget(database: &DatabaseId, runs: &[&str], bytes: u64, undoable: u64) -> String {
    let name = styled(BOLD, &cells::escape(&database.name));
    let mut out = format!("{name} ({}) · rows of {} in {}\n", database.engine, runs.join(", "), size(bytes));
    if undoable > 0 {
        let runs = if undoable == 1 {
            "1 of them can still be undone, and then cannot"
        } else {
            "those that can still be undone then cannot"
        };
        let _ = writeln!(out, "  {runs}");
    }
    out
}

fn counts(step: &StepReceipt) -> String {
    if step.kind == StepKind::Insert {
        return format!("{} inserted", rows(step.changed));
    }
    format!("{} matched, {} changed", rows(step.matched), number(step.changed))
}

fn expected(step: &StepReceipt) -> String {
    let expected = [("rows", step.terms.rows), ("changes", step.terms.changes)];
    let expected: Vec<String> =
        expected.iter().filter_map(|(n, e)| e.map(|e| format!("{n} = {e}"))).collect();
    expected.join(", ")
}

/// What its checks have found.
fn checks(step: &StepReceipt) -> Vec<String> {
    step.checks.iter().map(|found| found.told(&step.table)).collect()
}

/// What was written outside the rows of a step, and was let pass.
fn also_written(step: &StepReceipt) -> Vec<String> {
    step.also_written.iter().map(side_text).collect()
}

/// How a run ended, and what has become of it since.
pub(crate) fn outcome_in_words(entry: &Entry) -> String {
    let receipt = &entry.receipt;
    match (&entry.undone_by, &receipt.why) {
        (Some(by), _) => format!("{}, undone by {by}", receipt.state.as_str()),
        (None, Some(why)) if !why.is_empty() => format!("{}: {why}", receipt.state.as_str()),
        (None, _) => [receipt.state.as_str(), &entry.in_words()]
            .into_iter()
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join(", "),
    }
}

/// What is known of a run, each with what it is.
pub(crate) fn facts(entry: &Entry) -> Vec<(&'static str, String)> {
    let receipt = &entry.receipt;
    let mut facts: Vec<(&'static str, String)> = Vec::new();
    let mut line = |name: &'static str, text: &str| {
        if !text.is_empty() {
            facts.push((name, text.to_owned()));
        }
    };
    let params: Vec<String> = from_map(&receipt.params).iter().map(super::preview::param).collect();
    line("with", &params.join(", "));
    let sheets = receipt.sheets.iter().map(|sheet| {
        format!("{} ({} of {})", sheet.name, marktwice_core::words::of(sheet.lines, "line"), sheet.file)
    });
    line("sheets", &sheets.collect::<Vec<_>>().join(", "));
    line("outcome", &outcome_in_words(entry));
    line("started", &moment(&receipt.started));
    line("ended", &receipt.ended.as_deref().map_or(String::new(), moment));
    line("by", receipt.user.as_deref().unwrap_or(""));
    line("agreed", &receipt.agreed);
    line("mark", receipt.mark.as_deref().unwrap_or(""));
    let told = receipt.previewed.as_ref().map(|previewed| {
        let by = previewed.by.as_deref().unwrap_or("somebody");
        format!("elsewhere, by {by} on {}, as that file says", moment(&previewed.at))
    });
    line("previewed", &told.unwrap_or_default());
    line(
        "witness",
        &receipt.witness.as_ref().map_or(String::new(), |w| format!("row {} of {}", w.id, w.table)),
    );
    if let [step] = receipt.steps.as_slice() {
        line("rows", &counts(step));
        line("expected", &expected(step));
        line("along", &super::outcome::along(step).unwrap_or_default());
        line("others", &super::outcome::untouched(step).unwrap_or_default());
        also_written(step).iter().for_each(|text| line("also", text));
        checks(step).iter().for_each(|text| line("check", text));
    }
    receipt.checks.iter().for_each(|found| line("check", &found.told()));
    line("undo", &receipt.undo_proof.as_ref().map_or(String::new(), UndoProof::in_words));
    if let Some((file, bytes)) = &receipt.copy {
        line("copy", &format!("the whole database as it was before, {} in {file}", size(*bytes)));
    }
    if let Some((table, n)) = &receipt.kept_copy {
        line("copy", &format!("the rows as they were, {} in {table}", rows(*n)));
    }
    let stays = marktwice_core::archive::stays(&receipt.makes);
    let made = match receipt.state {
        RunState::RolledBack => stays,
        _ => super::outcome::made(receipt),
    };
    line("made", &made.unwrap_or_default());
    line("put away", &super::outcome::put_away(receipt).unwrap_or_default());
    line("triggers", &super::outcome::triggered(receipt).unwrap_or_default());
    for table in receipt.triggered.iter().flatten() {
        let why = table
            .unheld
            .as_ref()
            .map(|why| format!("rows of {} are not in the snapshot: {why}", table.table));
        line("", &why.unwrap_or_default());
    }
    line("rehearsed", if receipt.rehearsed { "yes: its rows were told by a rehearsal" } else { "" });
    line("settings", &receipt.settings.join("; "));
    receipt.warnings.iter().for_each(|text| line("warning", text));
    receipt.changed_elsewhere.iter().for_each(|text| line("meanwhile", text));
    if let Some(snapshot) = &receipt.snapshot {
        line(
            "snapshot",
            &format!("{} in {} bytes, {}", rows(snapshot.rows), number(snapshot.bytes), snapshot.file),
        );
    }
    let allowed: Vec<&str> = receipt.allowed.iter().map(|c| c.as_str()).collect();
    line("let pass", &allowed.join(", "));
    facts
}

/// What is known of one step among several.
pub(crate) fn step_facts(step: &StepReceipt) -> Vec<String> {
    let expected =
        Some(expected(step)).filter(|text| !text.is_empty()).map(|text| format!("expected: {text}"));
    let mut all = vec![counts(step)];
    all.extend(expected.into_iter().chain(super::outcome::along(step)));
    all.extend(also_written(step));
    all
}

/// One run in full.
pub(crate) fn receipt(entry: &Entry, kept: &Result<Kept, String>) -> String {
    let receipt = &entry.receipt;
    let mut out = format!(
        "{} ({}) · run {} · {}\n",
        styled(BOLD, &cells::escape(&receipt.database.name)),
        receipt.database.engine,
        styled(BOLD, &receipt.run),
        what(receipt)
    );
    let texts = [("title", &receipt.title), ("reason", &receipt.reason)];
    let texts = texts.into_iter().filter_map(|(name, text)| Some((name, text.clone()?)));
    for (name, text) in texts.chain(facts(entry)) {
        let _ = writeln!(out, "  {}  {}", styled(DIM, &format!("{name:<11}")), cells::escape(&text));
    }
    let several = receipt.steps.len() > 1;
    for (at, step) in receipt.steps.iter().enumerate() {
        out.push('\n');
        if several {
            let name =
                step.terms.name.as_ref().map_or(String::new(), |name| format!(" · {}", cells::escape(name)));
            let what = format!("{} {}", step.kind.verb(), cells::escape(&step.table));
            let number = format!("Step {}", at + 1);
            let _ = writeln!(out, "  {} · {what}{name} · {}", styled(BOLD, &number), counts(step));
            let expected = expected(step);
            if !expected.is_empty() {
                let _ = writeln!(out, "    {} {expected}", styled(DIM, "expected"));
            }
            if let Some(text) = super::outcome::along(step) {
                let _ = writeln!(out, "    {}", cells::escape(&text));
            }
            for text in also_written(step) {
                let _ = writeln!(out, "    {} {}", styled(DIM, "also"), cells::escape(&text));
            }
            for text in checks(step) {
                let _ = writeln!(out, "    {} {}", styled(DIM, "check"), cells::escape(&text));
            }
        }
        for text in step.statement.lines() {
            let _ = writeln!(out, "    {}", cells::escape(text));
        }
    }
    if !receipt.findings.is_empty() {
        out.push('\n');
        out.push_str(&trouble::findings(&receipt.findings, |_| true));
    }
    match kept {
        Ok(kept) => beside::kept(&mut out, kept, several),
        Err(why) => {
            let text = format!("its rows cannot be shown: {}", cells::escape(why));
            let _ = writeln!(out, "\n  {}", styled(WARN, &text));
        }
    }
    out
}
