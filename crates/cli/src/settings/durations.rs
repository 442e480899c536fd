//! Durations as people write them: `30s`, `10 minutes`, `90 days`.

use jiff::{SignedDuration, Span, SpanRelativeTo};

/// Reads a duration; days count 24 hours, weeks seven days.
pub(crate) fn parse_duration(text: &str) -> Option<SignedDuration> {
    let span: Span = text.trim().parse().ok()?;
    let duration = span.to_duration(SpanRelativeTo::days_are_24_hours()).ok()?;
    duration.is_positive().then_some(duration)
}
