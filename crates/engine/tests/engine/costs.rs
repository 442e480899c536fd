//! G9: what a run costs follows what changed.

use chestnut_standin::Habit;
use chestnut_testkit::World;

#[test]
fn no_change_costs_one_request_for_each_calendar() {
    for habits in [vec![], vec![Habit::NoSync], vec![Habit::NoSyncNoCtag]] {
        let world = World::new(100);
        habits.iter().for_each(|h| {
            world.habit(&world.source, *h);
            world.habit(&world.target, *h);
        });
        world.sync();
        for pause in [0, 60, 600] {
            world.pass(pause);
            let report = world.sync();
            assert_eq!(
                (report.summary.requests, report.summary.writes),
                (2, 0),
                "{habits:?} after {pause} s"
            );
        }
    }
}

#[test]
fn requests_follow_changes_not_size() {
    let cost = |entries: usize| {
        let world = World::new(entries);
        world.sync();
        world.pass(60);
        world.sync();
        world.pass(60);
        for number in 0..20 {
            world.edit(&world.source, &format!("orchard-{number:04}.ics"), "SUMMARY:", "SUMMARY:Changed ");
        }
        for number in 20..25 {
            world.delete(&world.source, &format!("orchard-{number:04}.ics"));
        }
        world.add_entries(entries..entries + 5);
        let report = world.sync();
        assert_eq!(world.differences(), Vec::<String>::new());
        assert_eq!(report.summary.writes, 30, "{:?}", report.summary);
        report.summary.requests
    };
    let (small, large) = (cost(60), cost(600));
    assert_eq!(small, large);
    // Asking both, fetching, reading back, looking before deletions, looking afterwards.
    assert!(small <= 30 + 10, "{small} requests for 30 writes");
}

#[test]
fn a_new_name_or_colour_of_a_calendar_is_no_change_of_entries() {
    for habits in [vec![], vec![Habit::NoSync], vec![Habit::CountsSeconds]] {
        let world = World::new(20);
        habits.iter().for_each(|h| world.habit(&world.source, *h));
        world.sync();
        world.pass(60);
        world.source.server.borrow_mut().touch(&world.source.path);
        let report = world.sync();
        assert_eq!(
            (report.summary.writes, report.summary.linked),
            (0, 0),
            "{habits:?}: {:?}",
            report.changes
        );
    }
}

#[test]
fn an_entry_that_the_server_fails_to_give_comes_when_it_does() {
    use chestnut_standin::{Fault, FaultKind};
    let world = World::new(8);
    world.sync();
    world.edit(&world.source, "orchard-0003.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.source.server.borrow_mut().faults =
        vec![Fault::always("GET", FaultKind::Status { code: 500, retry_after: None })];
    assert_eq!(world.sync().summary.left_out.get("unreadable"), Some(&1));
    world.source.server.borrow_mut().faults.clear();
    world.pass(60);
    assert_eq!(world.sync().summary.calendars["target"].updated, 1);
    assert_eq!(world.differences(), Vec::<String>::new());
}
