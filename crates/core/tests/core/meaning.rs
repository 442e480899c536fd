//! What servers rewrite does not change the meaning; what a person would notice does.

use chestnut_core::ical::Limits;
use chestnut_core::{Canonical, Entry};

fn meaning(lines: &str) -> Canonical {
    let text =
        format!("BEGIN:VCALENDAR\nVERSION:2.0\nBEGIN:VEVENT\nUID:1\n{lines}\nEND:VEVENT\nEND:VCALENDAR\n");
    Entry::parse(&text, &Limits::default()).expect("an entry").meaning()
}

const START: &str = "DTSTART;TZID=Europe/Ljubljana:20261005T080000";

#[test]
fn rewriting_keeps_the_meaning() {
    let same: &[(&str, &str)] = &[
        ("SUMMARY:A\nLOCATION:B", "LOCATION:B\nSUMMARY:A"),
        (
            "SUMMARY:A",
            "summary:A\nDTSTAMP:20260101T000000Z\nCREATED:20260101T000000Z\nLAST-MODIFIED:20260101T000000Z",
        ),
        ("SUMMARY:A", "SUMMARY:A\nCLASS:PUBLIC\nTRANSP:OPAQUE\nSEQUENCE:0\nPRIORITY:0\nX-EMPTY:"),
        ("SUMMARY:A\\, b \\nc", "SUMMARY:A\\, b \\Nc "),
        ("CATEGORIES:A,B\\,c", "CATEGORIES:B\\,c\nCATEGORIES:A"),
        ("RRULE:FREQ=WEEKLY;BYDAY=MO,WE;INTERVAL=1", "RRULE:BYDAY=WE,MO;FREQ=WEEKLY;WKST=MO"),
        ("GEO:46.24;14.36", "GEO:46.240000;14.3600"),
        (
            "ATTENDEE;RSVP=FALSE;CN=\"Crew\":MAILTO:Crew@coop.example",
            "ATTENDEE;CN=Crew:mailto:crew@coop.example",
        ),
        (
            "ATTENDEE;CN=C;PARTSTAT=ACCEPTED:mailto:c",
            "ATTENDEE;PARTSTAT=accepted;CN=\"C\";SCHEDULE-STATUS=1.2:mailto:c",
        ),
        (
            "BEGIN:VALARM\nTRIGGER:-PT60M\nACTION:DISPLAY\nEND:VALARM",
            "BEGIN:VALARM\nACTION:DISPLAY\nTRIGGER;VALUE=DURATION:-PT1H\nEND:VALARM",
        ),
        (
            "DTSTART:20261005T080000Z\nDTEND:20261005T093000Z",
            "DTSTART;VALUE=DATE-TIME:20261005T080000Z\nDURATION:PT1H30M",
        ),
        ("DTSTART;VALUE=DATE:20261005\nDTEND;VALUE=DATE:20261006", "DTSTART;VALUE=DATE:20261005"),
        (
            "DTSTART;VALUE=DATE:20261005\nDTEND;VALUE=DATE:20261019",
            "DTSTART;VALUE=DATE:20261005\nDURATION:P2W",
        ),
        // Over the end of summer time: a day is nominal, hours are exact.
        (
            "DTSTART;TZID=Europe/Ljubljana:20261024T120000\nDTEND;TZID=Europe/Ljubljana:20261025T120000",
            "DTSTART;TZID=Europe/Ljubljana:20261024T120000\nDURATION:P1D",
        ),
        (
            "DTSTART;TZID=Europe/Ljubljana:20261024T120000\nDTEND;TZID=Europe/Ljubljana:20261025T110000",
            "DTSTART;TZID=Europe/Ljubljana:20261024T120000\nDURATION:PT24H",
        ),
        (
            "DTSTART;TZID=Europe/Berlin:20261005T080000",
            "DTSTART;TZID=W. Europe Standard Time:20261005T080000",
        ),
        (
            "DTSTART;TZID=Europe/Berlin:20261005T080000",
            "DTSTART;TZID=/vendor.example/2026/Europe/Berlin:20261005T080000",
        ),
        (
            "DTSTART;TZID=Europe/Berlin:20261005T080000",
            "DTSTART;TZID=w. europe standard time:20261005T080000",
        ),
        ("DTSTART;TZID=Etc/UTC:20261005T080000", "DTSTART:20261005T080000Z"),
        (
            "DTSTART:20261005T080000Z\nEXDATE:20261012T080000Z,20261019T080000Z",
            "DTSTART:20261005T080000Z\nEXDATE;TZID=Europe/Ljubljana:20261019T100000\nEXDATE:20261012T080000Z",
        ),
    ];
    for (a, b) in same {
        let (a, b) = (pad(a), pad(b));
        assert_eq!(meaning(&a).differences(&meaning(&b)), vec![], "{a}\nand\n{b}");
        assert_eq!(meaning(&a).fingerprint(), meaning(&b).fingerprint());
    }
}

/// Entries without a start of their own are given one.
fn pad(lines: &str) -> String {
    if lines.contains("DTSTART") { lines.to_owned() } else { format!("{START}\n{lines}") }
}

#[test]
fn what_a_person_would_notice_changes_the_meaning() {
    let different: &[(&str, &str, &str)] = &[
        ("SUMMARY:A", "SUMMARY:B", "SUMMARY"),
        ("LOCATION:A\\, b", "LOCATION:A", "LOCATION"),
        ("CATEGORIES:A\\,b", "CATEGORIES:A,b", "CATEGORIES"),
        ("SUMMARY:A", "SUMMARY:A\nX-CRATES:40", "X-CRATES"),
        ("SUMMARY:A", "SUMMARY:A\nCLASS:PRIVATE", "CLASS"),
        ("DTSTART:20261005T080000", "DTSTART:20261005T080000Z", "DTEND"),
        ("DTSTART:20261005T080000Z", "DTSTART:20261005T080000Z\nDURATION:PT1H", "DTEND"),
        ("DTSTART;VALUE=DATE:20261005", "DTSTART:20261005T000000", "DTEND"),
        (
            "DTSTART;TZID=Europe/Berlin:20261005T080000",
            "DTSTART;TZID=Europe/Ljubljana:20261005T080000",
            "DTEND",
        ),
        ("DTSTART;TZID=Orchard:20261005T080000", "DTSTART;TZID=Barn:20261005T080000", "DTEND"),
        ("RRULE:FREQ=DAILY", "RRULE:FREQ=DAILY;INTERVAL=2", "RRULE"),
        ("BEGIN:VALARM\nTRIGGER:-PT60M\nEND:VALARM", "BEGIN:VALARM\nTRIGGER:-PT30M\nEND:VALARM", "VALARM"),
        ("BEGIN:VALARM\nTRIGGER:-P1D\nEND:VALARM", "BEGIN:VALARM\nTRIGGER:-PT24H\nEND:VALARM", "VALARM"),
    ];
    for (a, b, field) in different {
        let (a, b) = (meaning(&pad(a)), meaning(&pad(b)));
        assert_ne!(a.fingerprint(), b.fingerprint(), "{field}");
        let fields: Vec<_> = a.differences(&b).into_iter().map(|d| d.field).collect();
        assert!(fields.iter().any(|f| f == field), "{field} in {fields:?}");
    }
}

#[test]
fn a_zone_that_nobody_knows_means_its_rules() {
    let with_offset = |offset: &str| {
        let text = format!(
            "BEGIN:VCALENDAR\nBEGIN:VTIMEZONE\nTZID:Orchard\nBEGIN:STANDARD\nDTSTART:19700101T000000\n\
             TZOFFSETFROM:{offset}\nTZOFFSETTO:{offset}\nEND:STANDARD\nEND:VTIMEZONE\nBEGIN:VEVENT\nUID:1\n\
             DTSTART;TZID=Orchard:20261005T080000\nEND:VEVENT\nEND:VCALENDAR\n"
        );
        Entry::parse(&text, &Limits::default()).expect("an entry").meaning()
    };
    assert_eq!(with_offset("+0100").fingerprint(), with_offset("+0100").fingerprint());
    assert_ne!(with_offset("+0100").fingerprint(), with_offset("+0200").fingerprint());
}
