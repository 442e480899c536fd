//! The laws of the lens, over entries with unknown properties, overrides and alarms.

use std::collections::{BTreeMap, BTreeSet};

use chestnut_core::{
    BlocksTime, Carry, Categories, Choice, Colour, Detail, Details, Entry, EventUid, Identity, People,
    Privacy, Reminders, Scheduling, Shows, Test, ical,
};
use proptest::prelude::*;

use crate::generate;

fn details() -> impl Strategy<Value = Details> {
    let taken = prop::sample::subsequence(Detail::ALL.to_vec(), 0..=Detail::ALL.len());
    let title = prop::option::of(prop::sample::select(vec!["", "Taken; press, hall", "[Stall] "]));
    let map =
        || BTreeMap::from([("Town".to_owned(), "orange".to_owned()), ("".to_owned(), "blue".to_owned())]);
    (
        taken,
        title.clone(),
        title,
        prop::sample::select(vec![None, Some(BlocksTime::Yes), Some(BlocksTime::No)]),
        prop::sample::select(vec![
            None,
            Some(Privacy::Public),
            Some(Privacy::Private),
            Some(Privacy::Confidential),
        ]),
        prop::sample::select(vec![Reminders::AsTheyAre, Reminders::None, Reminders::Before(1800)]),
        prop::sample::select(vec![
            Categories::AsTheyAre,
            Categories::Fixed(vec!["A, b".to_owned()]),
            Categories::Renamed(map()),
        ]),
        prop::sample::select(vec![Colour::AsItIs, Colour::Fixed("navy".into()), Colour::ByCategory(map())]),
    )
        .prop_map(|(taken, title, prefix, blocks_time, privacy, reminders, categories, colour)| {
            Details {
                taken: taken.into_iter().collect::<BTreeSet<_>>(),
                title: title.map(str::to_owned),
                prefix: prefix.map(str::to_owned),
                blocks_time,
                privacy,
                reminders,
                categories,
                colour,
            }
        })
}

fn carries() -> impl Strategy<Value = Carry> {
    let shows = prop_oneof![
        1 => Just(Shows::Everything),
        3 => details().prop_map(|details| Shows::Details(Box::new(details))),
        1 => Just(Shows::Busy("Taken".to_owned())),
    ];
    let own = vec!["mailto:office@coop.example".to_owned()];
    let scheduling = prop::sample::select(vec![Scheduling::Never, Scheduling::Anybody, Scheduling::For(own)]);
    let people = prop::sample::select(vec![People::Silent, People::Listed, People::Dropped, People::Invite]);
    let tests = [Test::Declined(true), Test::Private(true), Test::Free(true), Test::Cancelled(true)];
    let skip = prop::sample::subsequence(tests.to_vec(), 0..3);
    (shows, people, scheduling, skip).prop_map(|(shows, people, scheduling, skip)| {
        let me = vec!["crew@coop.example".to_owned()];
        let choice = Choice { skip, me: me.clone(), by_occurrence: true, ..Choice::default() };
        Carry { shows, people, scheduling, me, choice }
    })
}

proptest! {
    #[test]
    fn what_is_put_is_what_shows(carry in carries(), source in generate::entry(), existing in generate::entry()) {
        let Ok(view) = carry.show(&source) else { return Ok(()) };
        for identity in [Identity::Existing(&existing), Identity::New(EventUid::from("copy"))] {
            let put = carry.put(&view, &identity);
            prop_assert_eq!(view.fingerprint(), view.sight().of_far_side(&put).fingerprint());
        }
        let put = carry.put(&view, &Identity::Existing(&existing));
        prop_assert_eq!(put.uid(), existing.uid());
    }

    #[test]
    fn putting_back_what_shows_changes_nothing(carry in carries(), entry in generate::entry(), of in generate::entry()) {
        let Ok(view) = carry.show(&of) else { return Ok(()) };
        let seen = view.sight().of_far_side(&entry);
        let back = carry.put(&seen, &Identity::Existing(&entry));
        prop_assert_eq!(back.meaning(), entry.meaning());
        prop_assert_eq!(back.uid(), entry.uid());
    }

    #[test]
    fn what_a_route_does_not_carry_is_left_alone(carry in carries(), source in generate::entry(), existing in generate::entry()) {
        let Ok(view) = carry.show(&source) else { return Ok(()) };
        let put = carry.put(&view, &Identity::Existing(&existing));
        // Everything of the series that the far side's view does not show stands there as before, line by line.
        let shown = view.sight().of_far_side(&existing);
        let own = |e: &Entry| e.main_component().properties().map(|p| p.line().to_owned()).collect::<Vec<_>>();
        let (shown, after) = (own(shown.entry()), own(&put));
        for hidden in own(&existing).into_iter().filter(|line| !shown.contains(line)) {
            prop_assert!(after.contains(&hidden), "lost {}", hidden);
        }
    }

    #[test]
    fn nobody_is_named_to_a_server_that_would_write_to_them(carry in carries(), entry in generate::entry()) {
        let carry = Carry { scheduling: Scheduling::Anybody, ..carry };
        prop_assume!(carry.people != People::Invite);
        let Ok(view) = carry.show(&entry) else { return Ok(()) };
        let put = carry.put(&view, &Identity::New(EventUid::from("copy")));
        prop_assert!(!ical::write(put.object()).contains("\nATTENDEE"));
    }

    #[test]
    fn everything_unknown_is_carried_byte_for_byte(entry in generate::entry()) {
        let carry = Carry::default();
        let view = carry.show(&entry).expect("all is shown");
        let put = carry.put(&view, &Identity::New(EventUid::from("generated")));
        let lines = |e: &Entry| {
            let mut lines = Vec::new();
            e.object().visit_properties(&mut |p| if !p.is("PRODID") { lines.push(p.line().to_owned()) });
            lines
        };
        prop_assert_eq!(lines(&put), lines(&entry));
    }

    #[test]
    fn busy_time_tells_nothing_but_the_time(entry in generate::marked_entry()) {
        let carry = Carry { shows: Shows::Busy("Taken".to_owned()), ..Carry::default() };
        let Ok(view) = carry.show(&entry) else { return Ok(()) };
        let put = carry.put(&view, &Identity::New(EventUid::from("copy")));
        let text = put.caldav_text(jiff::Timestamp::UNIX_EPOCH);
        prop_assert!(!text.to_lowercase().contains("quince"), "{}", text);
    }
}
