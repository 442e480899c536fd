//! What a text says differently from another, field by field.

use chestnut_core::ical::Limits;
use chestnut_core::{Entry, FieldDifference};
use serde::Serialize;

/// A property that was changed, or will be.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct FieldChange {
    /// The property, such as `LOCATION`; `(whole)` where an occurrence came or went.
    pub(crate) field: String,
    /// The RECURRENCE-ID of an occurrence; empty for the series.
    pub(crate) occurrence: String,
    pub(crate) old: String,
    pub(crate) new: String,
}

/// Compares two texts of one entry; nothing where one of them is not there, or cannot be read.
pub(crate) fn field_changes(before: Option<&str>, after: Option<&str>) -> Vec<FieldChange> {
    let read = |text: &str| Entry::parse(text, &Limits::default()).ok().map(|entry| entry.meaning());
    let (Some(before), Some(after)) = (before.and_then(read), after.and_then(read)) else {
        return Vec::new();
    };
    let field = |one: FieldDifference| FieldChange {
        field: one.field,
        occurrence: one.occurrence.recurrence_id,
        old: one.first.join(" | "),
        new: one.second.join(" | "),
    };
    before.differences(&after).into_iter().map(field).collect()
}
