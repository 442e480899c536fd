//! Entries as people name them: by words of the title, a day, or a UID.

use chestnut_core::EventUid;
use chestnut_engine::Wanted;
use jiff::civil::{Date, Time};

use crate::days::{next, shown_day};
use crate::render::{Clock, midnight};

/// What was typed as one text: a UID, or days and words of the title. Days may be typed as results show them, `Sat 5 Dec
/// 07:00`.
pub(crate) fn wanted(typed: &str, clock: &Clock) -> Wanted {
    let zone = &clock.zone;
    let mut wanted =
        Wanted { uid: EventUid::from(typed.trim()), words: Vec::new(), days: Vec::new(), zone: zone.clone() };
    let mut words = &typed.split_whitespace().collect::<Vec<_>>()[..];
    while let [word, rest @ ..] = words {
        // Without its weekday it may as well be of a title: "5 March past".
        let shown = clock.today.and_then(|today| shown_day(words, today));
        let shown = shown.filter(|_| !word.starts_with(|first: char| first.is_ascii_digit()));
        let (day, rest) = match (word.parse::<Date>(), shown) {
            (Ok(day), _) => (day, rest),
            (_, Some((day, taken))) => (day, &words[taken..]),
            _ => {
                wanted.words.push(word.to_lowercase());
                words = rest;
                continue;
            }
        };
        let hour = rest.first().filter(|word| word.contains(':')).and_then(|word| word.parse::<Time>().ok());
        let at_hour = hour.and_then(|hour| day.to_datetime(hour).to_zoned(zone.clone()).ok());
        wanted.days.push(match &at_hour {
            Some(at) => at.timestamp().as_second()..at.timestamp().as_second() + 60,
            None => midnight(day, zone)..midnight(next(day), zone),
        });
        words = &rest[usize::from(at_hour.is_some())..];
    }
    wanted
}

/// Several texts, each for entries of its own.
pub(crate) fn all_wanted(typed: &[String], clock: &Clock) -> Vec<Wanted> {
    typed.iter().map(|text| wanted(text, clock)).collect()
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;

    use super::wanted;
    use crate::render::{Clock, midnight};

    #[test]
    fn a_day_is_found_as_it_was_shown() {
        let zone = TimeZone::get("Europe/Ljubljana").expect("a zone");
        let clock = Clock::at("2026-11-29T08:00:00Z".parse().expect("now"), &zone);
        let day = |text: &str| midnight(text.parse().expect("a day"), &zone);
        for (typed, words, days) in [
            ("Town market Sat 5 Dec", "town market", day("2026-12-05")..day("2026-12-06")),
            ("2026-12-05 market", "market", day("2026-12-05")..day("2026-12-06")),
            ("sat 2 jan market", "market", day("2027-01-02")..day("2027-01-03")),
            ("Wed 6 Oct 2027 07:00", "", day("2027-10-06") + 7 * 3600..day("2027-10-06") + 7 * 3600 + 60),
        ] {
            let found = wanted(typed, &clock);
            assert_eq!((found.words.join(" ").as_str(), &found.days[..]), (words, &[days][..]), "{typed}");
        }
        // A title, and a day that is not that weekday.
        for typed in ["5 March past", "Sun 5 Dec 2026", "Sat 31 Feb"] {
            assert_eq!(wanted(typed, &clock).days, [], "{typed}");
        }
    }
}
