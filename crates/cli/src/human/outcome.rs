//! How a run ended, and the questions before it.

use std::fmt::Write;

use marktwice_core::mark::StepKind;
use marktwice_core::receipt::RunKind;
use marktwice_run::{Answer, Compared, End, Preview, RunOutcome, Settling, Verdict};

use super::{BOLD, GOOD, STOP, WARN, cells, conflicts, number, rows, styled, trouble, verb};
use crate::report::Trouble;

/// The question before the transaction is opened.
pub(crate) fn question(preview: &Preview) -> String {
    let these = |n: u64| if n == 1 { "this 1 row".to_owned() } else { format!("these {}", rows(n)) };
    let name = cells::escape(&preview.database.name);
    match (&preview.undo_of, preview.kind) {
        (Some(_), StepKind::Update) => format!("Put {} back in {name}?", these(preview.matched)),
        (Some(_), StepKind::Insert) => format!("Bring {} back into {name}?", these(preview.matched)),
        (Some(_), StepKind::Delete) => format!("Take {} away from {name} again?", these(preview.matched)),
        (None, StepKind::Delete) => format!("Delete {} from {name}?", these(preview.matched)),
        (None, _) if preview.uncertain() || preview.changes == preview.matched => {
            format!("Commit {} to {name}?", these(preview.matched))
        }
        (None, _) => {
            format!("Commit {} of the {} matched to {name}?", these(preview.changes), number(preview.matched))
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
pub(crate) fn outcome(outcome: &RunOutcome, table: &str, file: &str, on: &str) -> String {
    let mut out = String::new();
    let run = outcome.receipt.as_ref().map_or("", |r| r.run.as_str());
    let begun = if outcome.receipt.is_some() {
        "Rolled back; nothing changed."
    } else {
        "Not begun; nothing changed."
    };
    match &outcome.end {
        End::Committed => committed(&mut out, outcome, on),
        End::ReceiptIncomplete(error) => {
            committed(&mut out, outcome, on);
            let _ = writeln!(out, "{}: the receipt could not be completed: {error}", styled(WARN, "note"));
            let _ = writeln!(out, "  marktwice settle completes it");
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
                .map(|u| format!("{} {}, {} expected", number(u.found), u.what, u.expected))
                .collect();
            let _ = writeln!(out, "{}: {}. {begun}", styled(STOP, "Not as expected"), texts.join("; "));
        }
        End::Moved(moved) => {
            let n = moved.total();
            let what = format!("{} {} moved since the preview", rows(n), verb(n, "has", "have"));
            let _ = writeln!(out, "{}. {begun}", styled(STOP, &what));
            out.push_str(&conflicts::moved(moved, table));
            let _ = writeln!(out, "  look again: marktwice preview");
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
            let _ = writeln!(out, "  find out with: {}", styled(BOLD, "marktwice settle"));
        }
    }
    for note in &outcome.notes {
        let _ = writeln!(out, "{}: {note}", styled(WARN, "note"));
    }
    out
}

fn committed(out: &mut String, outcome: &RunOutcome, on: &str) {
    let Some(receipt) = &outcome.receipt else { return };
    let Some(step) = receipt.steps.first() else { return };
    let done = match (receipt.kind, step.kind) {
        (RunKind::Apply, StepKind::Delete) => format!("{} deleted and committed", rows(step.matched)),
        (RunKind::Apply, _) if step.changed < step.matched => {
            format!("{} changed and committed ({} matched)", rows(step.changed), number(step.matched))
        }
        (RunKind::Apply, _) => format!("{} committed", rows(step.changed)),
        (RunKind::Undo, StepKind::Insert) => format!("{} brought back", rows(step.changed)),
        (RunKind::Undo, StepKind::Delete) => format!("{} taken away again", rows(step.changed)),
        (RunKind::Undo, StepKind::Update) => format!("{} put back", rows(step.changed)),
    };
    let way = receipt.back.clone().unwrap_or_default();
    let _ = write!(out, "{} as {}.", styled(GOOD, &done), styled(BOLD, &receipt.run));
    if let Some(why) = way.obstacles.first() {
        let _ = writeln!(out, " It cannot be taken back: {}", cells::escape(why));
        return;
    }
    let allow: String = way.allow.iter().map(|code| format!(" --allow {code}")).collect();
    let back = format!("marktwice undo {}{on}{allow}", receipt.run);
    let again = if receipt.kind == RunKind::Undo { "To take the undo back" } else { "To take it back" };
    let _ = writeln!(out, " {again}: {}", styled(BOLD, &back));
    if let Some(owned) = way.owned_in_words() {
        let _ = writeln!(out, "  an undo puts back all but {}", cells::escape(&owned));
    }
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
        let (table, known) =
            (one.receipt.steps.first().map_or("", |s| s.table.as_str()), compared(one.rows.as_ref()));
        let says = match one.record {
            Some(true) => ", says the server's own record of it",
            Some(false) => ", says the server's own record of it",
            None => "",
        };
        match one.verdict {
            Verdict::Committed => {
                let _ = writeln!(out, "{run} committed{says}{known}");
            }
            Verdict::RolledBack if one.rows.is_none() => {
                let _ =
                    writeln!(out, "{run} was rolled back: it had not asked for COMMIT, so nothing changed.");
            }
            Verdict::RolledBack => {
                let _ = writeln!(out, "{run} was rolled back{says}{known}");
            }
            Verdict::SetAside => {
                let why = one.receipt.why.as_deref().unwrap_or("");
                let _ = writeln!(out, "{run} is {}.", cells::escape(why));
            }
            Verdict::Undecidable => {
                let record = match one.record {
                    Some(true) => "the server's record says that it committed",
                    Some(false) => "the server's record says that it did not commit",
                    None => "the server keeps no record of it",
                };
                let _ = writeln!(out, "{} {run}: {record}{known}", styled(STOP, "Undecidable"));
                if one.record.is_some() {
                    let _ = writeln!(out, "  has the server been put back from a backup?");
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
                let _ = writeln!(out, "    {} {}", cells::escape(table), cells::key(key));
            }
        }
    }
    out.push_str(&notes);
    out
}
