//! Gaps, day by day, for people.

use jiff::Timestamp;
use jiff::civil::Date;

use crate::render::{Clock, align_days, clean, day_and_time, style, zone_name};
use crate::report::free::{Gap, Report};

pub(crate) fn human(
    report: &Report,
    days: &[Date],
    (at_least, hours): (&str, &str),
    clock: &Clock,
) -> String {
    let end = |text: &str| text.parse().map_or_else(|_| text.to_owned(), |day| clock.day(day));
    let mut out = format!(
        "{} to {}, hours {}, free for {} or longer; times in {}\n\n",
        end(&report.from),
        end(&report.to),
        clean(hours),
        clean(at_least),
        zone_name(clock)
    );
    let local = |at: i64| Timestamp::from_second(at).unwrap_or_default().to_zoned(clock.zone.clone());
    let mut names: Vec<String> = days.iter().map(|day| clock.day(*day)).collect();
    align_days(names.iter_mut());
    for (day, name) in days.iter().zip(names) {
        let gaps: Vec<&Gap> = report.gaps.iter().filter(|gap| local(gap.span.0).date() == *day).collect();
        let one = |gap: &&Gap| {
            let end = local(gap.span.1);
            let end = if end.date() > *day { "24:00".to_owned() } else { end.strftime("%H:%M").to_string() };
            format!("{}–{end}", local(gap.span.0).strftime("%H:%M"))
        };
        let words = match &gaps[..] {
            [] => style::paint(style::FAINT, "nothing"),
            some => some.iter().map(one).collect::<Vec<_>>().join("   "),
        };
        out += &format!("  {name}  {words}\n");
    }
    for one in &report.unknown {
        let at = |second| day_and_time(Timestamp::from_second(second).unwrap_or_default(), clock);
        let (from, to) = (at(one.span.0), at(one.span.1));
        let words = format!("{}: nothing is known from {from} to {to}\n", clean(&one.calendar));
        out += &style::paint(style::WARN, words);
    }
    out
}
