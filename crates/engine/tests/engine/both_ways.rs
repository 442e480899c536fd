//! Both ways through whole runs: cut off anywhere, first runs on calendars that hold the same already, and what a run
//! costs.

use std::collections::BTreeMap;
use std::rc::Rc;

use chestnut_core::Kind;
use chestnut_engine::Rule;
use chestnut_standin::{Habit, orchard_entries};
use chestnut_testkit::{End, World};

fn world(entries: usize) -> World {
    let mut world = World::new(entries);
    world.shape_two_way =
        Rc::new(|route: &mut Rule| route.kinds = [Kind::Event, Kind::Task].into_iter().collect());
    world
}

/// What a calendar says: titles and meanings by UID.
fn said(world: &World, end: &End) -> BTreeMap<String, String> {
    let each = |e: chestnut_core::Entry| {
        (e.uid().to_string(), format!("{} {:?}", e.title(), e.meaning().fingerprint()))
    };
    let entries = world.entries(end);
    let count = entries.len();
    let said: BTreeMap<_, _> = entries.into_iter().map(each).collect();
    assert_eq!(said.len(), count, "no entry stands twice");
    said
}

/// Changes on both sides, some of the same entries, deletions and new entries.
fn changed(world: &World) {
    let name_of = |uid: &str| {
        let texts = world.target.server.borrow().texts(&world.target.path);
        texts.into_iter().find(|(_, text)| text.contains(uid)).map(|(name, _)| name).expect("it stands there")
    };
    let (source, target) = (&world.source, &world.target);
    world.edit(source, "orchard-0000.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.edit(target, &name_of("orchard-0000@"), "END:VEVENT", "X-CRATES:1\r\nEND:VEVENT");
    world.edit(target, &name_of("orchard-0002@"), "SUMMARY:", "SUMMARY:Far ");
    world.delete(source, "orchard-0001.ics");
    world.delete(target, &name_of("orchard-0003@"));
    world.add_entries(8..10);
}

#[test]
fn a_run_that_is_cut_off_anywhere_ends_where_an_undisturbed_one_would() {
    let undisturbed = world(8);
    undisturbed.sync_two_way();
    changed(&undisturbed);
    undisturbed.sync_two_way();
    let expected = said(&undisturbed, &undisturbed.source);
    assert_eq!(said(&undisturbed, &undisturbed.target), expected);
    let mut kills = 0;
    for first_run in [false, true] {
        for arrives in [false, true] {
            for step in 0.. {
                let world = world(8);
                if !first_run {
                    world.sync_two_way();
                    changed(&world);
                }
                world.kill_at(Some(step), arrives);
                // What a killed run returns, nobody is there to see.
                drop(world.try_sync_two_way());
                if !world.was_killed() {
                    break;
                }
                kills += 1;
                world.kill_at(None, false);
                if first_run {
                    world.sync_two_way();
                    changed(&world);
                }
                let report = world.sync_two_way();
                let what =
                    format!("killed at step {step}, last request arrives: {arrives}, first run: {first_run}");
                assert!(report.error.is_none(), "{what}: {:?}", report.error);
                for end in [&world.source, &world.target] {
                    assert_eq!(said(&world, end), expected, "{what}: {end:?}");
                }
                assert_eq!(world.sync_two_way().summary.writes, 0, "{what}");
            }
        }
    }
    assert!(kills > 60, "{kills}");
}

#[test]
fn calendars_that_hold_the_same_already_are_linked_without_a_write() {
    // By UID, by content, and half and half.
    for other_uids in [0, 500, 250] {
        let world = world(500);
        {
            let mut server = world.target.server.borrow_mut();
            for (number, entry) in
                orchard_entries(500, jiff::civil::date(2026, 10, 5)).into_iter().enumerate()
            {
                let other = entry.uid.replace("orchard", "theirs");
                let text =
                    if number < other_uids { entry.text.replace(&entry.uid, &other) } else { entry.text };
                server.store(&world.target.path, &entry.name, &text);
            }
        }
        world.pass(60);
        for _ in 0..2 {
            let report = world.sync_two_way();
            assert_eq!(
                (report.summary.writes, report.summary.linked),
                (0, 500),
                "{other_uids}: {:?}",
                report.summary
            );
            world.pass(60);
            assert_eq!(world.sync_two_way().summary.writes, 0);
            // The same after the state was lost.
            world.lose_state();
            world.pass(60);
        }
        assert_eq!(world.entries(&world.target).len(), 500);
    }
}

/// Which texts differ is all that is left then: what a server is known to make of one is nobody's word.
#[test]
fn what_a_server_makes_of_texts_never_comes_back_after_a_lost_state() {
    for (habit, line) in [
        (Habit::SplitsEscapedCommas, "DTEND:20261010T090000Z\r\nCATEGORIES:Press,Stalls\\, market"),
        (Habit::AddsDuration, "LOCATION:Press hall"),
        (Habit::FloatingToUtc, "DTEND:20261010T090000"),
    ] {
        for has_own_uid in [false, true] {
            let world = world(0);
            world.habit(&world.target, habit);
            let start = if habit == Habit::FloatingToUtc { "20261010T080000" } else { "20261010T080000Z" };
            let text = format!(
                "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:crew\r\nDTSTAMP:20260901T060000Z\r\n\
             DTSTART:{start}\r\n{line}\r\nSUMMARY:Crew\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
            );
            world.source.server.borrow_mut().store(&world.source.path, "crew.ics", &text);
            if has_own_uid {
                world.habit(&world.target, Habit::OneUidPerUser);
                let other =
                    world.target.server.borrow_mut().add_calendar("office", "private", "private", "#333333");
                world.target.server.borrow_mut().store(&other, "crew.ics", &text);
            }
            world.sync_two_way();
            assert_eq!(world.entries(&world.target)[0].uid().is_copy(), has_own_uid);
            let texts =
                |end: &End| end.server.borrow().texts(&end.path).values().cloned().collect::<Vec<_>>();
            assert_ne!(texts(&world.source), texts(&world.target), "{habit:?} changes nothing");
            world.lose_state();
            for _ in 0..2 {
                world.pass(60);
                assert_eq!(world.sync_two_way().summary.writes, 0, "{habit:?}, own UID: {has_own_uid}");
                assert_eq!(texts(&world.source), [text.as_str()], "{habit:?}");
            }
        }
    }
}

#[test]
fn cost_follows_change_and_no_change_costs_one_request_each() {
    let cost = |entries: usize| {
        let world = world(entries);
        world.sync_two_way();
        world.pass(60);
        world.sync_two_way();
        world.pass(60);
        assert_eq!(world.sync_two_way().summary.requests, 2);
        for number in 0..10 {
            world.edit(&world.source, &format!("orchard-{number:04}.ics"), "SUMMARY:", "SUMMARY:Changed ");
        }
        world.pass(60);
        let report = world.sync_two_way();
        assert_eq!(report.summary.writes, 10);
        report.summary.requests
    };
    assert_eq!(cost(40), cost(400));
}

#[test]
fn a_uid_that_a_server_refuses_becomes_one_of_the_route_and_stays_the_same_entry() {
    let world = world(0);
    world.habit(&world.target, Habit::OneUidPerUser);
    let text = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:crew\r\nDTSTAMP:20260901T060000Z\r\n\
                DTSTART:20261010T080000Z\r\nSUMMARY:Crew\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
    // The same user has it in another calendar, where the route cannot reach it.
    let other = world.target.server.borrow_mut().add_calendar("office", "private", "private", "#333333");
    world.target.server.borrow_mut().store(&other, "crew.ics", text);
    world.write(&world.source, "crew.ics", text);
    world.pass(60);
    let report = world.sync_two_way();
    assert_eq!(report.summary.calendars["target"].created, 1, "{:?}", report.changes);
    let uid = |world: &World| world.entries(&world.target).remove(0).uid().clone();
    assert!(uid(&world).is_copy());
    for _ in 0..2 {
        world.pass(60);
        assert_eq!(world.sync_two_way().summary.writes, 0);
        world.lose_state();
    }
    let name =
        world.target.server.borrow().texts(&world.target.path).into_keys().next().expect("it stands there");
    world.sync_two_way();
    world.edit(&world.target, &name, "SUMMARY:Crew", "SUMMARY:Crew, later");
    world.pass(60);
    world.sync_two_way();
    assert_eq!(chestnut_testkit::titles(&world.source), ["Crew, later"]);
    assert_eq!(world.entries(&world.source).remove(0).uid().as_str(), "crew");
}

#[test]
fn a_uid_that_stands_twice_in_one_calendar_is_one_entry_and_told() {
    let world = world(0);
    let text = |title: &str| {
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:crew\r\nDTSTAMP:20260901T060000Z\r\n\
             DTSTART:20261010T080000Z\r\nSUMMARY:{title}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        )
    };
    world.write(&world.source, "crew.ics", &text("Crew"));
    world.pass(60);
    world.sync_two_way();
    // Now, and from the beginning.
    for _ in 0..2 {
        world.write(&world.source, "other-crew.ics", &text("Crew again"));
        world.pass(60);
        for _ in 0..2 {
            let report = world.sync_two_way();
            assert_eq!(report.summary.left_out.get("same-uid-twice"), Some(&1), "{:?}", report.summary);
            world.pass(60);
        }
        assert_eq!(
            (chestnut_testkit::titles(&world.target), world.entries(&world.source).len()),
            (vec!["Crew".to_owned()], 2)
        );
        world.lose_state();
    }
}

/// An entry was left out because another had its UID; that one goes, and it takes its place while it is looked at itself.
#[test]
fn a_twin_takes_the_place_of_the_one_that_went() {
    let world = world(3);
    world.sync_two_way();
    world.pass(60);
    let text = world.source.server.borrow().texts(&world.source.path)["orchard-0001.ics"].clone();
    world.write(&world.source, "twin.ics", &text);
    world.sync_two_way();
    world.pass(60);
    world.delete(&world.source, "orchard-0001.ics");
    world.edit(&world.source, "twin.ics", "SUMMARY:", "SUMMARY:Later ");
    let report = world.sync_two_way();
    assert!(report.error.is_none() && report.summary.failed == 0, "{report:?}");
    assert_eq!(report.summary.writes, 1, "{report:?}");
    assert_eq!(said(&world, &world.source), said(&world, &world.target));
    assert!(world.entries(&world.target).iter().any(|entry| entry.title().starts_with("Later ")));
    world.pass(60);
    assert_eq!(world.sync_two_way().summary.writes, 0);
}
