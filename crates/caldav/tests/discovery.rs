//! From every address to every calendar, on servers of every shape.

use std::cell::RefCell;
use std::future::Future;
use std::pin::Pin;
use std::rc::Rc;

use chestnut_caldav::protocol::Found;
use chestnut_caldav::{
    Answer, Client, ClientOptions, DavError, Request, SignInKind, Transport, TransportError,
};
use chestnut_core::Scheduling;
use http::HeaderMap;
use url::Url;

/// What a server's shape is: everything else is as one expects it.
#[derive(Clone, Copy, Default)]
struct Shape {
    /// Fails with this status on this property, wherever a home or a root is asked.
    fails_on: Option<(&'static str, u16, &'static str)>,
    /// Nothing is said at `/`.
    bare_root: bool,
    /// The home names a home of somebody else.
    misleading_home: bool,
    /// All of it stands below this path, and nothing at the root says so.
    below: &'static str,
    /// How many homes the principal has.
    homes: usize,
    /// For whom the user stands in: named outright, or by groups.
    proxy: Option<&'static str>,
    /// Answers everything with this.
    always: Option<u16>,
}

struct Office {
    shape: Shape,
    asked: RefCell<Vec<String>>,
}

const CALENDAR: &str = "<c:calendar/>";

impl Office {
    fn at(&self, path: &str, depth: &str, body: &str) -> (u16, String) {
        let Shape { fails_on, bare_root, misleading_home, below, homes, proxy, always } = self.shape;
        if let Some(status) = always {
            return (status, String::new());
        }
        let is_calendar = path.trim_end_matches('/').split('/').count() > 3;
        if let Some((property, status, words)) = fails_on
            && body.contains(property)
            && !is_calendar
        {
            return (status, words.to_owned());
        }
        let item = |path: &str, types: &str, more: &str| {
            format!(
                "<d:response><d:href>{path}</d:href><d:propstat><d:prop><d:resourcetype><d:collection/>{types}\
                 </d:resourcetype>{more}</d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>"
            )
        };
        let user = "<d:current-user-principal><d:href>/people/office/</d:href></d:current-user-principal>";
        let set = |homes: String| format!("<c:calendar-home-set>{homes}</c:calendar-home-set>");
        let owned = |who: &str| format!("<d:owner><d:href>/people/{who}/</d:href></d:owner>{user}");
        let inner = match (path.trim_end_matches('/'), depth) {
            (entrance, _) if !below.is_empty() && entrance == below => item(path, "", user),
            ("" | "/.well-known/caldav", _) if bare_root => return (404, String::new()),
            ("" | "/.well-known/caldav", _) => item(path, "", user),
            ("/people/office", _) => {
                let hrefs = (0..homes.max(1)).map(|n| match n {
                    0 => "<d:href>/cal/office</d:href>".to_owned(),
                    n => format!("<d:href>/cal/more-{n}/</d:href>"),
                });
                let stands_in = match proxy {
                    Some("groups") => {
                        "<d:group-membership><d:href>/people/hall/calendar-proxy-write/</d:href><d:href>/groups/all/</d:href></d:group-membership>"
                    }
                    Some(_) => {
                        "<s:calendar-proxy-write-for><d:href>/people/hall/</d:href></s:calendar-proxy-write-for>"
                    }
                    None => "",
                };
                item(path, "<d:principal/>", &format!("{user}{}{stands_in}", set(hrefs.collect())))
            }
            ("/people/hall", _) => item(path, "<d:principal/>", &set("<d:href>/cal/hall/</d:href>".into())),
            ("/cal/office", "0") if misleading_home => {
                item("/cal/office/", "", &format!("{user}{}", set("<d:href>/cal/hall/</d:href>".into())))
            }
            ("/cal/office", "0") => item("/cal/office/", "", user),
            ("/cal/office", _) => [
                item("/cal/office/", "", user),
                item("/cal/office/presses/", CALENDAR, &owned("office")),
                item("/cal/office/main/", &format!("{CALENDAR}<c:schedule-outbox/>"), &owned("office")),
                item("/cal/office/inbox/", "<c:schedule-inbox/>", &owned("office")),
                item("/cal/office/outbox/", "<c:schedule-outbox/>", &owned("office")),
                item("/cal/office/files/", "", &owned("office")),
            ]
            .concat(),
            ("/cal/hall", _) => item("/cal/hall/press%20hall/", CALENDAR, &owned("hall")),
            ("/cal/office/presses", "0") => item("/cal/office/presses/", CALENDAR, &owned("office")),
            (more, _) if more.starts_with("/cal/more-") => {
                item(&format!("{more}/stalls/"), CALENDAR, &owned("office"))
            }
            _ => return (404, String::new()),
        };
        let open =
            "xmlns:d='DAV:' xmlns:c='urn:ietf:params:xml:ns:caldav' xmlns:s='http://calendarserver.org/ns/'";
        (207, format!("<d:multistatus {open}>{inner}</d:multistatus>"))
    }
}

impl Transport for Office {
    fn send<'a>(
        &'a self,
        request: &'a Request,
    ) -> Pin<Box<dyn Future<Output = Result<Answer, TransportError>> + 'a>> {
        let depth = request.headers.iter().find(|(name, _)| *name == "Depth").map_or("", |(_, v)| v.as_str());
        let path = request.url.path();
        self.asked.borrow_mut().push(path.to_owned());
        let (status, body) = self.at(path, depth, &request.body);
        let answer = Answer {
            status,
            headers: HeaderMap::new(),
            body: body.into(),
            url: request.url.clone(),
            sign_in: SignInKind::Nothing,
        };
        Box::pin(std::future::ready(Ok(answer)))
    }
}

async fn search(shape: Shape, path: &str, with_others: bool) -> (Result<Found, DavError>, Vec<String>) {
    let office = Rc::new(Office { shape, asked: RefCell::default() });
    let options = ClientOptions { retries: false, ..ClientOptions::default() };
    let client = Client::new(Rc::<Office>::clone(&office), options);
    let start = Url::parse("https://dav.packhouse.example").expect("an address").join(path).expect("a path");
    let found = if with_others {
        client.discover_all(&start, |_, _| {}).await
    } else {
        client.discover(&start).await
    };
    let asked = office.asked.take();
    (found, asked)
}

fn paths(found: &Found) -> Vec<&str> {
    found.calendars.iter().map(|calendar| calendar.href.as_str()).collect()
}

const OWN: [&str; 2] = ["/cal/office/main/", "/cal/office/presses/"];

#[tokio::test]
async fn every_address_leads_to_all_calendars() {
    let failing =
        |property, status, words| Shape { fails_on: Some((property, status, words)), ..Shape::default() };
    let named = "<d:error xmlns:d='DAV:'><d:no-such-property/></d:error>";
    let shapes = [
        Shape::default(),
        Shape { misleading_home: true, ..Shape::default() },
        failing("sync-token", 500, ""),
        failing("getctag", 500, ""),
        failing("quota", 400, ""),
        failing("calendar-color", 501, ""),
        failing("supported-report-set", 403, named),
        failing("owner", 500, ""),
    ];
    let addresses = [
        "",
        "/",
        "/people/office/",
        "/people/office",
        "/cal/office/",
        "/cal/office",
        "/cal/office/presses/",
        "/cal/office/presses",
        "/nowhere/at/all/",
        "/nowhere",
    ];
    for (number, shape) in shapes.into_iter().enumerate() {
        for address in addresses {
            let (found, asked) = search(shape, address, false).await;
            let found = found.unwrap_or_else(|error| panic!("{number} {address}: {error:?} {asked:?}"));
            assert_eq!(paths(&found), OWN, "{number} {address}: {asked:?}");
            assert_eq!(
                found.principal.as_ref().map(Url::path),
                Some("/people/office/"),
                "{number} {address}"
            );
            assert!(found.calendars.iter().all(|calendar| !calendar.is_shared));
            assert!(asked.len() <= 12, "{number} {address}: {asked:?}");
        }
    }
    // A server that stands beside other pages, and does not say so, is found where such servers stand.
    for (below, address) in
        [("/dav", ""), ("/packhouse/remote.php/dav", "/packhouse"), ("/SOGo/dav", "/SOGo/")]
    {
        let shape = Shape { bare_root: true, below, ..Shape::default() };
        assert_eq!(paths(&search(shape, address, false).await.0.expect("calendars")), OWN, "{below}");
    }
    // Nothing at the root: what is given must do.
    let bare = Shape { bare_root: true, ..Shape::default() };
    for address in ["/people/office/", "/cal/office", "/cal/office/presses/"] {
        assert_eq!(paths(&search(bare, address, false).await.0.expect("calendars")), OWN, "{address}");
    }
}

#[tokio::test]
async fn several_homes_and_those_of_others_are_read_within_bounds() {
    let (found, _) = search(Shape { homes: 3, ..Shape::default() }, "/", false).await;
    let found = found.expect("calendars");
    assert_eq!(found.homes.len(), 3);
    assert_eq!(found.calendars.len(), 4);
    let (found, asked) = search(Shape { homes: 30_000, ..Shape::default() }, "/", false).await;
    assert!(found.is_ok() && asked.len() < 60, "{}", asked.len());
    for proxy in ["groups", "outright"] {
        let shape = Shape { proxy: Some(proxy), ..Shape::default() };
        assert_eq!(paths(&search(shape, "/", false).await.0.expect("calendars")), OWN);
        let found = search(shape, "/", true).await.0.expect("calendars");
        assert_eq!(paths(&found), ["/cal/hall/press hall/", OWN[0], OWN[1]]);
        assert_eq!(found.homes.len(), 1, "a new calendar goes into an own home");
        assert_eq!(found.calendars.iter().map(|c| c.is_shared).collect::<Vec<_>>(), [true, false, false]);
    }
}

#[tokio::test]
async fn a_refused_sign_in_and_a_tired_server_are_not_asked_in_parts() {
    for (status, most) in [(401, 1), (429, 3), (503, 3), (404, 11)] {
        let (found, asked) =
            search(Shape { always: Some(status), ..Shape::default() }, "/cal/office/", false).await;
        assert!(found.is_err() && asked.len() <= most, "{status}: {asked:?}");
    }
    // Four parts of a question at most, at each of three addresses.
    let (found, asked) = search(Shape { always: Some(500), ..Shape::default() }, "/cal/office/", false).await;
    assert!(found.is_err() && asked.len() <= 6, "{asked:?}");
}

/// A calendar, and what its server says of itself and of people.
struct Hall {
    dav: &'static str,
    types: &'static str,
    owner: &'static str,
    /// The addresses of a principal; `None` where it may not be asked.
    addresses: fn(&str) -> Option<&'static str>,
}

impl Transport for Hall {
    fn send<'a>(
        &'a self,
        request: &'a Request,
    ) -> Pin<Box<dyn Future<Output = Result<Answer, TransportError>> + 'a>> {
        let path = request.url.path();
        let prop = match path {
            "/presses/" => format!(
                "<d:resourcetype><d:collection/><c:calendar/>{}</d:resourcetype><d:current-user-principal><d:href>/people/office/</d:href>\
                 </d:current-user-principal><d:owner><d:href>{}</d:href></d:owner>",
                self.types, self.owner
            ),
            person => match (self.addresses)(person) {
                Some("fails") => return Box::pin(std::future::ready(Ok(failing(request)))),
                Some(boxes) if boxes.contains("schedule-") => boxes.to_owned(),
                Some(addresses) => {
                    format!("<c:calendar-user-address-set>{addresses}</c:calendar-user-address-set>")
                }
                None => String::new(),
            },
        };
        let body = format!(
            "<d:multistatus xmlns:d='DAV:' xmlns:c='urn:ietf:params:xml:ns:caldav'><d:response><d:href>{path}</d:href>\
             <d:propstat><d:prop>{prop}</d:prop></d:propstat></d:response></d:multistatus>"
        );
        let mut headers = HeaderMap::new();
        headers.insert("dav", self.dav.parse().expect("a header"));
        let answer = Answer {
            status: 207,
            headers,
            body: body.into(),
            url: request.url.clone(),
            sign_in: SignInKind::Nothing,
        };
        Box::pin(std::future::ready(Ok(answer)))
    }
}

fn failing(request: &Request) -> Answer {
    Answer {
        status: 500,
        headers: HeaderMap::new(),
        body: Vec::new(),
        url: request.url.clone(),
        sign_in: SignInKind::Nothing,
    }
}

#[tokio::test]
async fn who_may_be_written_to_is_found_however_a_server_says_it() {
    const OFFICE: &str = "<d:href>mailto:Office@coop.example</d:href>";
    const HALL: &str = "<d:href>mailto:hall@coop.example</d:href>";
    let both = |person: &str| Some(if person.contains("hall") { HALL } else { OFFICE });
    let office = |person: &str| (!person.contains("hall")).then_some(OFFICE);
    let for_all =
        |all: &[&str]| Scheduling::For(all.iter().map(|one| format!("mailto:{one}@coop.example")).collect());
    let (own, halls) = ("/people/office", "/people/hall/");
    type Addresses = fn(&str) -> Option<&'static str>;
    let table: [(&str, &str, &str, Addresses, Scheduling); 9] = [
        ("1, calendar-access", "", own, both, Scheduling::Never),
        ("1, calendar-auto-schedule", "", own, both, for_all(&["office"])),
        ("1, calendar-access, calendar-schedule", "", own, both, for_all(&["office"])),
        ("1", "<c:schedule-outbox/>", own, both, for_all(&["office"])),
        (
            "1",
            "",
            own,
            |_| Some("<c:schedule-inbox-URL><d:href>/in/</d:href></c:schedule-inbox-URL>"),
            Scheduling::Anybody,
        ),
        ("calendar-auto-schedule", "", halls, both, for_all(&["office", "hall"])),
        ("calendar-auto-schedule", "", halls, office, Scheduling::Anybody),
        ("calendar-auto-schedule", "", own, |_| None, Scheduling::Anybody),
        ("calendar-auto-schedule", "", own, |_| Some(""), Scheduling::For(Vec::new())),
    ];
    for (dav, types, owner, addresses, expected) in table {
        let client = Client::new(Rc::new(Hall { dav, types, owner, addresses }), ClientOptions::default());
        let url = Url::parse("https://dav.packhouse.example/presses/").expect("an address");
        let can = client.capabilities(&url).await.expect("a calendar");
        assert_eq!(can.scheduling, expected, "{dav} {types} {owner}");
    }
    // A server that fails may write to people all the same: nothing is known then.
    let fails = Hall { dav: "1", types: "", owner: own, addresses: |_| Some("fails") };
    let options = ClientOptions { retries: false, ..ClientOptions::default() };
    let url = Url::parse("https://dav.packhouse.example/presses/").expect("an address");
    assert!(Client::new(Rc::new(fails), options).capabilities(&url).await.is_err());
}
