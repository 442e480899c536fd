//! The state file: what it refuses, what it keeps, and that it survives a full disk and a second process.

use chestnut_core::{ObjectHref, Partly};
use chestnut_store::{
    CalendarFacts, Change, ChangeAction, HeldItem, Intent, LinkRow, LinkState, ObjectState, PlaceRow,
    ProbeRow, RouteSummary, RunKind, RunResult, Store, StoreError, Text, Told,
};
use chestnut_testkit::add_object;
use chestnut_testkit::postgres::{TestDatabase, database};
use jiff::Timestamp;

fn link_row(state: LinkState) -> LinkRow {
    LinkRow {
        state,
        reason: String::new(),
        agreed: None,
        carried: 7,
        form: -3,
        due: Some(5),
        tries: 2,
        told: Some(Told::Refused { status: 403, words: Some("no".into()) }),
        partly: Partly { without_people: true, ..Partly::default() },
    }
}

fn place(side: usize) -> PlaceRow {
    PlaceRow {
        side,
        object: None,
        origin: chestnut_core::Origin::Match,
        seq: 3,
        stood: None,
        agreed: None,
        refused: None,
        let_go: true,
    }
}

/// A state of one kind, opened as often as asked.
enum Kind {
    File(tempfile::TempDir),
    Postgres(TestDatabase),
}

impl Kind {
    /// All kinds that are to be had here: what holds of one holds of each.
    fn all(test: &str) -> Vec<Self> {
        let file = Self::File(tempfile::tempdir().expect("a folder"));
        [Some(file), database(test).map(Self::Postgres)].into_iter().flatten().collect()
    }

    fn open(&self) -> Store {
        match self {
            Self::File(folder) => Store::open(&folder.path().join("inner/state")).expect("it opens"),
            Self::Postgres(database) => Store::connect(&database.place(60)).expect("it opens"),
        }
    }

    /// How many texts are kept.
    fn bodies(&self) -> i64 {
        match self {
            Self::File(folder) => {
                let path = folder.path().join("inner/state");
                let connection = rusqlite::Connection::open(path).expect("it opens");
                connection.query_row("SELECT count(*) FROM body", [], |row| row.get(0)).expect("a number")
            }
            Self::Postgres(database) => {
                database.sql("SELECT count(*) FROM chestnut.body").parse().expect("a number")
            }
        }
    }
}

#[test]
fn what_is_written_is_read_back_after_reopening() {
    Kind::all("reading back").iter().for_each(read_back);
}

fn read_back(kind: &Kind) {
    let facts =
        CalendarFacts { sync_token: Some("t".into()), addresses: Some(vec![]), ..CalendarFacts::default() };
    let zone = "BEGIN:VTIMEZONE\r\nTZID:Orchard\r\nEND:VTIMEZONE";
    let text = format!("BEGIN:VCALENDAR\r\n{zone}\r\nč{zone}\r\n\r\nEND:VCALENDAR\r\n");
    let store = kind.open();
    let calendar = store.write(|w| w.calendar("dav board")).expect("a mirror");
    let object = add_object(&store, calendar, "/a", "/a", &text);
    let body = store.object(object).expect("read").expect("noted").body;
    let (route, link, run) = store
        .write(|w| {
            w.set_facts(calendar, &facts)?;
            let route = w.route("presses")?;
            w.set_rule(route, "rule", "ends", false)?;
            w.set_seen(route, &[4, 5], 60)?;
            let link = w.put_link(route, None, &LinkRow { agreed: body, ..link_row(LinkState::Refused) })?;
            w.put_place(route, link, &PlaceRow { object: Some(object), stood: body, ..place(1) })?;
            let sent = w.keep_text(&Text::new("sent".into()))?;
            let href = ObjectHref::from("/b");
            let intent = Intent {
                link,
                side: 1,
                href,
                sent: Some(sent),
                stood: body,
                agreed: body,
                carried: 1,
                form: 2,
            };
            w.intend(route, &intent)?;
            let run = w.begin_run("presses", Timestamp::UNIX_EPOCH, RunKind::Sync)?;
            let held = HeldItem {
                id: 0,
                route: "presses".into(),
                link: Some(link),
                since: 3,
                title: "t".into(),
                start: String::new(),
                details: "{}".into(),
                decision: None,
            };
            w.hold(route, &held)?;
            w.finish_run(
                run,
                Timestamp::UNIX_EPOCH,
                RunResult::Held,
                &RouteSummary { held: 3, ..Default::default() },
            )?;
            Ok((route, link, run))
        })
        .expect("written");
    drop(store);
    let store = kind.open();
    let mirror = store.mirror("dav board").expect("read").expect("a mirror");
    assert_eq!((mirror.id, mirror.seq, mirror.facts), (calendar, 1, facts));
    assert_eq!(store.text(body.expect("a text")).expect("read"), Some(text));
    let known = store.route("presses").expect("read").expect("a route");
    assert_eq!(
        (known.id, known.rule.as_str(), known.seen, known.ran_at),
        (route, "rule", vec![4, 5], Some(60))
    );
    assert_eq!(
        store.link(link).expect("read"),
        Some(LinkRow { agreed: body, ..link_row(LinkState::Refused) })
    );
    let places = store.places(link).expect("read");
    assert_eq!(places, [PlaceRow { object: Some(object), stood: body, ..place(1) }]);
    assert_eq!(store.link_of(route, object).expect("read"), Some(link));
    assert_eq!(store.unfinished(route).expect("read"), [link]);
    assert_eq!(store.held_about(link).expect("read").expect("it waits").since, 3);
    let record = store.run(run).expect("read").expect("a run");
    assert_eq!((record.result, record.summary.held), (Some(RunResult::Held), 3));
    // History outlives routes; what nobody names goes.
    store.write(|w| w.forget_route(route)).expect("forgotten");
    assert_eq!(store.runs(Some("presses"), 9).expect("read").len(), 1);
    assert_eq!(kind.bodies(), 1, "the mirror's text alone is left");
    store.write(|w| w.bury(calendar, object)).expect("buried");
    assert_eq!(kind.bodies(), 0);
    assert_eq!(store.check().expect("read"), []);
    #[cfg(unix)]
    if let Kind::File(folder) = kind {
        use std::os::unix::fs::PermissionsExt as _;
        let path = folder.path().join("inner/state");
        assert_eq!(std::fs::metadata(&path).expect("a file").permissions().mode() & 0o077, 0);
    }
}

/// What a server gives back as it was sent is kept once; and is kept where nobody holds what was sent any more.
#[test]
fn what_comes_back_as_it_was_sent_is_there_whoever_lets_go_of_it() {
    Kind::all("sent and back").iter().for_each(|kind| {
        let store = kind.open();
        let board = store.write(|w| w.calendar("folder board")).expect("a mirror");
        let (route, link) = store
            .write(|w| {
                let route = w.route("presses")?;
                Ok((route, w.put_link(route, None, &link_row(LinkState::Refused))?))
            })
            .expect("written");
        let send = |name: &str, text: &str| {
            store.write(|w| {
                let sent = Some(w.keep(text)?);
                let href = ObjectHref::from(name);
                w.intend(
                    route,
                    &Intent { link, side: 1, href, sent, stood: None, agreed: None, carried: 1, form: 2 },
                )
            })
        };
        let text_of = |id| store.text(store.object(id).expect("read")?.body?).expect("read");
        send("a.ics", "sent\r\nso\r\n").expect("written");
        let object = add_object(&store, board, "a.ics", "a", "sent\nso\n");
        let held = if matches!(kind, Kind::File(_)) { 1 } else { 2 };
        assert_eq!(kind.bodies(), held, "where asking is cheap, it is kept once");
        store.write(|w| w.done(link, &[1])).expect("written");
        assert_eq!(
            (text_of(object).expect("a text").replace('\r', "").as_str(), kind.bodies()),
            ("sent\nso\n", 1)
        );
        send("b.ics", "sent again").expect("written");
        store.write(|w| w.done(link, &[1])).expect("written");
        let object = add_object(&store, board, "b.ics", "b", "sent again");
        assert_eq!((text_of(object).as_deref(), kind.bodies()), (Some("sent again"), 2));
        // A number that was not kept is given again, to another text.
        let undone = store.write(|w| w.keep("undone").and(Err::<(), _>(StoreError::CutOff)));
        assert_eq!(undone, Err(StoreError::CutOff));
        send("c.ics", "another").expect("written");
        let object = add_object(&store, board, "c.ics", "c", "undone");
        assert_eq!(text_of(object).as_deref(), Some("undone"));
        assert_eq!(store.check().expect("read"), []);
    });
}

#[test]
fn news_are_what_a_route_did_not_decide_yet() {
    Kind::all("news").iter().for_each(|kind| news(&kind.open()));
}

fn news(store: &Store) {
    let (calendar, route) =
        store.write(|w| Ok((w.calendar("dav board")?, w.route("presses")?))).expect("written");
    let objects: Vec<_> =
        ["/a", "/b", "/c"].map(|href| add_object(store, calendar, href, href, "text")).into();
    let link = store
        .write(|w| {
            let link = w.put_link(route, None, &link_row(LinkState::InStep))?;
            w.put_place(route, link, &PlaceRow { object: Some(objects[0]), seq: 1, ..place(0) })?;
            let other = w.put_link(route, None, &LinkRow { due: None, ..link_row(LinkState::InStep) })?;
            w.put_place(route, other, &PlaceRow { object: Some(objects[1]), seq: 1, ..place(0) })?;
            Ok(link)
        })
        .expect("written");
    let touched = store.touched(Some(route), calendar, 0, 9).expect("read");
    let told: Vec<_> = touched.iter().map(|t| (t.object.id, t.link.is_some())).collect();
    assert_eq!(told, [(objects[1], true), (objects[2], false)], "what was decided drops out");
    assert!(store.touched(Some(route), calendar, 3, 9).expect("read").is_empty());
    assert_eq!(store.due(route, 5, None, 9).expect("read"), [link]);
    assert!(store.due(route, 4, None, 9).expect("read").is_empty());
    // What is gone is remembered as long as a case refers to it.
    store.write(|w| objects.iter().try_for_each(|object| w.bury(calendar, *object))).expect("buried");
    assert_eq!(store.object(objects[0]).expect("read").expect("a tombstone").state, ObjectState::Gone);
    assert_eq!(store.object(objects[2]).expect("read"), None);
}

#[test]
fn history_is_kept_as_long_as_asked_and_no_longer() {
    Kind::all("pruned history").iter().for_each(|kind| pruned_history(&kind.open()));
}

fn pruned_history(store: &Store) {
    let at = |day: i64| Timestamp::from_second(day * 86_400).expect("a moment");
    store
        .write(|w| {
            for day in 0..10 {
                let run = w.begin_run("presses", at(day), RunKind::Sync)?;
                let change = Change {
                    calendar: "board".into(),
                    action: ChangeAction::Updated,
                    href: "/a".into(),
                    uid: "a".into(),
                    title: "t".into(),
                    start: String::new(),
                    told: None,
                    before: Some(Text::new("the text before".into())),
                    after: None,
                    link: None,
                };
                w.add_change(run, &change)?;
                w.finish_run(run, at(day), RunResult::Ok, &RouteSummary::default())?;
            }
            w.prune_history(at(7))
        })
        .expect("written");
    let runs = store.runs(Some("presses"), 100).expect("read");
    assert_eq!(runs.len(), 3);
    assert_eq!(
        store.changes(runs[0].id).expect("read")[0].before.as_ref().map(|t| t.text.as_str()),
        Some("the text before")
    );
}

#[test]
fn foreign_and_newer_files_are_refused_and_left_as_they_are() {
    let folder = tempfile::tempdir().expect("a folder");
    let newer = folder.path().join("newer");
    drop(Store::open(&newer).expect("a state"));
    let connection = rusqlite::Connection::open(&newer).expect("it opens");
    connection.pragma_update(None, "user_version", 99).expect("set");
    drop(connection);
    assert!(matches!(Store::open(&newer), Err(StoreError::Newer { found: 99, known: 6, .. })));
    let other = folder.path().join("other");
    let connection = rusqlite::Connection::open(&other).expect("it opens");
    connection.execute_batch("CREATE TABLE apples (kind TEXT)").expect("made");
    drop(connection);
    assert!(matches!(Store::open(&other), Err(StoreError::Unreadable { .. })));
    let text = folder.path().join("text");
    std::fs::write(&text, "a file that is no database at all".repeat(100)).expect("written");
    assert!(matches!(Store::open(&text), Err(StoreError::Unreadable { .. })));
    assert!(matches!(Store::open(folder.path()), Err(StoreError::Open { .. })));
}

#[test]
fn a_write_is_whole_or_not_at_all() {
    Kind::all("whole or not at all").iter().for_each(|kind| whole_or_not_at_all(&kind.open()));
}

fn whole_or_not_at_all(store: &Store) {
    let half = store.write(|w| {
        w.route("presses")?;
        Err::<(), _>(StoreError::Full)
    });
    assert!(matches!(half, Err(StoreError::Full)));
    assert!(store.route("presses").expect("read").is_none());
    store.set_gate(|| Some(StoreError::CutOff));
    assert!(matches!(store.write(|w| w.route("other")), Err(StoreError::CutOff)));
}

#[test]
fn who_holds_still_reads_one_moment_and_hinders_nobody() {
    let folder = tempfile::tempdir().expect("a folder");
    let open = || Store::open(&folder.path().join("chestnut.state")).expect("a state");
    let (reader, other) = (open(), open());
    let is_there = |store: &Store, name: &str| store.route(name).expect("read").is_some();
    other.write(|w| w.route("presses")).expect("written");
    let still = reader.hold_still().expect("read");
    assert!(is_there(&reader, "presses"));
    other.write(|w| w.route("market")).expect("written");
    assert!(is_there(&other, "market") && !is_there(&reader, "market"));
    drop(still);
    assert!(is_there(&reader, "market"));

    // Who writes in between sees what is there then, and again one moment.
    let still = reader.hold_still().expect("read");
    assert!(!is_there(&reader, "kiosk"));
    other.write(|w| w.route("kiosk")).expect("written");
    assert!(!is_there(&reader, "kiosk"));
    reader.write(|w| w.route("days")).expect("written");
    assert!(is_there(&other, "days") && is_there(&reader, "kiosk"));
    other.write(|w| w.route("van")).expect("written");
    assert!(!is_there(&reader, "van"));
    let refused = reader.write(|_| Err::<(), _>(StoreError::Full));
    assert!(matches!(refused, Err(StoreError::Full)) && is_there(&reader, "van"));
    drop(still);
    reader.write(|w| w.route("stalls")).expect("written");
    assert!(is_there(&other, "stalls"));
}

/// One statement may change more than what the database takes back from memory.
#[test]
fn a_large_calendar_is_kept_before_a_route_writes_there() {
    let folder = tempfile::tempdir().expect("a folder");
    let store = Store::open(&folder.path().join("chestnut.state")).expect("a state");
    let board = store.write(|w| w.calendar("board")).expect("written");
    for number in 0..8_000_u64 {
        let (href, uid) = (format!("/office/board/{number:05}.ics"), format!("crew-{number}"));
        // Nothing in it comes twice, so it stays as long as it is.
        let text = (1..60).map(|n| (number * 7_919 * n % 99_991).to_string()).collect::<String>();
        add_object(&store, board, &href, &uid, &text);
    }
    store.write(|w| w.keep_calendar("presses", "Board", board, Timestamp::UNIX_EPOCH)).expect("kept");
    let kept = store.kept_before("presses", "Board").expect("read").expect("it is there");
    assert_eq!(kept.entries.len(), 8_000);
}

/// A disk that is full when a run ends does not keep the run's lease for ever.
#[test]
fn what_cannot_be_given_back_is_given_back_later() {
    Kind::all("given back").iter().for_each(|kind| {
        let store = kind.open();
        let is_full = std::rc::Rc::new(std::cell::Cell::new(false));
        let gate = std::rc::Rc::clone(&is_full);
        store.set_gate(move || gate.get().then_some(StoreError::Full));
        let lease = store.lease("route presses").expect("free");
        is_full.set(true);
        drop(lease);
        is_full.set(false);
        assert!(store.holder("route presses").expect("read").is_some(), "nobody could write that it ended");
        drop(store.lease("route presses").expect("its own is no obstacle"));
        assert_eq!(store.holder("route presses").expect("read"), None);
        let lease = store.lease("route presses").expect("free");
        is_full.set(true);
        drop(lease);
        is_full.set(false);
        drop(store.lease("route other").expect("free"));
        assert_eq!(store.holder("route presses").expect("read"), None, "others need not wait for it");
    });
}

#[test]
fn the_tally_follows_what_is_written() {
    Kind::all("tally").iter().for_each(|kind| tally(&kind.open()));
}

fn tally(store: &Store) {
    let (presses, market) =
        store.write(|w| Ok((w.route("presses")?, w.route("market")?))).expect("two routes");
    let put = |route, id, state| store.write(|w| w.put_link(route, id, &link_row(state))).expect("written");
    let links = [0, 1, 2].map(|_| put(presses, None, LinkState::InStep));
    put(market, None, LinkState::InStep);
    let linked = |route| store.tally(route).expect("read").linked();
    assert_eq!((linked(presses), linked(market)), (3, 1));
    put(presses, Some(links[0]), LinkState::Released);
    store.write(|w| w.forget_link(links[1])).expect("forgotten");
    assert_eq!((linked(presses), linked(market)), (1, 1));
    assert_eq!(store.tally(presses).expect("read").partly["without-people"], 2);
    store.write(|w| w.forget_route(presses)).expect("forgotten");
    assert_eq!(linked(market), 1);
}

#[test]
fn a_lease_ends_with_whoever_holds_it() {
    for kind in Kind::all("leases") {
        let (first, second) = (kind.open(), kind.open());
        let lease = first.lease("route presses").expect("free");
        let taken = second.lease("route presses").expect_err("taken");
        let process = std::process::id();
        let is_ours = matches!(&taken, StoreError::Busy { name, holder: Some(holder) } if name == "route presses" && holder.process == process);
        assert!(is_ours, "{taken}");
        drop(second.lease("route market").expect("another one is free"));
        lease.renew().expect("still held");
        drop(lease);
        drop(second.lease("route presses").expect("free again"));
        // A process that ended without a word holds nothing.
        let left = "'4000000000:1:1', until = 99999999999 WHERE name = 'route presses'";
        match &kind {
            Kind::File(folder) => {
                let connection =
                    rusqlite::Connection::open(folder.path().join("inner/state")).expect("it opens");
                connection.execute(&format!("UPDATE lease SET holder = {left}"), []).expect("set");
            }
            Kind::Postgres(database) => {
                drop(database.sql(&format!("UPDATE chestnut.lease SET holder = {left}")))
            }
        }
        drop(first.lease("route presses").expect("free"));
    }
}

/// Whatever happened to the file, what is read is right or refused as damaged: then it is clear what to do.
#[test]
fn a_damaged_state_is_read_or_refused_as_damaged() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("state");
    {
        let store = Store::open(&path).expect("a new state");
        let calendar = store.write(|w| w.calendar("dav board")).expect("a mirror");
        for number in 0..200 {
            let href = format!("/{number}");
            add_object(
                &store,
                calendar,
                &href,
                &href,
                &format!("BEGIN:VCALENDAR\r\n{number}\r\n").repeat(40),
            );
        }
    }
    let whole = std::fs::read(&path).expect("readable");
    let mut refused = 0;
    for seed in 0..60_usize {
        let mut bytes = whole.clone();
        let at = seed * 7919 % (bytes.len() - 4096);
        match seed % 3 {
            0 => bytes.truncate(at),
            1 => bytes[at..at + 2000].fill(b'x'),
            _ => (0..200).for_each(|n| bytes[(at + n * 6131) % whole.len()] ^= 0xff),
        }
        for beside in ["state-wal", "state-shm"] {
            drop(std::fs::remove_file(folder.path().join(beside)));
        }
        std::fs::write(&path, bytes).expect("written");
        let read = || -> Result<(), StoreError> {
            let store = Store::open(&path)?;
            let mirror = store.mirror("dav board")?;
            for object in mirror.iter().flat_map(|m| store.touched(None, m.id, 0, 1000).into_iter().flatten())
            {
                store
                    .object(object.object.id)?
                    .and_then(|o| o.body)
                    .map(|body| store.text(body))
                    .transpose()?;
            }
            store.runs(None, 10).map(drop)
        };
        match read() {
            Ok(()) => {}
            Err(StoreError::Unreadable { .. } | StoreError::Damaged) => refused += 1,
            Err(other) => panic!("damage {seed}: {other:?}"),
        }
    }
    assert!(refused > 20, "{refused}");
}

/// An older state is kept as it was before it is brought to the present format.
#[test]
fn a_state_of_an_older_format_is_kept_before_a_step() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("chestnut.state");
    drop(Store::open(&path).expect("it opens"));
    let connection = rusqlite::Connection::open(&path).expect("it opens");
    let old = "DROP TABLE notice; DROP TABLE trouble; DROP TABLE account_pause; DROP TABLE meta;
         ALTER TABLE route DROP COLUMN paused_until; PRAGMA user_version = 4;
         INSERT INTO route (name) VALUES ('bookings');";
    connection.execute_batch(old).expect("an older state");
    drop(connection);
    let store = Store::open(&path).expect("it opens");
    assert_eq!(store.route_names().expect("read"), ["bookings"]);
    assert_eq!(store.open_troubles(0).expect("read"), []);
    let kept = rusqlite::Connection::open(folder.path().join("chestnut.state.format-4")).expect("it opens");
    let version: i64 = kept.query_row("PRAGMA user_version", [], |row| row.get(0)).expect("a number");
    assert_eq!(version, 4);
}

/// What older programs called by its whole path is called as it is called now, wherever it is named; and not while one of
/// them is at work, which would take it for something else.
#[test]
fn hrefs_of_an_older_state_become_relative() {
    Kind::all("whole hrefs").iter().for_each(|kind| {
        let older = |kind: &Kind| match kind {
            Kind::File(folder) => {
                let path = folder.path().join("inner/state");
                let connection = rusqlite::Connection::open(path).expect("it opens");
                connection.pragma_update(None, "user_version", 5).expect("set");
            }
            Kind::Postgres(database) => {
                database.sql("UPDATE chestnut.meta SET value = '2' WHERE name = 'format'");
            }
        };
        let again = |kind: &Kind| match kind {
            Kind::File(folder) => Store::open(&folder.path().join("inner/state")),
            Kind::Postgres(database) => Store::connect(&database.place(60)),
        };
        let store = kind.open();
        let calendar = |place| store.write(|w| w.calendar(place)).expect("a mirror");
        let board = calendar("dav https://dav.packhouse.example press office /office/board/");
        let folder = calendar("folder /office/board");
        let hrefs = ["/office/board/a ü.ics", "/office/board/", "/office/board//b.ics", "/crews/c.ics"];
        let objects = hrefs.map(|href| add_object(&store, board, href, href, "text"));
        let file = add_object(&store, folder, "a.ics", "a", "text");
        let run = store.write(|w| {
            let route = w.route("presses")?;
            let link = w.put_link(route, None, &link_row(LinkState::Refused))?;
            let href = || ObjectHref::from(hrefs[0]);
            w.intend(
                route,
                &Intent {
                    link,
                    side: 1,
                    href: href(),
                    sent: None,
                    stood: None,
                    agreed: None,
                    carried: 1,
                    form: 2,
                },
            )?;
            let (since, starts) = (Timestamp::UNIX_EPOCH, Timestamp::UNIX_EPOCH);
            w.note_probe(&ProbeRow {
                route: "presses".into(),
                calendar: "Board".into(),
                href: href(),
                since,
                starts,
            })?;
            w.keep_calendar("presses", "Board", board, since)?;
            let run = w.begin_run("presses", since, RunKind::Sync)?;
            w.add_change(
                run,
                &Change {
                    calendar: "Board".into(),
                    action: ChangeAction::Deleted,
                    href: href(),
                    uid: "a".into(),
                    title: "t".into(),
                    start: String::new(),
                    told: None,
                    before: None,
                    after: None,
                    link: Some(link),
                },
            )?;
            Ok((run, link))
        });
        let (run, link) = run.expect("written");
        let lease = store.attend().expect("a watch");
        older(kind);
        assert!(matches!(again(kind), Err(StoreError::AtWork { .. })), "it works in the format before");
        drop(lease);
        drop(store);
        let store = again(kind).expect("nobody is at work");
        let now = objects.map(|id| store.object(id).expect("read").expect("there").href);
        assert_eq!(now.map(|href| href.to_string()), ["a ü.ics", hrefs[1], hrefs[2], hrefs[3]]);
        assert_eq!(store.object(file).expect("read").expect("there").href.as_str(), "a.ics");
        let mut others = vec![store.changes(run).expect("read").remove(0).href];
        others.extend(store.intents(link).expect("read").into_iter().map(|intent| intent.href));
        others.extend(store.probes().expect("read").into_iter().map(|probe| probe.href));
        assert_eq!(others, vec![ObjectHref::from("a ü.ics"); 3]);
        let kept = store.kept_before("presses", "Board").expect("read").expect("kept").entries;
        let mut kept: Vec<_> = kept.iter().map(|(href, _)| href.as_str()).collect();
        kept.sort_unstable();
        assert_eq!(kept, [hrefs[3], hrefs[1], hrefs[2], "a ü.ics"]);
        // Whoever has it open is not to go on in a format that it does not know.
        match kind {
            Kind::File(_) => {
                let path = store.place().to_owned();
                let connection = rusqlite::Connection::open(path).expect("it opens");
                connection.pragma_update(None, "user_version", 99).expect("set");
            }
            Kind::Postgres(database) => {
                database.sql("UPDATE chestnut.meta SET value = '99' WHERE name = 'format'");
            }
        }
        assert!(matches!(store.lease("route presses"), Err(StoreError::Newer { found: 99, .. })));
    });
}
