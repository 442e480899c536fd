//! A recurrence rule as it is written (RFC 5545, 3.3.10).

use crate::values::{TimeValue, parse_time};

/// How often a rule comes round.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Freq {
    /// Every so many seconds.
    Secondly,
    /// Every so many minutes.
    Minutely,
    /// Every so many hours.
    Hourly,
    /// Every so many days.
    Daily,
    /// Every so many weeks.
    Weekly,
    /// Every so many months.
    Monthly,
    /// Every so many years.
    Yearly,
}

/// A recurrence rule. Lists are sorted, without repetitions.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rule {
    /// How often it comes round.
    pub freq: Freq,
    /// Every how many of these; at least 1.
    pub interval: u32,
    /// Ends after so many occurrences.
    pub count: Option<u64>,
    /// Ends with this moment; its type need not be that of the start.
    pub until: Option<TimeValue>,
    /// Months, 1 to 12, as bits.
    pub by_month: u16,
    /// Weeks of the year; negative ones count from its end.
    pub by_week_no: Vec<i8>,
    /// Days of the year; negative ones count from its end.
    pub by_year_day: Vec<i16>,
    /// Days of the month; negative ones count from its end.
    pub by_month_day: Vec<i8>,
    /// Weekdays (Monday is 0) with their ordinal; 0 means every one.
    pub by_day: Vec<(i16, u8)>,
    /// Hours, as bits.
    pub by_hour: u32,
    /// Minutes, as bits.
    pub by_minute: u64,
    /// Seconds, as bits.
    pub by_second: u64,
    /// Which of the occurrences of one period; negative ones count from its end.
    pub by_set_pos: Vec<i16>,
    /// The day on which weeks begin; Monday is 0.
    pub week_start: u8,
}

/// Why a text is no rule.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{self:?}")]
pub struct RuleError {
    /// The part that is wrong; empty where FREQ is missing. Untrusted text.
    pub part: String,
}

const WEEKDAYS: [&str; 7] = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];

impl Rule {
    /// Reads a RRULE or EXRULE value. Parts may stand in any order and in any case.
    ///
    /// # Errors
    /// [`RuleError`] names the first part that cannot be understood: a rule is never read as a simpler one.
    pub fn parse(text: &str) -> Result<Self, RuleError> {
        let mut rule = Self {
            freq: Freq::Daily,
            interval: 1,
            count: None,
            until: None,
            by_month: 0,
            by_week_no: Vec::new(),
            by_year_day: Vec::new(),
            by_month_day: Vec::new(),
            by_day: Vec::new(),
            by_hour: 0,
            by_minute: 0,
            by_second: 0,
            by_set_pos: Vec::new(),
            week_start: 0,
        };
        let mut has_freq = false;
        for part in text.split(';').map(str::trim).filter(|part| !part.is_empty()) {
            let wrong = || RuleError { part: part.chars().take(80).collect() };
            let (key, value) = part.split_once('=').ok_or_else(wrong)?;
            let (key, value) = (key.trim().to_ascii_uppercase(), value.trim().to_ascii_uppercase());
            has_freq |= key == "FREQ";
            rule.read_part(&key, &value).ok_or_else(wrong)?;
        }
        if !has_freq {
            return Err(RuleError { part: String::new() });
        }
        Ok(rule)
    }

    fn read_part(&mut self, key: &str, value: &str) -> Option<()> {
        match key {
            "FREQ" => {
                self.freq = match value {
                    "SECONDLY" => Freq::Secondly,
                    "MINUTELY" => Freq::Minutely,
                    "HOURLY" => Freq::Hourly,
                    "DAILY" => Freq::Daily,
                    "WEEKLY" => Freq::Weekly,
                    "MONTHLY" => Freq::Monthly,
                    "YEARLY" => Freq::Yearly,
                    _ => return None,
                }
            }
            "INTERVAL" => self.interval = value.parse().ok().filter(|n| *n > 0)?,
            "COUNT" => self.count = Some(value.parse().ok().filter(|n| *n > 0)?),
            "UNTIL" => self.until = Some(parse_time(value)?),
            "BYMONTH" => self.by_month = bits(value, 1, 12)? as u16,
            "BYHOUR" => self.by_hour = bits(value, 0, 23)? as u32,
            "BYMINUTE" => self.by_minute = bits(value, 0, 59)?,
            // A leap second is no second of ours: it counts as the one before.
            "BYSECOND" => {
                let bits = bits(value, 0, 60)?;
                self.by_second = (bits & !(1 << 60)) | ((bits >> 60) << 59);
            }
            "BYWEEKNO" => self.by_week_no = numbers(value, 53)?,
            "BYYEARDAY" => self.by_year_day = numbers(value, 366)?,
            "BYMONTHDAY" => self.by_month_day = numbers(value, 31)?,
            "BYSETPOS" => self.by_set_pos = numbers(value, 366)?,
            "BYDAY" => {
                self.by_day = value.split(',').map(|day| weekday(day.trim())).collect::<Option<_>>()?;
                self.by_day.sort_unstable();
                self.by_day.dedup();
            }
            "WKST" => self.week_start = WEEKDAYS.iter().position(|day| *day == value)? as u8,
            // RFC 7529: the calendar that RFC 5545 means, and days that do not exist left out, as there.
            "RSCALE" if value == "GREGORIAN" => {}
            "SKIP" if value == "OMIT" => {}
            _ => return None,
        }
        Some(())
    }
}

/// A list of numbers from `low` to `high`, as bits.
fn bits(value: &str, low: u8, high: u8) -> Option<u64> {
    value.split(',').try_fold(0_u64, |bits, one| {
        let number: u8 = one.trim().parse().ok().filter(|n| (low..=high).contains(n))?;
        Some(bits | 1 << number)
    })
}

/// A list of numbers from 1 to `most`, or from -1 down.
fn numbers<T: TryFrom<i16> + Ord>(value: &str, most: i16) -> Option<Vec<T>> {
    let number = |one: &str| {
        let number: i16 = one.trim().parse().ok().filter(|n: &i16| *n != 0 && n.abs() <= most)?;
        T::try_from(number).ok()
    };
    let mut numbers = value.split(',').map(number).collect::<Option<Vec<_>>>()?;
    numbers.sort_unstable();
    numbers.dedup();
    Some(numbers)
}

/// `MO`, `3TH`, `-1FR`.
fn weekday(text: &str) -> Option<(i16, u8)> {
    let cut = text.len().checked_sub(2).filter(|cut| text.is_char_boundary(*cut))?;
    let (ordinal, day) = text.split_at(cut);
    let day = WEEKDAYS.iter().position(|name| *name == day)? as u8;
    let ordinal = match ordinal {
        "" => 0,
        number => number.parse().ok().filter(|n: &i16| *n != 0 && n.abs() <= 53)?,
    };
    Some((ordinal, day))
}
