//! A month: how much takes place on each day, calendar by calendar.

use anstyle::Style;
use jiff::civil::Date;

use super::canvas::Canvas;
use super::grid::{Room, colour, days_of_line, legend};
use crate::render::style;
use crate::report::agenda::{Line, letter};
use crate::words::grid_legend;

const WEEK: usize = 7;

/// How many entries of a calendar there are on a day, with its letter; copies with a small one.
type Count = (String, Style);

/// Weeks down, days across. `days` are whole weeks; those of other months are empty.
pub(crate) fn month(lines: &[Line], days: &[Date], of: Date, names: &[String], room: &Room) -> String {
    let pitch = (room.width / WEEK).clamp(6, 18);
    let mut head = Canvas::new(pitch * WEEK, 1);
    for (at, day) in days.iter().take(WEEK).enumerate() {
        head.put(0, at * pitch, pitch - 1, &day.strftime("%a").to_string(), style::FAINT);
    }
    let mut out = head.text();
    for week in days.chunks(WEEK) {
        let is_own = |day: &Date| day.month() == of.month();
        let rows: Vec<Vec<Vec<Count>>> =
            week.iter()
                .map(|day| {
                    if is_own(day) {
                        in_rows(counts(lines, *day, names.len()), pitch - 1)
                    } else {
                        Vec::new()
                    }
                })
                .collect();
        let high = rows.iter().map(Vec::len).max().unwrap_or(0).max(1);
        let mut canvas = Canvas::new(pitch * WEEK, 2 + high);
        for (at, (day, rows)) in week.iter().zip(&rows).enumerate().filter(|(_, (day, _))| is_own(day)) {
            let (mark, paint) = if *day == room.today { ("*", style::STRONG) } else { ("", style::FAINT) };
            canvas.put(0, at * pitch, pitch - 1, &format!("{}{mark}", day.day()), paint);
            for (row, counts) in rows.iter().enumerate() {
                let mut left = at * pitch;
                for (text, paint) in counts {
                    canvas.put(1 + row, left, text.len(), text, *paint);
                    left += text.len() + 1;
                }
            }
        }
        out += &canvas.text();
    }
    out + &grid_legend(&legend(names), false)
}

fn counts(lines: &[Line], day: Date, calendars: usize) -> Vec<Count> {
    let is_here = |line: &&Line| {
        let (first, last) = days_of_line(line);
        (first..=last).contains(&day)
    };
    let here: Vec<&Line> = lines.iter().filter(is_here).collect();
    let mut counts = Vec::new();
    for number in 0..calendars {
        for copy in [false, true] {
            let some = here.iter().filter(|line| line.shown.number == number && line.copy == copy).count();
            let letter = if copy { letter(number).to_lowercase() } else { letter(number) };
            counts.extend((some > 0).then(|| (format!("{letter}{some}"), colour(number))));
        }
    }
    counts
}

/// As many beside one another as there is room for.
fn in_rows(counts: Vec<Count>, width: usize) -> Vec<Vec<Count>> {
    let mut rows: Vec<Vec<Count>> = Vec::new();
    let mut used = 0;
    for count in counts {
        let length = count.0.len();
        match rows.last_mut().filter(|_| used + 1 + length <= width) {
            Some(row) => row.push(count),
            None => {
                rows.push(vec![count]);
                used = length;
                continue;
            }
        }
        used += 1 + length;
    }
    rows
}
