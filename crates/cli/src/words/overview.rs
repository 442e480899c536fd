//! Sentences of the report for others.

use std::path::Path;

use crate::failure::Failure;
use crate::render::{age_text, clean, count, shorten, typed};
use crate::report::overview::Report;
use crate::report::status::{RouteStatus, State};

/// Something that a person has to see to.
#[derive(Debug)]
pub(crate) struct Need {
    /// Nothing arrives until it is seen to.
    pub(crate) is_grave: bool,
    /// The route or calendar.
    pub(crate) of: String,
    pub(crate) what: String,
    /// The command that helps.
    pub(crate) command: String,
}

/// What a person has to see to, the grave first.
pub(crate) fn needs(report: &Report) -> Vec<Need> {
    let mut needs: Vec<Need> =
        report.health.routes.iter().flat_map(|status| needs_of_route(status, report)).collect();
    for left in &report.health.probe_leftovers {
        needs.push(Need {
            is_grave: false,
            of: clean(&left.route),
            what: format!("a test entry may still stand in {}", clean(&left.calendar)),
            command: format!("chestnut probe {} --sweep", typed(&left.route)),
        });
    }
    // What is told of a route stands with it.
    for trouble in report.health.troubles.iter().filter(|trouble| trouble.sort != "route") {
        let note = trouble.note.as_ref().map(|note| format!(" ({})", clean(note))).unwrap_or_default();
        let about = clean(&trouble.about);
        // Whose it is, stands before it.
        let what = trouble.what.strip_prefix(&format!("{about}: ")).unwrap_or(&trouble.what);
        needs.push(Need {
            is_grave: true,
            what: format!("{}, begun {}{note}", shorten(what, 200), age_text(trouble.age)),
            command: match trouble.sort {
                "account" => format!("chestnut account test {}", typed(&about)),
                _ => "chestnut status".to_owned(),
            },
            of: about,
        });
    }
    for name in &report.gone {
        needs.push(Need {
            is_grave: false,
            of: clean(name),
            what: "the route is no longer in the configuration; its copies remain".to_owned(),
            command: format!("chestnut route retire {}", typed(name)),
        });
    }
    needs.sort_by_key(|need| !need.is_grave);
    needs
}

fn needs_of_route(status: &RouteStatus, report: &Report) -> Vec<Need> {
    let route = clean(&status.route);
    let mut needs = Vec::new();
    let mut need = |is_grave: bool, what: String, command: String| {
        needs.push(Need { is_grave, of: route.clone(), what, command });
    };
    if status.failed {
        let what = match (&status.error, status.troubles.len()) {
            (Some(error), _) => shorten(error, 200),
            (None, 1) => {
                let trouble = &status.troubles[0];
                format!("{}: {}", shorten(&trouble.title, 60), shorten(&trouble.reason, 120))
            }
            (None, number) => format!("{number} entries are not on the far side as sent"),
        };
        need(true, what, format!("chestnut sync {}", typed(&route)));
    }
    if status.never_run && !status.running {
        need(true, "it has not run yet".to_owned(), format!("chestnut preview {}", typed(&route)));
    }
    if status.stale {
        let age = status.last_success_age.map(age_text);
        let age = age.map_or_else(|| "none yet".to_owned(), |age| format!("the last one {age}"));
        need(
            true,
            format!("no successful run for too long: {age}"),
            format!("chestnut sync {}", typed(&route)),
        );
    }
    if status.held > 0 {
        let held = count(status.held, "change needs", "changes need");
        need(false, format!("{held} your decision"), "chestnut held".to_owned());
    }
    if status.paused {
        let resume = match &status.paused_account {
            Some(account) => format!("chestnut account resume {}", typed(account)),
            None => format!("chestnut route resume {}", typed(&route)),
        };
        need(false, "paused: nothing is copied".to_owned(), resume);
    }
    let compared = report.compared.iter().find(|one| one.comparison.route == status.route);
    let differing = compared.map_or(0, |one| one.comparison.unexplained().len());
    if let Some(compared) = compared.filter(|_| differing > 0 && !status.never_run) {
        let entries = count(differing, "entry", "entries");
        let age = age_text(compared.age);
        need(false, format!("{entries} not in step when it was compared, {age}"), {
            format!("chestnut compare {}", typed(&route))
        });
    }
    needs
}

/// How it stands, in a sentence.
pub(crate) fn verdict(report: &Report) -> String {
    let all = report.health.routes.len();
    let in_step = report.health.routes.iter().filter(|route| route.state == State::InStep).count();
    let needing =
        report.health.routes.iter().filter(|route| !needs_of_route(route, report).is_empty()).count();
    match (all, needing) {
        (0, _) => "There is no route yet: nothing is kept in step.".to_owned(),
        (1, 0) if in_step == all => "The route is in step.".to_owned(),
        (_, 0) if in_step == all => format!("All {all} routes are in step."),
        (_, 0) => {
            format!("{in_step} of {} in step; nothing needs you.", count(all, "route is", "routes are"))
        }
        (_, some) => format!(
            "{some} of {} a person.",
            count(all, "route needs", if some == 1 { "routes needs" } else { "routes need" })
        ),
    }
}

/// The state of a route, in two or three words.
pub(crate) fn state_words(status: &RouteStatus) -> String {
    match status.state {
        State::Running => "running".to_owned(),
        State::Paused => "paused".to_owned(),
        State::NeverRun => "never run".to_owned(),
        State::Failed => "failed".to_owned(),
        State::Held => format!("held: {}", status.held),
        State::Behind if status.stale => "behind: no successful run for too long".to_owned(),
        State::Behind => "behind: changes wait for the next run".to_owned(),
        State::InStep => "in step".to_owned(),
    }
}

/// Calendars that nothing is copied from or to.
pub(crate) fn uncovered_words(names: &[String]) -> Option<String> {
    let (calendars, them) = match names.len() {
        0 => return None,
        1 => ("1 calendar has".to_owned(), "it"),
        more => (format!("{more} calendars have"), "them"),
    };
    let names: Vec<_> = names.iter().map(|name| clean(name)).collect();
    Some(format!("{calendars} no route; nothing in {them} is copied: {}", names.join(", ")))
}

pub(crate) fn report_where() -> Failure {
    Failure::usage("the report needs a file, or --text".to_owned())
        .hint("Write a page with `chestnut report calendars.html`, or a text for a mail with `chestnut report --text`.")
}

pub(crate) fn not_our_page(path: &Path) -> Failure {
    Failure::usage(format!("{} is there already, and is not a report by Chestnut", path.display()))
        .hint("Nothing was written. Choose another name; an earlier report is replaced.")
}

pub(crate) fn page_written(path: &Path, report: &Report) -> String {
    format!(
        "{}\nWritten to {}: open it in a browser, print it, or send it on.\n",
        verdict(report),
        path.display()
    )
}

/// Instead of a title, where titles are not shown.
pub(crate) const UNTITLED: &str = "(an entry)";
