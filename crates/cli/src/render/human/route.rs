//! Routes, for people.

use chestnut_core::{Disagree, Kinds};
use chestnut_engine::RouteCopy;
use jiff::tz::TimeZone;

use crate::render::{Align, clean, count, shorten, start_text, style, table, zone_name};
use crate::report::route::{Line, Report};
use crate::settings::RouteSettings;
use crate::words::gone_words;

/// Copies that are named before they go, without `-v`.
const ENOUGH: usize = 12;

pub(crate) fn human(report: &Report) -> String {
    let columns = [
        ("Route", Align::Left),
        ("Way", Align::Left),
        ("Carries", Align::Left),
        ("Linked", Align::Right),
        ("State", Align::Left),
    ];
    let row = |line: &Line| {
        let state = match (line.gone, line.paused, line.last_result) {
            (true, ..) => style::paint(style::WARN, "not in the configuration"),
            (_, true, _) => style::paint(style::WARN, "paused"),
            (.., None) => "never ran".to_owned(),
            (.., Some(result)) => result.word().to_owned(),
        };
        let (route, way) = (clean(&line.route), clean(&line.way));
        vec![route, way, clean(&line.carries), line.linked.to_string(), state]
    };
    let mut out = table(&columns, &report.routes.iter().map(row).collect::<Vec<_>>());
    for line in report.routes.iter().filter(|line| line.gone) {
        out += &gone_words(&line.route);
    }
    out
}

pub(crate) fn described(line: &Line, route: &RouteSettings) -> String {
    let kinds = |kinds: &Kinds| kinds.iter().map(|kind| kind.word()).collect::<Vec<_>>().join(", ");
    let yes = |is: bool| if is { "yes" } else { "no" };
    let mut rows = vec![
        ("way", clean(&line.way)),
        ("kinds", kinds(&route.kinds)),
        ("carries", clean(&line.carries)),
        ("deletions", format!("{:?}", route.deletions).to_lowercase()),
        (
            "asks above",
            format!("{} deletions and {} %", route.deletion_limit.entries, route.deletion_limit.percent),
        ),
    ];
    if route.is_two_way {
        let whose_word = match route.disagree {
            Disagree::Newest => "newest".to_owned(),
            Disagree::Hold => "hold".to_owned(),
            Disagree::Side(side) => clean(&route.ends[side]),
        };
        rows.push(("disagree", whose_word));
    } else {
        rows.push(("far edits", format!("{:?}", route.far_edits).to_lowercase()));
        rows.push(("matches", format!("{:?}", route.matches).to_lowercase()));
        rows.push(("strangers", format!("{:?}", route.strangers).to_lowercase()));
    }
    rows.push(("relays copies", yes(route.relay).to_owned()));
    rows.push(("linked", line.linked.to_string()));
    rows.push(("paused", yes(line.paused).to_owned()));
    let mut out = format!("{}\n", style::paint(style::STRONG, clean(&line.route)));
    for (key, value) in rows {
        out += &format!("  {key:14} {value}\n");
    }
    out
}

pub(crate) fn copy_lines(copies: &[&RouteCopy], zone: &TimeZone, all: bool) -> String {
    let shown = if all { copies.len() } else { copies.len().min(ENOUGH) };
    let number = count(copies.len(), "copy", "copies");
    let mut out = format!("{number} would be deleted; times in {}\n", zone_name(zone));
    let columns = [("In", Align::Left), ("Starts", Align::Left), ("Title", Align::Left)];
    let row = |copy: &&RouteCopy| {
        vec![clean(&copy.calendar), start_text(&copy.start, zone), shorten(&copy.title, 60)]
    };
    out += &table(&columns, &copies[..shown].iter().map(row).collect::<Vec<_>>());
    if shown < copies.len() {
        out += &format!("  … and {} more; -v names them all\n", copies.len() - shown);
    }
    out
}
