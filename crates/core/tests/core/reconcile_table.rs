//! Every combination of what was agreed and what both sides hold now, each with its outcome listed by hand.

use chestnut_core::ical::Limits;
use chestnut_core::{
    Action, Because, Carry, Decision, DeletionLimit, Deletions, Entry, FarEdits, Identity, Kind, LeftOut,
    LinkFacts, Origin, Pair, PastCopies, Reach, RouteKey, RoutePolicy, Shows, Side, Window, WriteKind,
    guard_deletions, reconcile,
};
use jiff::Timestamp;
use jiff::tz::TimeZone;

fn entry(title: &str) -> Entry {
    let text = format!(
        "BEGIN:VCALENDAR\nVERSION:2.0\nBEGIN:VEVENT\nUID:orchard-1\nDTSTART:20261005T080000Z\nSUMMARY:{title}\nEND:VEVENT\nEND:VCALENDAR\n"
    );
    Entry::parse(&text, &Limits::default()).expect("an entry")
}

fn policy() -> RoutePolicy {
    RoutePolicy::plain(RouteKey::new(b"secret", "route"))
}

const NOW: Timestamp = Timestamp::UNIX_EPOCH;

/// What is known of nothing but what stands on both sides.
fn pair<'e>(source: Side<'e>, target: Side<'e>) -> Pair<'e> {
    Pair {
        link: None,
        agreed: None,
        source,
        target,
        origin: Origin::Copy,
        carry_changed: false,
        copy_uid_is_taken: false,
    }
}

fn word(decision: &Decision) -> &'static str {
    match decision {
        Decision::Nothing => "nothing",
        Decision::Agree { .. } => "agree",
        Decision::Forget => "forget",
        Decision::Act(Action::Delete(_)) => "delete",
        Decision::Act(Action::Write { kind: WriteKind::Create, .. }) => "create",
        Decision::Act(Action::Write { kind: WriteKind::Update, .. }) => "update",
        Decision::LeaveOut(_) => "leave out",
        Decision::Release => "release",
        Decision::LetGo => "let go",
        Decision::Wait => "wait",
    }
}

#[test]
fn every_combination_of_link_source_and_far_side() {
    let (old, new, other) = (entry("old"), entry("new"), entry("other"));
    let sides = |side: &str| match side {
        "old" => Side::Present(&old),
        "new" => Side::Present(&new),
        "other" => Side::Present(&other),
        "gone" => Side::Gone,
        "unreadable" => Side::Unreadable,
        _ => Side::Unknown,
    };
    // Rows: the source; columns: what stands on the far side.
    let columns = ["old", "new", "other", "gone", "unreadable", "unknown"];
    // A copy that was agreed: nothing follows from what is not known.
    let copy: [(&str, [&str; 6]); 5] = [
        ("old", ["agree", "update", "update", "create", "nothing", "wait"]),
        ("new", ["update", "agree", "update", "create", "update", "wait"]),
        ("gone", ["delete", "delete", "delete", "forget", "delete", "wait"]),
        ("unreadable", ["leave out"; 6]),
        ("unknown", ["wait"; 6]),
    ];
    // A copy of the route's own that no state knows.
    let found: [(&str, [&str; 6]); 5] = [
        ("old", ["agree", "update", "update", "create", "update", "wait"]),
        ("new", ["update", "agree", "update", "create", "update", "wait"]),
        ("gone", ["delete", "delete", "delete", "nothing", "delete", "wait"]),
        ("unreadable", ["leave out"; 6]),
        ("unknown", ["wait", "wait", "wait", "leave out", "wait", "wait"]),
    ];
    // What stood there before: it follows, is never put right, and never deleted.
    let matched: [(&str, [&str; 6]); 5] = [
        ("old", ["agree", "agree", "agree", "let go", "nothing", "wait"]),
        ("new", ["update", "agree", "update", "let go", "update", "wait"]),
        ("gone", ["release", "release", "release", "forget", "release", "wait"]),
        ("unreadable", ["leave out"; 6]),
        ("unknown", ["wait"; 6]),
    ];
    // The same, met for the first time.
    let met: [(&str, [&str; 6]); 5] = [
        ("old", ["agree", "update", "update", "create", "update", "wait"]),
        ("new", ["update", "agree", "update", "create", "update", "wait"]),
        ("gone", ["nothing"; 6]),
        ("unreadable", ["leave out"; 6]),
        ("unknown", ["leave out"; 6]),
    ];
    // Somebody's own entry that is about to become a copy: nothing says that it was one.
    let taken_over: [(&str, [&str; 6]); 5] = [
        ("old", ["agree", "update", "update", "create", "update", "wait"]),
        ("new", ["update", "agree", "update", "create", "update", "wait"]),
        ("gone", ["nothing", "nothing", "nothing", "nothing", "delete", "wait"]),
        ("unreadable", ["leave out"; 6]),
        ("unknown", ["leave out", "leave out", "leave out", "leave out", "wait", "wait"]),
    ];
    let uid = policy().key.copy_uid(old.uid());
    let copies: Vec<Entry> = [&old, &new, &other]
        .into_iter()
        .map(|entry| {
            Carry::default().put(&Carry::default().show(entry).expect("shown"), &Identity::New(uid.clone()))
        })
        .collect();
    let found_side = |side: &str| match side {
        "old" => Side::Present(&copies[0]),
        "new" => Side::Present(&copies[1]),
        "other" => Side::Present(&copies[2]),
        side => sides(side),
    };
    let print = Carry::default().show(&old).expect("all is shown").fingerprint();
    let agreed = LinkFacts { view: print, far: Some(print), refused: None };
    let tables = [
        (true, false, Origin::Copy, copy),
        (false, true, Origin::Copy, found),
        (false, false, Origin::Copy, taken_over),
        (true, false, Origin::Match, matched),
        (false, false, Origin::Match, met),
    ];
    for (linked, has_own_uid, origin, rows) in tables {
        for (source, expected) in rows {
            for (target, expected) in columns.iter().zip(expected) {
                let pair = Pair {
                    link: linked.then_some(agreed),
                    agreed: Some(&old).filter(|_| linked),
                    origin,
                    ..pair(sides(source), if has_own_uid { found_side(target) } else { sides(target) })
                };
                let decision = reconcile(&policy(), &pair, NOW);
                assert_eq!(
                    word(&decision),
                    expected,
                    "linked: {linked}, {has_own_uid}, {origin:?}, source {source}, far side {target}"
                );
            }
        }
    }
}

#[test]
fn a_match_keeps_what_is_its_owners() {
    let source = entry("Fair\nLOCATION:Town\nATTENDEE;PARTSTAT=DECLINED:mailto:office@coop.example");
    let own = "ATTENDEE;PARTSTAT=ACCEPTED:mailto:board@coop.example\nDESCRIPTION:my own notes\nBEGIN:VALARM\nTRIGGER:-PT5M\nEND:VALARM";
    let existing = entry(&format!("Fair\n{own}"));
    let decide = |link, agreed, source| {
        let pair = Pair {
            link,
            agreed,
            origin: Origin::Match,
            ..pair(Side::Present(source), Side::Present(&existing))
        };
        match reconcile(&policy(), &pair, NOW) {
            Decision::Act(Action::Write { text, .. }) => text.replace("\r\n", "\n"),
            other => panic!("{other:?}"),
        }
    };
    // Met: it gets what it lacks.
    let met = decide(None, None, &source);
    assert!(own.lines().all(|line| met.contains(line)) && met.contains("LOCATION:Town"), "{met}");
    // Later: what changed at the source since is laid over it.
    let renamed = entry("Apple fair\nLOCATION:Town\nATTENDEE;PARTSTAT=DECLINED:mailto:office@coop.example");
    let view = Carry::default().show(&source).expect("shown").fingerprint();
    let link = LinkFacts { view, far: None, refused: None };
    let later = decide(Some(link), Some(&source), &renamed);
    assert!(own.lines().all(|line| later.contains(line)) && later.contains("SUMMARY:Apple fair"), "{later}");
    assert!(!later.contains("LOCATION"), "what its owner took out stays out: {later}");
}

#[test]
fn settings_change_the_outcome() {
    let (old, new, other) = (entry("old"), entry("new"), entry("other"));
    let print = |e: &Entry| Carry::default().show(e).expect("all is shown").fingerprint();
    let agreed = LinkFacts { view: print(&old), far: Some(print(&old)), refused: None };
    let damaged = LinkFacts { far: Some(print(&other)), ..agreed };
    let refused = LinkFacts { refused: Some(print(&new)), ..agreed };
    let decide = |policy: &RoutePolicy, link, source, target| {
        reconcile(policy, &Pair { link, ..pair(source, target) }, NOW)
    };
    let keep = RoutePolicy { deletions: Deletions::Keep, ..policy() };
    assert_eq!(decide(&keep, Some(agreed), Side::Gone, Side::Present(&old)), Decision::Release);
    let leave = RoutePolicy { far_edits: FarEdits::Leave, ..policy() };
    assert_eq!(decide(&leave, Some(agreed), Side::Present(&old), Side::Present(&other)), Decision::Nothing);
    assert_eq!(decide(&leave, Some(agreed), Side::Present(&old), Side::Gone), Decision::Nothing);
    assert_eq!(word(&decide(&leave, Some(agreed), Side::Present(&new), Side::Present(&other))), "update");
    // What the server made of a copy is no edit.
    assert_eq!(
        decide(&policy(), Some(damaged), Side::Present(&old), Side::Present(&other)),
        Decision::Nothing
    );
    let left_out = |reason| Decision::LeaveOut(reason);
    assert_eq!(decide(&policy(), Some(refused), Side::Present(&new), Side::Gone), left_out(LeftOut::Refused));
    let tasks = RoutePolicy { kinds: [Kind::Task].into_iter().collect(), ..policy() };
    assert_eq!(decide(&tasks, None, Side::Present(&old), Side::Gone), left_out(LeftOut::Kind(Kind::Event)));
    assert_eq!(word(&decide(&tasks, Some(agreed), Side::Present(&old), Side::Present(&old))), "delete");
    let picky = RoutePolicy { accepted: [Kind::Task].into_iter().collect(), ..policy() };
    assert_eq!(
        decide(&picky, None, Side::Present(&old), Side::Gone),
        left_out(LeftOut::NotAccepted(Kind::Event))
    );
    let small = RoutePolicy { max_size: Some(50), ..policy() };
    assert_eq!(decide(&small, None, Side::Present(&old), Side::Gone), left_out(LeftOut::TooLarge));
    // The entry begins on 5 October at eight. What was carried once follows its source out of the window.
    let window = |from: &str, to: &str| {
        let day = |text: &str| Reach::Day(text.parse().expect("a day"));
        Window { past: day(from), ahead: day(to) }.at(Timestamp::UNIX_EPOCH, &TimeZone::UTC)
    };
    let later = RoutePolicy { window: window("2026-10-06", "2026-10-30"), ..policy() };
    let outside = left_out(LeftOut::OutsideWindow);
    assert_eq!(decide(&later, None, Side::Present(&old), Side::Gone), outside);
    assert_eq!(word(&decide(&later, Some(agreed), Side::Present(&new), Side::Present(&old))), "update");
    let tidy = RoutePolicy { past_copies: PastCopies::Remove, ..later };
    let past = Decision::Act(Action::Delete(Because::Past));
    assert_eq!(decide(&tidy, Some(agreed), Side::Present(&old), Side::Present(&old)), past);
    assert_eq!(decide(&tidy, Some(agreed), Side::Present(&old), Side::Gone), outside);
    let earlier = RoutePolicy { window: window("2026-09-06", "2026-10-04"), ..tidy };
    assert_eq!(word(&decide(&earlier, Some(agreed), Side::Present(&old), Side::Present(&old))), "agree");
    // Busy time: what takes none is as good as gone.
    let carry = Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() };
    let busy = RoutePolicy { carry, ..policy() };
    let free = entry("old\nTRANSP:TRANSPARENT");
    assert_eq!(decide(&busy, None, Side::Present(&free), Side::Gone), left_out(LeftOut::TakesNoTime));
    let no_time = Decision::Act(Action::Delete(Because::NotTaken(LeftOut::TakesNoTime)));
    assert_eq!(decide(&busy, Some(agreed), Side::Present(&free), Side::Present(&old)), no_time);
}

#[test]
fn a_copy_keeps_nothing_that_its_route_no_longer_carries() {
    let source = entry("Press hall");
    let full = policy();
    let busy =
        RoutePolicy { carry: Carry { shows: Shows::Busy("Taken".into()), ..Carry::default() }, ..policy() };
    let now = Timestamp::UNIX_EPOCH;
    let identity = Identity::New(full.key.copy_uid(source.uid()));
    let copy = full.carry.put(&full.carry.show(&source).expect("shown"), &identity);
    let copy = copy.caldav_text(now).replace("END:VEVENT", "LOCATION:Row 12\r\nEND:VEVENT");
    let copy = Entry::parse(&copy, &Limits::default()).expect("an entry");
    let decide = |carry_changed| {
        let view = busy.carry.show(&source).expect("shown").fingerprint();
        let link = Some(LinkFacts { view, far: None, refused: None });
        let pair = Pair { link, carry_changed, ..pair(Side::Present(&source), Side::Present(&copy)) };
        match reconcile(&busy, &pair, now) {
            Decision::Act(Action::Write { text, .. }) => text,
            other => panic!("{other:?}"),
        }
    };
    assert!(decide(false).contains("Row 12"), "what the far side added is its own");
    assert!(!decide(true).contains("Row 12"), "what an earlier rule wrote is not");
}

#[test]
fn attachments_that_the_far_side_has_no_room_for_stay_behind() {
    let big = format!("old\nATTACH;ENCODING=BASE64;VALUE=BINARY:{}", "QUJD".repeat(500));
    let small = RoutePolicy { max_size: Some(1000), ..policy() };
    let now = Timestamp::UNIX_EPOCH;
    let pair = |entry| pair(Side::Present(entry), Side::Gone);
    let (big, plain) = (entry(&big), entry("old\nATTACH:https://coop.example/list.pdf"));
    for (source, without, attached) in [(&big, true, "QUJD"), (&plain, false, "nothing")] {
        let Decision::Act(Action::Write { partly, text, .. }) = reconcile(&small, &pair(source), now) else {
            panic!("a write");
        };
        assert_eq!((partly.without_attachments, text.contains(attached)), (without, false));
    }
}

#[test]
fn many_deletions_at_once_are_held() {
    let table = [
        (1, 1, false),
        (2, 2, false),
        (3, 3, true),
        (10, 11, false),
        (11, 54, true),
        (11, 55, false),
        (0, 0, false),
    ];
    let careful = DeletionLimit { entries: 0, percent: 0 };
    assert!(guard_deletions(careful, 1, 0, 1000).is_some(), "every single one can be held");
    // Copies that fell behind the window are no loss, unless nothing else is left.
    assert_eq!(guard_deletions(DeletionLimit::default(), 3, 60, 100), None);
    assert!(guard_deletions(DeletionLimit::default(), 3, 97, 100).is_some());
    for (deletions, linked, held) in table {
        assert_eq!(
            guard_deletions(DeletionLimit::default(), deletions, 0, linked).is_some(),
            held,
            "{deletions} of {linked}"
        );
    }
}
