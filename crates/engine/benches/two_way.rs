//! A whole two-way run with ten changes, among 1,000, 10,000 and 100,000 links, against servers in memory: its time
//! must not grow with the links.

use chestnut_testkit::World;
use divan::Bencher;

fn main() {
    divan::main();
}

#[divan::bench(args = [1_000, 10_000, 100_000], sample_count = 5, sample_size = 1)]
fn ten_changes(bencher: Bencher, links: usize) {
    let mut world = World::new(links);
    world.shape_two_way = std::rc::Rc::new(|route| {
        route.kinds = [chestnut_core::Kind::Event, chestnut_core::Kind::Task].into_iter().collect();
    });
    world.sync_two_way();
    for _ in 0..2 {
        world.pass(60);
        world.sync_two_way();
    }
    let round = std::cell::Cell::new(0);
    bencher
        .with_inputs(|| {
            round.set(round.get() + 1);
            // Right after its own writes a run compares the listing once: the token may be a second too young.
            world.pass(60);
            world.sync_two_way();
            for number in 0..10 {
                let name = format!("orchard-{:04}.ics", number * 97 % links);
                world.edit(&world.source, &name, "SUMMARY:", &format!("SUMMARY:{} ", round.get()));
            }
            world.pass(60);
        })
        .bench_local_values(|()| {
            let report = world.sync_two_way();
            assert_eq!(report.summary.writes, 10, "{:?}", report.summary);
        });
}
