//! What needs what in a configuration.

use std::collections::HashSet;

use super::file::Settings;

/// Returns the routes that use any of these calendars.
pub(crate) fn routes_of(settings: &Settings, names: &[String]) -> Vec<String> {
    let uses = |name: &String| names.contains(name);
    let routes = settings.routes.iter().filter(|(_, r)| r.ends.iter().any(uses));
    routes.map(|(name, _)| name.clone()).collect()
}

/// Returns the calendars that no route uses.
pub(crate) fn uncovered_calendars(settings: &Settings) -> impl Iterator<Item = &str> {
    let used: HashSet<&String> = settings.routes.values().flat_map(|route| &route.ends).collect();
    settings.calendars.keys().filter(move |name| !used.contains(name)).map(String::as_str)
}

/// Returns the calendars that need an account, and the routes that need those.
pub(crate) fn used_by(settings: &Settings, account: &str) -> (Vec<String>, Vec<String>) {
    let own = settings.calendars.iter().filter(|(_, c)| c.account.as_deref() == Some(account));
    let calendars: Vec<String> = own.map(|(name, _)| name.clone()).collect();
    let routes = routes_of(settings, &calendars);
    (calendars, routes)
}
