//! What is free, against counting minutes; what is taken, as another parser reads it.

use chestnut_core::{Bounds, BusyTime, Carry, Entry, Shows, ical::Limits};
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
