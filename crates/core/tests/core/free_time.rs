//! What is free, against counting minutes; what is taken, as another parser reads it.

use chestnut_core::{Bounds, BusyTime, Carry, Entry, FreeBusy, NotACalendar, Shows, ical::Limits};
use jiff::tz::TimeZone;
use proptest::prelude::*;

const DAY: i64 = 1_791_158_400;

fn entry(number: usize, start: i64, minutes: i64, more: &str) -> Entry {
    let at = jiff::Timestamp::from_second(DAY + start * 60).expect("a moment").strftime("%Y%m%dT%H%M%SZ");
    let text = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:{number}\r\nDTSTAMP:20261001T000000Z\r\n\
         DTSTART:{at}\r\nDURATION:PT{minutes}M\r\nSUMMARY:Press hall\r\n{more}END:VEVENT\r\nEND:VCALENDAR\r\n"
    );
    Entry::parse(&text, &Limits::default()).expect("an entry")
}

/// What else an entry says, whether it takes time, and whether it is certain.
const KINDS: [(&str, bool, bool); 6] = [
    ("", true, true),
    ("STATUS:TENTATIVE\r\n", true, false),
    ("STATUS:CANCELLED\r\n", false, true),
    ("TRANSP:TRANSPARENT\r\n", false, true),
    ("ATTENDEE;PARTSTAT=DECLINED:mailto:office@coop.example\r\n", false, true),
    ("ATTENDEE;PARTSTAT=DECLINED:mailto:van@coop.example\r\n", true, true),
];

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn gaps_are_the_minutes_that_nothing_takes(
        events in prop::collection::vec((0_i64..1440, 1_i64..400, 0_usize..KINDS.len(), any::<bool>()), 0..12),
        wanted in prop::collection::vec((0_i64..1400, 1_i64..300), 0..4),
    ) {
        let carry = Carry {
            shows: Shows::Busy("Busy".to_owned()),
            me: vec!["office@coop.example".to_owned()],
            ..Carry::default()
        };
        let bounds = Bounds { range: DAY..DAY + 3 * 86_400, zone: TimeZone::UTC };
        let mut busy = BusyTime::default();
        let (mut taken, mut tentative) = (vec![false; 4320], vec![false; 4320]);
        for (number, (start, minutes, kind, repeats)) in events.iter().enumerate() {
            let (more, takes_time, is_certain) = KINDS[*kind];
            let rule = if *repeats { "RRULE:FREQ=DAILY;COUNT=2\r\n" } else { "" };
            // One that takes no time says so.
            let added = busy.add(&entry(number, *start, *minutes, &format!("{more}{rule}")), &carry, &bounds);
            prop_assert_eq!(added.is_ok(), takes_time);
            for day in 0..=usize::from(*repeats) {
                for minute in *start..start + minutes {
                    let at = minute as usize + day * 1440;
                    if takes_time && at < 4320 {
                        if is_certain { taken[at] = true } else { tentative[at] = true }
                    }
                }
            }
        }
        // Hours of several days do not overlap.
        let wanted: Vec<(i64, i64)> = wanted
            .iter()
            .enumerate()
            .map(|(day, (start, minutes))| {
                let start = DAY + day as i64 * 86_400 + start * 60;
                (start, (start + minutes * 60).min(DAY + (day as i64 + 1) * 86_400))
            })
            .collect();
        let free = busy.free_in(&wanted);
        let is_free = |at: i64| free.iter().any(|(start, end)| (*start..*end).contains(&at));
        for minute in 0..4320_i64 {
            let at = DAY + minute * 60;
            let is_wanted = wanted.iter().any(|(start, end)| (*start..*end).contains(&at));
            let expected = is_wanted && !taken[minute as usize] && !tentative[minute as usize];
            prop_assert_eq!(is_free(at), expected, "minute {}", minute);
        }
        // Whole gaps: none touches the next.
        prop_assert!(free.windows(2).all(|two| two[0].1 < two[1].0 || wanted.iter().any(|span| span.0 == two[1].0)));
        // Another parser reads what is taken.
        let text = busy.free_busy_text(bounds.range.clone(), jiff::Timestamp::from_second(DAY).expect("a moment"));
        let read = calcard::icalendar::ICalendar::parse(&text).expect("another parser reads it");
        let written = calcard::icalendar::ICalendar::to_string(&read).replace("\r\n ", "");
        let (mut certain_read, mut tentative_read) = (vec![false; 4320], vec![false; 4320]);
        for line in written.lines().filter(|line| line.starts_with("FREEBUSY")) {
            let (head, spans) = line.split_once(':').expect("a value");
            let into = if head.contains("TENTATIVE") { &mut tentative_read } else { &mut certain_read };
            for span in spans.split(',') {
                let (start, end) = span.split_once('/').expect("a period");
                let second = |text: &str| {
                    let at = jiff::civil::DateTime::strptime("%Y%m%dT%H%M%SZ", text).expect("a moment");
                    at.to_zoned(TimeZone::UTC).expect("a moment").timestamp().as_second()
                };
                let (start, end) = ((second(start) - DAY) / 60, (second(end) - DAY) / 60);
                (start..end).for_each(|minute| into[minute as usize] = true);
            }
        }
        prop_assert_eq!(&certain_read, &taken);
        for minute in 0..4320 {
            prop_assert_eq!(tentative_read[minute], tentative[minute] && !taken[minute], "minute {}", minute);
        }
    }
}

/// A text of free-busy time: minutes of three days, `0` free, `1` taken, `2` not certain, between two of them.
fn published(minutes: &[u8], ends: std::ops::Range<usize>, form: usize) -> String {
    let utc = |minute: usize| {
        let at = jiff::Timestamp::from_second(DAY + minute as i64 * 60).expect("a moment");
        at.strftime("%Y%m%dT%H%M%SZ").to_string()
    };
    let mut lines: [Vec<String>; 3] = Default::default();
    let mut from = ends.start;
    while from < ends.end {
        let to = (from..ends.end).find(|at| minutes[*at] != minutes[from]).unwrap_or(ends.end);
        let period = match form % 2 {
            0 => format!("{}/{}", utc(from), utc(to)),
            _ => format!("{}/PT{}M", utc(from), to - from),
        };
        lines[usize::from(minutes[from])].push(period);
        from = to;
    }
    let [free, taken, tentative] =
        lines.map(|periods| periods.join(if form.is_multiple_of(3) { "," } else { "|" }));
    let mut text = format!(
        "BEGIN:VCALENDAR\r\nBEGIN:VFREEBUSY\r\nDTSTART:{}\r\nDTEND:{}\r\n",
        utc(ends.start),
        utc(ends.end)
    );
    for (kind, periods) in [(";FBTYPE=FREE", free), ("", taken), (";FBTYPE=busy-tentative", tentative)] {
        for part in periods.split('|').filter(|part| !part.is_empty()) {
            text += &format!("FREEBUSY{kind}:{part}\r\n");
        }
    }
    text + "END:VFREEBUSY\r\nEND:VCALENDAR\r\n"
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, failure_persistence: None, ..ProptestConfig::default() })]

    /// Looks at free-busy time whose ends move: within them what is published counts, outside what was known before.
    #[test]
    fn outside_of_its_ends_nothing_changes(
        looks in proptest::collection::vec(
            (proptest::collection::vec((0u8..3, 1usize..400), 12..30), 0usize..4000, 30usize..2500, 0usize..6), 1..5),
    ) {
        let mut known = vec![0u8; 4320];
        let mut entries: Vec<Entry> = Vec::new();
        for (runs, start, length, form) in looks {
            let mut minutes: Vec<u8> = runs.iter().flat_map(|(kind, number)| vec![*kind; *number]).collect();
            minutes.resize(4320, 0);
            let ends = start..(start + length).min(4320);
            known[ends.clone()].copy_from_slice(&minutes[ends.clone()]);
            let read = FreeBusy::read(published(&minutes, ends, form).as_bytes(), None).expect("it is read");
            entries = read.entries(&entries, "Busy");
            let mut told = vec![0u8; 4320];
            for entry in &entries {
                let body = entry.main_component();
                let minute = |name: &str| {
                    let at = body.value(name).expect("a time");
                    let at = jiff::civil::DateTime::strptime("%Y%m%dT%H%M%SZ", at).expect("a moment");
                    ((at.to_zoned(TimeZone::UTC).expect("a moment").timestamp().as_second() - DAY) / 60) as usize
                };
                let kind = if body.property("STATUS").is_some() { 2 } else { 1 };
                let span = &mut told[minute("DTSTART")..minute("DTEND")];
                prop_assert!(span.iter().all(|minute| *minute == 0), "no minute is taken twice");
                span.fill(kind);
            }
            prop_assert_eq!(&told, &known);
        }
    }
}

#[test]
fn what_is_no_free_busy_time_is_never_taken_for_free() {
    let text = |line: &str| {
        format!("BEGIN:VCALENDAR\r\nBEGIN:VFREEBUSY\r\n{line}\r\nEND:VFREEBUSY\r\nEND:VCALENDAR\r\n")
    };
    let read = |text: String| FreeBusy::read(text.as_bytes(), None);
    for line in
        ["FREEBUSY:20261005T080000/PT1H", "FREEBUSY:20261005T080000Z/20261005T070000Z", "FREEBUSY:soon"]
    {
        assert!(matches!(read(text(line)), Err(NotACalendar::PeriodNotUnderstood(_))), "{line}");
    }
    assert_eq!(read("BEGIN:VCALENDAR\r\nEND:VCALENDAR\r\n".to_owned()), Err(NotACalendar::NoFreeBusy));
    let none = read(text("FREEBUSY:20261005T080000Z/PT0S,20261005T090000Z/20261005T090000Z\r\nFREEBUSY:"));
    assert_eq!(none.expect("it is read"), FreeBusy::default());
    // Without ends it tells of no more than it names, unless it answers a question.
    let named = read(text("FREEBUSY;FBTYPE=BUSY-UNAVAILABLE:19700101T000100Z/PT1M")).expect("it is read");
    assert_eq!(named.known(), [(60, 120)]);
    assert_eq!(named.clone().about((0, 600)).known(), [(0, 600)]);
    let ends = read(text("DTSTART:19700101T000000Z\r\nDTEND:19700101T000200Z")).expect("it is read");
    assert_eq!(ends.about((0, 600)).known(), [(0, 120)]);
}
