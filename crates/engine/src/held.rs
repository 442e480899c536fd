//! What waits for a person: how it is told, and what they decided.

use chestnut_core::{DeletionLimit, Deletions, Held, guard_deletions};
use chestnut_store::{Change, ChangeAction, HeldItem, RouteId, Store};
use jiff::Timestamp;
use serde_json::json;

use crate::error::RunError;

/// What a person decided about deletions that were held.
#[derive(Debug, Clone, Copy)]
pub(crate) struct DecidedDeletions {
    pub(crate) deletions: Deletions,
    /// So many they were told of.
    told: usize,
}

/// What a person decided about the deletions of a route that were held; `None` where they did not.
pub(crate) fn decided_deletions(
    store: &Store,
    route: Option<RouteId>,
) -> Result<Option<DecidedDeletions>, RunError> {
    let Some(id) = route else { return Ok(None) };
    let held = store.held(Some(id))?.into_iter().find(|item| item.link.is_none());
    Ok(held.and_then(|item| {
        let details: serde_json::Value = serde_json::from_str(&item.details).unwrap_or_default();
        let told = details["count"].as_u64().and_then(|count| usize::try_from(count).ok()).unwrap_or(0);
        let deletions = match item.decision?.as_str() {
            "keep" => Deletions::Keep,
            _ => Deletions::Carry,
        };
        Some(DecidedDeletions { deletions, told })
    }))
}

/// Holds the deletions of a run that would delete suspiciously much ([`guard_deletions`]). A decision lets those
/// through that a person was told of; what came on top since is guarded as if these had been done already.
pub(crate) fn guard(
    limit: DeletionLimit,
    (deletions, expected): (usize, usize),
    linked: usize,
    decided: Option<DecidedDeletions>,
) -> Option<Held> {
    let Some(DecidedDeletions { told, .. }) = decided else {
        return guard_deletions(limit, deletions, expected, linked);
    };
    let unseen = (deletions + expected).saturating_sub(told).min(deletions);
    let held = guard_deletions(limit, unseen, 0, linked.saturating_sub(told));
    held.map(|_| Held { deletions: deletions + expected, of: linked })
}

/// Remembers the deletions that a run held, and how many they are, or that none is held any more.
pub(crate) fn remember_deletions(
    store: &Store,
    id: RouteId,
    name: &str,
    now: Timestamp,
    changes: &[Change],
    held: Option<usize>,
) -> Result<(), RunError> {
    let Some(count) = held else {
        return Ok(store.write(|writer| writer.let_through(id, None))?);
    };
    let deletion = |c: &&Change| c.action == ChangeAction::Held && !c.href.as_str().is_empty();
    let entries: Vec<_> = changes
        .iter()
        .filter(deletion)
        .map(|c| json!({ "calendar": c.calendar, "title": c.title, "start": c.start }))
        .collect();
    let item = HeldItem {
        id: 0,
        route: name.to_owned(),
        link: None,
        since: now.as_second(),
        title: String::new(),
        start: String::new(),
        details: json!({ "kind": "deletions", "count": count, "entries": entries }).to_string(),
        decision: None,
    };
    Ok(store.write(|writer| writer.hold(id, &item))?)
}
