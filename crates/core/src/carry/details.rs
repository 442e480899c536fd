//! The table form of `carry`: which details are shown, and in which form.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use super::parts::{Detail, Parts};
use crate::ical::{Component, Item, Property};
use crate::values::{escape_text, split_list, unescape_text};

/// Which details a copy shows, and in which form.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Details {
    /// Which are carried; the time always is, and what is set to a fixed value below.
    pub taken: BTreeSet<Detail>,
    /// A title for every copy.
    pub title: Option<String>,
    /// Stands before every title.
    pub prefix: Option<String>,
    /// Whether copies take time; `None`: as their source does.
    pub blocks_time: Option<BlocksTime>,
    /// Who may see copies; `None`: as their source says.
    pub privacy: Option<Privacy>,
    /// Which reminders copies have.
    pub reminders: Reminders,
    /// Which categories copies have.
    pub categories: Categories,
    /// Which colour copies have.
    pub colour: Colour,
}

/// Whether a copy takes time (TRANSP).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BlocksTime {
    /// It does.
    Yes,
    /// It does not.
    No,
}

/// Who may see a copy (CLASS).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Privacy {
    /// Everybody who may see the calendar.
    Public,
    /// Nobody else.
    Private,
    /// Others see when it is (RFC 5545, 3.8.1.3, leaves it to the server).
    Confidential,
}

/// Which reminders a copy has (VALARM).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Reminders {
    /// Those of its source, where reminders are carried.
    #[default]
    AsTheyAre,
    /// None are carried; those that somebody sets on a copy are left alone.
    None,
    /// One, so many seconds before the start.
    Before(u32),
}

/// Which categories a copy has.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Categories {
    /// Those of its source, where categories are carried.
    #[default]
    AsTheyAre,
    /// These, always.
    Fixed(Vec<String>),
    /// Those of its source, renamed; an empty name leaves one out. Those that are not named stay as they are.
    Renamed(BTreeMap<String, String>),
}

/// Which colour a copy has: a name of CSS (RFC 7986, 5.9).
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Colour {
    /// That of its source, where the colour is carried.
    #[default]
    AsItIs,
    /// This one, always.
    Fixed(String),
    /// That of the first of these categories which its source has; else as it is.
    ByCategory(BTreeMap<String, String>),
}

impl Default for Details {
    /// Everything, as it is.
    fn default() -> Self {
        Self {
            taken: Detail::ALL.into_iter().collect(),
            title: None,
            prefix: None,
            blocks_time: None,
            privacy: None,
            reminders: Reminders::AsTheyAre,
            categories: Categories::AsTheyAre,
            colour: Colour::AsItIs,
        }
    }
}

impl Details {
    /// What it says as one text.
    pub(super) fn settings(&self) -> String {
        let taken: Vec<_> = self.taken.iter().map(|detail| detail.word()).collect();
        let blocks = match self.blocks_time {
            None => "as-it-is",
            Some(BlocksTime::Yes) => "yes",
            Some(BlocksTime::No) => "no",
        };
        let privacy = match self.privacy {
            None => "as-it-is",
            Some(Privacy::Public) => "public",
            Some(Privacy::Private) => "private",
            Some(Privacy::Confidential) => "confidential",
        };
        let reminders = match self.reminders {
            Reminders::AsTheyAre => "as-they-are".to_owned(),
            Reminders::None => "none".to_owned(),
            Reminders::Before(seconds) => format!("{seconds} s"),
        };
        let categories = match &self.categories {
            Categories::AsTheyAre => "as-they-are".to_owned(),
            Categories::Fixed(names) => format!("{names:?}"),
            Categories::Renamed(map) => format!("{map:?}"),
        };
        let colour = match &self.colour {
            Colour::AsItIs => "as-it-is".to_owned(),
            Colour::Fixed(name) => format!("{name:?}"),
            Colour::ByCategory(map) => format!("{map:?}"),
        };
        let (title, prefix) = (self.title.as_deref(), self.prefix.as_deref());
        format!(
            "details {}; title {title:?}; prefix {prefix:?}; blocks-time {blocks}; privacy {privacy}; \
             reminders {reminders}; categories {categories}; colour {colour}",
            taken.join(",")
        )
    }

    /// What is shown of an entry.
    pub(super) fn parts(&self) -> Parts {
        let mut parts = self.taken.iter().fold(Parts::ALWAYS, |parts, detail| parts.with(*detail));
        let fixed = [
            (self.title.is_some() || self.prefix.is_some(), Detail::Title),
            (self.categories != Categories::AsTheyAre, Detail::Categories),
            (self.colour != Colour::AsItIs, Detail::Colour),
            (matches!(self.reminders, Reminders::Before(_)), Detail::Reminders),
        ];
        for (_, part) in fixed.into_iter().filter(|(is_fixed, _)| *is_fixed) {
            parts = parts.with(part);
        }
        if self.reminders == Reminders::None { parts.without(Detail::Reminders) } else { parts }
    }

    /// Brings one component, of which only what is shown is left, into the form that copies have.
    pub(super) fn apply(&self, component: &mut Component<'static>, original: &Component<'static>) {
        if self.title.is_some() || self.prefix.is_some() {
            self.set_title(component, original);
        }
        self.set_categories(component, original);
        self.set_colour(component, original);
        if let Some(blocks) = self.blocks_time.filter(|_| component.is("VEVENT")) {
            let value = if blocks == BlocksTime::Yes { "OPAQUE" } else { "TRANSPARENT" };
            set_only(component, "TRANSP", Some(value));
        }
        if let Some(privacy) = self.privacy {
            let value = match privacy {
                Privacy::Public => "PUBLIC",
                Privacy::Private => "PRIVATE",
                Privacy::Confidential => "CONFIDENTIAL",
            };
            set_only(component, "CLASS", Some(value));
        }
        if let Reminders::Before(seconds) = self.reminders {
            set_reminder(component, seconds);
        }
    }

    fn set_title(&self, component: &mut Component<'static>, original: &Component<'static>) {
        let own = original.value("SUMMARY").map(unescape_text).unwrap_or_default();
        let shows_own = self.title.is_none() && self.taken.contains(&Detail::Title);
        let title = self.title.as_deref().or(shows_own.then_some(&*own)).unwrap_or_default();
        // Once: a title that has it came back to where it was given to, by other routes.
        let has_it = |prefix: &&str| title.starts_with(*prefix) || title.trim() == prefix.trim();
        let prefix = self.prefix.as_deref().filter(|prefix| !has_it(prefix)).unwrap_or_default();
        let title = format!("{prefix}{title}");
        let title = title.trim();
        let own = component.property("SUMMARY").filter(|_| shows_own);
        let title = match own {
            // Language and other parameters stay with a title of its own.
            Some(own) => Some(own.with_value(&escape_text(title))),
            None => Some(Property::new("SUMMARY", &escape_text(title))),
        };
        replace(component, "SUMMARY", title.filter(|p| !p.value().is_empty()));
    }

    fn set_categories(&self, component: &mut Component<'static>, original: &Component<'static>) {
        let names = match &self.categories {
            Categories::AsTheyAre => return,
            Categories::Fixed(names) => names.clone(),
            Categories::Renamed(map) => {
                let renamed = |own: String| named(map, &own).map_or(own, Clone::clone);
                categories_of(original).into_iter().map(renamed).filter(|name| !name.is_empty()).collect()
            }
        };
        let names: Vec<_> = names.iter().map(|name| escape_text(name)).collect();
        set_only(component, "CATEGORIES", Some(names.join(",").as_str()).filter(|list| !list.is_empty()));
    }

    fn set_colour(&self, component: &mut Component<'static>, original: &Component<'static>) {
        let colour = match &self.colour {
            Colour::AsItIs => return,
            Colour::Fixed(colour) => Some(colour),
            Colour::ByCategory(map) => categories_of(original).iter().find_map(|own| named(map, own)),
        };
        let own = original.value("COLOR").filter(|_| self.taken.contains(&Detail::Colour));
        set_only(component, "COLOR", colour.map(String::as_str).or(own));
    }
}

fn named<'m>(map: &'m BTreeMap<String, String>, name: &str) -> Option<&'m String> {
    map.iter().find(|(key, _)| key.to_lowercase() == name.to_lowercase()).map(|(_, value)| value)
}

fn categories_of(component: &Component<'_>) -> Vec<String> {
    let lists = component.properties().filter(|p| p.is("CATEGORIES"));
    let names = lists.flat_map(|p| split_list(p.value())).map(|one| unescape_text(one).trim().to_owned());
    names.filter(|name| !name.is_empty()).collect()
}

/// Sets a property to one value without parameters, or takes it out.
fn set_only(component: &mut Component<'static>, name: &str, value: Option<&str>) {
    replace(component, name, value.map(|value| Property::new(name, value)));
}

/// Puts a property in the place of all of that name, before what stands inside the component.
fn replace(component: &mut Component<'static>, name: &str, property: Option<Property<'static>>) {
    component.retain_properties(|p| !p.is(name));
    component.insert_before_components(property.map(Item::Property));
}

fn set_reminder(component: &mut Component<'static>, seconds: u32) {
    component.items_mut().retain(|item| !matches!(item, Item::Component(c) if c.is("VALARM")));
    let mut alarm = Component::new("VALARM");
    alarm.push_property(Property::new("ACTION", "DISPLAY"));
    alarm.push_property(Property::new("TRIGGER", &lead_time(seconds)));
    // RFC 5545, 3.6.6, asks for a text.
    alarm.push_property(Property::new("DESCRIPTION", component.value("SUMMARY").unwrap_or("Reminder")));
    component.push_component(alarm);
}

/// `-PT30M`, `-P1D`: nominal days, so that a reminder a day before comes at the same hour.
fn lead_time(seconds: u32) -> String {
    match seconds {
        0 => "PT0S".to_owned(),
        s if s % 86_400 == 0 => format!("-P{}D", s / 86_400),
        s if s % 3600 == 0 => format!("-PT{}H", s / 3600),
        s if s % 60 == 0 => format!("-PT{}M", s / 60),
        s => format!("-PT{s}S"),
    }
}

/// An attachment that stands in the entry itself (RFC 5545, 3.8.1.1).
pub(super) fn is_inline_attachment(property: &Property<'_>) -> bool {
    let is = |name: &str, value: &str| property.param(name).is_some_and(|v| v.eq_ignore_ascii_case(value));
    (property.is("ATTACH") || property.is("IMAGE")) && (is("VALUE", "BINARY") || is("ENCODING", "BASE64"))
}

/// Adds the people that a component names to its notes, as lines.
pub(super) fn list_people(component: &mut Component<'static>, original: &Component<'static>) {
    let mut lines = String::new();
    for property in original.properties().filter(|p| p.is("ORGANIZER") || p.is("ATTENDEE")) {
        let role = if property.is("ORGANIZER") { "Organiser" } else { "Invited" };
        let address = property.value().trim();
        let address = match address.get(..7) {
            Some(scheme) if scheme.eq_ignore_ascii_case("mailto:") => &address[7..],
            _ => address,
        };
        let person = match property.param("CN").filter(|name| !name.trim().is_empty()) {
            Some(name) => format!("{} <{address}>", name.trim()),
            None => address.to_owned(),
        };
        let answer = property.param("PARTSTAT").map(|answer| answer.to_ascii_uppercase());
        let answer = match answer.as_deref() {
            Some("ACCEPTED") => " (comes)",
            Some("DECLINED") => " (does not come)",
            Some("TENTATIVE") => " (comes perhaps)",
            _ => "",
        };
        writeln!(lines, "{role}: {person}{answer}").expect("writing to a string cannot fail");
    }
    if lines.is_empty() {
        return;
    }
    let own = component.property("DESCRIPTION").cloned();
    let notes = own.as_ref().map(|p| unescape_text(p.value()).trim_end().to_owned()).unwrap_or_default();
    let notes = if notes.is_empty() { lines } else { format!("{notes}\n\n{lines}") };
    let notes = escape_text(notes.trim_end());
    let notes = own.map_or_else(|| Property::new("DESCRIPTION", &notes), |own| own.with_value(&notes));
    replace(component, "DESCRIPTION", Some(notes));
}
