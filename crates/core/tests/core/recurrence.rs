//! Rules, series and zones: a table of cases, and a slow literal model for rules that nobody thought of.

use std::collections::BTreeSet;

use chestnut_core::Entry;
use chestnut_core::ical::Limits;
use chestnut_core::recurrence::{
    Budget, Described, Instance, Moment, Occurrences, OverBudget, Rule, RuleError, SeriesError, Zone,
    write_zone,
};
use jiff::civil::{Date, DateTime, date};
use jiff::tz::{TimeZone, TimeZoneDatabase};
use jiff::{Timestamp, ToSpan as _};
use proptest::prelude::*;

fn entry(body: &str) -> Entry {
    let event = |lines: &str| format!("BEGIN:VEVENT\nUID:press\n{}\nEND:VEVENT\n", lines.trim());
    let (zones, body) = body.split_once("---").unwrap_or(("", body));
    let events: String = body.split("+++").map(event).collect();
    let text = format!("BEGIN:VCALENDAR\n{}{events}END:VCALENDAR\n", zones.trim_start());
    Entry::parse(&text, &Limits::default()).unwrap_or_else(|e| panic!("{e}: {text}"))
}

fn second(day: Date) -> i64 {
    day.to_zoned(TimeZone::UTC).expect("a day").timestamp().as_second()
}

fn text(moment: Moment) -> String {
    match moment {
        Moment::Date(at) => at.strftime("%Y%m%d").to_string(),
        Moment::Floating(at) => at.strftime("%Y%m%dT%H%M").to_string(),
        Moment::Instant(at) => {
            Timestamp::from_second(at).expect("a moment").strftime("%Y%m%dT%H%MZ").to_string()
        }
    }
}

fn within(body: &str, from: Date, to: Date) -> Vec<Instance> {
    let found = Occurrences::of(&entry(body), &Zone::Rules(TimeZone::UTC)).expect(body);
    let window = second(from)..second(to);
    let all = found.within(window.clone(), &mut Budget::default()).expect(body);
    assert_eq!(found.any_within(window, &mut Budget::default()), Ok(!all.is_empty()), "{body}");
    all
}

/// Starts in 2024, in short.
fn starts(body: &str) -> String {
    let all = within(body, date(2024, 1, 1), date(2025, 1, 1));
    all.iter().map(|i| text(i.start)).collect::<Vec<_>>().join(" ")
}

#[test]
fn rules_mean_what_the_standard_says() {
    for (body, expected) in [
        ("DTSTART;VALUE=DATE:20240131\nRRULE:FREQ=MONTHLY;COUNT=4", "20240131 20240331 20240531 20240731"),
        ("DTSTART;VALUE=DATE:20200229\nRRULE:FREQ=YEARLY", "20240229"),
        ("DTSTART;VALUE=DATE:20240103\nRRULE:FREQ=YEARLY;BYWEEKNO=20", "20240515"),
        (
            "DTSTART;VALUE=DATE:20240101\nRRULE:FREQ=MONTHLY;BYDAY=MO,3TH;UNTIL=20240131",
            "20240101 20240108 20240115 20240118 20240122 20240129",
        ),
        (
            "DTSTART;VALUE=DATE:20240103\nRRULE:FREQ=WEEKLY;BYDAY=MO,WE,FR;BYSETPOS=1;COUNT=2",
            "20240108 20240115",
        ),
        (
            "DTSTART;VALUE=DATE:20240101\nRRULE:FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1;COUNT=3",
            "20240131 20240229 20240329",
        ),
        (
            "DTSTART;VALUE=DATE:20231230\nRRULE:FREQ=WEEKLY;INTERVAL=2;BYDAY=TU,SU;WKST=SU;COUNT=4",
            "20240107 20240109 20240121 20240123",
        ),
        ("DTSTART;VALUE=DATE:20240101\nRRULE:FREQ=YEARLY;BYYEARDAY=-1,60", "20240229 20241231"),
        ("DTSTART;VALUE=DATE:20240102\nRRULE:FREQ=WEEKLY;BYDAY=MO;COUNT=2", "20240108 20240115"),
        (
            "DTSTART:20240101T090000Z\nRRULE:FREQ=DAILY;UNTIL=20240103T090000Z",
            "20240101T0900Z 20240102T0900Z 20240103T0900Z",
        ),
        ("DTSTART:20240101T233000\nRRULE:FREQ=DAILY;UNTIL=20240102", "20240101T2330 20240102T2330"),
        // A gap is read with the offset before it, a fold as its first time.
        (
            "DTSTART;TZID=Europe/Ljubljana:20240330T023000\nRRULE:FREQ=DAILY;COUNT=3",
            "20240330T0130Z 20240331T0130Z 20240401T0030Z",
        ),
        (
            "DTSTART;TZID=Europe/Ljubljana:20241026T023000\nRRULE:FREQ=DAILY;COUNT=3",
            "20241026T0030Z 20241027T0030Z 20241028T0130Z",
        ),
        (
            "DTSTART:20240101T080000Z\nRRULE:FREQ=HOURLY;INTERVAL=5;BYHOUR=8,13;COUNT=3",
            "20240101T0800Z 20240101T1300Z 20240106T0800Z",
        ),
        (
            "DTSTART:20240101T080000Z\nRRULE:FREQ=DAILY;COUNT=3\nEXDATE;TZID=Europe/Ljubljana:20240102T090000\nRDATE:20240105T080000Z,20240101T080000Z",
            "20240101T0800Z 20240103T0800Z 20240105T0800Z",
        ),
        (
            "DTSTART;VALUE=DATE:20240101\nRRULE:FREQ=DAILY;COUNT=4\nEXRULE:FREQ=DAILY;INTERVAL=2",
            "20240102 20240104",
        ),
        (
            "DTSTART;VALUE=DATE:20240101\nRRULE:FREQ=WEEKLY;COUNT=2\nRRULE:FREQ=MONTHLY;COUNT=2",
            "20240101 20240108 20240201",
        ),
        // Changed occurrences: by instant, whatever zone; moved out and in; and all that follow.
        (
            "DTSTART;TZID=Europe/Ljubljana:20240101T090000\nRRULE:FREQ=DAILY;COUNT=3+++RECURRENCE-ID:20240102T080000Z\nDTSTART:20240110T100000Z",
            "20240101T0800Z 20240103T0800Z 20240110T1000Z",
        ),
        (
            "DTSTART:20240101T080000Z\nDTEND:20240101T090000Z\nRRULE:FREQ=DAILY;COUNT=4+++RECURRENCE-ID;RANGE=THISANDFUTURE:20240103T080000Z\nDTSTART:20240103T130000Z\nDURATION:PT2H",
            "20240101T0800Z 20240102T0800Z 20240103T1300Z 20240104T1300Z",
        ),
        ("RECURRENCE-ID:20240102T080000Z\nDTSTART:20240102T100000Z", "20240102T1000Z"),
    ] {
        assert_eq!(starts(body), expected, "{body}");
    }
}

#[test]
fn ends_are_nominal_for_days_and_exact_for_hours() {
    let end = |body: &str| {
        let all = within(body, date(2024, 3, 1), date(2024, 5, 1));
        all.iter().map(|i| text(i.end)).collect::<Vec<_>>().join(" ")
    };
    let daily = "DTSTART;TZID=Europe/Ljubljana:20240330T120000\nRRULE:FREQ=DAILY;COUNT=1\nDURATION:";
    assert_eq!(end(&format!("{daily}P1D")), "20240331T1000Z");
    assert_eq!(end(&format!("{daily}PT24H")), "20240331T1100Z");
    assert_eq!(end("DTSTART;VALUE=DATE:20240330"), "20240331");
    assert_eq!(end("DTSTART:20240330T120000Z"), "20240330T1200Z");
    assert_eq!(
        end(
            "DTSTART:20240301T090000Z\nRDATE;VALUE=PERIOD:20240302T090000Z/PT3H,20240303T090000Z/20240303T093000Z"
        ),
        "20240301T0900Z 20240302T1200Z 20240303T0930Z"
    );
    // What only touches the window is outside; what takes no time is inside where it begins.
    assert!(
        within("DTSTART:20240131T230000Z\nDTEND:20240201T000000Z", date(2024, 2, 1), date(2024, 2, 2))
            .is_empty()
    );
    assert_eq!(within("DTSTART:20240201T000000Z", date(2024, 2, 1), date(2024, 2, 2)).len(), 1);
    assert!(within("DTSTART:20240201T000000Z", date(2024, 1, 31), date(2024, 2, 1)).is_empty());
}

#[test]
fn hostile_rules_end_at_once_and_what_is_not_understood_is_told() {
    let any = |rule: &str, budget: u64| {
        let body = format!("DTSTART:20000101T000000Z\nRRULE:{rule}");
        let found = Occurrences::of(&entry(&body), &Zone::Floating).expect("a rule");
        found.any_within(second(date(2026, 10, 5))..second(date(2026, 10, 6)), &mut Budget::of(budget))
    };
    for (rule, expected) in [
        ("FREQ=SECONDLY", true),
        ("FREQ=SECONDLY;COUNT=4000000000", true),
        ("FREQ=DAILY;COUNT=4000000000", true),
        ("FREQ=SECONDLY;COUNT=1000000", false),
        ("FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30", false),
        ("FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30", false),
        ("FREQ=MINUTELY;INTERVAL=4294967295", false),
        ("FREQ=YEARLY;INTERVAL=4294967295", false),
        ("FREQ=DAILY;BYHOUR=0,1,2,3,4,5,6,7,8,9,10,11,12,13,14,15,16,17,18,19,20,21,22,23;BYSETPOS=-1", true),
    ] {
        assert_eq!(any(rule, 3_000), Ok(expected), "{rule}");
    }
    assert_eq!(any("FREQ=SECONDLY;BYSECOND=0,7,9;BYMONTH=10;COUNT=80000000", 50_000), Err(OverBudget));
    let rule = |part: &str| SeriesError::Rule(RuleError { part: part.into() });
    for (body, problem) in [
        ("DTSTART:20240101T000000Z\nRRULE:FREQ=FORTNIGHTLY", rule("FREQ=FORTNIGHTLY")),
        ("DTSTART:20240101T000000Z\nRRULE:FREQ=DAILY;BYMOON=2", rule("BYMOON=2")),
        ("DTSTART:20240101T000000Z\nRRULE:FREQ=DAILY;INTERVAL=0", rule("INTERVAL=0")),
        ("DTSTART:20240101T000000Z\nRRULE:COUNT=2", rule("")),
        ("DTSTART;TZID=Orchard/Time:20240101T000000", SeriesError::UnknownZone("Orchard/Time".into())),
        ("DTSTART:tomorrow", SeriesError::BadTime("tomorrow".into())),
    ] {
        let error = Occurrences::of(&entry(body), &Zone::Floating).map(drop).expect_err(body);
        assert_eq!(error, problem);
    }
    assert!(Occurrences::of(&entry("SUMMARY:Some day"), &Zone::Floating).is_ok());
}

#[test]
fn zones_of_their_own_are_read_and_written_like_the_database() {
    let own = "BEGIN:VTIMEZONE\nTZID:Orchard\nBEGIN:STANDARD\nDTSTART:16010101T030000\nTZOFFSETFROM:+0200\nTZOFFSETTO:+0100\nRRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=10\nEND:STANDARD\nBEGIN:DAYLIGHT\nDTSTART:16010101T020000\nTZOFFSETFROM:+0100\nTZOFFSETTO:+0200\nRRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=3\nEND:DAYLIGHT\nEND:VTIMEZONE\n---";
    assert_eq!(
        starts(&format!("{own}DTSTART;TZID=Orchard:20240330T023000\nRRULE:FREQ=DAILY;COUNT=3")),
        "20240330T0130Z 20240331T0130Z 20240401T0030Z"
    );
    let database = TimeZoneDatabase::bundled();
    let (begin, end) = (second(date(2000, 1, 1)), second(date(2038, 1, 1)));
    let mut zones = 0;
    for name in database.available() {
        let rules = database.get(name.as_str()).expect("a zone");
        let written = write_zone(name.as_str(), &rules, 2000);
        let read = Zone::Described(Described::of(&written).expect("an observance").into());
        let of_database = Zone::Rules(rules.clone());
        let start = Timestamp::from_second(begin).expect("a moment");
        let changes = rules.following(start).map(|t| t.timestamp().as_second()).take_while(|at| *at < end);
        for at in changes.flat_map(|at| [at - 7200, at - 1, at, at + 1, at + 7200]).chain([begin, end - 1]) {
            assert_eq!(
                read.local(at),
                of_database.local(at),
                "{name} at {at}\n{}",
                chestnut_core::ical::write(&written)
            );
            let local = of_database.local(at);
            // The database library takes some hours for ambiguous that are not (Nuuk, October 2023).
            if of_database.local(of_database.instant(local)) == local {
                assert_eq!(read.instant(local), of_database.instant(local), "{name} at local {local}");
            }
        }
        zones += 1;
    }
    assert!(zones > 400, "{zones}");
}

/// RFC 5545, 3.3.10, read word for word: every second, hour or day of the range is looked at.
fn model(rule: &Rule, start: DateTime, from: Date, to: Date) -> Vec<DateTime> {
    use chestnut_core::recurrence::Freq;
    let first = start.date();
    let list = |bits: u64, own: i8| -> Vec<i8> {
        if bits == 0 { vec![own] } else { (0..60).filter(|n| bits >> n & 1 == 1).collect() }
    };
    let monday = |day: Date| day.weekday().to_monday_zero_offset() as u8;
    let week_begin = |day: Date| day - i32::from((monday(day) + 7 - rule.week_start) % 7).days();
    let (mut month, mut month_day, mut by_day) =
        (rule.by_month, rule.by_month_day.clone(), rule.by_day.clone());
    let (no_week, no_year_day) = (rule.by_week_no.is_empty(), rule.by_year_day.is_empty());
    let nothing = month_day.is_empty() && by_day.is_empty();
    match rule.freq {
        Freq::Yearly if nothing && no_week && no_year_day => {
            month = if month == 0 { 1 << first.month() } else { month };
            month_day = vec![first.day()];
        }
        Freq::Yearly if nothing && no_year_day => by_day = vec![(0, monday(first))],
        Freq::Monthly if nothing => month_day = vec![first.day()],
        Freq::Weekly if by_day.is_empty() => by_day = vec![(0, monday(first))],
        _ => {}
    }
    let week_one = |year: i16| {
        let january = date(year, 1, 1);
        let begin = week_begin(january);
        if (begin + 7.days() - january).get_days() >= 4 { begin } else { begin + 7.days() }
    };
    let takes = |day: Date| {
        let (last, length) = (i16::from(day.days_in_month()), day.days_in_year());
        let counts = |value: i16, position: i16, most: i16| value == position || value == position - most - 1;
        let weeks = || {
            let year = [day.year() + 1, day.year(), day.year() - 1]
                .into_iter()
                .find(|y| week_one(*y) <= day)
                .expect("a year");
            let number = ((day - week_one(year)).get_days() / 7 + 1) as i16;
            let all = ((week_one(year + 1) - week_one(year)).get_days() / 7) as i16;
            rule.by_week_no.iter().any(|n| counts(i16::from(*n), number, all))
        };
        let weekday = |(ordinal, wanted): &(i16, u8)| {
            let in_month = rule.freq == Freq::Monthly || rule.freq == Freq::Yearly && rule.by_month != 0;
            let (position, most) =
                if in_month { (i16::from(day.day()), last) } else { (day.day_of_year(), length) };
            let fits = match *ordinal {
                0 => true,
                n if n > 0 => (position - 1) / 7 + 1 == n,
                n => (most - position) / 7 + 1 == -n,
            };
            monday(day) == *wanted && fits
        };
        (month == 0 || month >> day.month() & 1 == 1)
            && (no_week || weeks())
            && (no_year_day || rule.by_year_day.iter().any(|n| counts(*n, day.day_of_year(), length)))
            && (month_day.is_empty()
                || month_day.iter().any(|n| counts(i16::from(*n), i16::from(day.day()), last)))
            && (by_day.is_empty() || by_day.iter().any(weekday))
    };
    let (hours, minutes, seconds) = (
        list(u64::from(rule.by_hour), start.hour()),
        list(rule.by_minute, start.minute()),
        list(rule.by_second, start.second()),
    );
    let mut all = Vec::new();
    let mut period: Vec<DateTime> = Vec::new();
    let mut number = None;
    let close = |period: &mut Vec<DateTime>, all: &mut Vec<DateTime>| {
        period.sort();
        period.dedup();
        let length = period.len() as i16;
        let chosen: BTreeSet<DateTime> = match rule.by_set_pos.is_empty() {
            true => period.iter().copied().collect(),
            false => rule
                .by_set_pos
                .iter()
                .filter(|n| n.abs() <= length)
                .map(|n| period[(if *n > 0 { n - 1 } else { length + n }) as usize])
                .collect(),
        };
        all.extend(chosen.into_iter().filter(|at| *at >= start));
        period.clear();
    };
    let begin = match rule.freq {
        Freq::Yearly => date(first.year(), 1, 1),
        Freq::Monthly => first.first_of_month(),
        Freq::Weekly => week_begin(first),
        _ => first,
    };
    let mut day = begin;
    // A period that is cut off has other positions.
    while day < to + 400.days() {
        let index = match rule.freq {
            Freq::Yearly => i64::from(day.year() - first.year()),
            Freq::Monthly => {
                i64::from(day.year() - first.year()) * 12 + i64::from(day.month() - first.month())
            }
            Freq::Weekly => i64::from((day - begin).get_days() / 7),
            _ => i64::from((day - begin).get_days()),
        };
        let sub_daily = rule.freq < Freq::Daily;
        let on = index % i64::from(rule.interval) == 0;
        if !sub_daily && number != Some(index) {
            close(&mut period, &mut all);
            number = Some(index);
        }
        if !sub_daily && on && takes(day) {
            for hour in &hours {
                for minute in &minutes {
                    period.extend(seconds.iter().map(|second| day.at(*hour, *minute, *second, 0)));
                }
            }
        }
        if sub_daily && takes(day) {
            for hour in (0..24).filter(|h| rule.by_hour == 0 || rule.by_hour >> h & 1 == 1) {
                let since = |day: Date, hour: i8| second(day) / 3600 + i64::from(hour);
                let hours_passed = since(day, hour) - since(first, start.hour());
                if hours_passed >= 0 && hours_passed % i64::from(rule.interval) == 0 {
                    for minute in &minutes {
                        period.extend(seconds.iter().map(|second| day.at(hour, *minute, *second, 0)));
                    }
                }
                close(&mut period, &mut all);
            }
        }
        day += 1.day();
    }
    close(&mut period, &mut all);
    let count = rule.count.map_or(usize::MAX, |n| n as usize);
    let counted = all.into_iter().take(count);
    counted.filter(|at| at.date() >= from && at.date() < to).collect()
}

/// Rules of every frequency down to hours, with every part.
fn any_rule() -> impl Strategy<Value = String> {
    let list = |low: i32, high: i32, most: usize| {
        prop::collection::btree_set((low..=high).prop_filter("0 is no position", |n| *n != 0), 1..=most)
    };
    let days = prop::collection::btree_set(
        (prop::sample::select(vec!["", "1", "2", "5", "-1", "-2"]), 0..7_usize),
        1..4,
    );
    let joined = |name: &'static str| {
        move |all: std::collections::BTreeSet<i32>| {
            format!(";{name}={}", all.iter().map(ToString::to_string).collect::<Vec<_>>().join(","))
        }
    };
    let part = |strategy: BoxedStrategy<String>| prop_oneof![3 => Just(String::new()), 2 => strategy];
    let weekdays = days.prop_map(|all| {
        let day = |(ordinal, day): &(&str, usize)| {
            format!("{ordinal}{}", ["MO", "TU", "WE", "TH", "FR", "SA", "SU"][*day])
        };
        format!(";BYDAY={}", all.iter().map(day).collect::<Vec<_>>().join(","))
    });
    (
        prop::sample::select(vec!["YEARLY", "MONTHLY", "WEEKLY", "DAILY", "HOURLY"]),
        1..6_u32,
        (
            part(list(1, 12, 3).prop_map(joined("BYMONTH")).boxed()),
            part(list(-53, 53, 3).prop_map(joined("BYWEEKNO")).boxed()),
            part(list(-366, 366, 4).prop_map(joined("BYYEARDAY")).boxed()),
            part(list(-31, 31, 4).prop_map(joined("BYMONTHDAY")).boxed()),
            part(weekdays.boxed()),
        ),
        part(list(1, 23, 3).prop_map(joined("BYHOUR")).boxed()),
        part(list(1, 59, 2).prop_map(joined("BYMINUTE")).boxed()),
        part(list(-5, 5, 2).prop_map(joined("BYSETPOS")).boxed()),
        part(prop::sample::select(vec!["1", "2", "7", "40"]).prop_map(|n| format!(";COUNT={n}")).boxed()),
        prop::sample::select(vec!["MO", "SU", "WE"]),
    )
        .prop_map(|(freq, interval, (month, week, year_day, month_day, days), hour, minute, position, count, start)| {
            // BYWEEKNO is for years, days of the year not for months and weeks (RFC 5545, 3.3.10).
            let week = if freq == "YEARLY" { week } else { String::new() };
            let year_day = if matches!(freq, "YEARLY" | "HOURLY") { year_day } else { String::new() };
            let month_day = if freq == "WEEKLY" { String::new() } else { month_day };
            format!("FREQ={freq};INTERVAL={interval}{month}{week}{year_day}{month_day}{days}{hour}{minute}{position}{count};WKST={start}")
        })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, ..ProptestConfig::default() })]
    #[test]
    fn what_is_worked_out_is_what_the_standard_says_word_for_word(
        rule in any_rule(),
        day in 0..1500_i64,
        hour in 0..24_i8,
        into in 0..900_i64,
        length in prop::sample::select(vec![1_i64, 8, 40, 400]),
    ) {
        let start = (date(2016, 1, 1) + day.days()).at(hour, 15, 0, 0);
        let from = start.date() + into.days();
        let to = from + length.days();
        let parsed = Rule::parse(&rule).expect("a rule");
        let expected: Vec<String> =
            model(&parsed, start, from, to).iter().map(|at| at.strftime("%Y%m%dT%H%M").to_string()).collect();
        let body = format!("DTSTART:{}\nRRULE:{rule}", start.strftime("%Y%m%dT%H%M%S"));
        let found = Occurrences::of(&entry(&body), &Zone::Rules(TimeZone::UTC)).expect("a series");
        let window = second(from)..second(to);
        let all = found.within(window.clone(), &mut Budget::default()).expect("within the budget");
        let all: Vec<String> = all.iter().map(|i| text(i.start)).collect();
        prop_assert_eq!(&all, &expected, "{}", body);
        prop_assert_eq!(found.any_within(window, &mut Budget::default()), Ok(!all.is_empty()));
    }
}
