//! One page of HTML for others: no scripts, nothing loaded from anywhere, every text of a calendar escaped.

mod chart;
mod drawing;
mod week;

use std::sync::LazyLock;

use base64::Engine as _;
use chestnut_engine::Standing;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use sha2::{Digest as _, Sha256};

use super::{Clock, age_text, clean, count, day_and_time, moment_text, shorten, start_text, zone_name};
use crate::render::typed;
use crate::report::agenda::letter;
use crate::report::compare::Line;
use crate::report::held::{Held, Value};
use crate::report::overview::{Compared, Report};
use crate::report::status::{RouteStatus, State};
use crate::words::{
    cause_advice, field_word, left_out_words, needs, of_occurrence, state_words, uncovered_words,
    value_words, verdict,
};

const STYLE: &str = include_str!("style.css");
/// How a page of ours begins.
const MARK: &str = "<meta name=\"generator\" content=\"chestnut\">";
/// Findings that are named for each route, and deletions for each decision.
const ENOUGH: usize = 12;
/// Characters of a whole text; an attachment would make the page large.
const TEXT: usize = 4000;

/// Tells whether a file is such a page.
pub(crate) fn is_page(bytes: &[u8]) -> bool {
    let head = String::from_utf8_lossy(&bytes[..bytes.len().min(1000)]);
    head.contains(MARK)
}

/// What a page may do: the only thing that is let in is the style that stands in it.
pub(crate) static PAGE_POLICY: LazyLock<String> = LazyLock::new(|| {
    let hash = base64::engine::general_purpose::STANDARD.encode(Sha256::digest(STYLE));
    format!("default-src 'none'; style-src 'sha256-{hash}'; base-uri 'none'; form-action 'none'")
});

/// The whole page.
pub(crate) fn page(report: &Report, zone: &TimeZone) -> String {
    let clock = &Clock::of_any_day(zone);
    let markup = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                (PreEscaped(MARK))
                meta http-equiv="Content-Security-Policy" content=(*PAGE_POLICY);
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="color-scheme" content="light dark";
                meta name="referrer" content="no-referrer";
                title { "Calendars in step, " (day_of(&report.made, clock)) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                header {
                    h1 { "Calendars in step" }
                    p.made { "As of " (moment(&report.made, clock)) }
                    (headline(report, clock))
                }
                main {
                    (to_see_to(report))
                    (feeds(report))
                    (routes(report, clock))
                    (decisions(report, clock))
                    (differences(report, clock))
                    (changes(report, clock))
                    (week(report, clock))
                }
                footer { p { "Made by Chestnut. This page loads nothing and runs nothing." } }
            }
        }
    };
    markup.into_string() + "\n"
}

fn parsed(text: &str) -> Option<Timestamp> {
    text.parse().ok()
}

fn moment(text: &str, clock: &Clock) -> String {
    parsed(text).map(|at| moment_text(at, clock)).unwrap_or_default()
}

fn day_of(text: &str, clock: &Clock) -> String {
    parsed(text).map(|at| clock.day(at.to_zoned(clock.zone.clone()).date())).unwrap_or_default()
}

/// The sentence, and four figures.
fn headline(report: &Report, clock: &Clock) -> Markup {
    let needs = needs(report);
    let class = match needs.iter().map(|need| need.is_grave).max() {
        Some(true) => "bad",
        Some(false) => "warn",
        None => "good",
    };
    let in_step: usize = report.health.routes.iter().map(|route| route.in_step).sum();
    let held: usize = report.health.routes.iter().map(|route| route.held).sum();
    let changes: usize = report.did.values().map(|did| did.changes()).sum();
    let figure = |number: usize, words: &str| html! { li { strong { (number) } " " (words) } };
    html! {
        p.verdict.(class) { (verdict(report)) }
        ul.figures {
            (figure(report.health.routes.len(), "routes"))
            (figure(in_step, "entries in step"))
            (figure(held, "waiting for a decision"))
            (figure(changes, &format!("changes since {}", day_of(&report.since, clock))))
        }
    }
}

fn to_see_to(report: &Report) -> Markup {
    let needs = needs(report);
    let uncovered = uncovered_words(&report.health.uncovered);
    if needs.is_empty() && uncovered.is_none() && report.troubles.is_empty() {
        return html! {};
    }
    html! {
        section {
            h2 { "To see to" }
            ul.needs {
                @for need in &needs {
                    li class=(if need.is_grave { "bad" } else { "warn" }) {
                        strong { (need.of) } ": " (need.what) " " code { (need.command) }
                    }
                }
                @for trouble in &report.troubles { li.warn { "Not read for this page: " (clean(trouble)) } }
                @if let Some(words) = uncovered { li.note { (words) } }
            }
        }
    }
}

fn feeds(report: &Report) -> Markup {
    if report.calendars.is_empty() {
        return html! {};
    }
    html! {
        section {
            h2 { "Who feeds whom" }
            (drawing::drawing(&report.calendars, &report.health.routes))
            p.legend {
                "An arrow points to the calendar that is written. The numbers are those of the list below. "
                span.good { "In step" } ", " span.warn { "needs a look" } ", " span.bad { "failed or never run" } "."
            }
        }
    }
}

fn class_of(status: &RouteStatus) -> &'static str {
    match status.state {
        State::Running | State::InStep => "good",
        State::Failed | State::NeverRun => "bad",
        State::Paused | State::Held | State::Behind => "warn",
    }
}

fn routes(report: &Report, clock: &Clock) -> Markup {
    html! {
        section {
            h2 { "Routes" }
            @if report.health.routes.is_empty() { p { "There is none yet." } }
            @else {
                table.stacks {
                    thead {
                        tr {
                            th.number scope="col" { "No." } th scope="col" { "Route" } th scope="col" { "Way" }
                            th scope="col" { "State" } th scope="col" { "Last good run" }
                            th.number scope="col" { "In step" } th.number scope="col" { "Held" }
                            th scope="col" { "Left out" }
                        }
                    }
                    tbody {
                        @for (at, status) in report.health.routes.iter().enumerate() {
                            tr {
                                td.number data-label="No." { (at + 1) }
                                th scope="row" { (clean(&status.route)) }
                                td data-label="Way" { (clean(&status.way)) }
                                td data-label="State" { span.state.(class_of(status)) { (state_words(status)) } }
                                td data-label="Last good run" { (last_good(status, clock)) }
                                td.number data-label="In step" { (status.in_step) }
                                td.number data-label="Held" { (status.held) }
                                td data-label="Left out" { (left_out(status)) }
                            }
                        }
                    }
                }
            }
        }
    }
}

fn last_good(status: &RouteStatus, clock: &Clock) -> String {
    match (&status.last_success, status.last_success_age) {
        (Some(at), Some(age)) => {
            let at = parsed(at).map(|at| day_and_time(at, clock));
            format!("{} ({})", at.unwrap_or_default(), age_text(age))
        }
        _ => "none yet".to_owned(),
    }
}

fn left_out(status: &RouteStatus) -> String {
    let told: Vec<_> =
        status.left_out.iter().map(|(reason, number)| left_out_words(reason, *number)).collect();
    if told.is_empty() { "–".to_owned() } else { told.join("; ") }
}

fn decisions(report: &Report, clock: &Clock) -> Markup {
    if report.held.is_empty() {
        return html! {};
    }
    html! {
        section {
            h2 { "Waiting for a decision" }
            p { "Times in " (zone_name(clock)) ". Nothing of this is done until somebody says so." }
            @for item in &report.held { (decision(item, clock)) }
        }
    }
}

fn decision(item: &Held, clock: &Clock) -> Markup {
    let title = format!("{}, {}", shorten(&item.title, 80), start_text(&item.start, clock));
    html! {
        article {
            h3 {
                "No. " (item.number) ", " (clean(&item.route)) ": "
                @match item.kind.as_str() {
                    "deletions" => { (count(item.entries.len(), "deletion", "deletions")) }
                    "mail" => { "could write to people: " (title) }
                    _ => { "calendars disagree about " (title) }
                }
            }
            @if !item.entries.is_empty() {
                ul {
                    @for entry in item.entries.iter().take(ENOUGH) {
                        li {
                            (clean(&entry.calendar)) ": " (start_text(&entry.start, clock)) " "
                            (shorten(&entry.title, 80))
                        }
                    }
                    (more(item.entries.len(), ENOUGH, "chestnut held -v"))
                }
            }
            @if !item.fields.is_empty() { (fields(item, clock)) }
            @if !item.texts.is_empty() {
                details {
                    summary { "The whole texts" }
                    div.texts {
                        @for Value { calendar, value } in &item.texts {
                            div { h4 { (clean(calendar)) } pre { (whole_text(value)) } }
                        }
                    }
                }
            }
            p {
                @match &item.decision {
                    Some(choice) => { "Decided: " strong { (clean(choice)) } ". The next sync does it." }
                    None => {
                        "Decide: "
                        code { "chestnut decide " (item.number) " " (clean(&item.choices.join("|"))) }
                    }
                }
            }
        }
    }
}

/// A text as it stands, line by line.
fn whole_text(text: &str) -> String {
    let mut shown: String = text.lines().map(|line| clean(line) + "\n").collect();
    if let Some((at, _)) = shown.char_indices().nth(TEXT) {
        shown.truncate(at);
        shown += "…";
    }
    shown
}

/// What calendars say differently, side by side.
fn fields(item: &Held, clock: &Clock) -> Markup {
    let mut calendars: Vec<&String> =
        item.fields.iter().flat_map(|field| &field.values).map(|value| &value.calendar).collect();
    calendars.sort();
    calendars.dedup();
    let before = if item.kind == "mail" { "Now" } else { "Agreed" };
    html! {
        table.stacks {
            thead {
                tr {
                    th scope="col" { "Field" } th scope="col" { (before) }
                    @for calendar in &calendars { th scope="col" { (clean(calendar)) } }
                }
            }
            tbody {
                @for field in &item.fields {
                    tr {
                        th scope="row" {
                            (field_word(&field.field)) (of_occurrence(&field.occurrence, clock))
                        }
                        td data-label=(before) { (said(&field.field, &field.agreed, clock)) }
                        @for calendar in &calendars {
                            td data-label=(clean(calendar)) {
                                (field.values.iter().find(|value| value.calendar == **calendar)
                                    .map_or_else(|| "as agreed".to_owned(), |value| said(&field.field, &value.value, clock)))
                            }
                        }
                    }
                }
            }
        }
    }
}

fn said(field: &str, text: &str, clock: &Clock) -> String {
    if text.is_empty() { "–".to_owned() } else { shorten(&value_words(field, text, clock), 400) }
}

fn more(number: usize, shown: usize, command: &str) -> Markup {
    html! {
        @if number > shown { li.more { "and " (number - shown) " more: " code { (command) } } }
    }
}

fn differences(report: &Report, clock: &Clock) -> Markup {
    let differing: Vec<&Compared> =
        report.compared.iter().filter(|one| !one.comparison.unexplained().is_empty()).collect();
    let all = report.health.routes.len();
    html! {
        section {
            h2 { "What differs" }
            @match (report.compared.iter().map(|one| one.age).max(), differing.len()) {
                (None, _) => p {
                    "No route was compared yet. " code { "chestnut compare" }
                    " reads both sides of every route afresh."
                }
                (Some(age), 0) => p {
                    (report.compared.len()) " of " (count(all, "route was", "routes were"))
                    " compared, the first of them " (age_text(age)) ": nothing differed but what waits for a decision."
                }
                (Some(_), _) => p {
                    (report.compared.len()) " of " (count(all, "route was", "routes were")) " compared; "
                    (count(differing.len(), "route differed", "routes differed")) ". Times in " (zone_name(clock)) "."
                }
            }
            @for one in differing { (route_differences(one, clock)) }
        }
    }
}

fn route_differences(compared: &Compared, clock: &Clock) -> Markup {
    let one = &compared.comparison;
    let lines = one.unexplained();
    let route = clean(&one.route);
    let mut advice: Vec<String> =
        lines.iter().filter_map(|line| cause_advice(line.cause, line.standing, &route)).collect();
    advice.sort();
    advice.dedup();
    html! {
        article {
            h3 { (route) ", compared " (age_text(compared.age)) }
            p {
                (one.in_step) " in step, " (one.differs) " different, " (one.missing) " missing, "
                (one.extra) " too many."
            }
            table.stacks {
                thead {
                    tr {
                        th scope="col" { "Entry" } th scope="col" { "Starts" } th scope="col" { "Calendar" }
                        th scope="col" { "How" } th scope="col" { "Why" }
                    }
                }
                tbody {
                    @for line in lines.iter().take(ENOUGH) {
                        tr {
                            th scope="row" { (shorten(&line.title, 80)) }
                            td data-label="Starts" { (start_text(&line.start, clock)) }
                            td data-label="Calendar" { (clean(&line.calendar)) }
                            td data-label="How" { (how(line)) }
                            td data-label="Why" { (shorten(&line.why, 200)) }
                        }
                    }
                }
            }
            ul {
                (more(lines.len(), ENOUGH, &format!("chestnut compare {} -v", typed(&route))))
                @for words in advice { li { (words) } }
            }
        }
    }
}

/// How an entry stands, and in which fields it differs.
fn how(line: &Line) -> String {
    let word = match line.standing {
        Standing::Differs => "different",
        Standing::Missing => return "missing".to_owned(),
        Standing::Extra => return "too many".to_owned(),
        Standing::LeftOut | Standing::Own | Standing::OfAnotherRoute => return "left out".to_owned(),
    };
    let mut fields: Vec<String> =
        line.differences.iter().map(|one| field_word(&one.field).to_lowercase()).collect();
    fields.dedup();
    if fields.is_empty() { word.to_owned() } else { format!("{word}: {}", fields.join(", ")) }
}

fn changes(report: &Report, clock: &Clock) -> Markup {
    let all: usize = report.did.values().map(|did| did.changes()).sum();
    html! {
        section {
            h2 { "Changes since " (day_of(&report.since, clock)) }
            @if report.did.is_empty() { p { "No run changed anything." } }
            @else {
                @if all > 0 {
                    (chart::chart(&report.steps, chart::Size::Wide))
                    (chart::chart(&report.steps, chart::Size::Narrow))
                }
                table.stacks {
                    thead {
                        tr {
                            th scope="col" { "Route" } th.number scope="col" { "Runs" }
                            th.number scope="col" { "Failed" } th.number scope="col" { "Created" }
                            th.number scope="col" { "Updated" } th.number scope="col" { "Deleted" }
                        }
                    }
                    tbody {
                        @for (route, did) in &report.did {
                            tr {
                                th scope="row" { (clean(route)) }
                                td.number data-label="Runs" { (did.runs) }
                                td.number data-label="Failed" { (did.failed) }
                                td.number data-label="Created" { (did.created) }
                                td.number data-label="Updated" { (did.updated) }
                                td.number data-label="Deleted" { (did.deleted) }
                            }
                        }
                    }
                }
            }
        }
    }
}

fn week(report: &Report, clock: &Clock) -> Markup {
    let week = &report.week;
    html! {
        section {
            h2 { "The week of " (week.first.strftime("%-d %B %Y")) }
            p.legend {
                @for (number, name) in week.calendars.iter().enumerate() {
                    span.key { span.chip.(week::colour(number)) { (letter(number)) } " " (clean(name)) } " "
                }
            }
            p.legend {
                "In small letters what is a copy. Times in " (zone_name(clock)) "."
            }
            (week::picture(week, report.made.parse().ok(), &clock.zone))
            (week::list(week, &clock.zone))
            details.asof {
                summary { "When the calendars were last looked at" }
                ul { @for line in week.as_of.lines() { li { (clean(line)) } } }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::STYLE;

    /// Colours by their names, first those of light, then those of dark.
    fn themes() -> [BTreeMap<&'static str, &'static str>; 2] {
        let (light, rest) = STYLE.split_once("prefers-color-scheme: dark").expect("two themes");
        let dark = rest.split_once("}").expect("its end").0;
        let colours = |text: &'static str| -> BTreeMap<_, _> {
            let lines = text.lines().filter_map(|line| line.trim().strip_prefix("--")?.split_once(": #"));
            lines.map(|(name, value)| (name, value.trim_end_matches(';'))).collect()
        };
        let light = colours(light);
        let dark = light.clone().into_iter().chain(colours(dark)).collect();
        [light, dark]
    }

    /// WCAG 2.2, relative luminance.
    fn luminance(colour: &str) -> f64 {
        let part = |at: usize| {
            let part = f64::from(u8::from_str_radix(&colour[at..at + 2], 16).expect("a colour")) / 255.0;
            if part <= 0.04045 { part / 12.92 } else { ((part + 0.055) / 1.055).powf(2.4) }
        };
        0.2126 * part(0) + 0.7152 * part(2) + 0.0722 * part(4)
    }

    #[test]
    fn every_text_can_be_read_on_what_is_behind_it() {
        for theme in themes() {
            let contrast = |one: &str, other: &str| {
                let (one, other) = (luminance(theme[one]), luminance(theme[other]));
                (one.max(other) + 0.05) / (one.min(other) + 0.05)
            };
            let texts = ["ink", "faint", "good", "warn", "bad", "accent"];
            let pairs = texts.iter().flat_map(|text| ["paper", "card"].map(|behind| (*text, behind)));
            let chips = ["c0", "c1", "c2", "c3", "c4", "c5"].map(|chip| ("chip-ink", chip));
            for (text, behind) in pairs.chain(chips) {
                assert!(contrast(text, behind) >= 4.5, "{text} on {behind}: {}", contrast(text, behind));
            }
        }
    }
}
