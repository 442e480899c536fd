//! Which property says what: the parts that a route may carry or leave.

use crate::ical::Item;

/// A detail that `details` may name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Detail {
    /// SUMMARY.
    Title,
    /// LOCATION, GEO and structured places.
    Location,
    /// DESCRIPTION, its styled forms, and comments.
    Notes,
    /// ORGANIZER, ATTENDEE and contacts.
    People,
    /// VALARM.
    Reminders,
    /// CATEGORIES.
    Categories,
    /// COLOR (RFC 7986, 5.9).
    Colour,
    /// URL, and where a conference takes place.
    Link,
    /// ATTACH and images.
    Attachments,
    /// All that has no other name here, unknown properties among it.
    Other,
}

impl Detail {
    /// All details, in the order in which they are shown.
    pub const ALL: [Self; 10] = [
        Self::Title,
        Self::Location,
        Self::Notes,
        Self::People,
        Self::Reminders,
        Self::Categories,
        Self::Colour,
        Self::Link,
        Self::Attachments,
        Self::Other,
    ];

    /// Returns the word for the configuration.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Title => "title",
            Self::Location => "location",
            Self::Notes => "notes",
            Self::People => "people",
            Self::Reminders => "reminders",
            Self::Categories => "categories",
            Self::Colour => "colour",
            Self::Link => "link",
            Self::Attachments => "attachments",
            Self::Other => "other",
        }
    }

    /// Returns the detail that the configuration calls so.
    #[must_use]
    pub fn named(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|detail| detail.word() == word)
    }
}

/// What an item of an entry is part of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Part {
    /// When it is, and which entry it is.
    Time,
    /// STATUS.
    Status,
    /// TRANSP.
    ShowAs,
    /// CLASS.
    Privacy,
    /// How far a task has come.
    Progress,
    /// What `details` may name.
    Detail(Detail),
}

impl Part {
    /// Where an item of a VEVENT, VTODO or VJOURNAL belongs.
    pub(super) fn of(item: &Item<'_>) -> Self {
        let name = match item {
            Item::Property(property) => property.name(),
            Item::Component(component) => component.name(),
        };
        let is_component = matches!(item, Item::Component(_));
        match (name.to_ascii_uppercase().as_str(), is_component) {
            ("VALARM", true) => Self::Detail(Detail::Reminders),
            ("VLOCATION", true) => Self::Detail(Detail::Location),
            ("PARTICIPANT", true) => Self::Detail(Detail::People),
            (_, true) => Self::Detail(Detail::Other),
            (
                "UID" | "DTSTAMP" | "DTSTART" | "DTEND" | "DUE" | "DURATION" | "RRULE" | "RDATE" | "EXDATE"
                | "EXRULE" | "RECURRENCE-ID",
                _,
            ) => Self::Time,
            ("STATUS", _) => Self::Status,
            ("TRANSP", _) => Self::ShowAs,
            ("CLASS", _) => Self::Privacy,
            ("PERCENT-COMPLETE" | "COMPLETED" | "PRIORITY", _) => Self::Progress,
            ("SUMMARY", _) => Self::Detail(Detail::Title),
            ("LOCATION" | "GEO" | "X-APPLE-STRUCTURED-LOCATION", _) => Self::Detail(Detail::Location),
            ("DESCRIPTION" | "STYLED-DESCRIPTION" | "X-ALT-DESC" | "COMMENT", _) => {
                Self::Detail(Detail::Notes)
            }
            ("ORGANIZER" | "ATTENDEE" | "CONTACT" | "REQUEST-STATUS", _) => Self::Detail(Detail::People),
            ("CATEGORIES" | "CONCEPT", _) => Self::Detail(Detail::Categories),
            ("COLOR", _) => Self::Detail(Detail::Colour),
            ("URL" | "CONFERENCE" | "LINK" | "SOURCE", _) => Self::Detail(Detail::Link),
            ("ATTACH" | "IMAGE", _) => Self::Detail(Detail::Attachments),
            _ => Self::Detail(Detail::Other),
        }
    }

    /// Where an item of the VCALENDAR around an entry belongs.
    pub(super) fn around(item: &Item<'_>) -> Self {
        let needed = match item {
            Item::Property(p) => ["VERSION", "PRODID", "CALSCALE"].iter().any(|name| p.is(name)),
            Item::Component(c) => ["VTIMEZONE", "VEVENT", "VTODO", "VJOURNAL"].iter().any(|name| c.is(name)),
        };
        if needed { Self::Time } else { Self::Detail(Detail::Other) }
    }

    const fn bit(self) -> u16 {
        match self {
            Self::Time => 1,
            Self::Status => 2,
            Self::ShowAs => 4,
            Self::Privacy => 8,
            Self::Progress => 16,
            Self::Detail(detail) => 32 << detail as u16,
        }
    }
}

/// A set of parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Parts(u16);

impl Parts {
    pub(super) const ALL: Self = Self(Part::Detail(Detail::Other).bit() * 2 - 1);
    /// What every copy shows: when it is, and how it stands with it.
    pub(super) const ALWAYS: Self = Self(Part::Detail(Detail::Title).bit() - 1);
    pub(super) const BUSY: Self =
        Self(Part::Time.bit() | Part::Status.bit() | Part::ShowAs.bit() | Part::Detail(Detail::Title).bit());

    pub(super) fn and(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    pub(super) fn number(self) -> u16 {
        self.0
    }

    pub(super) fn of_number(number: u16) -> Self {
        Self(number & Self::ALL.0)
    }

    pub(super) fn contains(self, part: Part) -> bool {
        self.0 & part.bit() != 0
    }

    pub(super) fn with(self, detail: Detail) -> Self {
        Self(self.0 | Part::Detail(detail).bit())
    }

    pub(super) fn without(self, detail: Detail) -> Self {
        Self(self.0 & !Part::Detail(detail).bit())
    }
}
