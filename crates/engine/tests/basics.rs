use chestnut_testkit::World;
#[test]
fn first() {
    let world = World::new(60);
    let report = world.sync();
    println!("{:#?}", report);
    assert!(world.differences().is_empty(), "{:#?}", world.differences());
    println!("{:#?}", world.take_log(&world.target).len());
    world.take_log(&world.source);
    let report = world.sync();
    println!("{:?} {:?}", report.summary, report.error);
    println!("{:#?}", world.take_log(&world.target));
    println!("{:#?}", world.take_log(&world.source));
}
