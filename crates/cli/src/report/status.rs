//! What `status` reports: how every route is doing.

use std::collections::BTreeMap;

use chestnut_engine::{Makes, is_behind, last_comparison};
use chestnut_store::{LinkState, ProbeRow, RunRecord, RunResult, Store};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use super::held::number_held;
use super::trouble::{OpenTrouble, Untold, open_troubles, untold};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::running::rest_of;
use crate::settings::{RouteSettings, Settings, has_older_key, uncovered_calendars};
use crate::watch::Watcher;
use crate::words::{kept_failure_words, run_cut_off, trouble_words};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) routes: Vec<RouteStatus>,
    /// Calendars of the configuration that no route uses.
    pub(crate) uncovered: Vec<String>,
    /// Test entries that a probe could not take away.
    pub(crate) probe_leftovers: Vec<ProbeLeft>,
    /// Nothing ever ran in this state, and its key was used before: copies of an earlier state may stand.
    pub(crate) new_state: bool,
    /// What is wrong, and has not ended.
    pub(crate) troubles: Vec<OpenTrouble>,
    /// What `on-trouble` could not be told so far.
    pub(crate) untold: Vec<Untold>,
    /// Who keeps the routes running.
    pub(crate) watch: Option<Watching>,
    /// Who else does, of a state that several machines share.
    pub(crate) other_watches: Vec<Watching>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Watching {
    pub(crate) process: u32,
    /// Its machine, where it is another one than this.
    pub(crate) machine: Option<String>,
    pub(crate) since: String,
}

impl Watching {
    fn of(watcher: &Watcher) -> Self {
        let Watcher { process, machine, since } = watcher;
        Self { process: *process, machine: machine.clone(), since: since.to_string() }
    }
}

impl Report {
    /// How all routes are doing.
    pub(crate) fn of(
        settings: &Settings,
        store: &Store,
        now: Timestamp,
        stale_after: Option<SignedDuration>,
        watchers: &[Watcher],
    ) -> Result<Self, Failure> {
        let _still = store.hold_still()?;
        let chosen = settings.chosen_routes(&[])?;
        let is_watched = !watchers.is_empty();
        let mut watches = watchers.iter().map(Watching::of);
        let routes =
            chosen.into_iter().map(|route| status(settings, store, route, now, stale_after, is_watched));
        Ok(Self {
            routes: routes.collect::<Result<_, _>>()?,
            uncovered: uncovered_calendars(settings).map(str::to_owned).collect(),
            probe_leftovers: store.probes()?.into_iter().map(ProbeLeft::of).collect(),
            new_state: has_older_key(settings, store)? && store.runs(None, 1)?.is_empty(),
            troubles: open_troubles(settings, store, now)?,
            untold: untold(store)?,
            watch: watches.next(),
            other_watches: watches.collect(),
        })
    }
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct ProbeLeft {
    pub(crate) route: String,
    pub(crate) calendar: String,
    pub(crate) path: String,
    pub(crate) since: String,
}

impl ProbeLeft {
    pub(crate) fn of(row: ProbeRow) -> Self {
        let (calendar, path) = (row.calendar, row.href.to_string());
        Self { route: row.route, calendar, path, since: row.since.to_string() }
    }
}

/// The one word for a route: the first that is true.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(crate) enum State {
    Running,
    Paused,
    NeverRun,
    Failed,
    Held,
    /// What is known to have changed was not brought yet, or no run went well for too long.
    Behind,
    InStep,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct RouteStatus {
    pub(crate) route: String,
    pub(crate) calendars: Vec<String>,
    pub(crate) two_way: bool,
    pub(crate) state: State,
    pub(crate) running: bool,
    pub(crate) paused: bool,
    pub(crate) paused_until: Option<String>,
    /// Since when it is paused, as far as that is known.
    pub(crate) paused_since: Option<String>,
    /// The account that is paused, where it is not the route alone.
    pub(crate) paused_account: Option<String>,
    /// What the configuration says that people should know.
    pub(crate) note: Option<String>,
    pub(crate) never_run: bool,
    pub(crate) failed: bool,
    pub(crate) behind: bool,
    /// No run went well for longer than `stale-after`.
    pub(crate) stale: bool,
    pub(crate) last_run: Option<i64>,
    pub(crate) last_began: Option<String>,
    #[cfg_attr(test, schemars(with = "Option<super::schema::RunResult>"))]
    pub(crate) last_result: Option<RunResult>,
    pub(crate) last_success: Option<String>,
    /// In seconds.
    pub(crate) last_success_age: Option<i64>,
    pub(crate) in_step: usize,
    pub(crate) held: usize,
    pub(crate) left_out: BTreeMap<String, usize>,
    pub(crate) troubles: Vec<Trouble>,
    pub(crate) error: Option<String>,
    pub(crate) needs_a_person: bool,
    /// What the last comparison came to.
    pub(crate) compared: Option<Compared>,
    #[serde(skip)]
    pub(crate) way: String,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Trouble {
    pub(crate) title: String,
    pub(crate) reason: String,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Compared {
    pub(crate) at: String,
    /// In seconds.
    pub(crate) age: i64,
    pub(crate) in_step: usize,
    /// Entries that should have been in step, and were not.
    pub(crate) not_in_step: usize,
}

impl RouteStatus {
    /// How a route is doing.
    pub(crate) fn of(
        settings: &Settings,
        store: &Store,
        route: (&str, &RouteSettings),
        now: Timestamp,
        stale_after: Option<SignedDuration>,
        is_watched: bool,
    ) -> Result<Self, Failure> {
        let _still = store.hold_still()?;
        status(settings, store, route, now, stale_after, is_watched)
    }

    /// What it comes to for scripts.
    pub(crate) fn code(&self) -> ExitCode {
        match self.state {
            State::Paused => ExitCode::Ok,
            _ if self.failed => ExitCode::Failed,
            _ if self.needs_a_person => ExitCode::Waiting,
            _ => ExitCode::Ok,
        }
    }
}

/// How long a route may go without a run that went well: what was asked for, else what the route says.
fn is_stale(success: Option<Timestamp>, now: Timestamp, after: Option<SignedDuration>) -> bool {
    let age = success.map(|at| now.duration_since(at));
    age.zip(after).is_some_and(|(age, after)| age > after)
}

/// How long a route may go without a run that went well, where nobody says.
pub(crate) fn stale_after(route: &RouteSettings, is_watched: bool) -> SignedDuration {
    let usual = match is_watched {
        true => route.every.saturating_mul(2).saturating_add(SignedDuration::from_mins(10)),
        // A timer may sync once a day.
        false => SignedDuration::from_hours(26),
    };
    route.stale_after.unwrap_or(usual)
}

fn status(
    settings: &Settings,
    store: &Store,
    (name, route): (&str, &RouteSettings),
    now: Timestamp,
    asked: Option<SignedDuration>,
    is_watched: bool,
) -> Result<RouteStatus, Failure> {
    let mut runs = store.runs(Some(name), 2)?.into_iter();
    let newest = runs.next();
    let running = newest.as_ref().is_some_and(|run| run.is_running);
    // While a run goes on, what the one before came to is what is known.
    let record: Option<RunRecord> = if running { runs.next() } else { newest };
    let known = store.route(name)?;
    let success = known.as_ref().and_then(|route| route.well_at);
    let id = known.as_ref().map(|route| route.id);
    let mut troubles = id.map(|id| store.troubles(id)).transpose()?.unwrap_or_default();
    // What was begun and is not done has nothing to tell yet.
    troubles.retain(|(_, told)| told.is_some() || !running);
    let tally = id.map(|id| store.tally(id)).transpose()?.unwrap_or_default();
    let result = record.as_ref().map(|r| r.result.unwrap_or(RunResult::Failed));
    // What an earlier run met with is told until it is over.
    let failed = result.is_some() && (!troubles.is_empty() || result == Some(RunResult::Failed));
    // What waits goes on waiting, whatever the last run came to.
    let held = id.map(|id| store.held(Some(id))).transpose()?.map_or(0, |items| number_held(&items));
    let stale = is_stale(success, now, Some(asked.unwrap_or_else(|| stale_after(route, is_watched))));
    let is_due = known.as_ref().map(|known| is_behind((name, known), route.makes, store, now.as_second()));
    let is_due = is_due.transpose()?.unwrap_or_default();
    let rest = rest_of(settings, store, (name, route), now)?;
    let paused = rest.is_some();
    let paused_account = rest.as_ref().and_then(|rest| rest.account.clone());
    let paused_until = rest.and_then(|rest| rest.until).and_then(|at| Timestamp::from_second(at).ok());
    let never_run = record.is_none() && success.is_none();
    let behind = stale || is_due;
    let state = match () {
        () if running => State::Running,
        () if paused => State::Paused,
        () if never_run => State::NeverRun,
        () if failed => State::Failed,
        () if held > 0 => State::Held,
        () if behind => State::Behind,
        () => State::InStep,
    };
    let left_out = match route.makes {
        Makes::Entries => tally.left_out.clone(),
        // What is made of entries is counted by them.
        _ => record.as_ref().map(|r| r.summary.left_out.clone()).unwrap_or_default(),
    };
    let compared = last_comparison(store, name)?.map(|(at, compared)| Compared {
        at: at.to_string(),
        age: now.duration_since(at).as_secs(),
        in_step: compared.in_step,
        not_in_step: compared.findings.iter().filter(|finding| finding.cause.is_trouble()).count(),
    });
    Ok(RouteStatus {
        route: name.to_owned(),
        calendars: route.ends.clone(),
        two_way: route.is_two_way,
        state,
        running,
        paused,
        paused_since: match paused {
            true => store.paused_since(name)?.map(|at| at.to_string()),
            false => None,
        },
        paused_until: paused_until.map(|at| at.to_string()),
        paused_account,
        note: route.note.clone(),
        never_run,
        failed,
        behind,
        stale,
        last_run: record.as_ref().map(|r| r.id.0),
        last_began: record.as_ref().map(|r| r.started.to_string()),
        last_result: if failed { Some(RunResult::Failed) } else { result },
        last_success: success.map(|at| at.to_string()),
        last_success_age: success.map(|at| now.duration_since(at).as_secs()),
        in_step: tally.of(LinkState::InStep),
        held,
        left_out,
        troubles: troubles
            .into_iter()
            .map(|(title, told)| Trouble { title, reason: trouble_words(told.as_ref()) })
            .collect(),
        error: record.as_ref().and_then(|run| match (&run.summary.error, run.result) {
            (Some(error), _) => Some(kept_failure_words(error)),
            (None, None) => Some(run_cut_off(run.id.0)),
            (None, Some(_)) => None,
        }),
        needs_a_person: !paused && (failed || held > 0 || stale || never_run && !running),
        compared,
        way: route.way(),
    })
}
