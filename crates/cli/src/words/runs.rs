//! Sentences about runs.

use chestnut_core::People;
use chestnut_engine::{Phase, PreviewReport};

use super::errors::InWords as _;
use crate::failure::Failure;
use crate::render::{clean, count, style, typed};

/// What `people = "invite"` means, said before it happens.
pub(crate) fn invitation_warning(name: &str, to: &str) -> String {
    let words = format!(
        "{name}: people = \"invite\" carries organisers and attendees to {}. A server that sends invitations may \
         write to these people when a copy is made, changed or deleted.",
        clean(to)
    );
    format!("{}\n", style::paint(style::WARN, words))
}

/// Which servers write to people, and what a route does about it; said before a first run.
pub(crate) fn scheduler_lines(calendars: &[String], people: People) -> String {
    if calendars.is_empty() || people == People::Invite {
        return String::new();
    }
    let names: Vec<_> = calendars.iter().map(|name| clean(name)).collect();
    format!(
        "  {}: the server sends invitations by itself. Nothing is written that makes it do so: new entries go \
         there\n  without people, and a change or deletion of a meeting that stands there waits for you.\n",
        names.join(", ")
    )
}

/// What to do about what is held.
pub(crate) fn held_lines() -> &'static str {
    "See what needs your decision with `chestnut held`; answer with `chestnut decide NUMBER`\n"
}

/// `sync --dry-run` is what people try first.
pub(crate) fn use_preview(routes: &[String]) -> Failure {
    let words: Vec<_> = ["chestnut preview"].into_iter().chain(routes.iter().map(String::as_str)).collect();
    Failure::usage("`sync` writes; what it would do is shown by another command")
        .hint(format!("Use `{}`.", words.join(" ")))
}

/// The one line that is told of what is held where nothing else is to be told.
pub(crate) fn needs_decision(route: &str, held: usize) -> String {
    let changes = count(held, "change needs", "changes need");
    format!("{}: {changes} your decision: `chestnut held`\n", clean(route))
}

/// One cause, and more than one route.
pub(crate) fn stops_routes(routes: &[&str]) -> String {
    let names: Vec<_> = routes.iter().map(|route| clean(route)).collect();
    format!("Routes that it stops: {}\n", names.join(", "))
}

/// What to do about a route that is no longer in the configuration.
pub(crate) fn gone_words(name: &str) -> String {
    let name = clean(name);
    style::paint(
        style::WARN,
        format!(
            "{name} ran once and is no longer in the configuration; its copies stay where they are.\n  \
             forget it: chestnut route retire {typed}\n",
            typed = typed(&name)
        ),
    )
}

/// What a person should know before a first run.
pub(crate) fn preview_warning(preview: &PreviewReport, to: &str, people: People) -> Option<String> {
    let invites = preview.warns_of_invitations.then(|| invitation_warning(&preview.route, to));
    let clocks = preview.clocks_apart.as_ref().map(|apart| {
        let words = format!("{}: {}; nothing is deleted until they agree\n", preview.route, apart.in_words());
        style::paint(style::WARN, words)
    });
    let schedulers = preview.first_run.then(|| scheduler_lines(&preview.schedulers, people));
    let all: String = invites.into_iter().chain(clocks).chain(schedulers).collect();
    (!all.is_empty()).then_some(all)
}

/// A route asks before its first write.
pub(crate) fn never_ran(name: &str) -> Failure {
    Failure::waiting(format!("route {name} never ran, and asks before its first write"))
        .hint("See what it would do with `chestnut preview`, then say `chestnut sync --yes` once.")
}

/// Many routes wait for their first sync.
pub(crate) fn not_run_yet_words(number: usize) -> String {
    format!(
        "{number} routes have not run yet. `chestnut preview ROUTE` says what the first run of one would do.\n"
    )
}

/// A paused route writes nothing.
pub(crate) fn not_while_paused(name: &str, account: Option<&str>) -> Failure {
    match account {
        None => Failure::waiting(format!("route {name} is paused; nothing was written"))
            .hint(format!("Let it go on with `chestnut route resume {}`.", typed(name))),
        Some(account) => {
            Failure::waiting(format!("account {account} of route {name} is paused; nothing was written"))
                .hint(format!("Let it go on with `chestnut account resume {}`.", typed(account)))
        }
    }
}

/// An option is no duration.
pub(crate) fn not_a_duration(option: &str, text: &str) -> Failure {
    Failure::usage(format!("{option} {text:?} is not a duration"))
        .hint("Write it as 30m, 2h or \"10 minutes\".")
}

/// A calendar that was found at another path.
pub(crate) fn moved_calendar_words(calendar: &str) -> String {
    format!("{calendar} stands at another path now, and is the same calendar: what was agreed goes on there")
}

/// A server that has each UID once for every user.
pub(crate) fn own_uids_words(calendar: &str) -> String {
    format!(
        "the server of {calendar} takes no UID that another calendar of the user has: entries get UIDs of their own there"
    )
}

/// Whom a run waits for.
pub(crate) fn waiting_words(host: &str, seconds: u64) -> String {
    format!("waiting for {host} ({seconds} s)")
}

/// What a run is doing.
pub(crate) fn phase_words(phase: Phase) -> &'static str {
    match phase {
        Phase::Surveying => "looking for changes",
        Phase::Fetching => "fetching",
        Phase::Writing => "writing",
        Phase::ReadingBack => "reading back",
    }
}

/// What is held cannot be read.
pub(crate) fn not_understood(number: i64, words: &dyn std::fmt::Display) -> Failure {
    Failure::failed(format!("number {number} in the state cannot be read: {words}"))
}

/// Whoever ran it was ended before it was.
pub(crate) fn run_cut_off(run: i64) -> String {
    format!("run {run} was cut off; the next sync goes on where it was")
}
