//! What a comparison came to, for people.

use std::collections::BTreeSet;

use chestnut_engine::Standing;

use super::differences::difference_lines;
use crate::render::{Clock, Column, below, clean, count, readable, start_text, style, table, zone_name};
use crate::report::compare::{Line, RouteComparison};
use crate::words::{cause_advice, left_out_words};

/// Findings that are named without `-v`.
const ENOUGH: usize = 12;

pub(crate) fn human(comparisons: &[RouteComparison], clock: &Clock, all: bool) -> String {
    comparisons.iter().map(|one| route(one, clock, all)).collect::<Vec<_>>().join("\n")
}

fn route(one: &RouteComparison, clock: &Clock, all: bool) -> String {
    let name = style::paint(style::STRONG, clean(&one.route));
    let mut out = format!("{name}: {}\n", clean(&one.way));
    if one.not_compared.is_some() {
        return out + &style::paint(style::BAD, "  not compared; nothing is said of its entries\n");
    }
    let mut told = vec![format!("{} in step", one.in_step)];
    let mut tell = |number: usize, words: &str| {
        told.extend((number > 0).then(|| format!("{number} {words}")));
    };
    tell(one.differs, "different");
    tell(one.missing, "missing");
    tell(one.left_out.values().sum(), "left out");
    tell(one.passed_over, "too young to say");
    out += &format!("  {}: {}\n", count(one.entries, "entry", "entries"), told.join(", "));
    let mut besides = Vec::new();
    let mut beside = |number: usize, one: &str, many: &str| {
        besides.extend((number > 0).then(|| count(number, one, many)));
    };
    beside(one.extra, "entry that should not be there", "entries that should not be there");
    beside(one.own, "entry of the far side's own", "entries of the far side's own");
    let (one_copy, copies) =
        ("copy of another route, or left behind", "copies of other routes, or left behind");
    beside(one.of_other_routes, one_copy, copies);
    if !besides.is_empty() {
        out += &format!("  besides: {}\n", besides.join(", "));
    }
    if !one.left_out.is_empty() {
        let words: Vec<_> = one.left_out.iter().map(|(key, n)| left_out_words(key, *n)).collect();
        out += &format!("  left out: {}\n", words.join(", "));
    }
    let lines: Vec<&Line> = match all {
        true => one.findings.iter().chain(&one.beside).collect(),
        false => one.findings.iter().filter(|line| line.is_trouble()).collect(),
    };
    if lines.is_empty() {
        return out;
    }
    out += &format!("  times in {}\n\n", zone_name(clock));
    let shown = if all { lines.len() } else { lines.len().min(ENOUGH) };
    let columns = [("", Column::Whole), ("", Column::Day), ("", Column::Prose)];
    let mut rows = Vec::new();
    for line in &lines[..shown] {
        rows.push(row(line, clock, one.two_way));
        rows.extend(difference_lines(&line.differences, clock).iter().map(|line| below(line)));
    }
    out += &table(&columns, &rows);
    if shown < lines.len() {
        out += &format!("  … and {} more; -v names them all\n", lines.len() - shown);
    }
    let causes: BTreeSet<_> = lines.iter().map(|line| (line.cause, line.standing)).collect();
    let advice =
        causes.into_iter().filter_map(|(cause, standing)| cause_advice(cause, standing, &clean(&one.route)));
    let advice: BTreeSet<_> = advice.collect();
    if !advice.is_empty() {
        out.push('\n');
    }
    for words in advice {
        out += &format!("  {words}\n");
    }
    out
}

/// One entry, and why it stands as it does.
fn row(line: &Line, clock: &Clock, two_way: bool) -> Vec<String> {
    let (word, paint) = match line.standing {
        Standing::Differs => ("differs", style::WARN),
        Standing::Missing => ("missing", style::BAD),
        Standing::Extra if !line.is_trouble() => ("extra", style::FAINT),
        Standing::Extra => ("extra", style::BAD),
        Standing::LeftOut => ("left out", style::FAINT),
        Standing::Own => ("own", style::FAINT),
        Standing::OfAnotherRoute => ("other", style::FAINT),
    };
    let place = if two_way { format!(" in {}", clean(&line.calendar)) } else { String::new() };
    let why = match line.why.as_str() {
        "" => String::new(),
        why => format!("  {}", style::paint(style::FAINT, readable(why))),
    };
    vec![
        style::paint(paint, word),
        start_text(&line.start, clock),
        format!("{}{place}{why}", readable(&line.title)),
    ]
}
