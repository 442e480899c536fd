//! A sign-in goes to the account's own server, and where a person has said; entries go nowhere else at all.

use std::sync::{Arc, Mutex};

use chestnut_caldav::{
    Credentials, HttpOptions, HttpTransport, Request, SignIn, Transport as _, TransportFault,
};

use crate::desk::{Desk, raw_server, reply};
use crate::set_up::SetUp;

/// A listener that wants a sign-in, and what it heard.
fn stranger() -> (String, Arc<Mutex<Vec<String>>>) {
    let heard = Arc::new(Mutex::new(Vec::new()));
    let ear = Arc::clone(&heard);
    let url = raw_server(move |request| {
        ear.lock().expect("an ear").push(request.to_owned());
        if request.to_ascii_lowercase().contains("authorization:") {
            return reply(403, "", "");
        }
        reply(401, "WWW-Authenticate: Basic realm=\"x\"\r\n", "")
    });
    // Another name of the same machine is another origin.
    (url.replace("127.0.0.1", "localhost"), heard)
}

fn heard_of(heard: &Mutex<Vec<String>>) -> (usize, usize) {
    let heard = heard.lock().expect("an ear");
    let signed = heard.iter().filter(|request| request.to_ascii_lowercase().contains("authorization:"));
    (heard.len(), signed.count())
}

#[test]
fn a_password_goes_where_a_person_says_and_nowhere_else() {
    let (elsewhere, heard) = stranger();
    let principal = format!(
        "<d:multistatus xmlns:d='DAV:'><d:response><d:href>/</d:href><d:propstat><d:prop><d:current-user-principal>\
         <d:href>{elsewhere}people/office/</d:href></d:current-user-principal></d:prop><d:status>HTTP/1.1 200 OK</d:status>\
         </d:propstat></d:response></d:multistatus>"
    );
    let named = raw_server(move |_| reply(207, "Content-Type: application/xml\r\n", &principal));
    let location = format!("Location: {elsewhere}\r\n");
    let redirected = raw_server(move |_| reply(301, &location, ""));
    let origin = elsewhere.trim_end_matches('/').to_owned();
    for own in [named, redirected] {
        let desk = Desk::new();
        desk.account(&own, "");
        heard.lock().expect("an ear").clear();
        // A run asks nobody, and does not even look there.
        let told = desk.run(&["calendar", "list"]);
        assert!(
            told.code == 1 && told.said().contains("redirects sign-ins to http://localhost:"),
            "{}",
            told.said()
        );
        assert_eq!(heard_of(&heard), (0, 0));
        // A look at the account goes there without the password, and says how to let it have it.
        let told = desk.run(&["account", "test"]);
        assert_eq!(told.code, 2, "{}", told.out);
        assert!(told.out.contains("--sign-in-also-at") && told.out.contains(&origin), "{}", told.out);
        let (all, signed) = heard_of(&heard);
        assert!(all > 0 && signed == 0);
        // What was allowed is written down, and holds from then on.
        let told = desk.run(&["account", "test", "--sign-in-also-at", &origin]);
        assert!(told.code == 1 && heard_of(&heard).1 > 0, "{}", told.out);
        assert!(desk.read("chestnut.toml").contains(&format!("sign-in-also-at = [\"{origin}\"]")));
    }
    let desk = Desk::new();
    desk.account("https://dav.packhouse.example/", "sign-in-also-at = [\"cloud.example/path\"]");
    let told = desk.run(&["status"]);
    assert!(told.code == 2 && told.said().contains("which is not just a server"), "{}", told.said());
}

/// A feed of an account may stand where its sign-in may go, and nowhere else.
#[test]
fn a_feed_signs_in_where_a_person_has_allowed_it() {
    let (elsewhere, heard) = stranger();
    let origin = elsewhere.trim_end_matches('/').to_owned();
    let desk = Desk::new();
    for (also, signed) in [("", false), (&format!("sign-in-also-at = [\"{origin}\"]\n")[..], true)] {
        desk.account("http://127.0.0.1:1/", also);
        let feed = format!(
            "[calendar.days]\naccount = \"packhouse\"\nfeed = \"{elsewhere}days.ics\"\n[calendar.kiosk]\nfolder = \"k\"\n\
             [route.r]\nfrom = \"days\"\nto = \"kiosk\"\n"
        );
        let text = desk.read("chestnut.toml");
        desk.write("chestnut.toml", text + &feed);
        let told = desk.run(&["sync"]);
        assert_eq!(
            told.said().contains("not on the server of account packhouse"),
            !signed,
            "{}",
            told.said()
        );
        assert_eq!(heard_of(&heard).1 > 0, signed);
    }
}

#[tokio::test]
async fn entries_are_not_sent_on_and_nothing_goes_down() {
    rustls::crypto::ring::default_provider().install_default().ok();
    let (elsewhere, heard) = stranger();
    let location = format!("Location: {elsewhere}\r\n");
    let own = raw_server(move |_| reply(307, &location, ""));
    let who = Credentials { user: "office".to_owned(), password: "office-pw".to_owned().into() };
    for (sign_in, method, fault) in [
        (SignIn::Nobody, "PUT", TransportFault::WriteElsewhere),
        (SignIn::Password(who.clone()), "PUT", TransportFault::WriteElsewhere),
        (SignIn::Password(who.clone()), "DELETE", TransportFault::WriteElsewhere),
        (SignIn::Password(who.clone()), "MKCALENDAR", TransportFault::WriteElsewhere),
        (SignIn::Password(who), "REPORT", TransportFault::SignInElsewhere),
    ] {
        let transport =
            HttpTransport::new(HttpOptions { sign_in, ..HttpOptions::default() }).expect("a transport");
        let url = own.parse().expect("an address");
        let request = Request { method, url, headers: Vec::new(), body: "BEGIN:VCALENDAR".to_owned() };
        let error = transport.send(&request).await.expect_err("it is sent on");
        assert_eq!(error.fault, fault, "{method}");
    }
    assert_eq!(heard_of(&heard), (0, 0));
}

#[test]
fn a_refused_sign_in_ends_the_account_for_all_its_routes() {
    let set_up = SetUp::new(3);
    let mut text = set_up.standard();
    for number in 0..12 {
        text += &format!(
            "[route.more-{number}]\nfrom = \"presses\"\nto = \"more-{number}\"\n[calendar.more-{number}]\nfolder = \"more-{number}\"\n"
        );
    }
    set_up.configure(&text);
    set_up.private("office.password", "not the word");
    let asked = || set_up.source.with(|server| server.log.len());
    for command in [&["sync"][..], &["preview"], &["compare"]] {
        let before = asked();
        let told = set_up.run(command);
        assert_eq!(told.code, 1, "{command:?}: {}", told.said());
        assert_eq!(told.err.matches("Error:").count(), 1, "{command:?}: {}", told.err);
        // Asked without, as over plain HTTP, and once with it.
        assert_eq!(asked() - before, 2, "{command:?}");
    }
}

/// What a server or a publisher repeats of a secret comes back from nowhere.
#[test]
fn secrets_that_are_repeated_come_back_from_nowhere() {
    // Each says what it was sent, in an error and in what should be a calendar.
    let office = raw_server(|request| {
        if !request.to_ascii_lowercase().contains("authorization:") {
            return reply(401, "WWW-Authenticate: Basic realm=\"x\"\r\n", "");
        }
        reply(400, "", &format!("office-pw was wrong for {request}"))
    });
    let refuses = raw_server(|request| reply(410, "", &format!("nothing for {request}")));
    let repeats = raw_server(|request| {
        let path = request.split_whitespace().nth(1).unwrap_or_default().to_owned();
        reply(
            200,
            "Content-Type: text/calendar\r\n",
            &format!("BEGIN:VCALENDAR\rEND:{path}\r{}", path.repeat(50)),
        )
    });
    let closes = raw_server(|request| {
        let path = request.split_whitespace().nth(1).unwrap_or_default().to_owned();
        let text = format!("BEGIN:VCALENDAR\r\nEND:{path}\r\n{}", path.repeat(50));
        reply(200, "Content-Type: text/calendar\r\n", &text)
    });
    let secret = "wrens-and-owls-4711";
    for (name, more) in [
        ("office", String::new()),
        ("refuses", format!("[calendar.markets]\nfeed = \"{refuses}{secret}/days.ics?key={secret}\"\n")),
        ("repeats", format!("[calendar.markets]\nfeed = \"{repeats}{secret}/days.ics\"\n")),
        ("closes", format!("[calendar.markets]\nfeed = \"{closes}{secret}/days.ics\"\n")),
    ] {
        let desk = Desk::new();
        let from = if name == "office" { "presses" } else { "markets" };
        desk.account(&office, &format!(
            "{more}[calendar.presses]\naccount = \"packhouse\"\npath = \"/presses/\"\n[calendar.board]\nfolder = \"board\"\n\
             [route.r]\nfrom = \"{from}\"\nto = \"board\"\n"
        ));
        for command in [&["sync", "-vv"][..], &["sync", "--json"], &["history", "--json"], &["status"]] {
            let told = desk.run(command);
            if command.contains(&"-vv") {
                let reached =
                    ["400", "410", "END:", "without a valid name"].iter().any(|word| told.err.contains(word));
                assert!(told.code == 1 && reached, "{name}: {}", told.said());
            }
            let all = format!("{}{}", told.out, told.err);
            assert!(!all.contains("office-pw") && !all.contains("b2ZmaWNl"), "{name} {command:?}: {all}");
            assert!(!all.contains(secret) && all.len() < 20_000, "{name} {command:?}: {all}");
        }
        let state = std::fs::read(desk.path("chestnut.state")).unwrap_or_default();
        let holds = |word: &str| state.windows(word.len()).any(|window| window == word.as_bytes());
        assert!(!holds("office-pw") && !holds(secret), "{name}");
    }
    let desk = Desk::new();
    desk.account(&office, "");
    let told =
        desk.run(&["calendar", "add", "markets", "--feed", &format!("htps//markets.example/{secret}")]);
    assert!(told.code == 2 && !told.said().contains(secret), "{}", told.said());
}
