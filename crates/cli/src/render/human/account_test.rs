//! The way to an account's calendars, for people.

use super::calendar_list::calendar_rows;
use crate::render::{clean, style, wrap};
use crate::report::account_test::AccountReport;

/// The steps, and where one fails what to do; then the calendars.
pub(crate) fn human(report: &AccountReport) -> String {
    let mut out = steps_text(report);
    if report.ok && !report.calendars.is_empty() {
        out.push('\n');
        out += &calendar_rows(&report.calendars);
    } else if report.ok {
        let create = format!("chestnut calendar create {} \"NAME\"", report.account);
        out += &format!("\nThere is no calendar yet. Make one to receive copies: {create}\n");
    }
    out
}

/// The steps, and where one fails what to do.
pub(crate) fn steps_text(report: &AccountReport) -> String {
    let user = report.user.as_deref().map(|u| format!(" as {u}")).unwrap_or_default();
    let name = style::paint(style::STRONG, &report.account);
    let mut out = format!("{name} at {}{}\n", clean(&report.url), clean(&user));
    for step in &report.steps {
        let sign = if step.ok { style::paint(style::GOOD, "✓") } else { style::paint(style::BAD, "✗") };
        let time = match step.milliseconds {
            0 => String::new(),
            ms => style::paint(style::FAINT, format!("  {ms} ms")),
        };
        out += &format!("  {sign} {:11} {}{time}\n", step.step, clean(&step.seen));
        if let Some(note) = &step.note {
            out += &format!("  {} {:11} {}\n", style::paint(style::WARN, "!"), "", clean(note));
        }
    }
    if !report.ok {
        // Where it failed before the first step, nothing was said yet.
        let told = report.steps.iter().any(|step| !step.ok);
        let error = report.error.iter().filter(|_| !told);
        for line in error.chain(&report.hint).flat_map(|text| wrap(text, 88)) {
            out += &format!("                {line}\n");
        }
    }
    out
}
