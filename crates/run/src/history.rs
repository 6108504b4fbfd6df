//! The history of a database: its runs, newest first, with which can still be taken back.

use marktwice_core::receipt::{Receipt, RunKind, RunState, UndoProof};
use marktwice_core::words;
use marktwice_port::{Logbook, Session};

use crate::outcome::Failure;

/// One run in the history.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its receipt.
    pub receipt: Receipt,
    /// The undo that took it back and stands.
    pub undone_by: Option<String>,
    /// Whether it can still be taken back, as far as the logbook knows.
    pub can_undo: bool,
    /// Undos that took it back in part and stand, each with the rows that it put back.
    pub parts: Vec<(String, u64)>,
    /// What is known to stand in the way of an undo now, such as a definition that has changed since.
    pub obstacle: Option<String>,
}

impl Entry {
    /// What can be said of taking it back, in one phrase; empty where there is nothing to take back.
    pub fn in_words(&self) -> String {
        let changed: u64 = self.receipt.steps.iter().map(|s| s.changed).sum();
        let of =
            |by: &str, rows: u64| format!("{} of {}, by {by}", words::number(rows), words::rows(changed));
        let taken: Vec<String> = self.parts.iter().map(|(by, rows)| of(by, *rows)).collect();
        let part = (!taken.is_empty()).then(|| format!("taken back in part ({})", taken.join("; ")));
        let open = match (&self.obstacle, &self.receipt.back) {
            _ if !self.can_undo => None,
            (Some(why), _) => Some(format!("cannot be undone ({why})")),
            (None, _) if self.receipt.undo_proof.as_ref().and_then(UndoProof::fails).is_some() => {
                let why = self.receipt.undo_proof.as_ref().and_then(UndoProof::fails).unwrap_or_default();
                Some(format!("cannot be undone ({why})"))
            }
            (None, Some(back)) => Some(back.in_words()),
            (None, None) => Some("can be undone".to_owned()),
        };
        part.into_iter().chain(open).collect::<Vec<_>>().join("; ")
    }
}

/// Whether a committed run still stands: no undo of it does.
pub(crate) fn standing(receipts: &[Receipt], run: &str) -> bool {
    undone_by(receipts, run).is_none()
}

/// The committed undo of a run that itself still stands.
pub(crate) fn undone_by<'r>(receipts: &'r [Receipt], run: &str) -> Option<&'r Receipt> {
    receipts
        .iter()
        .filter(|r| {
            // An undo that left rows out leaves the run standing in part.
            r.kind == RunKind::Undo
                && r.state == RunState::Committed
                && !r.partial
                && r.undo_of.as_deref() == Some(run)
        })
        // A run cannot take back a later one, so this ends.
        .find(|r| standing(receipts, &r.run))
}

/// All runs of a logbook, newest first.
///
/// # Errors
/// When a receipt cannot be read.
pub fn history(book: &dyn Logbook) -> Result<Vec<Entry>, Failure> {
    let (receipts, key_name) = (book.receipts()?, book.key_name());
    Ok(receipts
        .iter()
        .map(|receipt| {
            let undone_by = undone_by(&receipts, &receipt.run).map(|r| r.run.clone());
            let can_undo = receipt.can_be_undone() && undone_by.is_none();
            let part = |r: &&Receipt| {
                r.kind == RunKind::Undo
                    && r.state == RunState::Committed
                    && r.partial
                    && r.undo_of.as_deref() == Some(&receipt.run)
                    && standing(&receipts, &r.run)
            };
            let rows = |r: &Receipt| (r.run.clone(), r.steps.iter().map(|s| s.changed).sum());
            let parts = receipts.iter().filter(part).map(rows).collect();
            let shut = |key: &&String| key_name.as_ref() != Some(*key);
            let obstacle = receipt.snapshot.as_ref().and_then(|snapshot| snapshot.encrypted_for.as_ref());
            let obstacle = obstacle
                .filter(shut)
                .map(|key| format!("its rows are encrypted for {key}, and that key is not here"));
            Entry { receipt: receipt.clone(), undone_by, can_undo, parts, obstacle }
        })
        .collect())
}

/// Compares the definitions of tables with those that runs were made with: after a change an undo is refused.
pub fn look_at_definitions(session: &mut dyn Session, entries: &mut [Entry]) {
    let mut seen: Vec<((String, String), Option<String>)> = Vec::new();
    for entry in entries.iter_mut().filter(|e| e.can_undo && e.obstacle.is_none()) {
        for step in &entry.receipt.steps {
            let Some(schema) = &step.schema else { continue };
            let table = (schema.clone(), step.table.clone());
            if !seen.iter().any(|(known, _)| *known == table) {
                let now = session.describe(schema, &step.table).ok().map(|t| t.definition);
                seen.push((table.clone(), now));
            }
            let now = seen.iter().find(|(known, _)| *known == table).and_then(|(_, now)| now.as_ref());
            if now != Some(&step.definition) {
                let what = if now.is_some() { "the definition of" } else { "there is no more table" };
                let end = if now.is_some() { " has changed since" } else { "" };
                entry.obstacle = Some(format!("{what} {}{end}", step.table));
                break;
            }
        }
    }
}

/// The run that a name, or a part of one, means; the last run without a name.
///
/// # Errors
/// When there is none, or more than one.
pub fn find_run(entries: &[Entry], name: Option<&str>) -> Result<Entry, Failure> {
    let Some(name) = name else {
        return entries.first().cloned().ok_or_else(|| {
            Failure::usage(
                "there is no run on this database yet",
                "apply a change first: `marktwice apply CHANGE`",
            )
        });
    };
    if let Some(exact) = entries.iter().find(|e| e.receipt.run == name) {
        return Ok(exact.clone());
    }
    let found: Vec<&Entry> =
        entries.iter().filter(|e| !name.is_empty() && e.receipt.run.contains(name)).collect();
    match found.as_slice() {
        [one] => Ok((*one).clone()),
        [] => Err(Failure::usage(
            format!("there is no run {name} on this database"),
            "`marktwice history` lists them",
        )),
        many => {
            let names: Vec<&str> = many.iter().map(|e| e.receipt.run.as_str()).collect();
            Err(Failure::usage(format!("{name} may mean {}", names.join(", ")), "write more of the name"))
        }
    }
}
