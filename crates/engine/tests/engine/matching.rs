//! Nothing is written twice: copies are found again by UID and by content.

use std::rc::Rc;

use chestnut_core::{Carry, Matches, People, Shows, Strangers, Test};
use chestnut_engine::Rule;
use chestnut_standin::Habit;
use chestnut_store::RunResult;
use chestnut_testkit::{End, World};

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

/// What stood there before the route stays when its source goes, whatever its owner or the rule does afterwards.
#[test]
fn a_match_whose_source_is_gone_is_nobodys_for_good() {
    let mut world = World::new(3);
    world.allow_deletions = true;
    let (name, text) = world.source.server.borrow().texts(&world.source.path).pop_first().expect("an entry");
    world.write(&world.target, "own.ics", &text);
    world.sync();
    world.delete(&world.source, &name);
    world.sync();
    let stands =
        |world: &World| world.target.server.borrow().texts(&world.target.path).contains_key("own.ics");
    assert!(stands(&world));
    world.edit(&world.target, "own.ics", "SUMMARY:", "SUMMARY:Own ");
    world.sync();
    world.shape = Rc::new(|route: &mut Rule| route.matches = Matches::Own);
    world.sync();
    world.shape = Rc::new(|route: &mut Rule| route.strangers = Strangers::Remove);
    world.sync();
    assert!(stands(&world));
    // Its source comes back: it is the same entry again.
    world.write(&world.source, &name, &text.replace("SUMMARY:", "SUMMARY:Again "));
    let report = world.sync();
    assert_eq!(report.summary.calendars["target"].updated, 1, "{:?}", report.changes);
    assert_eq!((stands(&world), world.sync().summary.writes), (true, 0));
}

/// What a person kept when its source was deleted stays where it is, and comes back nowhere, whatever the rule becomes.
#[test]
fn what_a_person_kept_is_nobodys_for_good() {
    for is_two_way in [false, true] {
        let mut world = World::new(30);
        let run = |world: &World| {
            world.pass(60);
            if is_two_way { world.sync_two_way() } else { world.sync() }
        };
        let count = |world: &World| {
            let of = |end: &End| end.server.borrow().texts(&end.path).len();
            (of(&world.source), of(&world.target))
        };
        run(&world);
        let names = world.source.server.borrow().texts(&world.source.path).into_keys().take(20);
        names.collect::<Vec<_>>().iter().for_each(|name| world.delete(&world.source, name));
        run(&world);
        for item in world.store().held(None).expect("what waits") {
            world.store().write(|writer| writer.decide(item.id, "keep")).expect("it is written");
        }
        run(&world);
        let kept = count(&world);
        assert_eq!(kept.0, 10);
        // Every case is decided again.
        world.shape = Rc::new(|route: &mut Rule| route.strangers = Strangers::Remove);
        world.shape_two_way = Rc::new(|route: &mut Rule| route.carry.people = People::Dropped);
        assert_eq!(run(&world).summary.held, 0, "two-way: {is_two_way}");
        let names = world.target.server.borrow().texts(&world.target.path).into_keys();
        names
            .collect::<Vec<_>>()
            .iter()
            .for_each(|name| world.edit(&world.target, name, "SUMMARY:", "SUMMARY:Own "));
        assert_eq!((run(&world).summary.held, count(&world)), (0, kept), "two-way: {is_two_way}");
    }
}

/// What a route made is its copy, also where something of the owner's stood in its place before.
#[test]
fn a_copy_that_takes_the_place_of_a_match_is_a_copy() {
    let mut world = World::new(3);
    world.allow_deletions = true;
    let private = |private: bool| -> Rc<dyn Fn(&mut Rule)> {
        Rc::new(move |route: &mut Rule| {
            route.choice.skip.extend(private.then_some(Test::Private(true)));
        })
    };
    let text = world.source.server.borrow().texts(&world.source.path)["orchard-0000.ics"].clone();
    let text = text.replace("SUMMARY:", "CLASS:PRIVATE\r\nSUMMARY:");
    world.write(&world.source, "orchard-0000.ics", &text);
    world.write(&world.target, "own.ics", &text);
    world.shape = private(true);
    world.sync();
    world.delete(&world.target, "own.ics");
    world.shape = private(false);
    assert_eq!(world.sync().summary.calendars["target"].created, 1);
    world.shape = private(true);
    assert_eq!(world.sync().summary.calendars["target"].deleted, 1);
}

/// What stands for an entry that was left out is found under today's rule: "Busy" and somebody's entry are no match.
#[test]
fn what_was_left_out_is_matched_anew() {
    let mut world = World::new(3);
    let texts = world.source.server.borrow().texts(&world.source.path);
    texts.iter().for_each(|(name, text)| world.write(&world.target, &format!("own-{name}"), text));
    world.shape = Rc::new(|route: &mut Rule| route.choice.skip.push(Test::Private(false)));
    assert_eq!(world.sync().summary.writes, 0);
    world.shape = Rc::new(|route: &mut Rule| route.carry.shows = Shows::Busy("Taken".into()));
    // One of them takes no time.
    assert_eq!(world.sync().summary.calendars["target"].created, 2);
    let stand = world.target.server.borrow().texts(&world.target.path);
    assert!(texts.iter().all(|(name, text)| stand[&format!("own-{name}")] == *text), "{stand:?}");
}

/// A copy went on to another entry that says the same, and its first source comes back: it needs one, too.
#[test]
fn a_source_that_comes_back_after_its_copy_went_on_to_another_gets_one() {
    let habits = [
        None,
        Some(Habit::IgnoresIfNoneMatch),
        Some(Habit::UidConflict409),
        Some(Habit::UidConflict412),
        Some(Habit::NoEtagOnPut),
    ];
    for (habit, is_busy) in habits.into_iter().flat_map(|habit| [(habit, true), (habit, false)]) {
        let mut world = World::new(0);
        world.allow_deletions = true;
        if is_busy {
            world.shape = Rc::new(|route: &mut Rule| {
                route.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
            });
        }
        habit.into_iter().for_each(|habit| world.habit(&world.target, habit));
        let press = |uid: &str| {
            format!(
                "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20261001T060000Z\r\n\
                 DTSTART:20261007T080000Z\r\nDURATION:PT1H\r\nSUMMARY:Press\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
            )
        };
        let come_to = |copies: usize| {
            let mut writes = Vec::new();
            for _ in 0..2 {
                world.pass(60);
                let report = world.sync();
                assert_eq!(report.result, RunResult::Ok, "{habit:?}: {:#?}", report.changes);
                assert_eq!(world.entries(&world.target).len(), copies, "{habit:?}: {:#?}", report.changes);
                writes.push(report.summary.writes);
            }
            assert_eq!(writes[1], 0, "{habit:?}");
            writes[0]
        };
        world.write(&world.source, "first.ics", &press("first"));
        come_to(1);
        world.delete(&world.source, "first.ics");
        world.write(&world.source, "second.ics", &press("second"));
        assert_eq!(come_to(1), 0, "{habit:?}: the copy goes on");
        world.write(&world.source, "first.ics", &press("first"));
        come_to(2);
        world.lose_state();
        come_to(2);
        world.delete(&world.source, "second.ics");
        come_to(1);
        world.edit(&world.source, "first.ics", "T080000Z", "T090000Z");
        come_to(1);
        assert!(chestnut_testkit::text_of(&world.target, "T090000Z").1.contains("chestnut-"), "{habit:?}");
    }
}
