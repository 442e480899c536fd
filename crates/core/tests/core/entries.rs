//! Taking calendars apart and putting them together.

use chestnut_core::ical::{Limits, parse_one, write};
use chestnut_core::{Entry, EntryError, EventUid, RouteKey, join_entries, split_entries};

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

#[test]
fn each_entry_gets_the_zones_it_needs_and_no_more() {
    let object = parse_one(feed().as_bytes(), &Limits::default()).expect("a calendar").into_owned();
    let split = split_entries(object);
    let told: Vec<_> = split.entries.iter().map(|e| (e.uid().as_str(), e.components().count())).collect();
    assert_eq!(told, [("a", 2), ("b", 1)]);
    assert_eq!(split.without_uid.len(), 1);
    let texts: Vec<_> = split.entries.iter().map(|e| write(e.object())).collect();
    assert!(texts[0].contains(ZONE) && !texts[1].contains("VTIMEZONE"));
    assert!(
        texts
            .iter()
            .all(|t| !t.contains("METHOD") && !t.contains("X-WR-CALNAME") && t.contains("VERSION:2.0"))
    );
    // Together again, nothing is missing and the zone stands there once.
    let joined = write(&join_entries(&split.entries));
    assert_eq!(joined.matches("BEGIN:VTIMEZONE").count(), 1);
    let again =
        split_entries(parse_one(joined.as_bytes(), &Limits::default()).expect("a calendar").into_owned());
    let meanings = |entries: &[Entry]| entries.iter().map(|e| e.meaning().fingerprint()).collect::<Vec<_>>();
    assert_eq!(meanings(&again.entries), meanings(&split.entries));
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
    let joined = write(&join_entries([&entry("a", "+0100"), &entry("b", "+0200"), &entry("c", "+0200")]));
    assert_eq!(joined.matches("BEGIN:VTIMEZONE").count(), 2);
    assert_eq!(joined.matches("DTSTART;TZID=Orchard (2):").count(), 2, "{joined}");
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
