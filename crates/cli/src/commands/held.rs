//! `chestnut held` and `chestnut decide`: what waits for a person, and their answer.

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{load, look_at_state, open_state};
use crate::questions::Questions;
use crate::render::clean;
use crate::render::human::held::{decided, human, with_answers};
use crate::report::held::{Held, Report, held};
use crate::settings::Settings;
use crate::words::{WHICH_ANSWER, decision_taken_back, no_answer, not_decided_yet, nothing_waits};

pub(crate) fn run(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings, &io.environment)?;
    let mut held = store.held(None)?.into_iter().map(held).collect::<Result<Vec<_>, _>>()?;
    for item in &mut held {
        item.note = settings.routes.get(&item.route).and_then(|route| route.note.clone());
    }
    let report = Report { held };
    let all = common.verbose > 0;
    let clock = io.environment.clock(&settings.zone)?;
    show(common, io, &report, || human(&report, &clock, all))?;
    let waiting = report.held.iter().any(|item| item.decision.is_none());
    Ok(if waiting { ExitCode::Waiting } else { ExitCode::Ok })
}

/// Writes a person's answer down, asking for it where it is not said; the next sync acts on it.
pub(crate) fn decide(
    number: i64,
    choice: Option<&str>,
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
    let clock = io.environment.clock(&settings.zone)?;
    let choice = match choice {
        Some(choice) => choice.to_owned(),
        None => match Questions::of_terminal(io.can_ask && !common.json) {
            Some(mut questions) => {
                io.say(&with_answers(&item, &clock, common.verbose > 0))?;
                let at = questions.choose(WHICH_ANSWER, &item.choices)?;
                item.choices[at].clone()
            }
            None => {
                let report = Report { held: vec![item] };
                show(common, io, &report, || with_answers(&report.held[0], &clock, true))?;
                return Ok(ExitCode::Waiting);
            }
        },
    };
    let route = clean(route_of(&settings, &item.route)).clone();
    if choice == UNDO {
        if item.decision.is_none() {
            return Err(not_decided_yet(number));
        }
        store.write(|writer| writer.take_decision_back(number))?;
        let report = Report { held: vec![Held { decision: None, ..item }] };
        show(common, io, &report, || decision_taken_back(number))?;
        return Ok(ExitCode::Ok);
    }
    if !item.choices.contains(&choice) {
        return Err(no_answer(&choice, number, &item.choices));
    }
    store.write(|writer| writer.decide(number, &choice))?;
    let report = Report { held: vec![Held { decision: Some(choice), ..item }] };
    show(common, io, &report, || decided(&report.held[0], &route))?;
    Ok(ExitCode::Ok)
}

/// The answer that takes an answer back.
const UNDO: &str = "undo";

/// The name to type for a route, or for a part of one.
fn route_of<'n>(settings: &'n Settings, name: &'n str) -> &'n str {
    let part_of = settings.routes.get(name).and_then(|route| route.part_of.as_deref());
    part_of.unwrap_or(name)
}
