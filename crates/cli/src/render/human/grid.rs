//! Days as a picture: hours down, days across. What is laid out is worked out first, then drawn.

use std::collections::BTreeMap;

use anstyle::{AnsiColor, Style};
use jiff::civil::{Date, DateTime, Time};
use jiff::tz::{AmbiguousOffset, TimeZone};

use super::canvas::Canvas;
use crate::render::{clean, style};
use crate::report::agenda::{Line, letter};
use crate::words::{clock_change_words, grid_legend, hidden_words};

/// Columns for the hours.
const HOURS: usize = 5;
/// A day has so many columns at least: where there are fewer, fewer days are shown.
const NARROWEST: usize = 10;
/// Bars of whole days above the hours.
const BARS: usize = 3;
/// Side by side in one day.
const LANES: usize = 2;
const DAY: i64 = 24 * 60;
/// The hours that are always shown, in minutes.
const ALWAYS: (i64, i64) = (7 * 60, 19 * 60);

/// How much room there is, and what is shown in it.
#[derive(Debug, Clone)]
pub(crate) struct Room {
    pub(crate) width: usize,
    pub(crate) height: usize,
    pub(crate) zone: TimeZone,
    pub(crate) today: Date,
    /// Each calendar in columns of its own.
    pub(crate) beside: bool,
}

/// One time in one column: a source and its copies are one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Block<'l> {
    /// The occurrences that it stands for.
    pub(crate) lines: Vec<&'l Line>,
    /// In seconds since 1970.
    start: i64,
    end: i64,
    /// Between which rows, and in which lane of how many; `None` where there is no room: it is counted.
    pub(crate) rows: (usize, usize),
    pub(crate) lane: Option<(usize, usize)>,
    pub(crate) from_before: bool,
    pub(crate) goes_on: bool,
}

/// A whole day or more.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Bar<'l> {
    pub(crate) lines: Vec<&'l Line>,
    /// From which column to which, both inclusive.
    pub(crate) columns: (usize, usize),
    /// In which row; `None` where there is no room: it is counted.
    pub(crate) row: Option<usize>,
    pub(crate) from_before: bool,
    pub(crate) goes_on: bool,
}

/// One column: a day, or a calendar in a day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Column<'l> {
    pub(crate) day: Date,
    calendar: Option<usize>,
    pub(crate) blocks: Vec<Block<'l>>,
    /// What lies before and after the rows that are shown.
    pub(crate) outside: [Vec<Block<'l>>; 2],
}

/// One row: when it begins, in minutes of the day; of an hour that comes twice, the second time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Row {
    pub(crate) minute: i64,
    pub(crate) again: bool,
}

/// The picture before it is drawn.
#[derive(Debug)]
pub(crate) struct Grid<'l> {
    pub(crate) columns: Vec<Column<'l>>,
    pub(crate) bars: Vec<Bar<'l>>,
    pub(crate) rows: Vec<Row>,
    /// Minutes in a row.
    step: i64,
    pitch: usize,
    pub(crate) changes: Vec<(Date, bool)>,
}

/// How many days there is room for; `calendars` stand beside one another.
pub(crate) fn days_that_fit(width: usize, calendars: usize) -> usize {
    (width.saturating_sub(HOURS) / (NARROWEST * calendars.max(1))).max(1)
}

impl Column<'_> {
    /// How many begin in a row for which there is no room.
    pub(crate) fn hidden(&self) -> BTreeMap<usize, usize> {
        let mut hidden: BTreeMap<usize, usize> = BTreeMap::new();
        for block in self.blocks.iter().filter(|block| block.lane.is_none()) {
            *hidden.entry(block.rows.0).or_default() += 1;
        }
        hidden
    }
}

impl<'l> Grid<'l> {
    /// Lays out days. `calendars` is how many there are.
    pub(crate) fn of(lines: &'l [Line], days: &[Date], calendars: usize, room: &Room) -> Self {
        let mut columns: Vec<Column<'_>> = Vec::new();
        for day in days {
            let of_day: Vec<Option<usize>> =
                if room.beside { (0..calendars).map(Some).collect() } else { vec![None] };
            columns.extend(of_day.into_iter().map(|calendar| Column {
                day: *day,
                calendar,
                blocks: Vec::new(),
                outside: [Vec::new(), Vec::new()],
            }));
        }
        let pitch = (room.width.saturating_sub(HOURS) / columns.len().max(1)).max(2);
        let mut grid = Self {
            bars: bars(lines, &columns),
            columns,
            rows: Vec::new(),
            step: 30,
            pitch,
            changes: days.iter().filter_map(|day| change_of(*day, &room.zone)).collect(),
        };
        for column in &mut grid.columns {
            column.blocks = blocks(lines, column, &room.zone);
        }
        grid.choose_rows(room);
        for column in 0..grid.columns.len() {
            grid.place(column, &room.zone);
        }
        grid
    }

    /// From the earliest start to the latest end; of half an hour each, or of an hour where that is too high.
    fn choose_rows(&mut self, room: &Room) {
        let (mut from, mut to) = ALWAYS;
        for column in &self.columns {
            let midnight = instant(column.day, 0, false, &room.zone);
            for block in &column.blocks {
                let minute = |at: i64| local_minute(at.max(midnight), column.day, &room.zone);
                from = from.min(minute(block.start) / 60 * 60);
                to = to.max(minute(block.end.max(block.start + 1)).div_euclid(60) * 60 + 60).min(DAY);
            }
        }
        // What else stands above and below.
        let around = 4 + self.bar_rows() + self.changes.len();
        let high = room.height.saturating_sub(around).max(8) as i64;
        self.step = if (to - from) / 30 > high { 60 } else { 30 };
        while (to - from) / self.step > high && (from < ALWAYS.0 || to > ALWAYS.1) {
            if to - ALWAYS.1 >= ALWAYS.0 - from { to -= 60 } else { from += 60 }
        }
        let twice: Vec<i64> = self
            .changes
            .iter()
            .filter(|(_, twice)| *twice)
            .filter_map(|(day, _)| {
                (0..DAY / 60).map(|hour| hour * 60).find(|minute| is_twice(*day, *minute, &room.zone))
            })
            .collect();
        let mut minute = from;
        while minute < to {
            self.rows.push(Row { minute, again: false });
            minute += self.step;
            // The hour comes twice on one of the days.
            if let Some(hour) = twice.iter().find(|hour| **hour + 60 == minute) {
                let again = (0..60 / self.step).map(|n| Row { minute: hour + n * self.step, again: true });
                self.rows.extend(again.filter(|row| row.minute >= from));
            }
        }
    }

    /// When a row begins and ends on a day, in seconds since 1970; nothing, where there is no such time then.
    fn span(&self, row: usize, day: Date, zone: &TimeZone) -> Option<(i64, i64)> {
        let Row { minute, again } = self.rows[row];
        if again && !is_twice(day, minute, zone) || !again && is_gap(day, minute, zone) {
            return None;
        }
        let start = instant(day, minute, again, zone);
        Some((start, start + self.step * 60))
    }

    fn place(&mut self, column: usize, zone: &TimeZone) {
        let day = self.columns[column].day;
        let spans: Vec<_> = (0..self.rows.len()).map(|row| self.span(row, day, zone)).collect();
        let first = spans.iter().flatten().map(|span| span.0).min().unwrap_or(i64::MAX);
        let last = spans.iter().flatten().map(|span| span.1).max().unwrap_or(i64::MIN);
        let mut inside = Vec::new();
        for mut block in std::mem::take(&mut self.columns[column].blocks) {
            let end = block.end.max(block.start + 1);
            let touched =
                |span: &Option<(i64, i64)>| span.is_some_and(|(from, to)| block.start < to && end > from);
            let rows: Vec<usize> = (0..spans.len()).filter(|row| touched(&spans[*row])).collect();
            match (rows.first(), rows.last()) {
                (Some(from), Some(to)) => {
                    block.rows = (*from, *to);
                    inside.push(block);
                }
                _ if end <= first => self.columns[column].outside[0].push(block),
                _ if block.start >= last => self.columns[column].outside[1].push(block),
                // In an hour that is not there, or comes only once elsewhere: beside what follows it.
                _ => {
                    let next =
                        (0..spans.len()).find(|row| spans[*row].is_some_and(|(from, _)| from >= block.start));
                    let row = next.unwrap_or(spans.len().saturating_sub(1));
                    block.rows = (row, row);
                    inside.push(block);
                }
            }
        }
        give_lanes(&mut inside);
        self.columns[column].blocks = inside;
    }

    pub(crate) fn bar_rows(&self) -> usize {
        let rows = self.bars.iter().filter_map(|bar| bar.row).max().map_or(0, |row| row + 1);
        rows + usize::from(self.bars.iter().any(|bar| bar.row.is_none()))
    }

    /// Draws it. `names` are the calendars, in the order of their letters.
    pub(crate) fn draw(&self, names: &[String], room: &Room) -> String {
        let width = HOURS + self.pitch * self.columns.len();
        let outside = |side: usize| self.columns.iter().any(|column| !column.outside[side].is_empty());
        let (before, after) = (usize::from(outside(0)), usize::from(outside(1)));
        let top = 1 + self.bar_rows() + before;
        let mut canvas = Canvas::new(width, top + self.rows.len() + after);
        self.head(&mut canvas, names, room);
        self.draw_bars(&mut canvas);
        for (number, row) in self.rows.iter().enumerate() {
            if row.minute % 60 == 0 {
                let sign = if row.again { "'" } else { ":" };
                let text = format!("{:02}{sign}00", row.minute / 60);
                canvas.put(top + number, 0, HOURS, &text, style::FAINT);
            }
        }
        for (number, column) in self.columns.iter().enumerate() {
            let left = HOURS + number * self.pitch;
            for row in 0..self.rows.len() {
                let is_there = self.span(row, column.day, &room.zone).is_some();
                if is_there && self.rows[row].minute % 60 == 0 {
                    canvas.put(top + row, left, 1, "·", style::FAINT);
                } else if !is_there && !self.rows[row].again {
                    canvas.put(top + row, left, self.pitch - 1, &"╌".repeat(self.pitch - 1), style::FAINT);
                }
            }
            column.blocks.iter().for_each(|block| self.draw_block(&mut canvas, top, left, block));
            self.draw_hidden(&mut canvas, top, left, column);
            for (side, at) in [(0, top.saturating_sub(1)), (1, top + self.rows.len())] {
                let hidden = column.outside[side].len();
                if hidden > 0 {
                    let words = hidden_words(hidden, side == 0);
                    canvas.put(at, left, self.pitch - 1, &words, style::WARN);
                }
            }
        }
        let mut out = canvas.text();
        for (day, twice) in &self.changes {
            out += &style::paint(style::FAINT, clock_change_words(*day, *twice));
            out.push('\n');
        }
        let all = || self.columns.iter().flat_map(|c| &c.blocks).flat_map(|b| &b.lines);
        let has_floating = all().any(|line| line.shown.floating);
        out += &grid_legend(&legend(names), has_floating);
        out
    }

    fn head(&self, canvas: &mut Canvas, names: &[String], room: &Room) {
        let per_day = if room.beside { names.len().max(1) } else { 1 };
        for (number, column) in self.columns.iter().enumerate() {
            let left = HOURS + number * self.pitch;
            let paint = if column.day == room.today { style::STRONG } else { style::FAINT };
            let mark = if column.day == room.today { "*" } else { "" };
            if number % per_day == 0 {
                let long = column.day.strftime("%a %-d %b").to_string();
                let short = column.day.strftime("%a %-d").to_string();
                let text = if long.len() + mark.len() < self.pitch * per_day { long } else { short };
                canvas.put(0, left, self.pitch * per_day - 1, &(text + mark), paint);
            }
            if let Some(calendar) = column.calendar {
                let at = left + self.pitch.saturating_sub(3);
                canvas.put(0, at, 2, &letter(calendar), colour(calendar));
            }
        }
    }

    fn draw_bars(&self, canvas: &mut Canvas) {
        let mut hidden: BTreeMap<usize, usize> = BTreeMap::new();
        for bar in &self.bars {
            let (from, to) = bar.columns;
            let Some(row) = bar.row else {
                (from..=to).for_each(|column| *hidden.entry(column).or_default() += 1);
                continue;
            };
            let width = (to - from + 1) * self.pitch - 1;
            let (start, end) = (if bar.from_before { "←" } else { "" }, if bar.goes_on { "→" } else { "" });
            let text = format!("{start}{} {}", letters(&bar.lines), title(&bar.lines));
            let paint = paint(&bar.lines);
            let left = HOURS + from * self.pitch;
            canvas.fill(1 + row, left, width, paint);
            canvas.put(1 + row, left, width - end.chars().count(), &text, paint);
            canvas.put(1 + row, left + width - end.chars().count(), end.chars().count(), end, paint);
        }
        for (column, number) in hidden {
            let left = HOURS + column * self.pitch;
            canvas.put(1 + BARS, left, self.pitch - 1, &format!("+{number}"), style::WARN);
        }
    }

    fn draw_block(&self, canvas: &mut Canvas, top: usize, left: usize, block: &Block<'_>) {
        let Some((lane, lanes)) = block.lane else { return };
        let width = (self.pitch - 1) / lanes;
        let left = left + lane * width;
        let (from, to) = block.rows;
        let paint = paint(&block.lines);
        let start = if block.from_before { "↑" } else { "" };
        let text = format!("{start}{} {}", letters(&block.lines), title(&block.lines));
        for row in from..=to {
            canvas.fill(top + row, left, width, paint);
            canvas.put(top + row, left, 1, "▎", paint);
        }
        canvas.flow((top + from, top + to), left + 1, width.saturating_sub(1), &text, paint);
        if block.goes_on {
            canvas.put(top + to, left + width - 1, 1, "↓", paint);
        }
    }

    /// Says of each row how many more begin there than there is room for.
    fn draw_hidden(&self, canvas: &mut Canvas, top: usize, left: usize, column: &Column<'_>) {
        for (row, number) in column.hidden() {
            let text = format!("+{number}");
            let at = left + (self.pitch - 1).saturating_sub(text.len());
            canvas.put(top + row, at, text.len(), &text, style::WARN);
        }
    }
}

/// The occurrences of a column, one block for what is the same entry at the same time.
fn blocks<'l>(lines: &'l [Line], column: &Column<'l>, zone: &TimeZone) -> Vec<Block<'l>> {
    let (from, to) = (instant(column.day, 0, false, zone), instant(next(column.day), 0, false, zone));
    let mut found: BTreeMap<(i64, i64, usize), Vec<&Line>> = BTreeMap::new();
    for line in lines.iter().filter(|line| !line.is_bar()) {
        let shown = &line.shown;
        let is_here = shown.from < to && (shown.to > from || shown.from == shown.to && shown.from >= from);
        if is_here && column.calendar.is_none_or(|calendar| calendar == shown.number) {
            found.entry((shown.from, shown.to, shown.group)).or_default().push(line);
        }
    }
    let block = |((start, end, _), mut lines): ((i64, i64, usize), Vec<&'l Line>)| {
        lines.sort_by_key(|line| (line.copy, line.shown.number));
        Block {
            lines,
            start: start.max(from),
            end: end.min(to),
            rows: (0, 0),
            lane: None,
            from_before: start < from,
            goes_on: end > to,
        }
    };
    found.into_iter().map(block).collect()
}

/// Bars for what takes a day or more.
fn bars<'l>(lines: &'l [Line], columns: &[Column<'_>]) -> Vec<Bar<'l>> {
    let mut found: BTreeMap<(DateTime, std::cmp::Reverse<DateTime>, usize), Vec<&Line>> = BTreeMap::new();
    for line in lines.iter().filter(|line| line.is_bar()) {
        let shown = &line.shown;
        found.entry((shown.start, std::cmp::Reverse(shown.end), shown.group)).or_default().push(line);
    }
    let mut bars: Vec<Bar<'l>> = Vec::new();
    for ((start, end, _), mut lines) in found {
        lines.sort_by_key(|line| (line.copy, line.shown.number));
        let (first, last) = days_of(start, end.0);
        // Beside one another, each calendar has its own bars.
        let calendars: Vec<Option<usize>> = match columns.first().and_then(|column| column.calendar) {
            None => vec![None],
            Some(_) => {
                let mut own: Vec<_> = lines.iter().map(|line| Some(line.shown.number)).collect();
                own.dedup();
                own
            }
        };
        for calendar in calendars {
            let lines: Vec<&Line> = lines
                .iter()
                .copied()
                .filter(|line| calendar.is_none_or(|calendar| calendar == line.shown.number))
                .collect();
            let mut at: Vec<usize> = (0..columns.len())
                .filter(|at| columns[*at].calendar == calendar && (first..=last).contains(&columns[*at].day))
                .collect();
            let (shown_first, shown_last) = (columns.first().map(|c| c.day), columns.last().map(|c| c.day));
            let bar = |from: usize, to: usize| Bar {
                lines: lines.clone(),
                columns: (from, to),
                row: None,
                from_before: shown_first.is_some_and(|shown| first < shown)
                    && columns[from].day == shown_first.unwrap_or(first),
                goes_on: shown_last.is_some_and(|shown| last > shown)
                    && columns[to].day == shown_last.unwrap_or(last),
            };
            match (calendar, at.first().copied(), at.last().copied()) {
                (None, Some(from), Some(to)) => bars.push(bar(from, to)),
                (Some(_), ..) => bars.extend(at.drain(..).map(|at| bar(at, at))),
                (None, ..) => {}
            }
        }
    }
    let mut rows: Vec<Vec<(usize, usize)>> = vec![Vec::new(); BARS];
    for bar in &mut bars {
        let free = |taken: &Vec<(usize, usize)>| {
            taken.iter().all(|(from, to)| bar.columns.1 < *from || bar.columns.0 > *to)
        };
        bar.row = rows.iter().position(free);
        if let Some(row) = bar.row {
            rows[row].push(bar.columns);
        }
    }
    bars
}

/// Puts blocks that overlap side by side, as far as there is room.
fn give_lanes(blocks: &mut [Block<'_>]) {
    blocks.sort_by_key(|block| (block.rows.0, std::cmp::Reverse(block.rows.1)));
    let mut from = 0;
    while from < blocks.len() {
        let mut end = blocks[from].rows.1;
        let mut to = from + 1;
        while to < blocks.len() && blocks[to].rows.0 <= end {
            end = end.max(blocks[to].rows.1);
            to += 1;
        }
        let mut free = [0; LANES];
        for block in &mut blocks[from..to] {
            if let Some(lane) = free.iter().position(|row| *row <= block.rows.0) {
                free[lane] = block.rows.1 + 1;
                block.lane = Some((lane, 0));
            }
        }
        let used = blocks[from..to].iter().filter_map(|block| block.lane).map(|lane| lane.0 + 1).max();
        for lane in blocks[from..to].iter_mut().filter_map(|block| block.lane.as_mut()) {
            lane.1 = used.unwrap_or(1);
        }
        from = to;
    }
}

/// The first and the last day that an occurrence touches.
pub(crate) fn days_of_line(line: &Line) -> (Date, Date) {
    days_of(line.shown.start, line.shown.end)
}

fn days_of(start: DateTime, end: DateTime) -> (Date, Date) {
    let ends_at_midnight = end.time() == Time::midnight() && end > start;
    let last = if ends_at_midnight { end.date().yesterday().unwrap_or(end.date()) } else { end.date() };
    (start.date(), last.max(start.date()))
}

/// The letters of the calendars that an entry stands in, of copies in lower case.
pub(crate) fn letters(lines: &[&Line]) -> String {
    let one = |line: &&Line| {
        let letter = letter(line.shown.number);
        if line.copy { letter.to_lowercase() } else { letter }
    };
    lines.iter().map(one).collect()
}

/// What a block is called.
pub(crate) fn title(lines: &[&Line]) -> String {
    let Some(line) = lines.first() else { return String::new() };
    let float = if line.shown.floating { "~" } else { "" };
    let cancelled = if line.shown.cancelled { "×" } else { "" };
    format!("{float}{cancelled}{}", clean(&line.title))
}

fn paint(lines: &[&Line]) -> Style {
    lines.first().map_or(Style::new(), |line| colour(line.shown.number))
}

/// A calendar's colour.
pub(crate) fn colour(number: usize) -> Style {
    let colours = [
        AnsiColor::Cyan,
        AnsiColor::Yellow,
        AnsiColor::Green,
        AnsiColor::BrightMagenta,
        AnsiColor::White,
        AnsiColor::BrightRed,
    ];
    let colour = colours[number % colours.len()];
    Style::new().bg_color(Some(colour.into())).fg_color(Some(AnsiColor::Black.into()))
}

/// The calendars with their letters, in their colours.
pub(crate) fn legend(names: &[String]) -> Vec<String> {
    let one = |(number, name): (usize, &String)| {
        format!("{} {}", style::paint(colour(number), letter(number)), clean(name))
    };
    names.iter().enumerate().map(one).collect()
}

fn next(day: Date) -> Date {
    day.tomorrow().unwrap_or(day)
}

fn civil(day: Date, minute: i64) -> DateTime {
    let time = Time::constant((minute / 60 % 24) as i8, (minute % 60) as i8, 0, 0);
    if minute >= DAY { next(day).to_datetime(Time::midnight()) } else { day.to_datetime(time) }
}

/// When a minute of a day is, in seconds since 1970; where it comes twice, the first or the second time.
fn instant(day: Date, minute: i64, again: bool, zone: &TimeZone) -> i64 {
    let at = zone.to_ambiguous_timestamp(civil(day, minute));
    let at = if again { at.later() } else { at.compatible() };
    at.map_or(0, |at| at.as_second())
}

fn local_minute(at: i64, day: Date, zone: &TimeZone) -> i64 {
    let Ok(at) = jiff::Timestamp::from_second(at) else { return 0 };
    let at = zone.to_datetime(at);
    if at.date() > day { DAY } else { i64::from(at.hour()) * 60 + i64::from(at.minute()) }
}

fn is_gap(day: Date, minute: i64, zone: &TimeZone) -> bool {
    matches!(zone.to_ambiguous_timestamp(civil(day, minute)).offset(), AmbiguousOffset::Gap { .. })
}

fn is_twice(day: Date, minute: i64, zone: &TimeZone) -> bool {
    matches!(zone.to_ambiguous_timestamp(civil(day, minute)).offset(), AmbiguousOffset::Fold { .. })
}

/// Whether clocks change on a day: `true` where an hour comes twice, `false` where one is missing.
fn change_of(day: Date, zone: &TimeZone) -> Option<(Date, bool)> {
    let halves = || (0..DAY / 30).map(|half| half * 30);
    if halves().any(|minute| is_twice(day, minute, zone)) {
        return Some((day, true));
    }
    halves().any(|minute| is_gap(day, minute, zone)).then_some((day, false))
}

#[cfg(test)]
mod tests {
    use jiff::Span;
    use jiff::civil::date;
    use unicode_width::UnicodeWidthStr as _;

    use super::*;
    use crate::report::agenda::Shown;

    /// A small generator of numbers (xorshift).
    struct Dice(u64);

    impl Dice {
        fn roll(&mut self, sides: i64) -> i64 {
            self.0 ^= self.0 << 13;
            self.0 ^= self.0 >> 7;
            self.0 ^= self.0 << 17;
            (self.0 >> 33) as i64 % sides
        }
    }

    fn line(dice: &mut Dice, first: Date, calendars: usize, zone: &TimeZone, number: usize) -> Line {
        let all_day = dice.roll(5) == 0;
        let day = first.saturating_add(Span::new().days(dice.roll(11) - 2));
        let from = instant(day, if all_day { 0 } else { dice.roll(48) * 30 + dice.roll(2) * 7 }, false, zone);
        let length = [0, 20, 30, 60, 90, 300, 700, 1500, 4000][dice.roll(9) as usize] * 60;
        let local = |at: i64| zone.to_datetime(jiff::Timestamp::from_second(at).expect("a moment"));
        let end = if all_day {
            day.saturating_add(Span::new().days(1 + dice.roll(3))).to_datetime(Time::midnight())
        } else {
            local(from + length)
        };
        Line {
            calendar: String::new(),
            routes: Vec::new(),
            copy: dice.roll(3) == 0,
            uid: number.to_string(),
            start: String::new(),
            end: String::new(),
            title: ["Press hall", "りんごの選果作業", "Van", ""][dice.roll(4) as usize].to_owned(),
            all_day,
            shown: Shown {
                number: dice.roll(calendars as i64) as usize,
                group: number / 2,
                start: local(from),
                end,
                from,
                to: if all_day { instant(end.date(), 0, false, zone) } else { from + length },
                cancelled: false,
                floating: dice.roll(9) == 0,
            },
        }
    }

    #[test]
    fn every_occurrence_is_in_its_days_once_and_nothing_else_is() {
        let zone = TimeZone::get("Europe/Ljubljana").expect("a zone");
        let mut hidden = 0;
        for seed in 1..1500 {
            let mut dice = Dice(u64::wrapping_mul(seed, 0x9E37_79B9_7F4A_7C15) | 1);
            let first = [date(2026, 3, 25), date(2026, 10, 21), date(2026, 6, 1)][dice.roll(3) as usize];
            let calendars = 1 + dice.roll(4) as usize;
            let lines: Vec<Line> = (0..dice.roll(40) as usize)
                .map(|number| line(&mut dice, first, calendars, &zone, number))
                .collect();
            let room = Room {
                width: 60 + dice.roll(141) as usize,
                height: 20 + dice.roll(50) as usize,
                zone: zone.clone(),
                today: first,
                beside: dice.roll(3) == 0,
            };
            let beside = if room.beside { calendars } else { 1 };
            let days: Vec<Date> =
                first.series(Span::new().days(1)).take(7.min(days_that_fit(room.width, beside))).collect();
            let grid = Grid::of(&lines, &days, calendars, &room);
            let names: Vec<String> = (0..calendars).map(|n| n.to_string()).collect();
            let drawn = anstream::adapter::strip_str(&grid.draw(&names, &room)).to_string();
            for text in drawn.lines() {
                assert!(text.width() <= room.width, "{seed}: {text:?} of {}", room.width);
            }
            for (at, column) in grid.columns.iter().enumerate() {
                let (from, to) =
                    (instant(column.day, 0, false, &zone), instant(next(column.day), 0, false, &zone));
                let is_here = |line: &&Line| {
                    let shown = &line.shown;
                    let is_own = column.calendar.is_none_or(|calendar| calendar == shown.number);
                    let touches = shown.from < to && shown.to > from
                        || shown.from == shown.to && (from..to).contains(&shown.from);
                    is_own && touches
                };
                let mut expected: Vec<&str> =
                    lines.iter().filter(is_here).map(|line| line.uid.as_str()).collect();
                let blocks = column.blocks.iter().chain(column.outside.iter().flatten());
                let in_blocks = blocks.flat_map(|block| &block.lines);
                let bars = grid.bars.iter().filter(|bar| (bar.columns.0..=bar.columns.1).contains(&at));
                let in_bars = bars.flat_map(|bar| &bar.lines);
                let mut found: Vec<&str> = in_blocks.chain(in_bars).map(|line| line.uid.as_str()).collect();
                expected.sort_unstable();
                found.sort_unstable();
                assert_eq!(found, expected, "{seed}: {}", column.day);
                for block in &column.blocks {
                    let Some((lane, lanes)) = block.lane else {
                        hidden += 1;
                        continue;
                    };
                    assert!(lane < lanes && lanes <= LANES, "{seed}");
                    let overlaps = |other: &&Block<'_>| {
                        *other != block
                            && other.lane.is_some_and(|other| other.0 == lane)
                            && other.rows.0 <= block.rows.1
                            && other.rows.1 >= block.rows.0
                    };
                    assert!(!column.blocks.iter().any(|other| overlaps(&other)), "{seed}: {block:?}");
                    // It stands where its time is.
                    let row = grid.rows[block.rows.0];
                    let begins = local_minute(block.start, column.day, &zone);
                    let is_cut = block.from_before
                        || begins <= grid.rows[0].minute
                        || is_gap(column.day, begins, &zone);
                    let is_in_row = (row.minute..row.minute + grid.step).contains(&begins);
                    assert!(is_cut || is_in_row, "{seed}: {block:?} at {row:?}");
                }
            }
        }
        assert!(hidden > 100, "{hidden}");
    }
}
