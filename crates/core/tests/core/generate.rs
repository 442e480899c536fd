//! Entries as nobody would write them, but might.

use chestnut_core::Entry;
use chestnut_core::ical::{Component, Item, Property};
use proptest::prelude::*;

/// Any text that may stand in a value: no control characters, but all else, long ones too.
pub(crate) fn value() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => "[^\\p{Cc}]{0,40}",
        1 => "[a-z ,;\\\\:äß会🍎]{60,200}",
    ]
}

fn name() -> impl Strategy<Value = String> {
    prop_oneof![
        prop::sample::select(vec![
            "SUMMARY",
            "description",
            "LOCATION",
            "CATEGORIES",
            "COMMENT",
            "URL",
            "GEO"
        ])
        .prop_map(str::to_owned),
        "X-[A-Z]{1,8}",
    ]
}

fn property() -> impl Strategy<Value = Property<'static>> {
    let params = prop::collection::vec(("X-[A-Z]{1,5}", "[^\\p{Cc}]{0,12}"), 0..3);
    (name(), params, value()).prop_map(|(name, params, value)| {
        let params: Vec<_> = params.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
        Property::with_params(&name, &params, &value)
    })
}

fn inner() -> impl Strategy<Value = Component<'static>> {
    let names = prop::sample::select(vec!["VALARM", "X-UNKNOWN", "VLOCATION"]);
    (names, prop::collection::vec(property(), 0..3)).prop_map(|(name, properties)| {
        let mut component = Component::new(name);
        properties.into_iter().for_each(|p| component.push_property(p));
        component
    })
}

fn body(recurrence_id: Option<u8>) -> impl Strategy<Value = Component<'static>> {
    let people = prop::collection::vec(
        prop::sample::select(vec!["mailto:office@coop.example", "mailto:crew@coop.example"]),
        0..3,
    );
    let items = prop::collection::vec(
        prop_oneof![
            3 => property().prop_map(Item::Property),
            1 => inner().prop_map(|c| Item::Component(Box::new(c))),
        ],
        0..6,
    );
    (items, people, 1..28_u8).prop_map(move |(items, people, day)| {
        let mut component = Component::new("VEVENT");
        component.push_property(Property::new("UID", "generated"));
        component.push_property(Property::new("DTSTART", &format!("202610{day:02}T080000Z")));
        if let Some(id) = recurrence_id {
            component.push_property(Property::new("RECURRENCE-ID", &format!("202611{id:02}T080000Z")));
        }
        component.items_mut().extend(items);
        for person in people {
            component.push_property(Property::with_params("ATTENDEE", &[("CN", "Crew, north")], person));
        }
        component
    })
}

/// An entry with up to two changed occurrences.
pub(crate) fn entry() -> impl Strategy<Value = Entry> {
    let bodies = (body(None), prop::option::of(body(Some(1))), prop::option::of(body(Some(2))));
    bodies.prop_map(|(series, first, second)| {
        let mut object = Component::new("VCALENDAR");
        object.push_property(Property::new("VERSION", "2.0"));
        object.push_property(Property::new("X-UNKNOWN", "kept"));
        for component in [Some(series), first, second].into_iter().flatten() {
            object.push_component(component);
        }
        Entry::from_object(object).expect("one UID")
    })
}

/// A line of an entry in which everything bears the word `quince`, that can bear one and still is a line.
fn marked_line() -> impl Strategy<Value = String> {
    let names = prop::sample::select(vec![
        "SUMMARY",
        "LOCATION",
        "DESCRIPTION",
        "CATEGORIES",
        "ORGANIZER",
        "ATTENDEE",
        "ATTACH",
        "URL",
        "COMMENT",
        "STATUS",
        "TRANSP",
        "CLASS",
        "GEO",
        "RELATED-TO",
        "X-QUINCE",
        "COLOR",
        "SEQUENCE",
        "RRULE",
        "EXDATE",
        "RDATE",
        "EXRULE",
        "DTEND",
        "DURATION",
        "DTSTAMP",
        "RECURRENCE-ID",
        "REQUEST-STATUS",
        "IMAGE",
    ]);
    let values = prop::sample::select(vec![
        "quince",
        "QUINCE,20261009T080000Z",
        "20261010T080000",
        "20261011T080000Z/PT2H",
        "20261011T080000Z/quince",
        "FREQ=DAILY;COUNT=3",
        "FREQ=DAILY;X-QUINCE=1",
        "FREQ=WEEKLY;BYDAY=MO,QUINCE",
        "mailto:quince@coop.example",
        "TENTATIVE",
        "PT1H",
        "P1Dquince",
    ]);
    let params = prop::sample::select(vec![
        "",
        ";X-QUINCE=quince",
        ";TZID=quince",
        ";TZID=/quince.example/1/Europe/Ljubljana",
        ";TZID=Europe/Ljubljana",
        ";VALUE=quince",
        ";RANGE=quince",
        ";RANGE=THISANDFUTURE",
        ";PARTSTAT=TENTATIVE;CN=Quince",
    ]);
    (names, params, values).prop_map(|(name, params, value)| format!("{name}{params}:{value}"))
}

/// An entry in which every text, name and parameter bears the word `quince`.
pub(crate) fn marked_entry() -> impl Strategy<Value = Entry> {
    let lines = || prop::collection::vec(marked_line(), 0..7);
    (lines(), lines(), any::<bool>()).prop_map(|(series, changed, described)| {
        let zone = "BEGIN:VTIMEZONE\nTZID:quince\nX-QUINCE:quince\nTZNAME:quince\nBEGIN:STANDARD\nTZNAME:quince\n\
                    COMMENT:quince\nDTSTART:19700101T000000\nTZOFFSETFROM:+0130\nTZOFFSETTO:+0130\nEND:STANDARD\n\
                    END:VTIMEZONE\n";
        let zone = if described { zone } else { "" };
        let start = if described { "DTSTART;TZID=quince:20261005T080000" } else { "DTSTART:20261005T080000Z" };
        let text = format!(
            "BEGIN:VCALENDAR\nPRODID:quince\nMETHOD:QUINCE\nX-WR-CALNAME:quince\n{zone}BEGIN:VEVENT\nUID:quince\n{start}\n{}\n\
             BEGIN:VALARM\nUID:quince\nDESCRIPTION:quince\nTRIGGER:-PT5M\nEND:VALARM\nBEGIN:QUINCE\nQUINCE:quince\n\
             END:QUINCE\nEND:VEVENT\nBEGIN:VEVENT\nUID:quince\nRECURRENCE-ID:20261006T080000Z\n\
             DTSTART:20261006T090000Z\n{}\nEND:VEVENT\nEND:VCALENDAR\n",
            series.join("\n"),
            changed.join("\n"),
        );
        Entry::parse(&text.replace("\n\n", "\n"), &chestnut_core::ical::Limits::default()).expect("an entry")
    })
}
