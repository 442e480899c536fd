//! Each form of `carry`, and what of an entry comes out of it.

use std::collections::BTreeMap;

use chestnut_core::ical::{self, Limits};
use chestnut_core::{
    BlocksTime, Bounds, BusyTime, Carry, Categories, Colour, Detail, Details, Entry, EventUid, Identity,
    People, Privacy, Reminders, Shows, Unshown, single_entries,
};

fn entry(body: &str) -> Entry {
    let text = format!("BEGIN:VCALENDAR\nVERSION:2.0\nX-WR-CALNAME:Office\n{body}\nEND:VCALENDAR\n");
    Entry::parse(&text, &Limits::default()).expect("an entry")
}

fn event(lines: &str) -> String {
    format!("BEGIN:VEVENT\nUID:press\n{}\nEND:VEVENT", lines.trim())
}

const STALL: &str = "DTSTART:20261005T080000Z\nSUMMARY;LANGUAGE=en:Stall 14\nLOCATION:Town\nDESCRIPTION:Bring the \
                     scale\nORGANIZER;CN=Stalls:mailto:stalls@coop.example\nATTENDEE;CN=Crew;PARTSTAT=ACCEPTED:\
                     mailto:crew@coop.example\nCATEGORIES:Town,Draft\nCOLOR:blue\nURL:https://coop.example/14\n\
                     ATTACH:https://coop.example/plan.pdf\nTRANSP:TRANSPARENT\nSTATUS:TENTATIVE\nX-SCALE:2\n\
                     BEGIN:VALARM\nACTION:AUDIO\nTRIGGER:-PT5M\nEND:VALARM";

/// The lines of a new copy, but for what every copy has.
fn copied(carry: &Carry, source: &Entry) -> Vec<String> {
    let view = carry.show(source).expect("it is shown");
    let copy = carry.put(&view, &Identity::New(EventUid::from("copy")));
    let text = ical::write(copy.object()).replace("\r\n ", "");
    let own = |line: &&str| {
        !["UID:", "VERSION:", "PRODID:", "BEGIN:V", "END:V"].iter().any(|p| line.starts_with(p))
    };
    text.lines().filter(own).map(str::to_owned).collect()
}

#[test]
fn every_key_of_the_table_does_what_it_says() {
    let source = entry(&event(STALL));
    let table = |change: &dyn Fn(&mut Details), people| {
        let mut details = Details { taken: [Detail::Title].into(), ..Details::default() };
        change(&mut details);
        copied(&Carry { shows: Shows::Details(Box::new(details)), people, ..Carry::default() }, &source)
    };
    let time = ["DTSTART:20261005T080000Z", "TRANSP:TRANSPARENT", "STATUS:TENTATIVE"];
    let town =
        |to: &str| BTreeMap::from([("town".to_owned(), to.to_owned()), ("Draft".to_owned(), String::new())]);
    type Change<'c> = &'c dyn Fn(&mut Details);
    let cases: [(Change<'_>, People, &[&str]); 14] = [
        (&|_| {}, People::Silent, &["SUMMARY;LANGUAGE=en:Stall 14"]),
        (&|d| d.title = Some("Market, taken".into()), People::Silent, &["SUMMARY:Market\\, taken"]),
        (&|d| d.prefix = Some("[Stall] ".into()), People::Silent, &["SUMMARY;LANGUAGE=en:[Stall] Stall 14"]),
        (&|d| d.prefix = Some("Stall ".into()), People::Silent, &["SUMMARY;LANGUAGE=en:Stall 14"]),
        (&|d| (d.taken.clear(), d.prefix = Some("[Stall] ".into())).1, People::Silent, &["SUMMARY:[Stall]"]),
        (&|d| d.taken = [Detail::Notes].into(), People::Silent, &["DESCRIPTION:Bring the scale"]),
        (
            &|d| d.taken = [Detail::Link, Detail::Attachments].into(),
            People::Silent,
            &["ATTACH:https://coop.example/plan.pdf", "URL:https://coop.example/14"],
        ),
        (&|d| d.taken = [Detail::Reminders].into(), People::Silent, &["ACTION:AUDIO", "TRIGGER:-PT5M"]),
        (
            &|d| d.reminders = Reminders::Before(1800),
            People::Silent,
            &["ACTION:DISPLAY", "DESCRIPTION:Stall 14", "SUMMARY;LANGUAGE=en:Stall 14", "TRIGGER:-PT30M"],
        ),
        (
            &|d| d.taken = [Detail::People].into(),
            People::Listed,
            &[
                "DESCRIPTION:Organiser: Stalls <stalls@coop.example>\\nInvited: Crew <crew@coop.example> (comes)",
            ],
        ),
        (
            &|d| d.categories = Categories::Fixed(vec!["Markets".into()]),
            People::Dropped,
            &["CATEGORIES:Markets", "SUMMARY;LANGUAGE=en:Stall 14"],
        ),
        (
            &|d| d.categories = Categories::Renamed(town("Markets")),
            People::Silent,
            &["CATEGORIES:Markets", "SUMMARY;LANGUAGE=en:Stall 14"],
        ),
        (
            &|d| d.colour = Colour::ByCategory(town("orange")),
            People::Silent,
            &["COLOR:orange", "SUMMARY;LANGUAGE=en:Stall 14"],
        ),
        (&|d| d.taken = [Detail::Other].into(), People::Silent, &["X-SCALE:2", "X-WR-CALNAME:Office"]),
    ];
    for (number, (change, people, own)) in cases.iter().enumerate() {
        let mut lines = table(change, *people);
        let mut expected: Vec<_> = time.iter().chain(*own).map(|l| (*l).to_owned()).collect();
        lines.sort();
        expected.sort();
        assert_eq!(lines, expected, "case {number}");
    }
    let fixed = table(
        &|d| {
            d.blocks_time = Some(BlocksTime::Yes);
            d.privacy = Some(Privacy::Private);
        },
        People::Silent,
    );
    assert!(fixed.contains(&"TRANSP:OPAQUE".to_owned()) && fixed.contains(&"CLASS:PRIVATE".to_owned()));
    // Nothing said is everything as it is.
    let everything = Carry { shows: Shows::Details(Box::default()), ..Carry::default() };
    assert_eq!(copied(&everything, &source), copied(&Carry::default(), &source));
}

#[test]
fn busy_time_follows_what_takes_time() {
    let carry = Carry {
        shows: Shows::Busy("Taken".into()),
        me: vec!["crew@coop.example".into()],
        ..Carry::default()
    };
    let series = "DTSTART;TZID=Europe/Ljubljana:20261005T080000\nDURATION:PT1H30M\nRRULE:freq=DAILY; COUNT=5\nSUMMARY:x";
    let changed = |day: u32, lines: &str| {
        format!(
            "\nBEGIN:VEVENT\nUID:press\nRECURRENCE-ID;TZID=Europe/Ljubljana:202610{day:02}T080000\n\
             DTSTART;TZID=Europe/Ljubljana:202610{day:02}T100000\n{lines}\nEND:VEVENT"
        )
    };
    let told = |body: &str| carry.show(&entry(body)).map(|_| copied(&carry, &entry(body)));
    let plain = "DTSTART;TZID=Europe/Ljubljana:20261005T080000|DURATION:PT5400S|RRULE:FREQ=DAILY;COUNT=5|";
    let lines = |text: &str| Ok(text.split('|').map(str::to_owned).collect::<Vec<_>>());
    assert_eq!(told(&event(series)), lines(&format!("{plain}SUMMARY:Taken")));
    let moved = "|DTSTART;TZID=Europe/Ljubljana:20261006T100000|\
                 RECURRENCE-ID;TZID=Europe/Ljubljana:20261006T080000|SUMMARY:Taken";
    for (change, expected) in [
        ("LOCATION:Row 12", format!("{plain}SUMMARY:Taken{moved}")),
        (
            "STATUS:TENTATIVE",
            format!("{plain}SUMMARY:Taken{}", moved.replace("|SUMMARY", "|STATUS:TENTATIVE|SUMMARY")),
        ),
        ("STATUS:CANCELLED", format!("{plain}SUMMARY:Taken|EXDATE;TZID=Europe/Ljubljana:20261006T080000")),
        ("TRANSP:TRANSPARENT", format!("{plain}SUMMARY:Taken|EXDATE;TZID=Europe/Ljubljana:20261006T080000")),
        (
            "ATTENDEE;PARTSTAT=DECLINED:mailto:Crew@coop.example",
            format!("{plain}SUMMARY:Taken|EXDATE;TZID=Europe/Ljubljana:20261006T080000"),
        ),
    ] {
        assert_eq!(told(&(event(series) + &changed(6, change))), lines(&expected), "{change}");
    }
    // A free series with one busy occurrence is that occurrence.
    let free = event(&format!("{series}\nTRANSP:TRANSPARENT")) + &changed(6, "SUMMARY:y");
    assert_eq!(told(&free), lines(&moved[1..]));
    for nothing in
        ["TRANSP:TRANSPARENT", "STATUS:CANCELLED", "ATTENDEE;PARTSTAT=DECLINED:mailto:crew@coop.example"]
    {
        assert_eq!(told(&event(&format!("{series}\n{nothing}"))), Err(Unshown::TakesNoTime), "{nothing}");
    }
    assert_eq!(told("BEGIN:VTODO\nUID:press\nDUE:20261005T080000Z\nEND:VTODO"), Err(Unshown::TakesNoTime));
    let unknown = told(&event("DTSTART;TZID=Nobody/Knows:20261005T080000"));
    assert!(matches!(unknown, Err(Unshown::NotUnderstood)));
    // A floating time means the calendar's own zone, where that is told.
    let floating = format!("X-WR-TIMEZONE:Europe/Ljubljana\n{}", event("DTSTART:20261005T080000"));
    assert_eq!(told(&floating), lines("DTSTART;TZID=Europe/Ljubljana:20261005T080000|SUMMARY:Taken"));
}

fn october() -> Bounds {
    let at = |text: &str| text.parse::<jiff::Timestamp>().expect("a moment").as_second();
    let zone = chestnut_core::resolve_zone("Europe/Ljubljana").expect("a zone").rules;
    Bounds { range: at("2026-10-01T00:00:00Z")..at("2026-11-01T00:00:00Z"), zone }
}

#[test]
fn blocks_join_what_overlaps_or_touches() {
    let carry = Carry { shows: Shows::Busy(String::new()), ..Carry::default() };
    let mut busy = BusyTime::default();
    for lines in [
        "DTSTART:20261005T080000Z\nDTEND:20261005T090000Z",
        "DTSTART:20261005T083000Z\nDTEND:20261005T100000Z",
        "DTSTART:20261005T100000Z\nDTEND:20261005T110000Z",
        "DTSTART:20261005T103000Z\nDTEND:20261005T120000Z\nSTATUS:TENTATIVE",
        "DTSTART:20261006T080000Z\nDTEND:20261006T080000Z",
        "DTSTART;VALUE=DATE:20261024\nRRULE:FREQ=DAILY;COUNT=2",
        "DTSTART:20261105T080000Z\nDTEND:20261105T090000Z",
    ] {
        busy.add(&entry(&event(lines)), &carry, &october()).expect("it takes time");
    }
    let told = |e: Entry| {
        let value = |name| e.main_component().value(name).unwrap_or("-").to_owned();
        format!("{} {} {} {}", e.uid(), value("DTSTART"), value("DTEND"), value("STATUS"))
    };
    let blocks: Vec<_> = busy.blocks().into_iter().map(told).collect();
    assert_eq!(
        blocks,
        [
            "busy-20261005T080000Z 20261005T080000Z 20261005T110000Z -",
            // Two days, on the second of which the clocks go back.
            "busy-20261023T220000Z 20261023T220000Z 20261025T230000Z -",
            "tentative-20261005T110000Z 20261005T110000Z 20261005T120000Z TENTATIVE",
        ]
    );
}

#[test]
fn a_series_becomes_single_entries() {
    let series = event(
        "DTSTART;TZID=Europe/Ljubljana:20261022T080000\nDTEND;TZID=Europe/Ljubljana:20261022T100000\n\
         RRULE:FREQ=DAILY;INTERVAL=2;COUNT=9\nEXDATE;TZID=Europe/Ljubljana:20261024T080000\nSUMMARY:Press",
    ) + "\nBEGIN:VEVENT\nUID:press\nRECURRENCE-ID;TZID=Europe/Ljubljana:20261028T080000\n\
         DTSTART:20261029T080000Z\nSUMMARY:Press, late\nEND:VEVENT";
    let told = |e: &Entry| {
        let line = |name| e.main_component().property(name).map_or("-".to_owned(), |p| p.line().to_owned());
        [e.uid().to_string(), line("DTSTART"), line("DTEND"), e.title()].join(" ")
    };
    let singles: Vec<_> =
        single_entries(&entry(&series), &october()).expect("occurrences").iter().map(told).collect();
    let local = |day: u32, utc: &str| {
        format!(
            "press/202610{day:02}T{utc}Z DTSTART;TZID=Europe/Ljubljana:202610{day:02}T080000 \
             DTEND;TZID=Europe/Ljubljana:202610{day:02}T100000 Press"
        )
    };
    let late = "press/20261028T070000Z DTSTART:20261029T080000Z - Press, late".to_owned();
    assert_eq!(singles, [local(22, "060000"), local(26, "070000"), late, local(30, "070000")]);
    let single = entry(&event("DTSTART:20200101T080000Z"));
    assert_eq!(single_entries(&single, &october()), Ok(vec![single.clone()]));
}
