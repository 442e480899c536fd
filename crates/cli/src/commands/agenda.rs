//! `chestnut agenda`: what takes place, day by day, in calendars and files.

use std::path::Path;

use chestnut_core::ical::Limits;
use chestnut_core::recurrence::{Budget, Instance, Moment, Occurrences, Zone};
use chestnut_core::{CalendarText, Entry, Kind, unescape_text};
use chestnut_engine::{ReadEntry, read_calendar};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load};
use crate::render::human::agenda::human;
use crate::render::midnight;
use crate::render::shorten;
use crate::report::agenda::{Line, Shown};
use crate::settings::{Connections, Settings};
use crate::words::{
    InWords as _, calendar_failure, ends_before_it_begins, entry_unreadable, file_unreadable, not_a_day,
    not_in_the_list,
};

/// What was asked for.
pub(crate) struct Asked<'a> {
    pub(crate) names: &'a [String],
    pub(crate) from: Option<&'a str>,
    pub(crate) to: Option<&'a str>,
}

/// Days that are shown where nothing is said.
const DAYS: i32 = 7;

pub(crate) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = settings(asked, common, io)?;
    let zone = settings.zone.clone();
    let today = io.environment.now()?.to_zoned(zone.clone()).date();
    let from = asked.from.map_or(Ok(today), |text| day("--from", text))?;
    let after = || from.checked_add(jiff::Span::new().days(DAYS)).unwrap_or(from);
    let to = asked.to.map_or_else(|| Ok(after()), |text| day("--to", text))?;
    if to <= from {
        return Err(ends_before_it_begins(from, to));
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
    show(common, io, &agenda.lines, || human(&agenda.lines, &agenda.zone, from, to))?;
    for trouble in &agenda.troubles {
        io.err.write_all(trouble.lines().as_bytes())?;
    }
    Ok(if agenda.troubles.is_empty() { ExitCode::Ok } else { ExitCode::Failed })
}

/// Files need no configuration; where there is one, its zone counts.
fn settings(asked: &Asked<'_>, common: &Common, io: &Io<'_>) -> Result<Settings, Failure> {
    let files_alone = !asked.names.is_empty() && asked.names.iter().all(|name| Path::new(name).exists());
    match load(common, io) {
        Err(_) if files_alone && common.config.is_none() => Ok(Settings::empty(Path::new("chestnut.toml"))),
        loaded => loaded,
    }
}

fn day(option: &str, text: &str) -> Result<Date, Failure> {
    text.parse().map_err(|_| not_a_day(option, text))
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
            let entries = read_calendar(&end.calendar)
                .await
                .map_err(|error| calendar_failure(&error, name, end.account.as_deref()))?;
            for entry in entries {
                match entry {
                    ReadEntry::Entry(entry) => self.add(name, &entry),
                    ReadEntry::Unreadable { name: file, why } => {
                        self.troubles.push(entry_unreadable(name, &file, &why));
                    }
                }
            }
        }
        Ok(())
    }

    fn add_file(&mut self, name: &str, path: &Path) -> Result<(), Failure> {
        let failed = |words: String| file_unreadable(name, &words);
        let bytes = std::fs::read(path).map_err(|system| failed(system.to_string()))?;
        let texts = CalendarText::read_all(&bytes, None, &Limits::default());
        for text in texts.map_err(|error| failed(error.in_words()))? {
            text.entries().iter().for_each(|placed| self.add(name, &placed.entry));
        }
        Ok(())
    }

    fn add(&mut self, calendar: &str, entry: &Entry) {
        if entry.kind() == Kind::Journal || entry.uid().is_probe() {
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
                self.troubles.push(not_in_the_list(calendar, &title, &error));
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
