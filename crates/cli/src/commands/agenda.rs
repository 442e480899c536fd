//! `chestnut agenda`: what takes place in calendars and files, as a picture or a list.

use std::collections::BTreeMap;
use std::path::Path;

use chestnut_core::ical::Limits;
use chestnut_core::recurrence::{Budget, Instance, Moment, Occurrences, Zone};
use chestnut_core::{CalendarText, Entry, Kind, unescape_text};
use chestnut_engine::{PartOfCase, ReadEntry, look_at};
use chestnut_store::{LinkId, ObjectId, Store};
use jiff::civil::{Date, Weekday};
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};

use crate::args::Common;
use crate::days::{day, next, week_of};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load, look_at_state};
use crate::progress::Bars;
use crate::render::human::agenda::human;
use crate::render::human::grid::{Grid, Room, days_that_fit};
use crate::render::human::month::month;
use crate::render::{midnight, shorten};
use crate::report::agenda::{Line, Shown};
use crate::settings::{Connections, Settings};
use crate::words::{
    InWords as _, as_of_words, ends_before_it_begins, entry_unreadable, fewer_days, file_unreadable,
    not_in_the_list,
};

/// What was asked for.
pub(crate) struct Asked<'a> {
    pub(crate) names: &'a [String],
    pub(crate) from: Option<&'a str>,
    pub(crate) to: Option<&'a str>,
    pub(crate) days: Option<u16>,
    pub(crate) week: Option<&'a str>,
    pub(crate) month: Option<&'a str>,
    pub(crate) beside: bool,
    pub(crate) form: Form,
    pub(crate) offline: bool,
}

/// In which form.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    /// A picture on a terminal, else a list.
    AsFits,
    List,
    Picture,
}

/// Days that are shown where nothing is said.
const DAYS: i32 = 7;
/// A picture that goes to no terminal.
const PAPER: (usize, usize) = (80, 60);

pub(crate) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = settings(asked, common, io)?;
    let zone = settings.zone.clone();
    let now = io.environment.now()?;
    let today = now.to_zoned(zone.clone()).date();
    let (from, to) = days(asked, today, settings.week_starts)?;
    let store = look_at_state(common, &settings)?;
    let mut agenda = Agenda {
        window: midnight(from, &zone)..midnight(next(to), &zone),
        reading: Zone::Rules(zone.clone()),
        zone,
        now,
        offline: asked.offline,
        names: Vec::new(),
        lines: Vec::new(),
        groups: Groups::default(),
        troubles: Vec::new(),
        as_of: String::new(),
    };
    let bars = Bars::new(io.progress && !common.quiet);
    let connections = Connections::new(&settings, &io.environment).keeping(&store, now);
    block_on(
        bars.meanwhile(|| connections.waits_for(), agenda.read(asked.names, &settings, &store, &connections)),
    )??;
    agenda.finish();
    let screen = match asked.form {
        Form::AsFits => io.screen,
        Form::List => None,
        Form::Picture => Some(io.screen.unwrap_or_else(|| paper(io))),
    };
    show(common, io, &agenda.lines, || match screen {
        Some((width, height)) => {
            let zone = agenda.zone.clone();
            let room = Room { width, height, zone, today, beside: asked.beside };
            agenda.as_of.clone() + &picture(&agenda, asked.month.is_some(), (from, to), &room, &settings)
        }
        None => agenda.as_of.clone() + &human(&agenda.lines, &agenda.zone, from, to),
    })?;
    for trouble in &agenda.troubles {
        io.err.write_all(trouble.lines().as_bytes())?;
    }
    Ok(if agenda.troubles.is_empty() { ExitCode::Ok } else { ExitCode::Failed })
}

/// Width and height of what is no terminal, as the environment has it.
fn paper(io: &Io<'_>) -> (usize, usize) {
    let number = |name: &str, default: usize| {
        io.environment.get(name).and_then(|text| text.parse().ok()).unwrap_or(default)
    };
    (number("COLUMNS", PAPER.0), number("LINES", PAPER.1))
}

fn picture(
    agenda: &Agenda,
    is_month: bool,
    (from, to): (Date, Date),
    room: &Room,
    settings: &Settings,
) -> String {
    let all: Vec<Date> = from.series(Span::new().days(1)).take_while(|day| *day <= to).collect();
    if is_month {
        let first = week_of(from, settings.week_starts);
        let last = week_of(to, settings.week_starts).saturating_add(Span::new().days(6));
        let whole: Vec<Date> = first.series(Span::new().days(1)).take_while(|day| *day <= last).collect();
        let head = from.strftime("%B %Y\n").to_string();
        return head + &month(&agenda.lines, &whole, from, &agenda.names, room);
    }
    let beside = if room.beside { agenda.names.len() } else { 1 };
    let shown = all.len().min(days_that_fit(room.width, beside));
    let grid = Grid::of(&agenda.lines, &all[..shown], agenda.names.len(), room);
    let fewer = if shown < all.len() { fewer_days(shown, all.len()) } else { String::new() };
    grid.draw(&agenda.names, room) + &fewer
}

/// Files need no configuration; where there is one, its zone counts.
fn settings(asked: &Asked<'_>, common: &Common, io: &Io<'_>) -> Result<Settings, Failure> {
    let files_alone = !asked.names.is_empty() && asked.names.iter().all(|name| Path::new(name).exists());
    match load(common, io) {
        Err(_) if files_alone && common.config.is_none() => Ok(Settings::empty(Path::new("chestnut.toml"))),
        loaded => loaded,
    }
}

/// The first and the last day.
fn days(asked: &Asked<'_>, today: Date, week_starts: Weekday) -> Result<(Date, Date), Failure> {
    let later = |from: Date, days: i32| from.saturating_add(Span::new().days(days - 1));
    if let Some(text) = asked.week {
        let first = week_of(day("--week", text, today)?, week_starts);
        return Ok((first, later(first, DAYS)));
    }
    if let Some(text) = asked.month {
        let day = day("--month", text, today)?;
        return Ok((day.first_of_month(), day.last_of_month()));
    }
    let from = asked.from.map_or(Ok(today), |text| day("--from", text, today))?;
    let to = match (asked.to, asked.days) {
        (Some(text), _) => day("--to", text, today)?,
        (None, Some(number)) => later(from, i32::from(number)),
        (None, None) => later(from, DAYS),
    };
    if to < from { Err(ends_before_it_begins(from, to)) } else { Ok((from, to)) }
}

/// Which objects are one entry, since a route knows them as one.
#[derive(Default)]
struct Groups {
    parents: Vec<usize>,
    of_case: BTreeMap<LinkId, usize>,
}

impl Groups {
    /// A group for an object that belongs to these cases.
    fn join(&mut self, parts: &[PartOfCase]) -> usize {
        let own = self.parents.len();
        self.parents.push(own);
        for part in parts {
            match self.of_case.get(&part.case).copied() {
                Some(other) => {
                    let (one, other) = (self.root(own), self.root(other));
                    self.parents[one] = other;
                }
                None => drop(self.of_case.insert(part.case, own)),
            }
        }
        own
    }

    fn root(&self, mut at: usize) -> usize {
        while self.parents[at] != at {
            at = self.parents[at];
        }
        at
    }
}

struct Agenda {
    window: std::ops::Range<i64>,
    reading: Zone,
    zone: TimeZone,
    now: Timestamp,
    offline: bool,
    /// The calendars, in the order of their letters.
    names: Vec<String>,
    lines: Vec<Line>,
    groups: Groups,
    troubles: Vec<Failure>,
    as_of: String,
}

impl Agenda {
    async fn read(
        &mut self,
        names: &[String],
        settings: &Settings,
        store: &Store,
        connections: &Connections<'_>,
    ) -> Result<(), Failure> {
        let all: Vec<String> = settings.calendars.keys().cloned().collect();
        for name in if names.is_empty() { &all } else { names } {
            let path = Path::new(name);
            if !settings.calendars.contains_key(name) && path.is_file() {
                self.add_file(name, path)?;
                continue;
            }
            let (name, _) = settings.chosen_calendar(name)?;
            self.names.push(name.to_owned());
            let end = connections.calendar(name).await?;
            let seen = look_at(store, &end, self.now, self.window.start, self.offline).await?;
            if self.offline {
                let routes =
                    settings.routes.iter().filter(|(_, route)| route.ends.iter().any(|end| end == name));
                let ran = routes.filter_map(|(route, _)| store.route(route).ok().flatten()?.ran_at);
                let ran = ran.max().and_then(|at| Timestamp::from_second(at).ok());
                self.as_of += &as_of_words(name, seen.as_of.max(ran), &self.zone);
            }
            let mut found: Vec<(ObjectId, ReadEntry)> = Vec::new();
            seen.each_between(self.window.clone(), |object, entry| found.push((object, entry)))?;
            for (object, entry) in found {
                match entry {
                    ReadEntry::Entry(entry) => {
                        let before = self.lines.len();
                        self.add(&entry);
                        if self.lines.len() > before {
                            self.connect(before, &seen.parts(object)?);
                        }
                    }
                    ReadEntry::Unreadable { name: file, why } => {
                        self.troubles.push(entry_unreadable(name, &file, &why));
                    }
                }
            }
        }
        Ok(())
    }

    /// Says of the newest occurrences which entry they are of, and which routes know it.
    fn connect(&mut self, from: usize, parts: &[PartOfCase]) {
        let group = self.groups.join(parts);
        let mut routes: Vec<String> = parts.iter().map(|part| part.route.clone()).collect();
        routes.dedup();
        for line in &mut self.lines[from..] {
            line.shown.group = group;
            line.copy |= parts.iter().any(|part| part.is_copy);
            line.routes.clone_from(&routes);
        }
    }

    /// What is known of groups last counts for all; and the order is that of time.
    fn finish(&mut self) {
        for line in &mut self.lines {
            line.shown.group = self.groups.root(line.shown.group);
        }
        let key = |line: &Line| {
            (
                line.start.clone(),
                line.uid.clone(),
                line.end.clone(),
                line.title.clone(),
                line.calendar.clone(),
            )
        };
        self.lines.sort_by_cached_key(key);
    }

    fn add_file(&mut self, name: &str, path: &Path) -> Result<(), Failure> {
        let failed = |words: String| file_unreadable(name, &words);
        let bytes = std::fs::read(path).map_err(|system| failed(system.to_string()))?;
        let texts = CalendarText::read_all(&bytes, None, &Limits::default());
        self.names.push(name.to_owned());
        for text in texts.map_err(|error| failed(error.in_words()))? {
            for placed in text.entries() {
                let before = self.lines.len();
                self.add(&placed.entry);
                self.connect(before, &[]);
            }
        }
        Ok(())
    }

    /// Adds the occurrences of an entry; [`Self::connect`] says to which group they belong.
    fn add(&mut self, entry: &Entry) {
        if entry.kind() == Kind::Journal || entry.uid().is_probe() {
            return;
        }
        let found = Occurrences::of(entry, &self.reading)
            .and_then(|all| Ok(all.within(self.window.clone(), &mut Budget::default())?));
        match found {
            Ok(instances) => {
                for instance in instances {
                    self.lines.push(self.line(entry, &instance));
                }
            }
            Err(error) => {
                let title = shorten(&entry.title(), 60);
                let calendar = self.names.last().map(String::as_str).unwrap_or_default();
                self.troubles.push(not_in_the_list(calendar, &title, &error));
            }
        }
    }

    fn line(&self, entry: &Entry, instance: &Instance) -> Line {
        let component = entry.components().nth(instance.component).unwrap_or(entry.main_component());
        let value = |name: &str| component.value(name).or_else(|| entry.main_component().value(name));
        let local = |moment: Moment| match moment {
            Moment::Date(at) | Moment::Floating(at) => at,
            Moment::Instant(at) => {
                Timestamp::from_second(at).unwrap_or_default().to_zoned(self.zone.clone()).datetime()
            }
        };
        let second = |moment: Moment| match moment {
            Moment::Instant(at) => at,
            Moment::Date(at) | Moment::Floating(at) => {
                at.to_zoned(self.zone.clone()).map_or(0, |at| at.timestamp().as_second())
            }
        };
        Line {
            calendar: self.names.last().cloned().unwrap_or_default(),
            routes: Vec::new(),
            copy: entry.uid().is_copy(),
            uid: entry.uid().to_string(),
            start: written(instance.start),
            end: written(instance.end),
            title: value("SUMMARY").map(|v| unescape_text(v).into_owned()).unwrap_or_default(),
            all_day: matches!(instance.start, Moment::Date(_)),
            shown: Shown {
                number: self.names.len().saturating_sub(1),
                group: 0,
                start: local(instance.start),
                end: local(instance.end),
                from: second(instance.start),
                to: second(instance.end),
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
