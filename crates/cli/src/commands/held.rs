//! `chestnut held` and `chestnut decide`: what waits for a person, and their answer.

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{load, look_at_state, open_state};
use crate::render::clean;
use crate::render::human::held::{decided, human};
use crate::report::held::{Held, Report, held};
use crate::settings::Settings;
use crate::words::{no_answer, nothing_waits};

pub(crate) fn run(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings, &io.environment)?;
    let mut held = store.held(None)?.into_iter().map(held).collect::<Result<Vec<_>, _>>()?;
    for item in &mut held {
        item.note = settings.routes.get(&item.route).and_then(|route| route.note.clone());
    }
    let report = Report { held };
    let all = common.verbose > 0;
    show(common, io, &report, || human(&report, &settings.zone, all))?;
    let waiting = report.held.iter().any(|item| item.decision.is_none());
    Ok(if waiting { ExitCode::Waiting } else { ExitCode::Ok })
}

/// Writes a person's answer down; the next sync acts on it.
pub(crate) fn decide(
    number: i64,
    choice: &str,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = open_state(common, &settings, &io.environment)?;
    let found = store.held(None)?.into_iter().find(|item| item.id == number);
    let Some(item) = found else {
        return Err(nothing_waits(number));
    };
    let item = held(item)?;
    if !item.choices.iter().any(|one| one == choice) {
        return Err(no_answer(choice, number, &item.choices));
    }
    store.write(|writer| writer.decide(number, choice))?;
    let report = Report { held: vec![Held { decision: Some(choice.to_owned()), ..item }] };
    let route = clean(route_of(&settings, &report.held[0].route));
    show(common, io, &report, || decided(&report.held[0], &route))?;
    Ok(ExitCode::Ok)
}

/// The name to type for a route, or for a part of one.
fn route_of<'n>(settings: &'n Settings, name: &'n str) -> &'n str {
    let part_of = settings.routes.get(name).and_then(|route| route.part_of.as_deref());
    part_of.unwrap_or(name)
}
