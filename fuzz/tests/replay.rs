//! Everything that a fuzzer found interesting, once more: on every machine, without a fuzzer.

use std::path::Path;

#[test]
fn what_was_found_comes_back() {
    for (name, target) in chestnut_fuzz::TARGETS {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("corpus").join(name);
        let files = std::fs::read_dir(&folder).expect("a corpus").map(|file| file.expect("a file").path());
        let mut count = 0;
        for path in files {
            let bytes = std::fs::read(&path).expect("a file");
            println!("{}", path.display());
            target(&bytes);
            count += 1;
        }
        assert!(count > 0, "{name} has no corpus");
    }
}
