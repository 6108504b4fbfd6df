//! Rows that stand in the way, named cell by cell.

use std::fmt::Write;

use marktwice_core::moved::{How, Moved};
use marktwice_core::table::Target;
use marktwice_core::undo::Conflict;
use marktwice_core::verify::Fault;
use marktwice_run::{Conflicts, Faults};

use super::{BOLD, DIM, cells, number, rows, styled, verb};

fn column(target: &Target, at: usize) -> String {
    target.columns.get(at).map_or(String::new(), |c| cells::escape(&c.name))
}

fn more(out: &mut String, count: u64, named: usize) {
    let rest = count.saturating_sub(named as u64);
    if rest > 0 {
        let _ = writeln!(out, "  {}", styled(DIM, &format!("and {} more", rows(rest))));
    }
}

/// Rows that cannot be put back.
pub(crate) fn conflicts(conflicts: &Conflicts) -> String {
    let count = conflicts.count;
    let mut out = format!("  {} {} changed since the run:\n", rows(count), verb(count, "has", "have"));
    list(&mut out, conflicts);
    out
}

/// Rows that are left alone, as was asked for.
pub(crate) fn left_alone(conflicts: &Conflicts) -> String {
    let count = conflicts.count;
    let mut out = format!("  {} {} left alone:\n", rows(count), verb(count, "is", "are"));
    list(&mut out, conflicts);
    out
}

fn list(out: &mut String, conflicts: &Conflicts) {
    for named in &conflicts.named {
        let name = format!("{} {}", conflicts.target.table, cells::key(&named.key));
        let name = styled(BOLD, &name);
        match &named.conflict {
            Conflict::Gone => {
                let _ = writeln!(out, "    {name}  is gone");
            }
            Conflict::KeyTaken => {
                let _ = writeln!(out, "    {name}  another row has its key now");
            }
            Conflict::Changed(diff) => {
                for cell in diff {
                    let _ = writeln!(
                        out,
                        "    {name}  {}: the run left {}, now {}",
                        column(&conflicts.target, cell.column),
                        cells::value(&cell.before),
                        cells::value(&cell.after)
                    );
                }
            }
        }
    }
    more(out, conflicts.count, conflicts.named.len());
}

/// Rows that are not as they should be.
pub(crate) fn faults(faults: &Faults) -> String {
    let mut out = String::new();
    if let Some(whole) = &faults.whole {
        let _ = writeln!(out, "  {whole}");
    }
    for named in &faults.named {
        let name = styled(BOLD, &format!("{} {}", faults.target.table, cells::key(&named.key)));
        let text = match &named.fault {
            Fault::Vanished => "cannot be found any more".to_owned(),
            Fault::StillThere => "is still there".to_owned(),
            Fault::Outside(cell) => format!(
                "{} became {}, which the statement does not assign",
                column(&faults.target, cell.column),
                cells::value(&cell.after)
            ),
            Fault::Unforeseen(cell) => format!(
                "{} became {}, foreseen was {}",
                column(&faults.target, cell.column),
                cells::value(&cell.after),
                cells::value(&cell.before)
            ),
        };
        let _ = writeln!(out, "    {name}  {text}");
    }
    more(&mut out, faults.count, faults.named.len());
    out
}

/// Rows that moved.
pub(crate) fn moved(moved: &Moved, table: &str) -> String {
    let mut out = String::new();
    let counts = [
        (moved.joined, "joined: they match now and did not before"),
        (moved.left, "left: they matched before and do not now"),
        (moved.changed, "hold something else than previewed"),
        (moved.result, "would become something else than previewed"),
    ];
    for (count, what) in counts.iter().filter(|(count, _)| *count > 0) {
        let _ = writeln!(out, "  {:>5}  {what}", number(*count));
    }
    for row in &moved.named {
        let how = match row.how {
            How::Elsewhere => "holds something else in a column that does not matter",
            How::Joined => "joined",
            How::Left => "left",
            How::Changed => "changed",
            How::Result => "other result",
        };
        let _ = writeln!(out, "    {}  {how}", styled(BOLD, &format!("{table} {}", cells::key(&row.key))));
    }
    more(&mut out, moved.total(), moved.named.len());
    out
}
