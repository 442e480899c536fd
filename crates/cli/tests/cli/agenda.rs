//! What takes place, day by day.

use chestnut_standin::{Server, market_days, serve_on_thread};
use chestnut_testkit::standin_now;
use jiff::civil::date;

use crate::desk::Desk;
use crate::set_up::{PRESSES, SetUp};

const WEEK: &str = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\n\
    BEGIN:VEVENT\r\nUID:press\r\nDTSTART;TZID=Europe/Ljubljana:20261005T080000\r\nDURATION:PT90M\r\nRRULE:FREQ=DAILY;COUNT=4\r\nEXDATE:20261006T060000Z\r\nSUMMARY:Press hall\r\nEND:VEVENT\r\n\
    BEGIN:VEVENT\r\nUID:press\r\nRECURRENCE-ID:20261007T060000Z\r\nDTSTART;TZID=Europe/Ljubljana:20261007T100000\r\nDURATION:PT1H\r\nSUMMARY:Press hall\\, later\r\nEND:VEVENT\r\n\
    BEGIN:VEVENT\r\nUID:fair\r\nDTSTART;VALUE=DATE:20261003\r\nDTEND;VALUE=DATE:20261007\r\nSUMMARY:Harvest fair\r\nEND:VEVENT\r\n\
    BEGIN:VEVENT\r\nUID:watch\r\nDTSTART;TZID=Europe/Ljubljana:20261006T220000\r\nDTEND;TZID=Europe/Ljubljana:20261007T060000\r\nSTATUS:CANCELLED\r\nSUMMARY:Frost watch \x1b[31m\r\nEND:VEVENT\r\n\
    BEGIN:VEVENT\r\nUID:van\r\nDTSTART:20261008T070000\r\nSUMMARY:Delivery van\r\nEND:VEVENT\r\n\
    BEGIN:VTODO\r\nUID:crates\r\nDUE:20261009T100000Z\r\nSUMMARY:Wash the crates\r\nEND:VTODO\r\nEND:VCALENDAR\r\n";

#[test]
fn the_week_as_people_and_as_programs_see_it() {
    let desk = Desk::new();
    desk.write("week.ics", WEEK);
    desk.write("chestnut.toml", "timezone = \"Europe/Ljubljana\"\n");
    let shown = |arguments: &[&str]| {
        let told = desk.run(arguments);
        format!("{}{}(status {})", told.out, told.err, told.code)
    };
    insta::assert_snapshot!("agenda", shown(&["agenda", "week.ics"]));
    insta::assert_snapshot!(
        "agenda_json",
        shown(&["agenda", "week.ics", "--from", "2026-10-07", "--to", "2026-10-08", "--json"])
    );
    // Calendars of every kind, several files in one text, and what cannot be worked out is told.
    let mut server = Server::new(&["office"], standin_now() - 86_400_000);
    let presses = server.add_calendar("office", "presses", "Press hall", "");
    server.store(
        &presses,
        "bad.ics",
        &WEEK
            .replace("FREQ=DAILY", "FREQ=FORTNIGHTLY")
            .split("BEGIN:VEVENT\r\nUID:fair")
            .next()
            .map(|t| format!("{t}END:VCALENDAR\r\n"))
            .expect("a text"),
    );
    server.feeds.insert("/days.ics".into(), market_days(date(2026, 10, 5)));
    let site = serve_on_thread(vec![server], std::sync::Arc::new(standin_now)).expect("a server").remove(0);
    desk.account(&site.url, "");
    desk.write("twice.ics", format!("{WEEK}{WEEK}"));
    let more = format!(
        "[calendar.presses]\naccount = \"packhouse\"\npath = \"{presses}\"\n[calendar.days]\nfeed = \"{}days.ics\"\n[calendar.week]\nfile = \"week.ics\"\n",
        site.url
    );
    desk.write("chestnut.toml", desk.read("chestnut.toml") + &more);
    let told = desk.run(&["agenda", "--to", "2026-10-20"]);
    assert_eq!(told.code, 1, "{told:?}");
    assert!(
        told.err
            .contains("presses, \"Press hall\": `FREQ=FORTNIGHTLY` is not a known part of a recurrence rule"),
        "{}",
        told.err
    );
    assert!(
        told.out.contains("Town market  days") && told.out.contains("Wash the crates  week"),
        "{}",
        told.out
    );
    assert_eq!(desk.ok(&["agenda", "twice.ics", "--json"]).json().as_array().map(Vec::len), Some(14));
    for (arguments, problem) in [
        (&["agenda", "nowhere"][..], "there is no calendar `nowhere`"),
        (&["agenda", "--from", "someday"], "--from \"someday\" is not a day"),
        (&["agenda", "--from", "2026-10-09", "--to", "2026-10-08"], "is before --from"),
    ] {
        let told = desk.run(arguments);
        assert!(told.code == 2 && told.err.contains(problem), "{told:?}");
    }
}

#[test]
fn a_week_is_a_picture_in_which_a_copy_and_its_source_are_one() {
    let set_up = SetUp::new(30);
    set_up.ok(&["sync"]);
    let busy = "[route.times]\nfrom = \"presses\"\nto = \"kiosk\"\ncarry = \"busy\"\n[calendar.kiosk]\nfile = \"kiosk.ics\"\n";
    set_up.configure(&format!("week-starts = \"sunday\"\n{}{busy}", set_up.standard()));
    set_up.ok(&["sync", "times"]);
    set_up.ok(&["sync"]);
    set_up.target.with(|server| server.log.clear());
    insta::assert_snapshot!("a_week", set_up.shown(&["agenda", "--week", "2026-10-23", "--grid"]));
    let asked = set_up.target.with(|server| server.log.clone());
    // A mark of change as young as this is not trusted alone.
    assert!(asked.len() <= 2, "{asked:?}");
    insta::assert_snapshot!("a_month", set_up.shown(&["agenda", "--month", "2026-10-20", "--grid"]));
    insta::assert_snapshot!(
        "beside",
        set_up
            .shown(&["agenda", "presses", "kiosk", "--from", "monday", "--days", "3", "--grid", "--beside"])
    );
    let told = set_up.ok(&["agenda", "--from", "2026-10-12", "--to", "2026-10-12", "--json"]).json();
    let lines = told.as_array().expect("a list").clone();
    let of = |calendar: &str| lines.iter().filter(|line| line["calendar"] == calendar).count();
    assert!(of("presses") > 0 && of("board") == of("presses"), "{told}");
    for line in &lines {
        assert_eq!(line["copy"], line["calendar"] != "presses", "{line}");
        let routes = line["routes"].as_array().expect("routes").iter();
        assert!(
            routes.clone().any(|route| route == "presses-to-board") == (line["calendar"] != "kiosk"),
            "{line}"
        );
    }
    // Without asking anybody: as of when.
    set_up.source.with(|server| server.store(PRESSES, "new.ics", "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//t//t\r\nBEGIN:VEVENT\r\nUID:new\r\nDTSTAMP:20261001T000000Z\r\nDTSTART:20261012T080000Z\r\nSUMMARY:Brand new\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"));
    let offline = set_up.ok(&["agenda", "presses", "--days", "9", "--offline"]);
    assert!(
        offline.out.starts_with("presses: as of 10:00 today") && !offline.out.contains("Brand new"),
        "{offline:?}"
    );
    assert!(set_up.ok(&["agenda", "presses", "--days", "9"]).out.contains("Brand new"));
    for wrong in ["week-starts = \"tuesday\"\n", "week-starts = 1\n"] {
        set_up.configure(&format!("{wrong}{}", set_up.standard()));
        assert_eq!(set_up.run(&["agenda"]).code, 2);
    }
}

#[test]
fn free_time_is_what_no_calendar_takes() {
    let desk = Desk::new();
    let event = |uid: &str, day: &str, from: &str, to: &str, more: &str| {
        format!(
            "BEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20261001T000000Z\r\nDTSTART;TZID=Europe/Ljubljana:202610{day}T{from}00\r\nDTEND;TZID=Europe/Ljubljana:202610{day}T{to}00\r\nSUMMARY:{uid}\r\n{more}END:VEVENT\r\n"
        )
    };
    let calendar = |events: &[String]| {
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\n{}END:VCALENDAR\r\n",
            events.concat()
        )
    };
    let meeting = event("meeting", "06", "1000", "1100", "");
    desk.write(
        "presses.ics",
        calendar(&[
            meeting.clone(),
            event("perhaps", "06", "1300", "1430", "STATUS:TENTATIVE\r\n"),
            event("off", "07", "0900", "1700", "STATUS:CANCELLED\r\n"),
            event("open", "07", "1000", "1100", "TRANSP:TRANSPARENT\r\n"),
            event("week", "08", "0800", "1200", "RRULE:FREQ=DAILY;COUNT=2\r\n"),
        ]),
    );
    desk.write("market.ics", calendar(&[meeting, event("stall", "08", "1200", "1700", "")]));
    desk.write("chestnut.toml", "timezone = \"Europe/Ljubljana\"\n[calendar.presses]\nfile = \"presses.ics\"\n[calendar.market]\nfile = \"market.ics\"\n");
    let told = desk.run(&["free", "--to", "2026-10-09"]);
    insta::assert_snapshot!("free", format!("{}{}(status {})", told.out, told.err, told.code));
    let told = desk
        .ok(&["free", "presses", "--from", "tuesday", "--to", "tuesday", "--for", "90m", "--json"])
        .json();
    let gaps: Vec<_> = told["gaps"]
        .as_array()
        .expect("gaps")
        .iter()
        .map(|gap| (gap["start"].clone(), gap["minutes"].clone()))
        .collect();
    assert_eq!(
        gaps,
        [("2026-10-06T09:00:00Z".into(), 120.into()), ("2026-10-06T12:30:00Z".into(), 150.into())],
        "{told}"
    );
    // On the day on which an hour comes twice, a night is an hour longer; weekends only where they are asked for.
    let night = desk
        .ok(&[
            "free",
            "--from",
            "2026-10-24",
            "--to",
            "2026-10-25",
            "--hours",
            "0-24",
            "--weekdays",
            "sat-sun",
            "--json",
        ])
        .json();
    let minutes: Vec<_> =
        night["gaps"].as_array().expect("gaps").iter().map(|gap| gap["minutes"].clone()).collect();
    assert_eq!(minutes, [1440, 1500], "{night}");
    desk.ok(&["free", "--ics", "taken.ics"]);
    let taken = desk.read("taken.ics");
    assert!(
        taken.contains("BEGIN:VFREEBUSY")
            && taken.contains("FREEBUSY;FBTYPE=BUSY-TENTATIVE:20261006T110000Z/20261006T123000Z"),
        "{taken}"
    );
    assert!(!taken.contains("meeting"), "{taken}");
    desk.write("odd.ics", calendar(&[event("odd", "06", "1500", "1600", "RRULE:FREQ=FORTNIGHTLY\r\n")]));
    let odd = desk.run(&["free", "odd.ics"]);
    assert!(odd.code == 1 && odd.err.contains("may take time that is shown as free"), "{odd:?}");
    for (wrong, words) in [
        (&["free", "--for", "soon"][..], "is not a length of time"),
        (&["free", "--hours", "17-9"], "are not hours of a day"),
        (&["free", "--weekdays", "mon-noon"], "are not days of a week"),
        (&["free", "--from", "2026-10-09", "--to", "2026-10-08"], "is before --from"),
        (&["free", "nowhere"], "there is no calendar `nowhere`"),
    ] {
        let told = desk.run(wrong);
        assert!(told.code == 2 && told.err.contains(words), "{told:?}");
    }
}
