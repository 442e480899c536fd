//! A calendar as it stood comes back word for word, or not at all.

use chestnut_core::ical::Limits;
use chestnut_core::{CalendarText, NotASnapshot, ObjectHref, read_snapshot, write_snapshot};
use proptest::prelude::*;

fn entry(uid: usize, title: &str, more: &str) -> (ObjectHref, String) {
    let text = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//{uid}//EN\r\nX-OWN:{uid}\r\nBEGIN:VEVENT\r\nUID:crew-{uid}\r\n\
         DTSTAMP:20261001T080000Z\r\nDTSTART:20261007T080000Z\r\nSUMMARY:{title}\r\n{more}END:VEVENT\r\nEND:VCALENDAR\r\n"
    );
    (ObjectHref::from(format!("/office/presses/{uid}.ics").as_str()), text)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_was_written_is_read_and_what_was_changed_is_not(
        titles in prop::collection::vec("[a-zA-Z0-9 ,;:é\\\\\"\u{1b}\u{1f34e}]{0,90}", 0..6),
        at in 0.0..1.0_f64,
        sign in "[a-z]",
    ) {
        let entries: Vec<_> =
            titles.iter().enumerate().map(|(n, title)| entry(n, title, "X-CRATES:1\r\n")).collect();
        let text = write_snapshot("Press hall, early", &entries);
        let read = read_snapshot(text.as_bytes()).expect("a snapshot");
        let back: Vec<_> = read.entries.into_iter().map(|one| (one.href.expect("where it stood"), one.text)).collect();
        prop_assert_eq!(&back, &entries);
        // Lines that end otherwise are no change.
        prop_assert_eq!(read_snapshot(text.replace("\r\n", "\n").as_bytes()).expect("a snapshot").entries.len(), entries.len());
        // Whoever knows nothing of snapshots reads the same entries.
        let plain = CalendarText::read(text.as_bytes(), None, &Limits::default()).expect("a calendar");
        prop_assert_eq!(plain.placed().len(), entries.len());
        // Cut anywhere, or with one letter more, nothing of it counts.
        let cut = text.floor_char_boundary((text.len() as f64 * at) as usize);
        prop_assert!(text[cut..].trim().is_empty() || read_snapshot(&text.as_bytes()[..cut]).is_err());
        let longer = format!("{}{sign}{}", &text[..cut], &text[cut..]);
        prop_assert!(read_snapshot(longer.as_bytes()).is_err(), "{longer}");
    }
}

#[test]
fn a_calendar_of_other_origin_is_its_entries() {
    let (_, one) = entry(1, "Van", "");
    let read = read_snapshot(one.as_bytes()).expect("a calendar").entries;
    assert_eq!((read.len(), read[0].href.as_ref()), (1, None));
    assert!(read[0].text.contains("UID:crew-1"));
    for wrong in ["", "<html></html>", &one[..one.len() - 20]] {
        assert!(matches!(read_snapshot(wrong.as_bytes()), Err(NotASnapshot::NotACalendar(_))), "{wrong}");
    }
    let other = write_snapshot("Van", &[]).replace("X-CHESTNUT-SNAPSHOT:1", "X-CHESTNUT-SNAPSHOT:2");
    assert_eq!(read_snapshot(other.as_bytes()), Err(NotASnapshot::Changed));
}
