//! Plain tables: no lines, columns apart by two blanks.

use comfy_table::{Cell, CellAlignment, ContentArrangement, Table, presets};

use super::style;

/// Where a column's text stands.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Align {
    Left,
    Right,
}

/// Returns a table with a heading; cells must be clean already, and may be painted.
pub(crate) fn table(columns: &[(&str, Align)], rows: &[Vec<String>]) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(columns.iter().map(|(title, align)| cell(&style::paint(style::STRONG, title), *align)));
    for row in rows {
        table.add_row(row.iter().zip(columns).map(|(text, (_, align))| cell(text, *align)));
    }
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    let lines = table.lines().map(|line| format!("  {}\n", line.trim_end()));
    lines.collect()
}

fn cell(text: &str, align: Align) -> Cell {
    let alignment = match align {
        Align::Left => CellAlignment::Left,
        Align::Right => CellAlignment::Right,
    };
    Cell::new(text).set_alignment(alignment)
}
