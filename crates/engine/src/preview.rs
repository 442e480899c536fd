//! What a run would do, in words.

use std::collections::BTreeSet;

use chestnut_core::{Action, Because, Decision, WriteKind};
use chestnut_store::Known;

use crate::plan::{Plan, Planned};
use crate::record::{start_text, title_of};
use crate::route::Route;

/// What a run would do.
#[derive(Debug)]
pub struct PreviewReport {
    /// The route's name.
    pub route: String,
    /// The far calendar's name.
    pub target: String,
    /// What would be done, entry by entry.
    pub changes: Vec<PreviewedChange>,
    /// Entries that are left out now, newly seen ones and those known before.
    pub left_out: Vec<PreviewedChange>,
    /// Entries of the far side that are nobody's copies.
    pub strangers: usize,
    /// How many deletions would be held.
    pub held: usize,
    /// Whether the route never ran.
    pub first_run: bool,
    /// Whether the far server may write to people because of copies, and nobody was told yet.
    pub warns_of_invitations: bool,
}

/// One line of a preview.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct PreviewedChange {
    /// `create`, `update`, `delete`, `link`, `hold` or `leave out`.
    pub action: &'static str,
    /// The calendar that it is done in; `None` for what concerns all.
    pub calendar: Option<String>,
    /// The title; untrusted text.
    pub title: String,
    /// The start as iCalendar writes it.
    pub start: String,
    /// Why.
    pub why: String,
}

impl PreviewedChange {
    /// What is left out still, since nothing of it changed.
    pub(crate) fn left_out(calendar: &str, known: Known) -> Self {
        Self {
            action: "leave out",
            calendar: Some(calendar.to_owned()),
            title: known.title,
            start: String::new(),
            why: known.left_out.unwrap_or_default(),
        }
    }
}

impl PreviewReport {
    /// Sorts what it tells by day.
    pub(crate) fn in_order(mut self) -> Self {
        for list in [&mut self.changes, &mut self.left_out] {
            list.sort_by(|a, b| (&a.start, &a.title, a).cmp(&(&b.start, &b.title, b)));
        }
        self
    }
}

/// Entries of the far side that are nobody's copies.
pub(crate) fn strangers(plan: &Plan) -> usize {
    let ours: BTreeSet<_> = plan.planned.iter().filter_map(|p| p.target.as_ref().map(|t| &t.href)).collect();
    plan.target.items.keys().filter(|href| !ours.contains(href)).count()
}

/// The line for one entry; `None` where nothing is to be done.
pub(crate) fn previewed(planned: &Planned, route: &Route) -> Option<PreviewedChange> {
    let linked = planned.link.is_some();
    let (action, why) = match &planned.decision {
        Decision::Nothing | Decision::Forget => return None,
        Decision::Agree { .. } if linked => return None,
        Decision::Agree { .. } => ("link", "it stands there already, and says the same".to_owned()),
        Decision::Act(Action::Delete(Because::Gone)) => ("delete", "it is gone at the source".to_owned()),
        Decision::Act(Action::Delete(Because::Stranger)) => {
            ("delete", "it is no copy, and strangers are removed".to_owned())
        }
        Decision::Act(Action::Delete(Because::Past)) => {
            ("delete", "it is over, and past copies are removed".to_owned())
        }
        Decision::Act(Action::Delete(Because::NotTaken(reason))) => {
            ("delete", format!("no longer taken: {}", reason.key()))
        }
        Decision::Act(Action::Write { kind: WriteKind::Create, .. }) if linked => {
            ("create", "the copy is gone on the far side".to_owned())
        }
        Decision::Act(Action::Write { kind: WriteKind::Create, .. }) => {
            ("create", "new at the source".to_owned())
        }
        Decision::Act(Action::Write { view, .. }) => {
            let changed = planned.link.as_ref().is_none_or(|(_, row)| row.facts.view != *view);
            let why = match (linked, changed) {
                (false, _) => "it stands there already, and says something else",
                (true, true) => "changed at the source",
                (true, false) => "changed on the far side; it is put right again",
            };
            ("update", why.to_owned())
        }
        Decision::LeaveOut(reason) => {
            ("leave out", planned.words.clone().unwrap_or_else(|| reason.key().to_owned()))
        }
    };
    let shown = planned.source.as_ref().or(planned.target.as_ref());
    let title = shown.map(title_of).unwrap_or_default();
    let start = shown.and_then(|s| s.entry.as_ref()).map(start_text).unwrap_or_default();
    let end = if matches!(planned.decision, Decision::LeaveOut(_)) { &route.source } else { &route.target };
    Some(PreviewedChange { action, calendar: Some(end.name.clone()), title, start, why })
}
