//! `chestnut why`: which rule of a route lets an entry through or stops it, and the key that says so.

use chestnut_core::recurrence::{Budget, Occurrences, Zone};
use chestnut_core::{Deletions, Entry, LeftOut};
use chestnut_engine::{Explained, Makes, RunOptions, explain};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use serde::Serialize;

use super::agenda::midnight;
use super::{block_on, load, look_at_state, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::render::{clean, count, shorten, start_text, style, zone_name};
use crate::run::Io;
use crate::settings::{Connections, RouteSettings, route_key};
use crate::words::told_words;

#[derive(Debug, Serialize)]
struct Report {
    route: String,
    entries: Vec<Line>,
}

#[derive(Debug, Serialize)]
struct Line {
    uid: String,
    title: String,
    start: String,
    taken: bool,
    /// The rule that stopped it, such as `skip.declined`.
    key: Option<String>,
    why: String,
    copy: Option<String>,
    copy_uid: Option<String>,
    trouble: Option<String>,
}

/// Entries that are told of without `-v`.
const ENOUGH: usize = 12;

pub(super) fn run(route: &str, entry: &str, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let (name, route) = settings.chosen_routes(&[route.to_owned()])?.remove(0);
    let store = look_at_state(common, &settings)?;
    let key = route_key(&settings, false)?;
    let options = RunOptions::at(io.environment.now()?);
    let connections = Connections::new(&settings, &io.environment);
    let zone = settings.zone.clone();
    let wanted = |candidate: &Entry| is_wanted(entry, candidate, &zone);
    let found = block_on(async {
        let ready = connections.route(name, route, &key).await?;
        Ok::<_, Failure>(explain(&ready, &store, &options, &wanted).await?)
    })??;
    if found.is_empty() {
        let message = format!("calendar {} has no entry {entry:?}", route.from());
        return Err(Failure::failed(message)
            .hint("Name it by words of its title, by its UID, or by a day such as 2026-10-05."));
    }
    let lines = found.into_iter().map(|one| line(one, route)).collect();
    let report = Report { route: name.to_owned(), entries: lines };
    let all = common.verbose > 0;
    show(common, io, &report, || human(&report, &zone, all))?;
    Ok(ExitCode::Ok)
}

/// By UID, by a day on which it takes place, or by words that are all in its title.
fn is_wanted(asked: &str, entry: &Entry, zone: &TimeZone) -> bool {
    if entry.uid().as_str() == asked {
        return true;
    }
    if let Ok(day) = asked.parse::<Date>() {
        let window = midnight(day, zone)..midnight(day.tomorrow().unwrap_or(day), zone);
        let reading = Zone::Rules(zone.clone());
        let times = Occurrences::of(entry, &reading);
        return times.is_ok_and(|t| t.any_within(window, &mut Budget::default()).unwrap_or(false));
    }
    let title = entry.title().to_lowercase();
    asked.to_lowercase().split_whitespace().all(|word| title.contains(word))
}

fn line(one: Explained, route: &RouteSettings) -> Line {
    let far = &route.to();
    let why = match one.stopped {
        None if route.makes == Makes::Blocks => {
            format!("the route takes it; its time is part of the blocks in {far} (`join-busy`)")
        }
        None if route.makes == Makes::Occurrences => {
            format!("the route takes it; its occurrences in the window stand in {far} (`occurrences`)")
        }
        None if one.copy.is_some() => format!("the route takes it; its copy stands in {far}"),
        None => format!("the route takes it; the next sync writes it to {far}"),
        Some(reason) if one.copy.is_some() => {
            let copy = match route.deletions {
                Deletions::Keep => format!("its copy in {far} stays"),
                Deletions::Carry => format!("the next sync deletes its copy in {far}"),
            };
            format!("not taken any more: {}; {copy}", stopped_words(reason, far))
        }
        Some(reason) => format!("not taken: {}", stopped_words(reason, far)),
    };
    let (copy, copy_uid) = one.copy.unzip();
    Line {
        uid: one.uid,
        title: one.title,
        start: one.start,
        taken: one.stopped.is_none(),
        key: one.stopped.map(|reason| reason.key().to_owned()),
        why,
        copy,
        copy_uid,
        trouble: one.trouble.as_ref().map(told_words),
    }
}

fn stopped_words(reason: LeftOut, far: &str) -> String {
    match reason {
        LeftOut::Kind(kind) => {
            let word = kind.word();
            format!("the route takes no {word}: only = {{ kinds = [..., \"{word}\"] }} would")
        }
        LeftOut::NotAccepted(kind) => format!("calendar {far} accepts no {}", kind.word()),
        LeftOut::NotChosen(key) => match key.name().split_once('.') {
            Some(("only", key)) => format!("`{key}` in `only` does not fit it"),
            Some((_, key)) => format!("`{key}` in `skip` fits it"),
            None => key.name().to_owned(),
        },
        LeftOut::Copy => "it is a copy that a route made; copies of copies are not made".to_owned(),
        LeftOut::TakesNoTime => {
            "carry = \"busy\" takes busy time alone, and it takes none: it is free, declined, called off, or no event"
                .to_owned()
        }
        LeftOut::TimeNotUnderstood => "when it is cannot be understood, and that decides here".to_owned(),
        LeftOut::OutsideWindow => "none of its occurrences is in the `window`; what lies ahead comes in when its day comes".to_owned(),
        LeftOut::TooLarge => format!("it is larger than calendar {far} allows"),
        _ => reason.key().to_owned(),
    }
}

fn human(report: &Report, zone: &TimeZone, all: bool) -> String {
    let number = count(report.entries.len(), "entry", "entries");
    let mut out =
        format!("{}: {number}; times in {}\n", style::paint(style::STRONG, &report.route), zone_name(zone));
    let shown = if all { report.entries.len() } else { report.entries.len().min(ENOUGH) };
    for line in &report.entries[..shown] {
        let sign =
            if line.taken { style::paint(style::GOOD, "✓") } else { style::paint(style::WARN, "–") };
        let start = start_text(&line.start, zone);
        out += &format!("\n  {sign} {start:30} {}\n", shorten(&line.title, 60));
        out += &format!("    {}\n", clean(&line.why));
        if let Some(trouble) = &line.trouble {
            out += &format!("    {}\n", style::paint(style::WARN, clean(trouble)));
        }
        if all {
            out += &format!("    UID {}\n", clean(&line.uid));
            if let (Some(copy), Some(uid)) = (&line.copy, &line.copy_uid) {
                out += &format!("    copy {}, UID {}\n", clean(copy), clean(uid));
            }
        }
    }
    if shown < report.entries.len() {
        out += &format!("\n  … and {} more; -v tells of them all\n", report.entries.len() - shown);
    }
    out
}
