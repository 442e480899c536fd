//! A calendar, whatever it is: a collection on a CalDAV server, a feed, a file, or a folder of files. Each says
//! in its own way what changed, gives entries by href, and takes writes on a condition.

mod feed;
mod file;
mod folder;
mod free_busy;

use std::cell::Cell;
use std::collections::HashMap;
use std::path::PathBuf;
use std::rc::Rc;

use chestnut_caldav::protocol::{Condition, Listing, Stored, SyncAnswer, canonical_path, url_of, within};
use chestnut_caldav::{Client, DavError, Fetched, RequestCounts, Tally, TransportFault};
use chestnut_core::{Entry, EventUid, Kind, Kinds, NotACalendar, ObjectHref, Scheduling, SyncToken};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use url::Url;

pub use feed::FeedCalendar;
pub use file::FileCalendar;
pub use folder::FolderCalendar;
pub use free_busy::FreeBusyCalendar;

/// Why a calendar could not be read or written. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum CalendarError {
    /// A server did not give what was asked for.
    Dav(#[from] DavError),
    /// What was read is not one complete calendar.
    Text(#[from] NotACalendar),
    /// A file or folder could not be read or written.
    Disk {
        /// What was tried.
        act: DiskAct,
        /// Which file or folder.
        path: PathBuf,
        /// The system's words for why it failed.
        problem: String,
    },
    /// A file or folder is gone in which entries stood, or is a file without a byte: it was not emptied by anybody who keeps
    /// calendars.
    Vanished {
        /// Which.
        path: PathBuf,
        /// Whether it is a folder.
        is_folder: bool,
    },
    /// A feed can only be read.
    ReadOnly,
}

/// What is done to a file or a folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum DiskAct {
    /// Its contents are read.
    Read,
    /// It is written.
    Write,
    /// It is made.
    Make,
    /// It is deleted.
    Delete,
}

impl CalendarError {
    pub(crate) fn disk(act: DiskAct, path: &std::path::Path) -> impl FnOnce(std::io::Error) -> Self {
        let path = path.to_owned();
        move |error| Self::Disk { act, path, problem: error.to_string() }
    }

    /// Returns it as facts that can be kept; [`Self::of_facts`] reads them.
    pub(crate) fn facts(&self) -> serde_json::Value {
        serde_json::to_value(self).unwrap_or_default()
    }

    /// Reads what the state keeps of an error; `None` where another version wrote it.
    #[must_use]
    pub fn of_facts(facts: &serde_json::Value) -> Option<Self> {
        Self::deserialize(facts).ok()
    }

    /// Tells whether a person asked to stop before this was sent.
    pub(crate) fn is_stop(&self) -> bool {
        matches!(self, Self::Dav(DavError::Transport(error)) if error.fault == TransportFault::Stopped)
    }
}

/// What a calendar and its server can do.
#[derive(Debug, Clone)]
pub struct Abilities {
    /// Which kinds it accepts.
    pub kinds: Kinds,
    /// Whether it may be written; `None` where its server does not say.
    pub writable: Option<bool>,
    /// The largest entry it accepts, in bytes.
    pub max_size: Option<u64>,
    /// Whether it answers sync reports (RFC 6578).
    pub sync_reports: bool,
    /// Whether its server writes to people because of entries (RFC 6638).
    pub scheduling: Scheduling,
    /// Whether it obeys what a client says about its messages (RFC 6638, 8.1).
    pub auto_schedules: bool,
    /// Whether conditions on writes are known to be kept; `None` where that must be tried.
    pub keeps_conditions: Option<bool>,
}

impl Abilities {
    /// What stands on this machine, or can only be read.
    fn local(writable: bool) -> Self {
        Self {
            kinds: Kind::ALL.into_iter().collect(),
            writable: Some(writable),
            max_size: None,
            sync_reports: false,
            scheduling: Scheduling::Never,
            auto_schedules: false,
            keeps_conditions: Some(true),
        }
    }
}

/// A calendar that can be read, and mostly written.
#[derive(Debug, Clone)]
pub enum Calendar {
    /// A collection on a CalDAV server.
    Dav {
        /// Speaks to its account's server.
        client: Client,
        /// Its address.
        url: Url,
    },
    /// An iCalendar feed.
    Feed(FeedCalendar),
    /// An `.ics` file.
    File(FileCalendar),
    /// A folder of `.ics` files, each with one entry.
    Folder(FolderCalendar),
    /// Somebody's free-busy time.
    FreeBusy(FreeBusyCalendar),
    /// One that is made out of another, for one route alone; its place.
    Made(String),
}

type Result<T> = std::result::Result<T, CalendarError>;

impl Calendar {
    /// Returns what tells this calendar from every other: origin, user and path, since two users may see one path with
    /// other rights. A feed's address may be a secret: a hash stands for it.
    #[must_use]
    pub fn place(&self) -> String {
        match self {
            Self::Dav { client, url } => {
                let origin = url.origin().ascii_serialization();
                format!("dav {origin} {} {}", client.user(), canonical_path(url))
            }
            Self::Feed(feed) => feed.address(),
            Self::FreeBusy(one) => one.address(),
            Self::File(file) => file.place(),
            Self::Folder(folder) => folder.place(),
            Self::Made(place) => place.clone(),
        }
    }

    /// Tells whether nothing stands at an old place any more that differs from this one in its path alone: its server
    /// sends on from there to here, or knows no calendar there; the file or folder is gone.
    pub(crate) async fn has_left(&self, old_place: &str) -> bool {
        let here = self.place();
        match self {
            Self::Dav { client, url } => {
                let own = canonical_path(url);
                let Some(old) = old_path(&here, &own, old_place) else { return false };
                match client.calendar(&url_of(&ObjectHref::from(old), url)).await {
                    Ok(found) => canonical_path(&found.url) == own,
                    Err(error) => matches!(error, DavError::NotFound { .. }),
                }
            }
            Self::File(file) => is_only_here(&here, file.path(), old_place),
            Self::Folder(folder) => is_only_here(&here, folder.path(), old_place),
            Self::Feed(_) | Self::FreeBusy(_) | Self::Made(_) => false,
        }
    }

    /// Returns that there is no such file or folder, or a file without a byte, where that may be. Where something stood, it has
    /// failed then; it was not emptied.
    pub(crate) fn vanished(&self) -> Option<CalendarError> {
        let (path, is_folder) = match self {
            Self::File(file) if file.is_missing() => (file.path(), false),
            Self::Folder(folder) if folder.is_missing() => (folder.path(), true),
            _ => return None,
        };
        Some(CalendarError::Vanished { path: path.to_owned(), is_folder })
    }

    /// Tells whether each of its entries has to be asked for.
    pub(crate) fn is_on_a_server(&self) -> bool {
        matches!(self, Self::Dav { .. })
    }

    /// Returns a number that tells whose requests [`Self::counts`] counts.
    #[must_use]
    pub fn counter(&self) -> usize {
        match self {
            Self::Dav { client, .. } => client.counter(),
            Self::Feed(feed) => feed.counter(),
            Self::FreeBusy(one) => one.counter(),
            Self::File(file) => file.counter(),
            Self::Folder(folder) => folder.counter(),
            Self::Made(_) => 0,
        }
    }

    /// Counts its requests into this tally, too, which is what [`Self::counts`] tells then.
    pub(crate) fn counting(self, tally: Tally) -> Self {
        match self {
            Self::Dav { client, url } => Self::Dav { client: client.counting(tally), url },
            Self::Feed(feed) => Self::Feed(feed.counting(tally)),
            Self::FreeBusy(one) => Self::FreeBusy(one.counting(tally)),
            // They count for themselves alone.
            Self::File(_) | Self::Folder(_) | Self::Made(_) => self,
        }
    }

    /// Returns how many requests were sent for it and its account so far.
    #[must_use]
    pub fn counts(&self) -> RequestCounts {
        match self {
            Self::Dav { client, .. } => client.counts(),
            Self::Feed(feed) => feed.counts(),
            Self::FreeBusy(one) => one.counts(),
            Self::File(file) => file.counts(),
            Self::Folder(folder) => folder.counts(),
            Self::Made(_) => RequestCounts::default(),
        }
    }

    /// Lets go of what it holds of the calendar's texts: the mirror has them.
    pub(crate) fn let_go(&self) {
        match self {
            Self::Feed(feed) => feed.let_go(),
            Self::FreeBusy(one) => one.let_go(),
            Self::File(file) => file.let_go(),
            Self::Dav { .. } | Self::Folder(_) | Self::Made(_) => {}
        }
    }

    /// Tells whether a look does not tell of all time: what was known before must be [recalled](Self::recall).
    pub(crate) fn is_partial(&self) -> bool {
        matches!(self, Self::FreeBusy(_))
    }

    /// Says what was known before the next look.
    pub(crate) fn recall(&self, before: Vec<Entry>) {
        if let Self::FreeBusy(one) = self {
            one.recall(before);
        }
    }

    /// Returns of which time the last look told, in seconds since 1970; `None` where it told of all, or was none.
    pub(crate) fn known(&self) -> Option<Vec<(i64, i64)>> {
        match self {
            Self::FreeBusy(one) => one.known(),
            Self::Dav { .. } | Self::Feed(_) | Self::File(_) | Self::Folder(_) | Self::Made(_) => None,
        }
    }

    pub(crate) fn stop_writes_on(&self, stop: Rc<Cell<bool>>) {
        if let Self::Dav { client, .. } = self {
            client.stop_writes_on(stop);
        }
    }

    /// Tells whether ctags name a state for sure: others may hide a second change in the same second.
    pub(crate) fn has_final_ctags(&self) -> bool {
        match self {
            Self::Dav { .. } => false,
            Self::Feed(feed) => feed.has_final_ctags(),
            Self::File(_) | Self::Folder(_) | Self::FreeBusy(_) | Self::Made(_) => true,
        }
    }

    /// Returns how many writes are worth handing over at once.
    pub(crate) fn width(&self) -> usize {
        match self {
            Self::Dav { .. } | Self::Feed(_) | Self::FreeBusy(_) => 32,
            // A file is written once for all that wait.
            Self::File(_) | Self::Folder(_) | Self::Made(_) => usize::MAX,
        }
    }

    /// Returns where a new entry goes.
    pub(crate) fn new_href(&self, uid: &EventUid) -> ObjectHref {
        match self {
            Self::Feed(_) | Self::FreeBusy(_) | Self::File(_) | Self::Made(_) => {
                ObjectHref::from(uid.as_str())
            }
            Self::Dav { .. } | Self::Folder(_) => uid.file_name(),
        }
    }

    /// Returns where an entry goes that once stood at an href here, or perhaps in another calendar: `None` where nothing can
    /// stand there.
    pub(crate) fn old_href(&self, href: &ObjectHref) -> Option<ObjectHref> {
        match self {
            Self::Dav { url, .. } => {
                let href = within(href.clone(), &canonical_path(url));
                let is_name = !matches!(href.as_str(), "" | "." | "..") && !href.as_str().contains('/');
                is_name.then_some(href)
            }
            Self::Folder(_) => folder::is_name(href).then(|| href.clone()),
            // They have no names but UIDs.
            Self::Feed(_) | Self::FreeBusy(_) | Self::File(_) | Self::Made(_) => None,
        }
    }

    pub(crate) async fn abilities(&self) -> Result<Abilities> {
        match self {
            Self::Dav { client, url } => {
                let found = client.capabilities(url).await?;
                Ok(Abilities {
                    kinds: found.info.kinds,
                    writable: found.info.writable,
                    max_size: found.info.max_size,
                    sync_reports: found.info.sync_reports,
                    scheduling: found.scheduling,
                    auto_schedules: found.auto_schedules,
                    keeps_conditions: None,
                })
            }
            Self::Feed(_) | Self::FreeBusy(_) | Self::Made(_) => Ok(Abilities::local(false)),
            Self::File(_) | Self::Folder(_) => Ok(Abilities::local(true)),
        }
    }

    /// Tells whether its server was seen to schedule (RFC 6638, 3.2.10), whatever it announces.
    pub(crate) fn tags_schedules(&self) -> bool {
        match self {
            Self::Dav { client, .. } => client.tags_schedules(),
            Self::Feed(_) | Self::FreeBusy(_) | Self::Made(_) | Self::File(_) | Self::Folder(_) => false,
        }
    }

    /// Returns its server's clock as the last answer told it, in seconds since 1970.
    pub(crate) fn server_clock(&self) -> Option<i64> {
        match self {
            Self::Dav { client, .. } => client.server_clock(),
            Self::Feed(feed) => feed.server_clock(),
            Self::FreeBusy(one) => one.server_clock(),
            Self::File(_) | Self::Folder(_) | Self::Made(_) => None,
        }
    }

    /// Returns the calendar's ctag now, where it has one. `known` is the one of the last look.
    pub(crate) async fn ctag(&self, known: &SyncToken) -> Result<Option<SyncToken>> {
        match self {
            Self::Dav { client, url } => Ok(client.ctag(url).await?),
            Self::Feed(feed) => feed.ctag(known).await.map(Some),
            Self::FreeBusy(one) => one.ctag().await.map(Some),
            Self::File(file) => file.ctag().map(Some),
            Self::Folder(_) | Self::Made(_) => Ok(None),
        }
    }

    /// Lists every entry with its ETag.
    pub(crate) async fn listing(&self) -> Result<Listing> {
        match self {
            Self::Dav { client, url } => Ok(client.listing(url).await?),
            Self::Feed(feed) => feed.listing().await,
            Self::FreeBusy(one) => one.listing().await,
            Self::File(file) => file.listing(),
            Self::Folder(folder) => folder.listing(),
            Self::Made(_) => Ok(Listing::default()),
        }
    }

    /// Returns single events that are over before a moment, as far as the server can tell; `None` where it cannot.
    pub(crate) async fn long_past(&self, before: Timestamp) -> Option<Vec<ObjectHref>> {
        match self {
            // A server that does not understand the question has only cost one request.
            Self::Dav { client, url } => client.long_past(url, before).await.ok(),
            Self::Feed(_) | Self::FreeBusy(_) | Self::File(_) | Self::Folder(_) | Self::Made(_) => None,
        }
    }

    pub(crate) async fn changes_since(&self, token: &SyncToken) -> Result<SyncAnswer> {
        match self {
            Self::Dav { client, url } => Ok(client.changes_since(url, token).await?),
            Self::Feed(_) | Self::FreeBusy(_) | Self::File(_) | Self::Folder(_) | Self::Made(_) => {
                Ok(SyncAnswer::Unsupported)
            }
        }
    }

    pub(crate) async fn fetch(&self, hrefs: &[ObjectHref]) -> Result<HashMap<ObjectHref, Fetched>> {
        match self {
            Self::Dav { client, url } => Ok(client.fetch(url, hrefs).await?),
            Self::Feed(feed) => feed.fetch(hrefs).await,
            Self::FreeBusy(one) => one.fetch(hrefs).await,
            Self::File(file) => file.fetch(hrefs),
            Self::Folder(folder) => folder.fetch(hrefs),
            Self::Made(_) => Ok(HashMap::new()),
        }
    }

    /// As [`Self::fetch`], for places where nothing is known to stand.
    pub(crate) async fn fetch_unknown(&self, hrefs: &[ObjectHref]) -> Result<HashMap<ObjectHref, Fetched>> {
        match self {
            Self::Dav { client, url } => Ok(client.fetch_unknown(url, hrefs).await?),
            _ => self.fetch(hrefs).await,
        }
    }

    pub(crate) async fn put(&self, href: &ObjectHref, text: &str, condition: &Condition) -> Result<Stored> {
        match self {
            Self::Dav { client, url } => Ok(client.put(url, href, text, condition).await?),
            Self::Feed(_) | Self::FreeBusy(_) | Self::Made(_) => Err(CalendarError::ReadOnly),
            Self::File(file) => file.put(href, text, condition).await,
            Self::Folder(folder) => folder.put(href, text, condition),
        }
    }

    pub(crate) async fn delete(
        &self,
        href: &ObjectHref,
        condition: &Condition,
        silently: bool,
    ) -> Result<Stored> {
        match self {
            Self::Dav { client, url } => Ok(client.delete(url, href, condition, silently).await?),
            Self::Feed(_) | Self::FreeBusy(_) | Self::Made(_) => Err(CalendarError::ReadOnly),
            Self::File(file) => file.delete(href, condition).await,
            Self::Folder(folder) => folder.delete(href, condition),
        }
    }
}

/// What tells a file or a folder from every other, where a state is shared also from those of other machines.
fn local_place(kind: &str, machine: Option<&str>, path: &std::path::Path) -> String {
    let machine = machine.map(|machine| format!("{machine}:")).unwrap_or_default();
    format!("{kind} {machine}{}", real(path).display())
}

/// The path of a place that differs from another in that alone.
fn old_path<'t>(here: &str, path: &str, there: &'t str) -> Option<&'t str> {
    // Kind, origin and user stand before it; or kind and machine.
    there.strip_prefix(here.strip_suffix(path)?)
}

/// Tells whether a file or folder is at this path now, and nothing is at the old one.
fn is_only_here(here: &str, path: &std::path::Path, there: &str) -> bool {
    let old = old_path(here, &real(path).to_string_lossy(), there);
    old.is_some_and(|old| path.exists() && std::path::Path::new(old).symlink_metadata().is_err())
}

/// The path without links, also where the last part is not there yet.
fn real(path: &std::path::Path) -> PathBuf {
    if let Ok(real) = path.canonicalize() {
        return real;
    }
    match (path.parent().and_then(|folder| folder.canonicalize().ok()), path.file_name()) {
        (Some(folder), Some(name)) => folder.join(name),
        _ => path.to_owned(),
    }
}
