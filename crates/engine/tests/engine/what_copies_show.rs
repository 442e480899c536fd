//! G5 and G6 through whole runs: what leaves for a busy-only copy, and what makes a server write to people.

use std::rc::Rc;

use chestnut_core::ical::Limits;
use chestnut_core::{Carry, Details, Entry, People, Reach, Shows, Window};
use chestnut_engine::{Makes, Rule};
use chestnut_standin::Habit;
use chestnut_testkit::World;

/// An entry in which everything that can bear a mark bears one.
fn marked(number: usize) -> String {
    let day = 6 + number % 20;
    let lines = match number % 4 {
        0 => format!(
            "DTSTART;X-QUINCE=quince:202610{day:02}T080000Z\r\nDTEND;X-QUINCE=quince:202610{day:02}T090000Z"
        ),
        1 => format!(
            "DTSTART;TZID=quince:202610{day:02}T080000\r\nDURATION;X-QUINCE=quince:PT1H\r\nRRULE;X-QUINCE=1:FREQ=DAILY;COUNT=3\r\n\
             EXDATE;X-QUINCE=quince;TZID=quince:202610{:02}T080000",
            day + 1
        ),
        2 => format!("DTSTART;VALUE=DATE;X-QUINCE=quince:202610{day:02}\r\nSTATUS;X-QUINCE=quince:TENTATIVE"),
        _ => format!("DTSTART;TZID=/quince.example/Europe/Ljubljana:202610{day:02}T080000"),
    };
    let texts = [
        "SUMMARY",
        "DESCRIPTION",
        "LOCATION",
        "COMMENT",
        "CONTACT",
        "CATEGORIES",
        "RESOURCES",
        "X-QUINCE",
        "URL",
        "RELATED-TO",
        "REQUEST-STATUS",
        "CLASS",
        "COLOR",
        "ATTACH",
        "IMAGE",
        "CONFERENCE",
        "SEQUENCE",
        "CREATED",
    ];
    let texts: String = texts.iter().map(|name| format!("{name};X-QUINCE=quince:quince\r\n")).collect();
    let people = "ORGANIZER;CN=Quince:mailto:quince@coop.example\r\nATTENDEE;CN=Quince:mailto:quince2@coop.example\r\n";
    let alarm = "BEGIN:VALARM\r\nUID:quince\r\nACTION:QUINCE\r\nDESCRIPTION:quince\r\nTRIGGER;X-QUINCE=quince:-PT5M\r\nEND:VALARM\r\n";
    let zone = "BEGIN:VTIMEZONE\r\nTZID:quince\r\nTZURL:https://quince.example/\r\nBEGIN:STANDARD\r\nTZNAME:quince\r\n\
                DTSTART:19700101T000000\r\nTZOFFSETFROM:+0130\r\nTZOFFSETTO:+0130\r\nEND:STANDARD\r\nEND:VTIMEZONE\r\n";
    let changed = if number % 4 == 1 {
        format!(
            "BEGIN:VEVENT\r\nUID:quince-{number}\r\nRECURRENCE-ID;TZID=quince:202610{:02}T080000\r\n\
             DTSTART;TZID=quince:202610{:02}T100000\r\nSUMMARY:quince\r\n{people}{alarm}END:VEVENT\r\n",
            day + 2,
            day + 2
        )
    } else {
        String::new()
    };
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:quince\r\nX-WR-CALNAME:quince\r\n{zone}BEGIN:VEVENT\r\nUID:quince-{number}\r\n\
         {lines}\r\n{texts}{people}{alarm}END:VEVENT\r\n{changed}END:VCALENDAR\r\n"
    )
}

#[test]
fn nothing_but_the_time_leaves_for_a_busy_only_copy() {
    type Shape = Rc<dyn Fn(&mut Rule)>;
    let busy =
        |route: &mut Rule| route.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
    let near = Window { past: Reach::Days(30), ahead: Reach::Days(60) };
    let kinds: [(&str, Shape); 4] = [
        ("each entry", Rc::new(busy)),
        ("within a window", Rc::new(move |route: &mut Rule| (busy(route), route.window = near).1)),
        (
            "blocks",
            Rc::new(move |route: &mut Rule| {
                (busy(route), route.window = near, route.makes = Makes::Blocks).1
            }),
        ),
        (
            "occurrences",
            Rc::new(move |route: &mut Rule| {
                (busy(route), route.window = near, route.makes = Makes::Occurrences).1
            }),
        ),
    ];
    for (kind, shape) in kinds {
        let mut world = World::new(0);
        world.shape = shape;
        world.allow_deletions = true;
        let name = |number: usize| format!("quince-{number}.ics");
        (0..24).for_each(|number| world.write(&world.source, &name(number), &marked(number)));
        world.pass(60);
        let report = world.sync();
        assert!(report.summary.calendars["target"].created > 5, "{kind}: {:?}", report.summary);
        (0..8).for_each(|n| world.edit(&world.source, &name(n), "202610", "202611"));
        (8..12).for_each(|n| world.delete(&world.source, &name(n)));
        world.sync();
        // Somebody edits a copy, and it is put right again.
        let copy = world.target.server.borrow().texts(&world.target.path).into_keys().next().expect("a copy");
        world.edit(&world.target, &copy, "SUMMARY:Taken", "SUMMARY:Mine");
        world.sync();
        let sent = world.target.sent.borrow().to_lowercase();
        assert!(sent.contains("begin:vevent") && sent.contains("summary:taken"), "{kind}");
        assert!(!sent.contains("quince"), "{kind}: {}", &sent[sent.find("quince").unwrap_or(0)..][..200]);
    }
}

#[test]
fn a_route_that_becomes_busy_only_takes_back_what_it_showed() {
    let mut world = World::new(0);
    (0..8).for_each(|n| world.write(&world.source, &format!("quince-{n}.ics"), &marked(n)));
    world.sync();
    assert!(format!("{:?}", world.target.server.borrow().texts(&world.target.path)).contains("quince"));
    world.shape = Rc::new(|route: &mut Rule| {
        route.carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
    });
    world.pass(60);
    assert_eq!(world.sync().summary.calendars["target"].updated, 8);
    let texts = format!("{:?}", world.target.server.borrow().texts(&world.target.path)).to_lowercase();
    assert!(!texts.contains("quince") && texts.contains("taken"), "{texts}");
    world.pass(60);
    assert_eq!(world.sync().summary.writes, 0);
}

#[test]
fn what_the_far_side_adds_to_a_copy_is_its_own() {
    let mut world = World::new(0);
    let text = marked(0);
    world.write(&world.source, "press.ics", &text);
    world.shape = Rc::new(|route: &mut Rule| {
        let taken = [chestnut_core::Detail::Title].into();
        let details = Details { taken, prefix: Some("[Press] ".into()), ..Details::default() };
        route.carry = Carry { shows: Shows::Details(Box::new(details)), ..Carry::default() };
    });
    world.sync();
    let copy = world.target.server.borrow().texts(&world.target.path).into_keys().next().expect("a copy");
    let own = "LOCATION:Row 12\r\nBEGIN:VALARM\r\nACTION:AUDIO\r\nTRIGGER:-PT5M\r\nEND:VALARM\r\nEND:VEVENT";
    world.edit(&world.target, &copy, "END:VEVENT", own);
    assert_eq!(world.sync().summary.writes, 0, "it is no edit of what the route carries");
    world.edit(&world.source, "press.ics", "T080000Z", "T083000Z");
    world.sync();
    let entry = world.entries(&world.target).remove(0);
    let main = entry.main_component();
    assert_eq!(main.value("DTSTART"), Some("20261006T083000Z"));
    assert_eq!((main.value("LOCATION"), main.components().count()), (Some("Row 12"), 1));
    assert_eq!(entry.title(), "[Press] quince");
}

#[test]
fn a_hundred_meetings_come_and_go_without_a_message() {
    let meeting = |number: usize, title: &str| {
        let (organiser, attendee) =
            if number.is_multiple_of(2) { ("office", "crews") } else { ("crews", "office") };
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:meeting-{number}\r\n\
             DTSTART:202610{:02}T080000Z\r\nSUMMARY:{title}\r\nORGANIZER:mailto:{organiser}@coop.example\r\n\
             ATTENDEE;RSVP=TRUE:mailto:{attendee}@coop.example\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
            1 + number % 28
        )
    };
    let people = [People::Silent, People::Listed, People::Dropped, People::Invite];
    for people in people {
        let mut world = World::new(0);
        world.habit(&world.target, Habit::Schedules);
        world.allow_deletions = true;
        world.shape = Rc::new(move |route: &mut Rule| {
            route.carry = Carry { people, shows: Shows::Details(Box::default()), ..Carry::default() };
        });
        for title in ["Pressing", "Pressing, later"] {
            (0..100).for_each(|n| world.write(&world.source, &format!("{n}.ics"), &meeting(n, title)));
            world.pass(60);
            world.sync();
        }
        let listed = world.entries(&world.target).iter().all(|e: &Entry| {
            e.main_component().value("DESCRIPTION").is_some_and(|notes| notes.contains("crews@coop.example"))
        });
        assert_eq!(listed, people == People::Listed);
        (0..100).for_each(|n| world.delete(&world.source, &format!("{n}.ics")));
        let report = world.sync();
        assert_eq!(report.summary.calendars["target"].deleted, 100);
        // `invite` is the one that says in as many words that people may be written to.
        let messages = world.target.server.borrow().outbox.len();
        assert_eq!(messages == 0, people != People::Invite, "{people:?}: {messages}");
    }
}

/// People that a two-way route keeps from a server which would write to them are counted, in this run and in later ones.
#[test]
fn a_two_way_route_says_whom_it_leaves_out() {
    let world = World::new(0);
    world.habit(&world.target, Habit::Schedules);
    for number in 0..10 {
        let meeting = format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:m-{number}\r\n\
             DTSTART:202610{:02}T080000Z\r\nSUMMARY:Pressing\r\nORGANIZER:mailto:office@coop.example\r\n\
             ATTENDEE:mailto:crews@coop.example\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
            1 + number
        );
        world.write(&world.source, &format!("{number}.ics"), &meeting);
    }
    for _ in 0..3 {
        let report = world.sync_two_way();
        assert_eq!(report.summary.partly.get("without-people"), Some(&10), "{:?}", report.summary);
        world.pass(60);
    }
    assert!(world.target.server.borrow().outbox.is_empty());
    let is_kept = |e: &Entry| e.main_component().property("ATTENDEE").is_some();
    assert!(
        world.entries(&world.source).iter().all(is_kept) && !world.entries(&world.target).iter().any(is_kept)
    );
}

#[test]
fn attachments_without_room_stay_behind_and_are_counted_in_every_run() {
    let world = World::new(0);
    world.habit(&world.target, Habit::SizeLimit413);
    let big = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:plan\r\nDTSTART:20261006T080000Z\r\nSUMMARY:Plan\r\n\
         ATTACH;ENCODING=BASE64;VALUE=BINARY:{}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n",
        "QUJD".repeat(700)
    );
    world.write(&world.source, "plan.ics", &big);
    for writes in [1, 0, 0] {
        let summary = world.sync().summary;
        assert_eq!(summary.partly.get("without-attachments"), Some(&1), "{summary:?}");
        assert_eq!(summary.calendars["target"].created, writes);
        world.pass(60);
    }
    let entry = world.entries(&world.target).remove(0);
    assert!(entry.main_component().property("ATTACH").is_none());
    assert!(Entry::parse(&big, &Limits::default()).is_ok());
}
