//! Days as people name them.

use jiff::civil::{Date, Weekday, date};
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};

use crate::failure::Failure;
use crate::render::midnight;
use crate::settings::parse_duration;
use crate::words::{not_a_day, not_a_since, not_ahead, not_days_of_a_week};

/// A date, or a word for a day: of the days of the week, the next one.
pub(crate) fn day(option: &str, text: &str, today: Date) -> Result<Date, Failure> {
    let ahead = |days: i32| today.saturating_add(Span::new().days(days));
    let word = text.trim().to_lowercase();
    match word.as_str() {
        "today" => return Ok(today),
        "tomorrow" => return Ok(ahead(1)),
        "yesterday" => return Ok(ahead(-1)),
        _ => {}
    }
    let words: Vec<&str> = word.split_whitespace().collect();
    if let Some((day, taken)) = shown_day(&words, today)
        && taken == words.len()
    {
        return Ok(day);
    }
    let of_week = (0..7).map(ahead).find(|day| {
        let name = day.strftime("%A").to_string().to_lowercase();
        name == word || word.len() == 3 && name.starts_with(&word)
    });
    of_week.map_or_else(|| word.parse().map_err(|_| not_a_day(option, text)), Ok)
}

/// A day as results show it, at the beginning of some words: `Sat 5 Dec`, `5 Dec 2027`; and how many words that are. Without
/// a year it is the one next to today.
pub(crate) fn shown_day(words: &[&str], today: Date) -> Option<(Date, usize)> {
    let is = |word: &str, name: String| {
        let (word, name) = (word.to_lowercase(), name.to_lowercase());
        word.len() >= 3 && name.starts_with(&word)
    };
    // What is no number must be the name of that very day.
    let of_week = words.first().filter(|word| word.parse::<i8>().is_err());
    let at = usize::from(of_week.is_some());
    let number = words.get(at)?.parse().ok()?;
    let month = words.get(at + 1)?;
    let of = |year: i16| {
        let month = (1..=12).find(|of_year| is(month, date(2000, *of_year, 1).strftime("%B").to_string()))?;
        let day = Date::new(year, month, number).ok()?;
        of_week.is_none_or(|word| is(word, day.strftime("%A").to_string())).then_some(day)
    };
    let year = words.get(at + 2).filter(|word| word.len() == 4).and_then(|word| word.parse().ok());
    if let Some(year) = year {
        return Some((of(year)?, at + 3));
    }
    let near = (-1..=1).filter_map(|years| of(today.year() + years));
    let nearest = near.min_by_key(|day| today.until(*day).map_or(i32::MAX, |span| span.get_days().abs()))?;
    Some((nearest, at + 2))
}

/// When `--since` is: a day, or so long before now.
pub(crate) fn since(text: &str, now: Timestamp, zone: &TimeZone) -> Result<Timestamp, Failure> {
    let today = now.to_zoned(zone.clone()).date();
    if let Ok(named) = day("--since", text, today) {
        // A day that bears no year, or is of the week, is the last one of that name.
        let has_year = text.split(|letter: char| !letter.is_ascii_digit()).any(|digits| digits.len() == 4);
        let day = if named <= today || has_year || text.trim().eq_ignore_ascii_case("tomorrow") {
            named
        } else if text.split_whitespace().count() == 1 {
            named.saturating_sub(Span::new().days(7))
        } else {
            named.saturating_sub(Span::new().years(1))
        };
        return Timestamp::from_second(midnight(day, zone)).map_err(|_| not_a_since(text));
    }
    let ago = parse_duration(text).ok_or_else(|| not_a_since(text))?;
    now.checked_sub(ago).map_err(|_| not_a_since(text))
}

/// When `--until` is: the beginning of a day, or so long from now.
pub(crate) fn until(text: &str, now: Timestamp, zone: &TimeZone) -> Result<Timestamp, Failure> {
    let at = match parse_duration(text) {
        Some(ahead) => now.checked_add(ahead).map_err(|_| not_ahead(text))?,
        None => {
            let day = day("--until", text, now.to_zoned(zone.clone()).date())?;
            Timestamp::from_second(midnight(day, zone)).map_err(|_| not_ahead(text))?
        }
    };
    if at > now { Ok(at) } else { Err(not_ahead(text)) }
}

/// The first day of the week that a day is in.
pub(crate) fn week_of(day: Date, week_starts: Weekday) -> Date {
    let since = day.weekday().since(week_starts);
    day.saturating_sub(Span::new().days(since))
}

/// The day after.
pub(crate) fn next(day: Date) -> Date {
    day.tomorrow().unwrap_or(day)
}

/// Days of the week as `mon-fri` or `mon,wed,sat`.
pub(crate) fn days_of_a_week(text: &str) -> Result<Vec<Weekday>, Failure> {
    const NAMES: [(&str, Weekday); 7] = [
        ("mon", Weekday::Monday),
        ("tue", Weekday::Tuesday),
        ("wed", Weekday::Wednesday),
        ("thu", Weekday::Thursday),
        ("fri", Weekday::Friday),
        ("sat", Weekday::Saturday),
        ("sun", Weekday::Sunday),
    ];
    let wrong = || not_days_of_a_week(text);
    let one = |word: &str| {
        let word = word.trim().to_lowercase();
        NAMES.iter().position(|(name, _)| word == *name).ok_or_else(wrong)
    };
    let mut days = Vec::new();
    for part in text.split(',') {
        let (from, to) = part.split_once('-').unwrap_or((part, part));
        let (from, to) = (one(from)?, one(to)?);
        let last = if to < from { to + 7 } else { to };
        days.extend((from..=last).map(|day| NAMES[day % 7].1));
    }
    Ok(days)
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;

    use super::{since, until};

    #[test]
    fn a_day_without_a_year_lies_behind_or_ahead_as_is_meant() {
        let zone = TimeZone::get("Europe/Ljubljana").expect("a zone");
        let now = "2026-10-05T08:00:00Z".parse().expect("now");
        let day = |at: jiff::Timestamp| at.to_zoned(zone.clone()).date().to_string();
        for (typed, behind) in [
            ("today", "2026-10-05"),
            ("saturday", "2026-10-03"),
            ("5 oct", "2026-10-05"),
            ("6 Oct", "2025-10-06"),
            ("6 Oct 2026", "2026-10-06"),
            ("2026-09-30", "2026-09-30"),
            ("7 days", "2026-09-28"),
        ] {
            assert_eq!(since(typed, now, &zone).map(day).ok().as_deref(), Some(behind), "{typed}");
        }
        for (typed, ahead) in
            [("saturday", "2026-10-10"), ("1 Feb", "2027-02-01"), ("Sat 2 Jan 2027", "2027-01-02")]
        {
            assert_eq!(until(typed, now, &zone).map(day).ok().as_deref(), Some(ahead), "{typed}");
        }
        for wrong in ["soon", "31 Feb", "Sun 5 Dec 2026"] {
            assert!(since(wrong, now, &zone).is_err() && until(wrong, now, &zone).is_err(), "{wrong}");
        }
    }
}
