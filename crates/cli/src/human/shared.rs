//! Everybody's runs on a database, for people.

use marktwice_core::witness::Left;
use marktwice_core::words::{self, moment};

use super::history::cut;
use super::table::{Text, TextColumn, draw};
use super::{BOLD, DIM, cells, number, styled, width};
use crate::past::Shared;

/// What everybody's runs have left in a database.
pub(crate) fn shared(shared: &Shared) -> String {
    let rows = shared.rows();
    let mut out = format!(
        "{} ({}) · {} in {}\n",
        styled(BOLD, &cells::escape(&shared.database.name)),
        shared.database.engine,
        words::of(rows.len() as u64, "run"),
        cells::escape(&shared.table)
    );
    if rows.is_empty() {
        out.push_str(if shared.all.is_empty() { "  none yet\n" } else { "  none of them fits\n" });
        return out;
    }
    let column = |name: &str, priority: u8, cell: &dyn Fn(&Left) -> Text| TextColumn {
        name: name.to_owned(),
        cells: rows.iter().map(|left| cell(left)).collect(),
        priority,
        right: name == "changed",
    };
    // Of a run that is taken back it is told by which.
    let outcome = |left: &Left| {
        let by = shared
            .all
            .iter()
            .find(|other| other.undo_of.as_ref() == Some(&left.id) && other.stands(&shared.all));
        match by {
            Some(by) => Text::default().push(DIM, format!("undone by {}", cells::escape(&by.run))),
            None => Text::plain("stands"),
        }
    };
    let what = |left: &Left| {
        let undone = shared.all.iter().find(|other| left.undo_of.as_ref() == Some(&other.id));
        match (left.kind.as_str(), undone) {
            ("undo", Some(undone)) => Text::plain(format!("undo of {}", cells::escape(&undone.run))),
            (kind, _) => Text::plain(cells::escape(kind)),
        }
    };
    let own =
        |left: &Left| Text::default().push(DIM, if shared.own.contains(&left.id) { "yours" } else { "" });
    let text =
        |of: &Option<String>, most| Text::plain(of.as_deref().map_or(String::new(), |of| cut(of, most)));
    let columns = vec![
        column("run", 0, &|left| Text::default().push(BOLD, cells::escape(&left.run))),
        column("started", 1, &|left| Text::plain(moment(&left.started))),
        column("who", 0, &|left| text(&left.who, 24)),
        column("what", 0, &what),
        column("changed", 0, &|left| Text::plain(number(left.changed))),
        column("outcome", 0, &outcome),
        column("title", 2, &|left| text(&left.title, 40)),
        column("", 3, &own),
    ];
    out.push_str(&draw(columns, width()).0);
    out
}
