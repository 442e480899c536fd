//! `chestnut agenda`: what takes place, day by day, in calendars and files.

use std::path::Path;

use chestnut_core::ical::Limits;
use chestnut_core::recurrence::{Budget, Instance, Moment, Occurrences, Zone};
use chestnut_core::{CalendarText, Entry, Kind, unescape_text};
use chestnut_engine::{ReadEntry, read_calendar};
use jiff::Timestamp;
use jiff::civil::{Date, DateTime};
use jiff::tz::TimeZone;
use serde::Serialize;

use super::{block_on, show};
use crate::args::Common;
use crate::error_report::{Failure, calendar_hint};
use crate::exit_code::ExitCode;
use crate::render::{clean, count, shorten, style, zone_name};
use crate::run::Io;
use crate::settings::{Connections, Settings};

/// One occurrence, as programs get it.
#[derive(Debug, Serialize)]
struct Line {
    uid: String,
    start: String,
    end: String,
    title: String,
    all_day: bool,
    #[serde(skip)]
    shown: Shown,
}

/// What people see of it.
#[derive(Debug)]
struct Shown {
    calendar: String,
    start: DateTime,
    end: DateTime,
    cancelled: bool,
    floating: bool,
}

/// What was asked for.
pub(super) struct Asked<'a> {
    pub(super) names: &'a [String],
    pub(super) from: Option<&'a str>,
    pub(super) to: Option<&'a str>,
}

/// Days that are shown where nothing is said.
const DAYS: i32 = 7;

pub(super) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = settings(asked, common, io)?;
    let zone = settings.zone.clone();
    let today = io.environment.now()?.to_zoned(zone.clone()).date();
    let from = asked.from.map_or(Ok(today), |text| day("--from", text))?;
    let after = || from.checked_add(jiff::Span::new().days(DAYS)).unwrap_or(from);
    let to = asked.to.map_or_else(|| Ok(after()), |text| day("--to", text))?;
    if to <= from {
        return Err(Failure::usage(format!("--to {to} is not behind --from {from}"))
            .hint("The day of --to is no longer part of it: for one day, name the next one."));
    }
    let mut agenda = Agenda {
        window: midnight(from, &zone)..midnight(to, &zone),
        reading: Zone::Rules(zone.clone()),
        zone,
        lines: Vec::new(),
        troubles: Vec::new(),
    };
    block_on(agenda.read(asked.names, &settings, io))??;
    agenda.lines.sort_by(|a, b| {
        let key = |line: &Line| (line.start.clone(), line.uid.clone(), line.end.clone(), line.title.clone());
        key(a).cmp(&key(b))
    });
    show(common, io, &agenda.lines, || human(&agenda, from, to))?;
    for trouble in &agenda.troubles {
        io.err.write_all(trouble.lines().as_bytes())?;
    }
    Ok(if agenda.troubles.is_empty() { ExitCode::Ok } else { ExitCode::Failed })
}

/// Files need no configuration; where there is one, its zone counts.
fn settings(asked: &Asked<'_>, common: &Common, io: &Io<'_>) -> Result<Settings, Failure> {
    let files_alone = !asked.names.is_empty() && asked.names.iter().all(|name| Path::new(name).exists());
    match super::load(common, io) {
        Err(_) if files_alone && common.config.is_none() => Ok(Settings::empty(Path::new("chestnut.toml"))),
        loaded => loaded,
    }
}

fn day(option: &str, text: &str) -> Result<Date, Failure> {
    let wrong = |_| Failure::usage(format!("{option} {text:?} is no day")).hint("Write it as 2026-10-05.");
    text.parse().map_err(wrong)
}

/// The instant at which a day begins, in seconds since 1970.
pub(super) fn midnight(day: Date, zone: &TimeZone) -> i64 {
    day.to_zoned(zone.clone()).map_or(0, |at| at.timestamp().as_second())
}

struct Agenda {
    window: std::ops::Range<i64>,
    reading: Zone,
    zone: TimeZone,
    lines: Vec<Line>,
    troubles: Vec<Failure>,
}

impl Agenda {
    async fn read(&mut self, names: &[String], settings: &Settings, io: &Io<'_>) -> Result<(), Failure> {
        let connections = Connections::new(settings, &io.environment);
        let all: Vec<String> = settings.calendars.keys().cloned().collect();
        for name in if names.is_empty() { &all } else { names } {
            let path = Path::new(name);
            if !settings.calendars.contains_key(name) && path.is_file() {
                self.add_file(name, path)?;
                continue;
            }
            let (name, _) = settings.chosen_calendar(name)?;
            let end = connections.calendar(name).await?;
            let entries = read_calendar(&end.calendar).await.map_err(|error| {
                let hint = calendar_hint(&error, name, end.account.as_deref());
                Failure::failed(format!("calendar {name}: {error}")).hint(hint)
            })?;
            for entry in entries {
                match entry {
                    ReadEntry::Entry(entry) => self.add(name, &entry),
                    ReadEntry::Unreadable { name: file, words } => {
                        self.troubles.push(Failure::failed(format!("calendar {name}, {file}: {words}")));
                    }
                }
            }
        }
        Ok(())
    }

    fn add_file(&mut self, name: &str, path: &Path) -> Result<(), Failure> {
        let failed = |words: String| Failure::failed(format!("{name}: {words}"));
        let bytes = std::fs::read(path).map_err(|e| failed(e.to_string()))?;
        let texts = CalendarText::read_all(&bytes, None, &Limits::default());
        for text in texts.map_err(|e| failed(e.to_string()))? {
            text.entries().iter().for_each(|placed| self.add(name, &placed.entry));
        }
        Ok(())
    }

    fn add(&mut self, calendar: &str, entry: &Entry) {
        if entry.kind() == Kind::Journal {
            return;
        }
        let found = Occurrences::of(entry, &self.reading)
            .and_then(|all| Ok(all.within(self.window.clone(), &mut Budget::default())?));
        match found {
            Ok(instances) => {
                for instance in instances {
                    self.lines.push(self.line(calendar, entry, &instance));
                }
            }
            Err(error) => {
                let title = shorten(&entry.title(), 60);
                self.troubles.push(
                    Failure::failed(format!("{calendar}, {title:?}: {error}"))
                        .hint("It is not in the list; nothing is guessed."),
                );
            }
        }
    }

    fn line(&self, calendar: &str, entry: &Entry, instance: &Instance) -> Line {
        let component = entry.components().nth(instance.component).unwrap_or(entry.main_component());
        let value = |name: &str| component.value(name).or_else(|| entry.main_component().value(name));
        let local = |moment: Moment| match moment {
            Moment::Date(at) | Moment::Floating(at) => at,
            Moment::Instant(at) => {
                Timestamp::from_second(at).unwrap_or_default().to_zoned(self.zone.clone()).datetime()
            }
        };
        Line {
            uid: entry.uid().to_string(),
            start: written(instance.start),
            end: written(instance.end),
            title: value("SUMMARY").map(|v| unescape_text(v).into_owned()).unwrap_or_default(),
            all_day: matches!(instance.start, Moment::Date(_)),
            shown: Shown {
                calendar: calendar.to_owned(),
                start: local(instance.start),
                end: local(instance.end),
                cancelled: component
                    .value("STATUS")
                    .is_some_and(|s| s.trim().eq_ignore_ascii_case("CANCELLED")),
                floating: matches!(instance.start, Moment::Floating(_)),
            },
        }
    }
}

/// `2026-10-05`, `2026-10-05T08:00:00`, `2026-10-05T06:00:00Z`.
fn written(moment: Moment) -> String {
    match moment {
        Moment::Date(at) => at.date().to_string(),
        Moment::Floating(at) => at.strftime("%Y-%m-%dT%H:%M:%S").to_string(),
        Moment::Instant(at) => {
            Timestamp::from_second(at).unwrap_or_default().strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
        }
    }
}

fn human(agenda: &Agenda, from: Date, to: Date) -> String {
    let last = to.yesterday().unwrap_or(to);
    let entries = count(agenda.lines.len(), "entry", "entries");
    let mut out = format!("{from} to {last}, {entries}; times in {}\n", zone_name(&agenda.zone));
    let mut by_day: Vec<&Line> = agenda.lines.iter().collect();
    by_day.sort_by_key(|line| {
        (line.shown.start.date().max(from), !line.all_day, line.shown.start, &line.title)
    });
    let calendars: std::collections::BTreeSet<_> = by_day.iter().map(|line| &line.shown.calendar).collect();
    let mut day = None;
    for line in &by_day {
        let own = line.shown.start.date().max(from);
        if day != Some(own) {
            day = Some(own);
            out += &format!("\n{}\n", style::paint(style::STRONG, own.strftime("%A %Y-%m-%d")));
        }
        let calendar =
            if calendars.len() > 1 { format!("  {}", clean(&line.shown.calendar)) } else { String::new() };
        let cancelled =
            if line.shown.cancelled { style::paint(style::WARN, "  cancelled") } else { String::new() };
        let title = shorten(&line.title, 60);
        out +=
            &format!("  {:13}{title}{}{cancelled}\n", times(line, own), style::paint(style::FAINT, calendar));
    }
    if agenda.lines.iter().any(|line| line.shown.floating) {
        out += "\n~ a time of no zone: the same on every clock\n";
    }
    out
}

/// `08:00–09:30`, `all day`, `until 10:00`, `from 22:00`.
fn times(line: &Line, day: Date) -> String {
    let Shown { start, end, floating, .. } = &line.shown;
    let mark = if *floating { "~" } else { "" };
    let clock = |at: &DateTime| at.strftime("%H:%M").to_string();
    let begins_here = start.date() == day;
    let ends_here = end.date() == day;
    match (line.all_day, begins_here, ends_here) {
        (true, ..) => "all day".to_owned(),
        (_, true, true) if start == end => format!("{}{mark}", clock(start)),
        (_, true, true) => format!("{}–{}{mark}", clock(start), clock(end)),
        (_, true, false) => format!("from {}{mark}", clock(start)),
        (_, false, true) => format!("until {}{mark}", clock(end)),
        (_, false, false) => "goes on".to_owned(),
    }
}
