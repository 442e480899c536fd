//! An `.ics` file: read and written whole, atomically. A file that changes under a write is read again.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::io::{ErrorKind, Write as _};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use chestnut_caldav::protocol::{Condition, Listing, Stored};
use chestnut_caldav::{Fetched, RequestCounts};
use chestnut_core::ical::Limits;
use chestnut_core::{CalendarText, ETag, Entry, EventUid, ObjectHref, SyncToken, TextChange, hex};
use sha2::{Digest, Sha256};
use tokio::sync::oneshot;

use super::feed::{fetched, listed};
use super::{CalendarError, DiskAct, Result};

/// How often a file that others keep changing is read again for one write.
const ROUNDS: usize = 5;

/// An `.ics` file.
#[derive(Debug, Clone)]
pub struct FileCalendar {
    /// The machine it is on, where others use the same state.
    machine: Option<String>,
    inner: Rc<Inner>,
}

#[derive(Debug)]
struct Inner {
    path: PathBuf,
    /// A file that is not there counts as an empty calendar: one that receives copies begins like this.
    may_be_missing: bool,
    read: RefCell<Option<Rc<Read>>>,
    waiting: RefCell<Vec<Waiting>>,
    writes: Cell<u64>,
}

/// The file as it was read last.
#[derive(Debug, Clone)]
struct Read {
    /// `None` where there was no file.
    digest: Option<[u8; 32]>,
    text: CalendarText,
    /// What the system said of the file before it was read, or when it was written.
    stamp: Cell<Option<Stamp>>,
}

/// What the system says of a file: another stamp is another text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Stamp {
    length: u64,
    modified: std::time::SystemTime,
}

impl Stamp {
    fn of(path: &Path) -> Option<Self> {
        let about = std::fs::metadata(path).ok()?;
        Some(Self { length: about.len(), modified: about.modified().ok()? })
    }
}

/// A write that waits to go into the file together with others.
#[derive(Debug)]
struct Waiting {
    href: ObjectHref,
    /// `None` deletes it.
    entry: Option<Entry>,
    condition: Condition,
    tell: oneshot::Sender<Result<Stored>>,
}

impl FileCalendar {
    /// Makes a calendar out of a file. `may_be_missing` says that a file which is not there is an empty calendar.
    #[must_use]
    pub fn new(path: PathBuf, may_be_missing: bool) -> Self {
        // The same calendar whether or not the file is there yet.
        let path = std::path::absolute(&path).unwrap_or(path);
        let inner = Inner {
            path,
            may_be_missing,
            read: RefCell::default(),
            waiting: RefCell::default(),
            writes: Cell::default(),
        };
        Self { machine: None, inner: Rc::new(inner) }
    }

    /// Says which machine it is on: others that use the same state have another at the same path.
    #[must_use]
    pub fn on(mut self, machine: Option<String>) -> Self {
        self.machine = machine;
        self
    }

    /// What tells it from every other.
    pub(super) fn place(&self) -> String {
        super::local_place("file", self.machine.as_deref(), self.path())
    }

    /// Writes are counted like requests to a server; looking costs none.
    pub(super) fn counts(&self) -> RequestCounts {
        RequestCounts { all: self.inner.writes.get(), writes: self.inner.writes.get() }
    }

    pub(super) fn counter(&self) -> usize {
        Rc::as_ptr(&self.inner).addr()
    }

    /// Tells whether there is no file where one need not be.
    pub(super) fn is_missing(&self) -> bool {
        let is_empty = || std::fs::metadata(self.path()).map_or(true, |data| data.len() == 0);
        self.inner.may_be_missing && is_empty()
    }

    /// Lets go of what was read.
    pub(super) fn let_go(&self) {
        self.inner.read.take();
    }

    pub(super) fn path(&self) -> &Path {
        &self.inner.path
    }

    /// Reads the file as it is now.
    ///
    /// # Errors
    /// It cannot be read, or is not one complete calendar.
    pub fn look(&self) -> Result<CalendarText> {
        Ok(self.read_again()?.text.clone())
    }

    fn bytes(&self) -> Result<Option<Vec<u8>>> {
        let path = self.path();
        match std::fs::read(path) {
            Ok(bytes) if bytes.is_empty() && self.inner.may_be_missing => Ok(None),
            Ok(bytes) => Ok(Some(bytes)),
            Err(e) if e.kind() == ErrorKind::NotFound && self.inner.may_be_missing => Ok(None),
            Err(e) => Err(CalendarError::disk(DiskAct::Read, path)(e)),
        }
    }

    /// Reads the file, and takes it apart if it is another than before.
    fn read_again(&self) -> Result<Rc<Read>> {
        let stamp = Stamp::of(self.path());
        let bytes = self.bytes()?;
        let digest = bytes.as_ref().map(|bytes| <[u8; 32]>::from(Sha256::digest(bytes)));
        if let Some(read) = self.inner.read.borrow().as_ref().filter(|read| read.digest == digest) {
            read.stamp.set(stamp);
            return Ok(Rc::clone(read));
        }
        let text = match bytes {
            Some(bytes) => CalendarText::read(bytes, None, &Limits::default())?,
            None => CalendarText::empty(),
        };
        let read = Rc::new(Read { digest, text, stamp: Cell::new(stamp) });
        *self.inner.read.borrow_mut() = Some(Rc::clone(&read));
        Ok(read)
    }

    pub(super) fn ctag(&self) -> Result<SyncToken> {
        let digest = self.bytes()?.map(|bytes| <[u8; 32]>::from(Sha256::digest(bytes)));
        Ok(token(digest))
    }

    pub(super) fn listing(&self) -> Result<Listing> {
        let read = self.read_again()?;
        let ctag = Some(token(read.digest));
        Ok(Listing { entries: listed(&read.text), sync_token: None, ctag, date: None })
    }

    pub(super) fn fetch(&self, hrefs: &[ObjectHref]) -> Result<HashMap<ObjectHref, Fetched>> {
        if hrefs.is_empty() {
            return Ok(HashMap::new());
        }
        // What was read or written last will do, as far as the system can tell; a write looks at every byte again.
        let stamp = Stamp::of(self.path());
        let known =
            self.inner.read.borrow().clone().filter(|read| stamp.is_some() && read.stamp.get() == stamp);
        let read = known.map_or_else(|| self.read_again(), Ok)?;
        Ok(fetched(&read.text, hrefs))
    }

    pub(super) async fn put(&self, href: &ObjectHref, text: &str, condition: &Condition) -> Result<Stored> {
        match Entry::parse(text, &Limits::default()) {
            Ok(entry) => self.write(href, Some(entry), condition).await,
            Err(_) => Ok(Stored::Refused { status: 400, words: None, for_good: true }),
        }
    }

    pub(super) async fn delete(&self, href: &ObjectHref, condition: &Condition) -> Result<Stored> {
        self.write(href, None, condition).await
    }

    /// Waits until every write that is under way has joined, and writes the file once for all of them.
    async fn write(&self, href: &ObjectHref, entry: Option<Entry>, condition: &Condition) -> Result<Stored> {
        let (tell, hear) = oneshot::channel();
        let waiting = Waiting { href: href.clone(), entry, condition: condition.clone(), tell };
        self.inner.waiting.borrow_mut().push(waiting);
        tokio::task::yield_now().await;
        let batch = std::mem::take(&mut *self.inner.waiting.borrow_mut());
        if !batch.is_empty() {
            self.flush(batch);
        }
        // Whoever took the batch has told everybody before anything else could run.
        hear.await.unwrap_or(Ok(Stored::Failed { status: 500 }))
    }

    fn flush(&self, batch: Vec<Waiting>) {
        for _ in 0..ROUNDS {
            match self.try_flush(&batch) {
                Ok(Some(results)) => {
                    for (waiting, stored) in batch.into_iter().zip(results) {
                        // Nobody waits any more: the run was given up.
                        drop(waiting.tell.send(Ok(stored)));
                    }
                    return;
                }
                Ok(None) => {
                    tracing::debug!(path = %self.path().display(), "the file changed; reading it again")
                }
                Err(error) => {
                    for waiting in batch {
                        drop(waiting.tell.send(Err(error.clone())));
                    }
                    return;
                }
            }
        }
        for waiting in batch {
            drop(waiting.tell.send(Ok(Stored::Failed { status: 423 })));
        }
    }

    /// Returns `None` where somebody else changed the file meanwhile: nothing was written.
    fn try_flush(&self, batch: &[Waiting]) -> Result<Option<Vec<Stored>>> {
        let read = self.read_again()?;
        let mut standing: HashMap<EventUid, ETag> =
            read.text.placed().iter().map(|p| (p.uid.clone(), p.etag.clone())).collect();
        let uids: Vec<EventUid> = batch.iter().map(|w| EventUid::from(w.href.as_str())).collect();
        let mut results = Vec::with_capacity(batch.len());
        let mut changes = Vec::new();
        for (waiting, uid) in batch.iter().zip(&uids) {
            let stored = verdict(waiting, uid, &standing);
            if matches!(stored, Stored::Done { .. }) {
                changes.push(match &waiting.entry {
                    Some(entry) if standing.contains_key(uid) => TextChange::Replace(uid, entry),
                    Some(entry) => TextChange::Add(entry),
                    None => TextChange::Remove(uid),
                });
                // A second write to the same entry in one batch meets what the first one made.
                match &waiting.entry {
                    Some(_) => drop(standing.insert(uid.clone(), ETag::from("being written"))),
                    None => drop(standing.remove(uid)),
                }
            }
            results.push(stored);
        }
        if changes.is_empty() {
            return Ok(Some(results));
        }
        if self.inner.writes.get() == 0 {
            remove_leftovers(self.path());
        }
        self.inner.writes.set(self.inner.writes.get() + changes.len() as u64);
        // What was read is changed where it stands: a large calendar is held once. Where it is not written after all,
        // the file is read again.
        drop(self.inner.read.take());
        let Read { digest, mut text, .. } = Rc::unwrap_or_clone(read);
        text.change(&changes);
        let bytes = text.write().into_bytes();
        let unchanged = || Ok(self.bytes()?.map(|bytes| <[u8; 32]>::from(Sha256::digest(bytes))) == digest);
        if !replace_file(self.path(), &bytes, unchanged)? {
            return Ok(None);
        }
        let stamp = Stamp::of(self.path()).filter(|stamp| stamp.length == bytes.len() as u64);
        *self.inner.read.borrow_mut() = Some(Rc::new(Read {
            digest: Some(Sha256::digest(&bytes).into()),
            text,
            stamp: Cell::new(stamp),
        }));
        Ok(Some(results))
    }
}

fn token(digest: Option<[u8; 32]>) -> SyncToken {
    SyncToken::from(digest.map_or_else(|| "no file".to_owned(), |digest| hex(&digest[..16])))
}

/// Says what comes of a write to a calendar in which these states stand.
fn verdict(waiting: &Waiting, uid: &EventUid, standing: &HashMap<EventUid, ETag>) -> Stored {
    match (&waiting.condition, standing.get(uid)) {
        (Condition::Is(wanted), Some(etag)) if wanted == etag => Stored::Done { etag: None, at: None },
        (Condition::Exists, Some(_)) | (Condition::Absent, None) => Stored::Done { etag: None, at: None },
        (_, None) if waiting.entry.is_none() => Stored::Missing,
        _ => Stored::ConditionFailed,
    }
}

/// Writes a file beside the one that is meant, makes sure that it is on the disk, and puts it in its place if
/// `is_still` says that this is as it was. The rights of the old file are kept.
pub(super) fn replace_file(
    path: &Path,
    bytes: &[u8],
    is_still: impl FnOnce() -> Result<bool>,
) -> Result<bool> {
    let failed = |error| CalendarError::disk(DiskAct::Write, path)(error);
    // What is written goes where a symbolic link leads, not in its place.
    let real = match path.canonicalize() {
        Ok(real) => real,
        // A link that leads nowhere would be replaced by a file, and what it meant be lost.
        Err(error) if path.is_symlink() => return Err(failed(error)),
        Err(_) => path.to_owned(),
    };
    let path = real.as_path();
    let (temporary, mut file) = temporary_beside(path).map_err(failed)?;
    let written = (|| {
        file.write_all(bytes)?;
        if let Ok(old) = std::fs::metadata(path) {
            file.set_permissions(old.permissions())?;
        }
        file.sync_all()
    })();
    drop(file);
    let placed = written.map_err(failed).and_then(|()| {
        if !is_still()? {
            return Ok(false);
        }
        std::fs::rename(&temporary, path).map_err(failed)?;
        sync_folder(path);
        Ok(true)
    });
    if !matches!(placed, Ok(true)) {
        // It is of no use to anybody; what stands in its place matters more than this error.
        drop(std::fs::remove_file(&temporary));
    }
    placed
}

/// Removes what writes of processes that are gone left beside a file. Where that cannot be told, nothing happens.
pub(super) fn remove_leftovers(path: &Path) {
    let processes = Path::new("/proc");
    let entries = path.parent().filter(|_| processes.join("self").exists()).map(std::fs::read_dir);
    for entry in entries.into_iter().flatten().flatten().flatten() {
        let name = entry.file_name();
        let owner = name.to_str().and_then(|name| name.strip_prefix('.')?.strip_suffix(".chestnut"));
        let owner = owner.and_then(|name| name.rsplit_once('.')?.1.split_once('-')?.0.parse::<u32>().ok());
        if owner.is_some_and(|owner| !processes.join(owner.to_string()).exists()) {
            drop(std::fs::remove_file(entry.path()));
        }
    }
}

/// Gives a new file to whom the one belongs that it is to replace, else to whom the folder belongs: an administrator who
/// runs this for others takes nothing away from them. Where that may not be done, it is as it was.
#[cfg(unix)]
fn hand_over(file: &std::fs::File, path: &Path) {
    use std::os::unix::fs::{MetadataExt as _, fchown};
    let old = std::fs::metadata(path);
    let replaces = old.is_ok();
    let like = old.or_else(|_| std::fs::metadata(path.parent().unwrap_or(Path::new("."))));
    let (Ok(like), Ok(own)) = (like, file.metadata()) else { return };
    if like.uid() != own.uid() || (replaces && like.gid() != own.gid()) {
        drop(fchown(file, Some(like.uid()), Some(like.gid())));
    }
}

/// Makes a new file in the same folder, under a name that no calendar has.
pub(super) fn temporary_beside(path: &Path) -> std::io::Result<(PathBuf, std::fs::File)> {
    let folder = path.parent().unwrap_or(Path::new("."));
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    for number in 0..1000 {
        let temporary = folder.join(format!(".{name}.{}-{number}.chestnut", std::process::id()));
        match std::fs::OpenOptions::new().write(true).create_new(true).open(&temporary) {
            Ok(file) => {
                #[cfg(unix)]
                hand_over(&file, path);
                return Ok((temporary, file));
            }
            Err(e) if e.kind() == ErrorKind::AlreadyExists => {}
            Err(e) => return Err(e),
        }
    }
    Err(std::io::Error::other("no free name for a temporary file"))
}

/// Makes a rename last through a power cut. Where folders cannot be synced, the file system does it in its time.
pub(super) fn sync_folder(path: &Path) {
    if let Some(folder) = path.parent()
        && let Ok(folder) = std::fs::File::open(folder)
    {
        drop(folder.sync_all());
    }
}
