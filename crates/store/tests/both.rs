//! A file and PostgreSQL answer alike, whatever is written and asked within one transaction: there statements wait, are
//! run with their like, and questions are asked ahead. Skipped aloud where PostgreSQL is not installed.

use std::fmt::Write as _;

use chestnut_core::{ContentKey, ETag, EventUid, ObjectHref, Origin, Partly};
use chestnut_store::{
    BodyId, CalendarId, Change, ChangeAction, HeldItem, Intent, LinkId, LinkRow, LinkState, NewObject,
    Object, ObjectId, ObjectState, PlaceRow, RouteId, RunId, RunKind, Store, StoreError, Text, Writer,
};
use chestnut_testkit::postgres::database;
use jiff::Timestamp;

const LINKS: usize = 2;

/// Random writes and questions, the same for whichever state.
struct Play<'s> {
    store: &'s Store,
    seed: u64,
    calendar: CalendarId,
    route: RouteId,
    run: RunId,
    objects: Vec<ObjectId>,
    links: Vec<LinkId>,
    log: String,
}

impl Play<'_> {
    fn next(&mut self, below: usize) -> usize {
        self.seed = self.seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.seed >> 33) as usize % below
    }

    /// What an answer says, numbers left out: they differ.
    fn object(&self, object: Option<&Object>) -> String {
        let Some(object) = object else { return "none".to_owned() };
        let text = object.body.map(|body| self.store.text(body).expect("read"));
        let at = self.objects.iter().position(|known| *known == object.id);
        format!(
            "{at:?} {} {:?} {:?} {} {:?} {text:?}",
            object.href, object.etag, object.state, object.seq, object.uid
        )
    }

    fn text(&self, body: Option<BodyId>) -> String {
        format!("{:?}", body.map(|body| self.store.text(body).expect("read")))
    }

    fn link(&self, link: LinkId) -> String {
        let Some(row) = self.store.link(link).expect("read") else { return "none".to_owned() };
        let mut said = format!("{:?} {:?} {:?}", row.state, row.reason, self.text(row.agreed));
        for place in self.store.places(link).expect("read") {
            let at = self.objects.iter().position(|known| Some(*known) == place.object);
            let texts = [self.text(place.stood), self.text(place.agreed)];
            write!(said, " | {} {at:?} {} {texts:?}", place.side, place.seq).expect("written");
        }
        for intent in self.store.intents(link).expect("read") {
            let texts = [intent.sent, intent.stood, intent.agreed].map(|body| self.text(body));
            write!(said, " > {} {} {texts:?}", intent.side, intent.href).expect("written");
        }
        for (side, body) in self.store.considered(link).expect("read") {
            write!(said, " < {side} {}", self.text(Some(body))).expect("written");
        }
        said
    }

    fn body(&mut self, writer: &Writer<'_>) -> Result<Option<BodyId>, StoreError> {
        let number = self.next(4);
        if number == 0 {
            return Ok(None);
        }
        // Known texts are named again, as long as they are there. A question ends what waits.
        let known = match number == 1 && !self.objects.is_empty() {
            true => {
                let at = self.next(self.objects.len());
                self.store.object(self.objects[at])?.and_then(|object| object.body)
            }
            false => None,
        };
        match known {
            Some(id) => {
                let text = self.store.text(id)?.unwrap_or_default();
                writer.keep_text(&Text { id: Some(id), text }).map(Some)
            }
            None => {
                let text = format!("text {}", self.next(1000));
                writer.keep_text(&Text::new(text)).map(Some)
            }
        }
    }

    fn write(&mut self, writer: &Writer<'_>) -> Result<(), StoreError> {
        let (at, side) = (self.next(LINKS), self.next(2));
        let link = self.links.get(at).copied();
        match (self.next(14), link) {
            (0 | 1, _) => {
                let href = ObjectHref::from(format!("/{}", self.next(8)));
                let (uid, etag) = (EventUid::from(format!("u{}", self.next(3))), ETag::from("e"));
                let text = format!("entry {}", self.next(1000));
                let new = NewObject {
                    href: &href,
                    etag: Some(&etag),
                    state: ObjectState::Present,
                    generation: 1,
                    uid: Some(&uid),
                    content: Some(ContentKey([7; 16])),
                    text: Some(&text),
                    span: None,
                    parent: None,
                };
                match self.store.object_at(self.calendar, &href)? {
                    Some(known) => writer.change_object(self.calendar, known.id, &new)?,
                    None => {
                        let id = writer.add_object(self.calendar, &new)?;
                        self.objects.push(id);
                    }
                }
            }
            (2, _) if !self.objects.is_empty() => {
                let at = self.next(self.objects.len());
                if let Some(known) = self.store.object(self.objects[at])?
                    && known.state != ObjectState::Gone
                {
                    match self.next(2) {
                        0 => writer.bury(self.calendar, known.id)?,
                        _ => writer.same_object(known.id, Some(&ETag::from("again")), known.state, 2)?,
                    }
                }
            }
            (3 | 4, known) if known.is_none_or(|link| matches!(self.store.link(link), Ok(Some(_)))) => {
                let states = [LinkState::InStep, LinkState::Failed, LinkState::LeftOut];
                let row = LinkRow {
                    state: states[self.next(3)],
                    reason: ["", "copy"][self.next(2)].to_owned(),
                    agreed: self.body(writer)?,
                    carried: 1,
                    form: 1,
                    due: None,
                    tries: 0,
                    told: None,
                    partly: Partly { without_people: self.next(2) == 0, ..Partly::default() },
                };
                let link = writer.put_link(self.route, known, &row)?;
                if known.is_none() {
                    self.links.push(link);
                }
            }
            (5 | 6, Some(link)) if self.store.link(link)?.is_some() => {
                let object = match self.objects.is_empty() {
                    true => None,
                    false => {
                        let at = self.next(self.objects.len());
                        Some(self.objects[at])
                    }
                };
                if let Some(object) = object {
                    writer.free_object(self.route, object)?;
                }
                let (stood, agreed) = (self.body(writer)?, self.body(writer)?);
                let seq = self.next(90) as i64;
                let origin = Origin::Copy;
                let place =
                    PlaceRow { side, object, origin, seq, stood, agreed, refused: None, let_go: false };
                writer.put_place(self.route, link, &place)?;
            }
            (7, Some(link)) if self.store.link(link)?.is_some() => {
                let href = ObjectHref::from(format!("/{}", self.next(8)));
                let [sent, stood, agreed] = [self.body(writer)?, self.body(writer)?, self.body(writer)?];
                writer.intend(
                    self.route,
                    &Intent { link, side, href, sent, stood, agreed, carried: 1, form: 1 },
                )?;
                if let Some(body) = self.body(writer)? {
                    writer.consider(link, &[(side, body)])?;
                }
            }
            (8, Some(link)) => writer.done(link, &[0, 1][..=side])?,
            (9, Some(link)) if self.store.link(link)?.is_some() => {
                let item = HeldItem {
                    id: 0,
                    route: "presses".into(),
                    link: Some(link),
                    since: 1,
                    title: format!("held {}", self.next(9)),
                    start: String::new(),
                    details: String::new(),
                    decision: None,
                };
                writer.hold(self.route, &item)?;
            }
            (10, Some(link)) => writer.let_through(self.route, Some(link))?,
            (11, Some(link)) if self.next(3) == 0 => writer.forget_link(link)?,
            (12, _) => {
                let change = Change {
                    calendar: "board".into(),
                    action: ChangeAction::Created,
                    href: ObjectHref::from("/x"),
                    uid: EventUid::from("x"),
                    title: format!("change {}", self.next(99)),
                    start: String::new(),
                    told: None,
                    before: None,
                    after: Some(Text::new(format!("after {}", self.next(99)))),
                    link,
                };
                writer.add_change(self.run, &change)?;
            }
            _ => self.ask()?,
        }
        Ok(())
    }

    fn ask(&mut self) -> Result<(), StoreError> {
        let href = ObjectHref::from(format!("/{}", self.next(8)));
        let found = self.store.object_at(self.calendar, &href)?;
        let said = self.object(found.as_ref());
        writeln!(self.log, "{href}: {said}").expect("written");
        let uid = EventUid::from(format!("u{}", self.next(3)));
        for found in self.store.objects_by_uid(self.calendar, &uid)? {
            let said = self.object(Some(&found));
            writeln!(self.log, "{uid}: {said}").expect("written");
        }
        Ok(())
    }

    /// All there is, asked ahead and then one by one: both say the same.
    fn dump(&mut self) {
        let ahead = self.store.ahead();
        let links = self.links.clone();
        let hrefs: Vec<_> = (0..8).map(|n| ObjectHref::from(format!("/{n}"))).collect();
        let asked = ahead.ask(|| {
            hrefs.iter().try_for_each(|href| self.store.object_at(self.calendar, href).map(drop))?;
            links.iter().try_for_each(|link| self.store.link(*link).map(drop))?;
            links.iter().try_for_each(|link| self.store.places(*link).map(drop))?;
            self.store.objects_by_content(self.calendar, ContentKey([7; 16]), 3).map(drop)
        });
        asked.expect("asked");
        let all = |play: &Self| {
            let mut said = String::new();
            for href in &hrefs {
                let found = play.store.object_at(play.calendar, href).expect("read");
                writeln!(said, "{href} {}", play.object(found.as_ref())).expect("written");
            }
            for link in &links {
                writeln!(said, "{}", play.link(*link)).expect("written");
            }
            let alike = play.store.objects_by_content(play.calendar, ContentKey([7; 16]), 3).expect("read");
            alike.iter().for_each(|found| said.push_str(&play.object(Some(found))));
            said
        };
        let ahead_of_time = all(self);
        drop(ahead);
        let said = all(self);
        assert_eq!(ahead_of_time, said, "what was asked ahead is what is there");
        let tally = self.store.tally(self.route).expect("read");
        let mut held = self.store.held(Some(self.route)).expect("read");
        held.sort_by(|a, b| a.title.cmp(&b.title));
        let held: Vec<_> = held.into_iter().map(|item| item.title).collect();
        writeln!(self.log, "{said}\n{tally:?} {held:?}").expect("written");
        assert_eq!(self.store.check().expect("read"), [], "every text that is named is there");
    }
}

/// What a state says of random writes; then, how many texts it keeps after all is forgotten.
fn play(store: &Store, seed: u64, between: impl Fn(usize)) -> String {
    let (calendar, route, run) = store
        .write(|w| {
            let run = w.begin_run("presses", Timestamp::UNIX_EPOCH, RunKind::Sync)?;
            Ok((w.calendar(&format!("dav board {seed}"))?, w.route("presses")?, run))
        })
        .expect("begun");
    let (objects, links, log) = (Vec::new(), Vec::new(), String::new());
    let mut play = Play { store, seed, calendar, route, run, objects, links, log };
    for writes in 0..3 {
        between(writes);
        let steps = 5 + play.next(40);
        store.write(|w| (0..steps).try_for_each(|_| play.write(w))).expect("written");
        play.dump();
    }
    store
        .write(|w| {
            w.forget_route(route)?;
            play.objects.iter().try_for_each(|object| match store.object(*object)? {
                Some(known) if known.state != ObjectState::Gone => w.bury(calendar, *object),
                _ => Ok(()),
            })?;
            w.forget_gone(calendar)?;
            w.prune_history(Timestamp::MAX)
        })
        .expect("forgotten");
    play.log
}

#[test]
fn what_is_written_at_once_is_what_is_written_one_by_one() {
    let Some(shared) = database("both states") else { return };
    let shared_store = Store::connect(&shared.place(60)).expect("it opens");
    for seed in 1..=60 {
        let file = Store::in_memory().expect("a state");
        // What PostgreSQL knows of its tables changes how it goes about a question.
        let analyzed = |writes| {
            if seed % 2 == 0 && writes > 0 {
                drop(shared.sql("ANALYZE"))
            }
        };
        assert_eq!(play(&shared_store, seed, analyzed), play(&file, seed, |_| {}), "seed {seed}");
        let left = shared.sql("SELECT count(*) FROM chestnut.body");
        assert_eq!(left, "0", "seed {seed}: nobody names a text any more");
    }
}

/// Texts that are too much to be held at once are asked one by one.
#[test]
fn what_is_asked_ahead_is_bounded() {
    let Some(shared) = database("much at once") else { return };
    let store = Store::connect(&shared.place(60)).expect("it opens");
    let calendar = store.write(|w| w.calendar("dav board")).expect("a mirror");
    // Nothing that could be packed.
    let text = |n: u64| {
        let mut seed = n + 1;
        let letters = std::iter::from_fn(|| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            Some(char::from(b' ' + (seed >> 40) as u8 % 90))
        });
        letters.take(1 << 20).collect::<String>()
    };
    let objects: Vec<_> = (0..8)
        .map(|n| chestnut_testkit::add_object(&store, calendar, &format!("/{n}"), &format!("u{n}"), &text(n)))
        .collect();
    let bodies: Vec<_> =
        objects.iter().filter_map(|object| store.object(*object).expect("read")?.body).collect();
    let ahead = store.ahead();
    ahead.ask(|| bodies.iter().try_for_each(|body| store.text(*body).map(drop))).expect("asked");
    for (n, body) in (0..).zip(&bodies) {
        assert!(store.text(*body).expect("read") == Some(text(n)), "text {n}");
    }
}
