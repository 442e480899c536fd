//! What once lost, doubled, leaked or passed over something: one test for each, by number.

use std::collections::BTreeSet;
use std::rc::Rc;

use chestnut_core::{Carry, Detail, Details, FarEdits, Matches, Reach, Shows, Window};
use chestnut_engine::{Makes, Rule, RunReport};
use chestnut_standin::{Fault, FaultKind, Habit};
use chestnut_store::{ChangeAction, RunResult};
use chestnut_testkit::{End, World, text_of, titles};

const DAY: i64 = 86_400;

fn press(uid: &str, title: &str, more: &str) -> String {
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20261001T060000Z\r\n\
         DTSTART:20261101T080000Z\r\nDTEND:20261101T090000Z\r\nSUMMARY:{title}\r\n{more}END:VEVENT\r\nEND:VCALENDAR\r\n"
    )
}

fn status(code: u16) -> FaultKind {
    FaultKind::Status { code, retry_after: None }
}

fn fault(end: &End, fault: Fault) {
    end.server.borrow_mut().faults.push(fault);
}

fn texts(end: &End) -> String {
    end.server.borrow().texts(&end.path).into_values().collect::<String>().replace("\r\n ", "")
}

pub(crate) fn details(taken: &[Detail]) -> Carry {
    let details = Details { taken: taken.iter().copied().collect(), ..Details::default() };
    Carry { shows: Shows::Details(Box::new(details)), ..Carry::default() }
}

/// A two-way world with the same three entries on both sides, in step.
fn alike() -> World {
    let world = World::new(0);
    for number in 0..3 {
        world.write(
            &world.source,
            &format!("p{number}.ics"),
            &press(&format!("p{number}"), &format!("T{number}"), ""),
        );
    }
    world.sync_two_way();
    world.pass(60);
    world
}

fn settle(world: &World, two_way: bool) -> RunReport {
    let mut last = None;
    for _ in 0..2 {
        world.pass(7200);
        last = Some(if two_way { world.sync_two_way() } else { world.sync() });
    }
    last.expect("a run")
}

/// 1: an entry is edited in one calendar while the other's cannot be read.
#[test]
fn an_edit_stands_that_was_made_while_the_other_side_could_not_be_read() {
    for (edited, other) in [(0, 1), (1, 0)] {
        let world = alike();
        let sides = world.sides();
        let (name, own) = text_of(sides[other], "UID:p1\r\n");
        world.write(sides[other], &name, &own.replace("END:VEVENT", "LOCATION:Own\r\nEND:VEVENT"));
        fault(sides[other], Fault::always("GET", status(500)));
        let (name, _) = text_of(sides[edited], "UID:p1\r\n");
        world.edit(sides[edited], &name, "SUMMARY:T1", "SUMMARY:New");
        world.sync_two_way();
        sides[other].server.borrow_mut().faults.clear();
        settle(&world, true);
        for side in sides {
            let (_, text) = text_of(side, "UID:p1\r\n");
            assert!(text.contains("SUMMARY:New") && text.contains("LOCATION:Own"), "{text}");
        }
    }
}

/// 2: a condition that fails, or a calendar that is not found, though nothing is wrong.
#[test]
fn a_write_refused_in_passing_arrives_and_one_refused_for_long_is_told() {
    for (code, is_new, two_way) in [412, 404, 403, 409, 507]
        .into_iter()
        .flat_map(|code| [(code, false), (code, true)])
        .flat_map(|(code, is_new)| [(code, is_new, false), (code, is_new, true)])
    {
        let world = World::new(4);
        let sync = || if two_way { world.sync_two_way() } else { world.sync() };
        sync();
        world.pass(60);
        match is_new {
            true => world.write(&world.source, "new.ics", &press("new", "News", "")),
            false => world.edit(&world.source, "orchard-0000.ics", "SUMMARY:", "SUMMARY:News "),
        }
        let what = format!("{code}, new: {is_new}, two-way: {two_way}");
        fault(&world.target, Fault { times: 3, ..Fault::always("PUT", status(code)) });
        sync();
        let arrived = |world: &World| texts(&world.target).contains("SUMMARY:News");
        let store = world.store();
        let route =
            store.route(if two_way { "crews" } else { "presses-to-board" }).expect("read").expect("a route");
        assert_eq!(store.troubles(route.id).expect("read").len(), usize::from(!arrived(&world)), "{what}");
        world.target.server.borrow_mut().faults.clear();
        for _ in 0..3 {
            world.pass(DAY);
            sync();
        }
        assert!(arrived(&world), "{what}");
        assert!(store.troubles(route.id).expect("read").is_empty(), "{what}");
    }
}

/// 3: another client edits what was just written, before it is read back.
#[test]
fn an_edit_between_write_and_reading_back_is_nobody_elses_doing() {
    for (two_way, far_edits) in
        [(true, FarEdits::Correct), (false, FarEdits::Correct), (false, FarEdits::Leave)]
    {
        let mut world = alike();
        world.far_edits = far_edits;
        if !two_way {
            world.target.server.borrow_mut().collections.values_mut().for_each(|c| c.objects.clear());
            world.sync();
            world.pass(60);
        }
        world.edit(&world.source, "p1.ics", "SUMMARY:T1", "SUMMARY:New");
        let (server, path) = (Rc::clone(&world.target.server), world.target.path.clone());
        world.meanwhile("PUT", 1, move || {
            let mut server = server.borrow_mut();
            let texts = server.texts(&path);
            let (name, text) = texts.iter().find(|(_, text)| text.contains("SUMMARY:New")).expect("written");
            server.store_raw(&path, name, text.replace("T080000Z", "T083000Z"));
        });
        if two_way {
            drop(world.sync_two_way())
        } else {
            drop(world.sync())
        }
        settle(&world, two_way);
        let far = texts(&world.target);
        assert!(far.contains("SUMMARY:New"), "{far}");
        let stays = two_way || far_edits == FarEdits::Leave;
        assert_eq!(far.contains("T083000Z"), stays, "two-way: {two_way}, {far_edits:?}");
        assert_eq!(texts(&world.source).contains("T083000Z"), two_way);
    }
}

/// 4: a server turns floating times into instants, and the program is killed at any moment.
#[test]
fn what_a_server_makes_of_a_text_never_comes_back_as_an_edit() {
    let floating = press("float", "Press", "GEO:46.05;14.51\r\n").replace("0000Z", "0000");
    let mut kills = 0;
    for (arrives, loses) in [(false, false), (true, false), (false, true)] {
        for step in 0.. {
            let world = World::new(0);
            world.habit(&world.target, Habit::FloatingToUtc);
            world.write(&world.source, "float.ics", &floating);
            world.kill_at(Some(step), arrives);
            drop(world.try_sync_two_way());
            let was_killed = world.was_killed();
            world.kill_at(None, false);
            if loses {
                world.lose_state();
            }
            settle(&world, true);
            assert_eq!(
                world.source.server.borrow().texts(&world.source.path)["float.ics"],
                floating,
                "at {step}"
            );
            assert_eq!(world.entries(&world.target).len(), 1, "at {step}");
            kills += 1;
            if !was_killed {
                break;
            }
        }
    }
    assert!(kills > 30, "{kills}");
}

/// 5: what a two-way route carries is made more.
#[test]
fn a_wider_route_wipes_nothing() {
    let mut world = World::new(0);
    world.write(&world.source, "p1.ics", &press("p1", "T1", "LOCATION:Hall\r\n"));
    world.write(&world.target, "p1.ics", &press("p1", "T1", "DESCRIPTION:Notes\r\n"));
    world.shape_two_way = Rc::new(|rule: &mut Rule| rule.carry = details(&[Detail::Title]));
    settle(&world, true);
    assert!(!texts(&world.target).contains("Hall"));
    world.shape_two_way = Rc::new(|_| {});
    settle(&world, true);
    for end in world.sides() {
        let all = texts(end);
        assert!(all.contains("LOCATION:Hall") && all.contains("DESCRIPTION:Notes"), "{all}");
    }
    assert_eq!(settle(&world, true).summary.writes, 0);
}

/// 7: a refusal for good is told until the entry changes, and not sent again.
#[test]
fn a_refusal_for_good_is_told_and_not_repeated() {
    for two_way in [false, true] {
        let world = World::new(3);
        let sync = || if two_way { world.sync_two_way() } else { world.sync() };
        sync();
        world.edit(&world.source, "orchard-0000.ics", "SUMMARY:", "SUMMARY:News ");
        fault(&world.target, Fault::always("PUT", status(413)));
        for round in 0..3 {
            world.pass(DAY);
            let report = sync();
            assert_eq!(report.summary.writes > 0, round == 0, "{:?}", report.summary);
            let store = world.store();
            let route = store.route(&report.route).expect("read").expect("a route").id;
            assert_eq!(store.troubles(route).expect("read").len(), 1);
        }
        world.target.server.borrow_mut().faults.clear();
        world.edit(&world.source, "orchard-0000.ics", "SUMMARY:", "SUMMARY:More ");
        assert_eq!(settle(&world, two_way).result, RunResult::Ok);
        assert!(texts(&world.target).contains("SUMMARY:More News"));
    }
}

/// 8: the far owner's own entries, alike or under the same UID.
#[test]
fn what_was_there_before_is_followed_and_never_owned() {
    const OWN: &str =
        "DESCRIPTION:my own notes\r\nBEGIN:VALARM\r\nACTION:DISPLAY\r\nTRIGGER:-PT5M\r\nEND:VALARM\r\n";
    for (uid, carry) in [
        ("p1", Carry::default()),
        ("mine", Carry::default()),
        ("p1", details(&[Detail::Title])),
        ("p1", Carry { shows: Shows::Busy("T1".into()), ..Carry::default() }),
        ("mine", Carry { shows: Shows::Busy("T1".into()), ..Carry::default() }),
    ] {
        for retires in [false, true] {
            let mut world = World::new(0);
            let own = carry.clone();
            world.shape = Rc::new(move |rule: &mut Rule| rule.carry = own.clone());
            world.write(&world.source, "p1.ics", &press("p1", "T1", "LOCATION:Town\r\n"));
            (2..6).for_each(|n| {
                world.write(
                    &world.source,
                    &format!("p{n}.ics"),
                    &press(&format!("p{n}"), &format!("T{n}"), ""),
                );
            });
            world.write(&world.target, "own.ics", &press(uid, "T1", OWN));
            settle(&world, false);
            let stands = |world: &World| {
                let text = world.target.server.borrow().texts(&world.target.path)["own.ics"].clone();
                text.contains("my own notes") && text.contains("TRIGGER:-PT5M") && text.contains(uid)
            };
            assert!(stands(&world), "{uid} {carry:?}");
            if retires {
                world.retire().expect("retired");
                assert_eq!(world.entries(&world.target).len(), 1, "{uid} {carry:?}");
            } else {
                world.delete(&world.source, "p1.ics");
                settle(&world, false);
            }
            assert!(stands(&world), "{uid} {carry:?}, retired: {retires}");
        }
    }
    // Only where the route says so they become copies.
    let mut world = World::new(0);
    world.shape = Rc::new(|rule: &mut Rule| rule.matches = Matches::Own);
    for (n, end) in [&world.source, &world.target].into_iter().enumerate() {
        (0..4).for_each(|p| {
            world.write(end, &format!("{n}-{p}.ics"), &press(&format!("p{p}"), &format!("T{p}"), ""))
        });
    }
    settle(&world, false);
    world.delete(&world.source, "0-1.ics");
    settle(&world, false);
    assert_eq!(titles(&world.target), ["T0", "T2", "T3"]);
}

/// 9: history and numbers outlive a route.
#[test]
fn a_retired_route_leaves_its_history() {
    let world = World::new(3);
    let first = world.sync().run.expect("a run");
    assert_eq!(world.retire().expect("retired"), 3);
    assert!(world.entries(&world.target).is_empty());
    let runs = world.store().runs(Some("presses-to-board"), 9).expect("read");
    assert!(runs.len() >= 2 && world.sync().run.expect("a run") > runs[0].id && runs[0].id > first);
}

/// 10: single occurrences and blocks follow their entries one by one.
#[test]
fn made_copies_keep_what_cannot_be_told_and_change_one_by_one() {
    for makes in [Makes::Occurrences, Makes::Blocks] {
        let mut world = World::new(0);
        world.shape = Rc::new(move |rule: &mut Rule| {
            rule.makes = makes;
            rule.window = Window { past: Reach::Days(7), ahead: Reach::Days(60) };
            rule.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
        });
        let series = |hour: u32| {
            let text = press("series", "Pressing", "RRULE:FREQ=DAILY;COUNT=5\r\n");
            text.replace("T080000Z", &format!("T{hour:02}0000Z"))
                .replace("T090000Z", &format!("T{:02}0000Z", hour + 1))
        };
        world.write(&world.source, "series.ics", &series(8));
        for n in 0..9 {
            let text =
                press(&format!("p{n}"), "One", "").replace("20261101", &format!("2026100{}", n % 9 + 1));
            world.write(&world.source, &format!("p{n}.ics"), &text);
        }
        let starts = |world: &World| -> BTreeSet<String> {
            let entries = world.entries(&world.target);
            entries.iter().filter_map(|e| e.main_component().value("DTSTART").map(str::to_owned)).collect()
        };
        settle(&world, false);
        let before = starts(&world);
        assert!(before.len() >= 10, "{before:?}");
        // It cannot be read, or its zone is not known: its copies stay.
        for broken in
            ["BEGIN:VCALENDAR\r\n".to_owned(), series(8).replace("DTSTART:", "DTSTART;TZID=Nowhere:")]
        {
            world.write(&world.source, "series.ics", &broken);
            settle(&world, false);
            assert_eq!(starts(&world), before, "{makes:?}");
        }
        // A series moved by some hours is no deletion.
        world.write(&world.source, "series.ics", &series(14));
        world.pass(60);
        let report = world.sync();
        let counts = report.summary.calendars["target"];
        assert_eq!(
            (counts.created, counts.updated, counts.deleted, report.summary.held),
            (0, 5, 0, 0),
            "{makes:?}"
        );
        assert_eq!(starts(&world).difference(&before).count(), 5);
        assert_eq!(settle(&world, false).summary.writes, 0);
    }
}

/// 11: UIDs that are exchanged, and one UID for many.
#[test]
fn entries_under_other_uids_are_still_these_entries() {
    for two_way in [false, true] {
        let world = World::new(0);
        let sync = || if two_way { world.sync_two_way() } else { world.sync() };
        let put = |n: usize, uid: &str| {
            world.write(&world.source, &format!("p{n}.ics"), &press(uid, &format!("T{n}"), ""))
        };
        (0..30).for_each(|n| put(n, &format!("p{n}")));
        sync();
        world.pass(60);
        (0..3).for_each(|n| put(n, &format!("p{}", (n + 1) % 3)));
        sync();
        settle(&world, two_way);
        assert_eq!(titles(&world.target), titles(&world.source), "exchanged, two-way: {two_way}");
        (4..8).for_each(|n| put(n, "the same"));
        settle(&world, two_way);
        assert_eq!(titles(&world.target).len(), 30, "one UID, two-way: {two_way}");
        assert_eq!(titles(&world.target), titles(&world.source));
    }
}

/// 12: the state is lost, and the key too.
#[test]
fn copies_without_a_source_are_found_after_a_lost_state() {
    let mut world = World::new(8);
    world.sync();
    world.lose_state();
    world.delete(&world.source, "orchard-0001.ics");
    let report = settle(&world, false);
    assert_eq!((world.differences(), report.result), (Vec::new(), RunResult::Ok));
    world.lose_state();
    world.shape = Rc::new(|rule: &mut Rule| {
        rule.key = chestnut_core::RouteKey::new(b"another key", "presses-to-board");
        rule.known_tags = std::rc::Rc::new([rule.key.tag().clone()]);
    });
    let report = world.sync();
    assert_eq!((report.summary.writes, report.summary.linked), (0, 7), "{:?}", report.changes);
    world.delete(&world.source, "orchard-0002.ics");
    settle(&world, false);
    assert_eq!(world.entries(&world.target).len(), 7, "of an unknown route nothing is deleted");
}

/// 13: one run under a clock a year ahead; and some more, where a server only has a ctag.
#[test]
fn a_wrong_clock_deletes_nothing_and_heals() {
    heals_from_a_wrong_clock(&[]);
    heals_from_a_wrong_clock(&[Habit::NoSync]);
}

fn heals_from_a_wrong_clock(habits: &[Habit]) {
    let mut world = World::new(0);
    for server in [&world.source, &world.target] {
        server.server.borrow_mut().habits.extend(habits);
    }
    world.shape = Rc::new(|rule: &mut Rule| {
        rule.window = Window { past: Reach::Days(7), ahead: Reach::Days(60) };
        rule.past_copies = chestnut_core::PastCopies::Remove;
    });
    (0..6).for_each(|n| world.write(&world.source, &format!("p{n}.ics"), &press(&format!("p{n}"), "T", "")));
    world.sync();
    let runs = world.store().runs(None, 99).expect("read").len();
    world.ahead.set(366 * DAY);
    let previewed = world.preview();
    assert!(previewed.clocks_apart.is_some() && previewed.changes.is_empty(), "{previewed:?}");
    // The first looks at all there is; the next asks for the cheapest word that nothing changed.
    for _ in 0..3 {
        world.pass(60);
        let report = world.sync();
        assert!(report.summary.clocks_apart.is_some() && report.result == RunResult::Failed);
        assert_eq!(world.entries(&world.target).len(), 6);
    }
    assert_eq!(
        world.store().runs(None, 99).expect("read").len(),
        runs + 3,
        "nothing of the history is pruned"
    );
    world.ahead.set(0);
    world.write(&world.source, "new.ics", &press("new", "New", ""));
    world.delete(&world.source, "p0.ics");
    world.pass(60);
    assert_eq!(world.sync().result, RunResult::Ok);
    assert_eq!(titles(&world.target), titles(&world.source));
}

/// 14: a narrower rule is owed to every copy until it is done for each.
#[test]
fn nothing_private_is_left_however_a_route_was_narrowed() {
    const PRIVATE: &str = "LOCATION:Secret hall\r\nDESCRIPTION:Secret notes\r\nX-NOTE:secret\r\n";
    for how in ["cut off", "lost", "retired"] {
        let mut world = World::new(0);
        (0..4).for_each(|n| {
            world.write(&world.source, &format!("p{n}.ics"), &press(&format!("p{n}"), "T", PRIVATE))
        });
        world.sync();
        match how {
            "lost" => world.lose_state(),
            "retired" => {
                let store = world.store();
                let id = store.route("presses-to-board").expect("read").expect("a route").id;
                store.write(|writer| writer.forget_route(id)).expect("forgotten");
            }
            _ => fault(&world.target, Fault { after: 1, ..Fault::always("PUT", status(503)) }),
        }
        world.shape = Rc::new(|rule: &mut Rule| {
            rule.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() }
        });
        world.sync();
        world.target.server.borrow_mut().faults.clear();
        settle(&world, false);
        let far = texts(&world.target);
        assert!(!far.to_lowercase().contains("secret"), "{how}: {far}");
        assert_eq!(world.entries(&world.target).len(), 4, "{how}");
    }
}

/// 16: an answer to a deletion that was not carried out.
#[test]
fn a_deletion_that_was_not_carried_out_is_told() {
    let lie = FaultKind::Body { code: 204, content_type: "text/plain".into(), text: String::new() };
    let world = World::new(6);
    world.sync();
    world.delete(&world.source, "orchard-0001.ics");
    fault(&world.target, Fault::once("DELETE", lie));
    let report = world.sync();
    assert!(report.changes.iter().any(|c| c.action == ChangeAction::Failed), "{:?}", report.changes);
    settle(&world, false);
    assert_eq!(world.differences(), Vec::<String>::new());
}

/// A deletion loses to an edit, also where the edit went on to a third calendar first, and coming back was refused.
#[test]
fn a_deletion_that_lost_does_not_win_later() {
    let mut world = World::new(0);
    world.between = 3;
    world.write(&world.source, "p1.ics", &press("p1", "T1", ""));
    world.sync_two_way();
    world.pass(60);
    let [source, target, third] = world.sides()[..] else { panic!("three") };
    let (name, _) = text_of(third, "UID:p1\r\n");
    world.edit(third, &name, "SUMMARY:T1", "SUMMARY:New");
    let (name, _) = text_of(target, "UID:p1\r\n");
    world.delete(target, &name);
    fault(target, Fault::once("PUT", status(507)));
    world.sync_two_way();
    assert!(texts(source).contains("SUMMARY:New"), "it went on");
    settle(&world, true);
    for side in [source, target, third] {
        assert!(texts(side).contains("SUMMARY:New"));
    }
}

/// 12, 14: the rule is narrowed and the state lost at once: the route's own copies go, and nothing of anybody else's.
#[test]
fn a_narrower_rule_over_a_lost_state_takes_back_its_copies_alone() {
    let mut world = World::new(0);
    world.allow_deletions = true;
    let private = |n: usize| press(&format!("p{n}"), &format!("Secret {n}"), "CLASS:PRIVATE\r\n");
    (0..4).for_each(|n| world.write(&world.source, &format!("p{n}.ics"), &private(n)));
    world.sync();
    // The same entry came to the far owner by another way, and was never carried.
    world.write(&world.source, "p7.ics", &private(7));
    world.write(&world.target, "own.ics", &press("p7", "Secret 7", "X-OWN:ladder\r\n"));
    world.lose_state();
    world.shape = Rc::new(|rule: &mut Rule| {
        rule.choice.skip = vec![chestnut_core::Test::Private(true)];
        rule.matches = Matches::Own;
    });
    let previewed = world.preview();
    assert_eq!(previewed.changes.iter().filter(|change| change.action == "delete").count(), 4);
    let report = world.sync();
    assert_eq!(titles(&world.target), ["Secret 7"], "{:?}", report.changes);
    assert_eq!(report.summary.left_out["skip.private"], 5);
    assert_eq!(previewed.left_out.len(), 5, "{previewed:?}");
}

/// 14: entries that became copies are copies: what a narrower rule does not carry, goes from them too.
#[test]
fn entries_that_became_copies_keep_nothing_that_may_not_be_shown() {
    let mut world = World::new(0);
    world.write(&world.source, "p.ics", &press("p", "Fair", "LOCATION:Secret hall\r\n"));
    world.write(&world.target, "own.ics", &press("p", "Fair", ""));
    world.shape = Rc::new(|rule: &mut Rule| rule.matches = Matches::Own);
    world.sync();
    assert!(texts(&world.target).contains("Secret hall"));
    world.shape = Rc::new(|rule: &mut Rule| {
        rule.matches = Matches::Own;
        rule.carry = Carry { shows: Shows::Busy("Busy".into()), ..Carry::default() };
    });
    world.pass(60);
    world.sync();
    assert_eq!(titles(&world.target), ["Busy"]);
    assert!(!texts(&world.target).contains("Secret"), "{}", texts(&world.target));
}

/// 2, 9: what was written over is in the history, also where the answer was lost, and where it was done twice.
#[test]
fn what_is_written_over_is_kept_whatever_happens_meanwhile() {
    let kept = |world: &World| -> String {
        let store = world.store();
        let runs = store.runs(None, 99).expect("read");
        let changes = runs.iter().flat_map(|run| store.changes(run.id).expect("read"));
        changes.filter_map(|change| change.before).map(|text| text.text).collect()
    };
    let world = World::new(0);
    world.write(&world.source, "p.ics", &press("p", "First", ""));
    world.sync();
    world.pass(60);
    world.edit(&world.source, "p.ics", "SUMMARY:First", "SUMMARY:Second");
    fault(&world.target, Fault::once("PUT", FaultKind::LoseAnswer));
    let report = world.sync();
    assert_eq!(report.summary.calendars["target"].updated, 1, "{:?}", report.changes);
    assert!(kept(&world).contains("SUMMARY:First"), "its answer was lost");
    // Three calendars; the last to be written is edited while it is.
    let mut world = World::new(0);
    world.between = 3;
    world.write(&world.source, "p.ics", &press("p", "First", ""));
    world.sync_two_way();
    world.pass(60);
    world.edit(&world.third, "p.ics", "SUMMARY:First", "SUMMARY:Second");
    let (server, path) = (Rc::clone(&world.third.server), world.third.path.clone());
    world.meanwhile("PUT", 1, move || {
        let mut server = server.borrow_mut();
        let text = server.texts(&path).remove("p.ics").expect("it stands there");
        server.store_raw(&path, "p.ics", text.replace("SUMMARY:Second", "SUMMARY:Third"));
    });
    settle(&world, true);
    assert_eq!([&world.source, &world.target, &world.third].map(titles), [["Third"], ["Third"], ["Third"]]);
    assert!(kept(&world).contains("SUMMARY:First"), "it was written twice");
}

/// 1: what was written counts, also where the other side cannot be read in the middle of it.
#[test]
fn a_word_that_counted_counts_when_the_other_side_fails_meanwhile() {
    let world = World::new(0);
    world.habit(&world.source, Habit::NoSyncNoCtag);
    world.write(
        &world.target,
        "p.ics",
        &press("p", "Old", "LOCATION:Town\r\nLAST-MODIFIED:20261001T060000Z\r\n"),
    );
    world.write(&world.source, "p.ics", &press("p", "New", "LAST-MODIFIED:20261001T070000Z\r\n"));
    let page = FaultKind::Body { code: 200, content_type: "text/html".into(), text: "<html>".into() };
    fault(&world.target, Fault::once("GET", page));
    settle(&world, true);
    settle(&world, true);
    assert_eq!([titles(&world.source), titles(&world.target)], [["New"], ["New"]]);
    assert!(texts(&world.source).contains("Town"));
}

/// 10: a copy that the route took away is made anew when its source is wanted again.
#[test]
fn what_the_route_took_away_comes_back_with_its_source() {
    let mut world = World::new(0);
    world.allow_deletions = true;
    world.far_edits = FarEdits::Leave;
    world.shape = Rc::new(|rule: &mut Rule| {
        rule.carry = Carry { shows: Shows::Busy("Busy".into()), ..Carry::default() };
        rule.choice.skip = vec![chestnut_core::Test::Private(true)];
    });
    (0..4).for_each(|n| world.write(&world.source, &format!("p{n}.ics"), &press(&format!("p{n}"), "T", "")));
    world.sync();
    world.edit(&world.source, "p1.ics", "SUMMARY:T", "CLASS:PRIVATE\r\nSUMMARY:T");
    world.pass(60);
    // The look after the deletion fails: only the next run sees that it is gone.
    fault(&world.target, Fault { after: 1, ..Fault::once("REPORT", status(500)) });
    world.sync();
    settle(&world, false);
    assert_eq!(titles(&world.target).len(), 3);
    world.edit(&world.source, "p1.ics", "CLASS:PRIVATE\r\n", "");
    settle(&world, false);
    assert_eq!(titles(&world.target).len(), 4);
}

/// A preview under a changed rule takes nothing away from the run after it.
#[test]
fn a_preview_after_a_change_of_the_rule_changes_nothing_for_the_run() {
    let mut world = World::new(3);
    world.allow_deletions = true;
    world.write(&world.target, "own.ics", &press("own", "Somebody's", ""));
    world.sync();
    world.shape = Rc::new(|rule: &mut Rule| rule.strangers = chestnut_core::Strangers::Remove);
    world.pass(60);
    let said = world.preview();
    assert_eq!(said.changes.iter().filter(|change| change.action == "delete").count(), 1, "{said:?}");
    let done = world.sync();
    assert_eq!(done.summary.calendars["target"].deleted, 1, "{:?}", done.changes);
}

/// A write that a killed run was about to send never arrived, and somebody edits what still stands there: what the other
/// calendar said is no part of what is agreed.
#[test]
fn a_write_that_never_arrived_is_not_taken_for_done_because_of_an_edit() {
    for steps in 1..60 {
        let world = World::new(3);
        world.sync_two_way();
        let (there, text) = text_of(&world.target, "orchard-0001@");
        let title =
            text.split("SUMMARY:").nth(1).and_then(|rest| rest.lines().next()).expect("a title").to_owned();
        world.edit(&world.target, &there, &format!("SUMMARY:{title}"), "SUMMARY:From the board");
        world.pass(60);
        world.kill_at(Some(steps), false);
        let was_killed = world.try_sync_two_way().is_err() || world.was_killed();
        world.kill_at(None, false);
        world.edit(&world.source, "orchard-0001.ics", "END:VEVENT", "X-CRATES:12\r\nEND:VEVENT");
        world.pass(60);
        world.sync_two_way();
        for end in [&world.source, &world.target] {
            let (_, text) = text_of(end, "orchard-0001@");
            assert!(text.contains("From the board") && text.contains("X-CRATES:12"), "{steps}: {text}");
        }
        if !was_killed {
            return;
        }
    }
    panic!("every run was killed");
}

/// Of a text that is agreed already more is carried from now on: who did not get that is owed it, whatever stopped the run.
#[test]
fn what_is_carried_from_now_on_reaches_everybody() {
    let all = Detail::ALL.into_iter();
    let fewer: Vec<_> = all.clone().filter(|detail| *detail != Detail::Location).collect();
    let carrying = |world: &mut World, taken: Vec<Detail>| {
        world.shape_two_way = Rc::new(move |rule: &mut Rule| rule.carry = details(&taken));
    };
    let prepared = || {
        let mut world = World::new(0);
        world.between = 3;
        carrying(&mut world, fewer.clone());
        world.write(&world.source, "p1.ics", &press("p1", "T1", "LOCATION:Hall\r\n"));
        world.sync_two_way();
        // All that the source says is what is agreed then.
        world.lose_state();
        world.sync_two_way();
        assert_eq!(world.sides().iter().filter(|side| texts(side).contains("Hall")).count(), 1);
        carrying(&mut world, all.clone().collect());
        world.pass(60);
        world
    };
    let arrives = |world: &World, what: &str| {
        settle(world, true);
        for side in world.sides() {
            assert!(texts(side).contains("LOCATION:Hall"), "{what}: {side:?}");
        }
    };
    for side in [1, 2] {
        let world = prepared();
        fault(world.sides()[side], Fault::once("PUT", status(507)));
        world.sync_two_way();
        arrives(&world, &format!("{side} was full"));
    }
    for step in 0.. {
        let world = prepared();
        world.kill_at(Some(step), true);
        drop(world.try_sync_two_way());
        let was_killed = world.was_killed();
        world.kill_at(None, false);
        arrives(&world, &format!("killed at {step}"));
        if !was_killed {
            assert!(step > 10, "{step}");
            break;
        }
    }
}
