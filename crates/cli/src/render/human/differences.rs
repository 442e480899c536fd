//! What two calendars say differently, field by field.

use chestnut_engine::Difference;

use crate::render::{clean, readable};

/// A line for each field: what stands there, and what should.
pub(crate) fn difference_lines(differences: &[Difference], indent: usize) -> String {
    let line = |one: &Difference| {
        let day =
            if one.occurrence.is_empty() { String::new() } else { format!(" of {}", clean(&one.occurrence)) };
        let value = |text: &str| if text.is_empty() { "nothing".to_owned() } else { readable(text) };
        let (found, wanted) = (value(&one.found), value(&one.wanted));
        format!("{:indent$}{}{day}: {found} should be {wanted}\n", "", clean(&one.field))
    };
    differences.iter().map(line).collect()
}
