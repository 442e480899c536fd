//! Doubles and copies of a calendar, for people.

use super::undo::{put_rows, troubles};
use crate::render::{Clock, Column, clean, count, readable, start_text, style, table, zone_name};
use crate::report::tidy::{Doubles, Report};
use crate::words::{doubles_stay, made_again, no_copies_there, no_doubles, remove_doubles, restored_as};

/// Lines that are shown without `-v`.
const ENOUGH: usize = 12;

/// What stands there several times.
pub(crate) fn doubles(report: &Report, clock: &Clock, all: bool) -> String {
    let calendar = clean(&report.calendar);
    if report.doubles.is_empty() {
        return no_doubles(&calendar);
    }
    let number = count(report.doubles.len(), "entry stands", "entries stand");
    let name = style::paint(style::STRONG, &calendar);
    let mut out = format!("{name}: {number} there several times; times in {}\n", zone_name(clock));
    let columns = [
        ("Starts", Column::Day),
        ("Title", Column::Text),
        ("Stands there", Column::Number),
        ("What stays", Column::Prose),
    ];
    let shown = if all { report.doubles.len() } else { report.doubles.len().min(ENOUGH) };
    let row = |one: &Doubles| {
        let stays = doubles_stay(one.kept, one.number, &one.routes);
        vec![start_text(&one.start, clock), readable(&one.title), one.number.to_string(), stays]
    };
    out += &table(&columns, &report.doubles[..shown].iter().map(row).collect::<Vec<_>>());
    if shown < report.doubles.len() {
        out += &format!("  … and {} more; -v names them all\n", report.doubles.len() - shown);
    }
    if report.taken.is_none() && !report.deletes.is_empty() {
        out += &remove_doubles(&calendar, report.deletes.len());
    }
    out
}

/// The copies that would be deleted.
pub(crate) fn copies(report: &Report, clock: &Clock, all: bool) -> String {
    let calendar = clean(&report.calendar);
    if report.deletes.is_empty() && report.left.is_empty() {
        return no_copies_there(&calendar);
    }
    let number = count(report.deletes.len(), "copy", "copies");
    let name = style::paint(style::STRONG, &calendar);
    let mut out = format!("{name}: {number}; times in {}\n", zone_name(clock));
    let shown = if all { report.deletes.len() } else { report.deletes.len().min(ENOUGH) };
    out += &put_rows(&report.deletes[..shown], &report.left, clock);
    if shown < report.deletes.len() {
        out += &format!("  … and {} more; -v names them all\n", report.deletes.len() - shown);
    }
    for route in &report.made_again_by {
        out += &style::paint(style::WARN, made_again(&clean(route)));
    }
    out
}

/// What came of it.
pub(crate) fn tidied(report: &Report) -> String {
    report.taken.as_ref().map(|taken| restored_as(taken) + &troubles(taken)).unwrap_or_default()
}
