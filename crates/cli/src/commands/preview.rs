//! `chestnut preview`: what the next sync would do, entry by entry, and why.

use std::collections::{BTreeMap, BTreeSet};

use chestnut_engine::{PreviewReport, PreviewedChange, RunOptions, preview_route};
use jiff::tz::TimeZone;
use serde::Serialize;

use super::sync::{invitation_warning, left_out_words};
use super::{block_on, load, look_at_state, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::progress::Bars;
use crate::render::{Align, clean, count, shorten, start_text, style, table, zone_name};
use crate::run::Io;
use crate::settings::{Connections, RouteSettings, route_key};
use crate::words::{left_out_why, why_words};

#[derive(Debug, Serialize)]
struct Report {
    previews: Vec<RoutePreview>,
}

#[derive(Debug, Serialize)]
struct RoutePreview {
    route: String,
    from: String,
    to: String,
    first_run: bool,
    create: usize,
    update: usize,
    delete: usize,
    link: usize,
    held: usize,
    changes: Vec<Line>,
    left_out: Vec<Line>,
    #[serde(skip)]
    way: String,
    /// What a person should know before the first run.
    #[serde(skip)]
    warning: Option<String>,
}

#[derive(Debug, Serialize)]
struct Line {
    action: &'static str,
    /// Where it is done; nothing for what concerns all calendars.
    calendar: Option<String>,
    title: String,
    start: String,
    why: String,
}

/// Lines that are shown without `-v`.
const ENOUGH: usize = 12;

pub(super) fn run(routes: &[String], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
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

fn warning(preview: &PreviewReport, route: &RouteSettings) -> Option<String> {
    let invites = preview.warns_of_invitations.then(|| invitation_warning(&preview.route, &route.to()));
    let clocks = preview.clocks_apart.map(|seconds| {
        let words = format!(
            "{}: this machine's clock and that of a server are {} hours apart; nothing is deleted until they agree\n",
            preview.route,
            seconds / 3600
        );
        style::paint(style::WARN, words)
    });
    let both: String = invites.into_iter().chain(clocks).collect();
    (!both.is_empty()).then_some(both)
}

fn route_preview(route: &RouteSettings, preview: PreviewReport) -> RoutePreview {
    let warning = warning(&preview, route);
    let number = |action: &str| preview.changes.iter().filter(|c| c.action == action).count();
    let line = |c: PreviewedChange| Line {
        action: c.action,
        calendar: c.calendar,
        title: c.title,
        start: c.start,
        why: why_words(&c.why),
    };
    RoutePreview {
        route: preview.route.clone(),
        from: route.from().to_owned(),
        to: route.to(),
        way: route.way(),
        first_run: preview.first_run,
        create: number("create"),
        update: number("update"),
        delete: number("delete"),
        link: number("link"),
        held: preview.held,
        changes: preview.changes.into_iter().map(line).collect(),
        left_out: preview.left_out.into_iter().map(line).collect(),
        warning,
    }
}

fn human(preview: &RoutePreview, zone: &TimeZone, all: bool) -> String {
    let first = if preview.first_run { ", first run" } else { "" };
    let name = style::paint(style::STRONG, &preview.route);
    let mut out = format!("{name}: {}{first}\n", clean(&preview.way));
    out.extend(preview.warning.clone());
    if preview.changes.is_empty() {
        out += "  nothing to do\n";
    } else {
        let mut told: Vec<_> =
            per_calendar(preview.changes.iter().map(|c| (c.action, c.calendar.as_deref())))
                .into_iter()
                .map(|((what, calendar), number)| format!("{number} {what} in {}", clean(calendar)))
                .collect();
        told.extend((preview.link > 0).then(|| format!("{} already there and alike", preview.link)));
        let held = preview.changes.iter().filter(|change| change.action == "hold").count();
        told.extend((held > 0).then(|| format!("{held} to be decided by a person")));
        out += &format!("  {}; nothing is written by a preview\n", told.join(", "));
    }
    if preview.held > 0 {
        let deletions = count(preview.held, "deletion", "deletions");
        out += &style::paint(style::WARN, format!("  {deletions} would be held, for a person to decide\n"));
    }
    if !preview.changes.is_empty() {
        out += &format!("  times in {}\n", zone_name(zone));
        out += &lines(&preview.changes, zone, all);
    }
    if !preview.left_out.is_empty() {
        let mut reasons: BTreeMap<&str, usize> = BTreeMap::new();
        for line in &preview.left_out {
            *reasons.entry(line.why.as_str()).or_default() += 1;
        }
        let words: Vec<_> = reasons.into_iter().map(|(key, n)| left_out_words(key, n)).collect();
        let names = if all { "" } else { "; -v names them" };
        out += &format!("  left out: {}{names}\n", words.join(", "));
        if all {
            out += &lines(&preview.left_out, zone, all);
        }
    }
    out
}

/// Counts what is to be done in each calendar: what is new first, deletions last.
pub(super) fn per_calendar<'c>(
    changes: impl Iterator<Item = (&'static str, Option<&'c str>)>,
) -> Vec<((&'static str, &'c str), usize)> {
    let kinds = [("create", "to create"), ("update", "to update"), ("delete", "to delete")];
    let mut counts = BTreeMap::new();
    for (action, calendar) in changes {
        if let Some(kind) = kinds.iter().position(|(name, _)| *name == action) {
            *counts.entry((kind, calendar.unwrap_or_default())).or_default() += 1;
        }
    }
    counts.into_iter().map(|((kind, calendar), number)| ((kinds[kind].1, calendar), number)).collect()
}

fn lines(lines: &[Line], zone: &TimeZone, all: bool) -> String {
    // What needs no write does not hide what does.
    let (quiet, loud): (Vec<_>, Vec<_>) = lines.iter().partition(|line| !all && line.action == "link");
    let lines = if loud.is_empty() { quiet } else { loud };
    let shown = if all { lines.len() } else { lines.len().min(ENOUGH) };
    let places: BTreeSet<_> = lines.iter().map(|line| &line.calendar).collect();
    let row = |line: &Line| {
        let why = if line.action == "leave out" { left_out_why(&line.why) } else { line.why.clone() };
        let mut row = vec![line.action.to_owned()];
        row.extend((places.len() > 1).then(|| clean(line.calendar.as_deref().unwrap_or("all"))));
        row.extend([
            start_text(&line.start, zone),
            shorten(&line.title, 50),
            style::paint(style::FAINT, shorten(&why, 60)),
        ]);
        row
    };
    let mut columns =
        vec![("", Align::Left), ("Starts", Align::Left), ("Title", Align::Left), ("Why", Align::Left)];
    if places.len() > 1 {
        columns.insert(1, ("In", Align::Left));
    }
    let mut out = table(&columns, &lines[..shown].iter().map(|line| row(line)).collect::<Vec<_>>());
    if shown < lines.len() {
        out += &format!("  … and {} more; -v names them all\n", lines.len() - shown);
    }
    out
}
