//! Gaps, day by day, for people.

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::render::{clean, style, zone_name};
use crate::report::free::{Gap, Report};

pub(crate) fn human(
    report: &Report,
    days: &[Date],
    (at_least, hours): (&str, &str),
    zone: &TimeZone,
) -> String {
    let mut out = format!(
        "{} to {}, hours {}, free for {} or longer; times in {}\n\n",
        report.from,
        report.to,
        clean(hours),
        clean(at_least),
        zone_name(zone)
    );
    let local = |at: i64| Timestamp::from_second(at).unwrap_or_default().to_zoned(zone.clone());
    for day in days {
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
        out += &format!("  {}  {words}\n", day.strftime("%a %Y-%m-%d"));
    }
    for one in &report.unknown {
        let (from, to) = (local(one.span.0), local(one.span.1));
        let (from, to) = (from.strftime("%a %Y-%m-%d %H:%M"), to.strftime("%a %Y-%m-%d %H:%M"));
        let words = format!("{}: nothing is known from {from} to {to}\n", clean(&one.calendar));
        out += &style::paint(style::WARN, words);
    }
    out
}
