//! Sample data: the calendars of an orchard co-operative.

use jiff::civil::{Date, DateTime};
use jiff::{SignedDuration, ToSpan};

use crate::object_store::Server;

/// An entry of the sample data.
#[derive(Debug, Clone)]
pub struct OrchardEntry {
    /// The file name.
    pub name: String,
    /// The UID.
    pub uid: String,
    /// VEVENT or VTODO.
    pub component: &'static str,
    /// One calendar object.
    pub text: String,
}

/// The rules of Europe/Ljubljana since 1996.
const ZONE: &str = "BEGIN:VTIMEZONE\r\nTZID:Europe/Ljubljana\r\nBEGIN:DAYLIGHT\r\nTZOFFSETFROM:+0100\r\nTZOFFSETTO:+0200\r\nTZNAME:CEST\r\nDTSTART:19960331T020000\r\nRRULE:FREQ=YEARLY;BYMONTH=3;BYDAY=-1SU\r\nEND:DAYLIGHT\r\nBEGIN:STANDARD\r\nTZOFFSETFROM:+0200\r\nTZOFFSETTO:+0100\r\nTZNAME:CET\r\nDTSTART:19961027T030000\r\nRRULE:FREQ=YEARLY;BYMONTH=10;BYDAY=-1SU\r\nEND:STANDARD\r\nEND:VTIMEZONE\r\n";

const TITLES: &[&str] = &[
    "Press hall: early apples",
    "Picking crew, north rows",
    "Delivery van to the market",
    "Stall at the harbour market",
    "Tasting with the juice buyer",
    "Crate washing",
    "Obiranje hrušk na Veselovi njivi",
    "Слива: сбор урожая",
    "りんごの選果作業",
    "Cider evening 🍎 in the barn",
    "Wasp nets, rows 4 and 5; ladder needed",
    "Pruning course \\ beginners",
];
const PLACES: &[&str] = &[
    "Press hall, ground floor",
    "Row 12; upper gate",
    "Harbour market \"North\"",
    "Škatlarna",
    "https://orchard.example/map?x=1&y=2",
];
const GROUPS: &[&str] = &["Press", "Picking", "Market, town", "Delivery", "Äpfel"];

/// Escapes a TEXT value (RFC 5545, 3.3.11).
fn escaped(text: &str) -> String {
    chestnut_core::escape_text(text)
}

fn pick<T: Copy>(from: &[T], seed: usize) -> T {
    from[seed % from.len()]
}

/// Makes `count` entries of every kind around `first_day`, always the same ones.
#[must_use]
pub fn orchard_entries(count: usize, first_day: Date) -> Vec<OrchardEntry> {
    (0..count).map(|i| entry(i, first_day)).collect()
}

fn stamp(at: DateTime) -> String {
    chestnut_core::TimeValue::Local(at).to_string()
}

fn entry(i: usize, first_day: Date) -> OrchardEntry {
    // Spread over nine weeks, so that every week has some of each kind.
    let day = first_day.checked_add(((i * 37 % 63) as i32).days()).unwrap_or(first_day);
    let at = day.at(7 + (i % 11) as i8, pick(&[0, 15, 30, 45], i / 3), 0, 0);
    let end = at.saturating_add(SignedDuration::from_mins(pick(&[30, 45, 60, 90, 120, 240], i)));
    let uid = format!("orchard-{i:04}@coop.example");
    let title = escaped(pick(TITLES, i));
    let local = |at: DateTime| format!(";TZID=Europe/Ljubljana:{}", stamp(at));
    let mut zone = true;
    let mut component = "VEVENT";
    let mut overrides = Vec::new();
    let mut lines = vec![
        format!("UID:{uid}"),
        "DTSTAMP:20260901T060000Z".to_owned(),
        format!("CREATED:20260{}01T080000Z", 1 + i % 8),
        format!("SEQUENCE:{}", i % 3),
        format!("SUMMARY:{title}"),
    ];
    let zoned = vec![format!("DTSTART{}", local(at)), format!("DTEND{}", local(end))];
    let week = |n: i64| at.checked_add((7 * n).days()).unwrap_or(at);
    match i % 20 {
        1 => {
            zone = false;
            let next = day.tomorrow().unwrap_or(day);
            lines.extend([date_line("DTSTART", day), date_line("DTEND", next), "TRANSP:TRANSPARENT".into()]);
        }
        2 => {
            lines.extend(zoned);
            lines.extend([
                "RRULE:FREQ=WEEKLY;COUNT=10".into(),
                format!("EXDATE{},{}", local(week(2)), stamp(week(4))),
            ]);
            let moved = week(3).saturating_add(SignedDuration::from_hours(26));
            overrides.push(vec![
                format!("UID:{uid}"),
                "DTSTAMP:20260901T060000Z".into(),
                format!("RECURRENCE-ID{}", local(week(3))),
                "SEQUENCE:4".into(),
                format!("SUMMARY:{title} (moved)"),
                format!("DTSTART{}", local(moved)),
                format!("DTEND{}", local(moved.saturating_add(SignedDuration::from_hours(1)))),
            ]);
        }
        3 => {
            lines.extend(zoned);
            lines.extend(
                [
                    "BEGIN:VALARM",
                    "ACTION:DISPLAY",
                    "TRIGGER:-PT30M",
                    "DESCRIPTION:Load the van",
                    "END:VALARM",
                ]
                .map(String::from),
            );
        }
        4 => {
            lines.extend(zoned);
            lines.extend([
                "ORGANIZER;CN=\"Office, The\":mailto:office@coop.example".into(),
                "ATTENDEE;CN=Picking crew;ROLE=REQ-PARTICIPANT;PARTSTAT=ACCEPTED;RSVP=TRUE:mailto:crew@coop.example"
                    .into(),
                "ATTENDEE;CN=Press ^'hall^' lead;PARTSTAT=DECLINED:mailto:press@coop.example".into(),
            ]);
        }
        5 => {
            lines.extend(zoned);
            let group = escaped(pick(GROUPS, i / 20 + 2));
            lines.push(format!("CATEGORIES:{group},{}", escaped(pick(GROUPS, i / 20))));
        }
        6 => {
            zone = false;
            lines.extend([format!("DTSTART:{}Z", stamp(at)), format!("DTEND:{}Z", stamp(end))]);
        }
        7 => {
            component = "VTODO";
            lines.extend([
                format!("DUE{}", local(at)),
                format!("STATUS:{}", pick(&["NEEDS-ACTION", "IN-PROCESS"], i)),
                format!("PRIORITY:{}", 1 + i % 9),
            ]);
        }
        8 => {
            lines.extend(zoned);
            let line = "Bring crates, labels; and the scale. Prinesi zaboje. 箱を持参。";
            lines.push(format!("DESCRIPTION:{}", escaped(&vec![line; 3 + i % 30].join("\n"))));
        }
        9 => {
            zone = false;
            lines.extend([format!("DTSTART:{}", stamp(at)), format!("DTEND:{}", stamp(end))]);
        }
        10 => {
            lines.extend([
                format!("DTSTART{}", local(at)),
                "DURATION:PT1H30M".into(),
                "CLASS:PRIVATE".into(),
            ]);
        }
        11 => {
            lines.extend(zoned);
            lines.push(format!(
                "RRULE:{}",
                pick(
                    &[
                        "FREQ=MONTHLY;BYDAY=-1FR",
                        "FREQ=DAILY;INTERVAL=2;COUNT=20",
                        "FREQ=WEEKLY;BYDAY=MO,WE,FR"
                    ],
                    i / 20
                )
            ));
        }
        12 => {
            lines.extend(zoned);
            lines.extend([
                "GEO:46.2400;14.3600".into(),
                "COLOR:olive".into(),
                "URL:https://orchard.example/stall/12".into(),
                "ATTACH;FMTTYPE=application/pdf:https://orchard.example/plan.pdf".into(),
                "X-CRATES;X-SIZE=\"large, blue\":40, 12".into(),
            ]);
        }
        13 => {
            lines.extend(zoned);
            lines.extend(["STATUS:TENTATIVE".into(), "TRANSP:OPAQUE".into(), "X-SCALE:".into()]);
        }
        14 => {
            zone = false;
            lines.extend([format!("DTSTART:{}Z", stamp(at)), format!("DTEND:{}Z", stamp(at))]);
        }
        15 => {
            zone = false;
            lines.push(format!("DTSTART:{}Z", stamp(at)));
        }
        16 => {
            lines.extend(zoned);
            lines.push(format!("RDATE{},{}", local(week(1)), stamp(week(5))));
        }
        17 => {
            lines.extend(zoned);
            lines.extend(["STATUS:CANCELLED".into(), "LOCATION:Row 3 ".into()]);
        }
        _ => {
            lines.extend(zoned);
            lines.push(format!("LOCATION:{}", escaped(pick(PLACES, i))));
        }
    }
    let mut text =
        String::from("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Orchard co-operative//Sample//EN\r\n");
    if zone {
        text.push_str(ZONE);
    }
    for body in std::iter::once(&lines).chain(&overrides) {
        text.push_str(&format!("BEGIN:{component}\r\n"));
        body.iter().for_each(|line| chestnut_core::ical::fold_line(line, &mut text));
        text.push_str(&format!("END:{component}\r\n"));
    }
    text.push_str("END:VCALENDAR\r\n");
    OrchardEntry { name: format!("orchard-{i:04}.ics"), uid, component, text }
}

fn date_line(name: &str, day: Date) -> String {
    format!("{name};VALUE=DATE:{}", chestnut_core::TimeValue::Date(day))
}

/// Makes a server of the co-operative, user `office`: `count` entries, market days and stalls in `market`, all
/// else in `presses`.
#[must_use]
pub fn orchard_server(count: usize, now_ms: i64) -> Server {
    let day = jiff::Timestamp::from_millisecond(now_ms).unwrap_or_default();
    let first_day = day.to_zoned(jiff::tz::TimeZone::UTC).date();
    // The data is older than the server's first visitor.
    let mut server = Server::new(&["office", "crews"], now_ms - 86_400_000);
    let presses = server.add_calendar("office", "presses", "Press hall", "#b5651d");
    let market = server.add_calendar("office", "market", "Market stalls", "#4a7c2a");
    server.feeds.insert("/feeds/market-days.ics".to_owned(), market_days(first_day));
    server.add_calendar("office", "pruning", "Pruning courses", "#7a6a9a");
    for (i, entry) in orchard_entries(count, first_day).into_iter().enumerate() {
        let calendar = if matches!(i % 20, 1 | 12) { &market } else { &presses };
        server.store(calendar, &entry.name, &entry.text);
    }
    server.now_ms = now_ms;
    server
}

/// The feed of a town: six Saturdays with a market, and an evening that its publisher gave no UID.
#[must_use]
pub fn market_days(first_day: Date) -> String {
    let head = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//markets.example//Days//EN\r\nMETHOD:PUBLISH\r\nX-WR-CALNAME:Market days\r\nX-WR-TIMEZONE:Europe/Ljubljana\r\nREFRESH-INTERVAL;VALUE=DURATION:PT12H\r\n";
    let saturday = first_day.saturating_add(
        (6 - i32::from(first_day.weekday().to_monday_zero_offset()) + 6).rem_euclid(7).days(),
    );
    let mut feed = format!("{head}{ZONE}");
    for week in 0..6_i32 {
        let day = saturday.saturating_add((7 * week).days()).strftime("%Y%m%d").to_string();
        feed += &format!(
            "BEGIN:VEVENT\r\nUID:saturday-{week}@markets.example\r\nDTSTAMP:20260901T060000Z\r\nDTSTART;TZID=Europe/Ljubljana:{day}T070000\r\nDTEND;TZID=Europe/Ljubljana:{day}T130000\r\nSUMMARY:Town market\r\nLOCATION:River bank\r\nEND:VEVENT\r\n"
        );
    }
    let evening = saturday.saturating_add(10.days()).strftime("%Y%m%d").to_string();
    feed += &format!(
        "BEGIN:VEVENT\r\nDTSTAMP:20260901T060000Z\r\nDTSTART;VALUE=DATE:{evening}\r\nSUMMARY:Evening of lights\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    );
    feed
}
