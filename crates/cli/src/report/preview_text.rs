//! What `preview --text` reports: the texts that copies have, or will have.

use chestnut_engine::{Part, Story};
use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) texts: Vec<CopyText>,
    /// Routes of which nothing is said, and why.
    pub(crate) not_asked: Vec<String>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct CopyText {
    pub(crate) route: String,
    pub(crate) calendar: String,
    /// `create` or `update` where the next sync writes it; nothing where it stands there.
    pub(crate) action: Option<&'static str>,
    pub(crate) title: String,
    pub(crate) start: String,
    /// An iCalendar object (RFC 5545), byte for byte.
    pub(crate) text: String,
}

impl CopyText {
    /// The texts of one entry in every calendar that its route writes: what comes next, else what stands there.
    pub(crate) fn of(route: &str, written: &[String], story: &Story) -> Vec<Self> {
        let next = story.next.iter().filter_map(|change| {
            Some(Self {
                route: route.to_owned(),
                calendar: change.calendar.clone()?,
                action: Some(change.action),
                title: change.title.clone(),
                start: change.start.clone(),
                text: change.after.clone()?,
            })
        });
        let mut texts: Vec<Self> = next.collect();
        for place in &story.places {
            let is_written =
                written.contains(&place.calendar) && !matches!(place.part, Part::Own | Part::OfAnotherRoute);
            let is_next =
                texts.iter().any(|text| text.calendar == place.calendar && text.start == place.start);
            if let (true, false, Some(text)) = (is_written, is_next, &place.text) {
                texts.push(Self {
                    route: route.to_owned(),
                    calendar: place.calendar.clone(),
                    action: None,
                    title: place.title.clone(),
                    start: place.start.clone(),
                    text: text.clone(),
                });
            }
        }
        texts
    }
}
