//! Many routes in one round: every calendar is looked at once, and a route runs only where that brought something.

use std::collections::BTreeMap;

use chestnut_store::{Route, Store};
use futures_util::stream::{self, StreamExt as _};
use jiff::{SignedDuration, Timestamp};

use crate::error::RunError;
use crate::mirror::{Look, Mirror};
use crate::options::RunOptions;
use crate::rule::{CalendarEnd, Makes, Rule};
use crate::session::made_place;

/// Calendars that are looked at side by side; how many requests an account gets at once is its client's to say.
const SIDE_BY_SIDE: usize = 256;

/// One calendar, as all routes of the round want it.
struct Wish<'r> {
    end: &'r CalendarEnd,
    full_look_every: SignedDuration,
    /// The earliest moment any of them takes from; `None`: everything.
    needed_from: Option<i64>,
}

/// Looks at the calendars of some routes, each once, several side by side. What could not be looked at is told by
/// [`crate::Round::failure`], and by the runs of its routes.
pub async fn look_at_calendars(rules: &[&Rule], store: &Store, options: &RunOptions) {
    let mut wishes: BTreeMap<String, Wish<'_>> = BTreeMap::new();
    for rule in rules {
        let start = rule.window.at(options.now, &rule.zone).range.start;
        for end in &rule.ends {
            let needed_from = (!end.takes).then_some(start);
            let wish = Wish { end, full_look_every: rule.full_look_every, needed_from };
            wishes
                .entry(end.calendar.place())
                .and_modify(|known| {
                    known.full_look_every = known.full_look_every.min(rule.full_look_every);
                    known.needed_from = known.needed_from.zip(needed_from).map(|(a, b)| a.min(b));
                })
                .or_insert(wish);
        }
    }
    let looks = wishes.into_values().map(|wish| async move {
        let look =
            Look { needed_from: wish.needed_from, takes_turns: true, ..options.look(wish.full_look_every) };
        // That it may not be written is for the run of a route that would.
        let end = CalendarEnd { takes: false, ..wish.end.clone() };
        // The round remembers what came of it.
        let looked = async { Mirror::of(store, &end)?.refresh(&look).await };
        drop(looked.await);
        end.calendar.let_go();
    });
    stream::iter(looks).buffer_unordered(SIDE_BY_SIDE).collect::<()>().await;
}

/// Tells whether a run of a route that has run, and whose calendars were looked at, would have anything to decide or to
/// tell.
///
/// # Errors
/// The state cannot be read.
pub fn has_news(rule: &Rule, known: &Route, store: &Store, options: &RunOptions) -> Result<bool, RunError> {
    let now = options.now.as_second();
    let day = |second: i64| Timestamp::from_second(second).map(|at| at.to_zoned(rule.zone.clone()).date());
    // The window moves with the day; a moment that is still to come was noted under a wrong clock.
    let ran_today = known.ran_at.is_some_and(|at| at <= now && day(at).ok() == day(now).ok());
    let is_other = known.rule != rule.settings() || known.ends != rule.places();
    if !ran_today || is_other || rule.ends.iter().any(|end| options.round.failure(end).is_some()) {
        return Ok(true);
    }
    let _still = store.hold_still()?;
    // That it goes well again is told by a run, too.
    if store.broke_off(&rule.name)? {
        return Ok(true);
    }
    is_behind((&rule.name, known), rule.makes, store, now)
}

/// Tells whether something is known to have changed, or is due, that a route has not decided yet. `now` is in seconds
/// since 1970.
///
/// # Errors
/// The state cannot be read.
pub fn is_behind(
    (name, known): (&str, &Route),
    makes: Makes,
    store: &Store,
    now: i64,
) -> Result<bool, RunError> {
    let made = (makes != Makes::Entries).then(|| made_place(name));
    Ok(store.is_behind(known, made.as_deref(), now)?)
}
