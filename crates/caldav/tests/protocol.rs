//! Requests and answers as values: what servers write, and what is made of it.

use chestnut_caldav::protocol::{
    Condition, Element, Multistatus, Part, Stored, SyncAnswer, href_of, object_href, parse_xml, put_object,
    read_calendar, read_listing, read_multiget, read_sync, read_write, url_of,
};
use chestnut_caldav::{Answer, Asked, DavError, SignInKind};
use chestnut_core::ObjectHref;
use http::HeaderMap;
use proptest::prelude::*;
use url::Url;

fn base() -> Url {
    Url::parse("https://dav.packhouse.example/office/presses/").expect("an address")
}

fn answer(status: u16, body: &str) -> Answer {
    Answer { status, headers: HeaderMap::new(), body: body.into(), url: base(), sign_in: SignInKind::Nothing }
}

fn multistatus(inner: &str) -> Answer {
    answer(
        207,
        &format!(
            r#"<?xml version="1.0"?><x:multistatus xmlns:x="DAV:" xmlns:k="urn:ietf:params:xml:ns:caldav">{inner}</x:multistatus>"#
        ),
    )
}

#[test]
fn hrefs_in_every_notation_name_the_same_entry() {
    let expected = ObjectHref::from("/office/presses/a@b +ä.ics");
    for raw in [
        "/office/presses/a%40b%20%2B%C3%A4.ics",
        "/office/presses/a%40b%20%2b%c3%a4.ics",
        "/office/presses/a@b%20+%C3%A4.ics",
        " /office/presses/a@b%20+%C3%A4.ics\n",
        "https://other.example:8443/office/presses/a@b%20+%C3%A4.ics",
        "a@b%20+%C3%A4.ics",
    ] {
        assert_eq!(href_of(raw, &base()), Some(expected.clone()), "{raw}");
    }
    assert_eq!(url_of(&expected, &base()).path(), "/office/presses/a@b%20+%C3%A4.ics");
    // It is kept by its name, and leads to the same place.
    let name = ObjectHref::from("a@b +ä.ics");
    assert_eq!(object_href("a%40b%20%2B%C3%A4.ics", &base()), Some(name.clone()));
    assert_eq!(url_of(&name, &base()), url_of(&expected, &base()));
    // What stands elsewhere keeps its path; the calendar itself is no entry of it, nor is what leads out of it one.
    for whole in ["/office/presses/", "/office/presses//a.ics", "/office/presses", "/office/press/a.ics"] {
        assert_eq!(object_href(whole, &base()), Some(ObjectHref::from(whole)));
        assert_eq!(url_of(&ObjectHref::from(whole), &base()).path(), whole);
    }
    for none in ["/office/presses/.", "/office/presses/%2e%2E/x.ics", "..", "stranger://", "data:,x://"] {
        assert_eq!(object_href(none, &base()), None, "{none}");
    }
    assert_eq!(url_of(&ObjectHref::from(""), &base()).path(), "/");
    // An escaped slash or percent sign is not the same as a plain one.
    for (raw, path) in
        [("/a%2Fb", "/a%2Fb"), ("/a%252Fb", "/a%252Fb"), ("/a/b", "/a/b"), ("/100%25", "/100%25")]
    {
        let href = href_of(raw, &base()).expect("a path");
        assert_eq!(url_of(&href, &base()).path(), path);
    }
}

#[test]
fn xml_is_read_within_limits_and_entities_are_refused() {
    let depth = |n: usize| format!("{}{}", "<a>".repeat(n), "</a>".repeat(n));
    assert!(parse_xml(depth(40).as_bytes()).is_ok());
    let bomb = r#"<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><x>&b;</x>"#;
    for bad in [depth(60).as_str(), bomb, "<a>&unknown;</a>", "<a></b>", "<a>", "", "text"] {
        assert!(parse_xml(bad.as_bytes()).is_err(), "{bad}");
    }
    let read = parse_xml(b"<p:a xmlns:p='urn:x' k='&lt;'>1 &amp; <![CDATA[<2>]]> &#x10D;</p:a>")
        .expect("well-formed");
    let attributes = vec![("p".to_owned(), "urn:x".to_owned()), ("k".to_owned(), "<".to_owned())];
    let expected = Element {
        namespace: "urn:x".into(),
        name: "a".into(),
        attributes,
        text: "1 & <2> č".into(),
        children: vec![],
    };
    assert_eq!(read, expected);
}

#[test]
fn one_bad_character_hides_no_answer_and_damages_no_entry() {
    let text = |xml: &str| parse_xml(xml.as_bytes()).map(|element| element.text);
    for (xml, read) in [
        // A tree, as two halves of UTF-16.
        ("<a>Crates &#xD83C;&#xDF33;!</a>", "Crates \u{1F333}!"),
        ("<a>&#55356;&#57139;</a>", "\u{1F333}"),
        ("<a>&#xD83C;</a>", "\u{FFFD}"),
        ("<a>&#xD83C; &#xDF33;</a>", "\u{FFFD} \u{FFFD}"),
        ("<a>&#xD83C;&#xD83C;&#xDF33;</a>", "\u{FFFD}\u{1F333}"),
        ("<a>&#xDF33;x</a>", "\u{FFFD}x"),
        ("<a>&#xFFFF;&#8;&#0;&#x110000;&#99999999999;</a>", "\u{FFFD}\u{FFFD}\u{FFFD}\u{FFFD}\u{FFFD}"),
        ("<a>\u{1}b</a>", "\u{FFFD}b"),
    ] {
        assert_eq!(text(xml).as_deref(), Ok(read), "{xml}");
    }
    assert_eq!(parse_xml(b"<a>\xff</a>").map(|a| a.text).as_deref(), Ok("\u{FFFD}"));
    for bad in ["&#xD83C;", "&#8;", "&#xD83C; ", "&#xD83C;&amp;", "\u{1}"] {
        let entry =
            format!("<k:calendar-data xmlns:k='urn:ietf:params:xml:ns:caldav'>{bad}</k:calendar-data>");
        assert!(parse_xml(entry.as_bytes()).is_err(), "{entry}");
    }
    assert!(
        parse_xml(b"<k:calendar-data xmlns:k='urn:ietf:params:xml:ns:caldav'>\xff</k:calendar-data>")
            .is_err()
    );
    assert!(parse_xml(b"<a>&#x;</a>").is_err() && parse_xml(b"<a>&#q;</a>").is_err());
}

#[test]
fn a_calendar_says_what_it_is() {
    let item = |path: &str, types: &str, more: &str| {
        format!(
            "<x:response><x:href>{path}</x:href><x:propstat><x:prop><x:resourcetype><x:collection/>{types}</x:resourcetype>{more}</x:prop><x:status>HTTP/1.1 200 OK</x:status></x:propstat></x:response>"
        )
    };
    let more = r#"<x:owner><x:href>/somebody/</x:href></x:owner><x:displayname>Press hall</x:displayname><i:calendar-color xmlns:i="http://apple.com/ns/ical/">#B5651DFF</i:calendar-color><k:supported-calendar-component-set><k:comp name="VEVENT"/></k:supported-calendar-component-set><k:max-resource-size>1000</k:max-resource-size><x:current-user-privilege-set><x:privilege><x:read/></x:privilege></x:current-user-privilege-set>"#;
    let answer = multistatus(&item("/office/presses/", "<k:calendar/>", more));
    let found = Multistatus::read(&answer, Asked::Calendar).expect("a listing");
    let calendar = &read_calendar(&found.responses, &base()).expect("an answer").expect("a calendar");
    assert_eq!((calendar.name.as_str(), calendar.color.as_deref()), ("Press hall", Some("#b5651d")));
    assert_eq!(
        (calendar.writable, calendar.max_size, calendar.sync_reports),
        (Some(false), Some(1000), false)
    );
    assert_eq!(calendar.kinds.iter().count(), 1);
}

#[test]
fn only_a_complete_listing_is_a_listing() {
    let entry = "<x:response><x:href>a.ics</x:href><x:propstat><x:prop><x:getetag>W/\"1\"</x:getetag></x:prop></x:propstat></x:response>";
    let own = |status: &str| {
        format!(
            "<x:response><x:href>/office/presses/</x:href><x:status>HTTP/1.1 {status}</x:status></x:response>"
        )
    };
    let read = |inner: String| read_listing(&multistatus(&inner), &base());
    let listing = read(own("200 OK") + entry).expect("a listing");
    assert_eq!(listing.entries[0].etag.as_ref().map(|e| e.as_str()), Some("\"1\""));
    // Without the collection itself, others may be missing too.
    for inner in [String::new(), entry.to_owned()] {
        assert!(matches!(read(inner), Err(DavError::Incomplete)));
    }
    let above = "<x:response><x:href>/office/</x:href><x:status>HTTP/1.1 507 Insufficient Storage</x:status></x:response>";
    assert!(matches!(read(own("200 OK") + above), Err(DavError::Incomplete)));
    assert!(matches!(read(own("507 Insufficient Storage") + entry), Err(DavError::Incomplete)));
    assert!(matches!(read(own("404 Not Found")), Err(DavError::NotFound { .. })));
    for bad in [answer(200, ""), answer(207, "<html></html>"), answer(302, ""), answer(503, "busy")] {
        assert!(read_listing(&bad, &base()).is_err());
    }
}

#[test]
fn refused_tokens_and_cut_off_answers_of_sync_reports() {
    let error = |name: &str| format!(r#"<d:error xmlns:d="DAV:"><d:{name}/></d:error>"#);
    for status in [403, 409, 410, 412] {
        let read = read_sync(&answer(status, &error("valid-sync-token")), &base());
        assert!(matches!(read, Ok(SyncAnswer::TokenRefused)), "{status}");
    }
    let read = read_sync(&answer(403, &error("supported-report")), &base());
    assert!(matches!(read, Ok(SyncAnswer::Unsupported)));
    let cut = "<x:response><x:href>/office/presses/a.ics</x:href><x:status>HTTP/1.1 404 Not Found</x:status></x:response><x:response><x:href>/office/presses</x:href><x:status>HTTP/1.1 507 Insufficient Storage</x:status></x:response><x:sync-token>next</x:sync-token>";
    let Ok(SyncAnswer::Changes { removed, more, token, .. }) = read_sync(&multistatus(cut), &base()) else {
        panic!("changes")
    };
    assert_eq!((removed.len(), more, token.expect("a token").as_str()), (1, true, "next"));
    assert!(read_sync(&answer(500, ""), &base()).is_err());
}

#[test]
fn every_answer_to_a_write_is_understood() {
    let error = |name: &str| {
        format!(
            r#"<d:error xmlns:d="DAV:" xmlns:c="urn:ietf:params:xml:ns:caldav"><c:{name}><d:href>/office/presses/other.ics</d:href></c:{name}></d:error>"#
        )
    };
    let by = Some(ObjectHref::from("other.ics"));
    let refused = DavError::SignIn { offered: Vec::new(), sent: SignInKind::Nothing };
    let table = [
        (answer(201, ""), Stored::Done { etag: None, at: None }),
        (answer(412, ""), Stored::ConditionFailed),
        (answer(409, &error("no-uid-conflict")), Stored::UidTaken { by: by.clone() }),
        (answer(412, &error("no-uid-conflict")), Stored::UidTaken { by }),
        (answer(401, ""), Stored::SignIn(Box::new(refused))),
        (answer(404, ""), Stored::Missing),
        (answer(423, ""), Stored::Failed { status: 423 }),
        (answer(503, ""), Stored::Failed { status: 503 }),
        (answer(507, "full"), Stored::Refused { status: 507, words: Some("full".into()), for_good: false }),
        (answer(409, ""), Stored::Refused { status: 409, words: None, for_good: false }),
    ];
    for (answer, expected) in table {
        assert_eq!(read_write(&answer, &base()), expected);
    }
    let refused = read_write(&answer(412, &error("max-resource-size")), &base());
    assert!(matches!(refused, Stored::Refused { status: 412, .. }));
    let request = put_object(&base(), &"a.ics".into(), "text", &Condition::Absent);
    assert!(request.headers.contains(&("If-None-Match", "*".to_owned())));
}

#[test]
fn a_batch_gives_what_it_has() {
    let inner = "<x:response><x:href>/office/presses/a.ics</x:href><x:propstat><x:prop><x:getetag>\"1\"</x:getetag><k:calendar-data>BEGIN:VCALENDAR&#13;\nX</k:calendar-data></x:prop><x:status>HTTP/1.1 200 OK</x:status></x:propstat></x:response><x:response><x:href>/office/presses/b.ics</x:href><x:status>HTTP/1.1 404 Not Found</x:status></x:response>";
    let [a, b, c] = ["a", "b", "c"].map(|name| ObjectHref::from(format!("{name}.ics")));
    let parts = read_multiget(&multistatus(inner), &base(), &[a.clone(), b.clone(), c]).expect("a batch");
    assert!(matches!(&parts[&a], Part::Text { text, .. } if text.starts_with("BEGIN:VCALENDAR")));
    assert_eq!((&parts[&b], parts.len()), (&Part::Missing, 2));
    // What nobody asked for is not held, however much of it comes.
    let unasked = read_multiget(&multistatus(&inner.repeat(1000)), &base(), &[b]).expect("a batch");
    assert_eq!(unasked.len(), 1);
}

#[test]
fn what_a_cache_gives_again_is_older_than_the_servers_clock() {
    let clock = |headers: &[(&'static str, &str)]| {
        let mut answer = answer(200, "");
        answer.headers.extend(
            headers
                .iter()
                .map(|(name, value)| (http::HeaderName::from_static(name), value.parse().expect("a value"))),
        );
        answer.date()
    };
    let date = ("date", "Mon, 30 Nov 2026 08:00:00 GMT");
    assert_eq!(clock(&[date]), Some(1_796_025_600));
    assert_eq!(clock(&[date, ("age", "172800")]), Some(1_796_025_600 + 172_800));
    assert_eq!(clock(&[date, ("age", "ripe")]), Some(1_796_025_600));
    assert_eq!(clock(&[("age", "60")]), None);
}

proptest! {
    #[test]
    fn no_answer_makes_it_panic(status in 100..600_u16, body in prop::collection::vec(any::<u8>(), 0..120), cut in 0..600_usize) {
        let whole = r#"<?xml version="1.0"?><d:multistatus xmlns:d="DAV:"><d:response><d:href>/a%zz</d:href><d:propstat><d:prop><d:getetag>W/</d:getetag><d:resourcetype><c:calendar xmlns:c="urn:ietf:params:xml:ns:caldav"/></d:resourcetype></d:prop><d:status>HTTP/1.1</d:status></d:propstat></d:response><d:sync-token/></d:multistatus>"#;
        let mut bytes = whole.as_bytes()[..cut.min(whole.len())].to_vec();
        bytes.extend(body);
        let answer = Answer { status, headers: HeaderMap::new(), body: bytes, url: base(), sign_in: SignInKind::Nothing };
        drop((Multistatus::read(&answer, Asked::Calendars), read_listing(&answer, &base()), read_sync(&answer, &base())));
        drop((read_multiget(&answer, &base(), &[]), read_write(&answer, &base())));
    }

    #[test]
    fn hrefs_come_back_as_they_were_asked_for(name in "[^/\\p{Cc}]{1,40}") {
        let href = ObjectHref::from(name.replace('%', "%25"));
        let sent = url_of(&href, &base());
        // Dots alone are no name but a way up.
        prop_assume!(!name.chars().all(|c| c == '.'));
        prop_assert_eq!(object_href(sent.path(), &base()), Some(href));
    }
}
