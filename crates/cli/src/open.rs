//! Opens what a command works on: the configuration and the state; and waits for work that waits.

use std::future::Future;
use std::path::PathBuf;

use chestnut_store::Store;

use crate::args::Common;
use crate::failure::Failure;
use crate::io::Io;
use crate::settings::{Settings, find as find_configuration};

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

pub(crate) fn state_path(common: &Common, settings: &Settings) -> PathBuf {
    common.state.clone().unwrap_or_else(|| settings.path.with_extension("state"))
}

pub(crate) fn open_state(common: &Common, settings: &Settings) -> Result<Store, Failure> {
    Ok(Store::open(&state_path(common, settings))?)
}

/// Opens the state to look at it: where there is none, none is made.
pub(crate) fn look_at_state(common: &Common, settings: &Settings) -> Result<Store, Failure> {
    let path = state_path(common, settings);
    Ok(if path.exists() { Store::open(&path)? } else { Store::in_memory()? })
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
