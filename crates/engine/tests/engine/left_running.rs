//! What a process that runs for years lives on: when something is due, what is wrong since when, and who was told.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::time::Duration;

use chestnut_core::RouteKey;
use chestnut_engine::{
    Pace, Paced, Round, Rule, RunError, RunOptions, Signs, Silent, Then, Went, deliver, has_news,
    look_at_calendars, run_route, settle,
};
use chestnut_standin::{Fault, FaultKind};
use chestnut_store::{NoticeEvent, Store, StoreError, TroubleKind};
use chestnut_testkit::{World, block_on};
use jiff::Timestamp;
use serde::Deserialize as _;
use serde_json::json;

use crate::dice::{Dice, Failure, run_histories};

const MINUTE: u64 = 60;
const HOUR: u64 = 60 * MINUTE;

/// What a program was told: the number of the notice, what of which trouble, and at which attempt.
type Told = (i64, NoticeEvent, i64, u32);

/// Signs come and go, the clock jumps, the program fails, the process is killed anywhere.
struct Troubled {
    dice: Dice,
    store: Store,
    /// How many more writes of the state there are before the process is killed.
    left: Rc<Cell<Option<usize>>>,
    now: i64,
    /// What is wrong now.
    wrong: BTreeSet<(usize, usize)>,
    told: RefCell<Vec<Told>>,
    kills: usize,
    log: Vec<String>,
}

const KINDS: [TroubleKind; 4] =
    [TroubleKind::ServerDown, TroubleKind::SignInRefused, TroubleKind::Held, TroubleKind::RouteStale];

impl Troubled {
    fn new(seed: u64) -> Self {
        let store = Store::in_memory().expect("a state");
        let left: Rc<Cell<Option<usize>>> = Rc::default();
        let gate = Rc::clone(&left);
        store.set_gate(move || match gate.get() {
            Some(0) => Some(StoreError::CutOff),
            left => {
                gate.set(left.map(|left| left - 1));
                None
            }
        });
        Self {
            dice: Dice::new(seed),
            store,
            left,
            now: 1_791_187_200,
            wrong: BTreeSet::new(),
            told: RefCell::default(),
            kills: 0,
            log: Vec::new(),
        }
    }

    fn moment(&self) -> Timestamp {
        Timestamp::from_second(self.now).expect("a moment")
    }

    fn settle(&mut self) {
        let mut signs = Signs::default();
        for (kind, word) in KINDS.iter().enumerate() {
            for about in 0..2 {
                if self.dice.roll(4) > 0 {
                    let wrong = self.wrong.contains(&(kind, about)).then(|| json!({ "entries": 3 }));
                    signs.note(*word, ["packhouse", "cloud"][about], wrong);
                }
            }
        }
        let keep_from = Timestamp::from_second(self.now - 90 * 86_400).expect("a moment");
        let settled = settle(&self.store, &signs, true, self.moment(), keep_from);
        self.after(settled.err());
    }

    /// A killed process is followed by another.
    fn after(&mut self, error: Option<StoreError>) {
        if let Some(error) = error {
            assert_eq!(error, StoreError::CutOff);
            self.log.push("killed".to_owned());
            self.kills += 1;
            self.left.set(None);
        }
    }

    fn deliver(&mut self, may_fail: bool) -> Result<usize, String> {
        let fails = may_fail && self.dice.once_in(3);
        let now = self.moment();
        let tell = async |notice: &chestnut_store::Notice| {
            Then::deserialize(&notice.facts).map_err(|e| e.to_string())?;
            let told = (notice.id, notice.event, notice.trouble, notice.attempt);
            if fails {
                return Err("exit status: 1".to_owned());
            }
            self.told.borrow_mut().push(told);
            Ok(())
        };
        let done = block_on(deliver(&self.store, || now, tell));
        let number = *done.as_ref().unwrap_or(&0);
        self.after(done.err());
        Ok(number)
    }

    fn step(&mut self) -> Result<(), String> {
        if self.dice.once_in(6) {
            self.left.set(Some(self.dice.roll(4)));
        }
        match self.dice.roll(8) {
            0 | 1 => {
                let key = (self.dice.roll(4), self.dice.roll(2));
                if !self.wrong.remove(&key) {
                    self.wrong.insert(key);
                }
                self.log.push(format!("{}: {:?}", self.now, self.wrong));
            }
            2 => self.now += [-3600, 3600, 86_400][self.dice.roll(3)],
            3..=5 => self.settle(),
            _ => drop(self.deliver(true)?),
        }
        self.now += [5, 60, 900][self.dice.roll(3)];
        Ok(())
    }

    /// Everything is well for long enough, and everybody listens.
    fn end(&mut self) -> Result<(), String> {
        self.left.set(None);
        self.wrong.clear();
        for _ in 0..20 {
            self.settle();
            self.now += 900;
        }
        for _ in 0..40 {
            self.deliver(false)?;
            self.now += 3600;
        }
        let open = self.store.open_troubles(i64::MAX).map_err(|e| e.to_string())?;
        if let Some(row) = open.iter().find(|row| row.ended.is_none()) {
            return Err(format!("goes on for ever: {row:?}"));
        }
        let given_up: Vec<_> = self.store.notices().map_err(|e| e.to_string())?;
        let mut of_trouble: BTreeMap<i64, Vec<(i64, NoticeEvent, u32)>> = BTreeMap::new();
        for (id, event, trouble, attempt) in self.told.borrow().iter() {
            of_trouble.entry(*trouble).or_default().push((*id, *event, *attempt));
        }
        for (trouble, told) in of_trouble {
            let mut seen: Vec<(i64, NoticeEvent)> = Vec::new();
            for (id, event, attempt) in told {
                if seen.contains(&(id, event)) {
                    if self.kills == 0 {
                        return Err(format!("trouble {trouble}: {event:?} {id} was told twice"));
                    }
                    if attempt < 2 {
                        return Err(format!(
                            "trouble {trouble}: the second telling says that it is the first"
                        ));
                    }
                    continue;
                }
                seen.push((id, event));
            }
            if given_up.iter().any(|notice| notice.trouble == trouble) {
                continue;
            }
            // Beginnings and ends take turns; what goes on is reminded of between them.
            let mut lasts = false;
            for (_, event) in seen {
                let fits = match event {
                    NoticeEvent::Begin => !std::mem::replace(&mut lasts, true),
                    NoticeEvent::Reminder => lasts,
                    NoticeEvent::End => std::mem::replace(&mut lasts, false),
                };
                if !fits {
                    return Err(format!("trouble {trouble}: {event:?} at the wrong time"));
                }
            }
            if lasts {
                return Err(format!("trouble {trouble}: its end was never told"));
            }
        }
        Ok(())
    }
}

fn live(seed: u64) -> Result<(), Failure> {
    let mut history = Troubled::new(seed);
    for _ in 0..60 {
        if let Err(problem) = history.step() {
            return Err((problem, history.log));
        }
    }
    history.end().map_err(|problem| (problem, std::mem::take(&mut history.log)))
}

#[test]
fn every_beginning_and_every_end_is_told_whatever_is_killed() {
    run_histories(&[], live);
}

fn paced(every: u64, calendars: &[&str], sources: &[&str]) -> Paced {
    let own = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect();
    Paced { every: Duration::from_secs(every), calendars: own(calendars), sources: own(sources), age: None }
}

/// Two hundred routes over twenty accounts live through a day: a server is down for hours, one asks to be left alone,
/// the machine sleeps. Outside of that each keeps its pace, and what comes back is met by no crowd.
#[test]
fn routes_keep_their_pace_through_a_day_of_failures() {
    let mut routes = BTreeMap::new();
    for number in 0..200 {
        let account = format!("account-{}", number % 20);
        let every = [5, 15, 15, 60][number % 4] * MINUTE;
        let calendars = [format!("calendar-{number}"), format!("board-{}", number / 2)];
        let names: Vec<&str> = calendars.iter().map(String::as_str).collect();
        routes.insert(format!("route-{number}"), paced(every, &names, &[&account]));
    }
    let mut pace = Pace::default();
    pace.set(&routes, BTreeSet::new(), Duration::ZERO);
    let is_down = |source: &str, at: u64| match source {
        "account-3" => (3 * HOUR..9 * HOUR).contains(&at),
        "account-7" => (5 * HOUR..5 * HOUR + 20 * MINUTE).contains(&at),
        _ => false,
    };
    let mut began: BTreeMap<String, Vec<u64>> = BTreeMap::new();
    let mut asked: BTreeMap<(String, u64), usize> = BTreeMap::new();
    let mut now = 0;
    let mut slept = false;
    while now < 24 * HOUR {
        if !slept && now > 14 * HOUR {
            (slept, now) = (true, now + 4 * HOUR);
        }
        let due = pace.due(Duration::from_secs(now));
        assert!(due.calendars.is_empty());
        for name in due.routes {
            let source = &routes[&name].sources[0];
            let mut went = Went::default();
            if is_down(source, now) {
                let wish = (source == "account-7").then(|| Duration::from_secs(30 * MINUTE));
                went.down.insert(source.clone(), wish);
            } else {
                began.entry(name.clone()).or_default().push(now);
            }
            *asked.entry((source.clone(), now / MINUTE)).or_default() += 1;
            pace.done(&name, &went, Duration::from_secs(now));
        }
        let next = pace.next().expect("something is due").as_secs();
        now = next.max(now + 1);
    }
    let usual = |account: &str, hours: std::ops::Range<u64>| {
        let minutes = hours.start * 60..hours.end * 60;
        asked
            .iter()
            .filter(|((source, at), _)| source == account && minutes.contains(at))
            .map(|(_, n)| *n)
            .max()
    };
    for (name, times) in &began {
        let every = routes[name].every.as_secs();
        let source = &routes[name].sources[0];
        for pair in times.windows(2).skip(1) {
            let gap = pair[1] - pair[0];
            let is_fault = |from: u64, to: u64| pair[1] >= from && pair[0] <= to;
            let excused = is_fault(14 * HOUR, 18 * HOUR + every)
                || source == "account-3" && is_fault(3 * HOUR, 10 * HOUR + every)
                || source == "account-7" && is_fault(5 * HOUR, 6 * HOUR + every);
            assert!(
                excused || (gap * 10 >= every * 9 && gap * 10 <= every * 11),
                "{name}: {gap} for {every}"
            );
        }
        // Woken from its sleep, each ran once, and not once for each time that it missed.
        let caught_up = times.iter().filter(|at| (18 * HOUR..18 * HOUR + every / 2).contains(*at)).count();
        assert!(caught_up <= 1 + (every / 2 / every.max(1)) as usize + 1, "{name}: {caught_up}");
    }
    // While it is down it is asked less and less; back again, no more at once than ever.
    let down: usize = asked
        .iter()
        .filter(|((source, at), _)| source == "account-3" && (4 * 60..9 * 60).contains(at))
        .map(|(_, n)| *n)
        .sum();
    assert!((5..=15).contains(&down), "{down} in five hours");
    let before = usual("account-3", 1..3).expect("it was asked");
    let after = usual("account-3", 9..12).expect("it was asked");
    assert!(after <= before * 2, "{after} in a minute after it came back, {before} before");
    let alone = usual("account-7", 5..6).expect("it was asked");
    let quiet = asked
        .iter()
        .filter(|((source, at), _)| source == "account-7" && (5 * 60 + 20..5 * 60 + 29).contains(at));
    assert_eq!(quiet.map(|(_, n)| *n).sum::<usize>(), 0, "it asked for half an hour, and {alone} came");
}

/// What rests says nothing of a server that is down; what is mended makes due what waited for it, and nothing else.
#[test]
fn what_waits_for_a_server_goes_on_when_it_is_mended() {
    let at = |seconds: u64| Duration::from_secs(seconds);
    let mut pace = Pace::default();
    let routes = [
        ("bookings".to_owned(), paced(900, &["presses", "board"], &["packhouse"])),
        ("crew".to_owned(), paced(900, &["market", "phones"], &["packhouse"])),
        ("days".to_owned(), paced(900, &["days", "kiosk"], &["markets"])),
    ];
    pace.set(&routes.into(), BTreeSet::new(), Duration::ZERO);
    let down = Went { down: [("packhouse".to_owned(), None)].into(), ..Went::default() };
    let rested = Went { rested: true, ..Went::default() };
    let mut now = 0;
    let mut asked = 0;
    while now < 6 * HOUR {
        for name in pace.due(at(now)).routes {
            let went = match name.as_str() {
                "bookings" => &down,
                "crew" => &rested,
                _ => &Went::default(),
            };
            asked += u32::from(name == "bookings");
            pace.done(&name, went, at(now));
        }
        now = pace.next().expect("something is due").as_secs().max(now + 1);
    }
    assert!((3..14).contains(&asked), "{asked} in six hours, though the other route rested beside it");
    pace.mended(at(now));
    assert!(pace.due(at(now)).routes.contains(&"bookings".to_owned()));
}

#[test]
fn a_calendar_that_changes_is_looked_at_soon_and_then_less() {
    let mut pace = Pace::default();
    let routes = [("bookings".to_owned(), paced(15 * MINUTE, &["presses", "board"], &["packhouse"]))];
    pace.set(&routes.into(), ["presses".to_owned()].into(), Duration::ZERO);
    let at = |seconds: u64| Duration::from_secs(seconds);
    let went = Went { moved: ["presses".to_owned()].into(), ..Went::default() };
    assert_eq!(pace.due(at(0)).routes, ["bookings"]);
    assert_eq!(pace.due(at(1)).routes, Vec::<String>::new(), "it runs");
    pace.done("bookings", &went, at(2));
    let mut looks = Vec::new();
    let mut now = 2;
    while now < HOUR {
        let due = pace.due(at(now));
        for name in due.routes {
            pace.done(&name, &Went::default(), at(now));
        }
        looks.extend(due.calendars.iter().map(|_| now));
        now = pace.next().expect("something is due").as_secs().max(now + 1);
    }
    let early = looks.iter().filter(|at| **at <= 11 * MINUTE).count();
    assert!((8..=11).contains(&early), "{looks:?}");
    assert!(looks.len() <= early + 4, "less and less often, then in its own time: {looks:?}");
    // What the system tells of is looked at at once, once.
    pace.touch("presses", at(now));
    assert!(pace.due(at(now)).calendars.contains(&"presses".to_owned()));
    assert!(!pace.due(at(now + 1)).calendars.contains(&"presses".to_owned()));
}

/// Twenty routes into one board live through a day with the real engine: what is looked at is looked at once, what did
/// not change does not run, what failed comes when it can, and troubles begin and end. The state is full or away for a
/// while, and the machine sleeps. `CHESTNUT_DAYS` says for how many days.
#[test]
fn a_day_of_rounds_ends_in_step() {
    let mut dice = Dice::new(7);
    let world = World::new(0);
    let store = world.store();
    let unusable: Rc<RefCell<Option<StoreError>>> = Rc::default();
    let gate = Rc::clone(&unusable);
    store.set_gate(move || gate.borrow().clone());
    let sources: Vec<_> = (0..20).map(|number| world.source.beside(&format!("crew-{number}"))).collect();
    let key = |number: usize| RouteKey::new(b"a key for tests", &format!("crew-{number}"));
    let tags: Vec<_> = (0..20).map(|number| key(number).tag().clone()).collect();
    let rules: Vec<Rule> = sources
        .iter()
        .enumerate()
        .map(|(number, source)| {
            let (from, to) = (world.route_at(source), world.route_at(&world.board));
            let rule = Rule::one_way(&format!("crew-{number}"), from, to, key(number));
            Rule { known_tags: tags.iter().cloned().collect(), ..rule }
        })
        .collect();
    let entry = |number: usize, title: &str| {
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:crew-{number}\r\n\
             DTSTAMP:20261001T060000Z\r\nDTSTART:20261101T080000Z\r\nSUMMARY:{title}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        )
    };
    let (mut runs, mut began, mut ended) = (0, 0, 0);
    let days = std::env::var_os("CHESTNUT_DAYS").and_then(|days| days.to_str()?.parse().ok()).unwrap_or(1);
    for round in 0..96 * days {
        let (day, round) = (round / 96, round % 96);
        // It sleeps for the first hours of the evening.
        world.pass(if round == 90 { 6 * 3600 } else { 15 * 60 });
        let fault = |kind| vec![Fault::always("REPORT", kind)];
        let status = |code| FaultKind::Status { code, retry_after: None };
        world.board.server.borrow_mut().faults = match round {
            20..30 => fault(status(503)),
            50..53 => fault(status(401)),
            _ => Vec::new(),
        };
        let changed = dice.roll(20);
        if round % 3 == 0 {
            world.write(&sources[changed], "1.ics", &entry(changed, &format!("Picking {day}.{round}")));
        }
        *unusable.borrow_mut() = match round {
            72..75 => Some(StoreError::Full),
            80..82 => Some(StoreError::Away("no answer".to_owned())),
            _ => None,
        };
        let is_unusable = unusable.borrow().is_some();
        // The clock is an hour ahead for a while.
        let ahead = if (60..70).contains(&round) { 3600 } else { 0 };
        let now = Timestamp::from_second(world.now() + ahead).expect("a moment");
        let options = RunOptions { round: Round::default(), is_asked: false, ..RunOptions::at(now) };
        drop((world.take_log(&world.source), world.take_log(&world.board)));
        let mut signs = Signs::default();
        block_on(look_at_calendars(&rules.iter().collect::<Vec<_>>(), &store, &options));
        let looked = world.take_log(&world.source).len() + world.take_log(&world.board).len();
        let is_calm = !(72..90).contains(&round)
            && round > 2
            && round % 3 != 0
            && !(18..34).contains(&round)
            && !(48..56).contains(&round);
        if is_calm {
            assert_eq!(looked, 21, "round {round}: each calendar once");
        }
        for rule in &rules {
            let down = options.round.failure(&rule.ends[1]);
            let wrong = |is: fn(&RunError) -> bool| down.as_ref().filter(|e| is(e)).map(|_| json!({}));
            let refused = |e: &RunError| format!("{e:?}").contains("SignIn");
            signs.note(TroubleKind::SignInRefused, "cloud", wrong(refused));
            signs.note(TroubleKind::ServerDown, "cloud", wrong(|e| !format!("{e:?}").contains("SignIn")));
            let known = store.route(&rule.name).expect("the state");
            if known.is_none_or(|known| has_news(rule, &known, &store, &options).expect("the state")) {
                let report = block_on(run_route(rule, &store, &options, &Silent));
                if is_unusable {
                    let error = report.map_or_else(Some, |report| report.error);
                    assert!(matches!(error, Some(RunError::Store(_))), "{error:?}");
                    continue;
                }
                let report = report.expect("a run");
                runs += 1;
                assert_eq!(report.error.is_some(), down.is_some(), "{:?}", report.error);
            }
        }
        let turns = settle(&store, &signs, true, now, Timestamp::UNIX_EPOCH);
        if is_unusable {
            // Where there is nothing to tell, nothing is written.
            assert!(turns.is_ok() || turns.err() == *unusable.borrow());
            continue;
        }
        let turns = turns.expect("the state");
        began += turns.iter().filter(|turn| turn.began).count();
        ended += turns.iter().filter(|turn| !turn.began).count();
    }
    // A server that was down, and a sign-in that was refused.
    assert_eq!((began, ended), (2 * days, 2 * days));
    // Once each at the beginning and on the next day, in thirteen rounds of failures, when either is over, and where
    // something changed.
    assert!(runs < days * (20 * (2 + 13 + 2) + 100), "{runs} runs");
    let mut wanted: Vec<_> =
        sources.iter().flat_map(|source| world.entries(source)).map(|entry| title(&entry)).collect();
    let mut copies: Vec<_> = world.entries(&world.board).iter().map(title).collect();
    wanted.sort();
    copies.sort();
    assert!(wanted.len() > 5);
    assert_eq!(copies, wanted);
    // What failed again and again is one line of the history.
    let failed = store.runs(Some("crew-3"), 100).expect("the state");
    assert!(failed.len() < 10 * days, "{} runs of one route are remembered", failed.len());
}

fn title(entry: &chestnut_core::Entry) -> String {
    entry.title()
}
