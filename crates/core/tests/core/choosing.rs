//! `only` and `skip`: each test on both sides of its line, and how they combine.

use chestnut_core::ical::Limits;
use chestnut_core::{Choice, Entry, Test, Words};

fn entry(lines: &str) -> Entry {
    let text = format!(
        "BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:press\n{}\nEND:VEVENT\nBEGIN:VEVENT\nUID:press\nRECURRENCE-ID:20261006T080000Z\nSTATUS:CANCELLED\nSUMMARY:Something else\nEND:VEVENT\nEND:VCALENDAR\n",
        lines.trim()
    );
    Entry::parse(&text, &Limits::default()).expect("an entry")
}

fn words(text: &str) -> Vec<Words> {
    vec![Words::parse(text).expect("words")]
}

#[test]
fn every_test_takes_what_it_says_and_nothing_else() {
    let me = "ATTENDEE;PARTSTAT=DECLINED:MAILTO:Office@packhouse.example";
    let other = "ATTENDEE;PARTSTAT=DECLINED:mailto:crews@packhouse.example";
    let maybe = "ATTENDEE;PARTSTAT=TENTATIVE:mailto:office@packhouse.example";
    let categories = || Test::Categories(vec!["town".into(), "Market, harbour".into()]);
    let office = || Test::Organiser(vec!["mailto:office@packhouse.example".into()]);
    for (test, yes, no) in [
        (categories(), "CATEGORIES:Press,TOWN", "CATEGORIES:Townhall\nSUMMARY:Town"),
        (categories(), "CATEGORIES:Press\nCATEGORIES:market\\, harbour", "CATEGORIES:Market,harbour"),
        (
            Test::Words(words("press hall")),
            "SUMMARY:The PRESS HALL\\, early",
            "SUMMARY:Press\nCOMMENT:press hall",
        ),
        (Test::Words(words("upper gate")), "LOCATION:Row 12\\; upper gate", "SUMMARY:gate\\, upper"),
        (Test::Words(words("(a)")), "DESCRIPTION:crates (A)", "DESCRIPTION:a"),
        (Test::Words(words("/^stall [0-9]+$/")), "SUMMARY:Stall 14", "SUMMARY:Stall 14a"),
        (Test::AllDay(true), "DTSTART;VALUE=DATE:20261005", "DTSTART:20261005T080000Z"),
        (Test::AllDay(false), "DTSTART:20261005T080000Z", "DTSTART;VALUE=DATE:20261005"),
        (Test::Declined(true), me, other),
        (Test::Cancelled(true), "STATUS:cancelled", "STATUS:CONFIRMED"),
        (Test::Tentative(true), "STATUS:TENTATIVE", "STATUS:CONFIRMED"),
        (Test::Tentative(true), maybe, me),
        (Test::Free(true), "TRANSP:TRANSPARENT", "TRANSP:OPAQUE"),
        (Test::Free(false), "SUMMARY:x", "TRANSP:TRANSPARENT"),
        (Test::Private(true), "CLASS:PRIVATE", "CLASS:PUBLIC"),
        (Test::Private(true), "CLASS:CONFIDENTIAL", "SUMMARY:private"),
        (
            office(),
            "ORGANIZER;CN=Office:MAILTO:OFFICE@packhouse.example",
            "ATTENDEE:mailto:office@packhouse.example",
        ),
    ] {
        let mut only = Choice { only: vec![test.clone()], ..Choice::default() };
        let mut skip = Choice { skip: vec![test.clone()], ..Choice::default() };
        for choice in [&mut only, &mut skip] {
            choice.add_addresses(&["MAILTO:office@Packhouse.example".into()]);
        }
        let told = |choice: &Choice, lines: &str| choice.refusal(&entry(lines)).map(|key| key.name());
        let (only_key, skip_key) = (format!("only.{}", test.key()), format!("skip.{}", test.key()));
        assert_eq!(
            (told(&only, yes), told(&only, no)),
            (None, Some(only_key.as_str())),
            "{test:?}: {yes} / {no}"
        );
        assert_eq!(
            (told(&skip, yes), told(&skip, no)),
            (Some(skip_key.as_str()), None),
            "{test:?}: {yes} / {no}"
        );
    }
    assert!(Words::parse("/(/").is_err());
    // All of `only` must hold, none of `skip`; nothing said takes everything.
    let choice = Choice {
        only: vec![categories(), Test::AllDay(true)],
        skip: vec![Test::Free(true)],
        ..Choice::default()
    };
    let refusal = |lines: &str| choice.refusal(&entry(lines)).map(|key| key.name());
    assert_eq!(refusal("CATEGORIES:Town\nDTSTART;VALUE=DATE:20261005"), None);
    assert_eq!(refusal("CATEGORIES:Town\nDTSTART:20261005T080000Z"), Some("only.all-day"));
    assert_eq!(
        refusal("CATEGORIES:Town\nTRANSP:TRANSPARENT\nDTSTART;VALUE=DATE:20261005"),
        Some("skip.free")
    );
    assert_eq!(Choice::default().refusal(&entry("SUMMARY:x")), None);
}

/// What is taken of a series that has one changed occurrence, the second.
#[test]
fn occurrences_answer_for_themselves() {
    let no = "ATTENDEE;PARTSTAT=DECLINED:mailto:office@packhouse.example";
    let yes = "ATTENDEE;PARTSTAT=ACCEPTED:mailto:office@packhouse.example";
    let maybe = "ATTENDEE;PARTSTAT=TENTATIVE:mailto:office@packhouse.example";
    let (whole, cut, alone) = ("series, occurrence", "series without it", "occurrence");
    let town = || Test::Categories(vec!["Town".into()]);
    let id = "RECURRENCE-ID;TZID=Europe/Ljubljana:20261006T080000";
    let on = "RECURRENCE-ID;TZID=Europe/Ljubljana;RANGE=THISANDFUTURE:20261006T080000";
    for (test, series, id, occurrence, skipped, wanted) in [
        (Test::Declined(true), no, id, yes, alone, cut),
        (Test::Declined(true), yes, id, no, cut, alone),
        (Test::Declined(true), no, id, no, "skip.declined", whole),
        (Test::Declined(true), yes, id, maybe, whole, "only.declined"),
        (Test::Tentative(true), maybe, id, yes, alone, cut),
        (Test::Free(true), "TRANSP:TRANSPARENT", id, "TRANSP:OPAQUE", alone, cut),
        (Test::Private(true), "CLASS:PUBLIC", id, "CLASS:PRIVATE", cut, "only.private"),
        // What a client did not repeat for one day is no less private on that day.
        (Test::Private(true), "CLASS:PRIVATE", id, "SUMMARY:x", "skip.private", cut),
        (Test::Cancelled(true), "SUMMARY:x", id, "STATUS:CANCELLED", cut, "only.cancelled"),
        // A series that is wanted for what it is about is wanted as it stands.
        (town(), "CATEGORIES:Town", id, "SUMMARY:x", "skip.categories", whole),
        (town(), "SUMMARY:x", id, "CATEGORIES:Town", cut, "only.categories"),
        (Test::Words(words("crates")), "SUMMARY:Press", id, "SUMMARY:Crates", cut, "only.words"),
        // Nothing is left where that day was the only one.
        (
            Test::Private(true),
            "EXDATE;TZID=Europe/Ljubljana:20261005T080000,20261007T080000,20261008T080000",
            id,
            "CLASS:PRIVATE",
            "skip.private",
            "only.private",
        ),
        // What holds from a day on cannot be taken out.
        (Test::Private(true), "CLASS:PUBLIC", on, "CLASS:PRIVATE", "skip.private", "only.private"),
        (Test::Declined(true), yes, on, yes, whole, "only.declined"),
    ] {
        let text = format!(
            "BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:press\nDTSTART;TZID=Europe/Ljubljana:20261005T080000\nRRULE:FREQ=DAILY;COUNT=4\n{series}\nEND:VEVENT\nBEGIN:VEVENT\nUID:press\n{id}\nDTSTART;TZID=Europe/Ljubljana:20261006T090000\n{occurrence}\nEND:VEVENT\nEND:VCALENDAR\n"
        );
        let entry = Entry::parse(&text, &Limits::default()).expect("an entry");
        let told = |only: &[&Test], skip: &[&Test]| {
            let tests = |tests: &[&Test]| tests.iter().map(|test| (*test).clone()).collect();
            let me = vec!["office@packhouse.example".to_owned()];
            let choice = Choice { only: tests(only), skip: tests(skip), me, by_occurrence: true };
            if let Some(key) = choice.refusal(&entry) {
                return key.name().to_owned();
            }
            let rest = choice.rest(&entry).expect("what is not refused");
            let [first, more @ ..] = &rest.components().collect::<Vec<_>>()[..] else { unreachable!() };
            let exception = first.property("EXDATE");
            if let Some(exception) = &exception {
                assert_eq!(exception.param("TZID").as_deref(), Some("Europe/Ljubljana"));
                assert_eq!(exception.value(), "20261006T080000");
            }
            match (first.property("RECURRENCE-ID").is_some(), exception.is_some(), more.len()) {
                (false, false, 1) => whole.to_owned(),
                (false, true, 0) => cut.to_owned(),
                (true, false, 0) => alone.to_owned(),
                other => format!("{other:?}"),
            }
        };
        let what = format!("{test:?}: {series} / {occurrence}");
        assert_eq!((told(&[], &[&test]), told(&[&test], &[])), (skipped.into(), wanted.into()), "{what}");
    }
}
