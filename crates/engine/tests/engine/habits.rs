//! G1: whatever a server does, a mixed calendar arrives, what does not is named, and a second sync writes
//! nothing.

use chestnut_engine::RunReport;
use chestnut_standin::{Habit, Temper};
use chestnut_store::RunResult;
use chestnut_testkit::{End, World};

/// Sign-in and connections are seen on a real socket alone; the program's own tests run those.
const NEED_A_SOCKET: &[Habit] = &[Habit::DigestOnly];

/// Habits that destroy or refuse entries, so that some must be named.
fn spoils(habit: Habit) -> bool {
    use Habit::{
        AddsDuration, CutsAtComma, EventsOnly, EventsOnlyInWord, FloatingToUtc, KeepsNothing, NullAfterPut,
        RefusesRules, SizeLimit412, SizeLimit413, SizeLimit507, SplitsEscapedCommas, StripsPeople,
    };
    matches!(
        habit,
        AddsDuration
            | CutsAtComma
            | EventsOnly
            | EventsOnlyInWord
            | FloatingToUtc
            | KeepsNothing
            | NullAfterPut
            | RefusesRules
            | SizeLimit412
            | SizeLimit413
            | SizeLimit507
            | SplitsEscapedCommas
            | StripsPeople
    )
}

/// Every difference between the sides is an entry that some run named, or left out for a reason it counted.
fn assert_explained(world: &World, reports: &[&RunReport], what: &str) {
    let named = |title: &str| {
        let mut changes = reports.iter().flat_map(|r| &r.changes);
        changes.any(|c| c.title == title && c.told.is_some())
    };
    let left_out: usize = reports.last().map_or(0, |r| r.summary.left_out.values().sum());
    let unexplained: Vec<_> = world
        .differences()
        .into_iter()
        .filter(|line| {
            let title = line.split_once(": ").map_or("", |(_, rest)| rest);
            let title = title.rsplit_once(' ').map_or("", |(title, _)| title);
            !named(title)
        })
        .collect();
    assert!(unexplained.len() <= left_out, "{what}: {unexplained:#?}, {left_out} left out");
}

fn assert_writes_nothing(world: &World, what: &str) {
    let report = world.sync();
    assert_eq!(report.summary.writes, 0, "{what}: {:?}", report.changes);
    assert!(report.error.is_none(), "{what}: {:?}", report.error);
}

/// A life of a route: first run, nothing to do, a mixed bag of changes, nothing to do.
fn live(world: &World, what: &str) {
    let first = world.sync();
    assert!(first.error.is_none(), "{what}: {:?}", first.error);
    assert_explained(world, &[&first], what);
    assert_writes_nothing(world, what);
    world.pass(60);
    assert_writes_nothing(world, what);
    change(world);
    let second = world.sync();
    assert!(second.error.is_none(), "{what}: {:?}", second.error);
    assert_explained(world, &[&first, &second], what);
    assert_writes_nothing(world, what);
    // Once a day everything is compared: what a forgetful server did not tell is found then.
    world.pass(25 * 3600);
    let daily = world.sync();
    assert_explained(world, &[&first, &second, &daily], what);
    let gone = world.target.server.borrow().texts(&world.target.path);
    assert!(!gone.values().any(|t| t.contains("Tasting with")), "{what}: the deleted entry is still there");
}

/// Changes with their own titles; a deletion; new entries; one deleted and made anew under its old address.
fn change(world: &World) {
    let source = &world.source;
    for name in ["orchard-0000.ics", "orchard-0006.ics"] {
        if source.server.borrow().texts(&source.path).get(name).is_some_and(|t| t.contains("SUMMARY")) {
            world.edit(source, name, "SUMMARY:", "SUMMARY:Changed ");
        }
    }
    let texts = source.server.borrow().texts(&source.path);
    for (name, _) in texts.iter().filter(|(_, text)| text.contains("Tasting with")) {
        world.delete(source, name);
    }
    world.add_entries(60..64);
    if let Some(text) = texts.get("orchard-0003.ics").filter(|t| t.contains("Stall at")) {
        world.delete(source, "orchard-0003.ics");
        let anew = text.replace("Stall at the harbour market", "Stall by the church");
        source.server.borrow_mut().store(&source.path, "orchard-0003.ics", &anew);
    }
}

fn on_each_side(habit: Habit) {
    let side: [fn(&World) -> &End; 2] = [|w| &w.source, |w| &w.target];
    for (name, side) in [("source", side[0]), ("target", side[1])] {
        let world = World::new(0);
        world.habit(side(&world), habit);
        world.add_entries(0..60);
        let what = format!("{} on the {name}", habit.name());
        live(&world, &what);
        if name == "target" {
            let damaged = world
                .store()
                .troubles(world.store().route("presses-to-board").expect("read").expect("a route").id);
            let left_out = world.sync().summary.left_out;
            let spoiled = !damaged.expect("read").is_empty() || !left_out.is_empty();
            assert_eq!(spoiled, spoils(habit), "{what}: named {left_out:?}");
        }
    }
}

#[test]
fn every_habit_on_each_side() {
    for habit in Habit::ALL.iter().filter(|habit| !NEED_A_SOCKET.contains(habit)) {
        on_each_side(*habit);
    }
}

#[test]
fn every_temper_on_both_sides() {
    for temper in [Temper::Lenient, Temper::Strict, Temper::Rewriting, Temper::Old] {
        let world = World::new(0);
        world.temper(&world.source, temper);
        world.temper(&world.target, temper);
        world.add_entries(0..60);
        live(&world, &format!("{temper:?} on both sides"));
    }
}

#[test]
fn a_copy_edited_on_the_far_side_is_put_right_or_left() {
    for (setting, title) in
        [(chestnut_core::FarEdits::Correct, "Crate washing"), (chestnut_core::FarEdits::Leave, "Mine now")]
    {
        let mut world = World::new(12);
        world.far_edits = setting;
        world.sync();
        let (name, _) = chestnut_testkit::text_of(&world.target, "SUMMARY:Crate washing");
        world.edit(&world.target, &name, "SUMMARY:Crate washing", "SUMMARY:Mine now");
        let report = world.sync();
        assert_eq!(report.result, RunResult::Ok);
        assert!(chestnut_testkit::titles(&world.target).contains(&title.to_owned()), "{setting:?}");
        assert_writes_nothing(&world, "after the edit");
        // A change at the source counts in any case.
        world.edit(&world.source, "orchard-0005.ics", "SUMMARY:Crate washing", "SUMMARY:Crate repair");
        world.sync();
        assert!(chestnut_testkit::titles(&world.target).contains(&"Crate repair".to_owned()));
    }
}
