//! A state in PostgreSQL that several processes share: leases, lost connections, kills of the database, and moving.
//! Skipped aloud where PostgreSQL is not installed.

use std::collections::BTreeSet;
use std::time::Duration;

use chestnut_core::{EventUid, ObjectHref};
use chestnut_store::{RunKind, Store, StoreError};
use chestnut_testkit::add_object;
use chestnut_testkit::postgres::{TestDatabase, database, lone_database};
use jiff::Timestamp;

fn open(database: &TestDatabase) -> Store {
    Store::connect(&database.place(60)).expect("it opens")
}

/// Both kinds have the same tables, with the same columns: what is added to one is added to the other.
#[test]
fn the_tables_are_those_of_the_file() {
    let Some(database) = database("the tables") else { return };
    drop(open(&database));
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("state");
    drop(Store::open(&path).expect("it opens"));
    let connection = rusqlite::Connection::open(&path).expect("it opens");
    let sql = "SELECT m.name || '.' || c.name FROM sqlite_schema m JOIN pragma_table_info(m.name) c
         WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite%'";
    let mut query = connection.prepare(sql).expect("a question");
    let rows = query.query_map([], |row| row.get::<_, String>(0)).expect("rows");
    let of_file: BTreeSet<_> = rows.map(|row| row.expect("a row")).collect();
    let shared = database.sql(
        "SELECT table_name || '.' || column_name FROM information_schema.columns WHERE table_schema = 'chestnut'",
    );
    assert_eq!(of_file, shared.lines().map(str::to_owned).collect());
}

/// What an older program left is kept as it was, and brought to the present format.
#[test]
fn an_older_format_is_kept_before_a_step() {
    let Some(database) = database("an older format") else { return };
    let old = include_str!("../src/database/postgres/schema.sql");
    database.sql(&format!("CREATE SCHEMA chestnut; SET search_path = chestnut; {old}"));
    database.sql(
        "SET search_path = chestnut; INSERT INTO meta VALUES ('format', '1');
         INSERT INTO route (id, name) VALUES (nextval('route_id'), 'presses');
         INSERT INTO body (id, bytes) VALUES (nextval('body_id'), 'x');
         INSERT INTO link (id, route, state, agreed) VALUES (nextval('link_id'), 1, 0, 1);",
    );
    let store = open(&database);
    assert_eq!(database.sql("SELECT count(*) FROM chestnut_format_1.link"), "1");
    let route = store.route("presses").expect("read").expect("it is there").id;
    assert_eq!(store.tally(route).expect("read").linked(), 1);
    store.write(|w| w.forget_route(route)).expect("forgotten");
    assert_eq!(database.sql("SELECT count(*) FROM chestnut.link"), "0", "cases go with their route");
    assert_eq!(database.sql("SELECT count(*) FROM chestnut.body"), "0", "and their texts");
}

/// Calendars may say anything: bytes that are no text elsewhere, and names that fit into no index.
#[test]
fn whatever_a_calendar_says_is_kept() {
    let Some(database) = database("odd texts") else { return };
    let store = open(&database);
    let calendar = store.write(|w| w.calendar("dav board")).expect("a mirror");
    let long = "x".repeat(20_000);
    let (href, uid) = (format!("/{long}"), format!("{long}\u{0}č"));
    let text = format!("SUMMARY:\u{0}\u{1}{long}");
    let object = add_object(&store, calendar, &href, &uid, &text);
    let href = ObjectHref::from(href.as_str());
    assert_eq!(store.object_at(calendar, &href).expect("read").map(|o| o.id), Some(object));
    let found = store.objects_by_uid(calendar, &EventUid::from(uid.as_str())).expect("read");
    assert_eq!(found.iter().map(|o| o.id).collect::<Vec<_>>(), [object]);
    let body = found[0].body.expect("a text");
    assert_eq!(store.text(body).expect("read"), Some(text));
    // Byte by byte, whatever the database's locale says of big and small letters.
    for name in ["/b", "/B", "/a", "/ä"] {
        add_object(&store, calendar, name, "same", "text");
    }
    let hrefs = store.objects_by_uid(calendar, &EventUid::from("same")).expect("read");
    let hrefs: Vec<_> = hrefs.iter().map(|o| o.href.as_str().to_owned()).collect();
    assert_eq!(hrefs, ["/B", "/a", "/b", "/ä"]);
}

/// Whoever is stopped for longer than its lease loses it to the next one, and writes nothing any more.
#[test]
fn a_lease_that_ran_out_is_taken_and_fences() {
    let Some(database) = database("fencing") else { return };
    let slow = Store::connect(&database.place(60)).expect("it opens");
    let quick = Store::connect(&database.place(60)).expect("it opens");
    let lease = slow.lease("route presses").expect("free");
    assert!(matches!(quick.lease("route presses"), Err(StoreError::Busy { holder: Some(_), .. })));
    // So it is after a stop: nothing was renewed.
    database.sql("UPDATE chestnut.lease SET until = 1");
    let taken = quick.lease("route presses").expect("it ran out");
    let late = slow.write(|w| w.route("presses"));
    assert!(matches!(&late, Err(StoreError::Busy { name, .. }) if name == "route presses"), "{late:?}");
    assert!(matches!(lease.renew(), Err(StoreError::Busy { .. })));
    quick.write(|w| w.route("presses")).expect("it holds it");
    drop(lease);
    // What was lost is not given back in the other's name.
    assert!(matches!(slow.lease("route presses"), Err(StoreError::Busy { .. })));
    slow.write(|w| w.route("market")).expect("without the lost lease it may write");
    drop(taken);
    drop(slow.lease("route presses").expect("free"));
}

/// A lease is renewed while its holder waits for something else.
#[test]
fn a_lease_lasts_as_long_as_its_holder() {
    let Some(database) = database("renewing") else { return };
    let (first, second) = [0, 1].map(|_| Store::connect(&database.place(3)).expect("it opens")).into();
    let lease = first.lease("route presses").expect("free");
    std::thread::sleep(Duration::from_millis(5_500));
    assert!(matches!(second.lease("route presses"), Err(StoreError::Busy { .. })));
    drop(lease);
    drop(second.lease("route presses").expect("free"));
}

/// Connections are cut, and the database is killed, at any moment: a write that was told to be kept is kept, one that
/// was not is not, and the state is whole.
#[test]
fn what_was_told_is_so_whatever_happens_to_the_database() {
    let Some(database) = lone_database("cuts and kills") else { return };
    let store = open(&database);
    let (mut kept, mut lost) = (BTreeSet::new(), 0);
    std::thread::scope(|scope| {
        let meddler = scope.spawn(|| {
            for round in 0..40_u64 {
                std::thread::sleep(Duration::from_millis(20 + round * 7 % 60));
                if round % 20 == 19 { database.crash() } else { database.cut() }
            }
        });
        for number in 0.. {
            let name = format!("route-{number}");
            let written = store.write(|w| {
                w.route(&name)?;
                let run = w.begin_run(&name, Timestamp::UNIX_EPOCH, RunKind::Sync)?;
                w.finish_run(run, Timestamp::UNIX_EPOCH, chestnut_store::RunResult::Ok, &Default::default())
            });
            match written {
                Ok(()) => drop(kept.insert(name)),
                Err(StoreError::Away(_) | StoreError::Database(_)) => lost += 1,
                Err(other) => panic!("{other:?}"),
            }
            if meddler.is_finished() {
                break;
            }
        }
        meddler.join().expect("it ends");
    });
    let store = open(&database);
    let there: BTreeSet<_> = store.route_names().expect("read").into_iter().collect();
    let [vanished, crept_in] =
        [kept.difference(&there), there.difference(&kept)].map(Iterator::collect::<Vec<_>>);
    assert!(
        vanished.is_empty() && crept_in.is_empty(),
        "told to be kept: {vanished:?}; told to be lost: {crept_in:?}; {lost} were lost"
    );
    assert!(kept.len() > 50 && lost > 0, "{} kept, {lost} lost", kept.len());
    assert_eq!(store.sizes().expect("read")[3], kept.len(), "both rows, or none");
    assert_eq!(store.check().expect("read"), []);
}

/// A state is moved there and back: nothing is left behind, and the old one says where it went.
#[test]
fn a_state_moves_there_and_back() {
    let Some(database) = database("moving") else { return };
    let folder = tempfile::tempdir().expect("a folder");
    let (old, new) = (folder.path().join("old"), folder.path().join("new"));
    let store = Store::open(&old).expect("it opens");
    let calendar = store.write(|w| w.calendar("dav board")).expect("a mirror");
    let zone = "BEGIN:VTIMEZONE\r\nTZID:Orchard\r\nEND:VTIMEZONE";
    let texts: Vec<_> =
        (0..5_000).map(|n| format!("BEGIN:VCALENDAR\r\n{zone}\r\n{n}\r\nEND:VCALENDAR\r\n")).collect();
    let objects: Vec<_> = texts
        .iter()
        .enumerate()
        .map(|(n, text)| add_object(&store, calendar, &format!("/{n}"), "uid", text))
        .collect();
    let gone = add_object(&store, calendar, "/gone", "uid", "gone");
    store
        .write(|w| {
            w.bury(calendar, gone)?;
            w.begin_run("presses", Timestamp::UNIX_EPOCH, RunKind::Sync)?;
            w.set_meta("key-check", "abc")
        })
        .expect("written");
    let sizes = store.sizes().expect("read");
    let shared = open(&database);
    store.move_to(&shared).expect("it moves");
    assert!(matches!(Store::open(&old), Err(StoreError::Moved { to, .. }) if to == database.url()));
    drop(store);
    let again = add_object(&shared, calendar, "/new", "uid", "new");
    assert!(again > gone, "no number is given again");
    assert_eq!(shared.meta("key-check").expect("read").as_deref(), Some("abc"));
    assert!(matches!(
        Store::open(&new).expect("it opens").move_to(&shared),
        Err(StoreError::NotEmpty { .. })
    ));
    let backup = folder.path().join("backup");
    shared.backup(&backup).expect("a file");
    assert_eq!(Store::open(&backup).expect("it opens").sizes().expect("read")[1], sizes[1] + 1);
    std::fs::remove_file(&new).expect("removed");
    let file = Store::open(&new).expect("it opens");
    shared.move_to(&file).expect("it moves back");
    assert!(matches!(Store::connect(&database.place(60)), Err(StoreError::Moved { .. })));
    for (object, text) in objects.iter().zip(&texts) {
        let body = file.object(*object).expect("read").expect("it is there").body.expect("a text");
        assert_eq!(file.text(body).expect("read").as_ref(), Some(text));
    }
    assert_eq!(file.check().expect("read"), []);
    assert_eq!(file.sizes().expect("read"), [sizes[0], sizes[1] + 1, sizes[2], sizes[3]]);
}
