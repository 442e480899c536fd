//! What is odd about a calendar's text.

use chestnut_core::Oddity;

use crate::render::count;

pub(crate) fn oddity_words(oddity: &Oddity) -> String {
    let entries = |number: &usize| count(*number, "entry", "entries");
    match oddity {
        Oddity::WithoutUid(n) => {
            format!("{} without UID: recognised by title, start, end and recurrence", entries(n))
        }
        Oddity::SharedUid(n) => {
            format!("{} that share a UID: told apart by title, start, end and recurrence", entries(n))
        }
        Oddity::Repeated(n) => {
            format!("{} there twice, word for word: one is used", count(*n, "entry stands", "entries stand"))
        }
        Oddity::UnknownZones(names) => {
            format!("unknown time zones: {}; their times are not guessed", names.join(", "))
        }
        Oddity::Floating(n) => format!("{} with floating times (no time zone)", entries(n)),
        Oddity::WithoutStart(n) => format!("{} without a start", entries(n)),
        Oddity::NotUtf8(encoding) => format!("the text is not UTF-8; it was read as {encoding}"),
        Oddity::BrokenLines(n) => {
            format!(
                "{} broken in the middle; read as a line break in the text before",
                count(*n, "line", "lines")
            )
        }
        Oddity::Method(method) => format!("it calls itself a message ({method}), not a published calendar"),
        Oddity::Empty => "there is not a single entry in it".to_owned(),
        _ => "something odd".to_owned(),
    }
}

/// `every 4 hours`, `every day`.
pub(crate) fn interval(seconds: i64) -> String {
    let (number, unit) = match seconds {
        s if s % 86_400 == 0 => (s / 86_400, "day"),
        s if s % 3600 == 0 => (s / 3600, "hour"),
        s if s % 60 == 0 => (s / 60, "minute"),
        s => (s, "second"),
    };
    if number == 1 { format!("every {unit}") } else { format!("every {number} {unit}s") }
}
