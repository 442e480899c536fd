//! A folder of `.ics` files, each with one entry.

use std::cell::Cell;
use std::collections::HashMap;
use std::io::{ErrorKind, Write as _};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use chestnut_caldav::protocol::{Condition, Listed, Listing, Stored};
use chestnut_caldav::{Fetched, NotGiven, RequestCounts};
use chestnut_core::{ETag, ObjectHref, hex};
use sha2::{Digest, Sha256};

use super::file::{remove_leftovers, replace_file, sync_folder, temporary_beside};
use super::{CalendarError, DiskAct, Result};

/// A folder of `.ics` files. Other files, hidden ones and folders inside do not belong to the calendar.
#[derive(Debug, Clone)]
pub struct FolderCalendar {
    /// The machine it is on, where others use the same state.
    machine: Option<String>,
    path: PathBuf,
    may_be_missing: bool,
    writes: Rc<Cell<u64>>,
}

impl FolderCalendar {
    /// Makes a calendar out of a folder. `may_be_missing` says that a folder which is not there is an empty
    /// calendar; it is made when the first entry is written.
    #[must_use]
    pub fn new(path: PathBuf, may_be_missing: bool) -> Self {
        let path = std::path::absolute(&path).unwrap_or(path);
        Self { machine: None, path, may_be_missing, writes: Rc::default() }
    }

    /// Says which machine it is on: others that use the same state have another at the same path.
    #[must_use]
    pub fn on(mut self, machine: Option<String>) -> Self {
        self.machine = machine;
        self
    }

    /// What tells it from every other.
    pub(super) fn place(&self) -> String {
        super::local_place("folder", self.machine.as_deref(), self.path())
    }

    /// Writes are counted like requests to a server; looking costs none.
    pub(super) fn counts(&self) -> RequestCounts {
        RequestCounts { all: self.writes.get(), writes: self.writes.get() }
    }

    pub(super) fn counter(&self) -> usize {
        Rc::as_ptr(&self.writes).addr()
    }

    /// Tells whether there is no folder where one need not be.
    pub(super) fn is_missing(&self) -> bool {
        self.may_be_missing && !self.path.is_dir()
    }

    pub(super) fn path(&self) -> &Path {
        &self.path
    }

    /// Lists the entries; each is named by its file.
    ///
    /// # Errors
    /// The folder or one of its files cannot be read.
    pub fn listing(&self) -> Result<Listing> {
        let folder = match std::fs::read_dir(&self.path) {
            Ok(folder) => folder,
            Err(e) if e.kind() == ErrorKind::NotFound && self.may_be_missing => return Ok(Listing::default()),
            Err(e) => return Err(CalendarError::disk(DiskAct::Read, &self.path)(e)),
        };
        let mut listing = Listing::default();
        for file in folder {
            let file = file.map_err(CalendarError::disk(DiskAct::Read, &self.path))?;
            // A name that is no text cannot be told from another one; it is left where it is.
            let Ok(name) = file.file_name().into_string() else { continue };
            if !is_calendar_name(&name) || !file.path().is_file() {
                continue;
            }
            let href = ObjectHref::from(name);
            if let Some(bytes) = self.read(&href)? {
                listing.entries.push(Listed { href, etag: Some(etag(&bytes)) });
            }
        }
        listing.entries.sort_by(|a, b| a.href.cmp(&b.href));
        Ok(listing)
    }

    fn read(&self, href: &ObjectHref) -> Result<Option<Vec<u8>>> {
        let path = self.path.join(href.as_str());
        match std::fs::read(&path) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(e) if e.kind() == ErrorKind::NotFound => Ok(None),
            Err(e) => Err(CalendarError::disk(DiskAct::Read, &path)(e)),
        }
    }

    pub(super) fn fetch(&self, hrefs: &[ObjectHref]) -> Result<HashMap<ObjectHref, Fetched>> {
        let each = |href: &ObjectHref| {
            let fetched = match self.read(href)? {
                None => Fetched::Missing,
                Some(bytes) => match String::from_utf8(bytes) {
                    Ok(text) => Fetched::Text { etag: Some(etag(text.as_bytes())), text },
                    Err(_) => Fetched::NotGiven(NotGiven::NotUtf8),
                },
            };
            Ok((href.clone(), fetched))
        };
        hrefs.iter().map(each).collect()
    }

    /// Tells what stands in the way of a write.
    fn refusal(&self, href: &ObjectHref, condition: &Condition, deletes: bool) -> Result<Option<Stored>> {
        if !is_name(href) {
            let words = Some("no name for a file of a calendar".to_owned());
            return Ok(Some(Stored::Refused { status: 400, words, for_good: true }));
        }
        let standing = self.read(href)?;
        Ok(match (condition, standing) {
            (Condition::Absent, None) | (Condition::Exists, Some(_)) => None,
            (Condition::Is(wanted), Some(bytes)) if *wanted == etag(&bytes) => None,
            (_, None) if deletes => Some(Stored::Missing),
            _ => Some(Stored::ConditionFailed),
        })
    }

    pub(super) fn put(&self, href: &ObjectHref, text: &str, condition: &Condition) -> Result<Stored> {
        if self.may_be_missing && !self.path.exists() {
            std::fs::create_dir(&self.path).map_err(CalendarError::disk(DiskAct::Make, &self.path))?;
        }
        if let Some(refusal) = self.refusal(href, condition, false)? {
            return Ok(refusal);
        }
        let path = self.path.join(href.as_str());
        if self.writes.get() == 0 {
            remove_leftovers(&path);
        }
        self.writes.set(self.writes.get() + 1);
        let done = match condition {
            Condition::Absent => place_new(&path, text.as_bytes())?,
            Condition::Is(_) | Condition::Exists => {
                replace_file(&path, text.as_bytes(), || Ok(self.refusal(href, condition, false)?.is_none()))?
            }
        };
        Ok(if done {
            Stored::Done { etag: Some(etag(text.as_bytes())), at: None }
        } else {
            Stored::ConditionFailed
        })
    }

    pub(super) fn delete(&self, href: &ObjectHref, condition: &Condition) -> Result<Stored> {
        if let Some(refusal) = self.refusal(href, condition, true)? {
            return Ok(refusal);
        }
        self.writes.set(self.writes.get() + 1);
        let path = self.path.join(href.as_str());
        std::fs::remove_file(&path).map_err(CalendarError::disk(DiskAct::Delete, &path))?;
        sync_folder(&path);
        Ok(Stored::Done { etag: None, at: None })
    }
}

/// Tells whether a file of a calendar may be called so.
pub(super) fn is_name(href: &ObjectHref) -> bool {
    is_calendar_name(href.as_str()) && !href.as_str().contains(['/', '\\'])
}

fn is_calendar_name(name: &str) -> bool {
    !name.starts_with('.') && name.len() > 4 && name.to_ascii_lowercase().ends_with(".ics")
}

fn etag(bytes: &[u8]) -> ETag {
    ETag::from(format!("\"{}\"", hex(&Sha256::digest(bytes)[..16])))
}

/// Puts a new file in its place, unless one appeared there meanwhile.
fn place_new(path: &Path, bytes: &[u8]) -> Result<bool> {
    let failed = |error| CalendarError::disk(DiskAct::Write, path)(error);
    let (temporary, mut file) = temporary_beside(path).map_err(failed)?;
    let written = file.write_all(bytes).and_then(|()| file.sync_all());
    drop(file);
    let placed = written.and_then(|()| match std::fs::hard_link(&temporary, path) {
        Ok(()) => Ok(true),
        Err(e) if e.kind() == ErrorKind::AlreadyExists => Ok(false),
        // A file system without links: a look right before the rename has to do.
        Err(_) if path.exists() => Ok(false),
        Err(_) => std::fs::rename(&temporary, path).map(|()| true),
    });
    // It has another name now, or is of no use.
    drop(std::fs::remove_file(&temporary));
    sync_folder(path);
    placed.map_err(failed)
}
