//! Tables and lines, as wide as there is room: no lines drawn, columns apart by two blanks.
//!
//! Whoever writes a table does not know how wide it may be. Until it is shown it travels within its text, between marks
//! that no clean text can hold; [`fit`] lays it out.

use std::collections::VecDeque;

use comfy_table::{Cell, CellAlignment, ContentArrangement, Table, presets};

use super::{style, text};

/// What a column holds, and so how it gives way where there is no room.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Column {
    /// Stands at the right, never cut.
    Number,
    /// Never cut: paths, addresses, times, what is typed again.
    Whole,
    /// Days, with or without an hour; never cut. The numbers of the month stand below each other.
    Day,
    /// Cut in the middle: both ends tell names apart.
    Name,
    /// Cut at its end.
    Text,
    /// Goes on in further lines of its column, never cut.
    Prose,
}

/// Around a table, behind a row, behind a cell: what [`text::clean`] lets nobody write.
const TABLE: char = '\u{1d}';
const ROW: char = '\u{1e}';
const CELL: char = '\u{1f}';
/// Before a line of its own below a row.
const BELOW: char = '\u{1c}';
/// How far such a line is set in.
const INSET: usize = 6;
/// What stands between two columns, and before the first.
const GAP: usize = 2;
/// Names and texts are not made narrower than this.
const NARROWEST: usize = 14;
/// By number, as they travel.
const COLUMNS: [Column; 6] =
    [Column::Text, Column::Name, Column::Whole, Column::Number, Column::Prose, Column::Day];

/// Returns a table with a heading, to be shown by [`fit`]; cells must be clean already, and may be painted. Where no
/// column has a title, there is no heading.
pub(crate) fn table(columns: &[(&str, Column)], rows: &[Vec<String>]) -> String {
    let mut out = String::from(TABLE);
    let mut row = |cells: &mut dyn Iterator<Item = String>| {
        cells.for_each(|cell| out.extend([cell.as_str(), &CELL.to_string()]));
        out.push(ROW);
    };
    let sort = |column| COLUMNS.iter().position(|sort| *sort == column).unwrap_or(0);
    row(&mut columns.iter().map(|(title, column)| format!("{}{title}", sort(*column))));
    rows.iter().for_each(|cells| row(&mut cells.iter().cloned()));
    out.push(TABLE);
    out
}

/// Returns a row that is a line of its own below the one before it, as wide as the table may be.
pub(crate) fn below(line: &str) -> Vec<String> {
    vec![format!("{BELOW}{line}")]
}

/// Lays out the tables of a text, and breaks its lines, for a terminal of `width` columns. Where there is none, nothing is
/// broken or cut.
pub(crate) fn fit(written: &str, width: Option<usize>) -> String {
    let mut out = String::new();
    for (at, part) in written.split(TABLE).enumerate() {
        if at % 2 == 1 {
            out += &laid_out(part, width);
        } else if let Some(width) = width {
            for line in part.split_inclusive('\n') {
                let (line, end) = line.strip_suffix('\n').map_or((line, ""), |line| (line, "\n"));
                out += &text::broken_at_blanks(line, width).join("\n");
                out += end;
            }
        } else {
            out += part;
        }
    }
    out
}

fn laid_out(written: &str, width: Option<usize>) -> String {
    let mut rows = written
        .split_terminator(ROW)
        .map(|row| row.split_terminator(CELL).map(str::to_owned).collect::<Vec<_>>());
    let heads = rows.next().unwrap_or_default();
    let columns: Vec<(&str, Column)> = heads
        .iter()
        .map(|head| {
            let (sort, title) = head.split_at(1);
            (title, sort.parse().ok().and_then(|at: usize| COLUMNS.get(at)).copied().unwrap_or(Column::Text))
        })
        .collect();
    let mut rows: Vec<_> = rows.collect();
    for (at, _) in columns.iter().enumerate().filter(|(_, (_, column))| *column == Column::Day) {
        align_days(rows.iter_mut().filter_map(|row| row.get_mut(at)));
    }
    // Lines of their own leave a mark where they belong: they say nothing about the columns.
    let mut lines: VecDeque<String> = VecDeque::new();
    for row in &mut rows {
        if let Some(line) = row.first().and_then(|cell| cell.strip_prefix(BELOW)) {
            lines.push_back(line.to_owned());
            // A cell of no width would be drawn as none; the last column has room for one.
            *row = vec![String::new(); columns.len()];
            if let Some(last) = row.last_mut() {
                *last = format!("{BELOW}.");
            }
        }
    }
    let set = match width.map(|width| widths(&columns, &rows, width)) {
        None => drawn(&columns, &rows),
        Some(None) => blocks(&columns, &rows, width.unwrap_or_default()),
        Some(Some(widths)) => {
            for row in &mut rows {
                for ((cell, width), (_, column)) in row.iter_mut().zip(&widths).zip(&columns) {
                    *cell = match column {
                        Column::Prose => text::broken_within(cell, *width),
                        column => text::cut(cell, *width, *column == Column::Name),
                    };
                }
            }
            drawn(&columns, &rows)
        }
    };
    let mut out = String::new();
    for line in set.split_inclusive('\n') {
        match lines.front().filter(|_| line.contains(BELOW)) {
            Some(below) => {
                let below = format!("{:INSET$}{below}", "");
                let parts = match width {
                    Some(width) => text::broken_with(&below, width, INSET, INSET + GAP),
                    None => vec![below],
                };
                out += &format!("{}\n", parts.join("\n"));
                lines.pop_front();
            }
            None => out += line,
        }
    }
    out
}

/// Makes room before a number of one figure: `Sat  5 Dec` above `Sat 12 Dec`.
pub(crate) fn align_days<'c>(cells: impl Iterator<Item = &'c mut String>) {
    let mut narrow = Vec::new();
    let mut is_any_wide = false;
    for cell in cells {
        match cell.as_bytes() {
            [_, _, _, b' ', b'0'..=b'9', b' ', ..] => narrow.push(cell),
            [_, _, _, b' ', b'0'..=b'9', b'0'..=b'9', ..] => is_any_wide = true,
            _ => {}
        }
    }
    if is_any_wide {
        narrow.into_iter().for_each(|cell| cell.insert(3, ' '));
    }
}

/// How wide each column is; `None` where there is no room for them beside each other.
fn widths(columns: &[(&str, Column)], rows: &[Vec<String>], width: usize) -> Option<Vec<usize>> {
    let cells = |at: usize| rows.iter().filter_map(move |row| row.get(at));
    let mut widths: Vec<usize> = columns
        .iter()
        .enumerate()
        .map(|(at, (title, _))| {
            cells(at).map(|cell| text::width(cell)).chain([text::width(title)]).max().unwrap_or(0)
        })
        .collect();
    let room = width.checked_sub(GAP * columns.len())?;
    let least = |at: usize| match columns[at].1 {
        Column::Number | Column::Whole | Column::Day => usize::MAX,
        Column::Name | Column::Text => text::width(columns[at].0).max(NARROWEST),
        Column::Prose => {
            let words = cells(at).flat_map(|cell| text::words(cell)).map(text::width);
            words.chain([text::width(columns[at].0), NARROWEST]).max().unwrap_or(0)
        }
    };
    let least: Vec<usize> = (0..columns.len()).map(least).collect();
    while widths.iter().sum::<usize>() > room {
        // What goes on in the next line loses nothing; a text loses less than a name.
        let ease = |at: usize| match columns[at].1 {
            Column::Prose => 20,
            Column::Text => 4,
            _ => 0,
        };
        let may_shrink = (0..columns.len()).filter(|at| widths[*at] > least[*at]);
        let widest = may_shrink.max_by_key(|at| widths[*at] + ease(*at))?;
        widths[widest] -= 1;
    }
    Some(widths)
}

fn drawn(columns: &[(&str, Column)], rows: &[Vec<String>]) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    let cell = |text: &str, column: Column| {
        // Colour around nothing would keep what stands before it from ending the line.
        let text = if text::width(text) == 0 { "" } else { text };
        let alignment = if column == Column::Number { CellAlignment::Right } else { CellAlignment::Left };
        Cell::new(text).set_alignment(alignment)
    };
    if columns.iter().any(|(title, _)| !title.is_empty()) {
        let titles = columns.iter().map(|(title, column)| cell(&style::paint(style::STRONG, title), *column));
        table.set_header(titles);
    }
    for row in rows {
        table.add_row(row.iter().zip(columns).map(|(text, (_, column))| cell(text, *column)));
    }
    for column in table.column_iter_mut() {
        column.set_padding((0, GAP as u16));
    }
    let lines = table.lines().map(|line| format!("  {}\n", line.trim_end()));
    lines.collect()
}

/// A block for each row, where columns have no room beside each other.
fn blocks(columns: &[(&str, Column)], rows: &[Vec<String>], width: usize) -> String {
    let titles = columns.iter().skip(1).map(|(title, _)| text::width(title)).max().unwrap_or(0);
    let mut out = String::new();
    for row in rows {
        let mut lines = Vec::new();
        if titles == 0 {
            let cells: Vec<_> = row.iter().map(|cell| cell.trim_end()).filter(|c| !c.is_empty()).collect();
            lines.push(format!("  {}", cells.join("  ")));
        } else {
            for (at, (cell, (title, _))) in row.iter().zip(columns).enumerate() {
                match at {
                    _ if cell.is_empty() => {}
                    0 => lines.push(format!("  {}", style::paint(style::STRONG, cell))),
                    _ => {
                        let room = titles - text::width(title);
                        lines.push(format!("    {title}{:room$}  {cell}", ""));
                    }
                }
            }
        }
        // What goes on stands below what it goes on from.
        let inset = if titles == 0 { GAP * 2 } else { GAP * 3 + titles };
        for line in lines {
            let indent = line.len() - line.trim_start().len();
            out += &text::broken_with(&line, width, indent, inset.min(width / 2)).join("\n");
            out.push('\n');
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::{Column, fit, table};
    use crate::render::{clean, style, text};

    proptest! {
        /// Whatever stands in the cells: no line is wider than the terminal, but for one word that has no blanks; and
        /// nothing but names and texts is cut.
        #[test]
        fn tables_fit(
            cells in proptest::collection::vec(proptest::collection::vec("[a-z果园🍎é/ ]{0,40}", 4), 0..6),
            width in 40_usize..170,
        ) {
            let columns =
                [("Name", Column::Name), ("Path", Column::Whole), ("Title", Column::Text), ("Entries", Column::Number)];
            let rows: Vec<Vec<String>> = cells
                .iter()
                .map(|row| vec![clean(&row[0]), clean(&row[1]), style::paint(style::WARN, &row[2]), row[3].len().to_string()])
                .collect();
            let written = table(&columns, &rows);
            let shown = fit(&written, Some(width));
            for line in shown.lines() {
                let is_one_word = text::plain(line).split_whitespace().count() < 2;
                prop_assert!(text::width(line) <= width || is_one_word, "{width}: {line}");
            }
            let squeezed = |text: &str| text::plain(text).split_whitespace().collect::<String>();
            for row in &rows {
                prop_assert!(squeezed(&shown).contains(&squeezed(&row[1])), "{shown}");
            }
            let whole = fit(&written, None);
            prop_assert!(rows.iter().flatten().all(|cell| squeezed(&whole).contains(&squeezed(cell))));
        }
    }

    #[test]
    fn rooms_are_shared() {
        let columns = [
            ("Route", Column::Name),
            ("Title", Column::Text),
            ("At", Column::Whole),
            ("Result", Column::Prose),
        ];
        let row = |cells: [&str; 4]| cells.map(str::to_owned).to_vec();
        let rows = [
            row([
                "press-hall-bookings-to-notice-board",
                "Delivery van, second round through the upper rows",
                "/office/",
                "failed: the server took too long",
            ]),
            row(["days", "Picking", "/office/calendars/presses/", "done"]),
        ];
        let written = table(&columns, &rows);
        let shown = [120, 90, 46].map(|width| fit(&format!("Times.\n{written}"), Some(width))).join("\n");
        insta::assert_snapshot!(text::plain(&shown));
    }
}
