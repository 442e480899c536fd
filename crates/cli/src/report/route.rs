//! What the `route` commands report.

use chestnut_core::Shows;
use chestnut_engine::is_passing;
use chestnut_store::{RunResult, Store};
use jiff::Timestamp;
use serde::Serialize;

use crate::failure::Failure;
use crate::settings::{RouteSettings, Settings, Whence};
use crate::words::keys::{self, Default, Key, Ways};
use crate::words::shows_words;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) routes: Vec<Line>,
}

/// What `route show` reports.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Shown {
    pub(crate) routes: Vec<Whole>,
}

/// A route with all its settings.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Whole {
    #[serde(flatten)]
    pub(crate) line: Line,
    pub(crate) settings: Vec<Setting>,
}

/// A key of a route, and what holds for it.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Setting {
    pub(crate) key: &'static str,
    /// As it is written in the file, on one line; where nothing was said and the default is no value, words.
    pub(crate) value: String,
    /// Whether the configuration says so; else it is the default.
    pub(crate) said: bool,
    /// Which table says so: this route's own (`route`), another route's by its name (`like NAME`), or that of all
    /// routes (`defaults`).
    pub(crate) said_by: Option<String>,
    #[serde(skip)]
    pub(crate) means: String,
}

/// The settings that hold for a route, in the order of the reference.
pub(crate) fn settings(route: &RouteSettings) -> Vec<Setting> {
    let setting = |key: &Key| {
        let said = route.said.get(key.name);
        let is_busy = matches!(route.carry.shows, Shows::Busy(_));
        let applies = match key.ways {
            _ if key.is_of_busy && !is_busy => false,
            Ways::All => true,
            Ways::OneWay => !route.is_two_way,
            Ways::TwoWay => route.is_two_way,
        };
        let value = match (said, key.default) {
            (Some((said, _)), _) => said.clone(),
            (None, Default::Value(words) | Default::Words(words)) if applies => words.to_owned(),
            _ => return None,
        };
        let said_by = said.map(|(_, whence)| match whence {
            Whence::Here => "route".to_owned(),
            Whence::Like(other) => format!("like {other}"),
            Whence::Defaults => "defaults".to_owned(),
        });
        Some(Setting { key: key.name, value, said: said.is_some(), said_by, means: key.plain() })
    };
    keys::ROUTE.iter().filter_map(setting).collect()
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Line {
    pub(crate) route: String,
    pub(crate) calendars: Vec<String>,
    pub(crate) two_way: bool,
    pub(crate) carries: String,
    pub(crate) paused: bool,
    pub(crate) linked: usize,
    #[cfg_attr(test, schemars(with = "Option<super::schema::RunResult>"))]
    pub(crate) last_result: Option<RunResult>,
    /// It ran once, and the configuration no longer has it.
    pub(crate) gone: bool,
    #[serde(skip)]
    pub(crate) way: String,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Retired {
    pub(crate) route: String,
    pub(crate) removed: usize,
}

pub(crate) fn line(
    store: &Store,
    name: &str,
    route: Option<&RouteSettings>,
    now: Timestamp,
) -> Result<Line, Failure> {
    let known = store.route(name)?;
    let tally = known.as_ref().map(|route| store.tally(route.id)).transpose()?.unwrap_or_default();
    let last = store.runs(Some(name), 1)?.into_iter().next();
    Ok(Line {
        route: name.to_owned(),
        calendars: route.map(|route| route.ends.clone()).unwrap_or_default(),
        two_way: route.is_some_and(|route| route.is_two_way),
        carries: route.map(carries).unwrap_or_default(),
        paused: known.is_some_and(|route| route.rests(now.as_second())),
        linked: tally.linked(),
        last_result: last.map(|run| run.result.unwrap_or(RunResult::Failed)),
        gone: route.is_none(),
        way: route.map(RouteSettings::way).unwrap_or_default(),
    })
}

pub(crate) fn carries(route: &RouteSettings) -> String {
    shows_words(&route.carry.shows)
}

/// Routes that ran once, and that the configuration no longer has.
pub(crate) fn gone(store: &Store, settings: &Settings) -> Result<Vec<String>, Failure> {
    let names = store.route_names()?;
    Ok(names.into_iter().filter(|name| !settings.routes.contains_key(name) && !is_passing(name)).collect())
}
