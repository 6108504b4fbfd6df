//! Rows in columns, fitted to the terminal: columns that matter least are left out first, and that is said.

use anstyle::Style;
use comfy_table::{Cell, CellAlignment, ContentArrangement, Table};
use unicode_width::UnicodeWidthStr;

use super::{DIM, styled};

/// One column of text.
pub(crate) struct TextColumn {
    pub(crate) name: String,
    pub(crate) cells: Vec<Text>,
    /// 0 is never left out; the highest goes first.
    pub(crate) priority: u8,
    pub(crate) right: bool,
}

/// A cell: plain parts with their styles, so that its width is known.
#[derive(Default, Clone)]
pub(crate) struct Text(pub(crate) Vec<(Style, String)>);

impl Text {
    pub(crate) fn plain(text: impl Into<String>) -> Text {
        Text(vec![(Style::new(), text.into())])
    }

    pub(crate) fn push(mut self, style: Style, text: impl Into<String>) -> Text {
        self.0.push((style, text.into()));
        self
    }

    fn width(&self) -> usize {
        self.0.iter().map(|(_, text)| text.width()).sum()
    }

    fn render(&self) -> String {
        self.0
            .iter()
            .map(|(style, text)| if *style == Style::new() { text.clone() } else { styled(*style, text) })
            .collect()
    }
}

/// Draws the columns; gives the text and the names of columns that were left out.
pub(crate) fn draw(mut columns: Vec<TextColumn>, width: Option<usize>) -> (String, Vec<String>) {
    let size =
        |c: &TextColumn| c.cells.iter().map(Text::width).chain([c.name.width()]).max().unwrap_or(0) + 2;
    let mut left_out = Vec::new();
    if let Some(width) = width {
        while columns.iter().map(size).sum::<usize>() + 2 > width {
            let least = columns
                .iter()
                .enumerate()
                .filter(|(_, c)| c.priority > 0)
                .max_by_key(|(at, c)| (c.priority, *at));
            let Some((at, _)) = least else { break };
            left_out.insert(0, columns.remove(at).name);
        }
    }
    let mut table = Table::new();
    table.load_preset(comfy_table::presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(columns.iter().map(|c| {
        let name = if c.name.is_empty() { String::new() } else { styled(DIM, &c.name) };
        Cell::new(name).set_alignment(align(c))
    }));
    let count = columns.first().map_or(0, |c| c.cells.len());
    for row in 0..count {
        table.add_row(columns.iter().map(|c| {
            Cell::new(c.cells.get(row).map(Text::render).unwrap_or_default()).set_alignment(align(c))
        }));
    }
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    let text = table.lines().map(|line| format!("  {}\n", line.trim_end())).collect();
    (text, left_out)
}

fn align(column: &TextColumn) -> CellAlignment {
    if column.right { CellAlignment::Right } else { CellAlignment::Left }
}

/// Whole rows of a table.
pub(crate) fn rows_of(target: &marktwice_core::Target, rows: &[Vec<marktwice_core::Value>]) -> String {
    let columns = target
        .columns
        .iter()
        .enumerate()
        .map(|(at, column)| TextColumn {
            name: super::cells::escape(&column.name),
            cells: rows
                .iter()
                .map(|r| Text::plain(r.get(at).map(super::cells::value).unwrap_or_default()))
                .collect(),
            priority: if target.key.columns.contains(&at) { 0 } else { 1 },
            right: rows.iter().all(|r| matches!(r.get(at), Some(marktwice_core::Value::Int(_)))),
        })
        .collect();
    draw(columns, super::width()).0
}
