//! `chestnut probe`: sends a test entry down a route and back, and sees it arrive, move and go.

use std::cell::Cell;
use std::rc::Rc;

use chestnut_core::Test;
use chestnut_engine::{ProbeHow, RunOptions, probe_route, sweep_route};
use chestnut_store::Store;
use jiff::SignedDuration;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show, tell};
use crate::open::{block_on, load, open_state};
use crate::progress::Bars;
use crate::render::human::probe::human;
use crate::report::probe::{Report, RouteProbe};
use crate::running::rest_of;
use crate::settings::{Connections, RouteSettings, Settings, parse_duration, route_key};
use crate::words::{PROBE_TITLE, not_a_duration, probe_while_paused};

/// What is asked for.
pub(crate) struct Asked<'a> {
    pub(crate) routes: &'a [String],
    pub(crate) title: Option<&'a str>,
    pub(crate) wait: Option<&'a str>,
    pub(crate) sweep: bool,
}

pub(crate) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let duration = |text| parse_duration(text).ok_or_else(|| not_a_duration("--wait", text));
    let wait = asked.wait.map(duration).transpose()?;
    let settings = load(common, io)?;
    let chosen = settings.chosen_routes(asked.routes)?;
    let store = open_state(common, &settings, &io.environment)?;
    if !asked.sweep {
        // Told before anything is written.
        for (name, route) in &chosen {
            if rest_of(&settings, &store, (name, route), io.environment.now()?)?.is_some() {
                return Err(probe_while_paused(name));
            }
        }
    }
    let key = route_key(&settings, &store, true)?;
    let connections = Connections::new(&settings, &io.environment);
    let options =
        RunOptions { measure: !io.environment.clock_is_fixed(), ..RunOptions::at(io.environment.now()?) };
    let stop = Rc::new(Cell::new(false));
    let bars = Bars::new(io.progress && !common.quiet);
    let prober = Prober {
        settings: &settings,
        store: &store,
        connections: &connections,
        key: &key,
        options: &options,
    };
    let probes = block_on(async {
        let work = async {
            let mut probes = Vec::new();
            for (name, route) in &chosen {
                probes.push(match asked.sweep {
                    true => prober.sweep(name, route).await,
                    false => prober.probe(name, route, asked.title, wait, &stop).await,
                });
                if stop.get() {
                    break;
                }
            }
            probes
        };
        // Whoever interrupts it waits until it has cleaned up.
        tokio::select! {
            probes = bars.meanwhile(|| connections.waits_for(), work) => probes,
            () = interrupted(&stop) => Vec::new(),
        }
    })?;
    let report = Report { probes };
    let clock = io.environment.clock(&settings.zone)?;
    show(common, io, &report, || human(&report.probes, &clock))?;
    tell(common, io, report.probes.iter().filter_map(|probe| probe.failure.as_ref()))?;
    Ok(report.probes.iter().map(|probe| probe.code).max().unwrap_or(ExitCode::Ok))
}

/// Sets `stop` when a person interrupts, and never ends.
async fn interrupted(stop: &Cell<bool>) {
    while tokio::signal::ctrl_c().await.is_ok() {
        stop.set(true);
    }
    std::future::pending::<()>().await;
}

struct Prober<'p> {
    settings: &'p Settings,
    store: &'p Store,
    connections: &'p Connections<'p>,
    key: &'p [u8],
    options: &'p RunOptions,
}

impl Prober<'_> {
    async fn probe(
        &self,
        name: &str,
        route: &RouteSettings,
        title: Option<&str>,
        wait: Option<SignedDuration>,
        stop: &Rc<Cell<bool>>,
    ) -> RouteProbe {
        let mut titles = vec![PROBE_TITLE.to_owned()];
        for test in &route.choice.only {
            if let Test::Words(words) = test {
                titles.extend(words.iter().filter_map(|words| words.plain()).map(str::to_owned));
            }
        }
        let how = ProbeHow { title: title.map(str::to_owned), titles, wait, stop: Rc::clone(stop) };
        let probed = async {
            let rule = self.connections.route(name, route, self.key).await?;
            Ok::<_, Failure>(probe_route(&rule, self.store, self.options, &how).await?)
        };
        let quiet_after = self.settings.calendars.get(route.from()).map(|calendar| calendar.quiet_after);
        match probed.await {
            Ok(report) => {
                let quiet_after = quiet_after.unwrap_or(SignedDuration::MAX);
                RouteProbe::of(name, route, report, self.options.now, quiet_after)
            }
            Err(failure) => RouteProbe::failed(name, route, failure),
        }
    }

    async fn sweep(&self, name: &str, route: &RouteSettings) -> RouteProbe {
        let swept = async {
            let rule = self.connections.route(name, route, self.key).await?;
            Ok::<_, Failure>(sweep_route(&rule, self.store, self.options).await?)
        };
        match swept.await {
            Ok((number, left)) => RouteProbe::swept(name, route, number, left),
            Err(failure) => RouteProbe::failed(name, route, failure),
        }
    }
}
