//! `chestnut preview`: what the next sync would do, entry by entry, and why.

use chestnut_engine::{PreviewReport, PreviewedChange, RunOptions};
use jiff::tz::TimeZone;
use serde::Serialize;

use super::sync::invitation_warning;
use super::{block_on, load, look_at_state, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::progress::Bars;
use crate::render::{Align, clean, count, shorten, start_text, style, table, zone_name};
use crate::run::Io;
use crate::settings::{Connections, RouteSettings, route_key};

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
            let preview = ready.preview(&store, &options, &bars.route(name)).await?;
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

fn route_preview(route: &RouteSettings, preview: PreviewReport) -> RoutePreview {
    let number = |action: &str| preview.changes.iter().filter(|c| c.action == action).count();
    let line = |c: PreviewedChange| Line { action: c.action, title: c.title, start: c.start, why: c.why };
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
        warning: preview.warns_of_invitations.then(|| invitation_warning(&preview.route, &route.to())),
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
        let counts = [
            (preview.create, "to create"),
            (preview.update, "to update"),
            (preview.delete, "to delete"),
            (preview.link, "already there and alike"),
        ];
        let told: Vec<_> =
            counts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect();
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
        out += &format!("  left out: {}\n", count(preview.left_out.len(), "entry", "entries"));
        out += &lines(&preview.left_out, zone, all);
    }
    out
}

fn lines(lines: &[Line], zone: &TimeZone, all: bool) -> String {
    let shown = if all { lines.len() } else { lines.len().min(ENOUGH) };
    let row = |line: &Line| {
        let why = style::paint(style::FAINT, shorten(&line.why, 60));
        vec![line.action.to_owned(), start_text(&line.start, zone), shorten(&line.title, 50), why]
    };
    let columns = [("", Align::Left), ("Starts", Align::Left), ("Title", Align::Left), ("Why", Align::Left)];
    let mut out = table(&columns, &lines[..shown].iter().map(row).collect::<Vec<_>>());
    if shown < lines.len() {
        out += &format!("  … and {} more; -v names them all\n", lines.len() - shown);
    }
    out
}
