//! The simulated server itself: what other tests lean on must stand.

use chestnut_standin::{Habit, Reply, Server, ServerRequest, Share, orchard_entries};

const PRESSES: &str = "/office/calendars/presses/";

fn server() -> Server {
    let mut server = Server::new(&["office", "crews"], 1_791_180_000_000);
    server.add_calendar("office", "presses", "Press hall", "#b5651d");
    server
}

/// Asks as a user: `office` signs in as `b2ZmaWNl…`, `crews` as `Y3Jld3M…`.
fn ask(
    server: &mut Server,
    user: &str,
    method: &str,
    path: &str,
    headers: &[(&str, &str)],
    body: &str,
) -> Reply {
    let credentials = match user {
        "office" => "Basic b2ZmaWNlOm9mZmljZS1wdw==",
        "crews" => "Basic Y3Jld3M6Y3Jld3MtcHc=",
        _ => "Basic bm9ib2R5Om5vdGhpbmc=",
    };
    let sign_in = [("authorization", credentials)];
    let headers = sign_in.iter().chain(headers);
    server.handle(&ServerRequest {
        method: method.to_owned(),
        path: path.to_owned(),
        headers: headers.map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect(),
        body: body.as_bytes().to_vec(),
    })
}

fn text(reply: &Reply) -> String {
    String::from_utf8_lossy(&reply.body).into_owned()
}

fn entry(number: usize) -> String {
    orchard_entries(number + 1, jiff::civil::date(2026, 10, 5))[number].text.clone()
}

#[test]
fn conditions_hold() {
    let mut server = server();
    let at = format!("{PRESSES}a.ics");
    type Row = (&'static str, &'static [(&'static str, &'static str)], u16);
    let table: &[Row] = &[
        ("DELETE", &[], 404),
        ("PUT", &[("if-match", "\"x\"")], 412),
        ("PUT", &[("if-none-match", "*")], 201),
        ("PUT", &[("if-none-match", "*")], 412),
        ("PUT", &[("if-match", "\"x\"")], 412),
        ("PUT", &[("if-match", "*")], 204),
        ("DELETE", &[("if-match", "\"x\"")], 412),
        ("GET", &[], 200),
        ("DELETE", &[("if-match", "*")], 204),
        ("GET", &[], 404),
    ];
    for (method, headers, status) in table {
        let reply = ask(&mut server, "office", method, &at, headers, &entry(0));
        assert_eq!(reply.status, *status, "{method} {headers:?}");
    }
    assert_eq!(ask(&mut server, "office", "PUT", &at, &[], "no calendar").status, 403);
    assert_eq!(
        ask(&mut server, "office", "PUT", "/office/calendars/nowhere/a.ics", &[], &entry(0)).status,
        404
    );
}

#[test]
fn users_see_what_is_theirs_and_what_is_shared() {
    let mut server = server();
    server.store(PRESSES, "a.ics", &entry(0));
    let at = format!("{PRESSES}a.ics");
    assert_eq!(ask(&mut server, "nobody", "GET", &at, &[], "").status, 401);
    assert_eq!(ask(&mut server, "crews", "GET", &at, &[], "").status, 403);
    for (share, put) in [(Share::Read, 403), (Share::Write, 204)] {
        server.collections.get_mut(PRESSES).expect("it is there").shares.insert("crews".into(), share);
        assert_eq!(ask(&mut server, "crews", "GET", &at, &[], "").status, 200);
        assert_eq!(ask(&mut server, "crews", "PUT", &at, &[], &entry(0)).status, put, "{share:?}");
        let home = ask(&mut server, "crews", "PROPFIND", "/crews/calendars/", &[("depth", "1")], "");
        assert!(text(&home).contains(PRESSES), "shared calendars are listed in the home");
    }
}

#[test]
fn sync_reports_tell_changes_and_removals_since_a_token() {
    let mut server = server();
    let report = |server: &mut Server, token: &str| {
        let body = format!(
            r#"<d:sync-collection xmlns:d="DAV:"><d:sync-token>{token}</d:sync-token><d:sync-level>1</d:sync-level><d:prop><d:getetag/></d:prop></d:sync-collection>"#
        );
        ask(server, "office", "REPORT", PRESSES, &[("depth", "1")], &body)
    };
    let token = |reply: &Reply| {
        let text = text(reply);
        text.split("sync-token>").nth(1).and_then(|t| t.split('<').next()).expect("a token").to_owned()
    };
    server.store(PRESSES, "a.ics", &entry(0));
    server.store(PRESSES, "b.ics", &entry(1));
    let first = report(&mut server, "");
    assert!(text(&first).contains("a.ics") && text(&first).contains("b.ics"));
    server.store(PRESSES, "c.ics", &entry(2));
    server.delete(PRESSES, "a.ics");
    let second = report(&mut server, &token(&first));
    let told = text(&second);
    assert!(told.contains("c.ics") && told.contains("404 Not Found") && !told.contains("b.ics"), "{told}");
    let third = report(&mut server, &token(&second));
    assert!(!text(&third).contains("<d:response>"));
    assert_eq!(report(&mut server, "made up").status, 403);
    server.habits.insert(Habit::NoSync);
    assert_eq!(report(&mut server, &token(&third)).status, 403);
}

#[test]
fn calendars_are_made_renamed_and_limited() {
    let mut server = server();
    let body = r##"<c:mkcalendar xmlns:c="urn:ietf:params:xml:ns:caldav" xmlns:d="DAV:" xmlns:i="http://apple.com/ns/ical/"><d:set><d:prop><d:displayname>Van</d:displayname><i:calendar-color>#112233</i:calendar-color><c:supported-calendar-component-set><c:comp name="VEVENT"/></c:supported-calendar-component-set></d:prop></d:set></c:mkcalendar>"##;
    let van = "/office/calendars/van/";
    assert_eq!(ask(&mut server, "office", "MKCALENDAR", van, &[], body).status, 201);
    assert_eq!(ask(&mut server, "office", "MKCALENDAR", van, &[], body).status, 405);
    assert_eq!(ask(&mut server, "crews", "MKCALENDAR", "/office/calendars/theirs/", &[], body).status, 403);
    let made = &server.collections[van];
    assert_eq!(
        (made.name.as_str(), made.color.as_str(), made.kinds.as_slice()),
        ("Van", "#112233", &["VEVENT".to_owned()][..])
    );
    let task = ask(&mut server, "office", "PUT", &format!("{van}task.ics"), &[], &entry(7));
    assert!(task.status == 403 && text(&task).contains("supported-calendar-component"));
    let rename = r#"<d:propertyupdate xmlns:d="DAV:"><d:set><d:prop><d:displayname>Delivery van</d:displayname></d:prop></d:set></d:propertyupdate>"#;
    assert_eq!(ask(&mut server, "office", "PROPPATCH", van, &[], rename).status, 207);
    assert_eq!(server.collections[van].name, "Delivery van");
    server.quota = 10;
    assert_eq!(ask(&mut server, "office", "PUT", &format!("{van}a.ics"), &[], &entry(0)).status, 507);
}

#[test]
fn queries_and_feeds() {
    let mut server = server();
    for number in [0, 2, 6] {
        server.store(PRESSES, &format!("{number}.ics"), &entry(number));
    }
    let query = |server: &mut Server, inner: &str| {
        let body = format!(
            r#"<c:calendar-query xmlns:c="urn:ietf:params:xml:ns:caldav" xmlns:d="DAV:"><c:filter><c:comp-filter name="VCALENDAR"><c:comp-filter name="VEVENT">{inner}</c:comp-filter></c:comp-filter></c:filter></c:calendar-query>"#
        );
        text(&ask(server, "office", "REPORT", PRESSES, &[("depth", "1")], &body))
            .matches("<d:response>")
            .count()
    };
    assert_eq!(query(&mut server, ""), 3);
    // A series matches any range, as on several real servers.
    assert_eq!(query(&mut server, r#"<c:time-range start="20300101T000000Z" end="20300102T000000Z"/>"#), 1);
    let title = r#"<c:prop-filter name="SUMMARY"><c:text-match>press hall</c:text-match></c:prop-filter>"#;
    assert_eq!(query(&mut server, title), 1);
    server.habits.insert(Habit::IgnoresTextFilters);
    assert_eq!(query(&mut server, title), 3);
    server.feeds.insert("/feeds/market.ics".into(), entry(1));
    let reply = ask(&mut server, "nobody", "GET", "/feeds/market.ics", &[], "");
    let etag = reply.headers.iter().find(|(name, _)| *name == "ETag").expect("an ETag").1.clone();
    assert_eq!(reply.status, 200);
    assert_eq!(
        ask(&mut server, "nobody", "GET", "/feeds/market.ics", &[("if-none-match", &etag)], "").status,
        304
    );
    assert_eq!(ask(&mut server, "nobody", "PUT", "/feeds/market.ics", &[], "").status, 405);
}

#[test]
fn every_habit_has_a_name_of_its_own() {
    let mut names: Vec<_> = Habit::ALL.iter().map(|h| h.name()).collect();
    assert!(
        names.iter().all(|n| n.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-'))
    );
    names.sort();
    names.dedup();
    assert_eq!(names.len(), Habit::ALL.len());
}
