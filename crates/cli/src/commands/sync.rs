//! `chestnut sync`: runs routes now.

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::rc::Rc;

use chestnut_core::People;
use chestnut_engine::{Only, Rule, RunOptions, Signs, Silent, preview_route, select_entries};
use chestnut_store::Store;
use jiff::Timestamp;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load, open_state, state_path};
use crate::progress::Bars;
use crate::questions::Questions;
use crate::render::human::preview::first_summary;
use crate::render::human::sync::{human, unwell};
use crate::render::{Clock, moment_text, style};
use crate::report::route::gone;
use crate::report::sync::{Outcome, Report, Run, begun, not_begun};
use crate::running::{Runner, rest_of};
use crate::settings::{Connections, RouteSettings, Settings, route_key, side_by_side};
use crate::troubles::{self, Happened, Observer, Teller, daily_look, settle};
use crate::wanted::all_wanted;
use crate::watch::Presence;
use crate::words::{
    WRITE_NOW, gone_words, interrupted_sync, invitation_warning, never_ran, nowhere, passed_over,
    pause_words, stops_routes, was_not_begun,
};

/// How to sync.
#[derive(Debug, Clone, Copy)]
pub(crate) struct How<'h> {
    /// New routes begin without a question.
    pub(crate) yes: bool,
    pub(crate) allow_deletions: bool,
    pub(crate) afresh: bool,
    /// Nothing but routes whose last run is longer ago than their `every`.
    pub(crate) only_due: bool,
    /// Nothing but these entries.
    pub(crate) entries: &'h [String],
}

pub(crate) fn run(
    routes: &[String],
    how: &How<'_>,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let mut chosen = settings.chosen_routes(routes)?;
    let store = open_state(common, &settings, &io.environment)?;
    let mut paused = String::new();
    let now = io.environment.now()?;
    let clock = Clock::at(now, &settings.zone);
    for (name, route) in chosen.clone() {
        if let Some(rest) = rest_of(&settings, &store, (name, route), now)? {
            chosen.retain(|(other, _)| *other != name);
            let moment = |at| moment_text(at, &clock);
            let until = rest.until.and_then(|at| Timestamp::from_second(at).ok()).map(moment);
            let since = store.paused_since(name)?.map(moment);
            let when = pause_words(until.as_deref(), since.as_deref());
            paused += &passed_over(name, rest.account.as_deref(), &when);
        } else if how.only_due && !is_due(&store, name, route, now)? {
            chosen.retain(|(other, _)| *other != name);
        }
    }
    if !paused.is_empty() {
        paused = style::paint(style::WARN, paused);
    }
    let gone: String = gone(&store, &settings)?.iter().map(|name| gone_words(name)).collect();
    let key = route_key(&settings, &store, true)?;
    let names_all = common.verbose > 0;
    let options = RunOptions {
        allow_deletions: how.allow_deletions,
        afresh: how.afresh,
        measure: !io.environment.clock_is_fixed(),
        names_all,
        // Who wants to read nothing is a clock, not a person.
        is_asked: !common.quiet,
        ..RunOptions::at(now)
    };
    let wanted = all_wanted(how.entries, &clock);
    let environment = io.environment.clone();
    let connections = Connections::new(&settings, &environment).keeping(&store, options.now);
    let bars = Bars::new(io.progress && !common.quiet);
    let asked = First { how, store: &store, connections: &connections, key: &key, options: &options };
    let mut refused = BTreeMap::new();
    let mut known = BTreeMap::new();
    for (name, route) in &chosen {
        let state = store.route(name)?;
        known.extend(state.as_ref().map(|state| (*name, state.id)));
        let has_run = state.is_some_and(|state| state.ran_at.is_some());
        if !has_run && let Some(failure) = asked.refusal(name, route, io)? {
            refused.insert((*name).to_owned(), failure);
        }
    }
    let refused = RefCell::new(refused);
    let mut before = BTreeMap::new();
    // Asked for only where what is news is told apart.
    let tells_news = !common.quiet && !common.json && common.verbose == 0;
    for (name, _) in chosen.iter().filter(|_| tells_news) {
        let last = store.runs(Some(name), 1)?.into_iter().next();
        before.extend(last.map(|run| ((*name).to_owned(), run.summary.left_out)));
    }
    let groups = side_by_side(&chosen);
    let one = async |name: &str, route: &RouteSettings| {
        if let Some(failure) = refused.borrow_mut().remove(name) {
            return Some(not_begun(name, route, failure));
        }
        let prepared = async |rule: &Rule| {
            let mut options = RunOptions { known: known.get(name).copied(), ..options.clone() };
            if !wanted.is_empty() {
                let selection = select_entries(rule, &store, &options, &wanted).await?;
                if selection.is_empty() {
                    return Ok(None);
                }
                options.only = Some(Rc::new(Only::These(selection)));
            }
            Ok(Some(options))
        };
        // One route that fails does not stop the others.
        let runner = Runner { name, route, key: &key, connections: &connections, store: &store };
        match runner.run(prepared, &bars.route(name)).await {
            Err(failure) => Some(not_begun(name, route, failure)),
            Ok(report) => report
                .map(|report| Run { left_out_before: before.get(name).cloned(), ..begun(route, report) })
                .map(|run| if names_all { run.naming_all() } else { run }),
        }
    };
    let one = &one;
    let work = async {
        // Routes that share no calendar run side by side, the others in order.
        let groups = groups.into_iter().map(|group| async move {
            let mut runs = Vec::new();
            for (name, route) in group {
                runs.extend(one(name, route).await);
            }
            runs
        });
        let mut runs: Vec<Run> = futures_util::future::join_all(groups).await.into_iter().flatten().collect();
        runs.sort_by_key(|run| chosen.iter().position(|(name, _)| *name == run.route));
        runs
    };
    let runs = block_on(async {
        tokio::select! {
            runs = bars.meanwhile(|| connections.waits_for(), work) => Ok(runs),
            () = interrupted_twice(Rc::clone(&options.stop)) => {
                Err(interrupted_sync())
            }
        }
    })??;
    if !wanted.is_empty() && runs.is_empty() && !chosen.is_empty() {
        return Err(nowhere(how.entries, &chosen));
    }
    let report = Report { runs };
    let is_watched = !Presence::all(&state_path(common, &settings), &store)?.is_empty();
    if wanted.is_empty() {
        let daily = match troubles::is_due(&store, now)? {
            true => block_on(daily_look(&settings, &store, &connections, &io.environment, now))??,
            false => Signs::default(),
        };
        tell_of_troubles(&settings, &store, (&report.runs, daily), now, is_watched)?;
    }
    let whole = io.screen.is_none();
    show(common, io, &report, || match common.quiet {
        true if routes.is_empty() => unwell(&report.runs, &clock),
        true => unwell(&report.runs, &clock) + &paused,
        false => human(&report.runs, &clock, whole, common.verbose > 0) + &paused + &gone,
    })?;
    if !common.json {
        tell_failures(&report.runs, io)?;
    }
    let code = report.runs.iter().map(Run::code).max().unwrap_or(ExitCode::Ok);
    // Who named a route meant it to run.
    let code = if routes.is_empty() || paused.is_empty() { code } else { code.max(ExitCode::Waiting) };
    // Only where nothing at all was begun, it was wrong usage.
    let is_begun = report.runs.iter().any(|run| run.run.is_some());
    Ok(if is_begun && code == ExitCode::Usage { ExitCode::Failed } else { code })
}

/// Tells what failed, last, so that it is not passed over: one cause once, with all routes that it stops.
fn tell_failures(runs: &[Run], io: &mut Io<'_>) -> Result<(), Failure> {
    // An account is one cause, whatever of its calendars the words are about.
    let is_one = |a: &Failure, b: &Failure| {
        let of = |failure: &Failure| {
            failure.fault.as_ref().map(|fault| (fault.account.clone(), fault.is_sign_in()))
        };
        of(a) == of(b) && (a.fault.is_some() || a.message == b.message)
    };
    let mut causes: Vec<(&Failure, Vec<&str>)> = Vec::new();
    for run in runs.iter().filter(|run| run.result != Outcome::Waiting) {
        let Some(failure) = &run.failure else { continue };
        match causes.iter_mut().find(|(known, _)| is_one(known, failure)) {
            Some((_, routes)) => routes.push(&run.route),
            None => causes.push((failure, vec![&run.route])),
        }
    }
    for (failure, routes) in causes {
        io.say(&failure.lines())?;
        if routes.len() > 1 {
            io.say(&stops_routes(&routes))?;
        }
    }
    Ok(())
}

/// Whether a route's last run is long enough ago; one that never ran is told of, as ever.
fn is_due(store: &Store, name: &str, route: &RouteSettings, now: Timestamp) -> Result<bool, Failure> {
    let last = store.runs(Some(name), 1)?.into_iter().next().map(|run| run.started);
    let last = last.max(store.route(name)?.and_then(|known| known.well_at));
    // A timer that comes a little early still counts.
    let every = route.every - route.every / 20;
    Ok(last.is_none_or(|at| at > now || now.duration_since(at) >= every))
}

/// What began and ended with these runs; a program that wants to know is told.
fn tell_of_troubles(
    settings: &Settings,
    store: &Store,
    (runs, daily): (&[Run], Signs),
    now: Timestamp,
    is_watched: bool,
) -> Result<(), Failure> {
    let mut observer = Observer::new(settings);
    observer.signs = daily;
    for run in runs {
        let Some(route) = settings.routes.get(&run.route) else { continue };
        let happened = Happened::of(run.cause.as_ref(), run.failure.as_ref());
        observer.route(store, (&run.route, route), &happened, now, is_watched)?;
    }
    settle(settings, store, observer.signs, now)?;
    if settings.left_running.on_trouble.is_some() {
        block_on(Teller { settings, store }.tell(|| now))??;
    }
    Ok(())
}

/// A route that never ran asks before it writes: it is the one moment at which a mistake reaches everything.
struct First<'f> {
    how: &'f How<'f>,
    store: &'f Store,
    connections: &'f Connections<'f>,
    key: &'f [u8],
    options: &'f RunOptions,
}

impl First<'_> {
    /// Why a route that never ran does not run now; `None` where it does.
    fn refusal(
        &self,
        name: &str,
        route: &RouteSettings,
        io: &mut Io<'_>,
    ) -> Result<Option<Failure>, Failure> {
        if route.carry.people == People::Invite {
            io.say(&invitation_warning(name, &route.to()))?;
        }
        if self.how.yes {
            return Ok(None);
        }
        let Some(mut questions) = Questions::of_terminal(io.can_ask) else {
            return Ok(Some(never_ran(name)));
        };
        let preview = block_on(async {
            let ready = self.connections.route(name, route, self.key).await?;
            Ok::<_, Failure>(preview_route(&ready, self.store, self.options, &Silent).await?)
        })?;
        // What cannot be read fails in the run, and is told there.
        let Ok(preview) = preview else { return Ok(None) };
        if preview.changes.iter().all(|change| change.action == "link") {
            return Ok(None);
        }
        io.say(&first_summary(name, route, &preview))?;
        Ok(match questions.yes(WRITE_NOW, false)? {
            true => None,
            false => Some(was_not_begun(name)),
        })
    }
}

/// The first Ctrl-C lets what is in flight finish; the second one ends at once.
async fn interrupted_twice(stop: Rc<Cell<bool>>) {
    for asked in 1.. {
        if tokio::signal::ctrl_c().await.is_err() {
            std::future::pending::<()>().await;
        }
        stop.set(true);
        if asked == 2 {
            return;
        }
    }
}
