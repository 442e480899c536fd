//! What was changed in an entry, or will be: old and new, field by field.

use crate::render::{Clock, readable};
use crate::report::fields::FieldChange;
use crate::words::{
    field_order, field_word, occurrence_came_or_went, of_occurrence, span_words, value_words,
    without_same_day,
};

/// A line for each field. An hour that is another one is told together with its end; only where `whole` are long values
/// not shortened.
pub(crate) fn field_lines(fields: &[FieldChange], clock: &Clock, whole: bool) -> Vec<String> {
    let span_of = |occurrence: &str| {
        let named = |name: &str| fields.iter().find(|one| one.field == name && one.occurrence == occurrence);
        let (start, end) = (named("DTSTART")?, named("DTEND")?);
        span_words([&start.old, &end.old], [&start.new, &end.new], clock)
    };
    let mut fields_in_order: Vec<&FieldChange> = fields.iter().collect();
    fields_in_order.sort_by_key(|one| (&one.occurrence, field_order(&one.field)));
    let mut lines = Vec::new();
    for one in fields_in_order {
        let day = of_occurrence(&one.occurrence, clock);
        let span = if matches!(&*one.field, "DTSTART" | "DTEND") { span_of(&one.occurrence) } else { None };
        lines.push(match span {
            Some(_) if one.field == "DTEND" => continue,
            Some(words) => format!("When{day}: {words}"),
            None if one.field == "(whole)" => occurrence_came_or_went(&day, one.new.is_empty()),
            None => {
                let value = |text: &str| match value_words(&one.field, text, clock) {
                    words if whole => words,
                    words => readable(&words),
                };
                let (old, new) = without_same_day(value(&one.old), value(&one.new));
                format!("{}{day}: {old} → {new}", field_word(&one.field))
            }
        });
    }
    lines
}
