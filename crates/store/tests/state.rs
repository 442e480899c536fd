//! The state file: what it refuses, what it keeps, and that it survives a full disk and a second process.

use chestnut_core::{EventUid, Fingerprint, LinkFacts, ObjectHref, Partly};
use chestnut_store::{
    Agreed, Change, ChangeAction, Known, Lease, LinkRow, Recheck, RouteSummary, RunResult, SideId, SideState,
    Store, StoreError,
};
use jiff::Timestamp;

fn known(href: &str, title: &str) -> Known {
    Known {
        href: ObjectHref::from(href),
        etag: None,
        uid: Some(EventUid::from(href)),
        content: None,
        title: title.to_owned(),
        left_out: None,
        recheck: Recheck::No,
        link: None,
        next: None,
        over: None,
    }
}

fn link_row() -> LinkRow {
    let facts = LinkFacts { view: Fingerprint([1; 16]), far: None, refused: Some(Fingerprint([2; 16])) };
    LinkRow {
        source_uid: "a".into(),
        target_uid: "b".into(),
        facts,
        words: Some("cut".into()),
        partly: Partly::default(),
    }
}

#[test]
fn what_is_written_is_read_back_after_reopening() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("inner/state");
    let side = SideState {
        sync_token: Some("t".into()),
        provisional: true,
        addresses: Some(vec![]),
        ..SideState::default()
    };
    let agreed = Agreed { source: "BEGIN:VCALENDAR\r\nč\r\n".repeat(50), target: "12\nno number".into() };
    let store = Store::open(&path).expect("a new state");
    let (route, link, run) = store
        .write(|w| {
            let route = w.route("presses")?;
            let link = w.put_link(route, None, &link_row())?;
            w.put_agreed(link, &agreed)?;
            w.put_linked(route, SideId::Source, link, &known("/old", "moved away"))?;
            w.put_linked(route, SideId::Source, link, &known("/new", "here"))?;
            w.put_known(route, SideId::Target, &known("/stranger", "theirs"))?;
            w.read_again(route, SideId::Target, &"/unknown".into())?;
            w.set_side(route, SideId::Source, &side)?;
            w.intend(route, &"/new".into(), &"a".into())?;
            let run = w.begin_run(route, Timestamp::UNIX_EPOCH)?;
            w.finish_run(
                run,
                Timestamp::UNIX_EPOCH,
                RunResult::Held,
                &RouteSummary { held: 3, ..RouteSummary::default() },
            )?;
            Ok((route, link, run))
        })
        .expect("written");
    drop(store);
    let store = Store::open(&path).expect("the same state");
    assert_eq!(store.link(link).expect("read"), Some(link_row()));
    assert_eq!(store.agreed(link).expect("read"), Some(agreed));
    assert_eq!(store.side(route, SideId::Source).expect("read"), side);
    assert_eq!(store.linked(link, SideId::Source).expect("read").expect("a place").title, "here");
    assert_eq!(store.known(route, SideId::Source, &"/old".into()).expect("read"), None);
    assert_eq!(store.known_again(route, SideId::Target).expect("read").len(), 1);
    assert_eq!(store.unfinished_writes(route).expect("read"), [("/new".into(), "a".into())]);
    assert_eq!(store.link_troubles(route).expect("read"), [("here".to_owned(), "cut".to_owned())]);
    let record = store.run(run).expect("read").expect("a run");
    assert_eq!((record.result, record.summary.held), (Some(RunResult::Held), 3));
    // A forgotten link leaves its entries as strangers.
    store.write(|w| w.forget_link(link)).expect("written");
    assert_eq!(store.known(route, SideId::Source, &"/new".into()).expect("read").expect("known").link, None);
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        assert_eq!(std::fs::metadata(&path).expect("a file").permissions().mode() & 0o077, 0);
    }
}

#[test]
fn history_is_kept_as_long_as_asked_and_no_longer() {
    let store = Store::in_memory().expect("a state");
    let at = |day: i64| Timestamp::from_second(day * 86_400).expect("a moment");
    store
        .write(|w| {
            let route = w.route("presses")?;
            for day in 0..10 {
                let run = w.begin_run(route, at(day))?;
                let change = Change {
                    calendar: "board".into(),
                    action: ChangeAction::Updated,
                    href: "/a".into(),
                    uid: "a".into(),
                    title: "t".into(),
                    start: String::new(),
                    words: None,
                    before: Some("the text before".into()),
                };
                w.add_change(run, &change)?;
                w.finish_run(run, at(day), RunResult::Ok, &RouteSummary::default())?;
            }
            w.prune_history(at(7))
        })
        .expect("written");
    let runs = store.runs(Some("presses"), 100).expect("read");
    assert_eq!(runs.len(), 3);
    assert_eq!(store.changes(runs[0].id).expect("read")[0].before.as_deref(), Some("the text before"));
    assert_eq!(store.last_success("presses").expect("read").expect("a run").id, runs[0].id);
}

#[test]
fn foreign_and_newer_files_are_refused_and_left_as_they_are() {
    let folder = tempfile::tempdir().expect("a folder");
    let newer = folder.path().join("newer");
    drop(Store::open(&newer).expect("a state"));
    let connection = rusqlite::Connection::open(&newer).expect("it opens");
    connection.pragma_update(None, "user_version", 99).expect("set");
    drop(connection);
    assert!(matches!(Store::open(&newer), Err(StoreError::Newer { found: 99, known: 3, .. })));
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
    let store = Store::in_memory().expect("a state");
    let route = store.write(|w| w.route("presses")).expect("written");
    let half = store.write(|w| {
        w.put_known(route, SideId::Source, &known("/a", "a"))?;
        Err::<(), _>(StoreError::Full)
    });
    assert!(matches!(half, Err(StoreError::Full)));
    assert_eq!(store.known(route, SideId::Source, &"/a".into()).expect("read"), None);
    store.set_gate(|| false);
    assert!(matches!(store.write(|w| w.route("other")), Err(StoreError::CutOff)));
}

#[test]
fn the_number_of_links_follows_what_is_written() {
    let store = Store::in_memory().expect("a state");
    let (presses, market) =
        store.write(|w| Ok((w.route("presses")?, w.route("market")?))).expect("two routes");
    let count = |route| store.link_count(route).expect("a number");
    let links: Vec<_> = (0..3)
        .map(|_| store.write(|w| w.put_link(presses, None, &link_row())).expect("written"))
        .chain([store.write(|w| w.put_link(market, None, &link_row())).expect("written")])
        .collect();
    assert_eq!((count(presses), count(market)), (3, 1));
    store.write(|w| w.put_link(presses, Some(links[0]), &link_row()).map(drop)).expect("written again");
    store.write(|w| w.forget_link(links[1])).expect("forgotten");
    assert_eq!((count(presses), count(market)), (2, 1));
    store.write(|w| w.forget_route(presses)).expect("forgotten");
    assert_eq!(count(market), 1);
}

#[test]
fn one_lease_for_each_route() {
    let folder = tempfile::tempdir().expect("a folder");
    let state = folder.path().join("state");
    let first = Lease::take(&state, "presses", "noon").expect("free");
    let second = Lease::take(&state, "presses", "later");
    let words = second.expect_err("taken").to_string();
    assert!(words.contains("route presses is going on (process ") && words.contains("since noon"), "{words}");
    drop(Lease::take(&state, "market", "noon").expect("another route is free"));
    drop(first);
    drop(Lease::take(&state, "presses", "later").expect("free again"));
}
