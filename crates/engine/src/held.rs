//! What waits for a person: how it is told, and what they decided.

use chestnut_core::Deletions;
use chestnut_store::{Change, ChangeAction, HeldItem, RouteId, Store};
use jiff::Timestamp;
use serde_json::json;

use crate::error::RunError;

/// What a person decided about the deletions of a route that were held; `None` where they did not.
pub(crate) fn decided_deletions(
    store: &Store,
    route: Option<RouteId>,
) -> Result<Option<Deletions>, RunError> {
    let Some(id) = route else { return Ok(None) };
    let held = store.held(Some(id))?.into_iter().find(|item| item.link.is_none());
    Ok(held.and_then(|item| item.decision).map(|word| match word.as_str() {
        "keep" => Deletions::Keep,
        _ => Deletions::Carry,
    }))
}

/// Remembers the deletions that a run held, or that none is held any more.
pub(crate) fn remember_deletions(
    store: &Store,
    id: RouteId,
    name: &str,
    now: Timestamp,
    changes: &[Change],
    is_held: bool,
) -> Result<(), RunError> {
    if !is_held {
        return Ok(store.write(|writer| writer.let_through(id, None))?);
    }
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
        details: json!({ "kind": "deletions", "entries": entries }).to_string(),
        decision: None,
    };
    Ok(store.write(|writer| writer.hold(id, &item))?)
}
