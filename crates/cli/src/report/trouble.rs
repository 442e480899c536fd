//! What is wrong for some time, as `status` and the page report it.

use chestnut_store::{Notice, NoticeEvent, Store, TroubleKind, TroubleRow};
use jiff::Timestamp;
use serde::Serialize;

use crate::failure::Failure;
use crate::settings::Settings;
use crate::words::{nearly_over, trouble_advice, trouble_sentence};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct OpenTrouble {
    pub(crate) number: i64,
    #[cfg_attr(test, schemars(with = "String"))]
    pub(crate) kind: TroubleKind,
    /// What sort of thing it is about: an account, a calendar, a route or a file.
    pub(crate) sort: &'static str,
    pub(crate) about: String,
    pub(crate) began: String,
    /// In seconds.
    pub(crate) age: i64,
    pub(crate) what: String,
    pub(crate) advice: String,
    /// What the configuration says that people should know.
    pub(crate) note: Option<String>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Untold {
    pub(crate) trouble: i64,
    #[cfg_attr(test, schemars(with = "String"))]
    pub(crate) event: NoticeEvent,
    pub(crate) attempts: u32,
    /// The next attempt; none is made where it was given up.
    pub(crate) next: Option<String>,
    pub(crate) problem: String,
}

/// What is wrong, and has not ended.
pub(crate) fn open_troubles(
    settings: &Settings,
    store: &Store,
    now: Timestamp,
) -> Result<Vec<OpenTrouble>, Failure> {
    let open = store.open_troubles(i64::MAX)?.into_iter().filter(|row| row.ended.is_none());
    let trouble = |row: TroubleRow| {
        let began = Timestamp::from_second(row.began?).ok()?;
        Some(OpenTrouble {
            number: row.id,
            kind: row.kind,
            sort: about_what(settings, row.kind, &row.about),
            began: began.to_string(),
            age: now.duration_since(began).as_secs().max(0),
            what: trouble_sentence(row.kind, &row.about, &row.facts),
            advice: match row.good {
                0 => trouble_advice(row.kind, &row.about, &row.facts),
                _ => nearly_over().to_owned(),
            },
            note: note_about(settings, &row.about).map(str::to_owned),
            about: row.about,
        })
    };
    Ok(open.filter_map(trouble).collect())
}

/// What `on-trouble` could not be told so far.
pub(crate) fn untold(store: &Store) -> Result<Vec<Untold>, Failure> {
    let tried = store.notices()?.into_iter().filter(|notice| !notice.problem.is_empty());
    let untold = |notice: Notice| Untold {
        trouble: notice.trouble,
        event: notice.event,
        attempts: notice.attempt,
        next: if notice.is_given_up { None } else { moment_of(notice.next) },
        problem: notice.problem,
    };
    Ok(tried.map(untold).collect())
}

/// A second since 1970, as documents have it.
pub(crate) fn moment_of(second: i64) -> Option<String> {
    Timestamp::from_second(second).ok().map(|at| at.to_string())
}

/// What a person wrote down about something.
pub(crate) fn note_about<'s>(settings: &'s Settings, about: &str) -> Option<&'s str> {
    let of_route = settings.routes.get(about).and_then(|route| route.note.as_deref());
    of_route.or_else(|| settings.calendars.get(about).and_then(|calendar| calendar.note.as_deref()))
}

/// What sort of thing it is about.
pub(crate) fn about_what(settings: &Settings, kind: TroubleKind, about: &str) -> &'static str {
    match kind {
        TroubleKind::ConfigurationBroken => "file",
        TroubleKind::NeverRun
        | TroubleKind::Held
        | TroubleKind::RouteStale
        | TroubleKind::RouteFails
        | TroubleKind::EntriesRefused => "route",
        TroubleKind::RightsLost
        | TroubleKind::CalendarUnreadable
        | TroubleKind::FeedQuiet
        | TroubleKind::FeedShrunk => "calendar",
        _ if settings.accounts.contains_key(about) => "account",
        _ => "calendar",
    }
}
