//! The share of one watch where several machines work with one state: which routes it runs, and which it leaves alone.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, UNIX_EPOCH};

use chestnut_engine::{is_of_another_machine, share_of};
use chestnut_store::{Store, StoreError, machine_name};
use sha2::{Digest as _, Sha256};

use crate::settings::{RouteSettings, Settings};
use crate::words::{left_to_newer, left_to_other_machine};

/// What is known of the others.
#[derive(Default)]
pub(super) struct Others {
    attending: RefCell<Vec<String>>,
    /// What was said once.
    told: RefCell<BTreeSet<String>>,
}

impl Others {
    /// How often the others are looked for; `None` where there can be none.
    pub(super) fn every(store: &Store) -> Option<Duration> {
        let lease = store.shared_lease()?;
        Some(Duration::from_secs(u64::try_from(lease / 6).unwrap_or(1).max(1)))
    }

    /// Tells whether others have come or gone since the last share.
    pub(super) fn have_changed(&self, store: &Store) -> Result<bool, StoreError> {
        Ok(store.shared_lease().is_some() && store.attending()? != *self.attending.borrow())
    }

    /// The routes that this watch runs.
    pub(super) fn share(&self, settings: &Settings, store: &Store) -> Result<BTreeSet<String>, StoreError> {
        if store.shared_lease().is_none() {
            return Ok(settings.routes.keys().cloned().collect());
        }
        let attending = store.attending()?;
        let routes = settings.routes.iter().map(|(name, route)| (name.as_str(), &route.ends[..]));
        let mut share = share_of(&store.attendance(), &attending, routes);
        *self.attending.borrow_mut() = attending;
        let machine = machine_name();
        for (name, route) in &settings.routes {
            let known = store.route(name)?;
            let is_elsewhere =
                known.as_ref().is_some_and(|known| is_of_another_machine(&known.ends, &machine));
            let is_here =
                !is_elsewhere && route.ends.iter().any(|end| settings.calendars[end].place.is_local());
            if is_elsewhere {
                share.remove(name);
                self.tell_once(&left_to_other_machine(name));
            } else if is_here {
                // Nobody else can run it.
                share.insert(name.clone());
            }
        }
        let mut mine = BTreeSet::new();
        for name in share {
            match says_newest(settings, store, &name)? {
                true => drop(mine.insert(name)),
                false => self.tell_once(&left_to_newer(&name, &settings.path)),
            }
        }
        Ok(mine)
    }

    fn tell_once(&self, words: &str) {
        if self.told.borrow_mut().insert(words.to_owned()) {
            tracing::warn!("{words}");
        }
    }
}

/// Tells whether nobody has a newer configuration that says something else of a route; if so, ours is remembered.
fn says_newest(settings: &Settings, store: &Store, name: &str) -> Result<bool, StoreError> {
    let known = format!("configured {name}");
    let ours = (written(settings), digest(settings, &settings.routes[name]));
    let theirs = store.meta(&known)?;
    let theirs = theirs.as_ref().and_then(|text| text.split_once(' '));
    match theirs.and_then(|(at, digest)| Some((at.parse::<u64>().ok()?, digest))) {
        Some((_, digest)) if digest == ours.1 => Ok(true),
        Some((at, _)) if at >= ours.0 => Ok(false),
        _ => {
            store.write(|writer| writer.set_meta(&known, &format!("{} {}", ours.0, ours.1)))?;
            Ok(true)
        }
    }
}

/// When the configuration was last written, in seconds since 1970.
fn written(settings: &Settings) -> u64 {
    let files = std::iter::once(&settings.path).chain(&settings.included);
    let times = files.filter_map(|path| std::fs::metadata(path).and_then(|about| about.modified()).ok());
    let newest = times.max().and_then(|time| time.duration_since(UNIX_EPOCH).ok());
    newest.map_or(0, |since| since.as_secs())
}

/// Another one for whoever says something else of a route or its calendars.
fn digest(settings: &Settings, route: &RouteSettings) -> String {
    let calendars: BTreeMap<_, _> = route.ends.iter().map(|end| (end, &settings.calendars[end])).collect();
    let text = format!("{route:?} {calendars:?}");
    chestnut_core::hex(&Sha256::digest(text.as_bytes())[..8])
}
