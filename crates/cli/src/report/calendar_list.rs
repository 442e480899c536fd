//! What `calendar list` reports.

use std::collections::BTreeMap;

use chestnut_caldav::protocol::{CalendarInfo, Found};
use chestnut_core::Kind;
use serde::Serialize;

use crate::failure::Failure;
use crate::settings::{CalendarSettings, FeedSource, Place, Settings, routes_of};
use crate::words::{KEPT_AS_SECRET, rights_word};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) accounts: Vec<AccountReport>,
    pub(crate) others: Vec<OtherReport>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct AccountReport {
    pub(crate) account: String,
    pub(crate) url: String,
    pub(crate) calendars: Vec<CalendarReport>,
    pub(crate) error: Option<String>,
    #[serde(skip)]
    pub(crate) failure: Option<Failure>,
}

/// One calendar on a server.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct CalendarReport {
    pub(crate) name: String,
    pub(crate) path: String,
    pub(crate) color: Option<String>,
    pub(crate) kinds: Vec<&'static str>,
    /// Entries by kind; `None` where nobody counted, or the server does not tell.
    pub(crate) entries: Option<BTreeMap<&'static str, usize>>,
    pub(crate) rights: &'static str,
    pub(crate) shared: bool,
    /// The largest entry that it takes, in bytes; `None` where it does not tell.
    pub(crate) max_size: Option<u64>,
    /// For how many bytes there is room; `None` where nobody asked, or the server does not tell.
    pub(crate) room: Option<u64>,
    /// How changes are found: `sync-report`, `ctag` or `listing`; `None` where nobody asked.
    pub(crate) changes_by: Option<&'static str>,
    pub(crate) configured_as: Vec<String>,
    pub(crate) routes: Vec<String>,
}

/// A feed, a file or a folder.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct OtherReport {
    pub(crate) name: String,
    pub(crate) kind: &'static str,
    pub(crate) place: String,
    pub(crate) rights: &'static str,
    pub(crate) routes: Vec<String>,
}

/// Joins what a server has with what the configuration says.
pub(crate) fn configured(settings: Option<&Settings>, account: &str, found: &Found) -> Vec<CalendarReport> {
    let principal = found.principal.as_ref().map(|url| url.path().trim_end_matches('/').to_owned());
    let report = |info: &CalendarInfo| {
        let mine = |c: &CalendarSettings| c.account.as_deref() == Some(account) && c.place.means(info);
        let all = settings.into_iter().flat_map(|s| &s.calendars);
        let configured_as: Vec<String> = all.filter(|(_, c)| mine(c)).map(|(name, _)| name.clone()).collect();
        let owner = info.owner.as_ref().map(|owner| owner.as_str().trim_end_matches('/'));
        let others = matches!((owner, &principal), (Some(owner), Some(own)) if owner != own);
        CalendarReport {
            name: info.name.clone(),
            path: info.href.as_str().to_owned(),
            color: info.color.clone(),
            kinds: info.kinds.iter().map(Kind::word).collect(),
            entries: None,
            rights: rights_word(info.writable),
            shared: info.is_shared || others,
            max_size: info.max_size,
            room: info.room,
            changes_by: None,
            routes: settings.map(|s| routes_of(s, &configured_as)).unwrap_or_default(),
            configured_as,
        }
    };
    found.calendars.iter().map(report).collect()
}

pub(crate) fn others(settings: &Settings) -> Vec<OtherReport> {
    let elsewhere = |place: &Place| match place {
        Place::Path(_) | Place::Name(_) => None,
        Place::Feed(FeedSource::Address(address)) | Place::FreeBusy(FeedSource::Address(address)) => {
            Some(feed_place(address))
        }
        Place::Feed(FeedSource::Secret(_)) | Place::FreeBusy(FeedSource::Secret(_)) => {
            Some(KEPT_AS_SECRET.to_owned())
        }
        Place::File(path) | Place::Folder(path) => Some(path.display().to_string()),
    };
    let calendars = settings.calendars.iter().filter_map(|(name, calendar)| {
        Some(OtherReport {
            name: name.clone(),
            kind: calendar.place.kind(),
            place: elsewhere(&calendar.place)?,
            rights: rights_word(Some(!calendar.place.is_read_only())),
            routes: routes_of(settings, std::slice::from_ref(name)),
        })
    });
    calendars.collect()
}

/// The address of a feed is often a secret: no more than its host is shown.
pub(crate) fn feed_place(address: &str) -> String {
    let url = chestnut_caldav::protocol::feed_address(address);
    url.and_then(|url| url.host_str().map(|host| format!("at {host}"))).unwrap_or_default()
}
