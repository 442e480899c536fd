//! Makes a calendar on a server, at a place that says what it is.

use chestnut_caldav::Client;
use chestnut_caldav::protocol::{CalendarInfo, Found, NewCalendar};
use url::Url;

use crate::failure::Failure;
use crate::settings::{ConfigurationText, Connections};
use crate::words::{made_and_not_there, no_home, not_made, server_has_calendar};

pub(crate) async fn make(
    connections: &Connections<'_>,
    account: &str,
    new: &NewCalendar,
) -> Result<CalendarInfo, Failure> {
    let found = connections.discover(account).await?;
    let client = connections.client(account)?;
    if found.calendars.iter().any(|c| c.name == new.name) {
        return Err(server_has_calendar(account, &new.name));
    }
    let url = free_place(&found, &new.name).ok_or_else(|| no_home(account))?;

    let answered = client.make_calendar(&url, new).await;
    // Whether it stands there counts more than the answer.
    match look(&client, &url).await {
        Some(info) => Ok(info),
        None => Err(match answered {
            Err(error) => not_made(account, &error),
            Ok(()) => made_and_not_there(account),
        }),
    }
}

pub(crate) async fn look(client: &Client, url: &Url) -> Option<CalendarInfo> {
    client.capabilities(url).await.ok().map(|found| found.info)
}

/// A place in the first home whose name says what it is: letters, digits and hyphens, which every server takes.
pub(crate) fn free_place(found: &Found, name: &str) -> Option<Url> {
    let home = found.homes.first()?;
    let slug = slug(name, "calendar");
    let base = home.path().trim_end_matches('/');
    let taken = |path: &str| found.calendars.iter().any(|c| c.url.path().trim_end_matches('/') == path);
    let numbered = std::iter::once(slug.clone()).chain((2..1000).map(|n| format!("{slug}-{n}")));
    let free = numbered.map(|name| format!("{base}/{name}")).find(|path| !taken(path))?;
    let mut url = home.clone();
    url.set_path(&format!("{free}/"));
    Some(url)
}

/// A name for the configuration out of words, which nothing of this kind has yet.
pub(crate) fn free_name(text: &ConfigurationText, kind: &str, words: &str) -> String {
    let mut name = slug(words, kind);
    while text.has(kind, &name) {
        name = next_name(&name);
    }
    name
}

/// `board`, `board-2`, `board-3`.
fn next_name(name: &str) -> String {
    match name.rsplit_once('-').and_then(|(stem, number)| Some((stem, number.parse::<u32>().ok()?))) {
        Some((stem, number)) => format!("{stem}-{}", number + 1),
        None => format!("{name}-2"),
    }
}

/// A name for the configuration out of words.
pub(crate) fn slug(words: &str, kind: &str) -> String {
    let lower = words.to_lowercase().replace(|c: char| !c.is_ascii_alphanumeric(), "-");
    let parts: Vec<_> = lower.split('-').filter(|part| !part.is_empty()).collect();
    let slug: String = parts.join("-").chars().take(40).collect();
    if slug.is_empty() { kind.to_owned() } else { slug }
}
