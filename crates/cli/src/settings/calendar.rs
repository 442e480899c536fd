//! `[calendar.NAME]`: a collection on a server, a feed, a file or a folder.

use std::path::{Path, PathBuf};

use chestnut_caldav::protocol::{CalendarInfo, canonical, feed_address, url_of};
use chestnut_core::ObjectHref;
use jiff::SignedDuration;

use super::account::max_download;
use super::reader::Section;
use super::secrets::{SecretSource, secret_source};
use crate::failure::Failure;
use crate::words::{ON_A_SERVER, Problem, keys, where_a_calendar_is};

/// A calendar that nobody changes for a month is perhaps not kept up any more.
const QUIET_AFTER: SignedDuration = SignedDuration::from_hours(24 * 30);

/// `[calendar.NAME]`
#[derive(Debug)]
pub(crate) struct CalendarSettings {
    /// Needed on a server; with a feed it says who signs in.
    pub(crate) account: Option<String>,
    pub(crate) place: Place,
    /// How long nothing may change there before that is told.
    pub(crate) quiet_after: SignedDuration,
    /// Of a feed without an account: how long its server may be silent.
    pub(crate) timeout: Option<SignedDuration>,
    /// Of a feed: the largest one, in megabytes.
    pub(crate) max_download: Option<usize>,
    /// It is looked at often while it changes.
    pub(crate) soon: bool,
    /// What a person wrote down about it.
    pub(crate) note: Option<String>,
}

/// Where a calendar is.
#[derive(Debug)]
pub(crate) enum Place {
    /// On the account's server, by its path.
    Path(String),
    /// On the account's server, by its name.
    Name(String),
    /// A feed.
    Feed(FeedSource),
    /// Somebody's free-busy time.
    FreeBusy(FeedSource),
    /// An `.ics` file.
    File(PathBuf),
    /// A folder of `.ics` files.
    Folder(PathBuf),
}

/// Where a feed's address is to be had: in the configuration, or kept like a password.
#[derive(Debug)]
pub(crate) enum FeedSource {
    Address(String),
    Secret(SecretSource),
}

impl Place {
    /// Returns what sort of calendar it is.
    pub(crate) fn kind(&self) -> &'static str {
        match self {
            Self::Path(_) | Self::Name(_) => ON_A_SERVER,
            Self::Feed(_) => "feed",
            Self::FreeBusy(_) => "free-busy",
            Self::File(_) => "file",
            Self::Folder(_) => "folder",
        }
    }

    /// Returns the key that says where it is, and what two names of one calendar have in common, where that is no
    /// secret; `base` is the folder from which paths are read.
    pub(crate) fn written(&self, base: &Path) -> Option<(&'static str, String)> {
        let on_disk = |path: &Path| {
            let path = base.join(path);
            let parts = path.components().filter(|part| *part != std::path::Component::CurDir);
            parts.collect::<PathBuf>().display().to_string()
        };
        Some(match self {
            Self::Path(path) => ("path", path.trim_matches('/').to_owned()),
            Self::Name(name) => ("name", name.clone()),
            Self::Feed(FeedSource::Address(address)) => ("feed", address.clone()),
            Self::FreeBusy(FeedSource::Address(address)) => ("freebusy", address.clone()),
            Self::Feed(FeedSource::Secret(_)) | Self::FreeBusy(FeedSource::Secret(_)) => return None,
            Self::File(path) => ("file", on_disk(path)),
            Self::Folder(path) => ("folder", on_disk(path)),
        })
    }

    /// Tells whether it can only be read, whoever signs in.
    pub(crate) fn is_read_only(&self) -> bool {
        matches!(self, Self::Feed(_) | Self::FreeBusy(_))
    }

    /// Tells whether it is a calendar that was found on its account's server.
    pub(crate) fn means(&self, found: &CalendarInfo) -> bool {
        match self {
            Self::Path(path) => {
                let url = url_of(&ObjectHref::from(format!("/{}/", path.trim_matches('/'))), &found.url);
                canonical(&url) == canonical(&found.url)
            }
            Self::Name(name) => *name == found.name,
            Self::Feed(_) | Self::FreeBusy(_) | Self::File(_) | Self::Folder(_) => false,
        }
    }

    /// Tells whether it is on this machine, and on no other.
    pub(crate) fn is_local(&self) -> bool {
        matches!(self, Self::File(_) | Self::Folder(_))
    }
}

pub(super) fn calendar(section: &Section<'_>) -> Result<CalendarSettings, Failure> {
    const PLACES: &[&str] = &["path", "name", "feed", "freebusy", "file", "folder"];
    section.allow_described(keys::CALENDAR)?;
    let quiet_after = section.duration("quiet-after")?.unwrap_or(QUIET_AFTER);
    let (timeout, max_download) = (section.duration("timeout")?, max_download(section)?);
    let given: Vec<&str> = PLACES.iter().copied().filter(|key| section.has(key)).collect();
    let account = section.text("account")?;
    let place = match given.as_slice() {
        [] => {
            return Err(section.missing("path").hint(where_a_calendar_is(account.as_deref())));
        }
        [one] => place(section, one)?,
        [one, other, ..] => {
            return Err(section.wrong(other, Problem::Excludes(one)));
        }
    };
    let (soon, note) = (section.flag("soon")?, section.text("note")?);
    match (&place, &account) {
        (Place::Path(_) | Place::Name(_), None) => Err(section.missing("account")),
        (Place::File(_) | Place::Folder(_), Some(_)) => Err(section.wrong("account", Problem::NoSignIn)),
        (Place::Feed(_) | Place::FreeBusy(_), Some(_)) if timeout.is_some() => {
            Err(section.wrong("timeout", Problem::OfItsAccount))
        }
        (Place::Feed(_) | Place::FreeBusy(_), _) => {
            Ok(CalendarSettings { account, place, quiet_after, timeout, max_download, soon, note })
        }
        _ if timeout.is_some() => Err(section.wrong("timeout", Problem::OfFeeds)),
        _ if max_download.is_some() => Err(section.wrong("max-download", Problem::OfFeeds)),
        _ => Ok(CalendarSettings { account, place, quiet_after, timeout, max_download, soon, note }),
    }
}

fn place(section: &Section<'_>, key: &'static str) -> Result<Place, Failure> {
    match key {
        "feed" => return Ok(Place::Feed(source(section, key)?)),
        "freebusy" => return Ok(Place::FreeBusy(source(section, key)?)),
        _ => {}
    }
    let text = section.needed_text(key)?;
    if text.is_empty() {
        return Err(section.wrong(key, Problem::Empty));
    }
    Ok(match key {
        "path" => Place::Path(text),
        "name" => Place::Name(text),
        "file" => Place::File(PathBuf::from(text)),
        _ => Place::Folder(PathBuf::from(text)),
    })
}

/// A web address, or where one is kept.
pub(super) fn web_source(section: &Section<'_>, key: &'static str) -> Result<FeedSource, Failure> {
    match source(section, key)? {
        FeedSource::Address(text) if text.starts_with("webcal") => {
            Err(section.wrong(key, Problem::NotWebAddress))
        }
        source => Ok(source),
    }
}

/// An address that is read, or where it is kept.
fn source(section: &Section<'_>, key: &'static str) -> Result<FeedSource, Failure> {
    if let Ok(Some(table)) = section.section(key) {
        return Ok(FeedSource::Secret(secret_source(&table)?));
    }
    let text = section.needed_text(key)?;
    let url = feed_address(&text);
    let url = url.ok_or_else(|| section.wrong(key, Problem::NotFeedAddress))?;
    if !url.username().is_empty() || url.password().is_some() {
        return Err(section.wrong(key, Problem::SignInInFeed));
    }
    Ok(FeedSource::Address(text))
}
