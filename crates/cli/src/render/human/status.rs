//! How every route is doing, for people.

use chestnut_core::LeftOut;
use jiff::Timestamp;

use crate::render::{
    Clock, Column, age_text, and_more, clean, count, moment_text, readable, shorten, style, summarised,
    table, typed,
};
use crate::report::status::{Report, RouteStatus, State};
use crate::words::{
    held_lines, left_out_words, not_run_yet_words, note_words, paused_since_words, paused_until_words,
    paused_with_words, state_words, uncovered_words, untold_words, watched_since,
};

/// Entries of one route that are named as trouble.
const ENOUGH: usize = 12;
/// Why a run failed names calendars and their addresses: that much is shown of it.
const WHOLE: usize = 500;
/// More routes are not told of one by one.
const FEW: usize = 5;

/// `whole` names every route, `all` every entry too.
pub(crate) fn human(report: &Report, clock: &Clock, whole: bool, all: bool) -> String {
    let columns = [
        ("Route", Column::Name),
        ("Way", Column::Name),
        ("In step", Column::Number),
        ("State", Column::Prose),
        ("Last good run", Column::Whole),
    ];
    let is_loud = |status: &RouteStatus| status.state != State::InStep;
    let (shown, hidden) = summarised(&report.routes, whole || all, is_loud);
    let rows: Vec<_> = shown.iter().map(|r| row(r, clock, all)).collect();
    let mut out = table(&columns, &rows);
    out += &and_more(hidden, "chestnut status");
    out += &troubles(report, clock);
    out += &never_ran(&report.routes);
    for status in shown {
        out += &notes(status, clock, all);
    }
    if report.routes.iter().any(|status| status.held > 0) {
        out += held_lines();
    }
    for left in &report.probe_leftovers {
        let (route, calendar) = (clean(&left.route), clean(&left.calendar));
        let words = format!("{route}: a test entry may still stand in {calendar}: {}\n", clean(&left.path));
        out += &style::paint(style::WARN, words);
        out += &format!("  take it away: chestnut probe {} --sweep\n", typed(&route));
    }
    if report.new_state {
        out += &style::paint(
            style::WARN,
            "this state is new, and its key is not: copies that an earlier state made may stand already.\n  \
             The first sync finds them again by their UIDs, and writes nothing twice.\n",
        );
    }
    if let Some(words) = uncovered_words(&report.uncovered) {
        out += &words;
        out.push('\n');
    }
    out
}

fn state_text(status: &RouteStatus) -> String {
    let paint = match status.state {
        State::Running | State::InStep => style::GOOD,
        State::Failed => style::BAD,
        State::Paused | State::NeverRun | State::Held | State::Behind => style::WARN,
    };
    style::paint(paint, state_words(status))
}

fn row(status: &RouteStatus, clock: &Clock, all: bool) -> Vec<String> {
    let at = status.last_success.as_ref().and_then(|at| at.parse::<Timestamp>().ok());
    let success = match (at, status.last_success_age) {
        (Some(at), Some(age)) if all => format!("{}, {}", age_text(age), moment_text(at, clock)),
        (_, Some(age)) => age_text(age),
        _ => "none yet".to_owned(),
    };
    vec![clean(&status.route), clean(&status.way), status.in_step.to_string(), state_text(status), success]
}

/// What is wrong and has not ended: since when, and what to do.
fn troubles(report: &Report, clock: &Clock) -> String {
    let mut out = String::new();
    for trouble in &report.troubles {
        let since = age_text(trouble.age);
        let what = format!("trouble {}, begun {since}: {}\n", trouble.number, clean(&trouble.what));
        out += &style::paint(style::BAD, what);
        out += &format!("  {}\n", clean(&trouble.advice));
        // A route's own stands with the route.
        if let Some(note) = trouble.note.as_ref().filter(|_| trouble.sort != "route") {
            out += &format!("  {}", note_words(&trouble.about, note));
        }
    }
    for untold in &report.untold {
        let next = untold.next.as_ref().and_then(|at| at.parse::<Timestamp>().ok());
        let next = next.map(|at| moment_text(at, clock));
        let (trouble, attempts) = (untold.trouble, untold.attempts);
        let words = untold_words(trouble, untold.event, attempts, &untold.problem, next.as_deref());
        out += &style::paint(style::WARN, words);
    }
    for watch in report.watch.iter().chain(&report.other_watches) {
        let since = watch.since.parse::<Timestamp>().map(|at| moment_text(at, clock)).unwrap_or_default();
        let machine = watch.machine.as_deref().map(clean);
        out += &watched_since(watch.process, machine.as_deref(), &since);
    }
    out
}

/// Routes that wait for their first sync: a few by name, many in one line.
fn never_ran(routes: &[RouteStatus]) -> String {
    let new: Vec<&RouteStatus> = routes.iter().filter(|status| status.never_run && !status.running).collect();
    if new.len() > FEW {
        return not_run_yet_words(new.len());
    }
    let line = |status: &&RouteStatus| {
        let route = clean(&status.route);
        format!(
            "{route}: has not run yet. `chestnut preview {typed}` says what the first run would do.\n",
            typed = typed(&route)
        )
    };
    new.iter().map(line).collect()
}

fn notes(status: &RouteStatus, clock: &Clock, all: bool) -> String {
    let mut out = String::new();
    let route = clean(&status.route);
    if let Some(note) = &status.note {
        out += &note_words(&status.route, note);
    }
    let until = status.paused_until.as_ref().and_then(|at| at.parse::<Timestamp>().ok());
    let until = until.map(|at| moment_text(at, clock));
    match (&status.paused_account, until) {
        (Some(account), until) => out += &paused_with_words(&status.route, account, until.as_deref()),
        (None, Some(at)) => out += &paused_until_words(&status.route, &at),
        (None, None) => {
            let since = status.paused_since.as_ref().and_then(|at| at.parse::<Timestamp>().ok());
            let since = since.map(|at| paused_since_words(&status.route, &moment_text(at, clock)));
            out += &since.unwrap_or_default();
        }
    }
    if let Some(error) = status.error.as_ref().filter(|_| status.failed) {
        out += &style::paint(style::BAD, format!("{route}: {}\n", shorten(error, WHOLE)));
    }
    // What was refused is named below: once is enough.
    let told: Vec<_> = status
        .left_out
        .iter()
        .filter(|(reason, _)| status.troubles.is_empty() || reason.as_str() != LeftOut::Refused.key())
        .map(|(reason, n)| left_out_words(reason, *n))
        .collect();
    if !told.is_empty() {
        out += &format!("{route}: left out: {}\n", told.join(", "));
    }
    if status.held > 0 {
        let held = count(status.held, "change needs", "changes need");
        out += &style::paint(style::WARN, format!("{route}: {held} your decision\n"));
    }
    if let Some(compared) = status.compared.as_ref().filter(|compared| compared.not_in_step > 0) {
        let entries = count(compared.not_in_step, "entry", "entries");
        let words =
            format!("{route}: {entries} not in step when it was compared, {}\n", age_text(compared.age));
        out += &style::paint(style::WARN, words);
    }
    if !status.troubles.is_empty() {
        let entries = count(status.troubles.len(), "entry is", "entries are");
        out += &style::paint(style::WARN, format!("{route}: {entries} not on the far side as sent:\n"));
        let shown = if all { status.troubles.len() } else { status.troubles.len().min(ENOUGH) };
        for trouble in &status.troubles[..shown] {
            out += &format!("  {}: {}\n", readable(&trouble.title), readable(&trouble.reason));
        }
        if shown < status.troubles.len() {
            out += &format!("  … and {} more; -v names them all\n", status.troubles.len() - shown);
        }
    }
    out
}
