//! The way to an account's calendars, for people.

use super::calendar_list::calendar_rows;
use crate::check_account::host_of;
use crate::render::{Column, clean, style, table, typed};
use crate::report::account_test::AccountReport;
use crate::report::calendar_list::CalendarReport;

/// The steps, and where one fails what to do; then the calendars.
pub(crate) fn human(report: &AccountReport) -> String {
    let mut out = steps_text(report);
    if report.ok && !report.calendars.is_empty() {
        out.push('\n');
        out += &calendar_rows(&report.calendars);
        if report.calendars.iter().any(|calendar| calendar.changes_by.is_some()) {
            out.push('\n');
            out += &room_rows(&report.calendars);
        }
    } else if report.ok {
        let create = format!("chestnut calendar create {} \"NAME\"", typed(&report.account));
        out += &format!("\nThere is no calendar yet. Make one to receive copies: {create}\n");
    }
    out
}

/// What the calendars can do: how changes are found, and how much goes in.
fn room_rows(calendars: &[CalendarReport]) -> String {
    let columns = [
        ("Name", Column::Name),
        ("Changes are found by", Column::Prose),
        ("Largest entry", Column::Whole),
        ("Room left", Column::Whole),
    ];
    let bytes = |number: Option<u64>| number.map_or_else(|| "not told".to_owned(), size);
    let row = |c: &CalendarReport| {
        let by = match c.changes_by {
            Some("sync-report") => "sync reports",
            Some("ctag") => "its ctag, then a listing",
            _ => "a listing each time",
        };
        vec![clean(&c.name), by.to_owned(), bytes(c.max_size), bytes(c.room)]
    };
    table(&columns, &calendars.iter().map(row).collect::<Vec<_>>())
}

/// A number of bytes as people say it.
fn size(bytes: u64) -> String {
    let units = [(1_000_000_000, "GB"), (1_000_000, "MB"), (1000, "kB")];
    match units.iter().find(|(one, _)| bytes >= *one) {
        Some((one, unit)) if bytes / one < 10 && bytes % one * 10 / one > 0 => {
            format!("{}.{} {unit}", bytes / one, bytes % one * 10 / one)
        }
        Some((one, unit)) => format!("{} {unit}", bytes / one),
        None => format!("{bytes} bytes"),
    }
}

/// The steps, and where one fails what to do.
pub(crate) fn steps_text(report: &AccountReport) -> String {
    let user = report.user.as_deref().map(|u| format!(" as {u}")).unwrap_or_default();
    let name = style::paint(style::STRONG, &report.account);
    let mut out = format!("{name} at {}{}\n", clean(&report.url), clean(&user));
    let home = report.url.parse::<url::Url>().ok().map(|url| host_of(&url));
    for step in &report.steps {
        let sign = if step.ok { style::paint(style::GOOD, "✓") } else { style::paint(style::BAD, "✗") };
        let time = match step.milliseconds {
            0 => String::new(),
            ms => style::paint(style::FAINT, format!("  {ms} ms")),
        };
        let elsewhere = Some(step.host.as_str()) != home.as_deref();
        let at = if elsewhere { format!(" (at {})", clean(&step.host)) } else { String::new() };
        out += &format!("  {sign} {:11} {}{at}{time}\n", step.step, clean(&step.seen));
        if let Some(note) = &step.note {
            out += &format!("  {} {:11} {}\n", style::paint(style::WARN, "!"), "", clean(note));
        }
    }
    if !report.ok {
        // Where it failed before the first step, nothing was said yet.
        let told = report.steps.iter().any(|step| !step.ok);
        let error = report.error.iter().filter(|_| !told);
        for text in error.chain(&report.hint) {
            out += &format!("                {}\n", clean(text));
        }
    }
    out
}
