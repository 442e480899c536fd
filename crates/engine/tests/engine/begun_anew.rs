//! A route is taken out and leaves its copies; then another begins under its name, another way, or between other calendars.
//! The same after a lost state, when nobody knows which way the last one went.

use std::rc::Rc;

use chestnut_core::{Carry, Deletions, Detail, Reach, Shows, Window};
use chestnut_engine::Rule;
use chestnut_standin::{Fault, FaultKind, Habit};
use chestnut_testkit::{End, World, titles};

use crate::regressions::details;

fn event(uid: &str, title: &str) -> String {
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:{uid}\r\n\
         DTSTAMP:20260901T060000Z\r\nDTSTART:20261010T080000Z\r\nDURATION:PT1H\r\nSUMMARY:{title}\r\n\
         DESCRIPTION:Bring crates\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    )
}

/// Four entries that a one-way route has copied into the target.
fn world(carry: &Carry) -> World {
    let mut world = World::new(0);
    let carry = carry.clone();
    world.shape = Rc::new(move |rule: &mut Rule| rule.carry = carry.clone());
    for n in 0..4 {
        world.write(&world.source, &format!("p{n}.ics"), &event(&format!("p{n}"), &format!("Press run {n}")));
    }
    assert_eq!(world.sync().summary.calendars["target"].created, 4);
    world.pass(60);
    world
}

fn retire(world: &World) {
    let store = world.store();
    let route = store.route("presses-to-board").expect("read").expect("a route");
    store.write(|writer| writer.forget_route(route.id)).expect("forgotten");
}

/// A route of the same name between other ends.
fn anew(world: &World, from: &End, to: &End, is_two_way: bool) -> Rule {
    let (key, ends) = (world.route().key, [world.route_at(from), world.route_at(to)]);
    match (is_two_way, ends) {
        (true, ends) => Rule::two_way("presses-to-board", ends.into(), key),
        (false, [from, to]) => Rule::one_way("presses-to-board", from, to, key),
    }
}

fn texts(end: &End) -> Vec<String> {
    end.server.borrow().texts(&end.path).into_values().collect()
}

#[test]
fn what_a_retired_route_left_is_nobodys_to_delete() {
    for (is_two_way, from_elsewhere) in [(false, false), (false, true), (true, false), (true, true)] {
        let at = format!("two-way {is_two_way}, from elsewhere {from_elsewhere}");
        let world = world(&Carry::default());
        retire(&world);
        world.delete(&world.source, "p1.ics");
        let from = if from_elsewhere { &world.third } else { &world.source };
        let rule = anew(&world, from, &world.target, is_two_way);
        for round in 0..4 {
            let report = world.run(&rule).expect(&at);
            let counts = report.summary.calendars.values().fold((0, 0), |sum, counts| {
                (sum.0 + counts.created + counts.updated, sum.1 + counts.deleted)
            });
            assert_eq!(
                (counts, report.summary.held),
                ((0, 0), 0),
                "{at}, round {round}: {:?}",
                report.changes
            );
            assert_eq!(world.entries(&world.target).len(), 4, "{at}, round {round}");
            world.pass(60);
            if round > 0 && round < 3 {
                // Somebody changes one that stayed.
                let texts = world.target.server.borrow().texts(&world.target.path);
                let (name, _) = texts.into_iter().find(|(_, text)| text.contains("Press run 1")).expect("it");
                world.edit(&world.target, &name, "SUMMARY:", "SUMMARY:Mine ");
            }
        }
        // What goes on being copied goes with its source.
        if !from_elsewhere {
            world.delete(&world.source, "p2.ics");
            let report = world.run(&rule).expect(&at);
            assert_eq!(report.summary.calendars["target"].deleted, 1, "{at}");
            assert_eq!(
                titles(&world.target),
                ["Mine Mine Press run 1", "Press run 0", "Press run 3"],
                "{at}"
            );
        }
    }
}

#[test]
fn a_copy_has_no_word_beside_its_original() {
    let busy = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
    for carry in [busy, details(&[Detail::Title]), Carry::default()] {
        for is_lost in [false, true] {
            let world = world(&carry);
            let originals = texts(&world.source);
            let name =
                world.target.server.borrow().texts(&world.target.path).into_keys().next().expect("one");
            world.edit(
                &world.target,
                &name,
                "SUMMARY:",
                "LAST-MODIFIED:20261101T080000Z\r\nSUMMARY:Scrawled ",
            );
            match is_lost {
                true => world.lose_state(),
                false => retire(&world),
            }
            let rule = anew(&world, &world.source, &world.target, true);
            for _ in 0..2 {
                let report = world.run(&rule).expect("a run");
                assert!(report.error.is_none(), "{report:?}");
                assert_eq!(texts(&world.source), originals, "{carry:?}, lost {is_lost}");
                assert_eq!(titles(&world.target), titles(&world.source), "{carry:?}, lost {is_lost}");
                let all = texts(&world.target);
                assert!(all.iter().all(|text| text.contains("Bring crates")), "{all:?}");
                world.pass(60);
            }
            // From now on it has.
            world.edit(&world.target, &name, "SUMMARY:", "SUMMARY:Later: ");
            world.run(&rule).expect("a run");
            assert!(titles(&world.source).iter().any(|title| title.starts_with("Later: ")), "{carry:?}");
        }
    }
}

/// Where a server takes no UID twice, a two-way route gives its entries UIDs of its own: these are no copies of another's
/// word.
#[test]
fn an_entry_under_another_uid_has_its_word_after_a_lost_state() {
    let made = |entries: usize| {
        let world = pressing(entries, true);
        world.sync_two_way();
        assert!(world.entries(&world.target).iter().all(|entry| entry.uid().is_copy()));
        world.pass(60);
        world
    };
    let world = made(1);
    let name = world.target.server.borrow().texts(&world.target.path).into_keys().next().expect("one");
    world.edit(&world.target, &name, "SUMMARY:", "LAST-MODIFIED:20261101T080000Z\r\nSUMMARY:Later: ");
    world.lose_state();
    world.sync_two_way();
    assert_eq!(titles(&world.source), ["Later: Press run 0"]);

    // Its other half is gone: that is asked, where it is many, and goes on being asked.
    for deletions in [Deletions::Carry, Deletions::Keep] {
        let mut world = made(14);
        world.shape_two_way = Rc::new(move |rule: &mut Rule| rule.deletions = deletions);
        world.lose_state();
        (0..12).for_each(|n| world.delete(&world.source, &format!("p{n}.ics")));
        let held = if deletions == Deletions::Carry { 12 } else { 0 };
        for round in 0..3 {
            let summary = world.sync_two_way().summary;
            assert_eq!((summary.held, summary.writes), (held, 0), "{deletions:?}, round {round}");
            assert_eq!(world.entries(&world.target).len(), 14, "{deletions:?}, round {round}");
            world.pass(60);
        }
        world.allow_deletions = true;
        world.sync_two_way();
        assert_eq!(world.entries(&world.target).len(), 14 - held, "{deletions:?}");
        assert_eq!(world.entries(&world.source).len(), 2, "{deletions:?}");
    }
}

/// Calendars whose target takes no UID that stands in another one of it, where that is asked for.
fn pressing(entries: usize, refuses_uids: bool) -> World {
    let world = World::new(0);
    let other = world.target.server.borrow_mut().add_calendar("office", "private", "private", "#333333");
    for n in 0..entries {
        let text = event(&format!("p{n}"), &format!("Press run {n}"));
        world.write(&world.source, &format!("p{n}.ics"), &text);
        if refuses_uids {
            world.habit(&world.target, Habit::OneUidPerUser);
            world.target.server.borrow_mut().store(&other, &format!("p{n}.ics"), &text);
        }
    }
    world
}

#[test]
fn a_copy_stays_while_its_source_may_be_among_what_was_not_read() {
    let missing = || FaultKind::Status { code: 404, retry_after: None };
    for is_two_way in [false, true] {
        let mut world = pressing(4, is_two_way);
        let run = |world: &World| {
            world.pass(3600);
            let report = if is_two_way { world.sync_two_way() } else { world.sync() };
            (report.summary.writes, world.entries(&world.target).len())
        };
        assert_eq!(run(&world).1, 4);
        world.lose_state();
        world.allow_deletions = true;
        world.delete(&world.source, "p1.ics");
        world.habit(&world.source, Habit::NoSync);
        for method in ["GET", "REPORT"] {
            world.source.server.borrow_mut().faults.push(Fault::always(method, missing()));
        }
        assert_eq!([run(&world), run(&world)], [(0, 4), (0, 4)], "two-way {is_two_way}");
        world.source.server.borrow_mut().faults.clear();
        assert_eq!([run(&world), run(&world)], [(1, 3), (0, 3)], "two-way {is_two_way}");
        assert_eq!(titles(&world.target), titles(&world.source));
    }
}

/// Of a long calendar, what is long over is not read where the window does not need it.
#[test]
fn copies_of_what_is_long_over_stay_after_a_lost_state() {
    const DAY: i64 = 86_400;
    let mut world = pressing(240, false);
    let narrow = |rule: &mut Rule| rule.window = Window { past: Reach::Days(7), ahead: Reach::Days(60) };
    world.shape = Rc::new(narrow);
    let run = |world: &World| {
        world.pass(60);
        let summary = world.sync().summary;
        (summary.writes, summary.in_step, summary.held)
    };
    assert_eq!(run(&world).1, 240);
    world.pass(40 * DAY);
    world.delete(&world.source, "p1.ics");
    world.lose_state();
    let foretold = world.preview();
    assert!(foretold.changes.iter().filter(|change| change.action == "delete").count() == 1, "{foretold:?}");
    assert_eq!([run(&world), run(&world)], [(1, 239, 0), (0, 239, 0)]);

    // The same where it is found out in a later run: somebody puts a copy back that had been taken away.
    let mut world = pressing(240, false);
    world.shape = Rc::new(narrow);
    assert_eq!(run(&world).1, 240);
    let (name, text) =
        world.target.server.borrow().texts(&world.target.path).into_iter().next().expect("one");
    world.pass(40 * DAY);
    world.lose_state();
    let texts = world.target.server.borrow().texts(&world.target.path);
    texts.keys().for_each(|name| world.delete(&world.target, name));
    assert_eq!(run(&world), (0, 0, 0));
    world.write(&world.target, &name, &text);
    world.allow_deletions = true;
    assert_eq!([run(&world), run(&world), run(&world)], [(0, 0, 0), (0, 1, 0), (0, 1, 0)]);
    assert_eq!(world.entries(&world.target).len(), 1);
}
