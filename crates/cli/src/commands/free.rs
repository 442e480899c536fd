//! `chestnut free`: when nothing takes place, in working hours.

use std::path::{Path, PathBuf};

use chestnut_core::{
    Bounds, BusyTime, CalendarText, Carry, Choice, Entry, Kind, Shows, Unshown, ical::Limits,
};
use chestnut_engine::{ReadEntry, look_at};
use jiff::civil::{Date, Time};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Span};

use crate::args::Common;
use crate::days::{day, days_of_a_week, next};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show, write_new};
use crate::open::{block_on, load, look_at_state};
use crate::progress::Bars;
use crate::render::human::free::human;
use crate::render::{Clock, midnight};
use crate::report::free::{Gap, Report, Unknown};
use crate::settings::{Connections, parse_duration};
use crate::words::{
    InWords as _, cannot_be_written, ends_before_it_begins, entry_unreadable, file_unreadable,
    free_busy_written, not_hours, not_long_enough, time_not_understood,
};

/// What was asked for.
pub(crate) struct Asked<'a> {
    pub(crate) names: &'a [String],
    pub(crate) at_least: &'a str,
    pub(crate) hours: &'a str,
    pub(crate) weekdays: &'a str,
    pub(crate) from: Option<&'a str>,
    pub(crate) to: Option<&'a str>,
    pub(crate) ics: Option<&'a PathBuf>,
    pub(crate) offline: bool,
}

/// Days that are looked at where nothing is said.
const DAYS: i32 = 14;

pub(crate) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let zone = settings.zone.clone();
    let now = io.environment.now()?;
    let today = now.to_zoned(zone.clone()).date();
    let from = asked.from.map_or(Ok(today), |text| day("--from", text, today))?;
    let last = from.saturating_add(Span::new().days(DAYS - 1));
    let to = asked.to.map_or(Ok(last), |text| day("--to", text, today))?;
    if to < from {
        return Err(ends_before_it_begins(from, to));
    }
    let at_least = parse_duration(asked.at_least).ok_or_else(|| not_long_enough(asked.at_least))?;
    let hours = hours(asked.hours)?;
    let weekdays = days_of_a_week(asked.weekdays)?;
    let days = from.series(Span::new().days(1)).take_while(|day| *day <= to);
    let days: Vec<Date> = days.filter(|day| weekdays.contains(&day.weekday())).collect();
    let store = look_at_state(common, &settings, &io.environment)?;
    let connections = Connections::new(&settings, &io.environment).keeping(&store, now);
    let bars = Bars::new(io.progress && !common.quiet);
    let range = midnight(from, &zone)..midnight(next(to), &zone);
    let mut taken = Taken {
        busy: BusyTime::default(),
        bounds: Bounds { range: range.clone(), zone: zone.clone() },
        unknown: Vec::new(),
        troubles: Vec::new(),
    };
    let all: Vec<String> = settings.calendars.keys().cloned().collect();
    let names = if asked.names.is_empty() { &all } else { asked.names };
    block_on(bars.meanwhile(|| connections.waits_for(), async {
        for name in names {
            let path = Path::new(name);
            if !settings.calendars.contains_key(name) && path.is_file() {
                taken.add_file(name, path)?;
                continue;
            }
            let (name, _) = settings.chosen_calendar(name)?;
            let end = connections.calendar(name).await?;
            let seen = look_at(&store, &end, now, range.start, asked.offline).await?;
            taken.note_unknown(name, seen.known.as_deref());
            let carry = busy(&seen.addresses);
            seen.each_between(range.clone(), |_, entry| match entry {
                ReadEntry::Entry(entry) => taken.add(name, &entry, &carry),
                ReadEntry::Unreadable { name: file, why } => {
                    taken.troubles.push(entry_unreadable(name, &file, &why));
                }
            })?;
        }
        Ok::<_, Failure>(())
    }))??;
    let wanted = days.iter().filter_map(|day| span(*day, hours, now.as_second(), &zone));
    // Of what nothing is known, nobody can say that it is free.
    let mut unknown = BusyTime::default();
    unknown.add_spans(&taken.unknown.iter().map(|one| (one.span.0, one.span.1, false)).collect::<Vec<_>>());
    let mut gaps = taken.busy.free_in(&unknown.free_in(&wanted.collect::<Vec<_>>()));
    gaps.retain(|(start, end)| SignedDuration::from_secs(end - start) >= at_least);
    let report = Report {
        from: from.to_string(),
        to: to.to_string(),
        calendars: names.to_vec(),
        gaps: gaps.iter().map(|gap| Gap::of(*gap)).collect(),
        unknown: std::mem::take(&mut taken.unknown),
    };
    if let Some(path) = asked.ics {
        let text = taken.busy.free_busy_text(range, now);
        write_new(path, &text).map_err(|error| cannot_be_written(path, &error))?;
        io.say(&free_busy_written(path))?;
    }
    let clock = Clock::at(now, &zone);
    show(common, io, &report, || human(&report, &days, (asked.at_least, asked.hours), &clock))?;
    for trouble in &taken.troubles {
        io.say(&trouble.lines())?;
    }
    Ok(if taken.troubles.is_empty() { ExitCode::Ok } else { ExitCode::Failed })
}

/// The time that entries take, and nothing else.
fn busy(addresses: &[String]) -> Carry {
    let mut choice = Choice::default();
    choice.add_addresses(addresses);
    Carry { shows: Shows::Busy(String::new()), me: choice.me, ..Carry::default() }
}

/// `9-17`, `8:30-17:00`.
fn hours(text: &str) -> Result<(Time, Time), Failure> {
    let one = |text: &str| -> Option<Time> {
        let (hour, minute) = text.trim().split_once(':').unwrap_or((text.trim(), "0"));
        let (hour, minute): (i8, i8) = (hour.parse().ok()?, minute.parse().ok()?);
        if (hour, minute) == (24, 0) { Some(Time::MAX) } else { Time::new(hour, minute, 0, 0).ok() }
    };
    let both = text.split_once('-').and_then(|(from, to)| Some((one(from)?, one(to)?)));
    both.filter(|(from, to)| from < to).ok_or_else(|| not_hours(text))
}

/// The hours of one day, as far as they are to come.
fn span(day: Date, (from, to): (Time, Time), now: i64, zone: &TimeZone) -> Option<(i64, i64)> {
    let at = |time: Time| Some(day.to_datetime(time).to_zoned(zone.clone()).ok()?.timestamp().as_second());
    let end = if to == Time::MAX { midnight(next(day), zone) } else { at(to)? };
    let start = at(from)?.max(now);
    (start < end).then_some((start, end))
}

struct Taken {
    busy: BusyTime,
    bounds: Bounds,
    unknown: Vec<Unknown>,
    troubles: Vec<Failure>,
}

impl Taken {
    /// Free-busy time has ends: outside of them nothing is known.
    fn note_unknown(&mut self, calendar: &str, known: Option<&[(i64, i64)]>) {
        let Some(known) = known else { return };
        let mut told = BusyTime::default();
        told.add_spans(&known.iter().map(|span| (span.0, span.1, false)).collect::<Vec<_>>());
        let range = (self.bounds.range.start, self.bounds.range.end);
        self.unknown.extend(told.free_in(&[range]).into_iter().map(|span| Unknown::of(calendar, span)));
    }

    fn add(&mut self, calendar: &str, entry: &Entry, carry: &Carry) {
        if entry.kind() != Kind::Event || entry.uid().is_probe() {
            return;
        }
        match self.busy.add(entry, carry, &self.bounds) {
            Ok(()) | Err(Unshown::TakesNoTime) => {}
            Err(Unshown::NotUnderstood) => self.troubles.push(time_not_understood(calendar, &entry.title())),
        }
    }

    fn add_file(&mut self, name: &str, path: &Path) -> Result<(), Failure> {
        let bytes = std::fs::read(path).map_err(|system| file_unreadable(name, &system.to_string()))?;
        let texts = CalendarText::read_all(bytes, None, &Limits::default());
        let carry = busy(&[]);
        for text in texts.map_err(|error| file_unreadable(name, &error.in_words()))? {
            text.entries().for_each(|entry| self.add(name, &entry, &carry));
        }
        Ok(())
    }
}
