//! How a run ended, and the questions before it.

use std::fmt::Write;

use marktwice_core::Code;
use marktwice_core::archive::{Made, stays};
use marktwice_core::mark::StepKind;
use marktwice_core::receipt::{Came, Receipt, RunKind, StepReceipt, UndoProof};
use marktwice_core::triggered::TriggeredReceipt;
use marktwice_core::value::{Value, key_text};
use marktwice_run::{Answer, Compared, End, Preview, RunOutcome, Settling, Shown, UndoPreview, Verdict};

use super::{BOLD, DIM, GOOD, STOP, WARN, cells, conflicts, number, rows, styled, trouble, verb};
use crate::printed;
use crate::report::Trouble;

/// The question before the transaction is opened.
pub(crate) fn question(shown: &Shown<'_>) -> String {
    match shown {
        Shown::Change(preview) => of_change(preview),
        Shown::Undo(preview) => of_undo(preview),
    }
}

/// `this 1 row`, `these 3 rows`.
fn these(n: u64) -> String {
    if n == 1 { "this 1 row".to_owned() } else { format!("these {}", rows(n)) }
}

fn of_change(preview: &Preview) -> String {
    let name = cells::escape(&preview.database.name);
    let [step] = preview.steps.as_slice() else {
        let matched = preview.steps.iter().map(|step| step.block.matched).sum();
        return format!("Commit these {} steps, {} in all, to {name}?", preview.steps.len(), rows(matched));
    };
    let block = &step.block;
    match block.kind {
        StepKind::Delete => format!("Delete {} from {name}?", these(block.matched)),
        StepKind::Insert => format!("Bring {} into {name}?", these(block.matched)),
        _ if block.uncertain() || block.changes == block.matched => {
            format!("Commit {} to {name}?", these(block.matched))
        }
        _ => {
            let matched = number(block.matched);
            format!("Commit {} of the {matched} matched to {name}?", these(block.changes))
        }
    }
}

fn of_undo(preview: &UndoPreview) -> String {
    let name = cells::escape(&preview.database.name);
    let all = these(preview.matched());
    match preview.batches.as_slice() {
        [one] if one.block.kind == StepKind::Insert => format!("Bring {all} back into {name}?"),
        [one] if one.block.kind == StepKind::Delete => format!("Take {all} away from {name} again?"),
        [_] => format!("Put {all} back in {name}?"),
        many => {
            format!("Take these {} steps back in {name}, {} in all?", many.len(), rows(preview.matched()))
        }
    }
}

/// The question inside the open transaction.
pub(crate) fn question_inside(run: &str, matched: u64, changed: u64) -> String {
    format!(
        "Run {run} is open: {} matched, {} changed, every one verified. Commit? (60 s, then it is rolled back)",
        rows(matched),
        number(changed)
    )
}

/// The end of an apply or undo.
pub(crate) fn outcome(outcome: &RunOutcome, tables: &[&str], file: &str, on: &str) -> String {
    ended(outcome, outcome.receipt.is_some(), (tables, file), on)
}

/// The same, where something may have been begun that nobody wrote down: a rehearsal.
pub(crate) fn ended(outcome: &RunOutcome, begun: bool, (tables, file): (&[&str], &str), on: &str) -> String {
    let mut out = String::new();
    let table = tables.get(outcome.step.unwrap_or(0)).copied().unwrap_or_default();
    if let Some(step) = outcome.step {
        let _ = writeln!(out, "{} ({}):", styled(BOLD, &format!("Step {}", step + 1)), cells::escape(table));
    }
    let run = outcome.receipt.as_ref().map_or("", |r| r.run.as_str());
    let stays = outcome.receipt.as_ref().and_then(|receipt| stays(&receipt.makes));
    let begun = match stays {
        Some(stays) => format!("Rolled back; no row changed, but {}.", cells::escape(&stays)),
        None if begun => "Rolled back; nothing changed.".to_owned(),
        None => "Not begun; nothing changed.".to_owned(),
    };
    match &outcome.end {
        End::Committed => committed(&mut out, outcome, on),
        End::ReceiptIncomplete(error) => {
            committed(&mut out, outcome, on);
            let _ = writeln!(out, "{}: the receipt could not be completed: {error}", styled(WARN, "note"));
            let _ = writeln!(out, "  marktwice settle{on} completes it");
        }
        End::NothingToDo(why) => {
            let _ = writeln!(out, "{} {why}.", styled(GOOD, "Nothing to do:"));
        }
        End::Stopped(codes) => {
            let names: Vec<&str> = codes.iter().map(|c| c.as_str()).collect();
            let _ = writeln!(out, "{} by {}. {begun}", styled(STOP, "Stopped"), names.join(", "));
        }
        End::Expectation(all) => {
            let texts: Vec<String> = all
                .iter()
                .map(|u| match u.what {
                    "rows" => format!("{}, {} expected", rows(u.found), u.expected),
                    what => format!("{} {what}, {} expected", number(u.found), u.expected),
                })
                .collect();
            let _ = writeln!(out, "{}: {}. {begun}", styled(STOP, "Not as expected"), texts.join("; "));
        }
        End::Checks(table, all) => {
            let said = all.iter().all(|found| found.check.was.is_some());
            let what = if said { "Not what was said to be there." } else { "A check does not hold." };
            let _ = writeln!(out, "{} {begun}", styled(STOP, what));
            for found in all {
                let _ = writeln!(out, "  {}", cells::escape(&found.told(table)));
            }
        }
        End::Queries(all) => {
            let _ = writeln!(out, "{} {begun}", styled(STOP, "A check does not hold."));
            for found in all {
                let _ = writeln!(out, "  {}", cells::escape(&found.told()));
            }
        }
        End::Moved(moved) => {
            let n = moved.total();
            let what = format!("{} {} moved since the preview", rows(n), verb(n, "has", "have"));
            let _ = writeln!(out, "{}. {begun}", styled(STOP, &what));
            out.push_str(&conflicts::moved(moved, table));
            if let Some(preview) = printed::preview(file, on) {
                let _ = writeln!(out, "  preview it again: {}", cells::escape(&preview));
            }
        }
        End::Conflicts(found) => {
            let _ = writeln!(
                out,
                "{} {begun}",
                styled(STOP, "Rows have changed since the run, so none is put back.")
            );
            if outcome.receipt.is_some() {
                out.push_str(&conflicts::conflicts(found));
            }
        }
        End::Changed(what) => {
            let _ = writeln!(out, "{}: {what}. {begun}", styled(STOP, "Not the same any more"));
        }
        End::Verification(faults) => {
            let _ = writeln!(out, "{} {begun}", styled(STOP, "The outcome is not what was previewed."));
            out.push_str(&conflicts::faults(faults));
        }
        End::SideEffects(what, code) => {
            let _ =
                writeln!(out, "{}: {what}. {begun}", styled(STOP, "It would write outside the matched rows"));
            let _ = writeln!(out, "  look at what is named; let it pass with --allow {code}");
        }
        End::NoUndo(why) => {
            let _ = writeln!(
                out,
                "{}: {}. {begun}",
                styled(STOP, "An undo of this change would fail"),
                cells::escape(why)
            );
            let _ = writeln!(out, "  if the change is wanted all the same, add --allow {}", Code::NoWayBack);
        }
        End::Declined(answer) => {
            let why = match answer {
                Answer::NobodyThere => {
                    "Nobody is there to ask. Agree with --yes and an expected count (--rows N) or a mark (--mark ID)."
                }
                Answer::TooLate => "No answer in time.",
                Answer::Interrupted => "Interrupted.",
                Answer::Yes | Answer::No => "Declined.",
            };
            let _ = writeln!(out, "{why} {begun}");
        }
        End::Failed(failure) => {
            out.push_str(&trouble::trouble(&Trouble::failure(failure, file)));
            if !matches!(failure, marktwice_run::Failure::Unsettled { .. }) {
                let _ = writeln!(out, "{begun}");
            }
        }
        End::Unknown(error) => {
            let _ =
                writeln!(out, "{}: {error}", styled(STOP, &format!("The outcome of run {run} is unknown")));
            let _ = writeln!(out, "  find out with: {}", styled(BOLD, &format!("marktwice settle{on}")));
        }
    }
    for note in &outcome.notes {
        let _ = writeln!(out, "{}: {note}", styled(WARN, "note"));
    }
    out
}

/// That the other rows of a table were not touched, and by what that is known.
pub(super) fn untouched(step: &StepReceipt) -> Option<String> {
    let (others, wrote) = (step.untouched.filter(|n| *n > 0)?, step.engine_count?);
    let other = if others == 1 { "row" } else { "rows" };
    Some(format!(
        "the {}{}{} {other} of {}: untouched (the engine wrote {}, and each was verified)",
        if step.kind == StepKind::Insert { "" } else { "other " },
        if step.about { "about " } else { "" },
        number(others),
        step.table,
        rows(wrote)
    ))
}

/// What was done to the rows of a step.
fn done(kind: RunKind, step: &StepReceipt) -> String {
    match (kind, step.kind) {
        (RunKind::Apply, StepKind::Delete) => format!("{} deleted", rows(step.matched)),
        (RunKind::Apply, StepKind::Insert) => {
            let keys = came(step).map_or(String::new(), |keys| format!(": {keys}"));
            format!("{} inserted{keys}", rows(step.matched))
        }
        (RunKind::Apply, _) if step.changed < step.matched => {
            format!("{} changed ({} matched)", rows(step.changed), number(step.matched))
        }
        (RunKind::Apply, _) => format!("{} changed", rows(step.changed)),
        (RunKind::Undo, StepKind::Insert) => format!("{} brought back", rows(step.changed)),
        (RunKind::Undo, StepKind::Delete) => format!("{} taken away again", rows(step.changed)),
        (RunKind::Undo, StepKind::Update) => format!("{} put back", rows(step.changed)),
    }
}

/// The keys of rows that came in: `apiary_id 10, 11`.
fn came(step: &StepReceipt) -> Option<String> {
    // Rows without a key have none to name.
    let named = |came: &&Came| !came.keys.is_empty() && !came.columns.is_empty();
    let came = step.came.as_ref().filter(named)?;
    let show = |json: &serde_json::Value| {
        let value = Value::from_json(json).unwrap_or_else(|_| Value::Text(json.to_string().into()));
        key_text(&[value])
    };
    let one = came.columns.len() == 1;
    let key = |key: &Vec<serde_json::Value>| {
        let named = came.columns.iter().zip(key);
        named
            .map(|(column, cell)| if one { show(cell) } else { format!("{column} {}", show(cell)) })
            .collect::<Vec<_>>()
            .join(", ")
    };
    let keys = came.keys.iter().map(key).collect::<Vec<_>>().join(if one { ", " } else { "; " });
    let more = step.matched.saturating_sub(came.keys.len() as u64);
    let more = if more > 0 { format!(" and {} more", number(more)) } else { String::new() };
    Some(match came.columns.as_slice() {
        [column] => format!("{column} {keys}{more}"),
        _ => format!("{keys}{more}"),
    })
}

fn committed(out: &mut String, outcome: &RunOutcome, on: &str) {
    let Some(receipt) = &outcome.receipt else { return };
    let done = match (receipt.kind, receipt.steps.as_slice()) {
        (_, []) => return,
        (RunKind::Undo, [step]) => self::done(receipt.kind, step),
        (RunKind::Apply, [step]) => match step.kind {
            StepKind::Delete => format!("{} deleted and committed", rows(step.matched)),
            StepKind::Insert => format!("{} inserted and committed", rows(step.matched)),
            _ if step.changed < step.matched => {
                format!("{} changed and committed ({} matched)", rows(step.changed), number(step.matched))
            }
            _ => format!("{} committed", rows(step.changed)),
        },
        (kind, steps) => {
            let idle =
                |step: &StepReceipt| kind == RunKind::Undo && step.changed == 0 && step.along.is_empty();
            for (at, step) in steps.iter().enumerate().filter(|(_, step)| !idle(step)) {
                let table = cells::escape(&step.table);
                let name = format!("step {}", at + 1);
                let name =
                    if kind == RunKind::Undo { String::new() } else { format!("{}  ", styled(DIM, &name)) };
                let along = along(step).map_or(String::new(), |text| format!("; {text}"));
                let _ = writeln!(out, "  {name}{table}: {}{}", self::done(kind, step), cells::escape(&along));
            }
            if kind == RunKind::Undo {
                let (written, along) = (receipt.rows().1, receipt.along());
                let tables = steps.iter().filter(|step| !idle(step)).map(|step| step.table.as_str());
                format!("{} in {} taken back", rows(written + along), super::steps_or_tables(tables))
            } else {
                format!("{} steps committed", steps.len())
            }
        }
    };
    let keys = match (receipt.kind, receipt.steps.as_slice()) {
        (RunKind::Apply, [step]) => came(step),
        _ => None,
    };
    let way = receipt.back.clone().unwrap_or_default();
    let _ = write!(out, "{} as {}.", styled(GOOD, &done), styled(BOLD, &receipt.run));
    let tried = receipt.undo_proof.as_ref();
    let fails = way.obstacles.first().map(String::as_str).or_else(|| tried.and_then(UndoProof::fails));
    if let Some(why) = fails {
        let _ = writeln!(out, " It cannot be undone: {}", cells::escape(why));
        return;
    }
    let back = printed::undo(receipt, on);
    let again = if receipt.kind == RunKind::Undo { "To take the undo back" } else { "To take it back" };
    let _ = writeln!(out, " {again}: {}", styled(BOLD, &back));
    if let Some(keys) = keys {
        let _ = writeln!(out, "  {}", cells::escape(&keys));
    }
    if let [step] = receipt.steps.as_slice()
        && let Some(text) = along(step)
    {
        let _ = writeln!(out, "  {}", cells::escape(&text));
    }
    if let Some((file, bytes)) = &receipt.copy {
        let text = format!("the whole database as it was before: {} in {file}", super::size(*bytes));
        let _ = writeln!(out, "  {}", styled(DIM, &cells::escape(&text)));
    }
    if let Some((table, n)) = &receipt.kept_copy {
        let text = format!("the rows as they were: {} in the table {table}, which an undo leaves", rows(*n));
        let _ = writeln!(out, "  {}", styled(DIM, &cells::escape(&text)));
    }
    if let Some(made) = made(receipt) {
        let _ = writeln!(out, "  {}", styled(DIM, &cells::escape(&format!("{made}, which an undo leaves"))));
    }
    if let Some(rows) = put_away(receipt) {
        let text = format!("before they went: {rows}, and an undo takes them out again");
        let _ = writeln!(out, "  {}", styled(DIM, &cells::escape(&text)));
    }
    if let Some(rows) = triggered(receipt) {
        let text = match receipt.kind {
            RunKind::Apply => format!("written by triggers, and in the snapshot: {rows}"),
            RunKind::Undo => format!("other tables are put right: {rows}"),
        };
        let _ = writeln!(out, "  {}", cells::escape(&text));
    }
    if let (RunKind::Apply, [step]) = (receipt.kind, receipt.steps.as_slice())
        && let Some(text) = untouched(step)
    {
        let _ = writeln!(out, "  {}", styled(DIM, &cells::escape(&text)));
    }
    if let Some(owned) = way.owned_in_words() {
        let _ = writeln!(out, "  undo will restore everything except {}", cells::escape(&owned));
    }
    match &receipt.undo_proof {
        Some(UndoProof::Proven) => {
            let _ = writeln!(out, "  {}", styled(DIM, "the undo was tried and works"));
        }
        Some(UndoProof::NotTried(why)) => {
            let _ = writeln!(out, "  {}", cells::escape(&format!("the undo was not tried: {why}")));
        }
        Some(UndoProof::Expected | UndoProof::Fails(_)) | None => {}
    }
}

/// Rows that a step took along; `None` where there are none.
pub(crate) fn along(step: &StepReceipt) -> Option<String> {
    let mut parts = Vec::new();
    for taken in &step.along {
        for (n, what) in [(taken.deleted, "deleted"), (taken.changed, "changed")] {
            if n > 0 {
                parts.push(format!("{} of {} {what}", rows(n), taken.table));
            }
        }
    }
    (!parts.is_empty()).then(|| format!("taken along by foreign keys: {}", parts.join(", ")))
}

/// What triggers did to other tables; `None` where they did nothing that was held.
pub(crate) fn triggered(receipt: &Receipt) -> Option<String> {
    let mut parts = Vec::new();
    for table in receipt.triggered.iter().flatten().filter(|table| !table.archive) {
        let counts = [(table.inserted, "inserted"), (table.changed, "changed"), (table.deleted, "deleted")];
        for (n, what) in counts.into_iter().filter(|(n, _)| *n > 0) {
            parts.push(format!("{} of {} {what}", rows(n), table.table));
        }
    }
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// Tables that a run has made for rows that it put away; `None` where it made none.
pub(crate) fn made(receipt: &Receipt) -> Option<String> {
    let made = receipt.makes.iter().filter(|making| making.made == Made::Yes);
    let made: Vec<String> = made.map(|making| format!("the table {} was made", making.table)).collect();
    (!made.is_empty()).then(|| made.join(", "))
}

/// What a run has put away before it went.
pub(crate) fn put_away(receipt: &Receipt) -> Option<String> {
    let tables = receipt.triggered.iter().flatten().filter(|table| table.archive);
    let one = |table: &TriggeredReceipt| format!("{} copied into {}", rows(table.inserted), table.table);
    let parts: Vec<String> = tables.map(one).collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// What the rows of a run say, as the end of a sentence.
fn compared(rows_of: Option<&Compared>) -> String {
    match rows_of {
        None => ".".to_owned(),
        Some(Compared::AsLeft) => ": its rows are as it left them.".to_owned(),
        Some(Compared::AsBefore) => ": its rows are as they were before it.".to_owned(),
        Some(Compared::Not(why)) => format!("; its rows were not compared: {}.", cells::escape(why)),
        Some(Compared::Mixed { left, before, neither, .. }) => {
            let mut parts = Vec::new();
            for (n, what) in [(left, "as it left them"), (before, "as before it"), (neither, "neither")] {
                if *n > 0 {
                    parts.push(format!("{} {} {what}", rows(*n), verb(*n, "is", "are")));
                }
            }
            format!(": {}.", parts.join(", "))
        }
    }
}

/// What became of runs that were cut off.
pub(crate) fn settled(database: &str, found: &Settling, on: &str) -> String {
    let name = styled(BOLD, &cells::escape(database));
    let all = &found.runs;
    let known = if found.notes.is_empty() { ": the outcome of every run is known" } else { "" };
    let warn = |note: &String| format!("  {} {}\n", styled(WARN, "warn"), cells::escape(note));
    let notes: String = found.notes.iter().map(warn).collect();
    if all.is_empty() {
        return format!("{name} · Nothing to settle{known}.\n{notes}");
    }
    let aside = all.iter().all(|one| one.verdict == Verdict::SetAside);
    let mut out = format!(
        "{name} · {}\n",
        if aside {
            "set aside".to_owned()
        } else if all.len() == 1 {
            "1 run was cut off".to_owned()
        } else {
            format!("{} runs were cut off", all.len())
        }
    );
    for one in all {
        let run = styled(BOLD, &one.receipt.run);
        let known = compared(one.rows.as_ref());
        let mut tables: Vec<&str> = one.receipt.steps.iter().map(|s| s.table.as_str()).collect();
        tables.dedup();
        let table = tables.join(" or ");
        // Where the engine keeps no record, the row that a run leaves in its own transaction is one.
        let left = one.receipt.witness.as_ref().filter(|_| one.witnessed);
        let witness = left.map(|witness| cells::escape(&witness.table));
        let says = match (one.record, &witness) {
            (Some(true), Some(table)) => format!(", says the row that it left in {table}"),
            (Some(false), Some(table)) => format!(": it left no row in {table}"),
            (Some(_), None) => ", says the server's own record of it".to_owned(),
            (None, _) => String::new(),
        };
        match one.verdict {
            Verdict::Committed => {
                let _ = writeln!(out, "{run} committed{says}{known}");
            }
            Verdict::RolledBack if one.rows.is_none() => {
                let changed = match stays(&one.receipt.makes) {
                    Some(stays) => format!("no row changed, but {}", cells::escape(&stays)),
                    None => "nothing changed".to_owned(),
                };
                let _ = writeln!(out, "{run} was rolled back: it had not asked for COMMIT, so {changed}.");
            }
            Verdict::RolledBack => {
                let _ = writeln!(out, "{run} was rolled back{says}{known}");
            }
            Verdict::SetAside => {
                let why = one.receipt.why.as_deref().unwrap_or("");
                let _ = writeln!(out, "{run} is {}.", cells::escape(why));
            }
            Verdict::Undecidable => {
                let record = match (one.record, &witness) {
                    (Some(true), Some(table)) => format!("it left a row in {table}"),
                    (Some(false), Some(table)) => format!("it left no row in {table}"),
                    (Some(true), None) => "the server's record says that it committed".to_owned(),
                    (Some(false), None) => "the server's record says that it did not commit".to_owned(),
                    (None, _) => "the server keeps no record of it".to_owned(),
                };
                let _ = writeln!(out, "{} {run}: {record}{known}", styled(STOP, "Undecidable"));
                if one.record.is_some() {
                    let _ = writeln!(out, "  has the database been put back from a backup?");
                }
                let _ = writeln!(
                    out,
                    "  to go on without knowing: {}",
                    styled(BOLD, &format!("marktwice settle {}{on} --aside --reason TEXT", one.receipt.run))
                );
            }
        }
        if let Some(Compared::Mixed { named, .. }) = &one.rows {
            for key in named {
                let _ = writeln!(out, "    {} {}", cells::escape(&table), cells::key(key));
            }
        }
    }
    out.push_str(&notes);
    out
}
