//! Entries as people name them: by words of the title, a day, or a UID.

use chestnut_core::EventUid;
use chestnut_engine::Wanted;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::render::midnight;

/// What was typed as one text: a UID, or days and words of the title.
pub(crate) fn wanted(typed: &str, zone: &TimeZone) -> Wanted {
    let mut wanted =
        Wanted { uid: EventUid::from(typed.trim()), words: Vec::new(), days: Vec::new(), zone: zone.clone() };
    for word in typed.split_whitespace() {
        match word.parse::<Date>() {
            Ok(day) => wanted.days.push(midnight(day, zone)..midnight(day.tomorrow().unwrap_or(day), zone)),
            Err(_) => wanted.words.push(word.to_lowercase()),
        }
    }
    wanted
}

/// Several texts, each for entries of its own.
pub(crate) fn all_wanted(typed: &[String], zone: &TimeZone) -> Vec<Wanted> {
    typed.iter().map(|text| wanted(text, zone)).collect()
}
