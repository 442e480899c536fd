//! What a configuration says to no effect.

use std::collections::BTreeSet;

use chestnut_core::{Deletions, PastCopies, Reach, Shows, Strangers, Test};

use super::file::Settings;
use super::route::RouteSettings;
use super::uses::{uncovered_calendars, used_by};

/// Something that says nothing, by the name of what it belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Idle<'s> {
    /// An account that no calendar uses.
    Account(&'s str),
    /// A calendar that no route uses.
    Calendar(&'s str),
    /// A calendar that is looked at soon, and that no route reads.
    Soon(&'s str),
    /// Copies never fall behind a window that has no beginning.
    PastCopies(&'s str),
    /// A limit where nothing is deleted.
    DeletionLimit(&'s str),
    /// Copies would be relayed, but no other route writes any.
    Relay(&'s str),
    /// Whose answers count, where none are asked for.
    Me(&'s str),
    /// It counts as behind before it is due again.
    StaleBeforeDue(&'s str),
}

/// Everything in a configuration that has no effect, or not the one that it seems to have.
pub(crate) fn idle(settings: &Settings) -> Vec<Idle<'_>> {
    let unused = settings.accounts.keys().filter(|account| used_by(settings, account).0.is_empty());
    let mut found: BTreeSet<Idle<'_>> = unused.map(|name| Idle::Account(name)).collect();
    found.extend(uncovered_calendars(settings).map(Idle::Calendar));
    let reads = |name: &String| settings.routes.values().any(|route| route.reads().contains(name));
    let soon = settings.calendars.iter().filter(|(name, calendar)| calendar.soon && !reads(name));
    found.extend(soon.map(|(name, _)| Idle::Soon(name)));
    for (name, route) in &settings.routes {
        // The parts of a route say the same.
        let name = route.part_of.as_deref().unwrap_or(name);
        let says = |key: &str| route.said.contains_key(key);
        found.extend(
            (says("past-copies") && route.window.past == Reach::Unlimited).then_some(Idle::PastCopies(name)),
        );
        found.extend((says("deletion-limit") && deletes_nothing(route)).then_some(Idle::DeletionLimit(name)));
        found.extend((route.relay && !gets_copies(route, name, settings)).then_some(Idle::Relay(name)));
        found.extend((says("me") && !asks_for_answers(route)).then_some(Idle::Me(name)));
        found.extend(
            route.stale_after.filter(|after| *after <= route.every).map(|_| Idle::StaleBeforeDue(name)),
        );
    }
    found.into_iter().collect()
}

/// Whether a run never deletes anything.
fn deletes_nothing(route: &RouteSettings) -> bool {
    route.deletions == Deletions::Keep
        && route.strangers == Strangers::Leave
        && route.past_copies == PastCopies::Keep
}

/// Whether another route writes into a calendar that this one reads.
fn gets_copies(route: &RouteSettings, name: &str, settings: &Settings) -> bool {
    let others = settings
        .routes
        .iter()
        .filter(|(other, settings)| *other != name && settings.part_of.as_deref() != Some(name));
    others.flat_map(|(_, other)| other.writes()).any(|calendar| route.reads().contains(calendar))
}

/// Whether it matters what the owner of the source has answered.
fn asks_for_answers(route: &RouteSettings) -> bool {
    let tests = route.choice.only.iter().chain(&route.choice.skip);
    let mut of_answers = tests.filter(|test| matches!(test, Test::Declined(_) | Test::Tentative(_)));
    of_answers.next().is_some() || matches!(route.carry.shows, Shows::Busy(_))
}
