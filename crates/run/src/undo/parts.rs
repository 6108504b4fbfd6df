//! Of which tables a step wrote rows, its own and those that it took along: what is put back together, and in which order.

use marktwice_core::image::Role;
use marktwice_core::mark::{Foreseen, StepKind};
use marktwice_core::receipt::StepReceipt;
use marktwice_core::record::{SnapshotHeader, StepRecord};

/// Rows of one table that a step wrote, its own and those that it took along.
pub(super) struct Part {
    pub(super) table: usize,
    /// Whether rows went, and whether rows stayed and were written, or came in.
    pub(super) went: bool,
    pub(super) kind: StepKind,
    pub(super) foreseen: Vec<Foreseen>,
}

/// The tables of a step, its own also where only triggers wrote anything, in the order in which their rows can be brought back: its own first, then parents before children.
pub(super) fn parts(
    (receipt, only_triggers): (Option<&StepReceipt>, bool),
    header: &SnapshotHeader,
    (at, step): (usize, &StepRecord),
) -> Vec<Part> {
    let mut all: Vec<Part> = Vec::new();
    if only_triggers || receipt.is_none_or(|receipt| receipt.changed > 0) {
        let (kind, foreseen) = (step.kind, step.foreseen.clone());
        all.push(Part { table: step.table, went: kind == StepKind::Delete, kind, foreseen });
    }
    for along in header.along.iter().filter(|along| along.step == at && along.role == Role::Cascade) {
        let name = header.tables.get(along.table).map(|t| t.table.as_str());
        let rows = receipt.and_then(|r| r.along.iter().find(|a| Some(a.table.as_str()) == name));
        let Some(rows) = rows else { continue };
        let kind = if rows.changed > 0 { StepKind::Update } else { StepKind::Delete };
        let went = rows.deleted > 0;
        match all.iter_mut().find(|part| part.table == along.table) {
            Some(part) => {
                part.went |= went;
                if kind == StepKind::Update {
                    part.kind = kind;
                }
                let more: Vec<Foreseen> = along
                    .foreseen
                    .iter()
                    .filter(|f| !part.foreseen.iter().any(|known| known.column == f.column))
                    .cloned()
                    .collect();
                part.foreseen.extend(more);
            }
            None => all.push(Part { table: along.table, went, kind, foreseen: along.foreseen.clone() }),
        }
    }
    all
}
