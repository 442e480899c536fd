//! What a write could make a scheduling server send, each case with its outcome listed by hand.

use chestnut_core::ical::Limits;
use chestnut_core::{Entry, Mail, Scheduler, Scheduling, shows_agent_honoured, without_people};

/// An entry with people: who organises comes first, then who is invited. `O` is the office, `C` the crews, `V` the
/// van; in lower case they are looked after by a client.
fn entry(people: &str, title: &str, more: &str) -> Entry {
    let mut lines = String::new();
    for (at, who) in people.chars().enumerate() {
        let name = if at == 0 { "ORGANIZER" } else { "ATTENDEE" };
        let agent = if who.is_ascii_lowercase() { ";SCHEDULE-AGENT=CLIENT" } else { "" };
        let address = match who.to_ascii_uppercase() {
            'O' => "MAILTO:Office@Coop.example",
            'C' => "mailto:crews@coop.example",
            _ => "mailto:van@coop.example",
        };
        lines += &format!("{name}{agent}:{address}\n");
    }
    let text = format!(
        "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//orchard//EN\nBEGIN:VEVENT\nUID:press\nDTSTART:20261005T080000Z\n\
         SUMMARY:{title}\n{lines}{more}END:VEVENT\nEND:VCALENDAR\n"
    );
    Entry::parse(&text, &Limits::default()).expect("an entry")
}

#[test]
fn what_could_send_mail_is_as_listed() {
    let own = Scheduling::For(vec!["mailto:office@coop.example".to_owned()]);
    let (never, anybody, nobody) = (Scheduling::Never, Scheduling::Anybody, Scheduling::For(Vec::new()));
    let crews = ["crews@coop.example".to_owned()];
    let plain = |scheduling, me| Scheduler { scheduling, me, honours_agent: false, obeys_no_reply: false };
    let honours = |s: Scheduler<'static>| Scheduler { honours_agent: true, ..s };
    let obeys = |s| Scheduler { obeys_no_reply: true, ..s };
    let leak = |s: Scheduling| -> &'static Scheduling { Box::leak(Box::new(s)) };
    let office = plain(leak(own), &[]);
    let with_crews: Scheduler<'static> = plain(office.scheduling, Box::leak(Box::new(crews)));
    let (silent, any) = (plain(leak(never), with_crews.me), plain(leak(anybody), &[]));
    let addressless = plain(leak(nobody), with_crews.me);
    let alarm = "BEGIN:VALARM\nACTION:DISPLAY\nDESCRIPTION:x\nTRIGGER:-PT5M\nEND:VALARM\n";
    use Mail::{Never, OfOwnDetails, Perhaps, UnlessTold, WithPeople};
    // Who schedules; the people, title and more before and after (`-` nothing); the outcome.
    let table = [
        // Nobody is named, or only one person.
        (office, Some(("", "a", "")), Some(("", "b", "")), Never),
        (office, Some(("O", "a", "")), Some(("O", "b", "")), Never),
        (office, Some(("OO", "a", "")), Some(("OO", "b", "")), Never),
        (any, Some(("CC", "a", "")), None, Never),
        // Somebody else's meeting, on a server that acts for the office.
        (office, Some(("CV", "a", "")), Some(("CV", "b", "")), Never),
        (office, Some(("CV", "a", "")), None, Never),
        (with_crews, Some(("CV", "a", "")), Some(("CV", "b", "")), Perhaps),
        (with_crews, Some(("VC", "a", "")), None, Perhaps),
        (any, Some(("CV", "a", "")), Some(("CV", "b", "")), Perhaps),
        (any, Some(("CV", "a", "")), None, Perhaps),
        // No scheduling, or nobody to act for.
        (silent, Some(("OC", "a", "")), Some(("OC", "b", "")), Never),
        (silent, None, Some(("OC", "a", "")), Never),
        (addressless, Some(("OC", "a", "")), None, Never),
        // The office invites, or is invited.
        (office, None, Some(("OC", "a", "")), WithPeople),
        (office, None, Some(("CO", "a", "")), WithPeople),
        (office, Some(("OC", "a", "")), Some(("OC", "a", "")), OfOwnDetails),
        (office, Some(("OC", "a", "")), Some(("OC", "a", alarm)), OfOwnDetails),
        (
            office,
            Some(("OC", "a", "X-MARK:1\nCOLOR:red\n")),
            Some(("OC", "a", "TRANSP:TRANSPARENT\n")),
            OfOwnDetails,
        ),
        (office, Some(("OC", "a", "")), Some(("OC", "b", "")), Perhaps),
        (office, Some(("OC", "a", "")), Some(("OC", "a", "LOCATION:hall\n")), Perhaps),
        (office, Some(("OC", "a", "")), Some(("", "a", "")), Perhaps),
        (office, Some(("", "a", "")), Some(("OC", "a", "")), Perhaps),
        (office, Some(("OC", "a", "")), None, Perhaps),
        (office, Some(("CO", "a", "")), Some(("CO", "b", "")), Perhaps),
        (office, Some(("CO", "a", "")), None, Perhaps),
        // An answer can be kept back, a cancellation cannot; nor is it known who the server acts for.
        (obeys(office), Some(("CO", "a", "")), None, UnlessTold),
        (obeys(office), Some(("OC", "a", "")), None, Perhaps),
        (obeys(any), Some(("CO", "a", "")), None, Perhaps),
        (obeys(with_crews), Some(("CO", "a", "")), None, Perhaps),
        // Whom a client looks after, where the server was seen to leave them alone.
        (office, Some(("oc", "a", "")), Some(("oc", "b", "")), Perhaps),
        (honours(office), Some(("oc", "a", "")), Some(("oc", "b", "")), Never),
        (honours(office), Some(("oc", "a", "")), None, Never),
        (honours(office), None, Some(("oc", "a", "")), Never),
        (honours(office), Some(("ocV", "a", "")), Some(("ocV", "b", "")), Perhaps),
        (honours(office), Some(("oc", "a", "")), Some(("OC", "a", "")), Perhaps),
    ];
    for (scheduler, before, after, expected) in table {
        let read =
            |said: Option<(&str, &str, &str)>| said.map(|(people, title, more)| entry(people, title, more));
        let (then, now) = (read(before), read(after));
        let mail = scheduler.mail(then.as_ref(), now.as_ref());
        assert_eq!(mail, expected, "{before:?} → {after:?}, {scheduler:?}");
    }
}

#[test]
fn a_server_honours_the_agent_where_it_told_of_others_alone() {
    let told = ";SCHEDULE-STATUS=\"1.1\"";
    let attendees = |first: &str, second: &str| {
        let line = |params: &str, who: &str| format!("ATTENDEE{params}:mailto:{who}@coop.example\n");
        entry("O", "a", &(line(first, "crews") + &line(second, "van")))
    };
    let client = ";SCHEDULE-AGENT=CLIENT";
    assert!(shows_agent_honoured(&attendees(told, client)));
    for (first, second) in [(told, ""), ("", client), (client, client), (told, told)] {
        assert!(!shows_agent_honoured(&attendees(first, second)), "{first} {second}");
    }
    assert!(!shows_agent_honoured(&attendees(told, &format!("{client}{told}"))));
    let bare = without_people(&attendees(told, client)).expect("people");
    assert_eq!(bare.meaning(), entry("", "a", "").meaning());
    assert_eq!(without_people(&bare), None);
}
