//! Begins to watch: with a state, and with another once that was replaced.

use std::path::Path;
use std::sync::Arc;

use chestnut_store::Store;

use super::health::Health;
use super::listen;
use super::log::{self, LogFormat};
use super::placed::Placed;
use super::presence::{Presence, Watcher};
use super::view::View;
use super::work::{Ended, Watch};
use crate::args::Common;
use crate::environment::Environment;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::Io;
use crate::open::{StatePlace, block_on, call_as_configured, load, state_place};
use crate::settings::{Settings, route_key};

/// What was asked for.
pub(crate) struct Asked<'a> {
    pub(crate) log: Option<&'a Path>,
    pub(crate) format: LogFormat,
}

pub(crate) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let mut settings = load(common, io)?;
    settings.chosen_routes(&[])?;
    let place = state_place(common, &settings, &io.environment)?;
    let mut store = place.open()?;
    call_as_configured(&settings, &store)?;
    let now = io.environment.now()?;
    // A state that machines share has room for more than one, wherever their configurations stand.
    let presence = place.file().map(|path| Presence::take(path, now)).transpose()?;
    let mut key = route_key(&settings, &store, true)?;
    let is_live = io.screen.is_some() && asked.log.is_none() && !common.quiet && common.verbose == 0;
    if !is_live {
        log::begin(asked.log, asked.format, common.verbose)?;
    }
    let health = Arc::new(Health::default());
    let watcher = Watcher { process: std::process::id(), machine: None, since: now };
    listen::begin(&settings, place.clone(), &io.environment, watcher, Arc::clone(&health))?;
    let mut view = View::new(is_live, io.screen, io.color);
    let ended = loop {
        match watch_with(&store, &place, key, settings, &health, &mut view, &io.environment) {
            Ok(Ended::Stopped) => break Ok(ExitCode::Ok),
            Ok(Ended::StateLeft(as_before)) => settings = *as_before,
            Err(failure) => break Err(failure),
        }
        store = place.open()?;
        key = route_key(&settings, &store, true)?;
    };
    view.close();
    drop(presence);
    ended
}

/// Watches as long as the state is the one that was opened.
fn watch_with(
    store: &Store,
    place: &StatePlace,
    key: Vec<u8>,
    settings: Settings,
    health: &Arc<Health>,
    view: &mut View,
    environment: &Environment,
) -> Result<Ended, Failure> {
    let file = place.file().and_then(|path| Placed::of(path).ok());
    let watch = Watch::new(store, file, key, Arc::clone(health), environment);
    store.hold_little()?;
    // Others that work with the same state leave its share to it.
    let attendance = store.shared_lease().map(|_| store.attend()).transpose()?;
    let ended = block_on(watch.run(settings, view))?;
    drop(attendance);
    ended
}
