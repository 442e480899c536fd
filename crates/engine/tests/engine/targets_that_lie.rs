//! Targets that say one thing and do another: found out in the same run, named, and nobody's work is lost.

use chestnut_engine::{Cause, LegOutcome};
use chestnut_standin::Habit;
use chestnut_store::{ChangeAction, RunResult, Told};
use chestnut_testkit::{World, text_of};

#[test]
fn what_a_target_does_not_keep_is_named_in_the_same_run() {
    for (habit, words) in [
        (Habit::KeepsNothing, "KeepsNothing"),
        (Habit::NullAfterPut, "KeepsOther"),
        (Habit::CutsAtComma, "Changed { fields: [\"X-CRATES\"] }"),
        (Habit::AddsDuration, "Changed { fields: [\"DTEND\"] }"),
        (Habit::FloatingToUtc, "Changed { fields: [\"DTEND\", \"DTSTART\"] }"),
    ] {
        let world = World::new(40);
        world.habit(&world.target, habit);
        let report = world.sync();
        assert_eq!(report.result, RunResult::Failed, "{habit:?}");
        let damaged: Vec<_> = report.changes.iter().filter(|c| c.action == ChangeAction::Damaged).collect();
        assert!(!damaged.is_empty(), "{habit:?}");
        assert!(damaged.iter().all(|c| format!("{:?}", c.told).contains(words)), "{damaged:?}");
        // It is not sent for ever; and once the entry changes, it is tried again.
        assert_eq!(world.sync().summary.writes, 0, "{habit:?}");
        world.target.server.borrow_mut().habits.clear();
        let names = world.source.server.borrow().texts(&world.source.path);
        for name in names.into_keys() {
            world.edit(&world.source, &name, "SUMMARY:", "SUMMARY:Once more ");
        }
        let report = world.sync();
        assert_eq!(report.result, RunResult::Ok, "{habit:?}: {:?}", report.changes);
        assert_eq!(world.differences(), Vec::<String>::new(), "{habit:?}");
    }
}

/// Edits the far side between the look and the write, as another client would.
fn with_an_edit_in_between(habits: &[Habit]) {
    let world = World::new(12);
    for habit in habits {
        world.habit(&world.target, *habit);
    }
    world.sync();
    let (name, _) = text_of(&world.target, "SUMMARY:Crate washing");
    world.edit(&world.source, "orchard-0005.ics", "SUMMARY:Crate washing", "SUMMARY:Crate repair");
    world.edit(&world.target, &name, "SUMMARY:Crate washing", "SUMMARY:Their words");
    let report = world.sync();
    assert_eq!(report.result, RunResult::Ok, "{:?}", report.changes);
    assert_eq!(world.differences(), Vec::<String>::new());
    let kept = world.store().changes(report.run.expect("a run")).expect("changes");
    let before: Vec<_> = kept.iter().filter_map(|c| Some(c.before.as_ref()?.text.as_str())).collect();
    assert!(before.iter().any(|text| text.contains("Their words")), "{habits:?}: their text is kept");
}

#[test]
fn a_target_that_ignores_conditions_loses_nobodys_work() {
    with_an_edit_in_between(&[]);
    with_an_edit_in_between(&[Habit::IgnoresIfMatch, Habit::IgnoresIfNoneMatch]);
    let world = World::new(3);
    world.habit(&world.target, Habit::IgnoresIfMatch);
    world.sync();
    let place = world.route().ends[1].calendar.place();
    let noticed = |world: &World| {
        world.store().mirror(&place).expect("read").expect("a mirror").facts.ignores_conditions
    };
    assert_eq!(noticed(&world), Some(true));
    // From then on every write is preceded by a look.
    world.take_log(&world.target);
    world.edit(&world.source, "orchard-0000.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.sync();
    let log = world.take_log(&world.target);
    let put = log.iter().position(|line| line.starts_with("PUT")).expect("a write");
    assert!(log[put - 1].starts_with("GET"), "{log:#?}");
}

/// What is new is looked for before it is written, and a batch's word that nothing stands there is enough.
#[test]
fn a_target_that_ignores_conditions_costs_one_look_for_each_batch() {
    let world = World::new(60);
    world.habit(&world.target, Habit::IgnoresIfNoneMatch);
    let first = world.sync().summary.requests;
    for number in 0..60 {
        world.edit(&world.source, &format!("orchard-{number:04}.ics"), "UID:", "COMMENT:Changed\r\nUID:");
    }
    let second = world.sync().summary.requests;
    // Two trials of its conditions, looks at both sides, and one before and one after each batch.
    assert!(first <= 60 + 20 && second <= 60 + 12, "{first}, {second}");
}

#[test]
fn strangers_on_the_far_side_stay() {
    let world = World::new(12);
    let stranger =
        chestnut_standin::orchard_entries(40, jiff::civil::date(2026, 10, 5)).pop().expect("an entry");
    world.target.server.borrow_mut().store(&world.target.path, "theirs.ics", &stranger.text);
    world.sync();
    world.delete(&world.source, "orchard-0003.ics");
    world.sync();
    let standing = world.target.server.borrow().texts(&world.target.path);
    assert_eq!((standing.len(), standing.get("theirs.ics")), (12, Some(&stranger.text)));
}

#[test]
fn no_copy_makes_a_scheduling_server_write_to_people() {
    let world = World::new(40);
    world.habit(&world.target, Habit::Schedules);
    let report = world.sync();
    assert!(report.summary.partly["without-people"] > 0);
    world.edit(&world.source, "orchard-0004.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.sync();
    world.delete(&world.source, "orchard-0004.ics");
    world.sync();
    assert_eq!(world.target.server.borrow().outbox, Vec::<String>::new());
}

/// What a server made of a copy so that nobody can read it is told as that, is no question to anybody, and is written
/// again once its source changes.
#[test]
fn a_copy_that_nobody_can_read_waits_for_its_source() {
    for schedules in [true, false] {
        let world = World::new(12);
        world.habit(&world.target, Habit::NullAfterPut);
        if schedules {
            world.habit(&world.target, Habit::Schedules);
        }
        let spoilt = world.sync().summary.damaged;
        assert!(spoilt > 0);
        let compared = world.compare_of(&world.route()).expect("compared");
        let causes: Vec<_> = compared.findings.iter().map(|finding| &finding.cause).collect();
        let is_told = |cause: &&Cause| matches!(cause, Cause::Failed { told: Some(Told::KeepsOther) });
        assert!(causes.len() == spoilt && causes.iter().all(is_told), "{causes:?}");
        world.pass(25 * 3600);
        let report = world.sync();
        assert_eq!((report.summary.writes, report.summary.held), (0, 0), "{:?}", report.changes);
        if !schedules {
            world.target.server.borrow_mut().habits.clear();
            for number in 0..12 {
                world.edit(&world.source, &format!("orchard-{number:04}.ics"), "UID:", "COMMENT:New\r\nUID:");
            }
            world.sync();
            assert_eq!(world.differences(), Vec::<String>::new());
        }
    }
}

/// A server puts what is new at a name of its own, whether it says where or not: it is found there, once.
#[test]
fn what_stands_under_a_name_of_the_servers_own_is_found() {
    for (is_two_way, more) in
        [(false, None), (true, None), (false, Some(Habit::NoSync)), (true, Some(Habit::NoEtagOnPut))]
    {
        let mut world = World::new(30);
        world.batch = 7;
        for habit in [Some(Habit::NamesItself), more].into_iter().flatten() {
            world.habit(&world.target, habit);
        }
        let run = |world: &World| if is_two_way { world.sync_two_way() } else { world.sync() };
        // Cut off anywhere, nothing stands twice afterwards.
        for step in [20, 30, 40] {
            world.kill_at(Some(step), true);
            drop(if is_two_way { world.try_sync_two_way() } else { world.try_sync() });
            world.kill_at(None, false);
        }
        assert_eq!(run(&world).result, RunResult::Ok);
        let texts = || world.target.server.borrow().texts(&world.target.path);
        let stand = texts().len();
        assert!((27..=30).contains(&stand) && texts().keys().all(|name| name.starts_with("own-")), "{stand}");
        assert_eq!(run(&world).summary.writes, 0, "two-way: {is_two_way}, {more:?}");
        world.edit(&world.source, "orchard-0005.ics", "SUMMARY:Crate washing", "SUMMARY:Crate repair");
        world.delete(&world.source, "orchard-0004.ics");
        let counts = run(&world).summary.calendars["target"];
        assert_eq!((counts.created, counts.updated, counts.deleted), (0, 1, 1));
        assert_eq!((run(&world).summary.writes, texts().len()), (0, stand - 1));
        if !is_two_way {
            world.lose_state();
            assert_eq!((world.sync().summary.writes, texts().len()), (0, stand - 1));
        }
        let report = world.probe(&if is_two_way { world.two_way() } else { world.route() }).expect("a trial");
        assert!(
            report.legs.iter().all(|leg| !matches!(leg.outcome, LegOutcome::Failed(_))),
            "{:?}",
            report.legs
        );
        assert_eq!(texts().len(), stand - 1, "nothing of the trial is left");
    }
}

/// A server shows late what it was given: it is the copy, and not one whose source is gone.
#[test]
fn what_shows_late_is_taken_for_what_it_is() {
    let world = World::new(24);
    world.habit(&world.target, Habit::KeepsNothing);
    let damaged = world.sync().summary.damaged;
    assert!(damaged > 0);
    world.target.server.borrow_mut().habits.clear();
    let sent = world.target.sent.borrow().clone();
    let texts = sent.split("BEGIN:VCALENDAR").skip(1).filter_map(|rest| rest.split_once("END:VCALENDAR"));
    for text in texts.map(|(inside, _)| format!("BEGIN:VCALENDAR{inside}END:VCALENDAR\r\n")) {
        let uid = text.split("UID:").nth(1).and_then(|rest| rest.lines().next()).expect("a UID");
        world.write(&world.target, &format!("{uid}.ics"), &text);
    }
    world.pass(60);
    let report = world.sync();
    let summary = &report.summary;
    assert_eq!((report.result, summary.writes, summary.in_step), (RunResult::Ok, 0, 24), "{report:?}");
    assert_eq!(world.differences(), Vec::<String>::new());
}
