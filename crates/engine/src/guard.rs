//! Which deletions may be done: a run that would delete suspiciously much deletes nothing unasked, and a person's
//! answer counts for what they were told of.

use std::collections::BTreeSet;

use chestnut_core::{Because, DeletionLimit, guard_deletions};
use chestnut_store::{HeldItem, LinkId, ObjectId};
use serde::{Deserialize, Serialize};

/// Something that would be deleted: a case, or an object that belongs to none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Deletion {
    Case(LinkId),
    Beside(usize, ObjectId),
}

/// What a person is told of deletions that wait for them.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Waiting {
    pub(crate) kind: String,
    pub(crate) count: usize,
    pub(crate) entries: Vec<WaitingEntry>,
    /// Which they are: what an answer counts for.
    #[serde(default)]
    pub(crate) keys: Vec<String>,
}

/// One of these.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct WaitingEntry {
    pub(crate) calendar: String,
    pub(crate) title: String,
    pub(crate) start: String,
}

/// What a person decided about deletions that were held.
#[derive(Debug, Default)]
pub(crate) struct Decided {
    /// Whether they are done; `None` where nobody decided.
    deletes: Option<bool>,
    /// These they were told of.
    told: BTreeSet<String>,
}

/// Returns the keys of deletions that wait, and that nobody has decided about.
pub(crate) fn waiting(held: &[HeldItem]) -> BTreeSet<String> {
    let open = held.iter().filter(|item| item.link.is_none() && item.decision.is_none());
    open.flat_map(keys).collect()
}

/// Returns the keys of the deletions that a person was told of.
pub(crate) fn keys(item: &HeldItem) -> BTreeSet<String> {
    let waiting = serde_json::from_str::<Waiting>(&item.details);
    waiting.map(|waiting| waiting.keys.into_iter().collect()).unwrap_or_default()
}

/// What becomes of the deletions of a run.
#[derive(Debug, Default)]
pub(crate) struct Sorted {
    /// These may be done.
    pub(crate) allowed: Vec<Deletion>,
    /// A person said that these stay.
    pub(crate) kept: Vec<Deletion>,
    /// These wait for a person.
    pub(crate) held: Vec<Deletion>,
}

impl Deletion {
    pub(crate) fn key(&self) -> String {
        match self {
            Self::Case(link) => format!("{link:?}"),
            Self::Beside(_, object) => format!("{object:?}"),
        }
    }
}

impl Decided {
    /// Reads it out of what waits.
    pub(crate) fn of(held: &[HeldItem]) -> Self {
        let Some(item) = held.iter().find(|item| item.link.is_none()) else { return Self::default() };
        let Some(decision) = &item.decision else { return Self::default() };
        Self { deletes: Some(decision != "keep"), told: keys(item) }
    }

    /// Sorts the deletions of a run. `linked` is how many cases there are.
    pub(crate) fn sort(
        &self,
        deletions: Vec<(Deletion, Because)>,
        limit: DeletionLimit,
        linked: usize,
        all_allowed: bool,
    ) -> Sorted {
        let mut sorted = Sorted::default();
        let mut rest = Vec::new();
        for (deletion, because) in deletions {
            match self.deletes.filter(|_| self.told.contains(&deletion.key())) {
                Some(true) => sorted.allowed.push(deletion),
                Some(false) => sorted.kept.push(deletion),
                None => rest.push((deletion, because)),
            }
        }
        // What is told of is as good as done; what came on top is guarded for itself.
        let told = sorted.allowed.len() + sorted.kept.len();
        let expected = rest.iter().filter(|(_, because)| *because == Because::Past).count();
        let held = guard_deletions(limit, rest.len() - expected, expected, linked.saturating_sub(told));
        let rest = rest.into_iter().map(|(deletion, _)| deletion);
        match held.is_some() && !all_allowed {
            true => sorted.held.extend(rest),
            false => sorted.allowed.extend(rest),
        }
        sorted
    }
}
