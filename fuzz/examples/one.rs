//! Feeds one target with files, and says how long each took: `cargo run --example one -- TARGET FILE…`

#[expect(clippy::print_stdout, reason = "it says what it measured")]
fn main() {
    let mut arguments = std::env::args().skip(1);
    let name = arguments.next().unwrap_or_default();
    let target = chestnut_fuzz::TARGETS.iter().find(|(known, _)| *known == name).expect("a target").1;
    for file in arguments {
        let bytes = std::fs::read(&file).expect("a file");
        let began = std::time::Instant::now();
        target(&bytes);
        println!("{file}: {:?}", began.elapsed());
    }
}
