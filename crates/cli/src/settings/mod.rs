//! The configuration: from a TOML file to values, once; and from values to routes that can run.

mod account;
mod calendar;
mod carry;
mod choice;
mod colours;
mod connect;
mod durations;
mod edit;
mod file;
mod idle;
mod included;
mod keyring;
#[cfg(test)]
mod laws;
mod left_running;
mod names;
mod nearest;
mod order;
mod reach;
mod reader;
mod redact;
mod route;
mod secrets;
mod start;
mod state;
mod tokens;
mod uses;

pub(crate) use account::{AccountSettings, OAuthSettings, ProxySettings, SignInSettings, no_origin, start};
pub(crate) use calendar::{CalendarSettings, FeedSource, Place};
pub(crate) use connect::{Connections, has_older_key, route_key};
pub(crate) use durations::parse_duration;
pub(crate) use edit::{ConfigurationText, check_name, oauth_value, path_from, secret_value};
pub(crate) use file::{Settings, find};
pub(crate) use idle::{Idle, idle};
pub(crate) use keyring::{
    IS_THERE as KEYRING_IS_THERE, forget as forget_in_keyring, read as read_from_keyring,
    write as write_to_keyring,
};
pub(crate) use names::names_of;
pub(crate) use nearest::nearest;
pub(crate) use order::side_by_side;
pub(crate) use reach::{http_options, oauth_client};
pub(crate) use reader::Whence;
pub(crate) use redact::{Scrubber, redacted};
pub(crate) use route::RouteSettings;
pub(crate) use secrets::{
    SecretSource, password_file, read_secret, replace_private, typed_secret, write_private,
};
pub(crate) use start::{ResolvedStart, default_resolver};
pub(crate) use state::StateSettings;
pub(crate) use tokens::{Keep, Keeper, keep_of};
pub(crate) use uses::{routes_of, uncovered_calendars, used_by};

/// Tells whether a text is a configuration.
///
/// # Errors
/// What is wrong with it, as the program says it.
pub fn check_configuration(text: &str) -> Result<(), String> {
    Settings::parse(std::path::Path::new("chestnut.toml"), text, &[])
        .map(drop)
        .map_err(|failure| failure.lines())
}
