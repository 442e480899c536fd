//! Two servers, a route between them, and everything that can happen to a run.

use std::cell::{Cell, RefCell};
use std::future::Future;
use std::pin::Pin;
use std::rc::Rc;
use std::task::{Context, Waker};

use chestnut_caldav::{
    Answer, Client, ClientOptions, Detail, Request, SignInKind, Transport, TransportError, TransportFault,
};
use chestnut_core::{Deletions, FarEdits, Kind, ObjectHref, RouteKey};
use chestnut_engine::{
    Calendar, CalendarEnd, Comparison, Leftover, PreviewReport, ProbeHow, ProbeReport, Rule, RunError,
    RunOptions, RunReport, Silent, Story, ToRestore, ToUndo, UndoPlan, Wanted, compare_route, copies_of,
    plan_restore, plan_undo, preview_route, probe_route, restore, retire_route, run_route, stories,
    sweep_route, take_snapshot, undo,
};
use chestnut_standin::{Habit, Server, ServerRequest, Temper, orchard_entries};
use chestnut_store::{Store, StoreError};
use jiff::Timestamp;
use tempfile::TempDir;
use url::Url;

use crate::postgres::{TestDatabase, database};
use crate::process::{Idle, OpenState, open_file};

/// Burns once for each request and each write of the state; when it has burnt down, nothing goes through any
/// more, as if the process had been killed.
#[derive(Debug, Default)]
struct Fuse {
    left: Cell<Option<usize>>,
    burnt: Cell<usize>,
    dead: Cell<bool>,
}

impl Fuse {
    fn burn(&self) -> bool {
        self.burnt.set(self.burnt.get() + 1);
        match self.left.get() {
            Some(0) => self.dead.set(true),
            Some(left) => self.left.set(Some(left - 1)),
            None => {}
        }
        !self.dead.get()
    }
}

/// One server, its calendar, and the way to it.
#[derive(Clone)]
pub struct End {
    /// The server; tests look inside and act as its other users.
    pub server: Rc<RefCell<Server>>,
    /// The calendar's path.
    pub path: String,
    /// All that was sent to it: addresses, headers and bodies.
    pub sent: Rc<RefCell<String>>,
    name: &'static str,
}

impl std::fmt::Debug for End {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name)
    }
}

impl End {
    /// Returns one more calendar on the same server.
    #[must_use]
    pub fn beside(&self, slug: &str) -> Self {
        let path = self.server.borrow_mut().add_calendar("office", slug, slug, "#b5651d");
        Self { server: Rc::clone(&self.server), path, sent: Rc::default(), name: self.name }
    }
}

/// What another client does once a request has been carried out.
type Meanwhile = Rc<RefCell<Option<(&'static str, usize, Box<dyn FnOnce()>)>>>;

/// Carries requests to a server in memory.
struct InProcess {
    meanwhile: Meanwhile,
    server: Rc<RefCell<Server>>,
    sent: Rc<RefCell<String>>,
    clock: Rc<Cell<i64>>,
    fuse: Rc<Fuse>,
    /// A killed run's last request reaches the server.
    last_one_arrives: Rc<Cell<bool>>,
}

impl InProcess {
    fn ask(&self, request: &Request) -> Result<Answer, TransportError> {
        let broken = |fault| TransportError::new(fault, "world", Detail::Nothing);
        let was_dead = self.fuse.dead.get();
        let alive = self.fuse.burn();
        if !alive && (was_dead || !self.last_one_arrives.get()) {
            return Err(broken(TransportFault::Stopped));
        }
        // Every request takes a little of the world's time.
        self.clock.set(self.clock.get() + 5);
        let mut headers: Vec<(String, String)> =
            request.headers.iter().map(|(k, v)| (k.to_ascii_lowercase(), v.clone())).collect();
        let said = format!("{} {}\n{headers:?}\n{}\n", request.method, request.url, request.body);
        self.sent.borrow_mut().push_str(&said.replace("\r\n ", ""));
        // office:office-pw
        headers.push(("authorization".into(), "Basic b2ZmaWNlOm9mZmljZS1wdw==".into()));
        let mut server = self.server.borrow_mut();
        server.now_ms = self.clock.get();
        let reply = server.handle(&ServerRequest {
            method: request.method.to_owned(),
            path: request.url[url::Position::BeforePath..].to_owned(),
            headers,
            body: request.body.clone().into_bytes(),
        });
        drop(server);
        self.let_others_act(request.method);
        if !alive {
            return Err(broken(TransportFault::Stopped));
        }
        if reply.lost || reply.half {
            return Err(broken(TransportFault::Broken));
        }
        let mut map = http::HeaderMap::new();
        for (name, value) in &reply.headers {
            let name = http::HeaderName::from_bytes(name.as_bytes()).expect("a header name");
            map.append(name, value.parse().expect("a header value"));
        }
        let (url, sign_in) = (request.url.clone(), SignInKind::Password);
        Ok(Answer { status: reply.status, headers: map, body: reply.body, url, sign_in })
    }
}

impl InProcess {
    fn let_others_act(&self, method: &str) {
        let mut meanwhile = self.meanwhile.borrow_mut();
        let Some((_, left, _)) = meanwhile.as_mut().filter(|(wanted, ..)| *wanted == method) else { return };
        if *left > 1 {
            *left -= 1;
            return;
        }
        let act = meanwhile.take().map(|(.., act)| act);
        drop(meanwhile);
        if let Some(act) = act {
            act();
        }
    }
}

impl Transport for InProcess {
    fn send<'a>(
        &'a self,
        request: &'a Request,
    ) -> Pin<Box<dyn Future<Output = Result<Answer, TransportError>> + 'a>> {
        Box::pin(async move {
            // Some take longer than others: what is sent at the same time arrives in any order.
            let turns = self.sent.borrow().len() % 3;
            for _ in 0..turns {
                tokio::task::yield_now().await;
            }
            self.ask(request)
        })
    }
}

/// Two servers and a one-way route between them.
pub struct World {
    /// Where entries come from.
    pub source: End,
    /// Where copies go.
    pub target: End,
    /// A third calendar, for two-way routes between three.
    pub third: End,
    /// A fourth, for copies of what the others keep alike.
    pub board: End,
    /// How many of the first three a two-way route keeps alike.
    pub between: usize,
    /// What else a two-way route says.
    pub shape_two_way: Rc<dyn Fn(&mut Rule)>,
    /// What the route says; tests change it.
    pub kinds: Vec<Kind>,
    /// What deletions do.
    pub deletions: Deletions,
    /// What edits on the far side do.
    pub far_edits: FarEdits,
    /// What else the route says.
    pub shape: Rc<dyn Fn(&mut Rule)>,
    /// How the next runs are run.
    pub allow_deletions: bool,
    /// Read everything again.
    pub afresh: bool,
    /// Measure how long runs take, pauses with them; they pass at once.
    pub measure: bool,
    /// How many entries are written together.
    pub batch: usize,
    /// A person wants the run to stop.
    pub stop: Rc<Cell<bool>>,
    /// How far this machine's clock is ahead of the servers', in seconds.
    pub ahead: Cell<i64>,
    meanwhile: Meanwhile,
    clock: Rc<Cell<i64>>,
    fuse: Rc<Fuse>,
    last_one_arrives: Rc<Cell<bool>>,
    folder: TempDir,
    idle: Rc<Idle>,
    /// Where the state is kept in PostgreSQL: `CHESTNUT_STATE=postgres` asks for it.
    database: Option<TestDatabase>,
}

impl std::fmt::Debug for World {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("World")
    }
}

/// 2026-10-05, a Monday in the harvest.
const BEGINNING: i64 = 1_791_180_000_000;

impl World {
    /// Makes a world with `entries` in the source, written long before the first run.
    ///
    /// # Panics
    /// No temporary folder can be made; so for all methods: it is a test then that fails.
    #[must_use]
    pub fn new(entries: usize) -> Self {
        let end = |name, slug| {
            let mut server = Server::new(&["office"], BEGINNING - 3_600_000);
            let path = server.add_calendar("office", slug, slug, "#b5651d");
            End { server: Rc::new(RefCell::new(server)), path, sent: Rc::default(), name }
        };
        let world = Self {
            source: end("source", "presses"),
            target: end("target", "board"),
            third: end("third", "phones"),
            board: end("wall", "wall"),
            between: 2,
            shape_two_way: Rc::new(|_| {}),
            kinds: vec![Kind::Event, Kind::Task],
            deletions: Deletions::Carry,
            far_edits: FarEdits::Correct,
            shape: Rc::new(|_| {}),
            allow_deletions: false,
            afresh: false,
            measure: false,
            batch: RunOptions::at(Timestamp::UNIX_EPOCH).batch,
            stop: Rc::default(),
            ahead: Cell::default(),
            meanwhile: Rc::default(),
            clock: Rc::new(Cell::new(BEGINNING)),
            fuse: Rc::default(),
            last_one_arrives: Rc::default(),
            folder: quick_folder(),
            idle: Rc::default(),
            database: keeps_in_postgres()
                .then(|| database("a state in PostgreSQL").expect("it is installed")),
        };
        world.add_entries(0..entries);
        world
    }

    /// Stores sample entries in the source, by number.
    pub fn add_entries(&self, numbers: std::ops::Range<usize>) {
        let mut server = self.source.server.borrow_mut();
        for entry in orchard_entries(numbers.end, jiff::civil::date(2026, 10, 5)).split_off(numbers.start) {
            server.store(&self.source.path, &entry.name, &entry.text);
        }
    }

    /// Gives one server a habit; what stands there stays as it is.
    pub fn habit(&self, end: &End, habit: Habit) {
        end.server.borrow_mut().habits.insert(habit);
    }

    /// Gives one server a temper.
    pub fn temper(&self, end: &End, temper: Temper) {
        end.server.borrow_mut().habits = temper.habits();
    }

    /// Replaces a text in the source as another client would.
    pub fn edit(&self, end: &End, name: &str, from: &str, to: &str) {
        self.clock.set(self.clock.get() + 5);
        let mut server = end.server.borrow_mut();
        server.now_ms = self.clock.get();
        let text = server.texts(&end.path).remove(name).expect("the entry is there");
        assert!(text.contains(from), "{from} is not in {text}");
        server.store_raw(&end.path, name, text.replace(from, to));
    }

    /// Writes an entry as another client would.
    pub fn write(&self, end: &End, name: &str, text: &str) {
        self.clock.set(self.clock.get() + 5);
        let mut server = end.server.borrow_mut();
        server.now_ms = self.clock.get();
        server.store_raw(&end.path, name, text.to_owned());
    }

    /// Returns what stands in a calendar.
    #[must_use]
    pub fn entries(&self, end: &End) -> Vec<chestnut_core::Entry> {
        let limits = chestnut_core::ical::Limits::default();
        let texts = end.server.borrow().texts(&end.path);
        texts.values().map(|text| chestnut_core::Entry::parse(text, &limits).expect("an entry")).collect()
    }

    /// Deletes an entry as another client would.
    pub fn delete(&self, end: &End, name: &str) {
        self.clock.set(self.clock.get() + 5);
        let mut server = end.server.borrow_mut();
        server.now_ms = self.clock.get();
        assert!(server.delete(&end.path, name), "{name} is there");
    }

    /// Returns the time of the world, in seconds since 1970.
    #[must_use]
    pub fn now(&self) -> i64 {
        self.clock.get() / 1000
    }

    /// Has another client act once, right after the server carried out the `nth` request of a method.
    pub fn meanwhile(&self, method: &'static str, nth: usize, act: impl FnOnce() + 'static) {
        *self.meanwhile.borrow_mut() = Some((method, nth, Box::new(act)));
    }

    /// Has a second process look at the target right after the server carried out the `nth` request of a method: it
    /// asks what a route from there to the third calendar would do, which brings the mirror up to date.
    pub fn second_process(&self, method: &'static str, nth: usize) {
        let key = RouteKey::new(b"a key for tests", "beside");
        let route = Rule::one_way("beside", self.end(&self.target), self.end(&self.third), key);
        let (store, options) = (self.store(), self.options());
        self.meanwhile(method, nth, move || {
            let look = std::pin::pin!(preview_route(&route, &store, &options, &Silent));
            // Everything here answers at once; what would wait is cut off there.
            drop(look.poll(&mut Context::from_waker(Waker::noop())));
        });
    }

    /// Takes the one-way route out, its copies too; returns how many went.
    ///
    /// # Errors
    /// The run was killed, or could not begin.
    pub fn retire(&self) -> Result<usize, RunError> {
        let (route, store, options) = (self.route(), self.store(), self.options());
        block_on(async {
            let copies = copies_of(&route, &store, &options).await?;
            let report = retire_route(&route.name, &store, Some((&route, &options, &copies))).await?;
            let summary = report.map(|report| report.summary).unwrap_or_default();
            Ok(summary.calendars.values().map(|counts| counts.deleted).sum())
        })
    }

    /// Lets time pass.
    pub fn pass(&self, seconds: i64) {
        self.clock.set(self.clock.get() + seconds * 1000);
    }

    /// Has the run be killed at its step number `step`, counted from 0 over requests and writes of the state.
    /// With `arrives`, a request that it is killed at still reaches the server.
    pub fn kill_at(&self, step: Option<usize>, arrives: bool) {
        self.fuse.left.set(step);
        self.fuse.dead.set(false);
        self.fuse.burnt.set(0);
        self.last_one_arrives.set(arrives);
    }

    /// Tells whether the run was killed.
    #[must_use]
    pub fn was_killed(&self) -> bool {
        self.fuse.dead.get()
    }

    /// Forgets the state, as after a lost disk.
    pub fn lose_state(&self) {
        self.idle.end();
        if let Some(database) = &self.database {
            database.sql("DROP SCHEMA IF EXISTS chestnut CASCADE");
        }
        for file in std::fs::read_dir(self.folder.path()).expect("the folder") {
            std::fs::remove_file(file.expect("a file").path()).expect("it can be removed");
        }
    }

    /// Opens the state, or goes on with one that is open and idle.
    #[must_use]
    pub fn store(&self) -> OpenState {
        let open = || {
            let store = match &self.database {
                Some(database) => Store::connect(&database.place(60)),
                None => open_file(&self.folder.path().join("state.db")),
            };
            let store = store.expect("the state opens");
            let fuse = Rc::clone(&self.fuse);
            store.set_gate(move || (!fuse.burn()).then_some(StoreError::CutOff));
            store
        };
        let fuse = Rc::clone(&self.fuse);
        self.idle.wake(open, move || !fuse.dead.get())
    }

    fn end(&self, end: &End) -> CalendarEnd {
        let transport = InProcess {
            meanwhile: Rc::clone(&self.meanwhile),
            server: Rc::clone(&end.server),
            sent: Rc::clone(&end.sent),
            clock: Rc::clone(&self.clock),
            fuse: Rc::clone(&self.fuse),
            last_one_arrives: Rc::clone(&self.last_one_arrives),
        };
        let calendar = Calendar::Dav {
            client: Client::new(Rc::new(transport), ClientOptions::default()),
            url: Url::parse(&format!("http://{}.example{}", end.name, end.path)).expect("an address"),
        };
        CalendarEnd::new(end.name, Some(&format!("{}-account", end.name)), calendar)
    }

    /// Returns the one-way route, ready to run.
    #[must_use]
    pub fn route(&self) -> Rule {
        let key = RouteKey::new(b"a key for tests", "presses-to-board");
        let ends = (self.end(&self.source), self.end(&self.target));
        let mut route = Rule::one_way("presses-to-board", ends.0, ends.1, key);
        route.kinds = self.kinds.iter().copied().collect();
        route.deletions = self.deletions;
        route.far_edits = self.far_edits;
        (self.shape)(&mut route);
        route
    }

    /// Returns the calendars of a two-way route.
    #[must_use]
    pub fn sides(&self) -> Vec<&End> {
        [&self.source, &self.target, &self.third].into_iter().take(self.between).collect()
    }

    /// Returns a two-way route between the calendars, ready to run.
    #[must_use]
    pub fn two_way(&self) -> Rule {
        let ends = self.sides().into_iter().map(|end| self.end(end)).collect();
        let mut route = Rule::two_way("crews", ends, RouteKey::new(b"a key for tests", "crews"));
        (self.shape_two_way)(&mut route);
        route
    }

    /// Runs the two-way route once.
    ///
    /// # Errors
    /// The run was killed, or could not begin.
    pub fn try_sync_two_way(&self) -> Result<RunReport, RunError> {
        let (route, store, options) = (self.two_way(), self.store(), self.options());
        block_on(run_route(&route, &store, &options, &Silent))
    }

    /// Runs the two-way route once.
    pub fn sync_two_way(&self) -> RunReport {
        self.try_sync_two_way().expect("the run begins")
    }

    fn options(&self) -> RunOptions {
        let now = Timestamp::from_millisecond(self.clock.get() + self.ahead.get() * 1000).expect("a moment");
        RunOptions {
            allow_deletions: self.allow_deletions,
            afresh: self.afresh,
            measure: self.measure,
            batch: self.batch,
            names_all: true,
            stop: Rc::clone(&self.stop),
            ..RunOptions::at(now)
        }
    }

    /// Runs the route once; pauses take no real time.
    ///
    /// # Errors
    /// The run was killed, or could not begin.
    pub fn try_sync(&self) -> Result<RunReport, RunError> {
        let (route, store, options) = (self.route(), self.store(), self.options());
        block_on(run_route(&route, &store, &options, &Silent))
    }

    /// Runs the route once.
    pub fn sync(&self) -> RunReport {
        self.try_sync().expect("the run begins")
    }

    /// Returns the end of a one-way route at any of the calendars.
    #[must_use]
    pub fn route_at(&self, end: &End) -> CalendarEnd {
        self.end(end)
    }

    /// Runs any route.
    ///
    /// # Errors
    /// The run was killed, or could not begin.
    pub fn run(&self, route: &Rule) -> Result<RunReport, RunError> {
        let (store, options) = (self.store(), self.options());
        block_on(run_route(route, &store, &options, &Silent))
    }

    /// Returns all that stands in a calendar, with where.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn snapshot(&self, end: &CalendarEnd) -> Result<Vec<(ObjectHref, String)>, RunError> {
        let (store, options) = (self.store(), self.options());
        Ok(block_on(take_snapshot(&store, end, options.now))?.entries)
    }

    /// Puts a calendar back; what was planned.
    ///
    /// # Errors
    /// It was killed, or the calendar cannot be read.
    pub fn restore(&self, end: &CalendarEnd, what: &ToRestore) -> Result<UndoPlan, RunError> {
        let (store, options) = (self.store(), self.options());
        block_on(async {
            let plan = plan_restore(end, &store, &options, &Silent, what).await?;
            if !plan.undone.is_empty() {
                restore(end, &store, &options, &Silent, what, &plan).await?;
            }
            Ok(plan)
        })
    }

    /// Takes runs of any route back; what was planned, and what came of it where there was something to do.
    ///
    /// # Errors
    /// It was killed, or a calendar cannot be read.
    pub fn undo(&self, route: &Rule, what: &ToUndo) -> Result<(UndoPlan, Option<RunReport>), RunError> {
        let (store, options) = (self.store(), self.options());
        block_on(async {
            let plan = plan_undo(route, &store, &options, &Silent, what).await?;
            if plan.undone.is_empty() {
                return Ok((plan, None));
            }
            let report = undo(route, &store, &options, &Silent, what, &plan).await?;
            Ok((plan, Some(report)))
        })
    }

    /// Says what a run would do.
    pub fn preview(&self) -> PreviewReport {
        self.preview_of(&self.route())
    }

    /// Says what a run of any route would do.
    pub fn preview_of(&self, route: &Rule) -> PreviewReport {
        let (store, options) = (self.store(), self.options());
        block_on(preview_route(route, &store, &options, &Silent)).expect("a preview")
    }

    /// Compares the calendars of any route, reading all of them again.
    ///
    /// # Errors
    /// A calendar cannot be read.
    pub fn compare_of(&self, route: &Rule) -> Result<Comparison, RunError> {
        let (store, options) = (self.store(), self.options());
        block_on(compare_route(route, &store, &options, &Silent, None))
    }

    /// Tells the stories of the entries of any route that have a UID.
    ///
    /// # Errors
    /// A calendar cannot be read.
    pub fn stories_of(&self, route: &Rule, uid: &str) -> Result<Vec<Story>, RunError> {
        let (store, options) = (self.store(), self.options());
        let wanted = Wanted {
            uid: uid.into(),
            words: vec!["no title has this word".to_owned()],
            days: Vec::new(),
            zone: jiff::tz::TimeZone::UTC,
        };
        block_on(stories(route, &store, &options, &wanted))
    }

    /// Tries any route with a test entry.
    ///
    /// # Errors
    /// It was killed, or a calendar cannot be read.
    pub fn probe(&self, route: &Rule) -> Result<ProbeReport, RunError> {
        let (store, options) = (self.store(), self.options());
        let how = ProbeHow { titles: vec!["A test entry".to_owned()], ..ProbeHow::default() };
        block_on(probe_route(route, &store, &options, &how))
    }

    /// Takes away what test entries of any route have left.
    ///
    /// # Errors
    /// A calendar cannot be read.
    pub fn sweep(&self, route: &Rule) -> Result<(usize, Vec<Leftover>), RunError> {
        let (store, options) = (self.store(), self.options());
        block_on(sweep_route(route, &store, &options))
    }

    /// Returns the requests that a server saw since the last call, as `METHOD path`.
    pub fn take_log(&self, end: &End) -> Vec<String> {
        let log = std::mem::take(&mut end.server.borrow_mut().log);
        log.into_iter().map(|(method, path)| format!("{method} {path}")).collect()
    }

    /// Returns what the far side should hold: the source's entries under the copies' UIDs, by meaning; with the
    /// left-out kinds left out.
    #[must_use]
    pub fn differences(&self) -> Vec<String> {
        let meaning = |end: &End| -> Vec<String> {
            let texts = end.server.borrow().texts(&end.path);
            let limits = chestnut_core::ical::Limits::default();
            let entries = texts.values().filter_map(|t| chestnut_core::Entry::parse(t, &limits).ok());
            let taken = entries.filter(|e| self.kinds.contains(&e.kind()));
            let mut all: Vec<_> =
                taken.map(|e| format!("{} {:?}", e.title(), e.meaning().fingerprint())).collect();
            all.sort();
            all
        };
        let (source, target) = (meaning(&self.source), meaning(&self.target));
        let only = |a: &[String], b: &[String], side: &str| -> Vec<String> {
            a.iter().filter(|x| !b.contains(x)).map(|x| format!("only in {side}: {x}")).collect()
        };
        let mut found = only(&source, &target, "source");
        found.extend(only(&target, &source, "target"));
        if found.is_empty() && source.len() != target.len() {
            found.push(format!("{} entries against {}", source.len(), target.len()));
        }
        found
    }
}

fn keeps_in_postgres() -> bool {
    std::env::var_os("CHESTNUT_STATE").is_some_and(|kind| kind == "postgres")
}

/// A temporary folder, in memory where the machine has such a place: states are written thousands of times.
///
/// # Panics
/// None can be made.
#[must_use]
pub fn quick_folder() -> TempDir {
    let in_memory = tempfile::Builder::new().tempdir_in("/dev/shm");
    in_memory.or_else(|_| TempDir::new()).expect("a temporary folder")
}

/// Runs a future to its end, on a clock that jumps over every pause: everything here answers at once.
pub fn block_on<T>(future: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_time().start_paused(true).build();
    runtime.expect("a runtime").block_on(future)
}

/// Returns the one text of a calendar that contains a marker.
///
/// # Panics
/// There is none, or more than one.
#[must_use]
pub fn text_of(end: &End, marker: &str) -> (String, String) {
    let texts = end.server.borrow().texts(&end.path);
    let mut found: Vec<_> = texts.into_iter().filter(|(_, text)| text.contains(marker)).collect();
    assert_eq!(found.len(), 1, "{marker}");
    found.remove(0)
}

/// Returns the titles of a calendar, sorted.
#[must_use]
pub fn titles(end: &End) -> Vec<String> {
    let texts = end.server.borrow().texts(&end.path);
    let limits = chestnut_core::ical::Limits::default();
    let mut titles: Vec<_> = texts
        .values()
        .filter_map(|t| chestnut_core::Entry::parse(t, &limits).ok())
        .map(|e| e.title())
        .collect();
    titles.sort();
    titles
}
