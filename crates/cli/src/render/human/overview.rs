//! The report as a text that fits into a mail.

use crate::render::{
    Clock, Column, age_text, clean, count, fit, moment_text, shorten, start_text, table, typed, wrap,
};
use crate::report::overview::Report;
use crate::words::{needs, state_words, uncovered_words, verdict};

/// Columns of a mail.
const WIDTH: usize = 72;
/// Differences and decisions that are named.
const ENOUGH: usize = 12;

pub(crate) fn text(report: &Report, clock: &Clock) -> String {
    let moment = |text: &str| text.parse().map(|at| moment_text(at, clock)).unwrap_or_default();
    let mut out = format!("Calendars in step, {}\nsince {}\n\n", moment(&report.made), moment(&report.since));
    out += &format!("{}\n", verdict(report));
    let needs = needs(report);
    if !needs.is_empty() || !report.troubles.is_empty() {
        out += "\nTo see to\n";
    }
    for need in &needs {
        out += &item(&format!("{}: {}", need.of, need.what));
        out += &format!("    {}\n", need.command);
    }
    for trouble in &report.troubles {
        out += &item(&format!("not read for this report: {trouble}"));
    }
    out += &routes(report);
    out += &decisions(report, clock);
    out += &differences(report, clock);
    if let Some(words) = uncovered_words(&report.health.uncovered) {
        out.push('\n');
        wrap(&words, WIDTH).iter().for_each(|line| out += &format!("{line}\n"));
    }
    out
}

/// A point of a list, its lines indented.
fn item(text: &str) -> String {
    let lines = wrap(text, WIDTH - 4);
    let line = |(at, line): (usize, &String)| format!("{}{line}\n", if at == 0 { "  - " } else { "    " });
    lines.iter().enumerate().map(line).collect()
}

fn routes(report: &Report) -> String {
    if report.health.routes.is_empty() {
        return String::new();
    }
    let columns = [
        ("Route", Column::Name),
        ("In step", Column::Number),
        ("Created", Column::Number),
        ("Updated", Column::Number),
        ("Deleted", Column::Number),
        ("State", Column::Prose),
    ];
    let rows: Vec<_> = report
        .health
        .routes
        .iter()
        .map(|status| {
            let did = report.did.get(&status.route).copied().unwrap_or_default();
            let numbers = [status.in_step, did.created, did.updated, did.deleted].map(|n| n.to_string());
            let mut row = vec![clean(&status.route)];
            row.extend(numbers);
            row.push(clean(&state_words(status)));
            row
        })
        .collect();
    format!("\nRoutes\n{}", fit(&table(&columns, &rows), Some(WIDTH)))
}

fn decisions(report: &Report, clock: &Clock) -> String {
    let open: Vec<_> = report.held.iter().filter(|item| item.decision.is_none()).collect();
    if open.is_empty() {
        return String::new();
    }
    let mut out = "\nWaiting for a decision\n".to_owned();
    for held in open.iter().take(ENOUGH) {
        let route = clean(&held.route);
        let what = match held.kind.as_str() {
            "deletions" => count(held.entries.len(), "deletion", "deletions"),
            _ => format!("{}, {}", shorten(&held.title, 60), start_text(&held.start, clock)),
        };
        out += &item(&format!("{route}: {what}"));
        out += &format!("    chestnut decide {} {}\n", held.number, clean(&held.choices.join("|")));
    }
    out + &rest(open.len(), "chestnut held")
}

fn differences(report: &Report, clock: &Clock) -> String {
    let mut out = String::new();
    for compared in report.compared.iter().filter(|one| !one.comparison.unexplained().is_empty()) {
        let one = &compared.comparison;
        let lines = one.unexplained();
        out += &format!("\n{}, compared {}\n", clean(&one.route), age_text(compared.age));
        for line in lines.iter().take(ENOUGH) {
            let why = if line.why.is_empty() { String::new() } else { format!(": {}", line.why) };
            out += &item(&format!("{}, {}{why}", shorten(&line.title, 60), start_text(&line.start, clock)));
        }
        out += &rest(lines.len(), &format!("chestnut compare {} -v", typed(&one.route)));
    }
    out
}

fn rest(number: usize, command: &str) -> String {
    if number > ENOUGH { format!("    and {} more: {command}\n", number - ENOUGH) } else { String::new() }
}
