//! What is looked at about once a day: certificates that end, accounts that are nearly full, feeds in which nothing changes.

use std::collections::BTreeMap;
use std::time::Duration;

use chestnut_caldav::connection_check::{connect, look_at_certificate, resolve};
use chestnut_caldav::oauth::TokenKeeper as _;
use chestnut_engine::Signs;
use chestnut_store::{CalendarId, Store, StoreError, TroubleKind};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;

use crate::environment::Environment;
use crate::settings::{Connections, Keeper, Settings, SignInSettings, http_options, keep_of};

/// Percent of its room from which on an account is nearly full.
const FULL: u64 = 95;
const PATIENCE: Duration = Duration::from_secs(10);

/// When it was looked at, as the state remembers it: in seconds since 1970.
const LOOKED_AT: &str = "daily-look";
const A_DAY: i64 = 86_400;
const AN_HOUR: i64 = 3600;

/// Whether it is time to look again: a day after the last look; while something lasts that a person was told of and may
/// have mended, an hour.
pub(crate) fn is_due(store: &Store, now: Timestamp) -> Result<bool, StoreError> {
    let last: Option<i64> = store.meta(LOOKED_AT)?.and_then(|text| text.parse().ok());
    let Some(at) = last else { return Ok(true) };
    let may_be_mended = |kind| {
        matches!(kind, TroubleKind::CertificateEnds | TroubleKind::TokenEnds | TroubleKind::NearlyFull)
    };
    let is_waited_for = store.open_troubles(i64::MAX)?.iter().any(|row| may_be_mended(row.kind));
    let pause = if is_waited_for { AN_HOUR } else { A_DAY };
    // A moment that is still to come was noted under a wrong clock.
    Ok(!(0..pause).contains(&(now.as_second() - at)))
}

/// Looks at all of it, and notes that it did.
pub(crate) async fn daily_look(
    settings: &Settings,
    store: &Store,
    connections: &Connections<'_>,
    environment: &Environment,
    now: Timestamp,
) -> Result<Signs, StoreError> {
    let mut signs = Signs::default();
    certificates(settings, connections, environment, now, &mut signs).await;
    ending_sign_ins(settings, environment, now, &mut signs);
    full_accounts(settings, connections, &mut signs).await;
    quiet_feeds(settings, store, connections, now, &mut signs).await?;
    store.write(|writer| writer.set_meta(LOOKED_AT, &now.as_second().to_string()))?;
    Ok(signs)
}

/// Looks at the certificates of all accounts, one after the other. What cannot be reached says nothing here: rounds
/// tell of that.
async fn certificates(
    settings: &Settings,
    connections: &Connections<'_>,
    environment: &Environment,
    now: Timestamp,
    signs: &mut Signs,
) {
    for (name, account) in &settings.accounts {
        let Ok(url) = connections.start(name).await else { continue };
        let (Some(host), true) = (url.host_str(), url.scheme() == "https") else { continue };
        let options = http_options(name, account, settings.base(), environment);
        // A proxy shows its own, or none.
        if options.is_ok_and(|options| options.proxies.on_the_way_to(&url).is_some()) {
            continue;
        }
        let look = async {
            let port = url.port_or_known_default().unwrap_or(443);
            let found = resolve(host, port, PATIENCE).await.ok()?;
            let stream = connect(&format!("{host}:{port}"), &found, PATIENCE).await.ok()?;
            look_at_certificate(host, stream, PATIENCE).await.ok()
        };
        let Some(facts) = look.await else { continue };
        let left = facts.until.duration_since(now);
        let life = facts.until.duration_since(facts.from);
        let is_soon = left < account.warn_before.min(life / 3);
        let days = left.as_hours().div_euclid(24);
        signs.note(TroubleKind::CertificateEnds, name, is_soon.then(|| json!({ "days": days })));
    }
}

/// Looks when sign-ins end that somebody has to do again, as far as their servers said.
fn ending_sign_ins(settings: &Settings, environment: &Environment, now: Timestamp, signs: &mut Signs) {
    for (name, account) in &settings.accounts {
        let SignInSettings::OAuth(oauth) = &account.sign_in else { continue };
        let keep = keep_of(name, oauth, settings.base());
        let keeper = Keeper { keep, account: name.clone(), environment: environment.clone() };
        let Ok(tokens) = keeper.load() else { continue };
        let facts = tokens.sign_in_ends().and_then(|(at, lasts)| {
            let left = at.saturating_sub(now.as_second());
            let is_soon = left < account.warn_before.as_secs().min(lasts / 3);
            is_soon.then(|| json!({ "days": left.div_euclid(A_DAY) }))
        });
        signs.note(TroubleKind::TokenEnds, name, facts);
    }
}

/// Asks for the room that is left in one of the calendars of each account that routes write to (RFC 4331); a server that
/// does not tell says nothing.
async fn full_accounts(settings: &Settings, connections: &Connections<'_>, signs: &mut Signs) {
    let mut asked = BTreeMap::new();
    for name in settings.routes.values().flat_map(|route| route.writes()) {
        if let Some(account) = settings.calendars.get(name).and_then(|calendar| calendar.account.as_ref()) {
            asked.entry(account).or_insert(name);
        }
    }
    for (account, calendar) in asked {
        let (Ok(url), Ok(client)) = (connections.url(calendar).await, connections.client(account)) else {
            continue;
        };
        let Ok(found) = client.calendar(&url).await else { continue };
        let (Some(room), Some(used)) = (found.room, found.used) else { continue };
        let percent = used.saturating_mul(100) / used.saturating_add(room).max(1);
        let facts = (percent >= FULL).then(|| json!({ "percent": percent }));
        signs.note(TroubleKind::NearlyFull, account, facts);
    }
}

/// Looks whether something has changed lately in what can only be read.
async fn quiet_feeds(
    settings: &Settings,
    store: &Store,
    connections: &Connections<'_>,
    now: Timestamp,
    signs: &mut Signs,
) -> Result<(), StoreError> {
    for (name, calendar) in settings.calendars.iter().filter(|(_, one)| one.place.is_read_only()) {
        let Ok(end) = connections.calendar(name).await else { continue };
        let Some(mirror) = store.mirror(&end.calendar.place())? else { continue };
        let moments = [mirror.facts.changed_at, mirror.facts.first_read_at];
        let Some(at) = moments.into_iter().flatten().max() else { continue };
        let age = SignedDuration::from_secs(now.as_second().saturating_sub(at));
        let days = age.as_hours() / 24;
        signs.note(
            TroubleKind::FeedQuiet,
            name,
            (age > calendar.quiet_after).then(|| json!({ "days": days })),
        );
        signs.note(TroubleKind::FeedShrunk, name, shrunk(store, name, mirror.id, now)?);
    }
    Ok(())
}

/// A feed of fewer entries may well lose half of them.
const FEW: usize = 20;
/// So many seconds a feed may be smaller before that is taken for meant.
const MEANT: i64 = 7 * A_DAY;

/// What is left of a feed, where that is less than half of what stood there when it was last as it should be.
fn shrunk(
    store: &Store,
    name: &str,
    calendar: CalendarId,
    now: Timestamp,
) -> Result<Option<serde_json::Value>, StoreError> {
    let size = format!("feed-size {name}");
    let is = store.count(calendar)?;
    let known = store.meta(&size)?;
    let known = known.as_ref().and_then(|text| text.split_once(' '));
    if let Some((was, at)) =
        known.and_then(|(was, at)| Some((was.parse::<usize>().ok()?, at.parse::<i64>().ok()?)))
    {
        let is_meant = !(0..MEANT).contains(&(now.as_second() - at));
        if was >= FEW && is * 2 < was && !is_meant {
            return Ok(Some(json!({ "was": was, "is": is })));
        }
    }
    store.write(|writer| writer.set_meta(&size, &format!("{is} {}", now.as_second())))?;
    Ok(None)
}

#[cfg(test)]
mod tests {
    use chestnut_store::Store;
    use chestnut_testkit::add_object;
    use jiff::{SignedDuration, Timestamp};

    use super::shrunk;

    /// Half a feed that goes is told for a week, a few entries are not.
    #[test]
    fn a_feed_that_loses_most_is_told_of_for_a_week() {
        let store = Store::in_memory().expect("a state");
        let calendar = store.write(|writer| writer.calendar("feed days")).expect("a mirror");
        let mut objects = Vec::new();
        for number in 0..30 {
            objects.push(add_object(&store, calendar, &format!("/{number}"), "uid", "text"));
        }
        let day = |days: i64| Timestamp::UNIX_EPOCH + SignedDuration::from_hours(24 * days);
        let look = |days: i64| shrunk(&store, "days", calendar, day(days)).expect("read");
        let bury = |range: std::ops::Range<usize>| {
            for object in &objects[range] {
                store.write(|writer| writer.bury(calendar, *object)).expect("buried");
            }
        };
        assert_eq!(look(0), None);
        bury(0..5);
        assert_eq!(look(1), None, "some days pass");
        bury(5..20);
        let told = look(2).expect("most is gone");
        assert_eq!((&told["was"], &told["is"]), (&25.into(), &10.into()));
        assert!(look(6).is_some());
        assert_eq!(look(9), None, "after a week it is meant");
        bury(20..28);
        assert_eq!(look(10), None, "few entries may well go");
    }
}
