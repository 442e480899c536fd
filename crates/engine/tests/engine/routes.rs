//! What a route refuses, what a preview leaves alone, and what the history keeps.

use chestnut_engine::RunError;
use chestnut_standin::Share;
use chestnut_store::{ChangeAction, RunResult};
use chestnut_testkit::World;

#[test]
fn a_preview_says_what_the_sync_then_does_and_writes_nothing() {
    let world = World::new(20);
    world.sync();
    world.edit(&world.source, "orchard-0002.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.delete(&world.source, "orchard-0005.ics");
    world.add_entries(20..22);
    for end in [&world.source, &world.target] {
        world.take_log(end);
    }
    let runs = world.store().runs(None, 100).expect("read").len();
    let preview = world.preview();
    let log = [world.take_log(&world.source), world.take_log(&world.target)].concat();
    assert!(log.iter().all(|line| !line.starts_with("PUT") && !line.starts_with("DELETE")), "{log:#?}");
    assert_eq!(world.store().runs(None, 100).expect("read").len(), runs);
    let mut foretold: Vec<_> = preview
        .changes
        .iter()
        .map(|c| (c.title.clone(), format!("{}d", c.action.trim_end_matches('e').to_owned() + "e")))
        .collect();
    let report = world.sync();
    let mut done: Vec<_> =
        report.changes.iter().map(|c| (c.title.clone(), c.action.word().to_owned())).collect();
    foretold.sort();
    done.sort();
    assert_eq!(foretold, done);
}

#[test]
fn every_replaced_and_deleted_text_is_kept() {
    let world = World::new(12);
    world.sync();
    let copies = world.target.server.borrow().texts(&world.target.path);
    world.edit(&world.source, "orchard-0002.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.delete(&world.source, "orchard-0005.ics");
    let report = world.sync();
    let changes = world.store().changes(report.run.expect("a run")).expect("read");
    for action in [ChangeAction::Updated, ChangeAction::Deleted] {
        let change = changes.iter().find(|c| c.action == action).expect("it happened");
        let name = change.href.as_str().rsplit('/').next().expect("a name");
        // A batch is XML, which turns CRLF into LF; nothing else is lost.
        let before = copies.get(name).map(|text| text.replace('\r', ""));
        assert_eq!(change.before.as_ref().map(|text| text.text.replace('\r', "")), before, "{action:?}");
    }
}

#[test]
fn a_calendar_that_may_only_be_read_is_refused_before_anything_is_sent() {
    let mut world = World::new(3);
    {
        let mut server = world.target.server.borrow_mut();
        server.users.insert("crews".into(), "crews-pw".into());
        let path = server.add_calendar("crews", "shared", "Shared", "");
        server.collections.get_mut(&path).expect("it is there").shares.insert("office".into(), Share::Read);
    }
    world.target.path = "/crews/calendars/shared/".into();
    let report = world.sync();
    let error = report.error.expect("refused");
    assert!(matches!(error, RunError::ReadOnly { .. }), "{error}");
    let account = Some("target-account".to_owned());
    assert_eq!(error, RunError::ReadOnly { calendar: "target".to_owned(), account });
    assert_eq!(report.summary.writes, 0);
}

#[test]
fn other_calendars_need_another_route() {
    let mut world = World::new(3);
    world.sync();
    world.target.server.borrow_mut().add_calendar("office", "second", "Second", "");
    world.target.path = "/office/calendars/second/".into();
    let report = world.sync();
    assert!(matches!(report.error, Some(RunError::OtherCalendars { .. })), "{:?}", report.error);
    assert_eq!((report.result, report.summary.writes), (RunResult::Failed, 0));
}
