//! What takes place in calendars and files: occurrences, and which of them are one entry.

use std::collections::BTreeMap;
use std::path::Path;

use chestnut_core::ical::Limits;
use chestnut_core::recurrence::{Budget, Instance, Moment, Occurrences, Zone};
use chestnut_core::{CalendarText, Entry, Kind, unescape_text};
use chestnut_engine::{PartOfCase, ReadEntry, look_at};
use chestnut_store::{LinkId, Store};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::days::next;
use crate::failure::Failure;
use crate::render::{Clock, midnight, shorten};
use crate::report::agenda::{Line, Shown};
use crate::settings::{Connections, Settings};
use crate::words::{InWords as _, as_of_words, entry_unreadable, file_unreadable, not_in_the_list};

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

/// What takes place in calendars and files, as it is gathered.
pub(crate) struct Agenda {
    window: std::ops::Range<i64>,
    reading: Zone,
    zone: TimeZone,
    now: Timestamp,
    offline: bool,
    /// The calendars, in the order of their letters.
    pub(crate) names: Vec<String>,
    /// In the order of time.
    pub(crate) lines: Vec<Line>,
    groups: Groups,
    pub(crate) troubles: Vec<Failure>,
    /// When calendars were last looked at, where nobody was asked.
    pub(crate) as_of: String,
}

impl Agenda {
    /// Nothing yet, of these days (both inclusive).
    pub(crate) fn new((from, to): (Date, Date), zone: &TimeZone, now: Timestamp, offline: bool) -> Self {
        Self {
            window: midnight(from, zone)..midnight(next(to), zone),
            reading: Zone::Rules(zone.clone()),
            zone: zone.clone(),
            now,
            offline,
            names: Vec::new(),
            lines: Vec::new(),
            groups: Groups::default(),
            troubles: Vec::new(),
            as_of: String::new(),
        }
    }

    /// Reads what takes place: in the calendars and files that are named, else in all calendars.
    pub(crate) async fn read(
        &mut self,
        names: &[String],
        settings: &Settings,
        store: &Store,
        connections: &Connections<'_>,
    ) -> Result<(), Failure> {
        let all: Vec<String> = settings.calendars.keys().cloned().collect();
        for name in if names.is_empty() { &all } else { names } {
            let path = Path::new(name);
            let is_file = !settings.calendars.contains_key(name) && path.is_file();
            let read = match is_file {
                true => self.add_file(name, path),
                false => {
                    let (name, _) = settings.chosen_calendar(name)?;
                    self.add_calendar(name, settings, store, connections).await
                }
            };
            // One that cannot be read hides nothing of the others.
            self.troubles.extend(read.err());
        }
        self.finish();
        Ok(())
    }

    async fn add_calendar(
        &mut self,
        name: &str,
        settings: &Settings,
        store: &Store,
        connections: &Connections<'_>,
    ) -> Result<(), Failure> {
        let end = connections.calendar(name).await?;
        let seen = look_at(store, &end, self.now, self.window.start, self.offline).await?;
        self.names.push(name.to_owned());
        if self.offline {
            let routes = settings.routes.iter().filter(|(_, route)| route.ends.iter().any(|end| end == name));
            let ran = routes.filter_map(|(route, _)| store.route(route).ok().flatten()?.ran_at);
            let ran = ran.max().and_then(|at| Timestamp::from_second(at).ok());
            let clock = Clock::at(self.now, &self.zone);
            self.as_of += &as_of_words(name, seen.as_of.max(ran), &clock);
        }
        // One after the other: entries can be large.
        let mut problem = None;
        seen.each_between(self.window.clone(), |object, entry| match entry {
            ReadEntry::Entry(entry) => {
                let before = self.lines.len();
                self.add(&entry);
                if self.lines.len() > before {
                    match seen.parts(object) {
                        Ok(parts) => self.connect(before, &parts),
                        Err(error) => problem = Some(error),
                    }
                }
            }
            ReadEntry::Unreadable { name: file, why } => {
                self.troubles.push(entry_unreadable(name, &file, &why));
            }
        })?;
        problem.map_or(Ok(()), |error| Err(error.into()))
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
        let texts = CalendarText::read_all(bytes, None, &Limits::default());
        self.names.push(name.to_owned());
        for text in texts.map_err(|error| failed(error.in_words()))? {
            for entry in text.entries() {
                let before = self.lines.len();
                self.add(&entry);
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
