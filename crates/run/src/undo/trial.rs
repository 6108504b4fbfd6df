//! An undo that is tried while its run is still open: all of it for real, in the run's own transaction, and then taken back.

use std::rc::Rc;

use marktwice_core::finding::Code;
use marktwice_core::image::Image;
use marktwice_core::receipt::{Receipt, RunKind, SnapshotRef};
use marktwice_core::record::SnapshotHeader;
use marktwice_core::table::Target;
use marktwice_core::undo::{Policy, RowChange};
use marktwice_core::words;
use marktwice_port::around::{AroundTx, Plainly};
use marktwice_port::{Constraint, EngineError, Tx};

use super::compared::{Only, carried_out};
use super::rows::{Definitions, InMemory};
use super::{UndoOptions, batches_of, facts};
use crate::apply::Agreement;
use crate::context::Context;
use crate::faults::Faults;
use crate::history::Entry;
use crate::outcome::{End, Failure};
use crate::phases::{Begun, Prepared, reason};
use crate::preview::Show;

/// How a trial ended.
pub(crate) enum Tried {
    /// Every row went back, and was compared.
    Proven,
    /// It was not tried, for this reason.
    No(String),
    /// It fails, for this reason.
    Fails(String),
}

/// Findings that are let pass while an undo is tried: whoever undoes the run is shown them then.
const ALLOWED: [Code; 4] = [Code::UndeclaredWrite, Code::UnmeasuredWrite, Code::NoWayBack, Code::MaySkip];

/// Tries the undo of a run with these rows.
///
/// # Errors
/// Where what was tried could not be taken back: the transaction is then good for nothing but a rollback.
pub(crate) fn attempt(
    context: &Context<'_>,
    tx: &mut dyn Tx,
    (receipt, header): (&Receipt, SnapshotHeader),
    rows: Vec<RowChange>,
) -> Result<Tried, EngineError> {
    if receipt.kind != RunKind::Apply || receipt.steps.iter().all(|step| step.changed == 0) {
        return Ok(Tried::No("nothing was changed".to_owned()));
    }
    let options = UndoOptions {
        run: Some(receipt.run.clone()),
        agreement: Agreement::Given,
        allow: ALLOWED.to_vec(),
        rows: None,
        policy: Policy::default(),
        only: Vec::new(),
        hold: false,
        show: Show::First(0),
    };
    let tables: Vec<Target> = header.tables.clone();
    if !tx.begin_trial(&tables)? {
        return Ok(Tried::No("this engine takes no part of a transaction back".to_owned()));
    }
    let tried = inside(context, tx, (receipt, header), rows, &options);
    tx.end_trial()?;
    tried
}

fn inside(
    context: &Context<'_>,
    tx: &mut dyn Tx,
    (receipt, header): (&Receipt, SnapshotHeader),
    rows: Vec<RowChange>,
    options: &UndoOptions,
) -> Result<Tried, EngineError> {
    let entry = Entry {
        receipt: receipt.clone(),
        undone_by: None,
        can_undo: true,
        parts: Vec::new(),
        obstacle: None,
    };
    let nowhere = SnapshotRef {
        file: String::new(),
        bytes: 0,
        checksum: String::new(),
        rows: rows.len() as u64,
        encrypted_for: None,
    };
    let undoing = match batches_of(&mut Definitions::Tx(&mut *tx), entry, nowhere, &header, options) {
        Ok(Ok(undoing)) => undoing,
        Ok(Err(end)) => return Ok(Tried::Fails(reason(&end))),
        Err(Failure::Engine(EngineError::Interrupted)) => return Err(EngineError::Interrupted),
        Err(failure) => return Ok(Tried::Fails(failure.to_string())),
    };
    let acts = |back: &super::Back| {
        back.side.iter().chain(&back.fired).any(|write| write.how.code() == Code::UnmeasuredWrite)
    };
    if undoing.batches.iter().any(acts) {
        return Ok(Tried::No("its triggers do more than write rows, and would do it again".to_owned()));
    }
    let again = tx.asks_keys_again() && rows.iter().all(|row| matches!(row.image, Image::Update { .. }));
    let kept = InMemory { header, rows: Rc::new(rows) };
    let only = Only::parse(&[], &undoing.batches);
    let prepared = Prepared::unrecorded(context, facts(&undoing, options));
    let begun = Begun::new(prepared, Box::new(AroundTx::lent(&mut *tx, Plainly)));
    let (mut seen, mut triggered) = (Vec::new(), Vec::new());
    let done = carried_out(begun, (context, &kept), &undoing, (options, &only), (&mut seen, &mut triggered));
    match done {
        Ok(()) => {}
        Err(ended) => match ended.end {
            End::Failed(Failure::Engine(EngineError::Interrupted)) => return Err(EngineError::Interrupted),
            End::Failed(Failure::Engine(error)) => return Ok(failed(&error, again)),
            end => return Ok(Tried::Fails(told(&end))),
        },
    }
    Ok(match tx.would_commit_trial() {
        Ok(()) => Tried::Proven,
        Err(error) => failed(&error, again),
    })
}

/// A trial that the engine has ended. `again` is whether foreign keys are asked in it that a later undo would not ask.
fn failed(error: &EngineError, again: bool) -> Tried {
    if again && error.broken(Constraint::ForeignKey).is_some() {
        let why = "a foreign key stops it here, and may not stop it later: the engine asks such a key again of rows that the same \
                   transaction has changed";
        return Tried::No(format!("{why} ({error})"));
    }
    Tried::Fails(error.to_string())
}

/// Why a trial failed: what is told of rows after a statement is told of rows that are put back.
fn told(end: &End) -> String {
    match end {
        End::Verification(Faults { count, whole: None, .. }) => {
            format!(
                "{} would not be as {} before",
                words::rows(*count),
                words::either(*count, "it was", "they were")
            )
        }
        end => reason(end),
    }
}
