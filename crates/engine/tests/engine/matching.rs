//! Nothing is written twice: copies are found again by UID and by content.

use chestnut_store::RunResult;
use chestnut_testkit::World;

#[test]
fn a_lost_state_is_found_again_without_a_write() {
    let world = World::new(40);
    world.sync();
    world.lose_state();
    let report = world.sync();
    assert_eq!((report.summary.writes, report.summary.linked), (0, 40), "{:?}", report.changes);
    world.delete(&world.source, "orchard-0003.ics");
    assert_eq!(world.sync().summary.calendars["target"].deleted, 1);
    assert_eq!(world.differences(), Vec::<String>::new());
}

#[test]
fn what_stands_there_already_is_linked_by_uid_and_by_content() {
    for by_content in [false, true] {
        let world = World::new(40);
        for (name, text) in world.source.server.borrow().texts(&world.source.path) {
            let text = if by_content { text.replace("UID:orchard", "UID:typed-in-by-hand") } else { text };
            world.target.server.borrow_mut().store(&world.target.path, &format!("old-{name}"), &text);
        }
        let report = world.sync();
        assert_eq!((report.summary.writes, report.summary.linked), (0, 40), "by content: {by_content}");
        world.edit(&world.source, "orchard-0003.ics", "SUMMARY:", "SUMMARY:Changed ");
        let report = world.sync();
        assert_eq!(report.summary.calendars["target"].updated, 1, "{:?}", report.changes);
        assert_eq!(world.differences(), Vec::<String>::new());
    }
}

#[test]
fn an_entry_under_a_new_address_is_still_that_entry() {
    let world = World::new(12);
    world.sync();
    let text = world.source.server.borrow().texts(&world.source.path)["orchard-0003.ics"].clone();
    world.delete(&world.source, "orchard-0003.ics");
    world.source.server.borrow_mut().store(&world.source.path, "renamed.ics", &text);
    let report = world.sync();
    assert_eq!((report.result, report.summary.writes), (RunResult::Ok, 0), "{:?}", report.changes);
    world.edit(&world.source, "renamed.ics", "SUMMARY:", "SUMMARY:Changed ");
    assert_eq!(world.sync().summary.calendars["target"].updated, 1);
    assert_eq!(world.differences(), Vec::<String>::new());
}

#[test]
fn copies_are_not_originals_and_one_uid_is_one_entry() {
    let world = World::new(3);
    world.sync();
    for (name, text) in world.target.server.borrow().texts(&world.target.path) {
        world.source.server.borrow_mut().store(&world.source.path, &name, &text);
    }
    let twin = world.source.server.borrow().texts(&world.source.path)["orchard-0000.ics"].clone();
    world.source.server.borrow_mut().store(&world.source.path, "twin.ics", &twin);
    let report = world.sync();
    assert_eq!(report.summary.writes, 0);
    assert_eq!(report.summary.left_out.get("copy-of-another-route"), Some(&3));
    assert_eq!(report.summary.left_out.get("same-uid-twice"), Some(&1));
    // When the first of the two goes, the other one takes its place.
    world.delete(&world.source, "orchard-0000.ics");
    world.sync();
    assert_eq!(world.target.server.borrow().collections[&world.target.path].objects.len(), 3);
    assert_eq!(world.sync().summary.left_out.get("same-uid-twice"), None);
}

#[test]
fn changed_settings_take_hold_at_the_next_run() {
    let mut world = World::new(60);
    world.kinds = vec![chestnut_core::Kind::Event];
    let report = world.sync();
    assert_eq!(report.summary.left_out.get("tasks-not-taken"), Some(&3));
    assert_eq!(world.differences(), Vec::<String>::new());
    world.kinds.push(chestnut_core::Kind::Task);
    let report = world.sync();
    assert_eq!(report.summary.calendars["target"].created, 3, "{:?}", report.summary);
    assert_eq!(world.differences(), Vec::<String>::new());
    world.kinds.pop();
    assert_eq!(world.sync().summary.calendars["target"].deleted, 3);
    assert_eq!(world.sync().summary.left_out.get("tasks-not-taken"), Some(&3));
}
