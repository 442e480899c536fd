//! How a test entry fared, for people.

use jiff::Timestamp;

use crate::render::{Clock, clean, count, moment_text, readable, start_text, style, typed, wrap};
use crate::report::probe::{LegReport, Newest, Outcome, RouteProbe};

pub(crate) fn human(probes: &[RouteProbe], clock: &Clock) -> String {
    probes.iter().map(|one| route(one, clock)).collect::<Vec<_>>().join("\n")
}

fn route(one: &RouteProbe, clock: &Clock) -> String {
    let mut out = format!("{}: {}\n", style::paint(style::STRONG, clean(&one.route)), clean(&one.way));
    let mut direction = None;
    let several = one.legs.iter().any(|leg| leg.from != one.legs[0].from || leg.to != one.legs[0].to);
    let mut legs: Vec<&LegReport> = one.legs.iter().collect();
    // Step by step in each direction.
    legs.sort_by_key(|leg| {
        one.legs.iter().position(|first| (&first.from, &first.to) == (&leg.from, &leg.to))
    });
    for leg in legs {
        if several && direction != Some((&leg.from, &leg.to)) {
            direction = Some((&leg.from, &leg.to));
            out += &format!("  {} → {}\n", clean(&leg.from), clean(&leg.to));
        }
        out += &line(leg);
    }
    if let Some(compared) = &one.compared {
        out += &newest(compared, clock);
    }
    if let Some(cannot) = &one.cannot {
        out += &style::paint(style::WARN, format!("  {}\n", clean(cannot)));
    }
    if let Some(number) = one.swept {
        out += &match number {
            0 => "  no test entry was left anywhere\n".to_owned(),
            number => format!("  {} taken away\n", count(number, "test entry was", "test entries were")),
        };
    }
    for left in &one.leftovers {
        let words = format!("  still stands in {}: {}\n", clean(&left.calendar), clean(&left.path));
        out += &style::paint(style::BAD, words);
    }
    if !one.leftovers.is_empty() {
        out += &format!("  take it away later: chestnut probe {} --sweep\n", typed(&one.route));
    } else if !one.legs.is_empty() {
        out += &style::paint(style::FAINT, "  nothing of the test entry is left\n");
    }
    out
}

fn line(leg: &LegReport) -> String {
    let time = match leg.milliseconds {
        0 => String::new(),
        ms @ 1..1000 => style::paint(style::FAINT, format!("  {ms} ms")),
        ms => style::paint(style::FAINT, format!("  {}.{} s", ms / 1000, ms % 1000 / 100)),
    };
    let to = clean(&leg.to);
    let (sign, words) = match leg.outcome {
        Outcome::Arrived if leg.step == "delete" => {
            (style::paint(style::GOOD, "✓"), format!("gone from {to}"))
        }
        Outcome::Arrived => (style::paint(style::GOOD, "✓"), format!("arrived in {to}")),
        Outcome::Hidden => {
            (style::paint(style::GOOD, "✓"), format!("does not show in {to}, as the route says"))
        }
        Outcome::Stays => (
            style::paint(style::GOOD, "✓"),
            format!("its copy stays in {to}, as the route says; taken away now"),
        ),
        Outcome::Skipped => (style::paint(style::FAINT, "–"), "skipped".to_owned()),
        Outcome::NotTried => (style::paint(style::FAINT, "–"), "not tried".to_owned()),
        Outcome::Failed => (style::paint(style::BAD, "✗"), "did not arrive".to_owned()),
    };
    let reason = leg.reason.as_ref().map(|reason| format!(": {}", clean(reason))).unwrap_or_default();
    let mut lines = wrap(&format!("{words}{reason}"), 84).into_iter();
    let mut out = format!("  {sign} {:9} {}{time}\n", leg.step, lines.next().unwrap_or_default());
    for more in lines {
        out += &format!("              {more}\n");
    }
    for more in leg.advice.iter().flat_map(|advice| wrap(advice, 84)) {
        out += &format!("              {}\n", style::paint(style::WARN, more));
    }
    out
}

fn newest(compared: &Newest, clock: &Clock) -> String {
    let entries = count(compared.entries, "entry", "entries");
    let mut out = "  its source can only be read: changes could not be tried\n".to_owned();
    let sign = match compared.not_in_step.is_empty() {
        true => style::paint(style::GOOD, "✓"),
        false => style::paint(style::BAD, "✗"),
    };
    let in_step = compared.entries.saturating_sub(compared.not_in_step.len());
    out += &format!("  {sign} the newest {entries} compared: {in_step} in step\n");
    for one in &compared.not_in_step {
        let start = start_text(&one.start, clock);
        out += &format!("    {start}  {}: {}\n", readable(&one.title), readable(&one.why));
    }
    let at = compared.changed_at.as_ref().and_then(|at| at.parse::<Timestamp>().ok());
    if let (Some(days), Some(at)) = (compared.quiet_days, at) {
        let words = format!(
            "  ✗ nothing has changed there for {days} days (since {}): is it still kept up? See quiet-after.\n",
            moment_text(at, clock)
        );
        out += &style::paint(style::BAD, words);
    }
    out
}
