//! A route is taken out and leaves its copies; then another begins under its name, another way, or between other calendars.
//! The same after a lost state, when nobody knows which way the last one went.

use std::collections::BTreeSet;
use std::rc::Rc;

use chestnut_core::{Carry, Deletions, Detail, Reach, Shows, Strangers, Window};
use chestnut_engine::{Cause, Finding, Rule, RunError, RunOptions, Silent, run_route};
use chestnut_standin::{Fault, FaultKind, Habit};
use chestnut_testkit::{End, World, block_on, titles};

use crate::dice::{Dice, live, run_some_histories};
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
            let compared = world.compare_of(&rule).expect(&at);
            let is_told =
                |finding: &Finding| finding.cause == Cause::LeftOut { key: "copy-of-another-route".into() };
            let told =
                compared.findings.iter().chain(&compared.beside).filter(|finding| is_told(finding)).count();
            let expected = if from_elsewhere { 4 } else { 1 };
            assert!(
                told == expected && compared.findings.iter().all(is_told),
                "{at}, round {round}: {compared:#?}"
            );
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
fn where_nothing_but_copies_may_stand_what_was_left_goes() {
    let mut world = world(&Carry::default());
    retire(&world);
    world.allow_deletions = true;
    let rule = Rule { strangers: Strangers::Remove, ..anew(&world, &world.third, &world.target, false) };
    assert_eq!(world.run(&rule).expect("a run").summary.calendars["target"].deleted, 4);
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

/// One way or both, from here or from elsewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Way {
    From,
    FromElsewhere,
    Both,
}

struct History {
    world: World,
    dice: Dice,
    way: Way,
    values: usize,
    /// The last settling had agreed about everything, and the same route goes on.
    goes_on: bool,
    /// Busy time was shown once, beside what stood there already.
    was_busy: bool,
    log: Vec<String>,
}

impl History {
    fn new(seed: u64) -> Self {
        let mut dice = Dice::new(seed);
        let mut world = World::new(0);
        (world.batch, world.allow_deletions) = (1 + dice.roll(4), dice.once_in(2));
        let habits =
            [Habit::NoSync, Habit::EtagMoves, Habit::AddsDefaults, Habit::NamesItself, Habit::TrimsTexts];
        for end in [&world.source, &world.target] {
            habits.into_iter().filter(|_| dice.once_in(4)).for_each(|habit| world.habit(end, habit));
        }
        let mut history =
            Self { world, dice, way: Way::From, values: 0, goes_on: false, was_busy: false, log: Vec::new() };
        history.turn();
        history
    }

    fn turn(&mut self) {
        self.way = [Way::From, Way::From, Way::Both, Way::Both, Way::FromElsewhere][self.dice.roll(5)];
        let carry = match self.dice.roll(3) {
            0 => Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() },
            1 => details(&[Detail::Title]),
            _ => Carry::default(),
        };
        let carry = if self.way == Way::Both { Carry::default() } else { carry };
        self.log.push(format!("{:?} {:?}", self.way, carry.shows));
        self.was_busy |= matches!(carry.shows, Shows::Busy(_));
        self.world.shape = Rc::new(move |rule: &mut Rule| rule.carry = carry.clone());
        self.goes_on = false;
    }

    fn rule(&self) -> Rule {
        let world = &self.world;
        match self.way {
            Way::From => world.route(),
            Way::Both => anew(world, &world.source, &world.target, true),
            Way::FromElsewhere => {
                let elsewhere = anew(world, &world.third, &world.target, false);
                Rule { ends: elsewhere.ends, ..world.route() }
            }
        }
    }

    /// Somebody changes something in one of the calendars.
    fn live(&mut self) {
        self.world.pass(60);
        self.values += 1;
        let at = self.dice.roll(4).min(2);
        let end = [&self.world.source, &self.world.third, &self.world.target][at];
        let mut texts: Vec<(String, String)> = end.server.borrow().texts(&end.path).into_iter().collect();
        let some = (!texts.is_empty()).then(|| texts.swap_remove(self.dice.roll(texts.len())));
        match (self.dice.roll(4), some) {
            (2, Some((name, _))) => {
                self.world.edit(end, &name, "SUMMARY:", &format!("SUMMARY:v{} ", self.values));
                self.log.push(format!("{end:?}: {name} is v{}", self.values));
            }
            (3, Some((name, _))) => {
                self.world.delete(end, &name);
                self.log.push(format!("{end:?}: {name} goes"));
            }
            // What people write on the far side is written there before a route is turned both ways, too.
            _ => {
                let (uid, title) = (format!("u{}", self.values), format!("v{}", self.values));
                let text =
                    event(&uid, &title).replace("END:VEVENT", &format!("X-FROM:{end:?}\r\nEND:VEVENT"));
                self.world.write(end, &format!("{uid}.ics"), &text);
                self.log.push(format!("{end:?}: {uid} comes"));
            }
        }
    }

    fn round(&mut self) -> Result<(), String> {
        (0..1 + self.dice.roll(5)).for_each(|_| self.live());
        let mut was_lost = false;
        if self.dice.once_in(2) {
            was_lost = self.dice.once_in(3);
            self.log.push(if was_lost { "the state is lost" } else { "the route is taken out" }.to_owned());
            let has_run = self.world.store().route("presses-to-board").expect("read").is_some();
            match was_lost {
                true => self.world.lose_state(),
                false if has_run => retire(&self.world),
                false => {}
            }
            self.turn();
        }
        let before: Vec<String> = all(&self.world).into_iter().map(|(_, text)| text).collect();
        if self.dice.once_in(4) {
            let step = self.dice.roll(40);
            self.world.kill_at(Some(step), self.dice.once_in(2));
            drop(self.world.run(&self.rule()));
            self.world.kill_at(None, false);
            self.log.push(format!("killed at {step}"));
        }
        let mut deleted = 0;
        for round in 0.. {
            self.world.pass(60);
            let report = self.world.run(&self.rule()).map_err(|e| e.to_string())?;
            let changes: Vec<_> = report.changes.iter().map(|c| (c.action, &c.calendar, &c.title)).collect();
            self.log.push(format!("sync: {changes:?}"));
            deleted += report.summary.calendars.values().map(|counts| counts.deleted).sum::<usize>();
            match (report.error, report.summary.writes, round) {
                (Some(error), ..) => return Err(error.to_string()),
                (None, 0, _) => break,
                (None, _, 4) => return Err("it does not come to rest".to_owned()),
                _ => {}
            }
        }
        self.check(&before)?;
        if !self.goes_on && !was_lost && deleted > 0 {
            return Err(format!("{deleted} deleted by a route that begins"));
        }
        self.goes_on = true;
        Ok(())
    }

    fn check(&self, before: &[String]) -> Result<(), String> {
        let plain = |text: &str| text.replace('\r', "");
        let store = self.world.store();
        let runs = store.runs(None, 10_000).expect("the history");
        let changes = runs.iter().flat_map(|run| store.changes(run.id).expect("the history"));
        let kept: BTreeSet<String> = changes.filter_map(|c| c.before).map(|text| plain(&text.text)).collect();
        let after = all(&self.world);
        let now: BTreeSet<String> = after.iter().map(|(_, text)| plain(text)).collect();
        if let Some(lost) = before.iter().map(|t| plain(t)).find(|t| !now.contains(t) && !kept.contains(t)) {
            return Err(format!("not in the history: {lost}"));
        }
        for (end, text) in &after {
            let is_own = text.contains(&format!("X-FROM:{end}\r\n"));
            if is_own && (text.contains("Taken") || !text.contains("Bring crates")) {
                return Err(format!("an original of {end} says less: {text}"));
            }
        }
        if self.way == Way::Both && store.held(None).expect("read").is_empty() {
            let said = |end: &End| titles(end).into_iter().collect::<BTreeSet<_>>();
            let (here, there) = (said(&self.world.source), said(&self.world.target));
            if let Some(missing) = here.difference(&there).next() {
                return Err(format!("{missing} is not there: {there:?}"));
            }
        }
        let mut told = BTreeSet::new();
        let mut all = titles(&self.world.target).into_iter().filter(|title| !title.contains("Taken"));
        match all.find(|title| !told.insert(title.clone())) {
            Some(twice) if !self.was_busy => Err(format!("{twice} stands twice")),
            _ => Ok(()),
        }
    }
}

/// What stands in each of three calendars.
fn all(world: &World) -> Vec<(String, String)> {
    let of = |end: &End| {
        end.server.borrow().texts(&end.path).into_values().map(|text| (format!("{end:?}"), text)).collect()
    };
    [&world.source, &world.target, &world.third].into_iter().flat_map(|end| -> Vec<_> { of(end) }).collect()
}

#[test]
fn no_route_that_begins_anew_takes_anything_away() {
    run_some_histories(6, &[], |seed| live(History::new(seed), 5, History::round, |history| history.log));
}

/// Others wait for the lease while a person takes a route out; what they were to run is not there any more.
#[test]
fn a_run_whose_route_was_taken_out_or_paused_before_its_turn_does_nothing() {
    let world = world(&Carry::default());
    let store = world.store();
    let route = store.route("presses-to-board").expect("read").expect("a route").id;
    let now = jiff::Timestamp::from_second(world.now()).expect("a moment");
    let run = || {
        let options = RunOptions { known: Some(route), ..RunOptions::at(now) };
        block_on(run_route(&world.route(), &store, &options, &Silent)).expect_err("it was withdrawn")
    };
    let withdrawn = |is_paused| RunError::Withdrawn { route: "presses-to-board".to_owned(), is_paused };
    world.write(&world.source, "p9.ics", &event("p9", "Press run 9"));
    store.write(|writer| writer.set_paused(route, true)).expect("paused");
    assert_eq!(run(), withdrawn(true));
    assert_eq!(world.retire().expect("retired"), 4);
    assert_eq!(run(), withdrawn(false));
    assert_eq!(texts(&world.target), Vec::<String>::new());
    assert!(store.route("presses-to-board").expect("read").is_none(), "nothing was begun");
}
