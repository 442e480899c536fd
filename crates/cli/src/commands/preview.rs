//! `chestnut preview`: what the next sync would do, entry by entry, and why.

use chestnut_engine::{RunOptions, preview_route};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load, look_at_state};
use crate::progress::Bars;
use crate::render::human::preview::human;
use crate::report::preview::{Report, route_preview};
use crate::settings::{Connections, route_key};

pub(crate) fn run(routes: &[String], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings)?;
    let key = route_key(&settings, false)?;
    let options = RunOptions::at(io.environment.now()?);
    let connections = Connections::new(&settings, &io.environment);
    let bars = Bars::new(io.progress && !common.quiet);
    let previews = block_on(async {
        let mut previews = Vec::new();
        for (name, route) in settings.chosen_routes(routes)? {
            let ready = connections.route(name, route, &key).await?;
            let preview = preview_route(&ready, &store, &options, &bars.route(name)).await?;
            previews.push(route_preview(route, preview));
        }
        Ok::<_, Failure>(previews)
    })??;
    let report = Report { previews };
    let zone = settings.zone.clone();
    show(common, io, &report, || {
        report.previews.iter().map(|p| human(p, &zone, common.verbose > 0)).collect::<Vec<_>>().join("\n")
    })?;
    let held = report.previews.iter().any(|p| p.held > 0);
    Ok(if held { ExitCode::Waiting } else { ExitCode::Ok })
}
