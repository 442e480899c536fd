//! What takes place, day by day.

use chestnut_standin::{Server, market_days, serve_on_thread};
use chestnut_testkit::standin_now;
use jiff::civil::date;

use crate::desk::Desk;

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
        shown(&["agenda", "week.ics", "--from", "2026-10-07", "--to", "2026-10-09", "--json"])
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
        told.err.contains("presses, \"Press hall\": `FREQ=FORTNIGHTLY` is no part of a recurrence rule"),
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
        (&["agenda", "--from", "monday"], "--from \"monday\" is no day"),
        (&["agenda", "--from", "2026-10-09", "--to", "2026-10-09"], "is not behind --from"),
    ] {
        let told = desk.run(arguments);
        assert!(told.code == 2 && told.err.contains(problem), "{told:?}");
    }
}
