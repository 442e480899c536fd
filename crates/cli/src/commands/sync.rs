//! `chestnut sync`: runs routes now.

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::rc::Rc;

use chestnut_core::People;
use chestnut_engine::{PreviewReport, RunOptions, RunReport, Silent, preview_route, run_route};
use chestnut_store::{Change, ChangeAction, Counts, RunResult, Store};
use jiff::tz::TimeZone;
use serde::Serialize;

use super::preview::per_calendar;
use super::route::{gone, gone_words};
use super::{block_on, load, open_state, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::progress::Bars;
use crate::questions::Questions;
use crate::render::{Align, clean, count, shorten, start_text, style, table, zone_name};
use crate::run::Io;
use crate::settings::{Connections, RouteSettings, route_key, side_by_side};
use crate::words::{left_out_why, told_words};

#[derive(Debug, Serialize)]
struct Report {
    runs: Vec<Run>,
}

#[derive(Debug, Serialize)]
struct Run {
    run: Option<i64>,
    route: String,
    result: RunResult,
    calendars: BTreeMap<String, Counts>,
    linked: usize,
    in_step: usize,
    left_out: BTreeMap<String, usize>,
    held: usize,
    disagreements: usize,
    /// Of what is held, the disagreements.
    held_disagreements: usize,
    /// Copies that lack something, by what they lack.
    partly: BTreeMap<String, usize>,
    damaged: Vec<Trouble>,
    failed: Vec<Trouble>,
    newly_left_out: Vec<Trouble>,
    error: Option<String>,
    requests: u64,
    writes: u64,
    milliseconds: u64,
    #[serde(skip)]
    changes: Vec<Change>,
    #[serde(skip)]
    failure: Option<Failure>,
    #[serde(skip)]
    written: Vec<String>,
}

#[derive(Debug, Serialize)]
struct Trouble {
    calendar: String,
    uid: String,
    title: String,
    start: String,
    reason: String,
}

/// How to sync.
#[derive(Debug, Clone, Copy)]
pub(super) struct How {
    /// New routes begin without a question.
    pub(super) yes: bool,
    pub(super) allow_deletions: bool,
    pub(super) afresh: bool,
}

pub(super) fn run(
    routes: &[String],
    how: &How,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let mut chosen = settings.chosen_routes(routes)?;
    let store = open_state(common, &settings)?;
    let mut paused = String::new();
    let is_paused =
        |name: &str| -> Result<bool, Failure> { Ok(store.route(name)?.is_some_and(|route| route.is_paused)) };
    for name in chosen.iter().map(|(name, _)| *name).collect::<Vec<_>>() {
        if is_paused(name)? {
            chosen.retain(|(other, _)| *other != name);
            let name = clean(name);
            paused += &format!("{name} is paused, and was passed over: chestnut route resume {name}\n");
        }
    }
    if !paused.is_empty() {
        paused = style::paint(style::WARN, paused);
    }
    let gone: String = gone(&store, &settings)?.iter().map(|name| gone_words(name)).collect();
    let key = route_key(&settings, true)?;
    let options = RunOptions {
        allow_deletions: how.allow_deletions,
        afresh: how.afresh,
        measure: !io.environment.clock_is_fixed(),
        names_all: common.verbose > 0,
        ..RunOptions::at(io.environment.now()?)
    };
    let connections = Connections::new(&settings, &io.environment);
    let bars = Bars::new(io.progress && !common.quiet);
    let asked = First { how, store: &store, connections: &connections, key: &key, options: &options };
    let mut refused = BTreeMap::new();
    for (name, route) in &chosen {
        if let Some(failure) = asked.refusal(name, route, io.can_ask, &mut *io.err)? {
            refused.insert((*name).to_owned(), failure);
        }
    }
    let refused = RefCell::new(refused);
    let groups = side_by_side(&chosen);
    let one = async |name: &str, route: &RouteSettings| {
        if let Some(failure) = refused.borrow_mut().remove(name) {
            return not_begun(name, route, failure);
        }
        // One route that fails does not stop the others.
        let report = match connections.route(name, route, &key).await {
            Ok(ready) => run_route(&ready, &store, &options, &bars.route(name)).await.map_err(Failure::from),
            Err(failure) => Err(failure),
        };
        report.map_or_else(|failure| not_begun(name, route, failure), |report| begun(route, report))
    };
    let one = &one;
    let work = async {
        // Routes that share no calendar run side by side, the others in order.
        let groups = groups.into_iter().map(|group| async move {
            let mut runs = Vec::new();
            for (name, route) in group {
                runs.push(one(name, route).await);
            }
            runs
        });
        let mut runs: Vec<Run> = futures_util::future::join_all(groups).await.into_iter().flatten().collect();
        runs.sort_by_key(|run| chosen.iter().position(|(name, _)| *name == run.route));
        runs
    };
    let runs = block_on(async {
        tokio::select! {
            runs = work => Ok(runs),
            () = interrupted_twice(Rc::clone(&options.stop)) => {
                Err(Failure::failed("interrupted").hint("Run `chestnut sync` again; it goes on where it was cut off."))
            }
        }
    })??;
    let report = Report { runs };
    let zone = settings.zone.clone();
    show(common, io, &report, || human(&report, &zone, common.verbose > 0) + &paused + &gone)?;
    if !common.json {
        for failure in report.runs.iter().filter_map(|r| r.failure.as_ref()) {
            io.err.write_all(failure.lines().as_bytes())?;
        }
    }
    Ok(report.runs.iter().map(code).max().unwrap_or(ExitCode::Ok))
}

/// A route that never ran asks before it writes: it is the one moment at which a mistake reaches everything.
struct First<'f> {
    how: &'f How,
    store: &'f Store,
    connections: &'f Connections<'f>,
    key: &'f [u8],
    options: &'f RunOptions,
}

impl First<'_> {
    /// Why a route does not run now; `None` where it does.
    fn refusal(
        &self,
        name: &str,
        route: &RouteSettings,
        can_ask: bool,
        err: &mut dyn std::io::Write,
    ) -> Result<Option<Failure>, Failure> {
        if self.store.route(name)?.is_some_and(|route| route.ran_at.is_some()) {
            return Ok(None);
        }
        if route.carry.people == People::Invite {
            err.write_all(invitation_warning(name, &route.to()).as_bytes())?;
        }
        if self.how.yes {
            return Ok(None);
        }
        let Some(mut questions) = Questions::of_terminal(can_ask) else {
            return Ok(Some(
                Failure::usage(format!("route {name} never ran, and asks before its first write")).hint(
                    "See what it would do with `chestnut preview`, then say `chestnut sync --yes` once.",
                ),
            ));
        };
        let preview = block_on(async {
            let ready = self.connections.route(name, route, self.key).await?;
            Ok::<_, Failure>(preview_route(&ready, self.store, self.options, &Silent).await?)
        })?;
        // What cannot be read fails in the run, and is told there.
        let Ok(preview) = preview else { return Ok(None) };
        if preview.changes.iter().all(|change| change.action == "link") {
            return Ok(None);
        }
        err.write_all(first_summary(name, route, &preview).as_bytes())?;
        Ok(match questions.yes("Write this now?", false)? {
            true => None,
            false => Some(
                Failure::usage(format!("route {name} was not begun; nothing was written"))
                    .hint("`chestnut preview -v` names every entry."),
            ),
        })
    }
}

/// What the first run of a route would do, in numbers.
pub(super) fn first_summary(name: &str, route: &RouteSettings, preview: &PreviewReport) -> String {
    let number = |action: &str| preview.changes.iter().filter(|c| c.action == action).count();
    let mut out =
        format!("{}: {}, first run\n", style::paint(style::STRONG, clean(name)), clean(&route.way()));
    let mut line = |count: usize, what: &str| {
        if count > 0 {
            out += &format!("  {count:6} {what}\n");
        }
    };
    line(number("link"), "stand there already and say the same; they are linked without a write");
    let changes = preview.changes.iter().map(|c| (c.action, c.calendar.as_deref()));
    for ((what, calendar), count) in per_calendar(changes) {
        let more = match what {
            "to update" => "; they stand there already and say something else",
            "to delete" => "; they are nobody's copies, and strangers = \"remove\"",
            _ => "",
        };
        line(count, &format!("{what} in {}{more}", clean(calendar)));
    }
    line(preview.matched, "of these stood there before: they follow their sources, and stay their owner's");
    line(number("hold"), "say different things in different calendars, and wait for a person");
    line(preview.held, "deletions are held, for a person to decide");
    line(preview.strangers, "stand only on the far side, and are left alone");
    line(preview.left_out.len(), "are left out");
    out
}

/// What `people = "invite"` means, said before it happens.
pub(super) fn invitation_warning(name: &str, to: &str) -> String {
    let words = format!(
        "{name}: people = \"invite\" carries organisers and attendees to {}. A server that sends invitations may \
         write to these people when a copy is made, changed or deleted.",
        clean(to)
    );
    format!("{}\n", style::paint(style::WARN, words))
}

/// The first Ctrl-C lets what is in flight finish; the second one ends at once.
async fn interrupted_twice(stop: Rc<Cell<bool>>) {
    for asked in 1.. {
        if tokio::signal::ctrl_c().await.is_err() {
            std::future::pending::<()>().await;
        }
        stop.set(true);
        if asked == 2 {
            return;
        }
    }
}

fn code(run: &Run) -> ExitCode {
    match (&run.failure, run.result) {
        (Some(failure), _) => failure.code,
        (None, RunResult::Ok) => ExitCode::Ok,
        (None, RunResult::Held) => ExitCode::Waiting,
        (None, RunResult::Failed) => ExitCode::Failed,
    }
}

fn not_begun(name: &str, route: &RouteSettings, failure: Failure) -> Run {
    Run {
        run: None,
        route: name.to_owned(),
        result: RunResult::Failed,
        calendars: BTreeMap::new(),
        linked: 0,
        in_step: 0,
        left_out: BTreeMap::new(),
        held: 0,
        disagreements: 0,
        held_disagreements: 0,
        partly: BTreeMap::new(),
        damaged: Vec::new(),
        failed: Vec::new(),
        newly_left_out: Vec::new(),
        error: Some(failure.message.clone()),
        requests: 0,
        writes: 0,
        milliseconds: 0,
        changes: Vec::new(),
        failure: Some(failure),
        written: written(route),
    }
}

fn begun(route: &RouteSettings, report: RunReport) -> Run {
    let troubles = |action: ChangeAction| {
        let mut of: Vec<_> = report.changes.iter().filter(|c| c.action == action).collect();
        of.sort_by(|a, b| (&a.start, &a.uid).cmp(&(&b.start, &b.uid)));
        let trouble = |c: &Change| Trouble {
            calendar: c.calendar.clone(),
            uid: c.uid.to_string(),
            title: c.title.clone(),
            start: c.start.clone(),
            reason: c.told.as_ref().map(told_words).unwrap_or_default(),
        };
        of.into_iter().map(trouble).collect()
    };
    Run {
        run: report.run.map(|run| run.0),
        route: report.route,
        result: report.result,
        calendars: report.summary.calendars,
        linked: report.summary.linked,
        in_step: report.summary.in_step,
        left_out: report.summary.left_out,
        held: report.summary.held,
        disagreements: report.summary.disagreements,
        held_disagreements: report.summary.held_disagreements,
        partly: report.summary.partly,
        damaged: troubles(ChangeAction::Damaged),
        failed: troubles(ChangeAction::Failed),
        newly_left_out: troubles(ChangeAction::LeftOut),
        error: report.summary.error,
        requests: report.summary.requests,
        writes: report.summary.writes,
        milliseconds: report.summary.milliseconds,
        changes: report.changes,
        failure: report.error.map(Failure::from),
        written: written(route),
    }
}

/// The calendars that a route writes.
fn written(route: &RouteSettings) -> Vec<String> {
    if route.is_two_way { route.ends.clone() } else { route.ends[1..].to_vec() }
}

fn human(report: &Report, zone: &TimeZone, verbose: bool) -> String {
    let columns = [
        ("Route", Align::Left),
        ("To", Align::Left),
        ("Created", Align::Right),
        ("Updated", Align::Right),
        ("Deleted", Align::Right),
        ("In step", Align::Right),
        ("Requests", Align::Right),
        ("Result", Align::Left),
    ];
    let rows: Vec<_> = report.runs.iter().flat_map(rows).collect();
    let mut out = table(&columns, &rows);
    for run in &report.runs {
        out += &notes(run, zone, verbose);
    }
    if report.runs.iter().any(|run| run.held > 0) {
        out += held_lines();
    }
    out
}

/// A row for each calendar that is written; what concerns the whole route stands in the first.
fn rows(run: &Run) -> Vec<Vec<String>> {
    let counts = |calendar: &String| run.calendars.get(calendar).copied().unwrap_or_default();
    let is_quiet = run.written.iter().all(|calendar| counts(calendar) == Counts::default());
    let result = match run.result {
        RunResult::Ok if is_quiet => style::paint(style::GOOD, "nothing to do"),
        RunResult::Ok => style::paint(style::GOOD, "done"),
        RunResult::Held => style::paint(style::WARN, "done, but held"),
        RunResult::Failed if run.failure.as_ref().is_some_and(|f| f.code == ExitCode::Usage) => {
            style::paint(style::WARN, "not begun")
        }
        RunResult::Failed => style::paint(style::BAD, "failed"),
    };
    let number = |n: usize| n.to_string();
    let row = |(at, calendar): (usize, &String)| {
        let counts = counts(calendar);
        let first = |text: String| if at == 0 { text } else { String::new() };
        vec![
            first(clean(&run.route)),
            clean(calendar),
            number(counts.created),
            number(counts.updated),
            number(counts.deleted),
            first(number(run.in_step)),
            first(run.requests.to_string()),
            first(result.clone()),
        ]
    };
    run.written.iter().enumerate().map(row).collect()
}

/// What the table has no room for: what was left out, held, damaged or failed, and with `-v` every change.
fn notes(run: &Run, zone: &TimeZone, verbose: bool) -> String {
    let mut out = String::new();
    let route = &run.route;
    if run.linked > 0 {
        out += &format!(
            "{route}: {} stood there already and are linked without a write\n",
            count(run.linked, "entry", "entries")
        );
    }
    if !run.left_out.is_empty() {
        let told: Vec<_> = run.left_out.iter().map(|(reason, n)| left_out_words(reason, *n)).collect();
        out += &format!("{route}: left out: {}\n", told.join(", "));
    }
    for (lacks, number) in &run.partly {
        let copies = count(*number, "copy", "copies");
        let words = match lacks.as_str() {
            "without-people" => "without the people its entry names: the far server would write to them",
            "in-unknown-zone" => {
                "in a time zone that is described nowhere: clients may show another time (-v names them)"
            }
            _ => "without attachments: with them it would be larger than the far server allows",
        };
        out += &format!("{route}: {copies} {words}\n");
    }
    if run.disagreements > 0 {
        let entries = count(run.disagreements, "entry", "entries");
        out += &format!(
            "{route}: calendars disagreed about {entries}; what did not count is kept: chestnut history {}\n",
            run.run.unwrap_or_default()
        );
    }
    if run.held > 0 {
        let deletions = run.held - run.held_disagreements;
        for (number, one, many, why) in [
            (deletions, "deletion is", "deletions are", "more than the route deletes unasked"),
            (run.held_disagreements, "disagreement is", "disagreements are", "the route asks a person"),
        ] {
            if number > 0 {
                let held = count(number, one, many);
                out += &style::paint(style::WARN, format!("{route}: {held} held: {why}\n"));
            }
        }
    }
    for (troubles, what) in
        [(&run.newly_left_out, "newly left out"), (&run.damaged, "not kept as sent"), (&run.failed, "failed")]
    {
        if troubles.is_empty() {
            continue;
        }
        out += &style::paint(
            style::BAD,
            format!("{route}: {}, {what}:\n", count(troubles.len(), "entry", "entries")),
        );
        let shown = if verbose { troubles.len() } else { troubles.len().min(12) };
        for trouble in &troubles[..shown] {
            let start = start_text(&trouble.start, zone);
            // A key where it is left out, else words already.
            let reason = left_out_why(&trouble.reason);
            out += &format!("  {start:24} {}: {}\n", shorten(&trouble.title, 36), shorten(&reason, 100));
        }
        if shown < troubles.len() {
            out += &format!("  … and {} more; -v names them all\n", troubles.len() - shown);
        }
    }
    if verbose && !run.changes.is_empty() {
        out += &format!("{route}: times in {}\n", zone_name(zone));
        out += &change_lines(&run.changes, zone);
    }
    out
}

/// What to do about what is held.
pub(super) fn held_lines() -> &'static str {
    "What is held waits for you: `chestnut held` shows it, `chestnut decide NUMBER CHOICE` answers.\n"
}

/// Words for the reasons that runs count.
pub(super) fn left_out_words(reason: &str, number: usize) -> String {
    let by_kind = |one: &str, many: &str, why: &str| format!("{} ({why})", count(number, one, many));
    let entries = |why: &str| format!("{} {why}", count(number, "entry", "entries"));
    match reason {
        "events-not-taken" => by_kind("event", "events", "the route does not take them"),
        "tasks-not-taken" => {
            by_kind("task", "tasks", "the route does not take them; see only = { kinds = … }")
        }
        "journals-not-taken" => by_kind("journal", "journals", "the route does not take them"),
        key if key.starts_with("only.") || key.starts_with("skip.") => {
            let (table, key) = key.split_once('.').unwrap_or((key, ""));
            entries(&format!("not taken ({table} = {{ {} = … }})", clean(key)))
        }
        "kind-not-accepted" => entries("of a kind that the far calendar does not accept"),
        "outside-window" => entries("outside the window"),
        "takes-no-time" => {
            by_kind("entry", "entries", "free, declined, called off, or no event: no time is taken")
        }
        "time-not-understood" => entries("whose time is not understood"),
        "copy-of-another-route" => by_kind("copy", "copies", "made by a route"),
        "too-large" => entries("larger than the far server allows"),
        "refused" => entries("refused by the far server (until they change)"),
        "unreadable" => entries("that cannot be read"),
        "no-uid" => entries("without UID"),
        "same-uid-twice" => entries("with the UID of another entry"),
        other => format!("{number} {}", clean(other)),
    }
}

/// One line for each change, in the order of their days; with its calendar, where there are several.
pub(super) fn change_lines(changes: &[Change], zone: &TimeZone) -> String {
    let mut changes: Vec<&Change> = changes.iter().collect();
    changes.sort_by(|a, b| (&a.start, &a.uid).cmp(&(&b.start, &b.uid)));
    let mut calendars: Vec<&str> = changes.iter().map(|c| c.calendar.as_str()).collect();
    calendars.sort_unstable();
    calendars.dedup();
    let width = calendars.iter().map(|name| name.chars().count()).max().unwrap_or(0);
    let place = |c: &Change| match calendars.len() {
        0 | 1 => String::new(),
        _ => format!("{:width$}  ", clean(&c.calendar)),
    };
    let line = |c: &Change| {
        let words = c
            .told
            .as_ref()
            .map(|told| format!("  {}", style::paint(style::FAINT, shorten(&told_words(told), 100))))
            .unwrap_or_default();
        let start = start_text(&c.start, zone);
        format!("  {:9} {}{start:24} {}{words}\n", c.action.word(), place(c), shorten(&c.title, 56))
    };
    changes.into_iter().map(line).collect()
}
