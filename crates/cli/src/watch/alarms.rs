//! What is looked at once a day: certificates that end, feeds in which nothing changes.

use std::time::Duration;

use chestnut_caldav::connection_check::{connect, look_at_certificate, resolve};
use chestnut_engine::Signs;
use chestnut_store::{Store, StoreError, TroubleKind};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;

use crate::environment::Environment;
use crate::settings::{Connections, Settings, http_options};

/// A certificate that lasts shorter is told of; one with a short life, when a third of it is left.
const WARN_BEFORE: SignedDuration = SignedDuration::from_hours(14 * 24);
const PATIENCE: Duration = Duration::from_secs(10);

/// Looks at the certificates of all accounts, one after the other. What cannot be reached says nothing here: rounds
/// tell of that.
pub(super) async fn certificates(
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
        let is_soon = left < WARN_BEFORE.min(life / 3);
        let days = left.as_hours().div_euclid(24);
        signs.note(TroubleKind::CertificateEnds, name, is_soon.then(|| json!({ "days": days })));
    }
}

/// Looks whether something has changed lately in what can only be read.
pub(super) async fn quiet_feeds(
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
    }
    Ok(())
}
