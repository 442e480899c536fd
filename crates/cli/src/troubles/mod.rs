//! Troubles: what rounds and syncs see, what it comes to, and who is told. What begins and ends is decided in the
//! engine; here is where the signs come from.

mod alarms;
mod signs;
mod tell;

use chestnut_engine::{Signs, Turn};
use chestnut_store::{Store, StoreError};
use jiff::Timestamp;

pub(crate) use alarms::{daily_look, is_due};
pub(crate) use signs::{Happened, Observer};
pub(crate) use tell::Teller;

use crate::settings::Settings;

/// Brings what was seen together with what is known. Returns what began and ended.
pub(crate) fn settle(
    settings: &Settings,
    store: &Store,
    mut signs: Signs,
    now: Timestamp,
) -> Result<Vec<Turn>, StoreError> {
    signs::note_what_is_gone(settings, &store.open_troubles(i64::MAX)?, &mut signs);
    let keep_from = now.saturating_sub(settings.keep_history).unwrap_or(now);
    chestnut_engine::settle(store, &signs, settings.left_running.on_trouble.is_some(), now, keep_from)
}
