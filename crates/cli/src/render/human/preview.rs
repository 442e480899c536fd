//! What the next sync would do, for people.

use std::collections::{BTreeMap, BTreeSet};

use chestnut_engine::{PreviewReport, Why};

use super::fields::field_lines;
use crate::render::{
    Clock, Column, below, clean, count, readable, signed, start_text, style, table, zone_name,
};
use crate::report::held::Field;
use crate::report::preview::{Line, RoutePreview};
use crate::settings::RouteSettings;
use crate::words::{
    each_says, field_word, left_out_why, left_out_words, of_occurrence, scheduler_lines, stands_alone,
    stood_before, value_words, why_words, your_decision,
};

/// Lines that are shown without `-v`.
const ENOUGH: usize = 12;

pub(crate) fn human(preview: &RoutePreview, clock: &Clock, all: bool) -> String {
    let first = if preview.first_run { ", first run" } else { "" };
    let name = style::paint(style::STRONG, &preview.route);
    let mut out = format!("{name}: {}{first}\n", clean(&preview.way));
    out.extend(preview.warning.clone());
    if preview.changes.is_empty() {
        out += "  nothing to do\n";
    } else {
        let mut told: Vec<_> =
            per_calendar(preview.changes.iter().map(|c| (c.action, c.calendar.as_deref())))
                .into_iter()
                .map(|((what, calendar), number)| format!("{number} {what} in {}", clean(calendar)))
                .collect();
        told.extend((preview.link > 0).then(|| format!("{} already there and alike", preview.link)));
        let held = preview.changes.iter().filter(|change| change.action == "hold").count();
        told.extend((held > preview.would_mail).then(|| {
            let number = held - preview.would_mail;
            format!("{number} to be decided by you")
        }));
        told.extend(
            (preview.would_mail > 0)
                .then(|| format!("{} held, since a server could write to people", preview.would_mail)),
        );
        out += &format!("  {}; nothing is written by a preview\n", told.join(", "));
    }
    if preview.first_run {
        for (number, words) in stood_before(preview.matched, preview.owned) {
            out += &format!("  {number} {words}\n");
        }
        if preview.strangers > 0 {
            out += &format!("  {} {}\n", preview.strangers, stands_alone(preview.strangers));
        }
    }
    if preview.held > 0 {
        let deletions = count(preview.held, "deletion", "deletions");
        out += &style::paint(style::WARN, format!("  {deletions} would be held and need your decision\n"));
    }
    if !preview.changes.is_empty() {
        out += &format!("  times in {}\n", zone_name(clock));
        out += &lines(&preview.changes, clock, all);
    }
    if !preview.left_out.is_empty() {
        let mut reasons: BTreeMap<&str, usize> = BTreeMap::new();
        for line in &preview.left_out {
            *reasons.entry(line.why.as_str()).or_default() += 1;
        }
        let words: Vec<_> = reasons.into_iter().map(|(key, n)| left_out_words(key, n)).collect();
        let names = if all { "" } else { "; -v names them" };
        out += &format!("  left out: {}{names}\n", words.join(", "));
        if all {
            out += &lines(&preview.left_out, clock, all);
        }
    }
    out
}

/// What the first run of a route would do, in numbers.
pub(crate) fn first_summary(name: &str, route: &RouteSettings, preview: &PreviewReport) -> String {
    let number = |action: &str| preview.changes.iter().filter(|c| c.action == action).count();
    let mut out =
        format!("{}: {}, first run\n", style::paint(style::STRONG, clean(name)), clean(&route.way()));
    let mut line = |count: usize, one: &str, many: &str| {
        if count > 0 {
            out += &format!("  {count:6} {}\n", if count == 1 { one } else { many });
        }
    };
    line(
        number("link"),
        "is already there and says the same; it is linked without a write",
        "are already there and say the same; they are linked without a write",
    );
    let changes = preview.changes.iter().map(|c| (c.action, c.calendar.as_deref()));
    for ((what, calendar), count) in per_calendar(changes) {
        let (one, many) = match what {
            "to update" => (
                "; it stands there already and says something else",
                "; they stand there already and say something else",
            ),
            "to delete" => (
                "; it is nobody's copy, and strangers = \"remove\"",
                "; they are nobody's copies, and strangers = \"remove\"",
            ),
            _ => ("", ""),
        };
        let there = clean(calendar);
        line(count, &format!("{what} in {there}{one}"), &format!("{what} in {there}{many}"));
    }
    for (count, words) in stood_before(preview.matched, preview.owned) {
        line(count, words, words);
    }
    let mails = preview.changes.iter().filter(|c| matches!(c.why, Why::WouldMail { .. })).count();
    line(
        number("hold") - mails,
        "says different things in different calendars, and needs your decision",
        "say different things in different calendars, and need your decision",
    );
    let mail = |need: &str| format!("could make a server write to people, and {need} your decision");
    line(mails, &mail("needs"), &mail("need"));
    line(
        preview.held,
        "deletion is held and needs your decision",
        "deletions are held and need your decision",
    );
    line(preview.strangers, stands_alone(preview.strangers), stands_alone(preview.strangers));
    let mut reasons: BTreeMap<&str, usize> = BTreeMap::new();
    let keys: Vec<String> = preview.left_out.iter().map(|left| why_words(&left.why)).collect();
    keys.iter().for_each(|key| *reasons.entry(key).or_default() += 1);
    let words: Vec<_> = reasons.into_iter().map(|(key, n)| left_out_words(key, n)).collect();
    let left_out = format!("left out: {}", words.join(", "));
    line(preview.left_out.len(), &left_out, &left_out);
    out += &scheduler_lines(&preview.schedulers, route.carry.people);
    out
}

pub(crate) fn lines(lines: &[Line], clock: &Clock, all: bool) -> String {
    // What needs no write does not hide what does.
    let (quiet, loud): (Vec<_>, Vec<_>) = lines.iter().partition(|line| !all && line.action == "link");
    let lines = if loud.is_empty() { quiet } else { loud };
    let shown = if all { lines.len() } else { lines.len().min(ENOUGH) };
    let places: BTreeSet<_> = lines.iter().map(|line| &line.calendar).collect();
    let row = |line: &Line| {
        let why = match line.decision {
            Some(number) => your_decision(number),
            None if line.action == "leave out" => left_out_why(&line.why),
            None => line.why.clone(),
        };
        let mut row = vec![signed(line.action)];
        row.extend((places.len() > 1).then(|| clean(line.calendar.as_deref().unwrap_or("all"))));
        row.extend([
            start_text(&line.start, clock),
            readable(&line.title),
            style::paint(style::FAINT, readable(&why)),
        ]);
        row
    };
    let mut columns =
        vec![("", Column::Whole), ("Starts", Column::Day), ("Title", Column::Text), ("Why", Column::Prose)];
    if places.len() > 1 {
        columns.insert(1, ("In", Column::Name));
    }
    let rows = lines[..shown].iter().flat_map(|line| {
        let details = field_lines(&line.fields, clock, false).into_iter();
        let details = details.chain(line.disagreement.iter().map(|field| field_sides(field, clock)));
        [row(line)].into_iter().chain(details.map(|line| below(&line))).collect::<Vec<_>>()
    });
    let mut out = table(&columns, &rows.collect::<Vec<_>>());
    if shown < lines.len() {
        out += &format!("  … and {} more; -v names them all\n", lines.len() - shown);
    }
    out
}

/// What each calendar says of a detail about which they disagree.
fn field_sides(field: &Field, clock: &Clock) -> String {
    let value = |text: &str| readable(&value_words(&field.field, text, clock));
    let said = field.values.iter().map(|one| (clean(&one.calendar), value(&one.value)));
    let detail = field_word(&field.field) + &of_occurrence(&field.occurrence, clock);
    let agreed = if field.agreed.is_empty() { String::new() } else { value(&field.agreed) };
    each_says(&detail, &agreed, &said.collect::<Vec<_>>())
}

/// Counts what is to be done in each calendar: what is new first, deletions last.
pub(crate) fn per_calendar<'c>(
    changes: impl Iterator<Item = (&'static str, Option<&'c str>)>,
) -> Vec<((&'static str, &'c str), usize)> {
    let kinds = [("create", "to create"), ("update", "to update"), ("delete", "to delete")];
    let mut counts = BTreeMap::new();
    for (action, calendar) in changes {
        if let Some(kind) = kinds.iter().position(|(name, _)| *name == action) {
            *counts.entry((kind, calendar.unwrap_or_default())).or_default() += 1;
        }
    }
    counts.into_iter().map(|((kind, calendar), number)| ((kinds[kind].1, calendar), number)).collect()
}
