//! Parse, write, fingerprint, reconcile, and questions to series: at 1,000, 10,000 and 100,000 entries.

use chestnut_core::ical::{Component, Limits, parse, write, write_to};
use chestnut_core::recurrence::{Budget, Occurrences, Zone};
use chestnut_core::{
    Carry, Choice, Deletions, Disagree, Entry, EventUid, Identity, Kinds, LinkFacts, Origin, Pair, Replica,
    ReplicaDecision, ReplicaPolicy, ReplicaRules, RouteKey, RoutePolicy, Scheduling, Shows, Side, Window,
    reconcile, reconcile_replicas,
};
use divan::counter::{BytesCount, ItemsCount};
use divan::{Bencher, black_box};

fn main() {
    divan::main();
}

fn event(i: usize) -> String {
    format!(
        "BEGIN:VEVENT\r\nUID:orchard-{i:06}@coop.example\r\nDTSTAMP:20260901T060000Z\r\nCREATED:20260801T080000Z\r\n\
         SEQUENCE:1\r\nSUMMARY:Press hall\\, early apples\\, batch {i}\r\n\
         DTSTART;TZID=Europe/Ljubljana:202610{:02}T080000\r\nDTEND;TZID=Europe/Ljubljana:202610{:02}T093000\r\n\
         RRULE:FREQ=WEEKLY;BYDAY=MO,WE;COUNT=10\r\nLOCATION:Row 12\\; upper gate\r\n\
         DESCRIPTION:Bring crates\\, labels\\; and the scale. Prinesi zaboje.\\nBring crates\\, la\r\n bels again.\r\n\
         ATTENDEE;CN=Picking crew;PARTSTAT=ACCEPTED:mailto:crew@coop.example\r\n\
         BEGIN:VALARM\r\nACTION:DISPLAY\r\nTRIGGER:-PT30M\r\nDESCRIPTION:Load the van\r\nEND:VALARM\r\nEND:VEVENT\r\n",
        1 + i % 28,
        1 + i % 28
    )
}

fn calendar(bytes: usize) -> String {
    let mut text = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\n".to_owned();
    for i in 0.. {
        if text.len() > bytes {
            break;
        }
        text.push_str(&event(i));
    }
    text + "END:VCALENDAR\r\n"
}

const FIFTY_MB: usize = 50_000_000;

/// The measure for parsing: nothing but finding the ends of lines.
#[divan::bench(sample_count = 20)]
fn scan_line_ends_50_mb(bencher: Bencher) {
    let text = calendar(FIFTY_MB);
    bencher.counter(BytesCount::of_str(&text)).bench(|| {
        let ends = memchr::memchr_iter(b'\n', black_box(text.as_bytes()));
        ends.fold(0_usize, |sum, at| sum.wrapping_add(at))
    });
}

#[divan::bench(sample_count = 20)]
fn parse_50_mb(bencher: Bencher) {
    let text = calendar(FIFTY_MB);
    let limits = Limits::default();
    bencher
        .counter(BytesCount::of_str(&text))
        .bench(|| parse(black_box(text.as_bytes()), &limits).map(|c| c.len()));
}

/// Parsing, and then looking at every property of every component.
#[divan::bench(sample_count = 20)]
fn parse_and_read_all_50_mb(bencher: Bencher) {
    let text = calendar(FIFTY_MB);
    let limits = Limits::default();
    bencher.counter(BytesCount::of_str(&text)).bench(|| {
        let parsed = parse(black_box(text.as_bytes()), &limits).expect("a calendar");
        let mut count = 0;
        parsed.iter().for_each(|c| c.visit_properties(&mut |p| count += usize::from(p.is("UID"))));
        count
    });
}

#[divan::bench(sample_count = 20)]
fn write_50_mb(bencher: Bencher) {
    let text = calendar(FIFTY_MB);
    let parsed = parse(text.as_bytes(), &Limits::default()).expect("a calendar");
    bencher
        .counter(BytesCount::of_str(&text))
        .with_inputs(|| String::with_capacity(FIFTY_MB + 1_000_000))
        .bench_values(|mut out| {
            parsed.iter().for_each(|c: &Component<'_>| write_to(black_box(c), &mut out));
            out
        });
}

/// The same work by the best library that others offer; it reads every value at once, this one when it is asked.
const BESIDE: [&str; 2] = ["chestnut", "calcard"];
const FIVE_MB: usize = 5_000_000;

#[divan::bench(args = BESIDE, sample_count = 20)]
fn parse_5_mb_beside(bencher: Bencher, by: &str) {
    let text = calendar(FIVE_MB);
    let bencher = bencher.counter(BytesCount::of_str(&text));
    match by {
        "chestnut" => bencher.bench(|| {
            let read = parse(black_box(text.as_bytes()), &Limits::default()).expect("a calendar");
            read.into_iter().map(Component::into_owned).collect::<Vec<_>>()
        }),
        _ => bencher.bench(|| calcard::icalendar::ICalendar::parse(black_box(&text)).expect("a calendar")),
    }
}

#[divan::bench(args = BESIDE, sample_count = 20)]
fn write_5_mb_beside(bencher: Bencher, by: &str) {
    let text = calendar(FIVE_MB);
    let bencher = bencher.counter(BytesCount::of_str(&text));
    let ours = parse(text.as_bytes(), &Limits::default()).expect("a calendar");
    let theirs = calcard::icalendar::ICalendar::parse(&text).expect("a calendar");
    let room = || String::with_capacity(FIVE_MB + 1_000_000);
    match by {
        "chestnut" => bencher.with_inputs(room).bench_values(|mut out| {
            ours.iter().for_each(|c: &Component<'_>| write_to(black_box(c), &mut out));
            out
        }),
        _ => bencher.with_inputs(room).bench_values(|mut out| {
            theirs.write_to(&mut out).expect("writing to a string cannot fail");
            out
        }),
    }
}

fn entries(count: usize) -> Vec<Entry> {
    let read =
        |i| Entry::parse(&format!("BEGIN:VCALENDAR\r\n{}END:VCALENDAR\r\n", event(i)), &Limits::default());
    (0..count).map(|i| read(i).expect("an entry")).collect()
}

const SIZES: [usize; 3] = [1_000, 10_000, 100_000];

#[divan::bench(args = SIZES, sample_count = 5)]
fn fingerprint(bencher: Bencher, count: usize) {
    let entries = entries(count);
    bencher.counter(ItemsCount::new(count)).bench(|| {
        entries.iter().map(|e| black_box(e).meaning().fingerprint().0[0]).fold(0, u8::wrapping_add)
    });
}

#[divan::bench(args = SIZES, sample_count = 5)]
fn reconcile_unchanged(bencher: Bencher, count: usize) {
    let entries = entries(count);
    let carry = Carry::default();
    let links: Vec<_> = entries
        .iter()
        .map(|e| carry.show(e).expect("all is shown").fingerprint())
        .map(|view| LinkFacts { view, far: Some(view), refused: None })
        .collect();
    let policy = RoutePolicy::plain(RouteKey::new(b"secret", "route"));
    let now = jiff::Timestamp::UNIX_EPOCH;
    bencher.counter(ItemsCount::new(count)).bench(|| {
        for (entry, link) in entries.iter().zip(&links) {
            let pair = Pair {
                link: Some(*link),
                agreed: Some(entry),
                source: Side::Present(entry),
                target: Side::Present(entry),
                origin: Origin::Copy,
                carry_changed: false,
                copy_uid_is_taken: false,
            };
            black_box(reconcile(&policy, &pair, now));
        }
    });
}

/// What a two-way route does with entries that two of its calendars changed, each in its own way, among calendars
/// that hold them all.
#[divan::bench(args = [2, 3], sample_count = 20)]
fn merge_changed_twice(bencher: Bencher, sides: usize) {
    let entries = entries(1_000);
    let changed = |from: &str, to: &str| -> Vec<Entry> {
        let texts = entries.iter().map(|entry| write(entry.object()).replace(from, to));
        texts.map(|text| Entry::parse(&text, &Limits::default()).expect("an entry")).collect()
    };
    let renamed = changed("SUMMARY:Press", "SUMMARY:Late: press");
    let moved = changed("LOCATION:Row 12", "LOCATION:Row 14");
    let rules = ReplicaRules { accepted: Kinds::all(), max_size: None, scheduling: Scheduling::Never };
    let policy = ReplicaPolicy {
        kinds: Kinds::all(),
        choice: Choice::default(),
        window: Window::default().at(jiff::Timestamp::UNIX_EPOCH, &jiff::tz::TimeZone::UTC),
        carry: Carry::default(),
        disagree: Disagree::Newest,
        relay: false,
        deletions: Deletions::Carry,
        key: RouteKey::new(b"secret", "route"),
        covered: Carry::default().sight(),
        sides: vec![rules; sides],
    };
    bencher.counter(ItemsCount::new(entries.len())).bench(|| {
        for (at, base) in entries.iter().enumerate() {
            let replica = |now| Replica {
                before: Some(base),
                in_step_with: Some(base),
                now,
                refused: None,
                let_go: false,
                own_uid: false,
            };
            let mut replicas = vec![replica(Side::Present(&renamed[at])), replica(Side::Present(&moved[at]))];
            replicas.resize_with(sides, || replica(Side::Present(base)));
            let decision =
                reconcile_replicas(&policy, Some(base), &replicas, None, jiff::Timestamp::UNIX_EPOCH);
            assert!(matches!(black_box(decision), ReplicaDecision::Settle(_)));
        }
    });
}

/// What a busy-only route does with each new entry: its view, the copy, and the text to send.
#[divan::bench(args = [10_000], sample_count = 5)]
fn busy_copy(bencher: Bencher, count: usize) {
    let entries = entries(count);
    let carry = Carry { shows: Shows::Busy("Press hall taken".to_owned()), ..Carry::default() };
    let now = jiff::Timestamp::UNIX_EPOCH;
    bencher.counter(ItemsCount::new(count)).bench(|| {
        for entry in &entries {
            let view = carry.show(entry).expect("it takes time");
            let copy = carry.put(&view, &Identity::New(EventUid::from("copy")));
            black_box(copy.caldav_text(now));
        }
    });
}

/// Old, dense and hostile rules, by name.
const RULES: &[(&str, &str)] = &[
    ("daily, twenty years old", "DTSTART;TZID=Europe/Ljubljana:20061005T080000\r\nRRULE:FREQ=DAILY"),
    ("daily with COUNT", "DTSTART;TZID=Europe/Ljubljana:20061005T080000\r\nRRULE:FREQ=DAILY;COUNT=7400"),
    (
        "last workday of the month",
        "DTSTART:20061005T080000Z\r\nRRULE:FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1",
    ),
    ("a birthday", "DTSTART;VALUE=DATE:19561005\r\nRRULE:FREQ=YEARLY"),
    ("every second", "DTSTART:20061005T080000Z\r\nRRULE:FREQ=SECONDLY;COUNT=4000000000"),
    ("never", "DTSTART:20061005T080000Z\r\nRRULE:FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"),
];

fn occurrences(body: &str) -> Occurrences {
    let text = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:press\r\n{body}\r\nDURATION:PT1H\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    );
    let entry = Entry::parse(&text, &Limits::default()).expect("an entry");
    Occurrences::of(&entry, &Zone::Rules(jiff::tz::TimeZone::UTC)).expect("a series")
}

/// Is anything of it in the week of 2026-10-05?
#[divan::bench(args = RULES.iter().map(|(name, _)| *name))]
fn window_question(bencher: Bencher, name: &str) {
    let body = RULES.iter().find(|(own, _)| *own == name).expect("a rule").1;
    let series = occurrences(body);
    let week = 1_791_158_400..1_791_763_200;
    bencher.bench(|| series.any_within(black_box(week.clone()), &mut Budget::default()));
}

/// Every occurrence of a year.
#[divan::bench]
fn expand_a_year_of_a_daily_series(bencher: Bencher) {
    let series = occurrences(RULES[0].1);
    let year = 1_767_225_600..1_798_761_600;
    bencher.bench(|| series.within(black_box(year.clone()), &mut Budget::default()).map(|all| all.len()));
}
