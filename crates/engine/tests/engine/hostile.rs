//! Answers that nobody sends by mistake: each in a process of its own, so that what it costs can be measured. None takes
//! long, none takes much memory, none deletes anything, and what is wrong is said.

use std::fmt::Write as _;
use std::process::Command;
use std::time::Duration;

use chestnut_standin::{Fault, FaultKind};
use chestnut_testkit::World;

use crate::bad_sources::{answers, body};

/// Tells a process which case is its own.
const CASE: &str = "CHESTNUT_HOSTILE_CASE";
/// The most memory, in kilobytes; the stand-in server and its answer are part of it.
const MEMORY: i64 = 200 << 10;
/// The longest time, by the clock that jumps over pauses.
const LONGEST: Duration = Duration::from_secs(5);

/// One answer: what it is called, which requests get it, after how many that get a right one, and a word that the error
/// must have; nothing where it is no error.
struct Case {
    name: String,
    method: &'static str,
    after: usize,
    fault: Answers,
    word: &'static str,
    /// What may pass is asked for again after a while.
    waits: bool,
}

const OPEN: &str =
    r#"<?xml version="1.0"?><d:multistatus xmlns:d="DAV:" xmlns:c="urn:ietf:params:xml:ns:caldav">"#;
/// The calendar itself, without which no listing is one.
const ITSELF: &str = "<d:response><d:href>/office/calendars/presses/</d:href><d:propstat><d:prop><d:resourcetype><d:collection/></d:resourcetype></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>";

fn multistatus(inner: &str) -> String {
    format!("{OPEN}{ITSELF}{inner}</d:multistatus>")
}

fn times(number: usize, one: impl Fn(usize) -> String) -> String {
    (0..number).fold(String::new(), |mut all, at| {
        write!(all, "{}", one(at)).expect("a text");
        all
    })
}

fn response(href: &str, inner: &str) -> String {
    format!(
        "<d:response><d:href>{href}</d:href><d:propstat><d:prop>{inner}</d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>"
    )
}

/// Makes an answer when it is needed.
type Answers = Box<dyn Fn() -> FaultKind>;

/// Makes a text when it is needed: all of them together are large.
type Make = Box<dyn Fn() -> String>;

fn long(number: usize) -> String {
    "x".repeat(number)
}

/// XML that goes as far as XML can; a word of the error, `*` where it may say what a right answer says.
fn documents() -> Vec<(&'static str, Make, &'static str)> {
    fn inside(
        name: &'static str,
        inner: impl Fn() -> String + 'static,
        word: &'static str,
    ) -> (&'static str, Make, &'static str) {
        (name, Box::new(move || multistatus(&inner())), word)
    }
    fn whole(
        name: &'static str,
        text: impl Fn() -> String + 'static,
        word: &'static str,
    ) -> (&'static str, Make, &'static str) {
        (name, Box::new(text), word)
    }
    let here = |n: usize| format!("/office/calendars/presses/{n}.ics");
    let etag = "<d:getetag>1</d:getetag>";
    vec![
        inside("elements inside elements", || "<a>".repeat(100_000) + &"</a>".repeat(100_000), "Depth"),
        whole("elements that never end", || OPEN.to_owned() + &"<d:response>".repeat(100_000), "Depth"),
        inside(
            "many attributes",
            || format!("<a {}/>", times(100_000, |n| format!("b{n}='' "))),
            "Attributes",
        ),
        inside(
            "many namespaces",
            || format!("<a {}/>", times(50_000, |n| format!("xmlns:b{n}='u' "))),
            "Namespaces",
        ),
        inside("a long name", || format!("<{}/>", long(5 << 20)), "Name"),
        inside("a long attribute", || format!("<a b='{}'/>", long(17 << 20)), "Bytes"),
        inside("many elements in one response", || response("a.ics", &"<a/>".repeat(1_000_000)), "Elements"),
        inside("many responses", || "<d:response/>".repeat(600_000), "Responses"),
        inside("many responses of one entry", move || times(100_000, |_| response(&here(1), "")), "*"),
        inside("a long text", || response("a.ics", &long(17 << 20)), "Bytes"),
        inside("a long CDATA", || response("a.ics", &format!("<![CDATA[{}]]>", long(17 << 20))), "Bytes"),
        inside("a long href", || response(&long(17 << 20), ""), "Bytes"),
        inside("a long comment", || format!("<!-- {} -->", long(10 << 20)), "*"),
        inside("a long instruction", || format!("<?a {}?>", long(10 << 20)), "*"),
        whole("nothing but blanks", || OPEN.to_owned() + &" ".repeat(17 << 20), "*"),
        whole(
            "a document type",
            || format!("<!DOCTYPE a [<!ENTITY b \"{}\">]>{}", long(1 << 20), multistatus("&b;")),
            "DocumentType",
        ),
        whole(
            "entities of entities",
            || format!("<!DOCTYPE a [<!ENTITY b \"bb\"><!ENTITY c \"&b;&b;\">]>{}", multistatus("&c;")),
            "DocumentType",
        ),
        whole(
            "an entity of a file",
            || format!("<!DOCTYPE a [<!ENTITY b SYSTEM \"file:///etc/passwd\">]>{}", multistatus("&b;")),
            "DocumentType",
        ),
        inside("an unknown entity", || "&nothing;".to_owned(), "*"),
        inside("characters that are none", || "&#0;&#xFFFF;&#xD800;&#x110000;&#99999999999;".to_owned(), "*"),
        inside("tags that cross", || "<a><b></a></b>".to_owned(), "*"),
        whole("an attribute without an end", || OPEN.to_owned() + "<a b='", "*"),
        whole("two roots", || multistatus("") + &multistatus(""), "*"),
        whole("another namespace", || multistatus("").replace("DAV:", "DAW:"), "Root"),
        whole("no XML at all", || "\u{0}\u{1}\u{2}".repeat(1000), "*"),
        inside(
            "a status without end",
            || {
                format!(
                    "<d:response><d:href>a.ics</d:href><d:status>HTTP/1.1 {}</d:status></d:response>",
                    "9".repeat(1 << 20)
                )
            },
            "*",
        ),
        inside(
            "hrefs that go up",
            move || times(1000, |n| response(&format!("/office/calendars/presses/../../../{n}.ics"), etag)),
            "*",
        ),
        inside(
            "hrefs of another server",
            move || times(1000, |n| response(&format!("https://stranger.example/{n}.ics"), etag)),
            "*",
        ),
        inside(
            "hrefs that are none",
            move || {
                ["", "%", "%zz", "//", "?", "#", "%00", "data:,x"].map(|href| response(href, etag)).concat()
            },
            "*",
        ),
        inside(
            "a long ETag",
            move || response(&here(1), &format!("<d:getetag>{}</d:getetag>", long(1 << 20))),
            "*",
        ),
        inside("a long token", || format!("<d:sync-token>{}</d:sync-token>", long(1 << 20)), "*"),
        inside("many properties", || response("a.ics", &times(49_000, |n| format!("<p{n}/>"))), "*"),
    ]
}

fn event(lines: &str) -> String {
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:hostile\r\n\
         DTSTART:20261012T080000Z\r\n{lines}END:VEVENT\r\nEND:VCALENDAR\r\n"
    )
}

fn zoned(rules: &str) -> String {
    event("").replace("DTSTART:20261012T080000Z", "DTSTART;TZID=Hall:20261012T080000").replace(
        "BEGIN:VEVENT",
        &format!("BEGIN:VTIMEZONE\r\nTZID:Hall\r\n{rules}END:VTIMEZONE\r\nBEGIN:VEVENT"),
    )
}

fn observance(more: &str) -> String {
    format!(
        "BEGIN:STANDARD\r\nDTSTART:19700101T000000\r\nTZOFFSETFROM:+0100\r\nTZOFFSETTO:+0200\r\n{more}END:STANDARD\r\n"
    )
}

/// Texts of entries that go as far as iCalendar can.
fn entries() -> Vec<(&'static str, Make)> {
    fn of(name: &'static str, text: impl Fn() -> String + 'static) -> (&'static str, Make) {
        (name, Box::new(text))
    }
    let alarm = "BEGIN:VALARM\r\nACTION:AUDIO\r\nTRIGGER:-PT1M\r\nEND:VALARM\r\n";
    let changed = |n: usize| {
        format!(
            "BEGIN:VEVENT\r\nUID:hostile\r\nRECURRENCE-ID:2026{:04}T080000Z\r\nDTSTART:20261012T080000Z\r\nEND:VEVENT\r\n",
            n % 9999
        )
    };
    vec![
        of("many removed days", || event(&"EXDATE:20261013T080000Z\r\n".repeat(100_000))),
        of("many days in one line", || {
            event(&format!("RDATE:{}\r\n", vec!["20261013T080000Z"; 200_000].join(",")))
        }),
        of("many alarms", move || event(&alarm.repeat(50_000))),
        of("many people", || event(&times(50_000, |n| format!("ATTENDEE:mailto:{n}@coop.example\r\n")))),
        of("many properties", || event(&"X-A:1\r\n".repeat(200_000))),
        of("a long line", || event(&format!("SUMMARY:{}\r\n", long(11 << 20)))),
        of("a line folded often", || event(&format!("SUMMARY:{}\r\n", "x\r\n ".repeat(500_000)))),
        of("components inside components", || {
            event(&("BEGIN:X\r\n".repeat(50_000) + &"END:X\r\n".repeat(50_000)))
        }),
        of("a rule without a day", || event("RRULE:FREQ=SECONDLY;BYMONTH=2;BYMONTHDAY=30\r\n")),
        of("a rule of many days", || event("RRULE:FREQ=SECONDLY;COUNT=4294967295\r\n")),
        of("many changed days", move || {
            event("RRULE:FREQ=DAILY\r\n")
                .replace("END:VCALENDAR", &(times(20_000, changed) + "END:VCALENDAR"))
        }),
        of("a zone that changes each second", || zoned(&observance("RRULE:FREQ=SECONDLY\r\n"))),
        of("a zone of many changes", || {
            zoned(&observance(&format!("RDATE:{}\r\n", vec!["20261013T080000"; 100_000].join(","))))
        }),
        of("a zone of many observances", || zoned(&observance("").repeat(20_000))),
        of("many parameters", || event(&format!("SUMMARY{}:x\r\n", times(50_000, |n| format!(";X-P{n}=1"))))),
        of("a parameter without an end", || event(&format!("SUMMARY;X=\"{}\r\n", long(1 << 20)))),
    ]
}

fn cases() -> Vec<Case> {
    let mut cases = Vec::new();
    for (at, (name, _, word)) in answers().into_iter().enumerate() {
        for method in ["PROPFIND", "REPORT", "GET"] {
            let word = if method == "PROPFIND" && !matches!(word, "" | "Incomplete") { word } else { "*" };
            let fault: Answers = Box::new(move || answers().remove(at).1);
            cases.push(Case {
                name: format!("{name} to {method}"),
                method,
                after: 0,
                fault,
                word,
                waits: true,
            });
        }
    }
    for (at, (name, _, word)) in documents().into_iter().enumerate() {
        // The look at the calendar itself, its listing, and the texts of entries.
        for (method, after, word) in [("PROPFIND", 0, "*"), ("PROPFIND", 1, word), ("REPORT", 0, "*")] {
            let name = format!("{name} to {method} {after}");
            let fault: Answers = Box::new(move || body(207, "application/xml", &documents()[at].1()));
            cases.push(Case { name, method, after, fault, word, waits: false });
        }
    }
    for (at, (name, _)) in entries().into_iter().enumerate() {
        let batch = move || {
            let text = entries()[at].1().replace('&', "&amp;").replace('<', "&lt;");
            let inner = format!("<d:getetag>1</d:getetag><c:calendar-data>{text}</c:calendar-data>");
            let one = response("/office/calendars/presses/hostile.ics", &inner);
            body(207, "application/xml", &multistatus(&one))
        };
        let single = move || body(200, "text/calendar", &entries()[at].1());
        let (batch, single): (Answers, Answers) = (Box::new(batch), Box::new(single));
        for (how, method, fault) in [("in a batch", "REPORT", batch), ("by itself", "GET", single)] {
            let name = format!("{name} {how}");
            cases.push(Case { name, method, after: 0, fault, word: "*", waits: false });
        }
    }
    cases
}

/// What one process does: a route in step, then this answer of its source.
fn one(case: &Case) {
    let mut world = World::new(30);
    world.measure = true;
    world.sync();
    world.pass(25 * 3600);
    world.write(&world.source, "hostile.ics", "BEGIN:VCALENDAR\r\n");
    world.source.server.borrow_mut().faults =
        vec![Fault { after: case.after, ..Fault::always(case.method, (case.fault)()) }];
    let report = world.sync();
    let took = Duration::from_millis(report.summary.milliseconds);
    let standing = world.target.server.borrow().collections[&world.target.path].objects.len();
    assert!(standing >= 30, "copies were deleted: {standing} stand");
    let error = report.error.as_ref().map(|error| format!("{error:?}")).unwrap_or_default();
    assert!(took <= LONGEST || case.waits, "it takes {took:?}");
    assert!(error.len() <= 4000, "the error has {} letters", error.len());
    assert!(case.word == "*" || error.contains(case.word), "{} is not in {error}", case.word);
    assert!(error.is_empty() || error.contains("calendar: \"source\""), "{error}");
    // When the server is well again, so is the route.
    world.source.server.borrow_mut().faults.clear();
    world.delete(&world.source, "hostile.ics");
    world.pass(25 * 3600);
    world.sync();
    assert_eq!(world.differences(), Vec::<String>::new());
    let memory = most_memory();
    assert!(memory <= MEMORY, "it takes {memory} kB");
}

#[test]
fn a_hostile_answer_costs_little_and_deletes_nothing() {
    let cases = cases();
    if let Some(number) = std::env::var_os(CASE) {
        let number: usize = number.to_str().and_then(|text| text.parse().ok()).expect("a number");
        return one(&cases[number]);
    }
    assert!(cases.len() >= 120, "{} cases", cases.len());
    let mut broken = Vec::new();
    let this = std::env::current_exe().expect("this program");
    let names: Vec<_> = cases.into_iter().map(|case| case.name).collect();
    for (number, name) in names.iter().enumerate() {
        let output = Command::new(&this)
            .args(["--exact", "hostile::a_hostile_answer_costs_little_and_deletes_nothing", "--nocapture"])
            .env(CASE, number.to_string())
            .output()
            .expect("a process");
        if !output.status.success() {
            let said = String::from_utf8_lossy(&output.stderr);
            broken.push(format!("{name}: {}", said.chars().take(1500).collect::<String>()));
        }
    }
    assert!(broken.is_empty(), "{} of {}:\n{}", broken.len(), names.len(), broken.join("\n"));
}

/// The most memory that this process had, in kilobytes; nothing where the system does not tell.
fn most_memory() -> i64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.and_then(|rest| rest.trim().trim_end_matches(" kB").parse().ok()).unwrap_or_default()
}
