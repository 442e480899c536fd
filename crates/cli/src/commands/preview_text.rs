//! `chestnut preview --text`: what exactly the other side gets of an entry.

use chestnut_engine::{RunOptions, stories};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show, tell};
use crate::open::{block_on, load, look_at_state};
use crate::progress::Bars;
use crate::render::human::preview_text::human;
use crate::report::preview_text::{CopyText, Report};
use crate::report::sync::written;
use crate::settings::{Connections, route_key};
use crate::wanted::wanted;
use crate::words::{no_text_of, nowhere};

pub(crate) fn run(
    routes: &[String],
    words: &str,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let clock = io.environment.clock(&settings.zone)?;
    let chosen = settings.chosen_routes(routes)?;
    let wanted = wanted(words, &clock);
    let store = look_at_state(common, &settings, &io.environment)?;
    let key = route_key(&settings, &store, false)?;
    let options = RunOptions::at(io.environment.now()?);
    let connections = Connections::new(&settings, &io.environment);
    let bars = Bars::new(io.progress && !common.quiet);
    let (mut texts, mut failures, mut is_known) = (Vec::new(), Vec::new(), false);
    block_on(bars.meanwhile(|| connections.waits_for(), async {
        for (name, route) in &chosen {
            let told = async {
                let rule = connections.route(name, route, &key).await?;
                Ok::<_, Failure>(stories(&rule, &store, &options, &wanted).await?)
            };
            match told.await {
                Ok(stories) => {
                    is_known |= !stories.is_empty();
                    texts.extend(stories.iter().flat_map(|story| CopyText::of(name, &written(route), story)));
                }
                Err(failure) => failures.push(failure),
            }
        }
    }))?;
    let not_asked = failures.iter().map(|failure| failure.message.clone()).collect();
    let report = Report { texts, not_asked };
    if report.texts.is_empty() && !common.json {
        let nothing = if is_known { no_text_of(words) } else { nowhere(&[words.to_owned()], &chosen) };
        return Err(failures.into_iter().next().unwrap_or(nothing));
    }
    show(common, io, &report, || human(&report, &clock, common.verbose > 0))?;
    tell(common, io, &failures)?;
    Ok(failures.iter().map(|failure| failure.code).max().unwrap_or(ExitCode::Ok))
}
