//! The week: as a picture where there is room, and as a list.

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};
use maud::{Markup, html};

use crate::render::human::grid::{Bar, Block, Grid, Room, days_of_line, letters, title};
use crate::render::{clean, shorten, wrap};
use crate::report::agenda::{Line, letter};
use crate::report::overview::Week;
use crate::words::clock_change_words;

/// Sizes, in units of the picture.
const HOURS: usize = 46;
const DAY: usize = 136;
const ROW: usize = 15;
const BAR: usize = 18;
const TOP: usize = 24;
/// Rows that are drawn at most.
const HIGHEST: usize = 64;
/// Of a day's list.
const ENOUGH: usize = 60;

/// The class of a calendar.
pub(super) fn colour(number: usize) -> String {
    format!("c{}", number % 6)
}

fn days(week: &Week) -> Vec<Date> {
    week.first.series(Span::new().days(1)).take(7).collect()
}

/// Hours down, days across: laid out as on a terminal.
pub(super) fn picture(week: &Week, now: Option<Timestamp>, zone: &TimeZone) -> Markup {
    let days = days(week);
    let today = now.map_or(week.first, |now| now.to_zoned(zone.clone()).date());
    let room = Room { width: 80, height: HIGHEST, zone: zone.clone(), today, beside: false };
    let grid = Grid::of(&week.occurrences, &days, week.calendars.len(), &room);
    let top = TOP + grid.bar_rows() * BAR + BAR;
    let base = top + grid.rows.len() * ROW;
    let (width, height) = (HOURS + 7 * DAY, base + BAR);
    html! {
        svg.wide.full viewBox=(format!("0 0 {width} {height}")) width=(width) height=(height) role="img"
            aria-label="The week" {
            @for (at, day) in days.iter().enumerate() {
                @if *day == today { rect.today x=(left(at)) y="0" width=(DAY) height=(height) {} }
                text x=(left(at) + 6) y="16" font-size="13" font-weight=(if *day == today { "700" } else { "400" }) {
                    (day.strftime("%a %-d %b"))
                }
                line.rule x1=(left(at)) x2=(left(at)) y1="0" y2=(height) {}
            }
            @for (at, row) in grid.rows.iter().enumerate() {
                @if row.minute % 60 == 0 {
                    line.rule x1=(HOURS) x2=(width) y1=(top + at * ROW) y2=(top + at * ROW) {}
                    text.dim x=(HOURS - 6) y=(top + at * ROW + 11) font-size="11" text-anchor="end" {
                        (format!("{:02}{}00", row.minute / 60, if row.again { "'" } else { ":" }))
                    }
                }
            }
            @for bar in &grid.bars { (draw_bar(bar)) }
            (hidden_bars(&grid))
            @for (at, column) in grid.columns.iter().enumerate() {
                @let hidden = column.hidden();
                @let room = if hidden.is_empty() { DAY - 4 } else { DAY - 22 };
                @for block in &column.blocks { (draw_block(block, (left(at), top), room)) }
                @for (row, number) in &hidden {
                    text.dim x=(left(at) + DAY - 3) y=(top + row * ROW + 11) font-size="11" text-anchor="end" {
                        "+" (number)
                    }
                }
                @for (side, y) in [(0, top - 5), (1, base + 13)] {
                    @if !column.outside[side].is_empty() {
                        text.dim x=(left(at) + 6) y=(y) font-size="11" {
                            "+" (column.outside[side].len()) (if side == 0 { " earlier" } else { " later" })
                        }
                    }
                }
            }
        }
        @for (day, twice) in &grid.changes { p.legend { (clock_change_words(*day, *twice)) } }
    }
}

fn left(column: usize) -> usize {
    HOURS + column * DAY
}

fn class(lines: &[&Line]) -> String {
    colour(lines.first().map_or(0, |line| line.shown.number))
}

/// A rectangle in which a text stands, as far as there is room; nothing is drawn outside of it.
fn cell(lines: &[&Line], (x, y): (usize, usize), (width, height): (usize, usize), text: &str) -> Markup {
    let letters_in_line = (width * 10 / 63).max(2);
    let shown = (height.saturating_sub(2) / 13).max(1);
    let mut wrapped = wrap(text, letters_in_line);
    if wrapped.len() > shown {
        let rest = wrapped.split_off(shown - 1).join(" ");
        wrapped.push(shorten(&rest, letters_in_line));
    }
    html! {
        svg x=(x) y=(y) width=(width) height=(height) {
            title { @for line in lines { (clean(&line.calendar)) ": " (clean(&line.title)) " " } }
            rect class=(class(lines)) width=(width) height=(height) rx="3" {}
            @for (at, line) in wrapped.iter().enumerate() {
                text.on x="4" y=(11 + at * 13) font-size="11" { (shorten(line, letters_in_line)) }
            }
        }
    }
}

fn draw_bar(bar: &Bar<'_>) -> Markup {
    let Some(row) = bar.row else { return html! {} };
    let (from, to) = bar.columns;
    let (start, end) = (if bar.from_before { "← " } else { "" }, if bar.goes_on { " →" } else { "" });
    let text = format!("{start}{} {}{end}", letters(&bar.lines), title(&bar.lines));
    cell(&bar.lines, (left(from) + 2, TOP + row * BAR), ((to - from + 1) * DAY - 4, BAR - 2), &text)
}

fn hidden_bars(grid: &Grid<'_>) -> Markup {
    let hidden = |at: usize| {
        let over = grid.bars.iter().filter(|bar| bar.row.is_none());
        over.filter(|bar| (bar.columns.0..=bar.columns.1).contains(&at)).count()
    };
    let y = TOP + grid.bar_rows().saturating_sub(1) * BAR + 12;
    html! {
        @for at in 0..grid.columns.len() {
            @if hidden(at) > 0 { text.dim x=(left(at) + 6) y=(y) font-size="11" { "+" (hidden(at)) } }
        }
    }
}

fn draw_block(block: &Block<'_>, (left, top): (usize, usize), room: usize) -> Markup {
    let Some((lane, lanes)) = block.lane else { return html! {} };
    let (from, to) = block.rows;
    let width = room / lanes;
    let (start, end) = (if block.from_before { "↑ " } else { "" }, if block.goes_on { " ↓" } else { "" });
    let text = format!("{start}{} {}{end}", letters(&block.lines), title(&block.lines));
    let at = (left + 2 + lane * width, top + from * ROW + 1);
    cell(&block.lines, at, (width - 1, (to - from + 1) * ROW - 2), &text)
}

/// Day by day, for small screens and for whom it is read aloud.
pub(super) fn list(week: &Week, zone: &TimeZone) -> Markup {
    html! {
        div.days {
            @for day in days(week) {
                @let of_day: Vec<&Line> = week.occurrences.iter().filter(|line| is_on(line, day)).collect();
                h3 { (day.strftime("%A %-d %B")) }
                ul {
                    @if of_day.is_empty() { li.more { "nothing" } }
                    @for line in of_day.iter().take(ENOUGH) { (list_item(line, day, zone)) }
                    @if of_day.len() > ENOUGH { li.more { "and " (of_day.len() - ENOUGH) " more" } }
                }
            }
        }
    }
}

fn is_on(line: &Line, day: Date) -> bool {
    let (first, last) = days_of_line(line);
    (first..=last).contains(&day)
}

fn list_item(line: &Line, day: Date, zone: &TimeZone) -> Markup {
    let at = |second: i64| {
        let at = Timestamp::from_second(second).unwrap_or_default().to_zoned(zone.clone());
        if at.date() == day {
            at.strftime("%H:%M").to_string()
        } else {
            at.strftime("%-d %b %H:%M").to_string()
        }
    };
    let time = match line.all_day {
        true => "all day".to_owned(),
        false => format!("{}–{}", at(line.shown.from), at(line.shown.to)),
    };
    let letter = letter(line.shown.number);
    html! {
        li {
            span.chip.(colour(line.shown.number)) { (if line.copy { letter.to_lowercase() } else { letter }) }
            " " span.time { (time) } " " (title(&[line]))
        }
    }
}
