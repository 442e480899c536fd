//! G6: nothing that is written makes a server write to people, unless a person said so: what could, waits for them.

use std::rc::Rc;

use chestnut_core::{Carry, People, Shows, SnapshotEntry, Strangers};
use chestnut_engine::{Goes, Rule, ToRestore, ToUndo, WhyLeft};
use chestnut_standin::Habit;
use chestnut_store::{ChangeAction, HeldItem, Told};
use chestnut_testkit::{End, World, text_of, titles};

use crate::dice::{Dice, Failure, run_some_histories};

/// A meeting: who organises it, who is invited, and what else it says.
fn meeting(uid: &str, title: &str, people: &[&str], more: &str) -> String {
    let line = |(at, who): (usize, &&str)| match at {
        0 => format!("ORGANIZER:mailto:{who}@coop.example\r\n"),
        _ => format!("ATTENDEE;PARTSTAT=NEEDS-ACTION:mailto:{who}@coop.example\r\n"),
    };
    let people: String = people.iter().enumerate().map(line).collect();
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:{uid}\r\n\
         DTSTART:20261012T080000Z\r\nDURATION:PT1H\r\nSUMMARY:{title}\r\n{people}{more}END:VEVENT\r\nEND:VCALENDAR\r\n"
    )
}

/// Two calendars kept alike; the server of the target writes to people for the office.
fn world() -> World {
    let mut world = World::new(0);
    world.allow_deletions = true;
    world.batch = 2;
    world.habit(&world.target, Habit::Schedules);
    world.habit(&world.target, Habit::TellsAddresses);
    world
}

fn sync(world: &World) -> chestnut_engine::RunReport {
    world.pass(60);
    world.sync_two_way()
}

fn outbox(end: &End) -> Vec<String> {
    end.server.borrow().outbox.clone()
}

fn held(world: &World) -> Vec<HeldItem> {
    world.store().held(None).expect("the state is read")
}

fn decide(world: &World, answer: &str) {
    let store = world.store();
    let waiting = held(world).into_iter().filter(|item| item.decision.is_none());
    for item in waiting {
        // Deletions that are held for being many are another question.
        let answer = if item.link.is_some() { answer } else { "keep" };
        store.write(|writer| writer.decide(item.id, answer)).expect("it is written");
    }
}

#[test]
fn a_change_of_a_meeting_waits_for_a_person() {
    let world = world();
    world.write(&world.target, "m.ics", &meeting("m", "Pressing", &["office", "crews"], ""));
    world.write(&world.target, "plain.ics", &meeting("plain", "Van", &[], ""));
    let report = sync(&world);
    assert_eq!(report.summary.partly.get("without-people"), Some(&1), "{:?}", report.summary);
    // What nobody is written to about goes through.
    let (source_m, _) = text_of(&world.source, "Pressing");
    world.edit(&world.source, &source_m, "END:VEVENT", "X-CRATES:12\r\nEND:VEVENT");
    assert_eq!(sync(&world).summary.calendars["target"].updated, 1);
    world.edit(&world.source, &source_m, "Pressing", "Pressing, later");
    world.edit(&world.source, &text_of(&world.source, "Van").0, "Van", "Van to the stalls");
    let preview = world.preview_of(&world.two_way());
    assert_eq!(preview.changes.iter().filter(|change| change.action == "hold").count(), 1);
    let report = sync(&world);
    assert_eq!((report.summary.held, report.summary.held_mail), (1, 1));
    let lines: Vec<_> = report.changes.iter().filter(|c| c.action == ChangeAction::Held).collect();
    assert_eq!(lines.len(), 1);
    assert_eq!(lines[0].told, Some(Told::WouldMail { deletes: false }));
    assert_eq!(titles(&world.target), ["Pressing", "Van to the stalls"], "the rest goes on");
    // It goes on waiting, and asks once.
    assert_eq!((sync(&world).summary.writes, held(&world).len()), (0, 1));
    // A change of the other side is merged, and what waits is the whole.
    world.edit(&world.target, "m.ics", "END:VEVENT", "LOCATION:Hall\r\nEND:VEVENT");
    sync(&world);
    assert!(text_of(&world.source, "later").1.contains("LOCATION:Hall"));
    assert_eq!((titles(&world.target)[0].as_str(), held(&world).len()), ("Pressing", 1));
    decide(&world, "leave");
    let report = sync(&world);
    assert_eq!((report.summary.held, report.summary.left_out.get("would-mail")), (0, Some(&1)));
    assert_eq!((sync(&world).summary.writes, titles(&world.target)[0].as_str()), (0, "Pressing"));
    assert!(outbox(&world.target).is_empty());
    // Another change is another question.
    world.edit(&world.source, &source_m, "later", "earlier");
    assert_eq!(sync(&world).summary.held_mail, 1);
    // The answer counts for what was asked, not for what came on top.
    decide(&world, "send");
    world.edit(&world.source, &source_m, "earlier", "at noon");
    assert_eq!((sync(&world).summary.held_mail, outbox(&world.target).len()), (1, 0));
    decide(&world, "send");
    let report = sync(&world);
    assert_eq!((report.summary.held, report.summary.calendars["target"].updated), (0, 1));
    assert_eq!(titles(&world.target), titles(&world.source));
    assert_eq!(outbox(&world.target), ["REQUEST mailto:crews@coop.example"]);
    assert_eq!(sync(&world).summary.writes, 0);
}

#[test]
fn a_deletion_is_silent_or_waits() {
    let world = world();
    world.write(&world.target, "ours.ics", &meeting("ours", "Ours", &["office", "crews"], ""));
    world.write(&world.target, "theirs.ics", &meeting("theirs", "Theirs", &["crews", "office"], ""));
    sync(&world);
    for title in ["Ours", "Theirs"] {
        world.delete(&world.source, &text_of(&world.source, title).0);
    }
    let report = sync(&world);
    assert_eq!((report.summary.calendars["target"].deleted, report.summary.held_mail), (1, 1));
    assert_eq!((titles(&world.target), outbox(&world.target)), (vec!["Ours".to_owned()], Vec::new()));
    // It is not carried back meanwhile, nor afterwards.
    sync(&world);
    decide(&world, "leave");
    for _ in 0..2 {
        assert_eq!(sync(&world).summary.held, 0);
        assert_eq!((titles(&world.source).len(), titles(&world.target).len()), (0, 1));
    }
    world.write(&world.target, "ours-2.ics", &meeting("ours-2", "Ours too", &["office", "crews"], ""));
    sync(&world);
    world.delete(&world.source, &text_of(&world.source, "Ours too").0);
    sync(&world);
    decide(&world, "send");
    sync(&world);
    assert_eq!(titles(&world.target), ["Ours"]);
    assert_eq!(outbox(&world.target), ["CANCEL mailto:crews@coop.example"]);
}

/// What was deleted on a scheduling server and changed elsewhere comes back without its people; copies to which their
/// owner invited somebody stay, also when the route is taken out.
#[test]
fn what_comes_back_invites_nobody_and_far_meetings_are_left() {
    let world = world();
    world.write(&world.target, "m.ics", &meeting("m", "Pressing", &["office", "crews"], ""));
    sync(&world);
    world.delete(&world.target, "m.ics");
    world.edit(&world.source, &text_of(&world.source, "Pressing").0, "Pressing", "Pressing, later");
    let report = sync(&world);
    assert_eq!(report.summary.partly.get("without-people"), Some(&1), "{:?}", report.summary);
    assert!(!text_of(&world.target, "later").1.contains("ATTENDEE"));
    assert_eq!(outbox(&world.target), Vec::<String>::new());

    let one_way = self::world();
    one_way.add_entries(0..4);
    one_way.sync();
    let (copy, text) =
        one_way.target.server.borrow().texts(&one_way.target.path).pop_first().expect("a copy");
    let invited = "ORGANIZER:mailto:office@coop.example\r\nATTENDEE:mailto:crews@coop.example\r\nEND:VEVENT";
    one_way.edit(&one_way.target, &copy, "END:VEVENT", invited);
    let title = text.split("SUMMARY:").nth(1).and_then(|rest| rest.lines().next()).expect("a title");
    let original = text_of(&one_way.source, &format!("SUMMARY:{title}")).0;
    one_way.edit(&one_way.source, &original, "SUMMARY:", "SUMMARY:Changed ");
    one_way.pass(60);
    let report = one_way.sync();
    assert_eq!(report.summary.held_mail, 1);
    assert_eq!(one_way.retire().expect("it is taken out"), 3);
    assert_eq!((titles(&one_way.target).len(), outbox(&one_way.target).len()), (1, 0));
}

/// People that somebody took out are not people that a route keeps back.
#[test]
fn people_that_were_taken_out_are_not_missed() {
    let world = World::new(0);
    let people = ["office", "crews"];
    world.write(&world.target, "m.ics", &meeting("m", "Pressing", &people, ""));
    sync(&world);
    let (name, text) = text_of(&world.source, "Pressing");
    assert!(text.contains("crews@coop.example"), "nobody is written to: people go along");
    world.write(&world.source, &name, &meeting("m", "Pressing", &[], ""));
    let report = sync(&world);
    assert_eq!((report.summary.calendars["target"].updated, report.summary.partly.len()), (1, 0));
    assert!(!text_of(&world.target, "Pressing").1.contains("ATTENDEE"));
}

/// `people = "invite"` says in as many words that people may be written to.
#[test]
fn with_invite_nothing_waits() {
    let mut world = world();
    world.shape_two_way = Rc::new(|route: &mut Rule| {
        route.carry = Carry { people: People::Invite, ..Carry::default() };
    });
    world.write(&world.target, "m.ics", &meeting("m", "Pressing", &["office", "crews"], ""));
    sync(&world);
    world.edit(&world.source, &text_of(&world.source, "Pressing").0, "Pressing", "Pressing, later");
    assert_eq!(sync(&world).summary.held, 0);
    assert_eq!(outbox(&world.target), ["REQUEST mailto:crews@coop.example"]);
}

/// One history of meetings between two or three calendars, of which some servers write to people.
fn history(seed: u64) -> Result<(), Failure> {
    let mut dice = Dice::new(seed);
    let mut log = Vec::new();
    let mut world = World::new(0);
    world.allow_deletions = !dice.once_in(4);
    world.between = 2 + usize::from(dice.once_in(3));
    let habits = [
        Habit::TellsAddresses,
        Habit::IgnoresAgent,
        Habit::StripsPeople,
        Habit::NoEtagOnPut,
        Habit::Reorders,
        Habit::AddsDefaults,
        Habit::NoSync,
        Habit::Delete200,
    ];
    let schedule = if dice.once_in(3) { Habit::SchedulesUnannounced } else { Habit::Schedules };
    for (at, end) in [&world.target, &world.third].into_iter().enumerate() {
        if at == 0 || dice.once_in(2) {
            world.habit(end, schedule);
            habits.iter().filter(|_| dice.once_in(3)).for_each(|habit| world.habit(end, *habit));
        }
    }
    let people = [People::Silent, People::Silent, People::Listed, People::Dropped][dice.roll(4)];
    let shape = move |route: &mut Rule| route.carry = Carry { people, ..Carry::default() };
    world.shape_two_way = Rc::new(shape);
    let one_way = dice.once_in(4);
    let (strangers, busy) = (dice.once_in(4), dice.once_in(4));
    world.shape = Rc::new(move |route: &mut Rule| {
        shape(route);
        route.strangers = if strangers { Strangers::Remove } else { Strangers::Leave };
        if busy {
            route.carry.shows = Shows::Busy("Busy".to_owned());
        }
    });
    let run = |world: &World| {
        world.pass(60);
        if one_way { world.try_sync() } else { world.try_sync_two_way() }
    };
    let all: [&[&str]; 5] =
        [&[], &["office", "crews"], &["crews", "office"], &["crews", "van"], &["office", "office"]];
    let check = |world: &World, log: &Vec<String>| {
        let sent: Vec<_> = world.sides().into_iter().flat_map(outbox).collect();
        if sent.is_empty() { Ok(()) } else { Err((format!("sent {sent:?}"), log.clone())) }
    };
    let mut kept: Option<(usize, Vec<SnapshotEntry>)> = None;
    for step in 0..16 {
        let side = dice.roll(world.between);
        let end = world.sides()[side];
        let mut standing: Vec<(String, String)> = end.server.borrow().texts(&end.path).into_iter().collect();
        let chosen = (!standing.is_empty()).then(|| standing.swap_remove(dice.roll(standing.len())));
        let what = match (dice.roll(9), chosen) {
            (0 | 1, _) | (2..=5, None) => {
                let people = all[dice.roll(all.len())];
                let agent = if dice.once_in(3) { ";SCHEDULE-AGENT=CLIENT:mailto:" } else { ":mailto:" };
                let text =
                    meeting(&format!("u{step}"), &format!("t{step}"), people, "").replace(":mailto:", agent);
                world.write(end, &format!("u{step}.ics"), &text);
                format!("{}: creates u{step} with {people:?}", side)
            }
            (2 | 3, Some((name, text))) => {
                let old =
                    text.split("SUMMARY:").nth(1).and_then(|rest| rest.lines().next()).unwrap_or_default();
                world.edit(end, &name, &format!("SUMMARY:{old}"), &format!("SUMMARY:t{step}"));
                format!("{}: {name} says t{step} instead of {old}", side)
            }
            (4, Some((name, _))) => {
                let more = [
                    "X-CRATES:1\r\n",
                    "BEGIN:VALARM\r\nACTION:DISPLAY\r\nDESCRIPTION:x\r\nTRIGGER:-PT5M\r\nEND:VALARM\r\n",
                    "ORGANIZER:mailto:office@coop.example\r\nATTENDEE:mailto:van@coop.example\r\n",
                ][dice.roll(3)];
                world.edit(end, &name, "END:VEVENT", &format!("{more}END:VEVENT"));
                format!("{}: {name} gets {more:?}", side)
            }
            (5, Some((name, _))) => {
                world.delete(end, &name);
                format!("{}: {name} goes", side)
            }
            (6, _) if dice.once_in(2) => {
                world.lose_state();
                "the state is lost".to_owned()
            }
            (8, _) if dice.once_in(2) => {
                let rule = if one_way { world.route() } else { world.two_way() };
                let runs = world.store().runs(Some(&rule.name), 1 + dice.roll(2)).expect("the history");
                let what = ToUndo {
                    runs: runs.iter().map(|run| run.id).collect(),
                    only: Vec::new(),
                    is_retired: false,
                };
                world.pass(60);
                let plan = if what.runs.is_empty() { None } else { world.undo(&rule, &what).ok() };
                format!("taken back: {:?}", plan.map(|(plan, _)| (plan.undone, plan.left)))
            }
            (6, _) => {
                let (side, end) = (dice.roll(world.between), dice.once_in(2));
                let at = world.route_at(world.sides()[side]);
                world.pass(60);
                match kept.take().filter(|(of, _)| *of == side) {
                    Some((_, entries)) => {
                        let what =
                            ToRestore { entries, goes: if end { Goes::Everything } else { Goes::Nothing } };
                        format!("{side}: put back: {:?}", world.restore(&at, &what).expect("it is put back"))
                    }
                    None => {
                        let entry = |(href, text)| SnapshotEntry { href: Some(href), text };
                        let stands = world.snapshot(&at).expect("it is read");
                        kept = Some((side, stands.into_iter().map(entry).collect()));
                        format!("{side}: kept")
                    }
                }
            }
            (7, _) => {
                world.kill_at(Some(dice.roll(30)), dice.once_in(2));
                let ran = run(&world).is_ok();
                world.kill_at(None, false);
                format!("a run, killed or not ({ran})")
            }
            _ => {
                let report = run(&world).expect("it begins");
                format!("a run: held {}", report.summary.held)
            }
        };
        log.push(what);
        check(&world, &log)?;
    }
    // It comes to rest, and what waits goes on waiting.
    (0..4).for_each(|_| drop(run(&world)));
    check(&world, &log)?;
    let mut writes = Vec::new();
    for _ in 0..4 {
        decide(&world, "leave");
        let report = run(&world).expect("it begins");
        writes.push((report.summary.writes, report.summary.held));
    }
    check(&world, &log)?;
    if writes.last() != Some(&(0, 0)) {
        return Err((format!("it does not come to rest: {writes:?}"), log));
    }
    if one_way {
        world.retire().expect("it is taken out");
        return check(&world, &log);
    }
    // Whatever differs was left for that reason, and no other.
    let summary = sync(&world).summary;
    let all_titles: Vec<_> = world.sides().into_iter().map(titles).collect();
    let is_left = ["would-mail", "undone"].iter().any(|reason| summary.left_out.contains_key(*reason));
    let explained = is_left || held(&world).len() + released(&world) > 0;
    if all_titles.iter().any(|one| *one != all_titles[0]) && !explained {
        return Err((format!("{all_titles:?}: {summary:?}"), log));
    }
    Ok(())
}

/// How many entries stand somewhere as nobody's, or were left where they are.
fn released(world: &World) -> usize {
    let store = world.store();
    let route = store.route("crews").expect("the state is read").expect("it ran");
    let links = store.links_of(route.id, None, 500).expect("the state is read");
    let is_left = |link: &chestnut_store::LinkId| {
        store.places(*link).expect("the state is read").iter().any(|place| place.let_go)
    };
    links.iter().filter(|link| is_left(link)).count()
}

#[test]
fn no_history_makes_a_server_write_to_people() {
    run_some_histories(3, &[291_965, 1_000_965, 1_501_017, 1_600_528, 20_300_765], history);
}

/// What waited for a person when a run was taken back waits again once that is done again.
#[test]
fn what_was_held_is_held_again_after_an_undo_of_an_undo() {
    let mut world = world();
    world.between = 3;
    world.write(&world.target, "m.ics", &meeting("m", "Pressing", &["office", "crews"], ""));
    sync(&world);
    world.edit(&world.third, &text_of(&world.third, "Pressing").0, "Pressing", "Pressing, later");
    let mut run = sync(&world).run.expect("its number");
    for _ in 0..2 {
        world.pass(60);
        let what = ToUndo { runs: vec![run], only: Vec::new(), is_retired: false };
        let (plan, report) = world.undo(&world.two_way(), &what).expect("a plan");
        assert_eq!(plan.undone.len(), 1, "{plan:?}");
        run = report.and_then(|report| report.run).expect("its number");
    }
    let summary = sync(&world).summary;
    assert_eq!((summary.held_mail, summary.in_step), (1, 0), "{summary:?}");
    assert_eq!(
        (titles(&world.source), titles(&world.target)),
        (vec!["Pressing, later".to_owned()], vec!["Pressing".to_owned()])
    );
    decide(&world, "send");
    assert_eq!(sync(&world).summary.calendars["target"].updated, 1);
}

/// Taking back what a person had let through would write to people once more.
#[test]
fn what_would_be_written_about_is_not_taken_back() {
    let world = world();
    world.write(&world.target, "m.ics", &meeting("m", "Pressing", &["office", "crews"], ""));
    sync(&world);
    world.edit(&world.source, &text_of(&world.source, "Pressing").0, "Pressing", "Pressing, later");
    sync(&world);
    decide(&world, "send");
    let run = sync(&world).run.expect("its number");
    assert_eq!(outbox(&world.target).len(), 1);
    world.pass(60);
    let what = ToUndo { runs: vec![run], only: Vec::new(), is_retired: false };
    let (plan, _) = world.undo(&world.two_way(), &what).expect("a plan");
    assert_eq!((plan.undone.len(), plan.left.len()), (0, 1), "{plan:?}");
    assert_eq!(plan.left[0].why, WhyLeft::WouldMail);
    // Nor is a calendar put back.
    let end = world.route_at(&world.target);
    let old = meeting("m", "Pressing", &["office", "crews"], "").replace("\r\n", "\n");
    let entries = vec![SnapshotEntry { href: None, text: old }];
    let plan = world.restore(&end, &ToRestore { entries, goes: Goes::Nothing }).expect("a plan");
    assert_eq!((plan.undone.len(), plan.left.len()), (0, 1), "{plan:?}");
    assert_eq!(outbox(&world.target).len(), 1);
}
