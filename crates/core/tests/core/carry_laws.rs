//! The laws of the lens, over entries with unknown properties, overrides and alarms.

use chestnut_core::{Carry, EventUid, Identity, Scheduling};
use proptest::prelude::*;

use crate::generate;

fn carries() -> impl Strategy<Value = Carry> {
    let own = vec!["mailto:office@coop.example".to_owned()];
    prop::sample::select(vec![Scheduling::Never, Scheduling::Anybody, Scheduling::For(own)])
        .prop_map(|scheduling| Carry { scheduling })
}

proptest! {
    #[test]
    fn what_is_put_is_what_shows(carry in carries(), source in generate::entry(), existing in generate::entry()) {
        let view = carry.show(&source);
        for identity in [Identity::Existing(&existing), Identity::New(EventUid::from("copy"))] {
            let put = carry.put(&view, &identity);
            prop_assert_eq!(view.fingerprint(), view.same_rule(&put).fingerprint());
        }
        let put = carry.put(&view, &Identity::Existing(&existing));
        prop_assert_eq!(put.uid(), existing.uid());
    }

    #[test]
    fn putting_back_what_shows_changes_nothing(carry in carries(), entry in generate::entry()) {
        let back = carry.put(&carry.show(&entry), &Identity::Existing(&entry));
        prop_assert_eq!(back.meaning(), entry.meaning());
        prop_assert_eq!(back.uid(), entry.uid());
    }

    #[test]
    fn nobody_is_named_to_a_server_that_would_write_to_them(entry in generate::entry()) {
        let carry = Carry { scheduling: Scheduling::Anybody };
        let put = carry.put(&carry.show(&entry), &Identity::New(EventUid::from("copy")));
        prop_assert!(!chestnut_core::ical::write(put.object()).contains("ATTENDEE"));
    }

    #[test]
    fn everything_unknown_is_carried_byte_for_byte(entry in generate::entry()) {
        let carry = Carry::default();
        let put = carry.put(&carry.show(&entry), &Identity::New(EventUid::from("generated")));
        let lines = |e: &chestnut_core::Entry| {
            let mut lines = Vec::new();
            e.object().visit_properties(&mut |p| if !p.is("PRODID") { lines.push(p.line().to_owned()) });
            lines
        };
        prop_assert_eq!(lines(&put), lines(&entry));
    }
}
