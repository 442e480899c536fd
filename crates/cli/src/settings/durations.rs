//! Durations as people write them: `30s`, `10 minutes`, `90 days`.

use jiff::{SignedDuration, Span, SpanRelativeTo};

/// Reads a duration; days count 24 hours, weeks seven days, months 30 and years 365.
pub(crate) fn parse_duration(text: &str) -> Option<SignedDuration> {
    let span: Span = text.trim().parse().ok()?;
    let days = i64::from(span.get_years()) * 365 + i64::from(span.get_months()) * 30;
    let short = span.years(0).months(0);
    let short = short.to_duration(SpanRelativeTo::days_are_24_hours()).ok()?;
    let duration = short.checked_add(SignedDuration::from_hours(days * 24))?;
    duration.is_positive().then_some(duration)
}
