//! What a broken server does, for good: nothing that one could live with, as with habits.

use chestnut_core::ical::{Limits, Property, parse_one, write};
use chestnut_core::{TimeValue, parse_time};
use jiff::SignedDuration;

/// Something that is broken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Failing {
    /// A PUT is answered with 201, and nothing is kept.
    KeepsNoNews,
    /// Titles are dropped.
    DropsTitles,
    /// Times come back an hour later.
    LateByAnHour,
    /// Listings and reports name nothing that is newer than the failing.
    StaleListings,
    /// Sync token and ctag stand still; listings go on.
    FrozenMarks,
}

/// Returns what is kept of a text.
pub(crate) fn spoilt(text: &str, drops_titles: bool, is_late: bool) -> String {
    let Ok(object) = parse_one(text.as_bytes(), &Limits::default()) else { return text.to_owned() };
    let mut object = object.into_owned();
    for component in object.components_mut().filter(|c| !c.is("VTIMEZONE")) {
        if drops_titles {
            component.retain_properties(|p| !p.is("SUMMARY"));
        }
        if is_late {
            component.map_properties(&mut |p| {
                let is_time = ["DTSTART", "DTEND", "DUE"].iter().any(|name| p.is(name));
                is_time.then(|| later(p)).flatten()
            });
        }
    }
    write(&object)
}

fn later(property: &Property<'_>) -> Option<Property<'static>> {
    let hour = SignedDuration::from_hours(1);
    let moved = match parse_time(property.value())? {
        TimeValue::Date(_) => return None,
        TimeValue::Local(at) => TimeValue::Local(at.saturating_add(hour)),
        TimeValue::Utc(at) => TimeValue::Utc(at.saturating_add(hour)),
    };
    Some(property.clone().into_owned().with_value(&moved.to_string()))
}
