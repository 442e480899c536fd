//! Values: moments, durations, texts and lists, as they are written and as they are met.

use chestnut_core::{
    TimeValue, escape_text, parse_duration, parse_time, resolve_zone, split_list, unescape_text,
};
use proptest::prelude::*;

#[test]
fn moments_are_read_or_refused() {
    for same in ["20261005", "20261005T080000", "20261005T080000Z", "00010101T000000", "99991231T235959Z"] {
        assert_eq!(parse_time(same).expect(same).to_string(), same);
    }
    let day = parse_time(" 20261005 ").expect("a day");
    assert!(matches!(day, TimeValue::Date(_)) && day.local().hour() == 0);
    assert_eq!(parse_time("20261231T235960Z").expect("a leap second").to_string(), "20261231T235959Z");
    for bad in [
        "",
        "2026",
        "20261305",
        "20260230",
        "20261005T",
        "20261005T0800",
        "20261005T250000",
        "20261005X080000",
        "20261005T080000+0100",
        "2026-10-05",
        "ｘ0261005",
    ] {
        assert_eq!(parse_time(bad), None, "{bad}");
    }
}

#[test]
fn durations_are_read_or_refused() {
    let table = [
        ("PT15M", Some((0, 900))),
        ("-PT15M", Some((0, -900))),
        ("+P1DT12H", Some((1, 43_200))),
        ("P2W", Some((14, 0))),
        ("-P1D", Some((-1, 0))),
        ("PT1H30M5S", Some((0, 5405))),
        ("p1d", Some((1, 0))),
        ("P", None),
        ("PT", None),
        ("P1H", None),
        ("PT1D", None),
        ("P99999999999999999999D", None),
        ("1D", None),
        ("PT15", None),
    ];
    for (text, expected) in table {
        assert_eq!(parse_duration(text).map(|d| (d.days, d.seconds)), expected, "{text}");
    }
}

#[test]
fn zones_are_found_by_every_name_and_never_guessed() {
    let table = [
        ("Europe/Ljubljana", Some("Europe/Ljubljana")),
        ("europe/ljubljana", Some("Europe/Ljubljana")),
        ("/vendor.example/20260101/America/Argentina/Salta", Some("America/Argentina/Salta")),
        ("\"Europe/Berlin\"", Some("Europe/Berlin")),
        ("Pacific Standard Time", Some("America/Los_Angeles")),
        ("CENTRAL EUROPE STANDARD TIME", Some("Europe/Budapest")),
        ("UTC", Some("UTC")),
        ("Orchard", None),
        ("GMT+0100", None),
        ("/vendor.example/Orchard", None),
        ("", None),
    ];
    for (tzid, expected) in table {
        assert_eq!(resolve_zone(tzid).map(|zone| zone.name).as_deref(), expected, "{tzid}");
    }
}

proptest! {
    #[test]
    fn texts_survive_escaping(text in "[^\\p{Cc}]{0,60}", lines in prop::collection::vec("[^\\p{Cc}]{0,10}", 0..4)) {
        let text = format!("{text}{}", lines.join("\n"));
        prop_assert_eq!(unescape_text(&escape_text(&text)).into_owned(), text);
    }

    #[test]
    fn lists_survive_joining(items in prop::collection::vec("[^\\p{Cc}]{0,12}", 1..6)) {
        let joined = items.iter().map(|i| escape_text(i)).collect::<Vec<_>>().join(",");
        let split: Vec<_> = split_list(&joined).map(|i| unescape_text(i).into_owned()).collect();
        prop_assert_eq!(split, items);
    }

    #[test]
    fn no_text_makes_values_panic(text in "\\PC{0,30}") {
        drop((parse_time(&text), parse_duration(&text), resolve_zone(&text), unescape_text(&text).into_owned()));
    }
}
