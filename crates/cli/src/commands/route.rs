//! `chestnut route list / show / add / pause / resume / retire`.

use std::collections::BTreeMap;

use chestnut_engine::{RouteCopy, Rule, RunOptions, copies_of, retire_route};
use chestnut_store::{RunResult, Store};

use crate::args::{Common, RouteAdd};
use crate::days::until;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::new_route::{Wishes, first_run};
use crate::open::{block_on, configuration_path, load, look_at_state, open_state};
use crate::questions::Questions;
use crate::render::human::route::{copy_lines, described, human, staying_lines};
use crate::render::{Clock, moment_text};
use crate::report::route::{Report, Retired, Shown, Whole, gone, line, settings as settings_of};
use crate::settings::{ConfigurationText, Connections, RouteSettings, Settings, nearest, route_key};
use crate::words::{
    DELETE_COPIES, FROM_WHICH, TO_WHICH, copies_remain, made_no_copies, needs_calendars, no_such_calendar,
    not_configured_any_more, not_retired, paused_or_not, retired, retiring_asks_first, route_written,
    too_few_calendars,
};

pub(crate) fn list(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings, &io.environment)?;
    let mut routes = Vec::new();
    let _still = store.hold_still()?;
    for (name, route) in &settings.routes {
        routes.push(line(&store, name, Some(route), io.environment.now()?)?);
    }
    for name in gone(&store, &settings)? {
        routes.push(line(&store, &name, None, io.environment.now()?)?);
    }
    let report = Report { routes };
    let whole = io.screen.is_none() || common.verbose > 0;
    show(common, io, &report, || human(&report, whole))?;
    Ok(ExitCode::Ok)
}

pub(crate) fn show_one(name: &str, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings, &io.environment)?;
    let chosen = settings.chosen_routes(&[name.to_owned()])?;
    let mut routes = Vec::new();
    let mut text = String::new();
    for (name, route) in chosen {
        let whole = Whole {
            line: line(&store, name, Some(route), io.environment.now()?)?,
            settings: settings_of(route),
        };
        text += &described(&whole, common.verbose > 0);
        routes.push(whole);
    }
    show(common, io, &Shown { routes }, || text)?;
    Ok(ExitCode::Ok)
}

/// Whether a route is held back, or goes on.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Pause<'p> {
    /// Until then, or until somebody lets it go on.
    Begin(Option<&'p str>),
    End,
}

/// Holds a route back, or lets it go on.
pub(crate) fn pause(
    name: &str,
    pause: Pause<'_>,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = open_state(common, &settings, &io.environment)?;
    let now = io.environment.now()?;
    let chosen = settings.chosen_routes(&[name.to_owned()])?;
    let until = match pause {
        Pause::Begin(Some(text)) => Some(until(text, now, &settings.zone)?),
        Pause::Begin(None) | Pause::End => None,
    };
    let is_paused = matches!(pause, Pause::Begin(_));
    let mut routes = Vec::new();
    for (name, route) in chosen {
        store.write(|writer| {
            let id = writer.route(name)?;
            match until {
                Some(until) => writer.pause_until(id, until.as_second())?,
                None => writer.set_paused(id, is_paused)?,
            }
            if is_paused { writer.note_pause(name, now) } else { Ok(()) }
        })?;
        routes.push(line(&store, name, Some(route), now)?);
    }
    let at = until.map(|at| moment_text(at, &Clock::at(now, &settings.zone)));
    show(common, io, &Report { routes }, || paused_or_not(name, is_paused, at.as_deref()))?;
    Ok(ExitCode::Ok)
}

/// How to retire a route.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Retiring {
    /// Its copies go too.
    pub(crate) remove_copies: bool,
    /// Without a question.
    pub(crate) yes: bool,
}

/// Takes a route out of the configuration and the state; its copies too, if that is asked for. Its runs stay in the
/// history.
pub(crate) fn retire(
    name: &str,
    how: Retiring,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = open_state(common, &settings, &io.environment)?;
    let is_gone = gone(&store, &settings)?.iter().any(|gone| gone == name);
    if is_gone && how.remove_copies {
        return Err(not_configured_any_more(name));
    }
    let mut text = None;
    if !is_gone {
        let mut without = ConfigurationText::holding(&settings, "route", name)?;
        without.remove("route", name);
        // Another route may be like it: then nothing is begun.
        without.settings()?;
        text = Some(without);
    }
    let mut removed = 0;
    if is_gone {
        block_on(retire_route(name, &store, None))??;
    } else {
        let chosen = settings.chosen_routes(&[name.to_owned()])?;
        let found = match how.remove_copies {
            true => confirmed_copies(name, &chosen, how.yes, (&settings, &store), common, io)?,
            false => BTreeMap::new(),
        };
        let options = RunOptions::at(io.environment.now()?);
        for (part, _) in &chosen {
            let copies = found.get(part).map(|(rule, copies)| (rule, &options, &copies[..]));
            removed += match block_on(retire_route(part, &store, copies))?? {
                Some(report) if report.result == RunResult::Failed => return Err(copies_remain(name)),
                Some(report) => report.summary.calendars.values().map(|counts| counts.deleted).sum(),
                None => 0,
            };
        }
    }
    if let Some(text) = text {
        text.save()?;
    }
    let report = Retired { route: name.to_owned(), removed };
    let taken_away = (how.remove_copies && !is_gone).then_some(removed);
    show(common, io, &report, || retired(name, taken_away))?;
    Ok(ExitCode::Ok)
}

/// Lists the copies that a route made, by its parts, and asks whether they go.
fn confirmed_copies<'n>(
    name: &str,
    chosen: &[(&'n str, &RouteSettings)],
    yes: bool,
    (settings, store): (&Settings, &Store),
    common: &Common,
    io: &mut Io<'_>,
) -> Result<BTreeMap<&'n str, (Rule, Vec<RouteCopy>)>, Failure> {
    if chosen.iter().any(|(_, route)| route.is_two_way) {
        return Err(made_no_copies(name));
    }
    let key = route_key(settings, store, false)?;
    let connections = Connections::new(settings, &io.environment);
    let options = RunOptions::at(io.environment.now()?);
    let found = block_on(async {
        let mut found = BTreeMap::new();
        for (name, route) in chosen {
            let rule = connections.route(name, route, &key).await?;
            let copies = copies_of(&rule, store, &options).await?;
            found.insert(*name, (rule, copies));
        }
        Ok::<_, Failure>(found)
    })??;
    let all = found.values().flat_map(|(_, copies)| copies);
    let (staying, copies): (Vec<&RouteCopy>, Vec<&RouteCopy>) = all.partition(|copy| copy.would_mail);
    let clock = io.environment.clock(&settings.zone)?;
    if !staying.is_empty() {
        io.say(&staying_lines(&staying, &clock, common.verbose > 0))?;
    }
    if copies.is_empty() {
        return Ok(found);
    }
    if !yes {
        io.say(&copy_lines(&copies, &clock, common.verbose > 0))?;
        let Some(mut questions) = Questions::of_terminal(io.can_ask) else {
            return Err(retiring_asks_first(name, copies.len()));
        };
        if !questions.yes(DELETE_COPIES, false)? {
            return Err(not_retired(name));
        }
    }
    Ok(found)
}

/// Writes a route into the configuration, after a look at what its first run would do.
pub(crate) fn add(args: &RouteAdd, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let path = configuration_path(common, io)?;
    let mut text = ConfigurationText::read(&path)?;
    let settings = text.settings()?;
    let mut questions = Questions::of_terminal(io.can_ask);
    let ends = ends(args, &settings, questions.as_mut())?;
    let mut wishes = Wishes {
        carry: args.carry.clone(),
        is_two_way: (!args.between.is_empty() || args.from.is_some() && args.to.is_some())
            .then_some(!args.between.is_empty()),
        reach: (args.past.is_some() || args.ahead.is_some()).then(|| (args.past.clone(), args.ahead.clone())),
        keeps_deletions: args.keep_deletions.then_some(true),
        takes_tasks: None,
    };
    if let (Some(questions), [from, to, ..]) = (questions.as_mut(), &ends[..]) {
        wishes.ask((from, to), &settings, questions)?;
    }
    text.add("route", &args.route, wishes.keys(&ends))?;
    let settings = text.settings()?;
    let store = look_at_state(common, &settings, &io.environment)?;
    let summary = first_run(&args.route, &settings, &store, io)?;
    let mut routes = Vec::new();
    for (name, route) in settings.chosen_routes(std::slice::from_ref(&args.route))? {
        routes.push(line(&store, name, Some(route), io.environment.now()?)?);
    }
    text.save()?;
    show(common, io, &Report { routes }, || summary + &route_written(&args.route, &path))?;
    Ok(ExitCode::Ok)
}

/// The calendars of a new route, all of which the configuration has.
fn ends(
    args: &RouteAdd,
    settings: &Settings,
    questions: Option<&mut Questions>,
) -> Result<Vec<String>, Failure> {
    let given = args.between.iter().chain(&args.from).chain(&args.to);
    if let Some(unknown) = given.into_iter().find(|name| !settings.calendars.contains_key(*name)) {
        return Err(no_such_calendar(unknown, nearest(unknown, settings.calendars.keys())));
    }
    if !args.between.is_empty() {
        return Ok(args.between.clone());
    }
    if let (Some(from), Some(to)) = (&args.from, &args.to) {
        return Ok(vec![from.clone(), to.clone()]);
    }
    let Some(questions) = questions else {
        return Err(needs_calendars());
    };
    let mut pick = |given: &Option<String>, prompt: &str, fits: &dyn Fn(&String) -> bool| {
        if let Some(name) = given {
            return Ok(name.clone());
        }
        let names: Vec<String> = settings.calendars.keys().filter(|name| fits(name)).cloned().collect();
        if names.is_empty() || settings.calendars.len() < 2 {
            return Err(too_few_calendars());
        }
        Ok(names[questions.choose(prompt, &names)?].clone())
    };
    let from = pick(&args.from, FROM_WHICH, &|name| args.to.as_ref() != Some(name))?;
    let can_receive = |name: &String| *name != from && !settings.calendars[name].place.is_read_only();
    let to = pick(&args.to, TO_WHICH, &can_receive)?;
    Ok(vec![from, to])
}
