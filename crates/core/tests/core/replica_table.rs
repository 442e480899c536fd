//! Every combination of what was agreed and what two or three calendars hold now, each with its outcome listed by
//! hand.

use chestnut_core::ical::Limits;
use chestnut_core::{
    Carry, Choice, Collision, Decided, Deletions, Disagree, Entry, Kind, Kinds, LeftOut, Loser, Replica,
    ReplicaDecision, ReplicaPolicy, ReplicaRules, RouteKey, Scheduling, Settled, Side, Window, WriteKind,
    reconcile_replicas,
};
use jiff::Timestamp;
use jiff::tz::TimeZone;

fn entry(uid: &str, title: &str, modified: u32) -> Entry {
    let text = format!(
        "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//orchard//EN\nBEGIN:VEVENT\nUID:{uid}\nDTSTART:20261005T080000Z\n\
         LAST-MODIFIED:20261001T{modified:02}0000Z\nSUMMARY:{title}\nEND:VEVENT\nEND:VCALENDAR\n"
    );
    Entry::parse(&text, &Limits::default()).expect("an entry")
}

fn policy(sides: usize) -> ReplicaPolicy {
    let rules = ReplicaRules { accepted: Kinds::all(), max_size: None, scheduling: Scheduling::Never };
    ReplicaPolicy {
        kinds: [Kind::Event].into_iter().collect(),
        choice: Choice::default(),
        window: Window::default().at(Timestamp::UNIX_EPOCH, &TimeZone::UTC),
        carry: Carry::default(),
        disagree: Disagree::Newest,
        relay: false,
        deletions: Deletions::Carry,
        key: RouteKey::new(b"secret", "crews"),
        covered: chestnut_core::Sight::ALL,
        sides: vec![rules; sides],
    }
}

/// A calendar that is in step with what was agreed, or was.
fn replica<'e>(before: Option<&'e Entry>, now: Side<'e>) -> Replica<'e> {
    Replica { before, in_step_with: before, now, refused: None, let_go: false, own_uid: false }
}

/// What one calendar holds: `.` nothing, and nothing before; `s` as it was; `m` as it was, at another place;
/// `x` changed; `y` changed otherwise, and later; `d` deleted.
const STATES: [char; 6] = ['.', 's', 'm', 'x', 'y', 'd'];

struct Texts {
    base: Entry,
    x: Entry,
    y: Entry,
}

fn texts() -> Texts {
    Texts { base: entry("press", "base", 1), x: entry("press", "x", 2), y: entry("press", "y", 3) }
}

fn decide(
    policy: &ReplicaPolicy,
    states: &[char],
    linked: bool,
    decided: Option<Decided>,
) -> ReplicaDecision {
    let texts = texts();
    let replica = |state: &char| {
        let before = Some(&texts.base).filter(|_| linked && *state != '.');
        let now = match state {
            's' | 'm' => Side::Present(&texts.base),
            'x' => Side::Present(&texts.x),
            'y' => Side::Present(&texts.y),
            _ => Side::Gone,
        };
        Replica { in_step_with: before, ..replica(before, now) }
    };
    let replicas: Vec<_> = states.iter().map(replica).collect();
    let base = Some(&texts.base).filter(|_| linked);
    reconcile_replicas(policy, base, &replicas, decided, Timestamp::UNIX_EPOCH)
}

/// The outcome in a word or two: what stands everywhere in the end, `!` where a word was lost.
fn told(decision: &ReplicaDecision, states: &[char]) -> String {
    match decision {
        ReplicaDecision::Forget => "forget".into(),
        ReplicaDecision::Delete(sides) => {
            let standing: Vec<_> = (0..states.len()).filter(|k| !matches!(states[*k], '.' | 'd')).collect();
            assert_eq!(*sides, standing, "{states:?}: what stands is deleted");
            "delete".into()
        }
        ReplicaDecision::Hold(_) => "hold".into(),
        ReplicaDecision::Wait => "wait".into(),
        ReplicaDecision::LeaveOut(reason) => reason.key().into(),
        ReplicaDecision::Settle(settled) => {
            check_writes(settled, states);
            let lost = if settled.losers.is_empty() { "" } else { "!" };
            settled.base.title() + lost
        }
    }
}

/// Whatever was agreed, it stands everywhere after the writes, and nothing is written for nothing.
fn check_writes(settled: &Settled, states: &[char]) {
    for (state, write) in states.iter().zip(&settled.writes) {
        let held = match state {
            's' | 'm' => "base",
            'x' => "x",
            'y' => "y",
            _ => "",
        };
        let kind = match (held, settled.base.title() == held) {
            ("", _) => Some(WriteKind::Create),
            (_, true) => None,
            (_, false) => Some(WriteKind::Update),
        };
        assert_eq!(write.as_ref().map(|w| w.kind), kind, "{states:?}");
        if let Some(write) = write {
            assert_eq!((write.entry.title(), write.entry.uid().as_str()), (settled.base.title(), "press"));
        }
    }
}

fn every(sides: usize) -> Vec<Vec<char>> {
    (0..sides).fold(vec![Vec::new()], |lists, _| {
        let more = |list: Vec<char>| STATES.map(|state| [list.clone(), vec![state]].concat());
        lists.into_iter().flat_map(more).collect()
    })
}

/// By the states in alphabetical order: it does not matter which calendar is which.
const LINKED: &[(&str, &str)] = &[
    // Two calendars.
    ("..", "forget"),
    (".s", "base"),
    (".m", "base"),
    (".x", "x"),
    (".y", "y"),
    (".d", "forget"),
    ("ss", "base"),
    ("ms", "base"),
    ("mm", "base"),
    ("sx", "x"),
    ("sy", "y"),
    ("mx", "x"),
    ("my", "y"),
    ("xx", "x"),
    ("yy", "y"),
    ("xy", "y!"),
    ("ds", "delete"),
    ("dm", "delete"),
    ("dx", "x"),
    ("dy", "y"),
    ("dd", "forget"),
    // Three calendars, one of which has nothing: as the other two say.
    ("...", "forget"),
    ("..s", "base"),
    ("..m", "base"),
    ("..x", "x"),
    ("..y", "y"),
    ("..d", "forget"),
    (".ss", "base"),
    (".ms", "base"),
    (".mm", "base"),
    (".sx", "x"),
    (".sy", "y"),
    (".mx", "x"),
    (".my", "y"),
    (".xx", "x"),
    (".yy", "y"),
    (".xy", "y!"),
    (".ds", "delete"),
    (".dm", "delete"),
    (".dx", "x"),
    (".dy", "y"),
    (".dd", "forget"),
    // Three calendars.
    ("sss", "base"),
    ("mss", "base"),
    ("mms", "base"),
    ("mmm", "base"),
    ("ssx", "x"),
    ("msx", "x"),
    ("mmx", "x"),
    ("ssy", "y"),
    ("msy", "y"),
    ("mmy", "y"),
    ("sxx", "x"),
    ("mxx", "x"),
    ("syy", "y"),
    ("myy", "y"),
    ("sxy", "y!"),
    ("mxy", "y!"),
    ("xxx", "x"),
    ("yyy", "y"),
    ("xxy", "y!"),
    ("xyy", "y!"),
    ("dss", "delete"),
    ("dms", "delete"),
    ("dmm", "delete"),
    ("dds", "delete"),
    ("ddm", "delete"),
    ("ddd", "forget"),
    ("dsx", "x"),
    ("dmx", "x"),
    ("dsy", "y"),
    ("dmy", "y"),
    ("dxx", "x"),
    ("dyy", "y"),
    ("dxy", "y!"),
    ("ddx", "x"),
    ("ddy", "y"),
];

/// Entries that were only matched: what says the same is linked, what says something else is merged.
const MATCHED: &[(&str, &str)] = &[
    ("..", "forget"),
    (".s", "base"),
    (".x", "x"),
    (".y", "y"),
    ("ss", "base"),
    ("xx", "x"),
    ("yy", "y"),
    ("sx", "x!"),
    ("sy", "y!"),
    ("xy", "y!"),
    ("...", "forget"),
    ("..s", "base"),
    ("..x", "x"),
    ("..y", "y"),
    (".ss", "base"),
    (".xx", "x"),
    (".yy", "y"),
    (".sx", "x!"),
    (".sy", "y!"),
    (".xy", "y!"),
    ("sss", "base"),
    ("xxx", "x"),
    ("yyy", "y"),
    ("ssx", "x!"),
    ("ssy", "y!"),
    ("sxx", "x!"),
    ("syy", "y!"),
    ("xxy", "y!"),
    ("xyy", "y!"),
    ("sxy", "y!"),
];

#[test]
fn every_combination_of_base_and_sides() {
    let mut seen = std::collections::BTreeSet::new();
    for states in every(2).into_iter().chain(every(3)) {
        let mut key = states.clone();
        key.sort_unstable();
        let key: String = key.into_iter().collect();
        let mut check = |linked: bool, table: &[(&str, &str)]| {
            let expected = table.iter().find(|(states, _)| *states == key);
            let (_, expected) = expected.unwrap_or_else(|| panic!("{key} is not in the table"));
            let decision = decide(&policy(states.len()), &states, linked, None);
            assert_eq!(told(&decision, &states), *expected, "{states:?}, linked: {linked}");
            seen.insert((linked, key.clone()));
        };
        check(true, LINKED);
        if !states.contains(&'d') && !states.contains(&'m') {
            check(false, MATCHED);
        }
    }
    assert_eq!(seen.len(), LINKED.len() + MATCHED.len(), "every row was asked for");
}

#[test]
fn settings_and_people_change_the_outcome() {
    let states = ['x', 'y'];
    let first = ReplicaPolicy { disagree: Disagree::Side(0), ..policy(2) };
    let settled = |decision| match decision {
        ReplicaDecision::Settle(settled) => *settled,
        other => panic!("{other:?}"),
    };
    let won = settled(decide(&first, &states, true, None));
    assert_eq!(
        (won.base.title(), won.losers),
        ("x".into(), vec![Loser { side: 1, fields: vec!["SUMMARY".into()] }])
    );
    let hold = ReplicaPolicy { disagree: Disagree::Hold, ..policy(2) };
    let collision = Collision { occurrence: String::new(), field: "SUMMARY".into(), losers: vec![0] };
    assert_eq!(decide(&hold, &states, true, None), ReplicaDecision::Hold(vec![collision]));
    assert_eq!(told(&decide(&hold, &['s', 'y'], true, None), &['s', 'y']), "y", "nothing collides");
    assert_eq!(settled(decide(&hold, &states, true, Some(Decided::Side(0)))).base.title(), "x");
    let both = settled(decide(&hold, &states, true, Some(Decided::Both)));
    let (side, besides) = both.besides.expect("the other text");
    assert_eq!((both.base.title(), side, besides.title()), ("y".into(), 0, "x".into()));
    assert!(besides.uid().as_str().starts_with("press-") && !besides.uid().is_copy());
    // Deletions that are kept let go of one calendar and leave the others alone, for good.
    let keep = ReplicaPolicy { deletions: Deletions::Keep, ..policy(2) };
    let kept = settled(decide(&keep, &['d', 's'], true, None));
    assert_eq!((kept.let_go, kept.writes), (vec![true, false], vec![None, None]));
    let texts = texts();
    let gone = Replica { let_go: true, ..replica(None, Side::Gone) };
    let changed = replica(Some(&texts.base), Side::Present(&texts.x));
    let later = reconcile_replicas(&keep, Some(&texts.base), &[gone, changed], None, Timestamp::UNIX_EPOCH);
    assert_eq!(settled(later).writes, vec![None, None]);
    // Details that are not kept alike stay each calendar's own.
    let title = chestnut_core::Details { taken: [chestnut_core::Detail::Title].into(), ..Default::default() };
    let carry = Carry { shows: chestnut_core::Shows::Details(Box::new(title)), ..Carry::default() };
    let partial = ReplicaPolicy { carry, ..policy(2) };
    let own = |title: &str, place: &str| entry("press", &format!("{title}\nLOCATION:{place}"), 2);
    let (a, b, renamed) = (own("t", "here"), own("t", "there"), own("new", "here"));
    let side = |before, now| replica(Some(before), Side::Present(now));
    let sides = [side(&a, &renamed), side(&b, &b)];
    let write = settled(reconcile_replicas(&partial, Some(&a), &sides, None, Timestamp::UNIX_EPOCH)).writes;
    let written = write[1].as_ref().expect("a write").entry.clone();
    assert_eq!((write[0].is_none(), written.title()), (true, "new".into()));
    assert_eq!(written.main_component().value("LOCATION"), Some("there"));
}

#[test]
fn agreement_belongs_to_the_place() {
    let texts = texts();
    let settled = |replicas: &[Replica<'_>], base| match reconcile_replicas(
        &policy(replicas.len()),
        Some(base),
        replicas,
        None,
        Timestamp::UNIX_EPOCH,
    ) {
        ReplicaDecision::Settle(settled) => *settled,
        other => panic!("{other:?}"),
    };
    let in_step = |entry| replica(Some(entry), Side::Present(entry));
    // A calendar that missed what was agreed since is owed a write, though nothing changed anywhere.
    let owed = settled(&[in_step(&texts.x), in_step(&texts.base)], &texts.x);
    let written: Vec<_> = owed.writes.iter().map(|w| w.as_ref().map(|w| w.entry.title())).collect();
    assert_eq!((written, owed.base.title()), (vec![None, Some("x".into())], "x".into()));
    // It was edited instead: its word and the one that it missed collide, and the newer counts.
    let edited = replica(Some(&texts.base), Side::Present(&texts.y));
    let merged = settled(&[in_step(&texts.x), edited], &texts.x);
    assert_eq!((merged.base.title(), merged.writes[0].is_some()), ("y".into(), true));
    let late = replica(Some(&texts.base), Side::Present(&texts.x));
    let merged = settled(&[in_step(&texts.y), late], &texts.y);
    assert_eq!(merged.base.title(), "y");
    assert_eq!(
        merged.losers,
        [Loser { side: 1, fields: vec!["SUMMARY".into()] }],
        "the older word is told of"
    );
    // Of words of the same moment a calendar's counts, before what no calendar says any more.
    let (then, here, there) =
        (entry("press", "then", 2), entry("press", "here", 2), entry("press", "there", 2));
    let sides = [
        Replica { in_step_with: Some(&texts.base), ..replica(Some(&texts.base), Side::Present(&here)) },
        replica(Some(&then), Side::Present(&there)),
    ];
    assert_eq!(settled(&sides, &then).base.title(), "here");
    // Nothing follows from what is not known: the others go on, and it is owed.
    let unknown = replica(Some(&texts.base), Side::Unknown);
    let edited = replica(Some(&texts.base), Side::Present(&texts.x));
    let others = settled(&[unknown, edited, in_step(&texts.base)], &texts.base);
    assert_eq!(
        (others.writes[0].is_none(), others.writes[2].is_some(), others.base.title()),
        (true, true, "x".into())
    );
    let gone = replica(Some(&texts.base), Side::Gone);
    for (replicas, base, expected) in [
        ([unknown, gone], Some(&texts.base), ReplicaDecision::Wait),
        ([unknown, in_step(&texts.base)], Some(&texts.base), ReplicaDecision::Wait),
        ([replica(None, Side::Unknown), edited], None, ReplicaDecision::LeaveOut(LeftOut::Unreadable)),
    ] {
        let decision = reconcile_replicas(&policy(2), base, &replicas, None, Timestamp::UNIX_EPOCH);
        assert_eq!(decision, expected);
    }
}

#[test]
fn details_that_are_new_to_a_route_are_merged_as_at_a_first_run() {
    let title = chestnut_core::Details { taken: [chestnut_core::Detail::Title].into(), ..Default::default() };
    let before = Carry { shows: chestnut_core::Shows::Details(Box::new(title)), ..Carry::default() };
    let wide = ReplicaPolicy { covered: before.sight(), ..policy(2) };
    let (here, there) = (entry("press", "t\nLOCATION:Hall", 2), entry("press", "t\nDESCRIPTION:Notes", 2));
    let sides = [&here, &there].map(|own| replica(Some(own), Side::Present(own)));
    let decision = reconcile_replicas(&wide, Some(&here), &sides, None, Timestamp::UNIX_EPOCH);
    let ReplicaDecision::Settle(settled) = decision else { panic!("{decision:?}") };
    for write in settled.writes.iter().flatten() {
        let main = write.entry.main_component();
        assert_eq!((main.value("LOCATION"), main.value("DESCRIPTION")), (Some("Hall"), Some("Notes")));
    }
    assert_eq!((settled.writes.iter().flatten().count(), settled.losers.len()), (2, 0));
    // What nobody says any more does not come back, because it was agreed before the route left it out.
    let plain = entry("press", "t", 2);
    let sides = [&plain, &plain].map(|own| replica(Some(own), Side::Present(own)));
    let decision = reconcile_replicas(&wide, Some(&here), &sides, None, Timestamp::UNIX_EPOCH);
    let ReplicaDecision::Settle(settled) = decision else { panic!("{decision:?}") };
    assert_eq!((settled.writes, settled.base.main_component().value("LOCATION")), (vec![None, None], None));
}

/// A calendar changes the title before it has got a changed day: the day is written there, as a day.
#[test]
fn a_day_that_was_agreed_is_laid_over_a_text_that_never_had_it() {
    let day = "\nRRULE:FREQ=DAILY;COUNT=9\nEND:VEVENT\nBEGIN:VEVENT\nUID:press\nRECURRENCE-ID:20261006T080000Z\n\
               DTSTART:20261006T100000Z\nSUMMARY:late";
    let agreed = entry("press", &format!("then{day}"), 1);
    let series = |title: &str| entry("press", &format!("{title}\nRRULE:FREQ=DAILY;COUNT=9"), 2);
    let (before, now) = (series("then"), series("now"));
    let sides = [
        replica(Some(&agreed), Side::Present(&agreed)),
        Replica { in_step_with: None, ..replica(Some(&before), Side::Present(&now)) },
    ];
    let decision = reconcile_replicas(&policy(2), Some(&agreed), &sides, None, Timestamp::UNIX_EPOCH);
    let ReplicaDecision::Settle(settled) = decision else { panic!("{decision:?}") };
    let told = |entry: &Entry| -> Vec<(String, bool)> {
        let each = |c: &chestnut_core::ical::Component<'static>| {
            (c.value("SUMMARY").unwrap_or_default().to_owned(), c.value("RECURRENCE-ID").is_some())
        };
        entry.components().map(each).collect()
    };
    for written in settled.writes.iter().flatten().map(|write| &write.entry).chain([&settled.base]) {
        assert_eq!(told(written), [("now".to_owned(), false), ("late".to_owned(), true)]);
    }
}

/// An occurrence that was carried here bears the other calendar's stamp: it says nothing about who was last to change
/// the series.
#[test]
fn the_newest_word_is_judged_by_what_it_is_about() {
    let text = |title: (&str, u32), day: (&str, u32)| {
        let at = |hour: u32| format!("LAST-MODIFIED:20261001T{hour:02}0000Z");
        let text = format!(
            "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//orchard//EN\nBEGIN:VEVENT\nUID:press\n\
             DTSTART:20261005T080000Z\nRRULE:FREQ=DAILY\n{}\nSUMMARY:{}\nEND:VEVENT\nBEGIN:VEVENT\nUID:press\n\
             RECURRENCE-ID:20261006T080000Z\nDTSTART:20261006T090000Z\n{}\nSUMMARY:{}\nEND:VEVENT\nEND:VCALENDAR\n",
            at(title.1),
            title.0,
            at(day.1),
            day.0
        );
        Entry::parse(&text, &Limits::default()).expect("an entry")
    };
    let base = text(("Press", 1), ("Day", 9));
    // The hours in which either side changed the series and the day; what counts in the end.
    for (a, b, title, day) in [
        ((2, 9), (3, 8), "b", "a"),
        ((3, 8), (2, 9), "a", "b"),
        ((3, 9), (2, 8), "a", "a"),
        ((2, 8), (3, 9), "b", "b"),
    ] {
        let (a, b) = (text(("a", a.0), ("a", a.1)), text(("b", b.0), ("b", b.1)));
        let replicas = [&a, &b].map(|now| replica(Some(&base), Side::Present(now)));
        let found = reconcile_replicas(&policy(2), Some(&base), &replicas, None, Timestamp::UNIX_EPOCH);
        let ReplicaDecision::Settle(settled) = found else { panic!("{found:?}") };
        let titles: Vec<_> = settled.base.components().filter_map(|c| c.value("SUMMARY")).collect();
        assert_eq!(titles, [title, day]);
    }
}
