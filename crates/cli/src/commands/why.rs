//! `chestnut why`: the story of one entry: where it stands, which key let it in or stopped it, and what comes next.

use std::collections::BTreeSet;

use chestnut_engine::{
    Part, ReadEntry, RunOptions, Story, StoryPlace, Wanted, past_changes, read_calendar, start_text, stories,
};
use chestnut_store::PastChange;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show, tell};
use crate::open::{block_on, load, look_at_state};
use crate::progress::Bars;
use crate::questions::Questions;
use crate::render::fit;
use crate::render::human::why::{ENOUGH, choices, told};
use crate::report::why::{NotAsked, Past, Report, Telling, Uncovered};
use crate::settings::{Connections, RouteSettings, Settings, route_key, uncovered_calendars};
use crate::wanted::wanted;
use crate::words::{WHICH_ONE, nowhere};

/// So much of what runs did is looked for.
const PAST: usize = 200;

pub(crate) fn run(words: &[String], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let clock = io.environment.clock(&settings.zone)?;
    let (routes, words) = asked(words, &settings)?;
    let wanted = wanted(&words.join(" "), &clock);
    let store = look_at_state(common, &settings, &io.environment)?;
    let key = route_key(&settings, &store, false)?;
    let options = RunOptions::at(io.environment.now()?);
    let connections = Connections::new(&settings, &io.environment);
    let mut found: Vec<(&str, &RouteSettings, Story)> = Vec::new();
    let mut failures = Vec::new();
    let mut uncovered = Vec::new();
    let bars = Bars::new(io.progress && !common.quiet);
    block_on(bars.meanwhile(|| connections.waits_for(), async {
        for (name, route) in &routes {
            let told = async {
                let rule = connections.route(name, route, &key).await?;
                Ok::<_, Failure>(stories(&rule, &store, &options, &wanted).await?)
            };
            match told.await {
                Ok(stories) => found.extend(stories.into_iter().map(|story| (*name, *route, story))),
                Err(failure) => failures.push((*name, failure)),
            }
        }
        if routes.len() == settings.routes.len() {
            for name in uncovered_calendars(&settings) {
                match in_calendar(name, &connections, &wanted).await {
                    Ok(entries) => uncovered.extend(entries),
                    Err(failure) => failures.push((name, failure)),
                }
            }
        }
    }))?;
    // A UID means one entry, whatever its words are in.
    let is_named = |story: &Story| {
        let uid = Some(wanted.uid.as_str());
        story.uid == wanted.uid.as_str() || story.places.iter().any(|place| place.uid.as_deref() == uid)
    };
    if found.iter().any(|(_, _, story)| is_named(story)) {
        found.retain(|(_, _, story)| is_named(story));
    }
    drop_what_others_tell(&mut found);
    let uids =
        found.iter().flat_map(|(_, _, story)| story.places.iter().filter_map(|place| place.uid.clone()));
    let uids: BTreeSet<String> = uids.chain(found.iter().map(|(_, _, story)| story.uid.clone())).collect();
    let past = past_changes(&store, &wanted, &uids, PAST)?;
    let tell = |(name, route, story): (&str, &RouteSettings, Story)| Telling::of(name, route, story, &past);
    let report = Report {
        stories: found.into_iter().map(tell).collect(),
        uncovered,
        past: past.iter().map(Past::of).collect(),
        not_asked: failures.iter().map(|(name, failure)| NotAsked::of(name, failure)).collect(),
    };
    let failures: Vec<_> = failures.into_iter().map(|(_, failure)| failure).collect();
    if report.stories.is_empty() && report.uncovered.is_empty() && report.past.is_empty() {
        if common.json {
            show(common, io, &report, String::new)?;
        }
        return Err(failures.into_iter().next().unwrap_or_else(|| nowhere(words, &routes)));
    }
    let all = common.verbose > 0;
    let entries = report.entries();
    let mut chosen = None;
    if !common.json && entries.len() + report.uncovered.len() > 1 {
        if !common.quiet {
            io.out.write_all(
                fit(&choices(&report, &clock, all), io.screen.map(|(width, _)| width)).as_bytes(),
            )?;
        }
        let questions = Questions::of_terminal(io.can_ask && !common.quiet && report.uncovered.is_empty());
        if let (Some(mut questions), 2..=ENOUGH) = (questions, entries.len()) {
            let typed = questions.text(WHICH_ONE, Some("none"))?;
            let number = typed.parse::<usize>().ok().filter(|number| (1..=entries.len()).contains(number));
            chosen = number.map(|number| number - 1);
        }
        if chosen.is_none() {
            return finish(&failures, common, io);
        }
    }
    show(common, io, &report, || {
        let none = Vec::new();
        let one = entries.get(chosen.unwrap_or(0)).unwrap_or(&none);
        let own = |change: &&PastChange| is_about(change, one, &report.uncovered);
        let past: Vec<Past> = past.iter().filter(own).map(Past::of).collect();
        told(one, &report.uncovered, &past, &clock, all)
    })?;
    finish(&failures, common, io)
}

/// A route that has nothing to do with an entry has no story of it, where another one has.
fn drop_what_others_tell(found: &mut Vec<(&str, &RouteSettings, Story)>) {
    let is_own =
        |story: &Story| story.places.iter().all(|p| matches!(p.part, Part::Own | Part::OfAnotherRoute));
    let place = |place: &StoryPlace| (place.calendar.clone(), place.href.clone());
    let involved = found.iter().filter(|(_, _, story)| !is_own(story));
    let mut told: BTreeSet<_> = involved.flat_map(|(_, _, story)| story.places.iter().map(place)).collect();
    found.retain(|(_, _, story)| {
        !is_own(story) || story.places.iter().map(place).all(|place| told.insert(place))
    });
}

/// What could not be looked at is told last.
fn finish(failures: &[Failure], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    tell(common, io, failures)?;
    let code = failures.iter().map(|failure| match failure.code {
        ExitCode::Usage => ExitCode::Failed,
        code => code,
    });
    Ok(code.max().unwrap_or(ExitCode::Ok))
}

/// Tells whether a change was about one of these entries; where there is none, all that was found counts.
fn is_about(change: &PastChange, stories: &[&Telling], uncovered: &[Uncovered]) -> bool {
    let is = |one: &&Telling| {
        let uid = change.uid.as_str();
        one.uid == uid || one.places.iter().any(|place| place.uid.as_deref() == Some(uid))
    };
    stories.is_empty() && uncovered.is_empty() || stories.iter().any(is)
}

type Chosen<'s> = (Vec<(&'s str, &'s RouteSettings)>, &'s [String]);

/// The first word may be a route's name; without one all routes are asked.
fn asked<'s>(words: &'s [String], settings: &'s Settings) -> Result<Chosen<'s>, Failure> {
    if let [first, rest @ ..] = words
        && !rest.is_empty()
        && settings.names_route(first)
    {
        return Ok((settings.chosen_routes(std::slice::from_ref(first))?, rest));
    }
    Ok((settings.chosen_routes(&[])?, words))
}

/// Entries of a calendar that no route covers.
async fn in_calendar(
    name: &str,
    connections: &Connections<'_>,
    wanted: &Wanted,
) -> Result<Vec<Uncovered>, Failure> {
    let end = connections.calendar(name).await?;
    let entries = read_calendar(&end.calendar).await.map_err(|error| Failure::from(end.failed(error)))?;
    let entries = entries.into_iter().filter_map(|entry| match entry {
        ReadEntry::Entry(entry) if wanted.is(&entry) => Some(Uncovered {
            calendar: name.to_owned(),
            uid: entry.uid().to_string(),
            title: entry.title(),
            start: start_text(&entry),
        }),
        _ => None,
    });
    Ok(entries.collect())
}
