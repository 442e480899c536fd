//! Opens what a command works on: the configuration and the state; and waits for work that waits.

use std::future::Future;
use std::path::{Path, PathBuf};

#[cfg(feature = "postgres")]
use chestnut_store::PostgresPlace;
use chestnut_store::{Store, StoreError, route_lease};
#[cfg(feature = "postgres")]
use secrecy::ExposeSecret as _;

use crate::args::Common;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::io::Io;
#[cfg(feature = "postgres")]
use crate::settings::read_secret;
use crate::settings::{Settings, StateSettings, find as find_configuration};
use crate::watch::watching;
#[cfg(not(feature = "postgres"))]
use crate::words::built_without_postgres;
#[cfg(feature = "postgres")]
use crate::words::of_file;

/// Where the configuration is, or would be written.
pub(crate) fn configuration_path(common: &Common, io: &Io<'_>) -> Result<PathBuf, Failure> {
    if let Some(path) = common.config.clone().or_else(|| io.environment.path("CHESTNUT_CONFIG")) {
        return Ok(path);
    }
    Ok(find_configuration(None, &io.environment).unwrap_or_else(|_| PathBuf::from("chestnut.toml")))
}

pub(crate) fn load(common: &Common, io: &Io<'_>) -> Result<Settings, Failure> {
    Settings::load(common.config.as_deref(), &io.environment)
}

/// Where the state is.
#[derive(Debug, Clone)]
pub(crate) enum StatePlace {
    File(PathBuf),
    #[cfg(feature = "postgres")]
    Postgres(PostgresPlace),
}

impl StatePlace {
    /// Its file, where it is one.
    pub(crate) fn file(&self) -> Option<&Path> {
        match self {
            Self::File(path) => Some(path),
            #[cfg(feature = "postgres")]
            Self::Postgres(_) => None,
        }
    }

    /// Opens the state, making it where there is none.
    pub(crate) fn open(&self) -> Result<Store, StoreError> {
        match self {
            Self::File(path) => Store::open_unless(path, &|| watching(path)),
            #[cfg(feature = "postgres")]
            Self::Postgres(place) => Store::connect(place),
        }
    }
}

/// A file on this machine that is the state, or beside which is what belongs to it: no secret is read for that.
pub(crate) fn state_path(common: &Common, settings: &Settings) -> PathBuf {
    common.state.clone().unwrap_or_else(|| settings.state_path())
}

/// Where the state is: as was asked for, else as is configured.
pub(crate) fn state_place(
    common: &Common,
    settings: &Settings,
    environment: &Environment,
) -> Result<StatePlace, Failure> {
    match &common.state {
        Some(path) => Ok(StatePlace::File(path.clone())),
        None => configured_state(settings, environment),
    }
}

/// Where the configuration says that the state is.
pub(crate) fn configured_state(
    settings: &Settings,
    environment: &Environment,
) -> Result<StatePlace, Failure> {
    match &settings.state {
        StateSettings::Beside | StateSettings::File(_) => Ok(StatePlace::File(settings.state_path())),
        #[cfg(feature = "postgres")]
        StateSettings::Postgres { url, password, ca, lease } => {
            let base = settings.base();
            let read = |source| read_secret("the state", "password", source, base, environment);
            let password = password.as_ref().map(read).transpose()?;
            let password = password.map(|password| password.expose_secret().to_owned());
            let authorities = ca.as_ref().map(|ca| {
                let path = base.join(ca);
                std::fs::read(&path).map_err(|e| of_file(&path, &e))
            });
            let authorities = authorities.transpose()?;
            let place = PostgresPlace { url: url.clone(), password, authorities, lease: *lease };
            Ok(StatePlace::Postgres(place))
        }
        #[cfg(not(feature = "postgres"))]
        StateSettings::Postgres { .. } => {
            let _ = environment;
            Err(built_without_postgres())
        }
    }
}

pub(crate) fn open_state(
    common: &Common,
    settings: &Settings,
    environment: &Environment,
) -> Result<Store, Failure> {
    let store = state_place(common, settings, environment)?.open()?;
    call_as_configured(settings, &store)?;
    Ok(store)
}

/// Routes that were renamed are called so in the state, too: what is remembered of them goes on.
pub(crate) fn call_as_configured(settings: &Settings, store: &Store) -> Result<(), StoreError> {
    for (name, route) in settings.routes.iter().filter(|(_, route)| !route.was.is_empty()) {
        if store.route(name)?.is_some() {
            continue;
        }
        for old in route.was.iter().rev() {
            if store.route(old)?.is_some() {
                let _lease = store.lease(&route_lease(old))?;
                store.write(|writer| writer.rename_route(old, name))?;
                break;
            }
        }
    }
    Ok(())
}

/// Opens the state to look at it: where there is none, none is made.
pub(crate) fn look_at_state(
    common: &Common,
    settings: &Settings,
    environment: &Environment,
) -> Result<Store, Failure> {
    match state_place(common, settings, environment)? {
        StatePlace::File(path) if !path.exists() => Ok(Store::in_memory()?),
        place => {
            let store = place.open()?;
            match call_as_configured(settings, &store) {
                // It runs under its old name now: whoever only looks need not wait.
                Ok(()) | Err(StoreError::Busy { .. }) => Ok(store),
                Err(error) => Err(error.into()),
            }
        }
    }
}

/// Runs asynchronous work on this thread.
pub(crate) fn block_on<T>(work: impl Future<Output = T>) -> Result<T, Failure> {
    room_for_a_runtime()?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    Ok(runtime.block_on(work))
}

/// Where no more files may be open, the runtime would end the program without a word of ours.
#[cfg(unix)]
fn room_for_a_runtime() -> Result<(), Failure> {
    let pairs: std::io::Result<Vec<_>> = (0..3).map(|_| std::os::unix::net::UnixStream::pair()).collect();
    Ok(pairs.map(drop)?)
}

#[cfg(not(unix))]
fn room_for_a_runtime() -> Result<(), Failure> {
    Ok(())
}
