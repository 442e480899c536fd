//! Which test entry a route takes, and when.

use chestnut_core::{Kind, PROBE_LENGTH, Probe};
use jiff::{SignedDuration, Timestamp};

use super::facts::{CannotProbe, ProbeHow};
use crate::error::RunError;
use crate::options::RunOptions;
use crate::rule::{Makes, Rule};
use crate::session::Session;

/// UIDs of test entries that a route has.
const UIDS: u8 = 100;

/// A test entry that the route takes: tomorrow, or on the first day inside its window, at a free quarter of an hour.
pub(super) fn plan(
    session: &Session<'_>,
    rule: &Rule,
    options: &RunOptions,
    how: &ProbeHow,
    from: usize,
) -> Result<Result<Probe, CannotProbe>, RunError> {
    let kind = match (rule.kinds.contains(Kind::Event), rule.kinds.contains(Kind::Task)) {
        (true, _) => Kind::Event,
        (false, true) => Kind::Task,
        (false, false) => return Ok(Err(CannotProbe::Kinds)),
    };
    let number = (options.now.as_second().rem_euclid(i64::from(UIDS))) as u8;
    let uid = rule.key.probe_uid(number);
    let window = rule.window.at(options.now, &rule.zone);
    let today = options.now.to_zoned(rule.zone.clone()).date();
    let mut start = None;
    for days in 1..=366 {
        let Ok(day) = today.checked_add(jiff::Span::new().days(days)) else { break };
        let Ok(midnight) = day.to_zoned(rule.zone.clone()) else { continue };
        let at = midnight.timestamp() + SignedDuration::from_hours(9);
        if window.range.contains(&at.as_second()) && window.range.contains(&(at + PROBE_LENGTH).as_second()) {
            start = Some(at);
            break;
        }
    }
    let Some(day) = start else { return Ok(Err(CannotProbe::Window)) };
    let Some(start) = free_quarter(session, rule, from, day)? else { return Ok(Err(CannotProbe::Window)) };
    let titles = match &how.title {
        Some(title) => std::slice::from_ref(title),
        None => &how.titles,
    };
    let choice = &rule.choice;
    let mut cannot = None;
    for title in titles {
        // A word that stands nowhere else, so that what comes can be told from what stands.
        let code = &uid.as_str()[uid.as_str().len() - 6..];
        let probe = Probe::new(uid.clone(), kind, &format!("{title} {code}"), start);
        match probe.fit(choice, options.now) {
            Ok(probe) => return Ok(Ok(probe)),
            Err(key) => cannot = Some(CannotProbe::Key(key.name().to_owned())),
        }
    }
    Ok(Err(cannot.unwrap_or(CannotProbe::Kinds)))
}

/// A quarter of an hour in which nothing else takes place; an hour away from everything, where blocks are joined.
pub(super) fn free_quarter(
    session: &Session<'_>,
    rule: &Rule,
    from: usize,
    morning: Timestamp,
) -> Result<Option<Timestamp>, RunError> {
    use chestnut_core::recurrence::{Budget, Moment, Occurrences, Zone};
    let away = if rule.makes == Makes::Blocks { 3600 } else { 0 };
    let reading = Zone::Rules(rule.zone.clone());
    let window = morning.as_second() - 3600..morning.as_second() + 14 * 3600;
    let mut taken: Vec<(i64, i64)> = Vec::new();
    for object in session.store().all_objects(session.calendar(from).id)? {
        let stands = session.gatherer.stands(object)?;
        let Some(times) = stands.entry().and_then(|entry| Occurrences::of(entry, &reading).ok()) else {
            continue;
        };
        let instances = times.within(window.clone(), &mut Budget::default()).unwrap_or_default();
        let at = |moment: Moment| match moment {
            Moment::Instant(at) => Some(at),
            Moment::Floating(at) => at.to_zoned(rule.zone.clone()).ok().map(|at| at.timestamp().as_second()),
            // Whole days are beside everything.
            Moment::Date(_) => None,
        };
        taken.extend(instances.iter().filter_map(|one| Some((at(one.start)?, at(one.end)?))));
    }
    let length = PROBE_LENGTH.as_secs();
    let quarters = (0..13 * 4).map(|quarter| morning.as_second() + quarter * length);
    let is_free =
        |start: &i64| taken.iter().all(|(from, to)| *to + away <= *start || *from >= *start + length + away);
    let free = quarters.clone().find(is_free);
    // Where everything is taken, it stands beside something: only joined blocks could not tell it.
    let any = free.or_else(|| quarters.clone().next().filter(|_| away == 0));
    Ok(any.and_then(|at| Timestamp::from_second(at).ok()))
}
