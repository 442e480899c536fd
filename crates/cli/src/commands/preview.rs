//! `chestnut preview`: what the next sync would do, entry by entry, and why.

use chestnut_engine::{RunOptions, preview_route};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show, tell};
use crate::open::{block_on, load, look_at_state};
use crate::progress::Bars;
use crate::render::human::preview::human;
use crate::report::preview::{Report, RoutePreview};
use crate::settings::{Connections, route_key};

pub(crate) fn run(routes: &[String], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings, &io.environment)?;
    let key = route_key(&settings, &store, false)?;
    let options = RunOptions::at(io.environment.now()?);
    let connections = Connections::new(&settings, &io.environment);
    let bars = Bars::new(io.progress && !common.quiet);
    let chosen = settings.chosen_routes(routes)?;
    let previews = block_on(bars.meanwhile(|| connections.waits_for(), async {
        let mut previews = Vec::new();
        for (name, route) in chosen {
            let previewed = async {
                let rule = connections.route(name, route, &key).await?;
                Ok::<_, Failure>(preview_route(&rule, &store, &options, &bars.route(name)).await?)
            };
            previews.push(match previewed.await {
                Ok(preview) => RoutePreview::of(route, preview),
                Err(failure) => RoutePreview::failed(name, route, failure),
            });
        }
        previews
    }))?;
    let report = Report { previews };
    let clock = io.environment.clock(&settings.zone)?;
    let ready = report.previews.iter().filter(|preview| preview.failure.is_none());
    show(common, io, &report, || {
        ready.map(|p| human(p, &clock, common.verbose > 0)).collect::<Vec<_>>().join("\n")
    })?;
    tell(common, io, report.previews.iter().filter_map(|preview| preview.failure.as_ref()))?;
    let is_any_ready = report.previews.iter().any(|preview| preview.failure.is_none());
    let code = |preview: &RoutePreview| match &preview.failure {
        Some(failure) if is_any_ready && failure.code == ExitCode::Usage => ExitCode::Failed,
        Some(failure) => failure.code,
        None if preview.held > 0 => ExitCode::Waiting,
        None => ExitCode::Ok,
    };
    Ok(report.previews.iter().map(code).max().unwrap_or(ExitCode::Ok))
}
