//! What two calendars say differently, field by field.

use chestnut_engine::Difference;

use jiff::tz::TimeZone;

use crate::render::readable;
use crate::words::{field_word, of_occurrence, value_words};

/// A line for each field: what stands there, and what should.
pub(crate) fn difference_lines(differences: &[Difference], indent: usize, zone: &TimeZone) -> String {
    let line = |one: &Difference| {
        let day = of_occurrence(&one.occurrence, zone);
        let value = |text: &str| readable(&value_words(&one.field, text, zone));
        let (found, wanted) = (value(&one.found), value(&one.wanted));
        format!("{:indent$}{}{day}: {found} should be {wanted}\n", "", field_word(&one.field))
    };
    differences.iter().map(line).collect()
}
