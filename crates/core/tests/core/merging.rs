//! Merging: a table of what two sides changed, and laws over generated entries.

use chestnut_core::ical::Limits;
use chestnut_core::{Entry, MergeSide, Merged, merge};
use proptest::prelude::*;

use crate::generate;

fn entry(lines: &str) -> Entry {
    let (series, others) = lines.split_once('|').unwrap_or((lines, ""));
    // A zone is a parameter, and stays on its line.
    let split = |lines: &str| lines.replace(';', "\n").replace("\nTZID=", ";TZID=");
    let changed = |lines: &str| format!("BEGIN:VEVENT\nUID:press\n{}\nEND:VEVENT\n", split(lines));
    let others: String = others.split('|').filter(|o| !o.is_empty()).map(changed).collect();
    let text = format!("BEGIN:VCALENDAR\n{}{others}END:VCALENDAR\n", changed(series)).replace("\n\n", "\n");
    Entry::parse(&text, &Limits::default()).expect("an entry")
}

/// The second side is the newer one: its word counts.
fn merged(base: &str, a: &str, b: &str) -> Merged {
    let (base, a, b) = (entry(base), entry(a), entry(b));
    let side = |now| MergeSide { before: Some(&base), now };
    merge(Some(&base), &[side(&a), side(&b)], &|_| vec![1, 0])
}

#[test]
fn every_kind_of_change_goes_together_or_collides() {
    let at = "DTSTART:20261005T080000Z;SUMMARY:Press";
    let daily = "DTSTART:20261005T080000Z;RRULE:FREQ=DAILY";
    let moved = |day: u32, lines: &str| {
        format!("|RECURRENCE-ID:202610{day:02}T080000Z;DTSTART:202610{day:02}T090000Z{lines}")
    };
    let plus = |base: &str, more: &str| format!("{base}{more}");
    // What was agreed; what either side made of it; what comes out; what collides.
    let table: Vec<(String, String, String, String, &str)> = vec![
        (at.into(), at.into(), plus(at, ";LOCATION:Row 12"), plus(at, ";LOCATION:Row 12"), ""),
        (
            at.into(),
            at.replace("Press", "Pressing"),
            plus(at, ";LOCATION:Row 12"),
            "DTSTART:20261005T080000Z;SUMMARY:Pressing;LOCATION:Row 12".into(),
            "",
        ),
        (
            at.into(),
            at.replace("T08", "T09"),
            plus(at, ";LOCATION:Row 12"),
            plus(&at.replace("T08", "T09"), ";LOCATION:Row 12"),
            "",
        ),
        (at.into(), at.replace("T08", "T09"), at.replace("T08", "T10"), at.replace("T08", "T10"), "time"),
        (at.into(), at.replace("T08", "T09"), plus(at, ";DURATION:PT2H"), plus(at, ";DURATION:PT2H"), "time"),
        (at.into(), at.replace("Press", "A"), at.replace("Press", "B"), at.replace("Press", "B"), "SUMMARY"),
        (at.into(), at.replace("Press", "A"), at.replace("Press", "A"), at.replace("Press", "A"), ""),
        // Removed here, changed there: the change stays.
        (
            plus(at, ";LOCATION:Row 1"),
            plus(at, ";LOCATION:Row 2"),
            at.into(),
            plus(at, ";LOCATION:Row 2"),
            "LOCATION",
        ),
        // Lists merge as sets.
        (
            plus(at, ";CATEGORIES:A,B"),
            plus(at, ";CATEGORIES:A,B,C"),
            plus(at, ";CATEGORIES:B,D"),
            plus(at, ";CATEGORIES:B,C,D"),
            "",
        ),
        (
            plus(at, ";ATTENDEE:mailto:a@coop.example"),
            plus(at, ";ATTENDEE:mailto:a@coop.example;ATTENDEE:mailto:b@coop.example"),
            plus(at, ";ATTENDEE:mailto:c@coop.example"),
            plus(at, ";ATTENDEE:mailto:b@coop.example;ATTENDEE:mailto:c@coop.example"),
            "",
        ),
        (
            plus(at, ";BEGIN:VALARM;TRIGGER:-PT5M;END:VALARM"),
            at.into(),
            plus(at, ";BEGIN:VALARM;TRIGGER:-PT5M;END:VALARM;BEGIN:VALARM;TRIGGER:-PT9M;END:VALARM"),
            plus(at, ";BEGIN:VALARM;TRIGGER:-PT9M;END:VALARM"),
            "",
        ),
        (
            daily.into(),
            plus(daily, ";EXDATE:20261006T080000Z"),
            plus(daily, ";EXDATE:20261007T080000Z"),
            plus(daily, ";EXDATE:20261006T080000Z,20261007T080000Z"),
            "",
        ),
        // Occurrence by occurrence.
        (
            daily.into(),
            plus(daily, &moved(6, "")),
            plus(daily, &moved(7, "")),
            plus(daily, &(moved(6, "") + &moved(7, ""))),
            "",
        ),
        (
            plus(daily, &moved(6, "")),
            plus(daily, &moved(6, ";SUMMARY:x")),
            plus(daily, &moved(6, ";LOCATION:y")),
            plus(daily, &moved(6, ";SUMMARY:x;LOCATION:y")),
            "",
        ),
        (
            daily.into(),
            plus(daily, ";EXDATE:20261006T080000Z"),
            plus(daily, &moved(6, "")),
            plus(daily, &moved(6, "")),
            "occurrence",
        ),
        // What was agreed beside each other stays, whatever else changes.
        (
            plus(daily, &(";EXDATE:20261006T080000Z".to_owned() + &moved(6, ""))),
            plus(daily, &(";SUMMARY:x;EXDATE:20261006T080000Z".to_owned() + &moved(6, ""))),
            plus(daily, &(";LOCATION:y;EXDATE:20261006T080000Z".to_owned() + &moved(6, ""))),
            plus(daily, &(";SUMMARY:x;LOCATION:y;EXDATE:20261006T080000Z".to_owned() + &moved(6, ""))),
            "",
        ),
        // A category in another case is the same one, as it was written last; parameters stay.
        (
            plus(at, ";CATEGORIES:fair"),
            plus(at, ";CATEGORIES:Fair"),
            plus(at, ";CATEGORIES:fair,Town"),
            plus(at, ";CATEGORIES:Fair,Town"),
            "",
        ),
        (
            plus(daily, &moved(6, "")),
            daily.into(),
            plus(daily, &moved(6, ";SUMMARY:x")),
            plus(daily, &moved(6, ";SUMMARY:x")),
            "occurrence",
        ),
        (plus(daily, &moved(6, "")), daily.into(), plus(daily, &(moved(6, "") + ";")), daily.into(), ""),
        // A series that was moved, of which the other changed a day: the newer word counts, and nothing is mixed.
        (
            daily.into(),
            daily.replace("T08", "T10"),
            plus(daily, &moved(6, "")),
            plus(daily, &moved(6, "")),
            "time",
        ),
        (
            daily.into(),
            plus(daily, ";EXDATE:20261006T080000Z"),
            daily.replace("T08", "T10"),
            daily.replace("T08", "T10"),
            "time",
        ),
        (
            daily.into(),
            daily.replace("T08", "T10"),
            plus(daily, ";SUMMARY:x"),
            plus(&daily.replace("T08", "T10"), ";SUMMARY:x"),
            "",
        ),
        // Without anything agreed all is a change.
        (
            at.into(),
            plus(at, ";SEQUENCE:4"),
            plus(at, ";LOCATION:Row 12"),
            plus(at, ";LOCATION:Row 12;SEQUENCE:4"),
            "",
        ),
    ];
    for (base, a, b, expected, collision) in table {
        let base = base.replace(';', "\n");
        let lines = |text: &str| text.replace(';', "\n");
        let found = merged(&base, &lines(&a), &lines(&b));
        let differences = found.entry.meaning().differences(&entry(&lines(&expected)).meaning());
        assert!(differences.is_empty(), "{base} | {a} | {b}: {differences:#?}");
        let told: Vec<_> = found.collisions.iter().map(|c| c.field.as_str()).collect();
        assert_eq!(told.join(","), collision, "{base} | {a} | {b}");
    }
}

proptest! {
    #[test]
    fn one_change_is_taken_as_it_is(base in generate::entry(), now in generate::entry()) {
        let side = |now| MergeSide { before: Some(&base), now };
        for sides in [[&base, &now], [&now, &base]] {
            let found = merge(Some(&base), &sides.map(side), &|_| vec![0, 1]);
            prop_assert_eq!(found.entry.meaning().differences(&now.meaning()), vec![]);
            prop_assert_eq!(found.collisions, vec![]);
        }
        let same = merge(Some(&base), &[side(&now), side(&now)], &|_| vec![0, 1]);
        prop_assert_eq!(same.entry.meaning(), now.meaning());
        prop_assert_eq!(same.collisions, vec![]);
    }

    /// Whoever is asked first, the same comes out; and what did not collide is what somebody said.
    #[test]
    fn the_order_of_sides_does_not_matter(
        base in generate::entry(), a in generate::entry(), b in generate::entry(), c in generate::entry()
    ) {
        let side = |now| MergeSide { before: Some(&base), now };
        let one = merge(Some(&base), &[side(&a), side(&b), side(&c)], &|_| vec![0, 1, 2]);
        let other = merge(Some(&base), &[side(&c), side(&a), side(&b)], &|_| vec![1, 2, 0]);
        prop_assert_eq!(one.entry.meaning().differences(&other.entry.meaning()), vec![]);
        // What it came to merges into itself.
        let again = merge(Some(&base), &[side(&one.entry), side(&one.entry)], &|_| vec![0, 1]);
        prop_assert_eq!(again.entry.meaning(), one.entry.meaning());
    }
}

#[test]
fn parameters_of_lists_and_ranges_of_changes_survive() {
    let text = |title: &str, more: &str| {
        format!(
            "BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:press\nDTSTART:20261005T080000Z\nRRULE:FREQ=DAILY\nSUMMARY:{title}\n\
             CATEGORIES;LANGUAGE=en:Fair\n{more}END:VEVENT\n{}{}END:VCALENDAR\n",
            "BEGIN:VEVENT\nUID:press\nRECURRENCE-ID;RANGE=THISANDFUTURE:20261010T080000Z\n\
             DTSTART:20261010T150000Z\nSUMMARY:From here on\nEND:VEVENT\n",
            "BEGIN:VEVENT\nUID:press\nRECURRENCE-ID:20261010T080000Z\nDTSTART:20261010T160000Z\n\
             SUMMARY:That day\nEND:VEVENT\n"
        )
    };
    let read = |text: String| Entry::parse(&text, &Limits::default()).expect("an entry");
    let (base, a) = (read(text("Press", "")), read(text("Pressing", "")));
    let b = read(text("Press", "CATEGORIES:Town\n"));
    let side = |now| MergeSide { before: Some(&base), now };
    let merged = merge(Some(&base), &[side(&a), side(&b)], &|_| vec![0, 1]).entry;
    let titles: Vec<_> = merged.components().filter_map(|c| c.value("SUMMARY")).collect();
    assert_eq!(titles, ["Pressing", "From here on", "That day"]);
    let mut lists: Vec<_> = merged
        .main_component()
        .properties()
        .filter(|p| p.is("CATEGORIES"))
        .map(|p| p.line().to_owned())
        .collect();
    lists.sort();
    assert_eq!(lists, ["CATEGORIES:Town", "CATEGORIES;LANGUAGE=en:Fair"]);
}

#[test]
fn words_that_a_server_split_at_their_commas_are_not_added_where_nothing_was_agreed() {
    let at = "DTSTART:20261005T080000;DTEND:20261005T090000;SUMMARY:Press";
    let whole = entry(&format!("{at};CATEGORIES:Stalls\\, market,Hall"));
    let split = entry(&format!("{at} hall;CATEGORIES:Stalls;CATEGORIES:market;CATEGORIES:Fair"));
    let side = |now| MergeSide { before: None, now };
    for sides in [[&whole, &split], [&split, &whole]] {
        let merged = merge(None, &sides.map(side), &|_| vec![1, 0]).entry;
        let words = merged.main_component().properties().filter(|p| p.is("CATEGORIES"));
        let mut words: Vec<_> = words
            .flat_map(|p| chestnut_core::split_list(p.value()).map(str::to_owned).collect::<Vec<_>>())
            .collect();
        words.sort();
        assert_eq!(words, ["Fair", "Hall", "Stalls\\, market"]);
    }
}

#[test]
fn what_a_server_makes_of_a_text_is_no_edit() {
    let at = "DTSTART:20261005T080000;DTEND:20261005T090000;SUMMARY:Press";
    let begins = "DTSTART:20261005T080000;SUMMARY:Press";
    let utc = at.replace("T080000", "T060000Z").replace("T090000", "T070000Z");
    let plus = |base: &str, more: &str| format!("{base}{more}");
    // What was sent, what came back, and whether somebody edited it; then what stood there before that edit.
    for (sent, back, edited) in [
        (at.to_owned(), at.to_owned(), None),
        (at.to_owned(), utc.clone(), None),
        (plus(at, ";X-CRATES:12"), at.to_owned(), None),
        (plus(at, ";SEQUENCE:1"), plus(at, ";SEQUENCE:2"), None),
        (plus(at, ";DESCRIPTION:two  words "), plus(at, ";DESCRIPTION:two words"), None),
        (
            at.to_owned(),
            at.replace("START:", "START;TZID=Europe/Vienna:").replace("END:", "END;TZID=Europe/Vienna:"),
            None,
        ),
        (begins.to_owned(), plus(begins, ";DURATION:PT1H"), None),
        (begins.to_owned(), plus(begins, ";DTEND:20261005T090000"), None),
        (
            plus(at, ";CATEGORIES:Press,Far\\, away"),
            plus(at, ";CATEGORIES:Press;CATEGORIES:Far;CATEGORIES:away"),
            None,
        ),
        (
            plus(at, ";CATEGORIES:Far\\, away"),
            plus(at, ";CATEGORIES:Far"),
            Some(plus(at, ";CATEGORIES:Far\\, away")),
        ),
        (begins.to_owned(), plus(begins, ";DURATION:PT2H"), Some(begins.to_owned())),
        (at.to_owned(), at.replace("T090000", "T100000"), Some(at.to_owned())),
        (at.to_owned(), plus(at, ";LOCATION:Hall"), Some(at.to_owned())),
        (at.to_owned(), at.replace("Press", "Pressing"), Some(at.to_owned())),
        (plus(at, ";CATEGORIES:A,B"), plus(at, ";CATEGORIES:A"), Some(plus(at, ";CATEGORIES:A,B"))),
        (plus(at, ";X-CRATES:12"), plus(&utc, ";LOCATION:Hall"), Some(utc.clone())),
    ] {
        let undone = chestnut_core::undo_habits(&entry(&sent), &entry(&back), &Default::default());
        assert_eq!(undone.is_edited, edited.is_some(), "{sent} came back as {back}");
        let stood = entry(edited.as_ref().unwrap_or(&back));
        assert_eq!(
            undone.stood.meaning().differences(&stood.meaning()),
            vec![],
            "{sent} came back as {back}"
        );
    }
}
