//! The window, over a year of days: what comes in when its day comes, what stays, what is tidied away.

use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use chestnut_core::{Carry, PastCopies, Reach, Shows, Window, resolve_zone};
use chestnut_engine::{Makes, Rule};
use chestnut_testkit::World;
use jiff::ToSpan as _;
use jiff::civil::{Date, date};
use jiff::tz::TimeZone;

/// One occurrence: what tells it from others, and when it is, in seconds since 1970.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct When {
    key: i64,
    start: i64,
    end: i64,
}

/// An entry with a list of its occurrences that was not made by expanding it.
#[derive(Debug, Clone)]
struct Sample {
    text: String,
    whens: Vec<When>,
    last: i64,
}

fn zone() -> TimeZone {
    resolve_zone("Europe/Ljubljana").expect("a zone").rules
}

fn instant(day: Date, hour: i8) -> i64 {
    day.at(hour, 0, 0, 0).to_zoned(zone()).expect("a moment").timestamp().as_second()
}

fn days(first: Date, every: i32, count: i32) -> Vec<Date> {
    (0..count).map(|n| first.checked_add((n * every).days()).expect("a day")).collect()
}

/// An entry of one of eight shapes.
fn sample(number: usize, first: Date) -> Sample {
    let hour = 7 + (number % 9) as i8;
    let compact = |day: Date| day.strftime("%Y%m%d").to_string();
    let local =
        |name: &str, day: Date| format!("{name};TZID=Europe/Ljubljana:{}T{hour:02}0000", compact(day));
    let timed =
        |day: Date| When { key: instant(day, hour), start: instant(day, hour), end: instant(day, hour + 2) };
    let mut never_ends = false;
    let mut changed = String::new();
    let start = format!("{}\nDURATION:PT2H", local("DTSTART", first));
    let (lines, whens): (String, Vec<When>) = match number % 8 {
        // What does not recur is one entry, wherever it is moved.
        0 => (start, vec![When { key: 0, ..timed(first) }]),
        1 => {
            let end = first.checked_add(2.days()).expect("a day");
            let (at, until) = (instant(first, 0), instant(end, 0));
            let lines = format!("DTSTART;VALUE=DATE:{}\nDTEND;VALUE=DATE:{}", compact(first), compact(end));
            (lines, vec![When { key: 0, start: at, end: until }])
        }
        2 => {
            let whens = days(first, 14, 6).into_iter().map(timed).collect();
            (format!("{start}\nRRULE:FREQ=WEEKLY;INTERVAL=2;COUNT=6"), whens)
        }
        3 => {
            (format!("{start}\nRRULE:FREQ=DAILY;COUNT=5"), days(first, 1, 5).into_iter().map(timed).collect())
        }
        4 => {
            let mut on = days(first, 7, 8);
            let gone = on.remove(2);
            let lines = format!("{start}\nRRULE:FREQ=WEEKLY;COUNT=8\n{}", local("EXDATE", gone));
            (lines, on.into_iter().map(timed).collect())
        }
        5 => {
            never_ends = true;
            let year = |n: i16| first.with().year(first.year() + n).build().expect("no leap day");
            (format!("{start}\nRRULE:FREQ=YEARLY"), (0..6).map(year).map(timed).collect())
        }
        6 => {
            let on = days(first, 7, 4);
            let moved = on[1].checked_add(40.days()).expect("a day");
            changed = format!(
                "BEGIN:VEVENT\nUID:sample-{number}\n{}\n{}\nDURATION:PT2H\nSUMMARY:Moved\nEND:VEVENT\n",
                local("RECURRENCE-ID", on[1]),
                local("DTSTART", moved)
            );
            let mut whens: Vec<_> = on.iter().copied().map(timed).collect();
            whens[1] = When { key: whens[1].key, ..timed(moved) };
            (format!("{start}\nRRULE:FREQ=WEEKLY;COUNT=4"), whens)
        }
        _ => {
            let on = days(first, 45, 3);
            let added = format!("{},{}T{hour:02}0000", local("RDATE", on[1]), compact(on[2]));
            (format!("{start}\n{added}"), on.into_iter().map(timed).collect())
        }
    };
    let text = format!(
        "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//orchard//EN\nBEGIN:VEVENT\nUID:sample-{number}\nDTSTAMP:20260901T060000Z\n\
         {lines}\nSUMMARY:Crew {number}\nEND:VEVENT\n{changed}END:VCALENDAR\n"
    );
    let last = if never_ends { i64::MAX } else { whens.iter().map(|w| w.end).max().expect("one at least") };
    Sample { text: text.replace('\n', "\r\n"), whens, last }
}

/// The samples that stand in the source, and what happens to them in the course of the year.
struct Year {
    world: World,
    samples: BTreeMap<usize, Sample>,
    today: Date,
}

const PAST: i32 = 7;
const AHEAD: i32 = 30;

impl Year {
    fn new(shape: impl Fn(&mut Rule) + 'static) -> Self {
        let mut world = World::new(0);
        world.allow_deletions = true;
        world.shape = Rc::new(move |route: &mut Rule| {
            route.window = Window { past: Reach::Days(PAST), ahead: Reach::Days(AHEAD) };
            route.zone = zone();
            shape(route);
        });
        let mut year = Self { world, samples: BTreeMap::new(), today: date(2026, 10, 5) };
        for number in 0..40 {
            year.put(number, date(2026, 8, 1).checked_add((number as i32 * 9).days()).expect("a day"));
        }
        year
    }

    fn put(&mut self, number: usize, first: Date) {
        let sample = sample(number, first);
        self.world.write(&self.world.source, &format!("sample-{number}.ics"), &sample.text);
        self.samples.insert(number, sample);
    }

    /// What people do on a day.
    fn live(&mut self, day: usize) {
        let ahead = |days: i32| self.today.checked_add(days.days()).expect("a day");
        match day % 10 {
            2 => self.put(40 + day, ahead(60)),
            5 => self.put(day % 40, ahead(day as i32 % 50 - 10)),
            8 => {
                let gone = day * 7 % 40;
                if self.samples.remove(&gone).is_some() {
                    self.world.delete(&self.world.source, &format!("sample-{gone}.ics"));
                }
            }
            _ => {}
        }
    }

    fn window(&self) -> (i64, i64) {
        let day = |days: i32| instant(self.today.checked_add(days.days()).expect("a day"), 0);
        (day(-PAST), day(AHEAD + 1))
    }

    /// Runs the route every day, and compares the far side with `expected` after each.
    fn run(
        mut self,
        mut expected: impl FnMut(&Self) -> BTreeSet<String>,
        told: fn(&World) -> BTreeSet<String>,
    ) {
        let mut requests = 0;
        for day in 0..365 {
            self.live(day);
            requests += self.world.sync().summary.requests;
            let (far, expected) = (told(&self.world), expected(&self));
            let missing: Vec<_> = expected.difference(&far).collect();
            let extra: Vec<_> = far.difference(&expected).collect();
            assert!(missing.is_empty() && extra.is_empty(), "{}: {missing:#?} {extra:#?}", self.today);
            self.today = self.today.tomorrow().expect("a day");
            self.world.pass(86_400);
        }
        // Looking twice a day at most, and reading what changed or came in: the calendar is not read every day.
        assert!(requests < 365 * 14, "{requests} requests");
    }
}

fn is_in(when: &When, (from, to): (i64, i64)) -> bool {
    when.start < to && when.end > from
}

fn whole_entries(world: &World) -> BTreeSet<String> {
    let print = |e: chestnut_core::Entry| format!("{:?} {}", e.meaning().fingerprint(), e.title());
    world.entries(&world.target).into_iter().map(print).collect()
}

#[test]
fn a_year_of_whole_entries() {
    for past_copies in [PastCopies::Keep, PastCopies::Remove] {
        let year = Year::new(move |route| route.past_copies = past_copies);
        let mut carried: BTreeSet<usize> = BTreeSet::new();
        year.run(
            |year| {
                let window = year.window();
                carried.retain(|number| year.samples.contains_key(number));
                for (number, sample) in &year.samples {
                    if sample.whens.iter().any(|when| is_in(when, window)) {
                        carried.insert(*number);
                    } else if past_copies == PastCopies::Remove && sample.last <= window.0 {
                        carried.remove(number);
                    }
                }
                let entry = |number: &usize| {
                    let limits = chestnut_core::ical::Limits::default();
                    let entry = chestnut_core::Entry::parse(&year.samples[number].text, &limits);
                    let entry = entry.expect("an entry");
                    format!("{:?} {}", entry.meaning().fingerprint(), entry.title())
                };
                carried.iter().map(entry).collect()
            },
            whole_entries,
        );
    }
}

fn times(world: &World) -> BTreeSet<String> {
    let time = |e: chestnut_core::Entry| {
        let reading = chestnut_core::recurrence::Zone::Rules(zone());
        let times = chestnut_core::recurrence::Occurrences::of(&e, &reading).expect("times");
        let all =
            times.within(0..i64::MAX / 4, &mut chestnut_core::recurrence::Budget::default()).expect("few");
        assert_eq!(all.len(), 1, "single entries only");
        let at = |moment| match moment {
            chestnut_core::recurrence::Moment::Instant(at) => at,
            chestnut_core::recurrence::Moment::Date(at) | chestnut_core::recurrence::Moment::Floating(at) => {
                at.to_zoned(zone()).expect("a moment").timestamp().as_second()
            }
        };
        format!("{} {} {}", at(all[0].start), at(all[0].end), e.title())
    };
    world.entries(&world.target).into_iter().map(time).collect()
}

#[test]
fn a_year_of_single_occurrences() {
    let year = Year::new(|route| {
        route.makes = Makes::Occurrences;
        route.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
    });
    let mut carried: BTreeSet<(usize, i64)> = BTreeSet::new();
    year.run(
        |year| {
            let window = year.window();
            let mut now = BTreeMap::new();
            for (number, sample) in &year.samples {
                for when in &sample.whens {
                    now.insert((*number, when.key), when.clone());
                }
            }
            carried.retain(|one| now.contains_key(one));
            carried.extend(now.iter().filter(|(_, when)| is_in(when, window)).map(|(one, _)| *one));
            carried.iter().map(|one| format!("{} {} Taken", now[one].start, now[one].end)).collect()
        },
        times,
    );
}

#[test]
fn a_year_of_blocks() {
    let year = Year::new(|route| {
        route.makes = Makes::Blocks;
        route.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
    });
    let first = year.window().0;
    year.run(
        move |year| {
            // By the hour: every shape begins and ends with one.
            let mut hours = BTreeSet::new();
            for when in
                year.samples.values().flat_map(|s| &s.whens).filter(|w| is_in(w, (first, year.window().1)))
            {
                hours.extend(when.start / 3600..when.end / 3600);
            }
            let mut blocks: Vec<(i64, i64)> = Vec::new();
            for hour in hours {
                match blocks.last_mut() {
                    Some(last) if last.1 == hour => last.1 = hour + 1,
                    _ => blocks.push((hour, hour + 1)),
                }
            }
            blocks.iter().map(|(from, to)| format!("{} {} Taken", from * 3600, to * 3600)).collect()
        },
        times,
    );
}

#[test]
fn days_that_pass_cost_no_reading() {
    let mut world = World::new(0);
    world.shape = Rc::new(|route: &mut Rule| {
        route.window = Window { past: Reach::Days(7), ahead: Reach::Days(30) };
        route.full_look_every = jiff::SignedDuration::from_hours(24 * 1000);
    });
    let day = |n: i32| date(2026, 10, 5).checked_add(n.days()).expect("a day");
    for number in 0..600 {
        // Most of them are single events of long ago; some are series that have ended, one comes in on the third day.
        let first = if number == 0 { day(33) } else { day(-500 - number) };
        let first = if first.day() == 29 { first.tomorrow().expect("a day") } else { first };
        let number = number as usize * 8;
        let number = if number % 80 == 72 { number + 4 } else { number };
        world.write(&world.source, &format!("sample-{number}.ics"), &sample(number, first).text);
    }
    world.pass(3600);
    let fetched = |world: &World| {
        let sent = std::mem::take(&mut *world.source.sent.borrow_mut());
        sent.matches("<d:href>").count() + sent.matches("GET http").count()
    };
    let report = world.sync();
    assert!(fetched(&world) < 100, "what the server knows to be long over is not read");
    assert_eq!(report.summary.left_out["outside-window"] + report.summary.calendars["target"].created, 600);
    world.pass(3600);
    world.sync();
    for (day, created) in [(1, 0), (2, 0), (3, 1), (4, 0)] {
        world.pass(86_400);
        fetched(&world);
        let report = world.sync();
        let counts = report.summary.calendars["target"];
        assert_eq!((counts.created, fetched(&world)), (created, 0), "day {day}");
    }
}
