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
