//! How servers store their own version of what they are given.

use std::collections::BTreeSet;

use chestnut_core::ical::{Component, Item, Limits, Property, parse_one, write};
use chestnut_core::{TimeValue, parse_time};

use crate::habits::Habit;
use crate::names::one_in;

/// Returns what a server with these habits keeps of a text.
pub(crate) fn rewrite(text: &str, name: &str, habits: &BTreeSet<Habit>) -> String {
    if habits.contains(&Habit::NullAfterPut) && one_in(name, 4) {
        return "(null)".to_owned();
    }
    let Ok(object) = parse_one(text.as_bytes(), &Limits::default()) else { return text.to_owned() };
    let mut object = object.into_owned();
    let zoned = text.contains(";TZID=") && !text.contains("BEGIN:VTIMEZONE");
    if habits.contains(&Habit::AddsZones) && zoned {
        let tzid = text.split(";TZID=").nth(1).and_then(|t| t.split([':', ';']).next()).unwrap_or_default();
        object.items_mut().insert(0, Item::Component(Box::new(plain_zone(tzid))));
    }
    for component in object.components_mut().filter(|c| !c.is("VTIMEZONE")) {
        rewrite_component(component, habits);
    }
    let rewritten = write(&object);
    // A server that changes nothing keeps the bytes.
    if *text.as_bytes() == *rewritten.as_bytes() || habits.is_empty() { text.to_owned() } else { rewritten }
}

fn plain_zone(tzid: &str) -> Component<'static> {
    let mut zone = Component::new("VTIMEZONE");
    zone.push_property(Property::new("TZID", tzid));
    let mut standard = Component::new("STANDARD");
    for (name, value) in [("DTSTART", "19700101T000000"), ("TZOFFSETFROM", "+0100"), ("TZOFFSETTO", "+0100")]
    {
        standard.push_property(Property::new(name, value));
    }
    zone.push_component(standard);
    zone
}

fn rewrite_component(component: &mut Component<'static>, habits: &BTreeSet<Habit>) {
    let has = |habit: Habit| habits.contains(&habit);
    let taken = std::mem::take(component.items_mut());
    let mut items: Vec<Item<'static>> = Vec::with_capacity(taken.len());
    for item in taken {
        match item {
            Item::Property(property) => {
                items.extend(rewrite_property(property, habits).into_iter().map(Item::Property))
            }
            Item::Component(inner) => items.push(Item::Component(inner)),
        }
    }
    *component.items_mut() = items;
    if has(Habit::AddsDefaults) && component.is("VEVENT") {
        for (name, value) in [("CLASS", "PUBLIC"), ("TRANSP", "OPAQUE"), ("SEQUENCE", "0"), ("PRIORITY", "0")]
        {
            if component.property(name).is_none() {
                component.push_property(Property::new(name, value));
            }
        }
    }
    let open_end = component.property("DTEND").is_none() && component.property("DURATION").is_none();
    let timed = component.value("DTSTART").is_some_and(|v| v.contains('T'));
    if has(Habit::AddsDuration) && component.is("VEVENT") && open_end && timed {
        component.push_property(Property::new("DURATION", "PT1H"));
    }
    if has(Habit::WritesDuration) {
        write_duration(component);
    }
    if has(Habit::Reorders) {
        let (mut properties, components): (Vec<_>, Vec<_>) =
            std::mem::take(component.items_mut()).into_iter().partition(|i| matches!(i, Item::Property(_)));
        properties.sort_by_key(|item| match item {
            Item::Property(p) => p.line().to_owned(),
            Item::Component(_) => String::new(),
        });
        component.items_mut().extend(properties.into_iter().chain(components));
    }
}

fn rewrite_property(property: Property<'static>, habits: &BTreeSet<Habit>) -> Vec<Property<'static>> {
    let has = |habit: Habit| habits.contains(&habit);
    let value = property.value().to_owned();
    let is = |names: &[&str]| names.iter().any(|n| property.is(n));
    if value.is_empty() && has(Habit::DropsEmpty) {
        return Vec::new();
    }
    if has(Habit::StripsPeople) && is(&["ORGANIZER", "ATTENDEE"]) {
        return Vec::new();
    }
    if has(Habit::SplitsEscapedCommas) && is(&["CATEGORIES"]) {
        return value.split(',').map(|v| property.with_value(v.trim_end_matches('\\'))).collect();
    }
    if has(Habit::SplitsLists) && is(&["EXDATE", "CATEGORIES"]) {
        return chestnut_core::split_list(&value).map(|v| property.with_value(v)).collect();
    }
    if has(Habit::ReordersRules) && is(&["RRULE"]) {
        let mut parts: Vec<_> = value.split(';').collect();
        parts.sort_unstable();
        return vec![property.with_value(&parts.join(";"))];
    }
    if has(Habit::RoundsGeo) && is(&["GEO"]) {
        let numbers = value.split(';').filter_map(|n| n.parse::<f64>().ok()).map(|n| format!("{n:.8}"));
        return vec![property.with_value(&numbers.collect::<Vec<_>>().join(";"))];
    }
    if has(Habit::TrimsTexts) && is(&["SUMMARY", "DESCRIPTION", "LOCATION"]) {
        return vec![property.with_value(value.trim_end())];
    }
    if has(Habit::CutsAtComma) && is(&["LOCATION", "X-CRATES"]) {
        let cut = chestnut_core::split_list(&value).next().unwrap_or_default().to_owned();
        return vec![property.with_value(&cut)];
    }
    let floating =
        property.param("TZID").is_none() && matches!(parse_time(&value), Some(TimeValue::Local(_)));
    if has(Habit::FloatingToUtc) && is(&["DTSTART", "DTEND"]) && floating {
        return vec![property.with_value(&format!("{value}Z"))];
    }
    if has(Habit::Reorders) && property.params().count() > 1 {
        let mut params: Vec<(String, String)> =
            property.params().map(|p| (p.name.to_owned(), p.value().into_owned())).collect();
        params.sort();
        let params: Vec<_> = params.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
        return vec![Property::with_params(property.name(), &params, &value)];
    }
    vec![property]
}

/// DTEND becomes DURATION where both ends are in one zone and on one day, so that no clock change lies between.
fn write_duration(component: &mut Component<'static>) {
    let (Some(start), Some(end)) = (component.property("DTSTART"), component.property("DTEND")) else {
        return;
    };
    let same_zone = start.param("TZID") == end.param("TZID");
    let (Some(from), Some(to)) = (parse_time(start.value()), parse_time(end.value())) else { return };
    let seconds = to.local().duration_since(from.local()).as_secs();
    let timed = !matches!(from, TimeValue::Date(_));
    if same_zone && timed && seconds > 0 && from.local().date() == to.local().date() {
        component.retain_properties(|p| !p.is("DTEND"));
        component.push_property(Property::new("DURATION", &format!("PT{}M", seconds / 60)));
    }
}
