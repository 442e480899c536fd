//! Days counted from 1970-01-01, in the proleptic Gregorian calendar: quick enough for millions of them.

/// Seconds in a day, on local time.
pub(super) const DAY: i64 = 86_400;

/// A day, taken apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Civil {
    pub(super) year: i64,
    /// 1 to 12.
    pub(super) month: u8,
    /// 1 to 31.
    pub(super) day: u8,
}

/// Returns the number of a day.
pub(super) fn number_of(year: i64, month: u8, day: u8) -> i64 {
    // Years begin in March, so that the leap day comes last.
    let (month, day) = (i64::from(month), i64::from(day));
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let year_of_era = year.rem_euclid(400);
    let day_of_year = (153 * ((month + 9) % 12) + 2) / 5 + day - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    era * 146_097 + day_of_era - 719_468
}

/// Takes a day apart.
pub(super) fn civil(number: i64) -> Civil {
    let shifted = number + 719_468;
    let era = shifted.div_euclid(146_097);
    let day_of_era = shifted.rem_euclid(146_097);
    let year_of_era = (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted_month = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * shifted_month + 2) / 5 + 1;
    let month = if shifted_month < 10 { shifted_month + 3 } else { shifted_month - 9 };
    let year = era * 400 + year_of_era + i64::from(month <= 2);
    Civil { year, month: month as u8, day: day as u8 }
}

/// Returns the weekday; Monday is 0.
pub(super) fn weekday(number: i64) -> u8 {
    (number + 3).rem_euclid(7) as u8
}

pub(super) fn is_leap(year: i64) -> bool {
    year.rem_euclid(4) == 0 && (year.rem_euclid(100) != 0 || year.rem_euclid(400) == 0)
}

pub(super) fn days_in_month(year: i64, month: u8) -> u8 {
    match month {
        4 | 6 | 9 | 11 => 30,
        2 if is_leap(year) => 29,
        2 => 28,
        _ => 31,
    }
}

pub(super) fn days_in_year(year: i64) -> i64 {
    if is_leap(year) { 366 } else { 365 }
}

/// Returns the number of the day on which week 1 of a year begins: the first week with at least four days in it
/// (RFC 5545, 3.3.10); weeks begin on `start`.
fn first_week(year: i64, start: u8) -> i64 {
    let january = number_of(year, 1, 1);
    let into = (i64::from(weekday(january)) - i64::from(start)).rem_euclid(7);
    let begins = january - into;
    if 7 - into >= 4 { begins } else { begins + 7 }
}

/// Returns the week a day is in, and how many weeks that week's year has.
pub(super) fn week(number: i64, year: i64, start: u8) -> (i64, i64) {
    for year in [year + 1, year, year - 1] {
        let first = first_week(year, start);
        if number >= first {
            return ((number - first) / 7 + 1, (first_week(year + 1, start) - first) / 7);
        }
    }
    unreachable!("every day is in a week of its year or of one beside it")
}
