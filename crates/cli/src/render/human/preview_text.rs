//! The texts that copies have, or will have, for people.

use crate::render::{Clock, clean, readable, start_text, style, zone_name};
use crate::report::preview_text::{CopyText, Report};
use crate::words::stands_or_comes;

/// Texts that are shown without `-v`.
const ENOUGH: usize = 6;

pub(crate) fn human(report: &Report, clock: &Clock, all: bool) -> String {
    let texts = &report.texts;
    let shown = if all { texts.len() } else { texts.len().min(ENOUGH) };
    let mut out = format!("times in {}\n", zone_name(clock));
    texts[..shown].iter().for_each(|one| out += &one_text(one, clock));
    if shown < texts.len() {
        out += &format!("… and {} more; -v shows them all\n", texts.len() - shown);
    }
    out
}

fn one_text(one: &CopyText, clock: &Clock) -> String {
    let head = format!("{}: {}, {}", clean(&one.route), readable(&one.title), start_text(&one.start, clock));
    let mut out = format!("\n{}\n  {}\n\n", style::paint(style::STRONG, head), stands_or_comes(one));
    for line in one.text.lines() {
        out += &format!("    {}\n", clean(line));
    }
    out
}
