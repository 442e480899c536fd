//! From a rule to local times: lazily, in order, skipping ahead, within a budget.

use std::ops::ControlFlow;

use super::days::{Civil, DAY, civil, days_in_month, days_in_year, number_of, week, weekday};
use super::rule::{Freq, Rule};

/// So many steps may be spent on one question. A rule that needs more is told, never answered with a shorter list.
#[derive(Debug, Clone)]
pub struct Budget {
    left: u64,
}

/// A rule asks for more work than one question may cost.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{self:?}")]
pub struct OverBudget;

impl Default for Budget {
    fn default() -> Self {
        Self { left: 1_000_000 }
    }
}

impl Budget {
    /// Allows so many steps.
    #[must_use]
    pub fn of(steps: u64) -> Self {
        Self { left: steps }
    }

    pub(super) fn spend(&mut self, steps: u64) -> Result<(), OverBudget> {
        self.left = self.left.checked_sub(steps).ok_or(OverBudget)?;
        Ok(())
    }
}

/// Times of day, as hours × minutes × seconds, in order.
#[derive(Debug, Clone)]
struct Times {
    hours: Vec<i64>,
    minutes: Vec<i64>,
    seconds: Vec<i64>,
}

impl Times {
    fn len(&self) -> u64 {
        (self.hours.len() * self.minutes.len() * self.seconds.len()) as u64
    }

    fn at(&self, index: u64) -> i64 {
        let index = index as usize;
        let per_hour = self.minutes.len() * self.seconds.len();
        let (hour, rest) = (index / per_hour, index % per_hour);
        let (minute, second) = (rest / self.seconds.len(), rest % self.seconds.len());
        self.hours[hour] * 3600 + self.minutes[minute] * 60 + self.seconds[second]
    }

    /// The index of the first time that is not before `second`.
    fn first_from(&self, second: i64) -> u64 {
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = u64::midpoint(low, high);
            if self.at(middle) < second { low = middle + 1 } else { high = middle }
        }
        low
    }
}

/// A rule with what the start adds to it: the weekday, the day, the time that the rule does not name.
#[derive(Debug, Clone)]
pub(super) struct Expander<'r> {
    rule: &'r Rule,
    start: i64,
    by_month: u16,
    by_month_day: Vec<i8>,
    by_day: Vec<(i16, u8)>,
    times: Times,
}

/// What comes of a visit to one time.
pub(super) type Visit<'v> = dyn FnMut(i64) -> ControlFlow<()> + 'v;

fn listed(bits: u64, or: i64) -> Vec<i64> {
    if bits == 0 { vec![or] } else { (0..60).filter(|n| bits >> n & 1 == 1).collect() }
}

impl<'r> Expander<'r> {
    /// `start` is the local time of DTSTART, in seconds since 1970.
    pub(super) fn new(rule: &'r Rule, start: i64) -> Self {
        let (day, second) = (start.div_euclid(DAY), start.rem_euclid(DAY));
        let date = civil(day);
        let mut by_month = rule.by_month;
        let mut by_month_day = rule.by_month_day.clone();
        let mut by_day = rule.by_day.clone();
        let own_weekday = (0, weekday(day));
        let (no_days, no_weeks, no_year_days) =
            (by_month_day.is_empty(), rule.by_week_no.is_empty(), rule.by_year_day.is_empty());
        match rule.freq {
            Freq::Yearly if no_days && no_weeks && no_year_days && by_day.is_empty() => {
                if by_month == 0 {
                    by_month = 1 << date.month;
                }
                by_month_day = vec![date.day as i8];
            }
            Freq::Yearly if !no_weeks && no_days && no_year_days && by_day.is_empty() => {
                by_day = vec![own_weekday];
            }
            Freq::Monthly if no_days && by_day.is_empty() => by_month_day = vec![date.day as i8],
            Freq::Weekly if by_day.is_empty() => by_day = vec![own_weekday],
            _ => {}
        }
        let times = Times {
            hours: listed(u64::from(rule.by_hour), second / 3600),
            minutes: listed(rule.by_minute, second / 60 % 60),
            seconds: listed(rule.by_second, second % 60),
        };
        Self { rule, start, by_month, by_month_day, by_day, times }
    }

    /// Visits the rule's times from `from` up to, and without, `to`, in order; each may come twice. `is_late` tells
    /// whether a time is behind UNTIL.
    pub(super) fn each(
        &self,
        (from, to): (i64, i64),
        is_late: &dyn Fn(i64) -> bool,
        budget: &mut Budget,
        visit: &mut Visit<'_>,
    ) -> Result<ControlFlow<()>, OverBudget> {
        let mut walk = Walk { from: from.max(self.start), to, is_late, left: self.rule.count, visit };
        if walk.from >= to {
            return Ok(ControlFlow::Continue(()));
        }
        let done = if self.rule.freq >= Freq::Daily {
            self.by_periods(&mut walk, budget)?
        } else {
            self.by_steps(&mut walk, budget)?
        };
        Ok(match done {
            End::Stopped => ControlFlow::Break(()),
            End::Over => ControlFlow::Continue(()),
        })
    }

    /// The number of a period, counted from the one of the start, in units of FREQ.
    fn period_of(&self, day: i64) -> i64 {
        let (start, at) = (civil(self.start.div_euclid(DAY)), civil(day));
        match self.rule.freq {
            Freq::Yearly => at.year - start.year,
            Freq::Monthly => (at.year - start.year) * 12 + i64::from(at.month) - i64::from(start.month),
            Freq::Weekly => (day - self.week_of_start()).div_euclid(7),
            _ => day - self.start.div_euclid(DAY),
        }
    }

    fn week_of_start(&self) -> i64 {
        let day = self.start.div_euclid(DAY);
        day - (i64::from(weekday(day)) - i64::from(self.rule.week_start)).rem_euclid(7)
    }

    /// First day and number of days of a period.
    fn period(&self, number: i64) -> (i64, i64) {
        let start = civil(self.start.div_euclid(DAY));
        match self.rule.freq {
            Freq::Yearly => (number_of(start.year + number, 1, 1), days_in_year(start.year + number)),
            Freq::Monthly => {
                let months = start.year * 12 + i64::from(start.month) - 1 + number;
                let (year, month) = (months.div_euclid(12), months.rem_euclid(12) as u8 + 1);
                (number_of(year, month, 1), i64::from(days_in_month(year, month)))
            }
            Freq::Weekly => (self.week_of_start() + 7 * number, 7),
            _ => (self.start.div_euclid(DAY) + number, 1),
        }
    }

    /// Whether each period has the same number of times: then they can be counted without looking.
    fn is_even(&self) -> bool {
        let rule = self.rule;
        let plain = rule.by_month == 0
            && rule.by_week_no.is_empty()
            && rule.by_year_day.is_empty()
            && rule.by_month_day.is_empty()
            && rule.by_set_pos.is_empty();
        match rule.freq {
            Freq::Weekly => plain && self.by_day.iter().all(|(ordinal, _)| *ordinal == 0),
            Freq::Daily => plain && rule.by_day.is_empty(),
            Freq::Monthly | Freq::Yearly => false,
            _ => plain && rule.by_day.is_empty() && self.has_no_time_limits(),
        }
    }

    fn has_no_time_limits(&self) -> bool {
        let rule = self.rule;
        rule.by_hour == 0
            && (rule.by_minute == 0 || rule.freq == Freq::Hourly)
            && (rule.by_second == 0 || rule.freq > Freq::Secondly)
    }

    fn most_per_period(&self) -> u64 {
        let days = match self.rule.freq {
            Freq::Yearly => 366,
            Freq::Monthly => 31,
            Freq::Weekly => 7,
            _ => 1,
        };
        let all = days * self.times.len();
        match self.rule.by_set_pos.len() as u64 {
            0 => all,
            positions => positions.min(all),
        }
    }

    fn by_periods(&self, walk: &mut Walk<'_, '_>, budget: &mut Budget) -> Result<End, OverBudget> {
        let interval = i64::from(self.rule.interval);
        let wanted = self.period_of(walk.from.div_euclid(DAY)).div_euclid(interval).max(0);
        let last = self.period_of(walk.to.div_euclid(DAY)).div_euclid(interval);
        let mut number = wanted;
        if let Some(count) = walk.left {
            let bound = (last.unsigned_abs() + 1).saturating_mul(self.most_per_period());
            if bound <= count {
                walk.left = None;
            } else if self.is_even() {
                let per_period = self.days_of(0, budget)?.len() as u64 * self.times.len();
                let skipped = wanted.unsigned_abs().saturating_mul(per_period);
                let before_start = if wanted > 0 { self.before_start(budget)? } else { 0 };
                match count.checked_sub(skipped - before_start.min(skipped)) {
                    None | Some(0) => return Ok(End::Over),
                    left => walk.left = left,
                }
            } else {
                number = 0;
            }
        }
        while number <= last {
            let period = number.saturating_mul(interval);
            if self.period(period).0.saturating_mul(DAY) >= walk.to {
                break;
            }
            let days = self.days_of(period, budget)?;
            if let Some(end) = self.visit_period(&days, walk, budget)? {
                return Ok(end);
            }
            number += 1;
        }
        Ok(End::Over)
    }

    /// How many times of the first period are before the start, and therefore none.
    fn before_start(&self, budget: &mut Budget) -> Result<u64, OverBudget> {
        let (day, second) = (self.start.div_euclid(DAY), self.start.rem_euclid(DAY));
        let days = self.days_of(0, budget)?;
        let whole = days.iter().filter(|d| **d < day).count() as u64 * self.times.len();
        let part = if days.contains(&day) { self.times.first_from(second) } else { 0 };
        Ok(whole + part)
    }

    /// Visits one period, whose days are these.
    fn visit_period(
        &self,
        days: &[i64],
        walk: &mut Walk<'_, '_>,
        budget: &mut Budget,
    ) -> Result<Option<End>, OverBudget> {
        let per_day = self.times.len();
        if !self.rule.by_set_pos.is_empty() {
            let all = days.len() as u64 * per_day;
            let at = |index: u64| days[(index / per_day) as usize] * DAY + self.times.at(index % per_day);
            return walk.visit_positions(&self.rule.by_set_pos, all, &at, self.start, budget);
        }
        for day in days {
            let midnight = day * DAY;
            let first = self.times.first_from(self.start - midnight);
            let wanted = self.times.first_from(walk.from - midnight).max(first);
            budget.spend(1)?;
            if let Some(end) = walk.skip(wanted - first) {
                return Ok(Some(end));
            }
            for index in wanted..per_day {
                budget.spend(1)?;
                if let Some(end) = walk.visit(midnight + self.times.at(index)) {
                    return Ok(Some(end));
                }
            }
        }
        Ok(None)
    }

    /// The days of a period that the rule takes.
    fn days_of(&self, period: i64, budget: &mut Budget) -> Result<Vec<i64>, OverBudget> {
        let (first, length) = self.period(period);
        let mut days = Vec::new();
        if self.rule.freq == Freq::Yearly && self.by_month != 0 {
            let year = civil(first).year;
            for month in (1..=12).filter(|month| self.by_month >> month & 1 == 1) {
                let begins = number_of(year, month, 1);
                let length = i64::from(days_in_month(year, month));
                budget.spend(length.unsigned_abs())?;
                days.extend((begins..begins + length).filter(|day| self.takes_day(*day)));
            }
            return Ok(days);
        }
        budget.spend(length.unsigned_abs())?;
        days.extend((first..first + length).filter(|day| self.takes_day(*day)));
        Ok(days)
    }

    fn takes_day(&self, day: i64) -> bool {
        let date = civil(day);
        let rule = self.rule;
        if self.by_month != 0 && self.by_month >> date.month & 1 == 0 {
            return false;
        }
        if !rule.by_week_no.is_empty() {
            let (number, weeks) = week(day, date.year, rule.week_start);
            let fits = |n: &i8| i64::from(*n) == number || i64::from(*n) == number - weeks - 1;
            if !rule.by_week_no.iter().any(fits) {
                return false;
            }
        }
        if !rule.by_year_day.is_empty() {
            let number = day - number_of(date.year, 1, 1) + 1;
            let from_end = number - days_in_year(date.year) - 1;
            if !rule.by_year_day.iter().any(|n| i64::from(*n) == number || i64::from(*n) == from_end) {
                return false;
            }
        }
        if !self.by_month_day.is_empty() {
            let from_end = i16::from(date.day) - i16::from(days_in_month(date.year, date.month)) - 1;
            let fits = |n: &i8| i16::from(*n) == i16::from(date.day) || i16::from(*n) == from_end;
            if !self.by_month_day.iter().any(fits) {
                return false;
            }
        }
        self.by_day.is_empty() || self.by_day.iter().any(|wanted| self.is_weekday(*wanted, day, date))
    }

    /// Ordinals count within the month, or within the year where the rule names no month.
    fn is_weekday(&self, (ordinal, wanted): (i16, u8), day: i64, date: Civil) -> bool {
        if weekday(day) != wanted {
            return false;
        }
        let in_month = match self.rule.freq {
            Freq::Monthly => true,
            Freq::Yearly => self.rule.by_month != 0,
            // Ordinals have no meaning there (RFC 5545, 3.3.10); where somebody writes them, they count in the year.
            _ => false,
        };
        let (first, last) = if in_month {
            let first = number_of(date.year, date.month, 1);
            (first, first + i64::from(days_in_month(date.year, date.month)) - 1)
        } else {
            let first = number_of(date.year, 1, 1);
            (first, first + days_in_year(date.year) - 1)
        };
        match i64::from(ordinal) {
            0 => true,
            n if n > 0 => (day - first) / 7 + 1 == n,
            n => (last - day) / 7 + 1 == -n,
        }
    }

    /// Below a day a rule goes by equal steps of local time.
    fn by_steps(&self, walk: &mut Walk<'_, '_>, budget: &mut Budget) -> Result<End, OverBudget> {
        let unit: i64 = match self.rule.freq {
            Freq::Hourly => 3600,
            Freq::Minutely => 60,
            _ => 1,
        };
        let step = unit * i64::from(self.rule.interval);
        // One step back: the times of a step may lie behind it.
        let wanted = ((walk.from - self.start) / step - 1).max(0);
        let last = (walk.to - self.start) / step + 1;
        let inner = self.inner_times();
        let per_step = match self.rule.by_set_pos.len() as u64 {
            0 => inner.len() as u64,
            positions => positions.min(inner.len() as u64),
        };
        let mut number = wanted;
        if let Some(count) = walk.left {
            if (last.unsigned_abs() + 1).saturating_mul(per_step) <= count {
                walk.left = None;
            } else if self.is_even() {
                let base = self.start - self.start.rem_euclid(unit);
                let before = inner.iter().filter(|second| base + **second < self.start).count() as u64;
                let skipped = wanted.unsigned_abs().saturating_mul(per_step);
                let skipped = if wanted > 0 { skipped - before.min(skipped) } else { 0 };
                match count.checked_sub(skipped) {
                    None | Some(0) => return Ok(End::Over),
                    left => walk.left = left,
                }
            } else {
                number = 0;
            }
        }
        let mut checked_day = None;
        while number <= last {
            budget.spend(1)?;
            let at = self.start + number * step;
            let base = at - at.rem_euclid(unit);
            if base >= walk.to {
                break;
            }
            let jump_to = |next: i64| number + ((next - at) + step - 1).div_euclid(step).max(1);
            let (day, second) = (at.div_euclid(DAY), at.rem_euclid(DAY));
            if checked_day != Some(day) {
                if !self.takes_day(day) {
                    number = jump_to(self.next_day(day) * DAY);
                    continue;
                }
                checked_day = Some(day);
            }
            let rule = self.rule;
            if rule.by_hour != 0 && rule.by_hour >> (second / 3600) & 1 == 0 {
                number = jump_to(at - at.rem_euclid(3600) + 3600);
                continue;
            }
            if unit < 3600 && rule.by_minute != 0 && rule.by_minute >> (second / 60 % 60) & 1 == 0 {
                number = jump_to(at - at.rem_euclid(60) + 60);
                continue;
            }
            if unit == 1 && rule.by_second != 0 && rule.by_second >> (second % 60) & 1 == 0 {
                number += 1;
                continue;
            }
            let end = if rule.by_set_pos.is_empty() {
                walk.visit_all(inner.iter().map(|second| base + second), self.start, budget)?
            } else {
                let time = |index: u64| base + inner[index as usize];
                walk.visit_positions(&rule.by_set_pos, inner.len() as u64, &time, self.start, budget)?
            };
            if let Some(end) = end {
                return Ok(end);
            }
            number += 1;
        }
        Ok(End::Over)
    }

    /// The times within one step: minutes and seconds of an hour, seconds of a minute, or the step itself.
    fn inner_times(&self) -> Vec<i64> {
        let Times { minutes, seconds, .. } = &self.times;
        match self.rule.freq {
            Freq::Hourly => minutes.iter().flat_map(|m| seconds.iter().map(move |s| m * 60 + s)).collect(),
            Freq::Minutely => seconds.clone(),
            _ => vec![0],
        }
    }

    /// The next day worth a look: in a month that the rule takes.
    fn next_day(&self, day: i64) -> i64 {
        let next = day + 1;
        let date = civil(next);
        if self.by_month == 0 || self.by_month >> date.month & 1 == 1 {
            return next;
        }
        let later = (date.month + 1..=12).find(|month| self.by_month >> month & 1 == 1);
        match later {
            Some(month) => number_of(date.year, month, 1),
            None => number_of(date.year + 1, 1, 1).max(next),
        }
    }
}

/// How a walk came to its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum End {
    /// The visitor has seen enough.
    Stopped,
    /// COUNT, UNTIL or the range is over.
    Over,
}

struct Walk<'w, 'v> {
    from: i64,
    to: i64,
    is_late: &'w dyn Fn(i64) -> bool,
    /// What is left of COUNT; `None` where it does not matter.
    left: Option<u64>,
    visit: &'w mut Visit<'v>,
}

impl Walk<'_, '_> {
    /// Passes over times before the range: they count.
    fn skip(&mut self, times: u64) -> Option<End> {
        let left = self.left.as_mut()?;
        *left = left.saturating_sub(times);
        (*left == 0).then_some(End::Over)
    }

    fn visit(&mut self, at: i64) -> Option<End> {
        if at >= self.to || (self.is_late)(at) {
            return Some(End::Over);
        }
        if (self.visit)(at).is_break() {
            return Some(End::Stopped);
        }
        self.skip(1)
    }

    fn visit_all(
        &mut self,
        times: impl Iterator<Item = i64>,
        start: i64,
        budget: &mut Budget,
    ) -> Result<Option<End>, OverBudget> {
        for at in times.filter(|at| *at >= start) {
            budget.spend(1)?;
            let end = if at < self.from { self.skip(1) } else { self.visit(at) };
            if end.is_some() {
                return Ok(end);
            }
        }
        Ok(None)
    }

    /// BYSETPOS: positions among `all` times of a period, of which `at` gives each.
    fn visit_positions(
        &mut self,
        positions: &[i16],
        all: u64,
        at: &dyn Fn(u64) -> i64,
        start: i64,
        budget: &mut Budget,
    ) -> Result<Option<End>, OverBudget> {
        let index = |position: &i16| {
            let distance = u64::from(position.unsigned_abs());
            let index = if *position > 0 { Some(distance - 1) } else { all.checked_sub(distance) };
            index.filter(|index| *index < all)
        };
        let mut times: Vec<i64> = positions.iter().filter_map(index).map(at).collect();
        times.sort_unstable();
        times.dedup();
        self.visit_all(times.into_iter(), start, budget)
    }
}
