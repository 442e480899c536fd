//! Tells at once when files change: calendars on this machine, the configuration, and the secrets it names.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use notify::{EventKind, RecursiveMode, Watcher as _};
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

use crate::settings::{Place, Settings};

/// What a changed file means.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Changed {
    /// The configuration, or something that it names, is to be read again.
    Configuration,
    /// A calendar has perhaps changed.
    Calendar(String),
}

/// Watches files for as long as it lives.
pub(super) struct Files {
    watcher: Option<notify::RecommendedWatcher>,
    changed: UnboundedReceiver<PathBuf>,
    /// Folders that are watched now.
    folders: BTreeSet<PathBuf>,
    meanings: BTreeMap<PathBuf, Vec<Changed>>,
}

impl Files {
    pub(super) fn new() -> Self {
        let (sender, changed): (UnboundedSender<PathBuf>, _) = unbounded_channel();
        let tell = move |event: notify::Result<notify::Event>| {
            let Ok(event) = event else { return };
            if matches!(event.kind, EventKind::Access(_)) {
                return;
            }
            // Nobody listens any more when the process ends.
            event.paths.into_iter().for_each(|path| drop(sender.send(path)));
        };
        let watcher = notify::recommended_watcher(tell).ok();
        Self { watcher, changed, folders: BTreeSet::new(), meanings: BTreeMap::new() }
    }

    /// Watches what a configuration names. Returns what cannot be watched: it is looked at in its own time.
    pub(super) fn watch(&mut self, settings: &Settings) -> Vec<PathBuf> {
        self.meanings.clear();
        let mut wanted = BTreeSet::new();
        let mut mean = |path: PathBuf, folder: PathBuf, what: Changed| {
            self.meanings.entry(path).or_default().push(what);
            wanted.insert(folder);
        };
        let named = settings.included.iter().chain([&settings.path]).cloned();
        for path in named.chain(settings.secret_files()) {
            if let Some(path) = real(&path) {
                let folder = path.parent().unwrap_or(Path::new("/")).to_owned();
                mean(path, folder, Changed::Configuration);
            }
        }
        for (name, calendar) in &settings.calendars {
            let what = Changed::Calendar(name.clone());
            match &calendar.place {
                Place::File(path) => {
                    if let Some(path) = real(&settings.base().join(path)) {
                        let folder = path.parent().unwrap_or(Path::new("/")).to_owned();
                        mean(path, folder, what);
                    }
                }
                Place::Folder(path) => {
                    if let Some(path) = real(&settings.base().join(path)) {
                        mean(path.clone(), path, what);
                    }
                }
                Place::Path(_) | Place::Name(_) | Place::Feed(_) | Place::FreeBusy(_) => {}
            }
        }
        let Some(watcher) = &mut self.watcher else { return wanted.into_iter().collect() };
        for gone in self.folders.difference(&wanted) {
            // It may be gone itself.
            drop(watcher.unwatch(gone));
        }
        let mut unwatched = Vec::new();
        let mut watched = BTreeSet::new();
        for folder in wanted {
            let is_watched =
                self.folders.contains(&folder) || watcher.watch(&folder, RecursiveMode::NonRecursive).is_ok();
            if is_watched {
                watched.insert(folder);
            } else {
                unwatched.push(folder);
            }
        }
        self.folders = watched;
        unwatched
    }

    /// Waits for a change that means something.
    pub(super) async fn next(&mut self) -> Vec<Changed> {
        loop {
            let Some(path) = self.changed.recv().await else {
                return std::future::pending().await;
            };
            let own = self.meanings.get(&path);
            let inside = || path.parent().and_then(|folder| self.meanings.get(folder));
            // Files that are about to take the place of others are nobody's yet.
            let is_passing = path.file_name().is_some_and(|name| name.to_string_lossy().starts_with('.'));
            if let Some(changed) = own.or_else(|| inside().filter(|_| !is_passing)) {
                return changed.clone();
            }
        }
    }
}

/// A path as the system tells of it: with its folder's real name.
fn real(path: &Path) -> Option<PathBuf> {
    if let Ok(real) = path.canonicalize() {
        return Some(real);
    }
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    Some(folder.canonicalize().ok()?.join(path.file_name()?))
}
