//! G2: wherever a run is cut off, the next run ends where an undisturbed run would have.

use std::rc::Rc;

use chestnut_core::{Carry, Reach, Shows, Window};
use chestnut_engine::{Makes, Rule, RunError};
use chestnut_standin::Habit;
use chestnut_testkit::World;

fn changed(world: &World) {
    let source = &world.source;
    world.edit(source, "orchard-0000.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.edit(source, "orchard-0004.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.delete(source, "orchard-0001.ics");
    world.delete(source, "orchard-0006.ics");
    world.add_entries(12..14);
}

/// What stands on the far side: file names and texts.
fn far_side(world: &World) -> std::collections::BTreeMap<String, String> {
    world.target.server.borrow().texts(&world.target.path)
}

/// Kills a run at every request (before and after it reached the server) and at every write of the state.
fn kill_everywhere(prepare: impl Fn(&World)) -> usize {
    let twelve = || {
        let mut world = World::new(12);
        // Several batches at the same time.
        world.batch = 3;
        world
    };
    let undisturbed = twelve();
    prepare(&undisturbed);
    undisturbed.sync();
    let expected = far_side(&undisturbed);
    let mut kills = 0;
    for arrives in [false, true] {
        for step in 0.. {
            let world = twelve();
            prepare(&world);
            world.kill_at(Some(step), arrives);
            // What a killed run returns, nobody is there to see.
            drop(world.try_sync());
            if !world.was_killed() {
                break;
            }
            kills += 1;
            world.kill_at(None, false);
            let report = world.sync();
            let what = format!("killed at step {step}, last request arrives: {arrives}");
            assert!(report.error.is_none(), "{what}: {:?}", report.error);
            assert_eq!(far_side(&world), expected, "{what}");
            assert_eq!(world.differences(), Vec::<String>::new(), "{what}");
            let again = world.sync();
            assert_eq!(again.summary.writes, 0, "{what}: {:?}", again.changes);
            assert!(
                world
                    .store()
                    .unfinished(world.store().route("presses-to-board").expect("read").expect("a route").id)
                    .expect("read")
                    .is_empty(),
                "{what}"
            );
        }
    }
    kills
}

#[test]
fn a_first_run_killed_at_every_step() {
    assert!(kill_everywhere(|_| {}) > 40);
}

#[test]
fn a_changing_run_killed_at_every_step() {
    let kills = kill_everywhere(|world| {
        world.sync();
        changed(world);
    });
    assert!(kills > 40);
}

#[test]
fn answers_lost_after_the_write_are_noticed_by_looking() {
    use chestnut_standin::{Fault, FaultKind};
    for after in 0..12 {
        let world = World::new(12);
        let lost = Fault { after, ..Fault::once("PUT", FaultKind::LoseAnswer) };
        world.target.server.borrow_mut().faults = vec![lost];
        let report = world.sync();
        assert!(report.error.is_none() && report.summary.failed == 0, "{:?}", report.changes);
        assert_eq!(world.differences(), Vec::<String>::new());
        assert_eq!(world.sync().summary.writes, 0);
    }
}

#[test]
fn a_run_that_is_asked_to_stop_says_what_is_left() {
    let world = World::new(12);
    world.stop.set(true);
    let report = world.sync();
    assert_eq!(report.error, Some(RunError::Stopped { left: 12 }));
    assert!(far_side(&world).is_empty());
    world.stop.set(false);
    assert!(world.sync().error.is_none());
    assert_eq!(world.differences(), Vec::<String>::new());
}

/// Kills what is done with a world at every step, and does it again: the far side is the same each time.
fn kill_and_repeat(prepare: impl Fn() -> World, act: impl Fn(&World) -> Result<bool, RunError>) -> usize {
    let undisturbed = prepare();
    while act(&undisturbed).expect("done") {}
    let expected = far_side(&undisturbed);
    let mut kills = 0;
    for arrives in [false, true] {
        for step in 0.. {
            let world = prepare();
            world.kill_at(Some(step), arrives);
            drop(act(&world));
            if !world.was_killed() {
                break;
            }
            kills += 1;
            world.kill_at(None, false);
            while act(&world).expect("done") {}
            assert_eq!(far_side(&world), expected, "killed at {step}, last request arrives: {arrives}");
        }
    }
    kills
}

/// Servers that keep what they are given, and such as split, cut and change what they store.
const KEEPERS: [&[Habit]; 2] = [
    &[],
    &[
        Habit::SplitsLists,
        Habit::CutsAtComma,
        Habit::FloatingToUtc,
        Habit::WritesDuration,
        Habit::NoEtagOnPut,
    ],
];

fn keeper(habits: &[Habit], entries: usize) -> World {
    let mut world = World::new(entries);
    world.batch = 2;
    habits.iter().for_each(|habit| world.habit(&world.target, *habit));
    world
}

#[test]
fn made_copies_killed_at_every_step() {
    // Of a small calendar, what is gone leaves nothing behind that would tell of it at the next look.
    let one_goes = |world: &World| world.delete(&world.source, "orchard-0000.ics");
    for (makes, habits, is_small) in [
        (Makes::Occurrences, KEEPERS[0], false),
        (Makes::Blocks, KEEPERS[0], false),
        (Makes::Occurrences, KEEPERS[1], false),
        (Makes::Occurrences, KEEPERS[0], true),
        (Makes::Blocks, KEEPERS[0], true),
    ] {
        let prepare = || {
            let mut world = keeper(habits, if is_small { 6 } else { 12 });
            world.shape = Rc::new(move |rule: &mut Rule| {
                rule.makes = makes;
                rule.window = Window { past: Reach::Days(7), ahead: Reach::Days(14) };
                rule.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
            });
            world.sync();
            world.pass(60);
            world.sync();
            if is_small {
                one_goes(&world)
            } else {
                changed(&world)
            }
            world.pass(60);
            world
        };
        let kills = kill_and_repeat(prepare, |world| Ok(world.try_sync()?.summary.writes > 0));
        assert!(kills > 10, "{kills} for {makes:?}");
    }
}

#[test]
fn a_retirement_killed_at_every_step() {
    let prepare_at = |habits| {
        let world = keeper(habits, 6);
        let own = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:own\r\n\
             DTSTAMP:20261001T060000Z\r\nDTSTART:20261101T080000Z\r\nSUMMARY:Own\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
        world.write(&world.target, "own.ics", own);
        world.sync();
        world
    };
    let retire = |world: &World| match world.store().route("presses-to-board").expect("read") {
        Some(_) => world.retire().map(|gone| gone > 0),
        None => Ok(false),
    };
    for habits in KEEPERS {
        assert!(kill_and_repeat(|| prepare_at(habits), retire) > 15);
    }
    let world = prepare_at(KEEPERS[0]);
    retire(&world).expect("retired");
    assert_eq!(far_side(&world).into_keys().collect::<Vec<_>>(), ["own.ics"]);
}

#[test]
fn a_decision_killed_at_every_step() {
    let prepare_at = |habits| {
        let world = keeper(habits, 12);
        world.sync();
        for number in 0..12 {
            world.delete(&world.source, &format!("orchard-{number:04}.ics"));
        }
        assert!(world.sync().summary.held > 0);
        world
    };
    let decide = |world: &World| {
        let store = world.store();
        for item in store.held(None).expect("what is held").iter().filter(|item| item.decision.is_none()) {
            store.write(|writer| writer.decide(item.id, "delete")).map_err(RunError::Store)?;
        }
        Ok(world.try_sync()?.summary.writes > 0)
    };
    for habits in KEEPERS {
        assert!(kill_and_repeat(|| prepare_at(habits), decide) > 15);
    }
}

/// A probe that was killed leaves nothing once it is swept, and touches no other entry; also where the state is lost.
/// Kills at one step in so many.
fn probe_killed(shape: impl Fn(&mut Rule), is_two_way: bool, each: usize, loses_state: bool) -> usize {
    let rule = |world: &World| {
        let mut rule = if is_two_way { world.two_way() } else { world.route() };
        shape(&mut rule);
        rule
    };
    let both = |world: &World| {
        let near = world.source.server.borrow().texts(&world.source.path);
        near.into_iter().chain(far_side(world)).collect::<std::collections::BTreeSet<_>>()
    };
    let mut kills = 0;
    for arrives in [false, true] {
        for step in (usize::from(arrives)..).step_by(each) {
            let world = World::new(3);
            let rule = rule(&world);
            world.run(&rule).expect("a run");
            world.pass(60);
            let before = both(&world);
            world.kill_at(Some(step), arrives);
            drop(world.probe(&rule));
            if !world.was_killed() {
                break;
            }
            kills += 1;
            world.kill_at(None, false);
            if loses_state && step % 5 == 0 {
                world.lose_state();
            }
            let (_, left) = world.sweep(&rule).expect("swept");
            let what = format!("killed at {step}, last request arrives: {arrives}");
            let other = || before.symmetric_difference(&both(&world)).cloned().collect::<Vec<_>>();
            assert!(left.is_empty(), "{what}: {left:?}");
            assert_eq!(other(), [], "{what}");
            assert_eq!(world.store().probes().expect("read"), [], "{what}");
            world.run(&rule).expect("a run");
            assert_eq!(other(), [], "{what}: afterwards");
        }
    }
    kills
}

#[test]
fn a_probe_killed_at_every_step_is_swept() {
    let busy =
        |rule: &mut Rule| rule.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
    assert!(probe_killed(|_| {}, false, 1, true) > 200);
    // The same requests and writes, but for what is in them.
    assert!(probe_killed(busy, false, 7, true) > 30);
    assert!(probe_killed(|_| {}, true, 7, true) > 50);
    let made = |rule: &mut Rule, makes: Makes| {
        busy(rule);
        rule.makes = makes;
        rule.window = Window { past: Reach::Days(7), ahead: Reach::Days(60) };
    };
    assert!(probe_killed(|rule| made(rule, Makes::Occurrences), false, 7, true) > 30);
    // Of a block nobody can tell whose time it is, once nothing is remembered.
    assert!(probe_killed(|rule| made(rule, Makes::Blocks), false, 5, false) > 30);
}
