//! G4: a broken, empty, cut-off or foreign answer deletes nothing, and the run says what was wrong.

use chestnut_engine::RunReport;
use chestnut_standin::{Fault, FaultKind};
use chestnut_store::RunResult;
use chestnut_testkit::World;

const LOGIN: &str = "<!doctype html><html><body>Please sign in</body></html>";
const EMPTY: &str = r#"<?xml version="1.0"?><d:multistatus xmlns:d="DAV:"><d:response><d:href>/office/calendars/presses/</d:href><d:propstat><d:prop><d:resourcetype><d:collection/></d:resourcetype></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response></d:multistatus>"#;
const GONE: &str = r#"<?xml version="1.0"?><d:multistatus xmlns:d="DAV:"><d:response><d:href>/office/calendars/presses/</d:href><d:status>HTTP/1.1 404 Not Found</d:status></d:response></d:multistatus>"#;
const NOTHING: &str = r#"<?xml version="1.0"?><d:multistatus xmlns:d="DAV:"/>"#;
const ENTITIES: &str =
    r#"<?xml version="1.0"?><!DOCTYPE d [<!ENTITY a "b">]><d:multistatus xmlns:d="DAV:">&a;</d:multistatus>"#;
const CUT_SHORT: &str =
    r#"<?xml version="1.0"?><d:multistatus xmlns:d="DAV:"><d:response><d:href>/office/cal"#;
const INCOMPLETE: &str = r#"<?xml version="1.0"?><d:multistatus xmlns:d="DAV:"><d:response><d:href>/office/calendars/presses/</d:href><d:status>HTTP/1.1 507 Insufficient Storage</d:status></d:response></d:multistatus>"#;

pub(crate) fn body(code: u16, content_type: &str, text: &str) -> FaultKind {
    FaultKind::Body { code, content_type: content_type.into(), text: text.into() }
}

/// What the source answers to everything, and a word that its facts must have. Held deletions have no message.
pub(crate) fn answers() -> Vec<(&'static str, FaultKind, &'static str)> {
    let status = |code| FaultKind::Status { code, retry_after: None };
    vec![
        ("401", status(401), "SignIn"),
        ("403", status(403), "Forbidden"),
        ("404", status(404), "NotFound"),
        ("410", status(410), "NotFound"),
        ("500", status(500), "500"),
        ("503 and come back later", FaultKind::Status { code: 503, retry_after: Some(3600) }, "503"),
        ("a sign-in page", body(200, "text/html", LOGIN), "WebPage"),
        ("a sign-in page as 207", body(207, "text/html", LOGIN), "WebPage"),
        ("an empty 200", body(200, "text/plain", ""), "Nothing { status: 200 }"),
        ("JSON", body(200, "application/json", "{}"), "application/json"),
        ("XML cut off", body(207, "application/xml", CUT_SHORT), "EndsEarly"),
        ("XML with entities", body(207, "application/xml", ENTITIES), "DocumentType"),
        ("other XML", body(207, "application/xml", "<a/>"), "Root(\"a\")"),
        ("half a body", FaultKind::HalfBody, "Broken"),
        ("no answer", FaultKind::LoseAnswer, "Broken"),
        ("a listing that says it is incomplete", body(207, "application/xml", INCOMPLETE), "Incomplete"),
        ("the calendar is gone, inside a 207", body(207, "application/xml", GONE), "NotFound"),
        ("an empty listing", body(207, "application/xml", EMPTY), ""),
        ("a listing of nothing at all", body(207, "application/xml", NOTHING), "Incomplete"),
    ]
}

fn assert_harmless(world: &World, report: &RunReport, message: &str, what: &str) {
    let standing = world.target.server.borrow().collections[&world.target.path].objects.len();
    assert_eq!(standing, 30, "{what}: copies were deleted");
    if message.is_empty() {
        assert_eq!(report.result, RunResult::Held, "{what}: {:?}", report.error);
        assert_eq!(report.summary.held, 30, "{what}");
    } else {
        let error = format!("{:?}", report.error.as_ref().expect(what));
        assert!(error.contains(message), "{what}: {error}");
        assert!(error.contains(r#"calendar: "source", account: Some("source-account")"#), "{what}: {error}");
    }
}

#[test]
fn nothing_is_deleted_because_of_a_bad_answer() {
    for (what, fault, message) in answers() {
        // By listing (a day has passed, everything is compared), and by the cheap question of every run.
        for method in ["PROPFIND", "REPORT"] {
            let world = World::new(30);
            world.sync();
            world.pass(60);
            world.sync();
            world.pass(if method == "PROPFIND" { 25 * 3600 } else { 60 });
            let listing_only =
                message.is_empty() || what.starts_with("a listing") || what.contains("inside a 207");
            let settled = what.starts_with('4') && what != "401";
            if method == "REPORT" && (listing_only || settled) {
                // A report that lists nothing says that nothing changed; a refused token means a fresh listing.
                continue;
            }
            world.source.server.borrow_mut().faults = vec![Fault::always(method, fault.clone())];
            if message.is_empty() || message == "Incomplete" {
                // The look at the calendar itself still works; only the listing is bad.
                world.source.server.borrow_mut().faults[0].after = 1;
            }
            let report = world.sync();
            assert_harmless(&world, &report, message, &format!("{what} to {method}"));
            // When the server is well again, so is the route.
            world.source.server.borrow_mut().faults.clear();
            let report = world.sync();
            assert_eq!(
                (report.result, report.summary.writes),
                (RunResult::Ok, 0),
                "{what}: {:?}",
                report.changes
            );
            assert_eq!(world.differences(), Vec::<String>::new(), "{what}");
        }
    }
}

#[test]
fn half_a_listing_deletes_nothing_and_allowed_deletions_do() {
    let mut world = World::new(30);
    world.sync();
    world.pass(60);
    let names: Vec<_> = world.source.server.borrow().texts(&world.source.path).into_keys().take(15).collect();
    names.iter().for_each(|name| world.delete(&world.source, name));
    // One entry is changed as well: it goes on although deletions are held.
    world.edit(&world.source, "orchard-0020.ics", "SUMMARY:", "SUMMARY:Changed ");
    for _ in 0..2 {
        let report = world.sync();
        assert_eq!((report.result, report.summary.held), (RunResult::Held, 15));
        assert_eq!(world.target.server.borrow().collections[&world.target.path].objects.len(), 30);
    }
    assert_eq!(world.preview().held, 15);
    assert!(chestnut_testkit::titles(&world.target).iter().any(|t| t.starts_with("Changed")));
    world.allow_deletions = true;
    let report = world.sync();
    assert_eq!(report.summary.calendars["target"].deleted, 15);
    assert_eq!(world.differences(), Vec::<String>::new());
    world.allow_deletions = false;
    assert_eq!((world.sync().summary.writes, world.sync().summary.held), (0, 0));
}

#[test]
fn an_unreadable_entry_is_named_and_the_others_go_through() {
    let world = World::new(12);
    world.source.server.borrow_mut().store_raw(
        &world.source.path,
        "bad.ics",
        "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nno colon\r\n".into(),
    );
    let report = world.sync();
    assert_eq!(report.result, RunResult::Ok);
    assert_eq!(report.summary.left_out.get("unreadable"), Some(&1));
    assert_eq!(report.summary.calendars["target"].created, 12);
    let preview = world.preview();
    assert_eq!(preview.left_out.len(), 1, "{:?}", preview.left_out);
    // An entry that was carried and becomes unreadable keeps its copy.
    world.source.server.borrow_mut().store_raw(
        &world.source.path,
        "orchard-0000.ics",
        "BEGIN:VCALENDAR\r\n".into(),
    );
    world.sync();
    assert_eq!(world.target.server.borrow().collections[&world.target.path].objects.len(), 12);
}

#[test]
fn deletions_can_be_kept() {
    let mut world = World::new(12);
    world.deletions = chestnut_core::Deletions::Keep;
    world.sync();
    world.delete(&world.source, "orchard-0005.ics");
    let report = world.sync();
    assert_eq!((report.result, report.summary.writes), (RunResult::Ok, 0));
    assert_eq!(world.target.server.borrow().collections[&world.target.path].objects.len(), 12);
    // It comes back: the copy that was kept is found again.
    world.add_entries(5..6);
    let report = world.sync();
    assert_eq!((report.summary.linked, report.summary.writes), (1, 0), "{:?}", report.changes);
}
