//! G9: what a run costs follows what changed.

use chestnut_core::RouteKey;
use chestnut_core::recurrence::{Budget, Occurrences, Zone};
use chestnut_engine::{Round, Rule, RunOptions, Silent, look_at, run_route};
use chestnut_standin::Habit;
use chestnut_testkit::{World, block_on};

#[test]
fn no_change_costs_one_request_for_each_calendar() {
    for habits in [vec![], vec![Habit::NoSync], vec![Habit::NoSyncNoCtag]] {
        let world = World::new(100);
        habits.iter().for_each(|h| {
            world.habit(&world.source, *h);
            world.habit(&world.target, *h);
        });
        world.sync();
        for pause in [0, 60, 600] {
            world.pass(pause);
            let report = world.sync();
            assert_eq!(
                (report.summary.requests, report.summary.writes),
                (2, 0),
                "{habits:?} after {pause} s"
            );
        }
    }
}

/// Two processes run two routes out of one calendar at the same time.
#[test]
fn what_two_processes_want_of_a_calendar_is_read_once() {
    let world = World::new(1000);
    let to = |end, name: &str| {
        let key = RouteKey::new(b"a key for tests", name);
        Rule::one_way(name, world.route_at(&world.source), world.route_at(end), key)
    };
    let rules = [to(&world.target, "to-board"), to(&world.board, "to-wall")];
    for round in 0..2 {
        if round > 0 {
            world.pass(3600);
            for number in 0..300 {
                world.edit(&world.source, &format!("orchard-{number:04}.ics"), "SUMMARY:", "SUMMARY:Late ");
            }
        }
        world.source.sent.take();
        let options = RunOptions::at(jiff::Timestamp::from_second(world.now()).expect("a moment"));
        let own = |round| RunOptions { round, ..options.clone() };
        let (one, other) = (world.store(), world.store());
        let options = [own(Round::default()), own(Round::default())];
        let runs =
            [(0, &one), (1, &other)].map(|(at, store)| run_route(&rules[at], store, &options[at], &Silent));
        let reports = block_on(futures_util::future::join_all(runs));
        for report in reports {
            let report = report.expect("it runs");
            assert_eq!(report.error, None);
            assert!(report.summary.writes >= 280, "{:?}", report.summary);
        }
        let sent = world.source.sent.take();
        assert_eq!(
            sent.matches(".ics</").count(),
            if round == 0 { 1000 } else { 300 },
            "each was asked for once"
        );
    }
}

#[test]
fn requests_follow_changes_not_size() {
    let cost = |entries: usize| {
        let world = World::new(entries);
        world.sync();
        world.pass(60);
        world.sync();
        world.pass(60);
        for number in 0..20 {
            world.edit(&world.source, &format!("orchard-{number:04}.ics"), "SUMMARY:", "SUMMARY:Changed ");
        }
        for number in 20..25 {
            world.delete(&world.source, &format!("orchard-{number:04}.ics"));
        }
        world.add_entries(entries..entries + 5);
        let report = world.sync();
        assert_eq!(world.differences(), Vec::<String>::new());
        assert_eq!(report.summary.writes, 30, "{:?}", report.summary);
        report.summary.requests
    };
    let (small, large) = (cost(60), cost(600));
    assert_eq!(small, large);
    // Asking both, fetching, reading back, looking before deletions, looking afterwards.
    assert!(small <= 30 + 10, "{small} requests for 30 writes");
}

#[test]
fn a_new_name_or_colour_of_a_calendar_is_no_change_of_entries() {
    for habits in [vec![], vec![Habit::NoSync], vec![Habit::CountsSeconds]] {
        let world = World::new(20);
        habits.iter().for_each(|h| world.habit(&world.source, *h));
        world.sync();
        world.pass(60);
        world.source.server.borrow_mut().touch(&world.source.path);
        let report = world.sync();
        assert_eq!(
            (report.summary.writes, report.summary.linked),
            (0, 0),
            "{habits:?}: {:?}",
            report.changes
        );
    }
}

#[test]
fn an_entry_that_the_server_fails_to_give_comes_when_it_does() {
    use chestnut_standin::{Fault, FaultKind};
    let world = World::new(8);
    world.sync();
    world.edit(&world.source, "orchard-0003.ics", "SUMMARY:", "SUMMARY:Changed ");
    world.source.server.borrow_mut().faults =
        vec![Fault::always("GET", FaultKind::Status { code: 500, retry_after: None })];
    assert_eq!(world.sync().summary.left_out.get("unreadable"), Some(&1));
    world.source.server.borrow_mut().faults.clear();
    world.pass(60);
    assert_eq!(world.sync().summary.calendars["target"].updated, 1);
    assert_eq!(world.differences(), Vec::<String>::new());
}

/// Forty calendars, one board. Every calendar is asked once a round, however many routes use it.
#[test]
fn forty_routes_into_one_board_ask_it_once() {
    let world = World::new(0);
    let now = || jiff::Timestamp::from_second(world.now()).expect("a moment");
    let sources: Vec<_> = (0..40).map(|number| world.source.beside(&format!("crew-{number}"))).collect();
    // One account, for all of them.
    let board = world.route_at(&world.board);
    let keys: Vec<_> = (0..40).map(|n| RouteKey::new(b"a key for tests", &format!("crew-{n}"))).collect();
    let routes = sources.iter().zip(&keys).enumerate().map(|(number, (source, key))| {
        for day in 1..5 {
            let text = format!(
                "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:crew-{number}-{day}\r\n\
                 DTSTAMP:20261001T060000Z\r\nDTSTART:2026110{day}T080000Z\r\nSUMMARY:Picking {number}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
            );
            world.write(source, &format!("{day}.ics"), &text);
        }
        let (from, to) = (world.route_at(source), board.clone());
        let rule = Rule::one_way(&format!("crew-{number}"), from, to, key.clone());
        Rule { known_tags: keys.iter().map(|key| key.tag().clone()).collect(), ..rule }
    });
    let routes: Vec<_> = routes.collect();
    let store = world.store();
    let round = || {
        world.pass(60);
        let options = RunOptions { round: Round::default(), ..RunOptions::at(now()) };
        for route in &routes {
            let report = block_on(run_route(route, &store, &options, &Silent)).expect("a run");
            assert!(report.error.is_none(), "{:?}", report.error);
        }
        let (asked, board) = (world.take_log(&world.source), world.take_log(&world.board));
        (asked.len() + board.len(), board)
    };
    round();
    round();
    assert_eq!(world.entries(&world.board).len(), 160);
    assert_eq!(round().0, 41, "one for each calendar");
    world.edit(&sources[17], "1.ics", "Picking", "Pressing");
    let (all, board) = round();
    assert_eq!(all, 45, "its fetch, a write, reading it back, and a look after it: {board:?}");
    // Side by side, each tells of its own requests.
    sources.iter().for_each(|source| world.edit(source, "2.ics", "Picking", "Pressing"));
    world.take_log(&world.source);
    world.pass(60);
    let options = RunOptions { round: Round::default(), ..RunOptions::at(now()) };
    let runs = routes.iter().map(|route| run_route(route, &store, &options, &Silent));
    let reports = block_on(futures_util::future::join_all(runs));
    let told: Vec<_> = reports.into_iter().map(|report| report.expect("a run").summary).collect();
    let asked = world.take_log(&world.source).len() + world.take_log(&world.board).len();
    assert_eq!(told.iter().map(|summary| summary.requests).sum::<u64>(), asked as u64);
    assert!(told.iter().all(|summary| summary.writes == 1));
}

#[test]
fn whoever_looks_at_a_few_days_asks_once_and_reads_these_days_alone() {
    let world = World::new(300);
    for _ in 0..3 {
        world.sync();
        world.pass(60);
    }
    world.take_log(&world.target);
    let store = world.store();
    let now = jiff::Timestamp::from_second(world.now()).expect("a moment");
    let (from, to) = (world.now() + 5 * 86_400, world.now() + 12 * 86_400);
    let end = world.route_at(&world.target);
    let looked = |offline| block_on(look_at(&store, &end, now, from, offline)).expect("it is read");
    let seen = looked(false);
    assert_eq!(world.take_log(&world.target).len(), 1);
    let mut found = 0;
    seen.each_between(from..to, |_, _| found += 1).expect("read");
    // Nothing that takes place then is missing, and of the rest little is read.
    let all = world.entries(&world.target);
    let mut within = 0;
    for entry in &all {
        let times = Occurrences::of(entry, &Zone::Rules(jiff::tz::TimeZone::UTC)).expect("its times");
        within += usize::from(times.any_within(from..to, &mut Budget::default()).expect("few"));
    }
    assert!(
        found >= within && found < all.len() / 2,
        "{found} were read, {within} take place, of {}",
        all.len()
    );
    looked(true);
    assert!(world.take_log(&world.target).is_empty());
}
