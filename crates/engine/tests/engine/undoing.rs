//! Runs are taken back: what nobody touched since is as it was, byte for byte; the next sync does not do it again.

use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use chestnut_core::{Carry, ObjectHref, RouteKey, Shows, read_snapshot, write_snapshot};
use chestnut_engine::{
    Goes, Rule, RunOptions, RunReport, Silent, ToRestore, ToUndo, WhyLeft, plan_restore, restore,
};
use chestnut_standin::Habit;
use chestnut_store::{Change, RunId, RunKind};
use chestnut_testkit::{World, block_on, titles};

use crate::dice::{Dice, live, run_some_histories};

/// What stands where: by the number of the calendar, and the name there.
type Texts = BTreeMap<(usize, String), String>;

fn event(uid: &str, title: &str, hour: usize) -> String {
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:{uid}\r\n\
         DTSTAMP:20261001T080000Z\r\nDTSTART:20261007T{hour:02}0000Z\r\nDURATION:PT1H\r\nSUMMARY:{title}\r\n\
         X-ORCHARD-CRATES:7\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    )
}

struct Taken {
    run: RunId,
    before: Texts,
    after: Texts,
}

struct History {
    world: World,
    dice: Dice,
    is_two_way: bool,
    values: usize,
    /// The runs since the last that took some back, the oldest first.
    runs: Vec<Taken>,
    log: Vec<String>,
}

fn plain(text: &str) -> String {
    text.replace('\r', "")
}

impl History {
    fn new(seed: u64) -> Self {
        let mut dice = Dice::new(seed);
        let mut world = World::new(0);
        world.allow_deletions = true;
        world.batch = 1 + dice.roll(4);
        let (is_two_way, is_busy) = (dice.roll(2) == 0, dice.roll(2) == 0);
        world.between = if is_two_way { 2 + dice.roll(2) } else { 2 };
        if is_busy {
            world.shape = Rc::new(|route: &mut Rule| {
                route.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
            });
        }
        if dice.roll(2) == 0 {
            world.sides().into_iter().for_each(|end| world.habit(end, Habit::NoEtagOnPut));
        }
        let log = vec![format!("two-way {is_two_way}, busy {is_busy}, {} calendars", world.between)];
        Self { world, dice, is_two_way, values: 0, runs: Vec::new(), log }
    }

    fn rule(&self) -> Rule {
        if self.is_two_way { self.world.two_way() } else { self.world.route() }
    }

    fn texts(&self) -> Texts {
        let sides = self.world.sides().into_iter().enumerate();
        let texts = |(at, end): (usize, &chestnut_testkit::End)| {
            let texts = end.server.borrow().texts(&end.path);
            texts.into_iter().map(move |(name, text)| ((at, name), plain(&text)))
        };
        sides.flat_map(texts).collect()
    }

    /// Somebody creates, changes or deletes something somewhere; in a one-way route's target only now and then.
    fn live(&mut self) {
        self.world.pass(2 + self.dice.roll(60) as i64);
        let far = self.is_two_way || self.dice.once_in(5);
        let side = if far { self.dice.roll(self.world.between) } else { 0 };
        let (hour, value) = (7 + self.dice.roll(9), self.values);
        self.values += 1;
        let there: Vec<String> =
            self.texts().into_keys().filter(|(at, _)| *at == side).map(|(_, name)| name).collect();
        let end = self.world.sides()[side];
        let nth = self.dice.roll(there.len() + 2);
        match (there.get(nth), self.dice.roll(3)) {
            (Some(name), 0) => {
                self.log.push(format!("{side} deletes {name}"));
                self.world.delete(end, name);
            }
            (Some(name), _) => {
                self.log.push(format!("{side} renames {name}: v{value}"));
                self.world.edit(end, name, "SUMMARY:", &format!("SUMMARY:v{value} "));
            }
            (None, _) => {
                self.log.push(format!("{side} creates crew-{value}"));
                self.world.write(
                    end,
                    &format!("crew-{value}.ics"),
                    &event(&format!("crew-{value}"), "A shift", hour),
                );
            }
        }
    }

    fn sync(&mut self) -> Result<RunReport, String> {
        self.world.pass(60);
        let report = self.world.run(&self.rule()).map_err(|e| e.to_string())?;
        let done: Vec<_> = report.changes.iter().map(|c| (c.action, &c.calendar, &c.href, &c.told)).collect();
        self.log.push(format!("run {:?}: {:?} {done:?}", report.run, report.error));
        match (&report.error, report.summary.failed) {
            (None, 0) => Ok(report),
            _ => Err(format!("{report:#?}")),
        }
    }

    fn round(&mut self) -> Result<(), String> {
        for _ in 0..1 + self.dice.roll(4) {
            self.live();
        }
        let before = self.texts();
        let run = self.sync()?.run.ok_or("no run")?;
        self.runs.push(Taken { run, before, after: self.texts() });
        if self.dice.once_in(4) {
            return self.keep_and_restore();
        }
        if self.dice.once_in(2) { self.undo() } else { Ok(()) }
    }

    fn undo(&mut self) -> Result<(), String> {
        let number = 1 + self.dice.roll(self.runs.len().min(3));
        let taken = self.runs.split_off(self.runs.len() - number);
        self.runs.clear();
        let is_touched = self.dice.once_in(2);
        if is_touched {
            (0..1 + self.dice.roll(3)).for_each(|_| self.live());
        }
        let now = self.texts();
        let mut expected = now.clone();
        let keys: BTreeSet<_> =
            taken.iter().flat_map(|run| run.before.keys().chain(run.after.keys())).cloned().collect();
        for key in keys {
            let mut text = now.get(&key).cloned();
            let changed = taken.iter().rev().filter(|run| run.before.get(&key) != run.after.get(&key));
            for run in changed {
                if text.as_ref() != run.after.get(&key) {
                    break;
                }
                text = run.before.get(&key).cloned();
            }
            match text {
                Some(text) => expected.insert(key, text),
                None => expected.remove(&key),
            };
        }
        let runs: Vec<RunId> = taken.iter().rev().map(|run| run.run).collect();
        self.take_back(&runs, &expected)?;
        if is_touched {
            self.rest()?;
            return Ok(());
        }
        let store = self.world.store();
        let undo = store.runs(None, 1).map_err(|e| e.to_string())?[0].clone();
        let undid = undo.summary.undid.clone();
        if self.dice.once_in(2) {
            // What was taken back stays so.
            self.resume();
            let report = self.sync()?;
            if report.summary.writes > 0 || self.texts() != expected {
                return Err(format!("it was done again: {:#?}", report.changes));
            }
        }
        if self.dice.once_in(2) && !undid.is_empty() {
            self.take_back(&[undo.id], &now)?;
            if self.dice.once_in(3) {
                let again = self.world.store().runs(None, 1).map_err(|e| e.to_string())?[0].id;
                self.take_back(&[again], &expected)?;
                self.resume();
                let report = self.sync()?;
                if report.summary.writes > 0 || self.texts() != expected {
                    return Err(format!("taken back twice, and done again: {:#?}", report.changes));
                }
                return Ok(());
            }
            self.resume();
            let report = self.sync()?;
            if report.summary.writes > 0 || self.texts() != now {
                return Err(format!("done again, and not in step: {:#?}", report.changes));
            }
        }
        self.rest()
    }

    fn take_back(&mut self, runs: &[RunId], expected: &Texts) -> Result<(), String> {
        self.world.pass(60);
        let what = ToUndo { runs: runs.to_vec(), only: Vec::new(), is_retired: false };
        let (plan, report) = self.world.undo(&self.rule(), &what).map_err(|e| e.to_string())?;
        let done = report.map(|r| (r.run, r.error, r.changes));
        self.log.push(format!("undo {runs:?}: {plan:?} {done:?}"));
        let now = self.texts();
        if now == *expected {
            return Ok(());
        }
        let differs: Vec<_> = now.keys().chain(expected.keys()).collect();
        let differs: BTreeSet<_> =
            differs.into_iter().filter(|key| now.get(*key) != expected.get(*key)).collect();
        let both: Vec<_> = differs.iter().map(|key| (key, now.get(*key), expected.get(*key))).collect();
        Err(format!("taken back {runs:?}: is, should be {both:#?}"))
    }

    /// A calendar is kept, lived in, and put back.
    fn keep_and_restore(&mut self) -> Result<(), String> {
        let side = self.dice.roll(self.world.between);
        let end = self.world.route_at(self.world.sides()[side]);
        let kept = self.world.snapshot(&end).map_err(|e| e.to_string())?;
        let text = write_snapshot(&end.name, &kept);
        let before = self.texts();
        for _ in 0..1 + self.dice.roll(5) {
            self.live();
        }
        self.sync()?;
        let lived = self.texts();
        let exact = self.dice.once_in(2);
        let entries = read_snapshot(text.as_bytes()).map_err(|e| e.to_string())?.entries;
        self.world.pass(60);
        let what = ToRestore { entries, goes: if exact { Goes::Everything } else { Goes::Nothing } };
        let done = self.world.restore(&end, &what).map_err(|e| e.to_string())?;
        self.log.push(format!("restored {} (exact {exact}): {done:?}", end.name));
        let now = self.texts();
        for key in before.keys().chain(lived.keys()).chain(now.keys()) {
            let expected = match (key.0 == side, before.get(key)) {
                (true, Some(text)) => Some(text),
                (true, None) if exact => None,
                _ => lived.get(key),
            };
            if now.get(key) != expected {
                return Err(format!(
                    "restored, exact {exact}: {key:?} is {:?}, was {expected:?}",
                    now.get(key)
                ));
            }
        }
        // It is a run, and can be taken back.
        if self.dice.once_in(2) && now != lived {
            let store = self.world.store();
            let run = store.runs(None, 1).map_err(|e| e.to_string())?[0].id;
            let rule = Rule::two_way("restore", vec![end], RouteKey::new(b"", "restore"));
            let what = ToUndo { runs: vec![run], only: Vec::new(), is_retired: true };
            self.world.pass(60);
            self.world.undo(&rule, &what).map_err(|e| e.to_string())?;
            if self.texts() != lived {
                return Err(format!("the restore was taken back: {:#?}, was {lived:#?}", self.texts()));
            }
        }
        self.runs.clear();
        self.rest()
    }

    fn resume(&self) {
        let store = self.world.store();
        let route = store.route(&self.rule().name).expect("read").expect("a route");
        store.write(|writer| writer.set_paused(route.id, false)).expect("written");
    }

    /// The calendars come to rest.
    fn rest(&mut self) -> Result<(), String> {
        self.resume();
        // An entry that another had taken the place of makes room for it in a second run.
        let mut changes = Vec::new();
        for _ in 0..3 {
            let report = self.sync()?;
            if report.summary.writes == 0 {
                return Ok(());
            }
            changes = report.changes;
        }
        Err(format!("it does not come to rest: {changes:#?}"))
    }
}

#[test]
fn what_nobody_touched_is_as_it_was_and_stays_so() {
    run_some_histories(6, &[1_100_455, 1_600_319, 1_800_200, 12_100_451], |seed| {
        live(History::new(seed), 8, History::round, |history| history.log)
    });
}

/// A run that created, changed and deleted; returns what stood before and after it.
fn a_run(world: &World, rule: &Rule, texts: impl Fn() -> Texts) -> (RunId, Texts, Texts) {
    world.run(rule).expect("a run");
    world.pass(60);
    world.edit(&world.source, "orchard-0000.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.delete(&world.source, "orchard-0001.ics");
    world.add_entries(3..4);
    let before = texts();
    let run = world.run(rule).expect("a run").run.expect("its number");
    world.pass(60);
    (run, before, texts())
}

#[test]
fn an_undo_killed_at_every_step() {
    let mut kills = 0;
    for (is_two_way, again) in [(false, true), (false, false), (true, true), (true, false)] {
        for arrives in [false, true] {
            for step in 0.. {
                let mut world = World::new(3);
                (world.batch, world.allow_deletions) = (2, true);
                let rule = || if is_two_way { world.two_way() } else { world.route() };
                let texts = || {
                    let all = [&world.source, &world.target].into_iter().enumerate().flat_map(|(at, end)| {
                        let texts = end.server.borrow().texts(&end.path);
                        texts.into_iter().map(move |(name, text)| ((at, name), plain(&text)))
                    });
                    all.collect::<Texts>()
                };
                let (run, before, after) = a_run(&world, &rule(), texts);
                assert_ne!(before, after);
                let what = ToUndo { runs: vec![run], only: Vec::new(), is_retired: false };
                world.kill_at(Some(step), arrives);
                drop(world.undo(&rule(), &what));
                if !world.was_killed() {
                    break;
                }
                kills += 1;
                world.kill_at(None, false);
                let at = format!("two-way {is_two_way}, again {again}, step {step}, arrives {arrives}");
                world.pass(60);
                if again {
                    world.undo(&rule(), &what).expect(&at);
                    assert_eq!(texts(), before, "{at}");
                }
                let store = world.store();
                let route = store.route(&rule().name).expect("read").expect("a route");
                store.write(|writer| writer.set_paused(route.id, false)).expect("written");
                world.pass(60);
                let report = world.run(&rule()).expect(&at);
                assert!(report.error.is_none() && report.summary.failed == 0, "{at}: {report:?}");
                let now = texts();
                for key in before.keys().chain(after.keys()) {
                    let is_one_of_both =
                        now.get(key) == before.get(key) || !again && now.get(key) == after.get(key);
                    assert!(is_one_of_both, "{at}: {key:?} is {:?}", now.get(key));
                }
                world.pass(60);
                assert_eq!(world.run(&rule()).expect(&at).summary.writes, 0, "{at}");
            }
        }
    }
    assert!(kills > 100, "{kills}");
}

#[test]
fn what_stood_there_and_was_not_kept_is_not_taken_for_nothing() {
    let world = World::new(3);
    world.run(&world.route()).expect("a run");
    world.pass(60);
    world.edit(&world.source, "orchard-0000.ics", "SUMMARY:", "SUMMARY:Changed ");
    let run = world.run(&world.route()).expect("a run").run.expect("its number");
    let store = world.store();
    let changes = store.changes(run).expect("read");
    let again = store
        .write(|writer| {
            let again = writer.begin_run("presses-to-board", world_now(&world), RunKind::Sync)?;
            for change in changes {
                writer.add_change(again, &Change { before: None, ..change })?;
            }
            Ok(again)
        })
        .expect("written");
    let what = ToUndo { runs: vec![again], only: Vec::new(), is_retired: false };
    world.pass(60);
    let (plan, _) = world.undo(&world.route(), &what).expect("a plan");
    assert_eq!((plan.undone.len(), plan.left.len()), (0, 1), "{plan:?}");
    assert_eq!(plan.left[0].why, WhyLeft::NotKnown);
    assert_eq!(world.entries(&world.target).len(), 3);
}

#[test]
fn what_changed_since_it_was_listed_is_left() {
    let world = World::new(3);
    world.sync();
    let end = world.route_at(&world.target);
    let hrefs: BTreeSet<ObjectHref> =
        world.snapshot(&end).expect("a look").into_iter().map(|(href, _)| href).collect();
    let name = hrefs.iter().next().expect("a copy").as_str().rsplit('/').next().expect("a name").to_owned();
    let what = ToRestore { entries: Vec::new(), goes: Goes::These(hrefs) };
    let (store, options) = (world.store(), RunOptions::at(world_now(&world)));
    let plan = block_on(plan_restore(&end, &store, &options, &Silent, &what)).expect("a plan");
    assert_eq!(plan.undone.len(), 3);
    // While a person reads the list, somebody makes one of them their own.
    world.edit(&world.target, &name, "SUMMARY:", "SUMMARY:Mine: ");
    block_on(restore(&end, &store, &options, &Silent, &what, &plan)).expect("done");
    let left = titles(&world.target);
    assert!(left.len() == 1 && left[0].starts_with("Mine: "), "{left:?}");
}

fn world_now(world: &World) -> jiff::Timestamp {
    jiff::Timestamp::from_second(world.now()).expect("a moment")
}

/// A run that took another back is taken back together with a later one: that is not as it was before either of them.
#[test]
fn what_is_taken_back_with_more_than_an_undo_stays_so() {
    let world = World::new(0);
    world.write(&world.source, "crates.ics", &event("crates", "A", 8));
    world.sync_two_way();
    let change = |from: &str, to: &str| {
        world.edit(&world.target, "crates.ics", &format!("SUMMARY:{from}"), &format!("SUMMARY:{to}"));
        world.pass(60);
        world.sync_two_way().run.expect("its number")
    };
    let undo = |runs: &[RunId]| {
        world.pass(60);
        let what = ToUndo { runs: runs.to_vec(), only: Vec::new(), is_retired: false };
        let (plan, report) = world.undo(&world.two_way(), &what).expect("a plan");
        assert_eq!(plan.undone.len(), 1, "{plan:?}");
        report.and_then(|report| report.run).expect("its number")
    };
    let taken_back = undo(&[change("A", "B")]);
    undo(&[change("B", "C"), taken_back]);
    let summary = world.sync_two_way().summary;
    assert_eq!((summary.writes, summary.left_out.get("undone")), (0, Some(&1)), "{summary:?}");
    assert_eq!((titles(&world.source), titles(&world.target)), (vec!["B".to_owned()], vec!["C".to_owned()]));
}

/// What a person has put back after a run was taken back stands as they want it, until its source changes.
#[test]
fn what_is_restored_after_a_run_was_taken_back_stays() {
    for is_two_way in [false, true] {
        let mut world = World::new(3);
        world.shape_two_way = Rc::new(|rule: &mut Rule| rule.kinds = chestnut_core::Kinds::all());
        let rule = || if is_two_way { world.two_way() } else { world.route() };
        let run = world.run(&rule()).expect("a run").run.expect("its number");
        let end = world.route_at(&world.target);
        let kept = write_snapshot(&end.name, &world.snapshot(&end).expect("a look"));
        world.pass(60);
        let what = ToUndo { runs: vec![run], only: Vec::new(), is_retired: false };
        world.undo(&rule(), &what).expect("done");
        assert_eq!(world.entries(&world.target).len(), 0);
        world.pass(60);
        let entries = read_snapshot(kept.as_bytes()).expect("a snapshot").entries;
        world.restore(&end, &ToRestore { entries, goes: Goes::Nothing }).expect("done");
        let store = world.store();
        let route = store.route(&rule().name).expect("read").expect("a route");
        store.write(|writer| writer.set_paused(route.id, false)).expect("written");
        let sync = || {
            world.pass(60);
            world.run(&rule()).expect("a run").summary
        };
        for _ in 0..2 {
            let summary = sync();
            assert_eq!(
                (summary.writes, summary.held, world.entries(&world.target).len()),
                (0, 0, 3),
                "{summary:?}"
            );
        }
        world.edit(&world.source, "orchard-0000.ics", "SUMMARY:", "SUMMARY:Changed ");
        assert_eq!(sync().calendars["target"].updated, 1);
        world.delete(&world.source, "orchard-0001.ics");
        assert_eq!(sync().calendars["target"].deleted, 1);
    }
}
