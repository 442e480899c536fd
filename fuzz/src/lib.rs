//! What untrusted bytes go into: one function for each place, which must come back whatever it is given. `run.sh` feeds
//! them with a fuzzer; `cargo test` replays what it found interesting.

use std::sync::LazyLock;

use chestnut_caldav::protocol::{
    self, href_of, parse_xml, read_calendar, read_found, read_listing, read_multiget, read_people, read_sync,
    read_write,
};
use chestnut_caldav::{Answer, SignInKind};
use chestnut_core::ical::{Limits, parse_one, write};
use chestnut_core::{
    Bounds, CalendarText, Carry, Entry, EventUid, FreeBusy, Habits, Identity, MergeSide, Shows, Window,
    merge, read_snapshot, single_entries, undo_habits, write_snapshot,
};
use http::HeaderMap;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use url::Url;

/// One of the functions here.
pub type Target = fn(&[u8]);

/// The targets by name.
pub const TARGETS: &[(&str, Target)] = &[
    ("parse", parse),
    ("write_parse", write_parse),
    ("rule", rule),
    ("zone", zone),
    ("multistatus", multistatus),
    ("feed", feed),
    ("configuration", configuration),
    ("digest", digest),
];

static NOW: LazyLock<Timestamp> = LazyLock::new(|| "2026-10-05T08:00:00Z".parse().expect("a moment"));

fn text_of(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// Asks all that a run asks of an entry.
fn look_at(entry: &Entry) {
    let meaning = entry.meaning();
    assert_eq!(meaning.fingerprint(), entry.clone().meaning().fingerprint());
    drop((entry.title(), entry.start(), entry.names_unknown_zone()));
    let bounds = Window::default().at(*NOW, &TimeZone::UTC);
    drop((bounds.holds(entry), bounds.position(entry), bounds.over_at(entry), bounds.is_behind(entry)));
    // Single entries are made within a window that ends.
    let now = NOW.as_second();
    drop(single_entries(entry, &Bounds { range: now..now + 30 * 86_400, zone: TimeZone::UTC }));
    for shows in [Shows::Everything, Shows::Busy("Busy".to_owned()), Shows::Details(Box::default())] {
        let carry = Carry { shows, ..Carry::default() };
        let Ok(view) = carry.show(entry) else { continue };
        let copy = carry.put(&view, &Identity::New(EventUid::from("copy")));
        assert_eq!(view.sight().of_far_side(&copy).fingerprint(), view.fingerprint());
        let text = copy.caldav_text(*NOW);
        let again = Entry::parse(&text, &Limits::default());
        assert!(again.is_ok(), "what was written can be read: {again:?}");
        drop(undo_habits(entry, &copy, &Habits::default()));
        drop(merge(Some(entry), &[MergeSide { before: Some(entry), now: &copy }], &|_| vec![0]));
    }
}

/// An iCalendar text: one entry, and everything that is asked of it.
pub fn parse(bytes: &[u8]) {
    if let Ok(entry) = Entry::parse(&text_of(bytes), &Limits::default()) {
        look_at(&entry);
    }
}

/// What was read is written, and read and written again, the same.
pub fn write_parse(bytes: &[u8]) {
    let Ok(object) = parse_one(bytes, &Limits::default()) else { return };
    let once = write(&object);
    let again = parse_one(once.as_bytes(), &Limits::default()).expect("what was written can be read");
    assert_eq!(write(&again), once);
}

/// A recurrence rule.
pub fn rule(bytes: &[u8]) {
    let rule = text_of(bytes).replace(['\r', '\n'], "");
    for start in ["20261005T080000Z", "20261005T080000", "20261005"] {
        let text = format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:u\r\nDTSTART:{start}\r\n\
             RRULE:{rule}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        );
        parse(text.as_bytes());
    }
}

/// The inside of a time zone.
pub fn zone(bytes: &[u8]) {
    let zone = text_of(bytes);
    let text = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VTIMEZONE\r\nTZID:Hall\r\n{zone}\r\n\
         END:VTIMEZONE\r\nBEGIN:VEVENT\r\nUID:u\r\nDTSTART;TZID=Hall:20261005T080000\r\nDURATION:PT1H\r\n\
         RRULE:FREQ=WEEKLY;COUNT=60\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    );
    parse(text.as_bytes());
}

/// What a server answers to any question.
pub fn multistatus(bytes: &[u8]) {
    let url: Url = "https://dav.packhouse.example/office/presses/".parse().expect("an address");
    let answer = Answer {
        status: 207,
        headers: HeaderMap::new(),
        body: bytes.to_vec(),
        url: url.clone(),
        sign_in: SignInKind::Nothing,
    };
    drop(read_listing(&answer, &url));
    drop(read_sync(&answer, &url));
    drop(read_found(&answer, &url));
    drop(read_multiget(&answer, &url, &["/office/presses/a.ics".into()]));
    drop(read_people(&answer));
    if let Ok(found) = protocol::Multistatus::read(&answer, chestnut_caldav::Asked::Calendar) {
        drop(read_calendar(&found.responses, &url));
    }
    drop(parse_xml(bytes));
    drop(href_of(&text_of(bytes), &url));
    drop(read_write(&Answer { status: 403, ..answer }, &url));
}

/// A feed, with the charset that its publisher says; the first byte chooses it. What stands in it is kept as a snapshot, and
/// comes back.
pub fn feed(bytes: &[u8]) {
    let (first, rest) = bytes.split_first().unwrap_or((&0, &[]));
    let charset = [None, Some("utf-8"), Some("iso-8859-1"), Some("utf-16le"), Some("shift_jis")];
    let charset = charset[usize::from(*first) % charset.len()];
    drop(read_snapshot(rest));
    if let Ok(free_busy) = FreeBusy::read(rest, charset) {
        drop(free_busy.entries(&free_busy.entries(&[], "Busy"), "Busy"));
    }
    let Ok(text) = CalendarText::read(rest, charset, &Limits::default()) else { return };
    let plain = |text: &str| text.replace('\r', "");
    let kept: Vec<_> = text.entries().take(50).map(|entry| ("/feed/a.ics".into(), entry.text())).collect();
    let back = read_snapshot(write_snapshot("Feed", &kept).as_bytes()).expect("what was kept can be read");
    let back: Vec<_> = back.entries.iter().map(|entry| plain(&entry.text)).collect();
    assert_eq!(back, kept.iter().map(|(_, text)| plain(text)).collect::<Vec<_>>());
    drop((text.facts(), text.oddities().len(), text.write()));
    text.entries().take(50).for_each(|entry| look_at(&entry));
}

/// The configuration.
pub fn configuration(bytes: &[u8]) {
    if let Err(words) = chestnut::check_configuration(&text_of(bytes)) {
        assert!(!words.trim().is_empty(), "what is wrong is said");
    }
}

/// What a server says of how it wants a sign-in.
pub fn digest(bytes: &[u8]) {
    let who =
        chestnut_caldav::Credentials { user: "office\"\\".to_owned(), password: "pw".to_owned().into() };
    if let Some(header) = chestnut_caldav::answer_to_challenge(&text_of(bytes), &who, "GET", "/office/") {
        assert!(header.starts_with("Basic ") || header.starts_with("Digest "), "{header}");
    }
}
