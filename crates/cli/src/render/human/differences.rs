//! What two calendars say differently, field by field.

use chestnut_engine::Difference;

use crate::render::{Clock, readable};
use crate::words::{field_word, of_occurrence, value_words};

/// One line for each field: what stands there, and what should.
pub(crate) fn difference_lines(differences: &[Difference], clock: &Clock) -> Vec<String> {
    let line = |one: &Difference| {
        let day = of_occurrence(&one.occurrence, clock);
        let value = |text: &str| readable(&value_words(&one.field, text, clock));
        let (found, wanted) = (value(&one.found), value(&one.wanted));
        format!("{}{day}: {found} should be {wanted}", field_word(&one.field))
    };
    differences.iter().map(line).collect()
}
