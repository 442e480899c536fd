//! Every combination of what was agreed and what both sides hold now, each with its outcome listed by hand.

use chestnut_core::ical::Limits;
use chestnut_core::{
    Action, Carry, Decision, Deletions, Entry, FarEdits, Kind, Kinds, LeftOut, LinkFacts, Pair, RouteKey,
    RoutePolicy, Side, WriteKind, guard_deletions, reconcile,
};

fn entry(title: &str) -> Entry {
    let text = format!(
        "BEGIN:VCALENDAR\nVERSION:2.0\nBEGIN:VEVENT\nUID:orchard-1\nDTSTART:20261005T080000Z\nSUMMARY:{title}\nEND:VEVENT\nEND:VCALENDAR\n"
    );
    Entry::parse(&text, &Limits::default()).expect("an entry")
}

fn policy() -> RoutePolicy {
    RoutePolicy {
        choice: chestnut_core::Choice::default(),
        kinds: [Kind::Event].into_iter().collect(),
        accepted: Kinds::all(),
        max_size: None,
        carry: Carry::default(),
        deletions: Deletions::Carry,
        far_edits: FarEdits::Restore,
        key: RouteKey::new(b"secret", "route"),
    }
}

fn word(decision: &Decision) -> &'static str {
    match decision {
        Decision::Nothing => "nothing",
        Decision::Agree { .. } => "agree",
        Decision::Forget => "forget",
        Decision::Act(Action::Delete) => "delete",
        Decision::Act(Action::Write { kind: WriteKind::Create, .. }) => "create",
        Decision::Act(Action::Write { kind: WriteKind::Update, .. }) => "update",
        Decision::LeaveOut(_) => "leave out",
    }
}

#[test]
fn every_combination_of_link_source_and_far_side() {
    let (old, new, other) = (entry("old"), entry("new"), entry("other"));
    let sides = |side: &str| match side {
        "unchanged" => Side::Unchanged,
        "old" => Side::Present(&old),
        "new" => Side::Present(&new),
        "other" => Side::Present(&other),
        "gone" => Side::Gone,
        _ => Side::Unreadable,
    };
    // Rows: the source; columns: the far side is unchanged, old, new, other, gone, unreadable.
    let columns = ["unchanged", "old", "new", "other", "gone", "unreadable"];
    let linked: [(&str, [&str; 6]); 5] = [
        ("unchanged", ["nothing"; 6]),
        ("old", ["nothing", "agree", "update", "update", "create", "nothing"]),
        ("new", ["update", "update", "agree", "update", "create", "update"]),
        ("gone", ["delete", "delete", "delete", "delete", "forget", "delete"]),
        ("unreadable", ["leave out"; 6]),
    ];
    let free: [(&str, [&str; 6]); 5] = [
        ("unchanged", ["nothing"; 6]),
        ("old", ["update", "agree", "update", "update", "create", "update"]),
        ("new", ["update", "update", "agree", "update", "create", "update"]),
        ("gone", ["nothing"; 6]),
        ("unreadable", ["leave out"; 6]),
    ];
    let print = Carry::default().show(&old).fingerprint();
    let agreed = LinkFacts { view: print, far: Some(print), refused: None };
    let now = "2026-10-05T08:00:00Z".parse().expect("a moment");
    for (link, rows) in [(Some(agreed), linked), (None, free)] {
        for (source, expected) in rows {
            for (target, expected) in columns.iter().zip(expected) {
                let pair = Pair { link, source: sides(source), target: sides(target) };
                let decision = reconcile(&policy(), &pair, now);
                assert_eq!(
                    word(&decision),
                    expected,
                    "linked: {}, source {source}, far side {target}",
                    link.is_some()
                );
            }
        }
    }
}

#[test]
fn settings_change_the_outcome() {
    let (old, new, other) = (entry("old"), entry("new"), entry("other"));
    let print = |e: &Entry| Carry::default().show(e).fingerprint();
    let agreed = LinkFacts { view: print(&old), far: Some(print(&old)), refused: None };
    let damaged = LinkFacts { far: Some(print(&other)), ..agreed };
    let refused = LinkFacts { refused: Some(print(&new)), ..agreed };
    let decide = |policy: &RoutePolicy, link, source, target| {
        let now = "2026-10-05T08:00:00Z".parse().expect("a moment");
        reconcile(policy, &Pair { link, source, target }, now)
    };
    let keep = RoutePolicy { deletions: Deletions::Keep, ..policy() };
    assert_eq!(decide(&keep, Some(agreed), Side::Gone, Side::Unchanged), Decision::Forget);
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
    assert_eq!(word(&decide(&tasks, Some(agreed), Side::Present(&old), Side::Unchanged)), "delete");
    let picky = RoutePolicy { accepted: [Kind::Task].into_iter().collect(), ..policy() };
    assert_eq!(
        decide(&picky, None, Side::Present(&old), Side::Gone),
        left_out(LeftOut::NotAccepted(Kind::Event))
    );
    let small = RoutePolicy { max_size: Some(50), ..policy() };
    assert_eq!(decide(&small, None, Side::Present(&old), Side::Gone), left_out(LeftOut::TooLarge));
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
    for (deletions, linked, held) in table {
        assert_eq!(guard_deletions(deletions, linked).is_some(), held, "{deletions} of {linked}");
    }
}
