//! Habits that only show on a real connection, and every starting point of an account.

use chestnut_standin::Habit;

use crate::set_up::{BOARD, PRESSES, SetUp};

#[test]
fn habits_of_connections_sign_in_and_addresses() {
    use Habit::{
        AlphaColors, CrowdedHome, DigestOnly, DoubleEscapes, FailsParallel, Gzip, HomeIsPrincipal,
        LocksParallel, NoPrivileges, NoWellKnown, OneRequestPerConnection, WeakEtags, WellKnown302,
        WellKnownAbsolute,
    };
    for habits in [
        vec![Gzip, WeakEtags],
        vec![OneRequestPerConnection],
        vec![DigestOnly],
        vec![LocksParallel],
        vec![FailsParallel],
        vec![WellKnownAbsolute, CrowdedHome, AlphaColors, DoubleEscapes],
        vec![WellKnown302, NoPrivileges, DigestOnly, Gzip],
        vec![NoWellKnown],
    ] {
        let set_up = SetUp::new(24);
        for site in [&set_up.source, &set_up.target] {
            site.with(|server| server.habits = habits.iter().copied().collect());
        }
        // A calendar's name may come back changed, its path does not.
        set_up
            .configure(&set_up.standard().replace("name = \"Notice board\"", &format!("path = \"{BOARD}\"")));
        let found = set_up.ok(&["account", "test", "--json"]).json();
        assert_eq!(found["accounts"][1]["calendars"].as_array().map(Vec::len), Some(1), "{habits:?}");
        let told = set_up.ok(&["sync", "--json"]).json();
        assert_eq!(told["runs"][0]["calendars"]["board"]["created"], 24, "{habits:?}: {told}");
        let told = set_up.ok(&["sync", "--json"]).json();
        assert_eq!(
            (&told["runs"][0]["writes"], &told["runs"][0]["requests"]),
            (&0.into(), &2.into()),
            "{habits:?}"
        );
    }
    let set_up = SetUp::new(0);
    set_up.source.with(|server| server.habits = [HomeIsPrincipal].into());
    assert_eq!(set_up.run(&["account", "test", "packhouse"]).code, 0);
}

#[test]
fn every_starting_point_leads_to_the_same_calendars() {
    let set_up = SetUp::new(3);
    let standard = set_up.standard();
    let calendars = |start: &str| {
        set_up.configure(&standard.replace(&set_up.source.url, &format!("{}{start}", set_up.source.url)));
        set_up.ok(&["calendar", "list", "packhouse", "--json"]).json()["accounts"][0]["calendars"].clone()
    };
    let expected = calendars("");
    assert_eq!(expected[0]["path"], PRESSES);
    for start in [
        ".well-known/caldav",
        "office/",
        "office",
        "office/calendars/",
        "office/calendars/presses/",
        "nowhere/",
    ] {
        assert_eq!(calendars(start), expected, "{start}");
    }
}
