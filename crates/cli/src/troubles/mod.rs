//! Troubles: what rounds and syncs see, what it comes to, and who is told. What begins and ends is decided in the
//! engine; here is where the signs come from.

mod signs;
mod tell;

use chestnut_engine::{Signs, judge};
use chestnut_store::{NoticeEvent, Store, StoreError, TroubleRow};
use jiff::Timestamp;

pub(crate) use signs::{Happened, Observer};
pub(crate) use tell::{Teller, about_what, heartbeat, note_about};

use crate::settings::Settings;

/// What ended lately may come back as the same, in seconds.
const LATELY: i64 = 30 * 60;

/// A trouble that began or ended just now.
#[derive(Debug, Clone)]
pub(crate) struct Turn {
    pub(crate) trouble: TroubleRow,
    /// It began; else it ended.
    pub(crate) began: bool,
}

/// Brings what was seen together with what is known, in one transaction with what is to be told. Returns what began
/// and ended. Where nothing is new nothing is written.
pub(crate) fn settle(
    settings: &Settings,
    store: &Store,
    mut signs: Signs,
    now: Timestamp,
) -> Result<Vec<Turn>, StoreError> {
    let second = now.as_second();
    let known = store.open_troubles(second - LATELY)?;
    signs::note_what_is_gone(settings, &known, &mut signs);
    let judged = judge(&known, &signs, settings.left_running.on_trouble.is_some(), second);
    if judged.troubles.is_empty() && judged.forgotten.is_empty() {
        return Ok(Vec::new());
    }
    let was_open = |id: i64| {
        id != 0 && known.iter().any(|row| row.id == id && row.began.is_some() && row.ended.is_none())
    };
    let turns = judged.troubles.iter().filter_map(|row| {
        let is_open = row.began.is_some() && row.ended.is_none();
        (is_open != was_open(row.id)).then(|| Turn { trouble: row.clone(), began: is_open })
    });
    let turns = turns.collect();
    let keep_from = now.saturating_sub(settings.keep_history).unwrap_or(now).as_second();
    store.write(|writer| {
        for (row, event) in judged.troubles.iter().zip(&judged.notices) {
            let id = writer.put_trouble(row)?;
            if let Some(event) = event {
                let then = serde_json::to_value(tell::Then::of(row)).unwrap_or_default();
                writer.add_notice(id, *event, second, &then)?;
            }
        }
        judged.forgotten.iter().try_for_each(|id| writer.forget_trouble(*id))?;
        writer.prune_troubles(keep_from)
    })?;
    Ok(turns)
}

/// The word for an event, where a trouble began or ended.
impl Turn {
    pub(crate) fn event(&self) -> NoticeEvent {
        if self.began { NoticeEvent::Begin } else { NoticeEvent::End }
    }
}
