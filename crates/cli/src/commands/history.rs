//! `chestnut history`: the last runs, or what they changed, field by field.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use chestnut_core::ical::Limits;
use chestnut_core::{CalendarText, Entry, EventUid, ObjectHref};
use chestnut_engine::Wanted;
use chestnut_store::{Change, RunId, RunRecord, Store};
use jiff::Timestamp;

use crate::args::Common;
use crate::days::since;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show, write_new};
use crate::open::{load, look_at_state};
use crate::render::human::history::{list, one_run};
use crate::report::history::{Report, run_of};
use crate::wanted::all_wanted;
use crate::words::{
    no_change_of_entry, no_run_like_that, no_such_run, no_text_kept, old_texts_not_written, old_texts_written,
};

/// What was asked for.
pub(crate) struct Asked<'a> {
    pub(crate) run: Option<i64>,
    pub(crate) entries: &'a [String],
    pub(crate) since: Option<&'a str>,
    pub(crate) route: Option<&'a str>,
    pub(crate) last: usize,
    pub(crate) all: bool,
    pub(crate) text: bool,
    pub(crate) ics: Option<&'a Path>,
}

pub(crate) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings, &io.environment)?;
    let zone = settings.zone.clone();
    let since = asked.since.map(|text| since(text, io.environment.now()?, &zone)).transpose()?;
    let clock = io.environment.clock(&zone)?;
    let wanted = all_wanted(asked.entries, &clock);
    let uids = uids_of(&wanted, &store)?;
    let records = records(asked, since, &uids, &store)?;
    let is_whole = asked.run.is_some() || !wanted.is_empty() || asked.text || asked.ics.is_some();
    if let (true, Some(route)) = (records.is_empty(), asked.route) {
        settings.chosen_routes(&[route.to_owned()])?;
    }
    if records.is_empty() && (since.is_some() || asked.route.is_some()) && !common.json {
        return Err(no_run_like_that());
    }
    if !is_whole {
        let report = Report { runs: records.iter().map(|record| run_of(record, None, false)).collect() };
        show(common, io, &report, || list(&records, &clock))?;
        return Ok(ExitCode::Ok);
    }
    let mut told = Vec::new();
    for record in records {
        let mut changes = store.changes(record.id)?;
        if !wanted.is_empty() {
            let is_wanted = |change: &Change| wanted.iter().any(|wanted| wanted.was_changed(change));
            changes.retain(|change| uids.contains(&change.uid) || is_wanted(change));
        }
        if asked.run.is_some() || !changes.is_empty() {
            told.push((record, changes));
        }
    }
    if told.iter().all(|(_, changes)| changes.is_empty()) && !wanted.is_empty() {
        return Err(no_change_of_entry(asked.entries));
    }
    if let Some(path) = asked.ics {
        write_old_texts(path, &told, io)?;
    }
    let runs = told.iter().map(|(record, changes)| run_of(record, Some(changes), asked.text)).collect();
    let report = Report { runs };
    show(common, io, &report, || {
        let runs: Vec<_> =
            told.iter().zip(&report.runs).map(|((record, _), run)| one_run(record, run, &clock)).collect();
        runs.join("\n")
    })?;
    Ok(ExitCode::Ok)
}

/// The UIDs of what is wanted: it may have had another title at another time.
fn uids_of(wanted: &[Wanted], store: &Store) -> Result<BTreeSet<EventUid>, Failure> {
    let mut uids = BTreeSet::new();
    if !wanted.is_empty() {
        store.each_change(|change| {
            if wanted.iter().any(|wanted| wanted.was_in_past(&change)) {
                uids.insert(change.uid);
            }
            true
        })?;
    }
    Ok(uids)
}

/// The runs that are meant, the newest first: those that changed one of these entries, where entries are asked for.
fn records(
    asked: &Asked<'_>,
    since: Option<Timestamp>,
    uids: &BTreeSet<EventUid>,
    store: &Store,
) -> Result<Vec<RunRecord>, Failure> {
    if let Some(number) = asked.run {
        return Ok(vec![store.run(RunId(number))?.ok_or_else(|| no_such_run(number))?]);
    }
    let is_since = |record: &RunRecord| since.is_none_or(|since| record.started >= since);
    if asked.entries.is_empty() {
        let mut records = store.runs_of(asked.route, asked.last, asked.all)?;
        records.retain(is_since);
        return Ok(records);
    }
    let mut numbers: BTreeSet<RunId> = BTreeSet::new();
    store.each_change(|change| {
        let is_of_route = asked.route.is_none_or(|route| change.route == route);
        let is_since = since.is_none_or(|since| change.at >= since);
        if is_of_route && is_since && uids.contains(&change.uid) {
            numbers.insert(change.run);
        }
        is_since && numbers.len() < asked.last
    })?;
    let records = numbers.into_iter().rev().map(|number| store.run(number));
    Ok(records.collect::<Result<Vec<_>, _>>()?.into_iter().flatten().collect())
}

/// Writes what stood before the oldest of these changes, each entry once for each calendar, into one file.
fn write_old_texts(path: &Path, told: &[(RunRecord, Vec<Change>)], io: &mut Io<'_>) -> Result<(), Failure> {
    let mut oldest: BTreeMap<(&str, &ObjectHref), &str> = BTreeMap::new();
    // The oldest run comes last.
    for change in told.iter().flat_map(|(_, changes)| changes.iter().rev()) {
        if let Some(before) = &change.before {
            oldest.insert((&change.calendar, &change.href), &before.text);
        }
    }
    let entries: Vec<Entry> =
        oldest.values().filter_map(|text| Entry::parse(text, &Limits::default()).ok()).collect();
    // A file has each UID once.
    let mut uids = BTreeSet::new();
    let entries: Vec<&Entry> = entries.iter().filter(|entry| uids.insert(entry.uid().clone())).collect();
    if entries.is_empty() {
        return Err(no_text_kept());
    }
    let number = entries.len();
    let text = CalendarText::of(entries).write();
    write_new(path, &text).map_err(|error| old_texts_not_written(path, &error))?;
    io.say(&old_texts_written(path, number))?;
    Ok(())
}
