//! Answers that go wrong now and then: the run goes on or fails as a whole, and the next one ends well.

use chestnut_standin::{Fault, FaultKind, Habit};
use chestnut_store::RunResult;
use chestnut_testkit::World;
use proptest::prelude::*;

fn status(code: u16, retry_after: Option<u64>) -> FaultKind {
    FaultKind::Status { code, retry_after }
}

fn assert_heals(world: &World, what: &str) {
    world.source.server.borrow_mut().faults.clear();
    world.target.server.borrow_mut().faults.clear();
    let report = world.sync();
    assert_eq!(report.result, RunResult::Ok, "{what}: {:?} {:?}", report.error, report.changes);
    assert_eq!(world.differences(), Vec::<String>::new(), "{what}");
    let again = world.sync();
    assert_eq!(again.summary.writes, 0, "{what}: {:?}", again.changes);
}

#[test]
fn passing_faults_are_ridden_out_in_the_same_run() {
    let kinds =
        [status(503, Some(7)), status(429, None), status(423, None), status(500, None), FaultKind::HalfBody];
    for (kind, method) in
        kinds.iter().flat_map(|kind| ["PROPFIND", "REPORT", "PUT", "DELETE", "GET"].map(|m| (kind, m)))
    {
        let world = World::new(12);
        world.sync();
        world.edit(&world.source, "orchard-0002.ics", "SUMMARY:", "SUMMARY:Changed ");
        world.delete(&world.source, "orchard-0005.ics");
        for end in [&world.source, &world.target] {
            end.server.borrow_mut().faults = vec![Fault { times: 2, ..Fault::once(method, kind.clone()) }];
        }
        let what = format!("{kind:?} to {method}");
        let report = world.sync();
        assert_eq!(report.result, RunResult::Ok, "{what}: {:?} {:?}", report.error, report.changes);
        assert_eq!(world.differences(), Vec::<String>::new(), "{what}");
        assert_heals(&world, &what);
    }
}

#[test]
fn lasting_faults_lose_nothing_and_heal() {
    let kinds =
        [status(503, None), status(401, None), status(403, None), FaultKind::LoseAnswer, FaultKind::HalfBody];
    for (kind, method) in
        kinds.iter().flat_map(|kind| ["PROPFIND", "REPORT", "PUT", "DELETE"].map(|m| (kind, m)))
    {
        for after in [0, 3] {
            let world = World::new(12);
            world.sync();
            world.delete(&world.source, "orchard-0005.ics");
            world.add_entries(12..18);
            world.target.server.borrow_mut().faults =
                vec![Fault { after, ..Fault::always(method, kind.clone()) }];
            let what = format!("{kind:?} to every {method} after {after}");
            let report = world.sync();
            let standing = world.target.server.borrow().texts(&world.target.path).len();
            assert!((11..=18).contains(&standing), "{what}: {standing}");
            // What was refused without a reason is a trouble of the day: it is sent again after a pause.
            assert!(!report.summary.left_out.contains_key("refused"), "{what}");
            if matches!(kind, FaultKind::Status { code: 403, .. }) {
                world.pass(3600);
            }
            assert_heals(&world, &what);
        }
    }
}

#[test]
fn a_server_that_is_down_is_left_alone() {
    let world = World::new(60);
    world.target.server.borrow_mut().faults = vec![Fault::always("PUT", status(503, Some(3600)))];
    let report = world.sync();
    assert_eq!(report.result, RunResult::Failed);
    // Retry-After names a longer time than a run waits: nothing is sent twice.
    assert!(report.summary.writes <= 60, "{:?}", report.summary);
    assert_heals(&world, "down");
}

fn rewriting() -> impl Strategy<Value = Vec<Habit>> {
    use Habit::{
        AddsDefaults, AddsDuration, AddsZones, CutsAtComma, DropsEmpty, EtagCounts, EtagMoves, FloatingToUtc,
        Forgets403, ForgetsSilently, IgnoresIfMatch, LowerHexHrefs, MultigetFails, MultigetOmits,
        NamesItself, NoEtagOnPut, NoSync, NoSyncNoCtag, NullAfterPut, Reorders, ReordersRules,
        RepeatsLastChange, RoundsGeo, SplitsEscapedCommas, SplitsLists, SpuriousRemovals,
        SurrogateReferences, TrimsTexts, Truncates507, WeakEtags, WritesDuration,
    };
    let all = vec![
        AddsDefaults,
        AddsDuration,
        AddsZones,
        CutsAtComma,
        DropsEmpty,
        EtagCounts,
        EtagMoves,
        FloatingToUtc,
        Forgets403,
        ForgetsSilently,
        IgnoresIfMatch,
        LowerHexHrefs,
        MultigetFails,
        MultigetOmits,
        NamesItself,
        NoEtagOnPut,
        NoSync,
        NoSyncNoCtag,
        NullAfterPut,
        RepeatsLastChange,
        Reorders,
        ReordersRules,
        RoundsGeo,
        SplitsEscapedCommas,
        SplitsLists,
        SpuriousRemovals,
        SurrogateReferences,
        TrimsTexts,
        Truncates507,
        WeakEtags,
        WritesDuration,
    ];
    prop::sample::subsequence(all, 0..8)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]
    #[test]
    fn a_second_sync_writes_nothing_whatever_the_servers_do(
        source in rewriting(), target in rewriting(), edits in prop::collection::vec(0..24_usize, 0..6),
    ) {
        let world = World::new(0);
        source.iter().for_each(|h| world.habit(&world.source, *h));
        target.iter().for_each(|h| world.habit(&world.target, *h));
        world.add_entries(0..24);
        prop_assert!(world.sync().error.is_none());
        prop_assert_eq!(world.sync().summary.writes, 0);
        for (round, number) in edits.into_iter().enumerate() {
            let name = format!("orchard-{number:04}.ics");
            let there = world.source.server.borrow().texts(&world.source.path);
            match there.get(&name) {
                Some(text) if text.contains("SUMMARY:") && round % 3 < 2 => {
                    world.edit(&world.source, &name, "SUMMARY:", "SUMMARY:Changed ");
                }
                Some(_) => world.delete(&world.source, &name),
                None => {}
            }
        }
        prop_assert!(world.sync().error.is_none());
        let last = world.sync();
        prop_assert_eq!(last.summary.writes, 0, "{:?}", last.changes);
    }
}
