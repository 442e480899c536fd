//! What the random histories share, and how many of them to run.

use chestnut_standin::FaultKind;
pub(crate) use chestnut_testkit::Dice;

/// A 207 that says nothing at all, not even of the calendar.
pub(crate) fn empty_multistatus() -> FaultKind {
    let text = "<?xml version=\"1.0\"?><D:multistatus xmlns:D=\"DAV:\"/>".to_owned();
    FaultKind::Body { code: 207, content_type: "application/xml".to_owned(), text }
}

/// What went wrong in a history, and what had happened until then.
pub(crate) type Failure = (String, Vec<String>);

/// Lives through so many rounds of a history; a round that fails says which it was.
pub(crate) fn live<H>(
    mut history: H,
    rounds: usize,
    round: fn(&mut H) -> Result<(), String>,
    log: fn(H) -> Vec<String>,
) -> Result<(), Failure> {
    for number in 0..rounds {
        if let Err(problem) = round(&mut history) {
            return Err((format!("round {number}: {problem}"), log(history)));
        }
    }
    Ok(())
}

/// Runs histories, each from its seed; the first that fails says with which seed, and what happened in it.
///
/// `CHESTNUT_HISTORIES` says how many (`.ci/run` asks for thousands of each kind), `CHESTNUT_SEED` with which seed the first begins.
pub(crate) fn run_histories(fell: &[u64], history: fn(u64) -> Result<(), Failure>) {
    run_some_histories(1, fell, history);
}

/// Runs one of so many of the histories that are asked for, and always those that once fell.
pub(crate) fn run_some_histories(one_of: u64, fell: &[u64], history: fn(u64) -> Result<(), Failure>) {
    let live = move |seed: u64| {
        if let Err((problem, log)) = history(seed) {
            panic!("CHESTNUT_SEED={seed} CHESTNUT_HISTORIES=1: {problem}\n{}", log.join("\n"));
        }
    };
    fell.iter().copied().for_each(live);
    let number = |name: &str, default: u64| {
        let text = std::env::var_os(name).and_then(|text| text.into_string().ok());
        text.and_then(|text| text.parse().ok()).unwrap_or(default)
    };
    let count = number("CHESTNUT_HISTORIES", 600).div_ceil(one_of);
    let first = number("CHESTNUT_SEED", 1);
    // Two threads: as many as the smallest machine has cores.
    let threads: Vec<_> = (0..2)
        .map(|part| {
            std::thread::spawn(move || {
                (first..first + count).filter(|seed| seed % 2 == part).for_each(live);
            })
        })
        .collect();
    for thread in threads {
        if let Err(problem) = thread.join() {
            std::panic::resume_unwind(problem);
        }
    }
}
