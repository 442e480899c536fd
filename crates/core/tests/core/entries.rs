//! Taking calendars apart and putting them together.

use chestnut_core::ical::{Bound, Limits, ParseProblem};
use chestnut_core::{CalendarText, Entry, EntryError, EventUid, Oddity, RouteKey, TextChange};
use proptest::prelude::*;

const ZONE: &str = "BEGIN:VTIMEZONE\r\nTZID:Orchard\r\nBEGIN:STANDARD\r\nDTSTART:19700101T000000\r\nTZOFFSETFROM:+0100\r\nTZOFFSETTO:+0100\r\nEND:STANDARD\r\nEND:VTIMEZONE\r\n";

fn feed() -> String {
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nX-WR-CALNAME:Market\r\nMETHOD:PUBLISH\r\n{ZONE}\
         BEGIN:VEVENT\r\nUID:a\r\nDTSTART;TZID=Orchard:20261005T080000\r\nEND:VEVENT\r\n\
         BEGIN:VTODO\r\nUID:b\r\nEND:VTODO\r\n\
         BEGIN:VEVENT\r\nSUMMARY:without UID\r\nEND:VEVENT\r\n\
         BEGIN:VEVENT\r\nUID:a\r\nRECURRENCE-ID:20261012T070000Z\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    )
}

fn read(text: &str) -> CalendarText {
    CalendarText::read(text.as_bytes(), None, &Limits::default()).expect("a calendar")
}

fn uids(text: &CalendarText) -> Vec<&str> {
    text.placed().iter().map(|p| p.uid.as_str()).collect()
}

#[test]
fn each_entry_gets_the_zones_it_needs_and_no_more() {
    let text = read(&feed());
    let told: Vec<_> = text.entries().map(|entry| (entry.title(), entry.components().count())).collect();
    let own = |title: &str, parts| (title.to_owned(), parts);
    assert_eq!(told, [own("", 2), own("", 1), own("without UID", 1)]);
    assert_eq!(text.oddities(), [Oddity::WithoutUid(1), Oddity::WithoutStart(1)]);
    let texts: Vec<_> = text.entries().map(|entry| entry.text()).collect();
    assert!(texts[0].contains(ZONE) && !texts[1].contains("VTIMEZONE"));
    assert!(
        texts
            .iter()
            .all(|t| !t.contains("METHOD") && !t.contains("X-WR-CALNAME") && t.contains("VERSION:2.0"))
    );
    // Together again, nothing is missing and the zone stands there once.
    let whole = CalendarText::of(&text.entries().collect::<Vec<_>>());
    assert_eq!(whole.write().matches("BEGIN:VTIMEZONE").count(), 1);
    let meaning = |entry: Entry| (entry.uid().clone(), entry.meaning().fingerprint());
    let again = read(&whole.write());
    assert_eq!(
        again.entries().map(meaning).collect::<Vec<_>>(),
        text.entries().map(meaning).collect::<Vec<_>>()
    );
}

#[test]
fn a_change_leaves_every_other_line_alone() {
    let before = feed().replace("BEGIN:VTODO", "X-LINE: as it stands \r\nBEGIN:VTODO");
    let mut text = read(&before);
    let todo = EventUid::from("b");
    text.change(&[TextChange::Remove(&todo)]);
    assert_eq!(text.write(), before.replace("BEGIN:VTODO\r\nUID:b\r\nEND:VTODO\r\n", ""));
    let (series, nobody) = (EventUid::from("a"), EventUid::from("nobody"));
    let own = text.entries().next().expect("it is there");
    text.change(&[TextChange::Replace(&series, &own), TextChange::Remove(&nobody)]);
    assert_eq!(uids(&text)[0], "a");
    assert_eq!(text.write().matches("BEGIN:VTIMEZONE").count(), 1);
}

#[test]
fn entries_that_share_a_uid_or_have_none_are_told_apart_whatever_their_order() {
    let event = |uid: &str, day: u8, more: &str| {
        format!("BEGIN:VEVENT\r\n{uid}DTSTART;VALUE=DATE:202610{day:02}\r\n{more}END:VEVENT\r\n")
    };
    let (one, two) = (event("UID:a\r\n", 5, ""), event("UID:a\r\n", 6, "RRULE:FREQ=DAILY;COUNT=3\r\n"));
    let changed = event("UID:a\r\n", 9, "RECURRENCE-ID;VALUE=DATE:20261007\r\n");
    let (none, other) = (event("", 7, ""), event("", 8, ""));
    let whole = |parts: &[&String]| {
        let body: String = parts.iter().map(|p| p.as_str()).collect();
        read(&format!("BEGIN:VCALENDAR\r\nVERSION:2.0\r\n{body}END:VCALENDAR\r\n"))
    };
    let text = whole(&[&one, &two, &changed, &none, &other, &one, &none]);
    assert_eq!(text.oddities(), [Oddity::WithoutUid(2), Oddity::SharedUid(2), Oddity::Repeated(2)]);
    let sorted = |text: &CalendarText| {
        let mut told: Vec<_> = text.entries().map(|entry| (entry.uid().clone(), entry.text())).collect();
        told.sort();
        told
    };
    assert_eq!(sorted(&text), sorted(&whole(&[&other, &none, &changed, &two, &one])));
    let series = text.entries().find(|entry| entry.text().contains("RRULE")).expect("it is there");
    assert_eq!(series.components().count(), 2);
    // What has a UID made for it can be taken out by it.
    let mut shorter = text.clone();
    shorter.change(&[TextChange::Remove(series.uid())]);
    assert_eq!(uids(&shorter).len(), uids(&text).len() - 1);
}

#[test]
fn other_rules_under_the_same_name_do_not_shift_times() {
    let entry = |uid: &str, offset: &str| {
        let text = format!(
            "BEGIN:VCALENDAR\r\n{}BEGIN:VEVENT\r\nUID:{uid}\r\nDTSTART;TZID=Orchard:20261005T080000\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
            ZONE.replace("+0100", offset)
        );
        Entry::parse(&text, &Limits::default()).expect("an entry")
    };
    let entries = [entry("a", "+0100"), entry("b", "+0200"), entry("c", "+0200")];
    let mut text = CalendarText::empty();
    for entry in &entries {
        text.change(&[TextChange::Add(entry)]);
    }
    let joined = text.write();
    assert_eq!(joined.matches("BEGIN:VTIMEZONE").count(), 2);
    assert_eq!(joined.matches("DTSTART;TZID=Orchard (2):").count(), 2, "{joined}");
    for (standing, sent) in text.entries().zip(&entries) {
        assert_eq!(standing.meaning(), sent.meaning());
    }
}

#[test]
fn descriptions_that_begin_in_other_years_are_one_zone() {
    let entry = |zone: &str, year: i32| {
        let text = format!(
            "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID:{year}\r\nDTSTART;TZID={zone}:{year}0105T080000\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        );
        let now = jiff::Timestamp::from_second(1_700_000_000).expect("a moment");
        let entry = Entry::parse(&text, &Limits::default()).expect("an entry");
        Entry::parse(&entry.caldav_text(now), &Limits::default()).expect("an entry with its zone")
    };
    let begin = |text: &CalendarText| {
        let joined = text.write();
        assert_eq!(joined.matches("BEGIN:VTIMEZONE").count(), 1, "{joined}");
        joined.lines().find_map(|line| line.strip_prefix("DTSTART:")).expect("an observance")[..4].to_owned()
    };
    let standing = |text: &CalendarText, entry: &Entry| {
        text.entries().find(|e| e.uid() == entry.uid()).expect("it stands there")
    };
    let mut text = CalendarText::empty();
    for (year, begins) in [(2027, "2026"), (2028, "2026"), (2021, "2020"), (2026, "2020")] {
        let added = entry("Europe/Ljubljana", year);
        text.change(&[TextChange::Add(&added)]);
        assert_eq!(begin(&text), begins, "after {year}");
        let read = standing(&text, &added);
        assert_eq!(read.meaning().fingerprint(), added.meaning().fingerprint());
    }
    // Rules of one's own under a place's name: both stay, and each time is still in that place.
    let odd = format!(
        "BEGIN:VCALENDAR\r\n{}BEGIN:VEVENT\r\nUID:odd\r\nDTSTART;TZID=Europe/Ljubljana:20261005T080000\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
        ZONE.replace("TZID:Orchard", "TZID:Europe/Ljubljana").replace("+0100", "+0300")
    );
    let odd = Entry::parse(&odd, &Limits::default()).expect("an entry");
    text.change(&[TextChange::Add(&odd)]);
    let read = standing(&text, &odd);
    assert!(text.write().contains("DTSTART;TZID=/2/Europe/Ljubljana:"), "{}", text.write());
    assert_eq!(read.meaning().fingerprint(), odd.meaning().fingerprint());
}

#[test]
fn rules_of_ones_own_that_say_the_same_are_one_zone() {
    let observance = |kind: &str, since: &str, from: &str, to: &str, rule: &str| {
        format!(
            "BEGIN:{kind}\r\nDTSTART:{since}\r\nTZOFFSETFROM:{from}\r\nTZOFFSETTO:{to}\r\nRRULE:FREQ=YEARLY;{rule}\r\nEND:{kind}\r\n"
        )
    };
    let winter = |since: &str, rule: &str| observance("STANDARD", since, "+0200", "+0100", rule);
    let summer = |since: &str| observance("DAYLIGHT", since, "+0100", "+0200", "BYMONTH=3;BYDAY=-1SU");
    let october = "BYMONTH=10;BYDAY=-1SU";
    let (old_winter, old_summer) = (winter("19701025T030000", october), summer("19700329T020000"));
    let entry = |uid: &str, start: &str, observances: String| {
        let text = format!(
            "BEGIN:VCALENDAR\r\nBEGIN:VTIMEZONE\r\nTZID:Orchard\r\n{observances}END:VTIMEZONE\r\nBEGIN:VEVENT\r\nUID:{uid}\r\nDTSTART;TZID=Orchard:{start}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        );
        Entry::parse(&text, &Limits::default()).expect("an entry")
    };
    let day = "20261005T080000";
    let named = |text: &str| text.replace("TZOFFSETFROM", "TZNAME:Orchard time\r\nTZOFFSETFROM");
    let rules = [
        (entry("whole", day, format!("{old_winter}{old_summer}")), 1),
        (entry("order", day, format!("{old_summer}{old_winter}")), 1),
        (entry("named", day, named(&old_winter) + &named(&old_summer)), 1),
        // A week earlier; once more; and one that says nothing of the years of its entry.
        (entry("week", day, winter("19701018T030000", "BYMONTH=10;BYDAY=-2SU") + &old_summer), 2),
        (entry("again", day, named(&old_summer) + &winter("19701018T030000", "BYDAY=-2SU;BYMONTH=10")), 2),
        (
            entry("late", "20100705T080000", winter("20151025T030000", october) + &summer("20150329T020000")),
            3,
        ),
    ];
    let mut text = CalendarText::empty();
    for (added, zones) in &rules {
        text.change(&[TextChange::Add(added)]);
        let joined = text.write();
        assert_eq!(joined.matches("BEGIN:VTIMEZONE").count(), *zones, "{joined}");
    }
    for (standing, (sent, _)) in text.entries().zip(&rules) {
        assert_eq!(standing.meaning().fingerprint(), sent.meaning().fingerprint(), "{}", sent.text());
    }
}

#[test]
fn one_object_is_one_entry_or_an_error() {
    let parse =
        |body: &str| Entry::parse(&format!("BEGIN:VCALENDAR\n{body}END:VCALENDAR\n"), &Limits::default());
    assert_eq!(parse(ZONE), Err(EntryError::Empty));
    assert_eq!(parse("BEGIN:VEVENT\nEND:VEVENT\n"), Err(EntryError::NoUid));
    let two = "BEGIN:VEVENT\nUID:a\nEND:VEVENT\nBEGIN:VEVENT\nUID:b\nEND:VEVENT\n";
    assert_eq!(parse(two), Err(EntryError::SeveralUids(2)));
}

#[test]
fn what_caldav_asks_for_is_added_and_what_it_forbids_taken_out() {
    let text =
        "BEGIN:VCALENDAR\r\nMETHOD:PUBLISH\r\nBEGIN:VEVENT\r\nUID:a\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
    let entry = Entry::parse(text, &Limits::default()).expect("an entry");
    let now = "2026-10-05T08:00:00Z".parse().expect("a moment");
    assert_eq!(
        entry.caldav_text(now),
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Chestnut//Copy//EN\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTAMP:20261005T080000Z\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    );
}

#[test]
fn the_plainer_form_of_an_entry_means_the_same() {
    let zero = "DTSTART;TZID=Europe/Vienna:20261005T080000\nDTEND;TZID=Europe/Vienna:20261005T080000\nSUMMARY:Bell\n";
    for (lines, plainer) in [
        (zero, Some("DTSTART;TZID=Europe/Vienna:20261005T080000\nSUMMARY:Bell\n")),
        ("DTSTART:20261005T080000Z\nDURATION:PT0S\nX-SCALE:\n", Some("DTSTART:20261005T080000Z\n")),
        ("DTSTART:20261005T080000Z\nLOCATION: \n", Some("DTSTART:20261005T080000Z\n")),
        // Another zone, another length, a day, and what says nothing else to do without: these stay as they are.
        ("DTSTART:20261005T080000Z\nDTEND;TZID=Europe/Vienna:20261005T080000\n", None),
        ("DTSTART:20261005T080000Z\nDTEND:20261005T090000Z\n", None),
        ("DTSTART;VALUE=DATE:20261005\nDTEND;VALUE=DATE:20261005\n", None),
        (
            "DTSTART:20261005T080000Z\nBEGIN:VALARM\nACTION:DISPLAY\nTRIGGER:PT0S\nDESCRIPTION:\nEND:VALARM\n",
            None,
        ),
    ] {
        let whole = |lines: &str| {
            format!("BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:bell\n{lines}END:VEVENT\nEND:VCALENDAR\n")
        };
        let entry = Entry::parse(&whole(lines), &Limits::default()).expect("an entry");
        let written =
            entry.plainer().map(|entry| chestnut_core::ical::write(entry.object()).replace('\r', ""));
        assert_eq!(written, plainer.map(whole), "{lines}");
    }
}

#[test]
fn copies_have_uids_and_file_names_of_their_own() {
    let key = RouteKey::new(b"secret", "presses-to-board");
    let uid = key.copy_uid(&EventUid::from("orchard-1@coop.example"));
    assert!(uid.is_copy() && !uid.as_str().contains("orchard"));
    assert_eq!(
        uid,
        RouteKey::new(b"secret", "presses-to-board").copy_uid(&EventUid::from("orchard-1@coop.example"))
    );
    assert_ne!(uid, RouteKey::new(b"secret", "other").copy_uid(&EventUid::from("orchard-1@coop.example")));
    assert!(!EventUid::from("chestnut-roasting").is_copy());
    assert_eq!(EventUid::from("a-1_b.c").file_name().as_str(), "a-1_b.c.ics");
    for odd in ["a@b", ".hidden", "a/b", "ä", ""] {
        let name = EventUid::from(odd).file_name();
        assert!(
            name.as_str().len() == 44
                && name.as_str().bytes().all(|b| b.is_ascii_alphanumeric() || b == b'.')
        );
    }
}

/// The feeds of the corpus, byte for byte.
fn corpus() -> Vec<Vec<u8>> {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../testkit/corpus/feeds");
    let files = std::fs::read_dir(folder).expect("the corpus").map_while(Result::ok);
    files.map(|file| std::fs::read(file.path()).expect("readable")).collect()
}

proptest! {
    /// Bytes changed, cut out and doubled anywhere: no panic, and what is read can be taken apart, changed and
    /// written without loss.
    #[test]
    fn spoilt_feeds_are_read_or_refused(
        which in any::<prop::sample::Index>(),
        spots in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>(), 0..40_usize), 0..6),
        charset in prop::option::of("[a-z0-9-]{0,12}"),
    ) {
        let corpus = corpus();
        let mut bytes = which.get(&corpus).clone();
        for (spot, byte, length) in spots {
            if bytes.is_empty() {
                break;
            }
            let at = spot.index(bytes.len());
            match byte % 3 {
                0 => bytes[at] = byte,
                1 => drop(bytes.drain(at..bytes.len().min(at + length))),
                _ => {
                    let part = bytes[at..bytes.len().min(at + length)].to_vec();
                    drop(bytes.splice(at..at, part));
                }
            }
        }
        let Ok(mut text) = CalendarText::read(&bytes, charset.as_deref(), &Limits::default()) else { return Ok(()) };
        let mut own: Vec<_> = text.placed().iter().map(|p| p.uid.clone()).collect();
        for (placed, entry) in text.pick(|_| true) {
            let again = Entry::parse(&entry.text(), &Limits::default());
            prop_assert_eq!(again.as_ref().map(Entry::uid), Ok(&placed.uid));
        }
        let before = text.write();
        let nobody = EventUid::from("nobody at all");
        text.change(&[TextChange::Remove(&nobody)]);
        // `begin:` may become `BEGIN:`, and a line that was mended is folded where lines are.
        let lines = |text: &str| text.to_lowercase().replace("\r\n ", "");
        prop_assert_eq!(lines(&text.write()), lines(&before));
        // Each entry has a UID of its own, by which it can be taken out.
        own.sort();
        own.dedup();
        prop_assert_eq!(own.len(), text.placed().len());
        let all: Vec<_> = own.iter().map(TextChange::Remove).collect();
        text.change(&all);
        prop_assert!(text.placed().is_empty());
    }
}

#[test]
fn what_publishers_mean_is_read() {
    let text = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nX-WR-TIMEZONE:Europe/Ljubljana\r\nBEGIN:VEVENT\r\nUID:a\r\n\
         DTSTART:20261005T080000\r\nDTEND:20261005T090000Z\r\nRRULE:FREQ=DAILY;UNTIL=20261007T080000\r\n\
         EXDATE:20261006T080000\r\nDESCRIPTION:Bring\r\nladders\r\n and baskets\r\nEND:VEVENT\r\nBEGIN:VEVENT\r\nUID:b\r\n\
         DTSTART;VALUE=DATE:20261005\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
    let calendar = read(text);
    assert_eq!(calendar.oddities(), [Oddity::BrokenLines(1)]);
    let [a, b] = &calendar.entries().collect::<Vec<_>>()[..] else { panic!("two entries") };
    // Floating times are the calendar's own, UNTIL is UTC then, and nothing else gets a zone.
    for line in [
        "DTSTART;TZID=Europe/Ljubljana:20261005T080000\r\n",
        "DTEND:20261005T090000Z\r\n",
        "RRULE:FREQ=DAILY;UNTIL=20261007T060000Z\r\n",
        "EXDATE;TZID=Europe/Ljubljana:20261006T080000\r\n",
        "DESCRIPTION:Bring\\nladdersand baskets\r\n",
    ] {
        assert!(a.text().contains(line), "{line}{}", a.text());
    }
    assert!(b.text().contains("DTSTART;VALUE=DATE:20261005\r\n"));
}

/// At the bound an entry is read, one past it that entry alone is not.
#[test]
fn an_entry_has_bounds() {
    let entry = |body: &str| {
        format!("BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID:1\r\n{body}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n")
    };
    let around = entry("").len();
    let lines = |n: usize| entry("X-A:1\r\n".repeat(n - 5).trim_end());
    let days = |n: usize| entry(&format!("EXDATE:{}", ["20261201"].repeat(n).join(",")));
    let split =
        |n: usize| entry(&format!("EXDATE:{}\r\nRDATE:20261202", ["20261201"].repeat(n - 1).join(",")));
    let bytes = |n: usize| entry(&format!("X-A:{}", "x".repeat(n - around - 4)));
    type Make<'m> = &'m dyn Fn(usize) -> String;
    let all: [(Bound, usize, Make<'_>); 4] = [
        (Bound::Lines, 20_000, &lines),
        (Bound::Days, 20_000, &days),
        (Bound::Days, 20_000, &split),
        (Bound::EntryBytes, 10 << 20, &bytes),
    ];
    for (what, limit, make) in all {
        assert!(Entry::parse(&make(limit), &Limits::default()).is_ok(), "{what:?}");
        let error = Entry::parse(&make(limit + 1), &Limits::default()).expect_err("one past it");
        let problem = ParseProblem::TooMuch { what, limit };
        assert!(matches!(&error, EntryError::Parse(e) if e.problem == problem), "{what:?}: {error:?}");
    }
}
