//! A month: how much takes place on each day, calendar by calendar.

use jiff::civil::Date;

use super::canvas::Canvas;
use super::grid::{Room, days_of_line, legend};
use crate::render::{style, wrap};
use crate::report::agenda::{Line, letter};
use crate::words::grid_legend;

const WEEK: usize = 7;

/// Weeks down, days across. `days` are whole weeks; those of other months are empty.
pub(crate) fn month(lines: &[Line], days: &[Date], of: Date, names: &[String], room: &Room) -> String {
    let pitch = (room.width / WEEK).clamp(6, 18);
    let counts = |day: Date| {
        let on = |number: usize| {
            let here = |line: &&Line| {
                let (first, last) = days_of_line(line);
                line.shown.number == number && (first..=last).contains(&day)
            };
            lines.iter().filter(here).count()
        };
        let some = (0..names.len()).map(|number| (number, on(number))).filter(|(_, count)| *count > 0);
        some.map(|(number, count)| format!("{}{count}", letter(number))).collect::<Vec<_>>().join(" ")
    };
    let mut out = String::new();
    let mut head = Canvas::new(pitch * WEEK, 1);
    for (at, day) in days.iter().take(WEEK).enumerate() {
        head.put(0, at * pitch, pitch - 1, &day.strftime("%a").to_string(), style::FAINT);
    }
    out += &head.text();
    for week in days.chunks(WEEK) {
        let texts: Vec<String> = week
            .iter()
            .map(|day| if day.month() == of.month() { counts(*day) } else { String::new() })
            .collect();
        let texts: Vec<Vec<String>> = texts.iter().map(|text| wrap(text, pitch - 1)).collect();
        let high = texts.iter().map(Vec::len).max().unwrap_or(0).max(1);
        let mut canvas = Canvas::new(pitch * WEEK, 1 + high);
        for (at, (day, text)) in week.iter().zip(&texts).enumerate() {
            if day.month() != of.month() {
                continue;
            }
            let paint = if *day == room.today { style::STRONG } else { style::FAINT };
            let mark = if *day == room.today { "*" } else { "" };
            canvas.put(0, at * pitch, pitch - 1, &format!("{}{mark}", day.day()), paint);
            for (row, text) in text.iter().enumerate() {
                canvas.put(1 + row, at * pitch, pitch - 1, text, anstyle::Style::new());
            }
        }
        out += &canvas.text();
    }
    out + &grid_legend(&legend(names), false)
}
