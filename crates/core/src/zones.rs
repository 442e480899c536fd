//! Names of time zones: which place a TZID means.

use std::str::FromStr;
use std::sync::OnceLock;

use jiff::tz::{TimeZone, TimeZoneDatabase};
use windows_timezones::WindowsTimezone;

/// A zone that the bundled database knows.
#[derive(Debug, Clone)]
pub struct ZoneName {
    /// The name in the database, such as `Europe/Ljubljana`.
    pub name: String,
    /// Its rules.
    pub rules: TimeZone,
}

/// The bundled database: a stale copy on the system must not win.
fn database() -> &'static TimeZoneDatabase {
    static BUNDLED: OnceLock<TimeZoneDatabase> = OnceLock::new();
    BUNDLED.get_or_init(TimeZoneDatabase::bundled)
}

/// Finds the zone that a TZID names: as it stands, behind a prefix (`/vendor/2024/Europe/Berlin`), or as a
/// Windows name (`W. Europe Standard Time`, in any case). `None` where it is unknown; nothing is guessed.
#[must_use]
pub fn resolve_zone(tzid: &str) -> Option<ZoneName> {
    let tzid = tzid.trim().trim_matches('"');
    database_zone(tzid).or_else(|| by_suffix(tzid)).or_else(|| by_windows_name(tzid))
}

/// Finds a zone by the name it has in the bundled database.
pub(crate) fn database_zone(name: &str) -> Option<ZoneName> {
    let rules = database().get(name).ok()?;
    let name = rules.iana_name().unwrap_or(name).to_owned();
    Some(ZoneName { name, rules })
}

/// Longest suffix first, so that `America/Argentina/Salta` is not taken for a shorter name. A suffix of one
/// part is no place.
fn by_suffix(tzid: &str) -> Option<ZoneName> {
    let starts = tzid.char_indices().filter(|(_, c)| *c == '/').map(|(i, _)| &tzid[i + 1..]);
    starts.filter(|suffix| suffix.contains('/')).find_map(database_zone)
}

fn by_windows_name(tzid: &str) -> Option<ZoneName> {
    let exact = WindowsTimezone::from_str(tzid).ok();
    let zone = exact.or_else(|| WindowsTimezone::from_str(&capitalised(tzid)).ok())?;
    database_zone(zone.tzdb_id())
}

fn capitalised(text: &str) -> String {
    let mut start = true;
    let each = |c: char| {
        let changed = if start { c.to_ascii_uppercase() } else { c.to_ascii_lowercase() };
        start = !c.is_alphanumeric();
        changed
    };
    text.chars().map(each).collect::<String>().replace("Utc", "UTC")
}

/// Another name for rules that differ from those under the first.
pub(crate) fn numbered(id: &str, number: usize) -> String {
    format!("{id} ({number})")
}

/// Takes the number off again: which one it is depends on what else the calendar holds.
pub(crate) fn unnumbered(id: &str) -> &str {
    let id = id.trim();
    let bare = id.strip_suffix(')').and_then(|rest| rest.rsplit_once(" ("));
    match bare {
        Some((bare, number)) if !number.is_empty() && number.bytes().all(|b| b.is_ascii_digit()) => bare,
        _ => id,
    }
}
