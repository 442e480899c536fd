//! What `why` reports: the stories of entries.

use chestnut_core::LeftOut;
use chestnut_engine::{Difference, Part, PreviewedChange, Story, StoryPlace};
use chestnut_store::PastChange;
use serde::Serialize;

use crate::failure::Failure;
use crate::settings::RouteSettings;
use crate::words::{cause_words, part_words, stopped_words, story_words, told_words, why_words};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) stories: Vec<Telling>,
    /// Entries in calendars that no route covers.
    pub(crate) uncovered: Vec<Uncovered>,
    /// What runs did, the newest first.
    pub(crate) past: Vec<Past>,
    /// What could not be asked: the entry may stand there.
    pub(crate) not_asked: Vec<NotAsked>,
}

/// A route, or a calendar without one, that could not be asked.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct NotAsked {
    pub(crate) name: String,
    pub(crate) error: String,
}

impl NotAsked {
    pub(crate) fn of(name: &str, failure: &Failure) -> Self {
        Self { name: name.to_owned(), error: failure.message.clone() }
    }
}

impl Report {
    /// The stories of each entry, in the order of their days.
    pub(crate) fn entries(&self) -> Vec<Vec<&Telling>> {
        let mut entries: Vec<Vec<&Telling>> = Vec::new();
        for story in &self.stories {
            match entries.iter_mut().find(|stories| stories[0].uid == story.uid) {
                Some(stories) => stories.push(story),
                None => entries.push(vec![story]),
            }
        }
        entries.sort_by(|a, b| (&a[0].start, &a[0].title).cmp(&(&b[0].start, &b[0].title)));
        entries
    }
}

/// One entry, as one route sees it.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Telling {
    pub(crate) route: String,
    pub(crate) uid: String,
    pub(crate) title: String,
    pub(crate) start: String,
    pub(crate) taken: bool,
    /// The key that stopped it, such as `skip.declined`.
    pub(crate) key: Option<String>,
    pub(crate) why: String,
    /// Occurrences that stay behind of an entry that is taken.
    pub(crate) left_behind: Vec<LeftBehind>,
    pub(crate) places: Vec<Place>,
    /// What the next sync does.
    pub(crate) next: Vec<Next>,
    /// What is not in step now.
    pub(crate) findings: Vec<NotInStep>,
    /// What an earlier run met with.
    pub(crate) trouble: Option<String>,
    /// The number to answer with `decide`.
    pub(crate) held: Option<i64>,
    #[serde(skip)]
    pub(crate) state: State,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct LeftBehind {
    /// Which one, by its start in the series; nothing for all that say what the series says.
    pub(crate) start: Option<String>,
    /// The key that stopped it.
    pub(crate) key: String,
    pub(crate) why: String,
}

/// How an entry stands on a route; what a person should see first comes last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum State {
    Own,
    InStep,
    LeftOut,
    NotInStep,
    Held,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Place {
    pub(crate) calendar: String,
    /// `original`, `copy`, `match`, `own` or `of-another-route`.
    pub(crate) part: &'static str,
    /// Nothing where that is not known.
    pub(crate) stands: Option<bool>,
    pub(crate) path: Option<String>,
    pub(crate) uid: Option<String>,
    pub(crate) title: String,
    pub(crate) start: String,
    /// The run that wrote it there last, or linked it.
    pub(crate) since_run: Option<i64>,
    pub(crate) since: Option<String>,
    #[serde(skip)]
    pub(crate) is: Part,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Next {
    pub(crate) action: &'static str,
    pub(crate) calendar: Option<String>,
    pub(crate) why: String,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct NotInStep {
    #[cfg_attr(test, schemars(with = "super::schema::Standing"))]
    pub(crate) standing: chestnut_engine::Standing,
    pub(crate) cause: &'static str,
    pub(crate) calendar: String,
    pub(crate) why: String,
    #[cfg_attr(test, schemars(with = "Vec<super::schema::Difference>"))]
    pub(crate) differences: Vec<Difference>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Uncovered {
    pub(crate) calendar: String,
    pub(crate) uid: String,
    pub(crate) title: String,
    pub(crate) start: String,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Past {
    pub(crate) run: i64,
    pub(crate) at: String,
    pub(crate) route: String,
    pub(crate) calendar: String,
    pub(crate) action: &'static str,
    pub(crate) uid: String,
    pub(crate) title: String,
    pub(crate) start: String,
}

impl Past {
    pub(crate) fn of(change: &PastChange) -> Self {
        Self {
            run: change.run.0,
            at: change.at.to_string(),
            route: change.route.clone(),
            calendar: change.calendar.clone(),
            action: change.action.word(),
            uid: change.uid.to_string(),
            title: change.title.clone(),
            start: change.start.clone(),
        }
    }
}

impl Telling {
    pub(crate) fn of(name: &str, route: &RouteSettings, story: Story, past: &[PastChange]) -> Self {
        let why = story_words(&story, route);
        let is_own = |place: &StoryPlace| matches!(place.part, Part::Own | Part::OfAnotherRoute);
        let state = match () {
            () if story.held.is_some() => State::Held,
            () if story.places.iter().all(is_own) => State::Own,
            () if story.stopped.is_some() => State::LeftOut,
            () if !story.findings.is_empty() => State::NotInStep,
            () => State::InStep,
        };
        let next = |one: PreviewedChange| Next {
            action: one.action,
            why: why_words(&one.why),
            calendar: one.calendar,
        };
        let left_behind = |(start, key)| {
            let reason = LeftOut::NotChosen(key);
            LeftBehind { start, key: reason.key().to_owned(), why: stopped_words(reason, &route.to()) }
        };
        Self {
            left_behind: story.left_behind.into_iter().map(left_behind).collect(),
            route: name.to_owned(),
            uid: story.uid,
            title: story.title,
            start: story.start,
            taken: story.stopped.is_none() && state != State::Own,
            key: story.stopped.map(|reason| reason.key().to_owned()),
            why,
            places: story.places.into_iter().map(|place| Place::of(place, past)).collect(),
            next: story.next.into_iter().map(next).collect(),
            findings: story
                .findings
                .into_iter()
                .filter(|finding| finding.cause.is_trouble())
                .map(|finding| NotInStep {
                    why: cause_words(&finding, true),
                    standing: finding.standing,
                    cause: finding.cause.word(),
                    calendar: finding.calendar,
                    differences: finding.differences,
                })
                .collect(),
            trouble: story.told.as_ref().map(told_words),
            held: story.held,
            state,
        }
    }
}

impl Place {
    fn of(place: StoryPlace, past: &[PastChange]) -> Self {
        let is_writing = |change: &&PastChange| {
            let here = change.calendar == place.calendar && Some(change.uid.as_str()) == place.uid.as_deref();
            here && matches!(change.action.word(), "created" | "updated" | "linked")
        };
        let since = past.iter().find(is_writing);
        Self {
            since_run: since.map(|change| change.run.0),
            since: since.map(|change| change.at.to_string()),
            part: part_words(place.part).0,
            is: place.part,
            calendar: place.calendar,
            stands: place.stands,
            path: place.href,
            uid: place.uid,
            title: place.title,
            start: place.start,
        }
    }
}
