//! Whether a `watch` runs on a state: a file beside it, locked by the system for as long as the process lives.

use std::fs::{File, TryLockError};
use std::io::{Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

use chestnut_store::{Holder, Store};
use jiff::Timestamp;

use crate::failure::Failure;
use crate::words::{of_file, watched_already};

/// Somebody only looks whether it is taken: that passes.
const TRIES: usize = 5;
const PAUSE: Duration = Duration::from_millis(50);

/// Who watches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Watcher {
    pub(crate) process: u32,
    /// Its machine, where it is another one than this.
    pub(crate) machine: Option<String>,
    pub(crate) since: Timestamp,
}

/// The right to be the only one, until this is dropped.
#[derive(Debug)]
pub(crate) struct Presence(File);

impl Presence {
    pub(crate) fn take(state: &Path, now: Timestamp) -> Result<Self, Failure> {
        let path = lock_path(state);
        let failed = |system: std::io::Error| of_file(&path, &system);
        let mut options = File::options();
        options.read(true).write(true).create(true).truncate(false);
        #[cfg(unix)]
        {
            use std::os::unix::fs::OpenOptionsExt as _;
            options.mode(0o600);
        }
        let mut file = options.open(&path).map_err(failed)?;
        for attempt in 1.. {
            match file.try_lock() {
                Ok(()) => break,
                Err(TryLockError::Error(system)) => return Err(failed(system)),
                Err(TryLockError::WouldBlock) if attempt < TRIES => std::thread::sleep(PAUSE),
                Err(TryLockError::WouldBlock) => return Err(watched_already(watcher(&mut file).as_ref())),
            }
        }
        let words = format!("{} {now}\n", std::process::id());
        file.set_len(0).and_then(|()| file.write_all(words.as_bytes())).map_err(failed)?;
        Ok(Self(file))
    }

    /// Returns who watches a state, on this machine and on others.
    pub(crate) fn all(state: &Path, store: &Store) -> Result<Vec<Watcher>, Failure> {
        if store.shared_lease().is_none() {
            return Ok(Self::look(state).into_iter().collect());
        }
        let watcher = |Holder { process, machine, since }| Watcher { process, machine, since };
        let mut all: Vec<_> = store.watches()?.into_iter().map(watcher).collect();
        // Whoever is here comes first.
        all.sort_by_key(|watcher| (watcher.machine.is_some(), watcher.since));
        Ok(all)
    }

    /// Returns who on this machine watches a state in a file.
    fn look(state: &Path) -> Option<Watcher> {
        let mut file = File::open(lock_path(state)).ok()?;
        match file.try_lock_shared() {
            Err(TryLockError::WouldBlock) => watcher(&mut file),
            _ => None,
        }
    }
}

/// Returns which other process of this machine watches a state in a file, as its leases name holders.
pub(crate) fn watching(state: &Path) -> Option<Holder> {
    let other = Presence::look(state).filter(|watcher| watcher.process != std::process::id());
    other.map(|Watcher { process, machine, since }| Holder { process, machine, since })
}

impl Drop for Presence {
    fn drop(&mut self) {
        // Nothing depends on it: the lock goes with the file.
        drop(self.0.set_len(0));
    }
}

fn lock_path(state: &Path) -> PathBuf {
    state.with_added_extension("watch")
}

fn watcher(file: &mut File) -> Option<Watcher> {
    let mut text = String::new();
    file.read_to_string(&mut text).ok()?;
    let (process, since) = text.trim().split_once(' ')?;
    let (process, since) = (process.parse().ok()?, since.parse().ok()?);
    Some(Watcher { process, machine: None, since })
}
