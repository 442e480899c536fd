//! The demonstration needs nothing but the program.

use std::io::{BufRead as _, BufReader};
use std::path::Path;
use std::process::Stdio;

use chestnut_testkit::hermetic;
use tempfile::TempDir;
use unicode_width::UnicodeWidthStr as _;

use crate::set_up::{PROGRAM, Told};

#[test]
fn it_shows_the_whole_job_and_leaves_nothing_behind() {
    let folder = TempDir::new().expect("a folder");
    let run = |arguments: &[&str]| {
        let mut command = hermetic(Path::new(PROGRAM), folder.path());
        Told::of(command.env("TMPDIR", folder.path()).args(arguments).output().expect("it runs"))
    };
    let told = run(&["demo"]);
    assert_eq!((told.code, told.err.as_str()), (0, ""), "{}", told.out);
    for expected in [
        "$ chestnut account test",
        "$ chestnut preview",
        "7 to create in board",
        "nothing of the test entry is left",
        "updated  Fri 16 Oct 09:00  Delivery van, second round",
        "deleted  Thu  3 Dec 12:15  Crate washing",
        "Ladders: picking crew, north rows",
        "bookings: 3 deletions",
        "Title: Delivery van to the market → Delivery van, second round",
        "1 disagreement settled",
        "15 entries: 15 in step",
        "create again  board  Thu  3 Dec 12:15  Crate washing",
        "A presses  B board  C market  D kiosk",
    ] {
        assert!(told.out.contains(expected), "{expected} is missing in {}", told.out);
    }
    assert_eq!(std::fs::read_dir(folder.path()).expect("the folder").count(), 0);
    // On other days of the year as well: its bookings move with them, across a new year and a changed clock.
    for day in
        ["2026-10-05T08:00:00Z", "2026-11-23T17:04:00Z", "2027-03-21T08:00:00Z", "2028-02-29T23:30:00Z"]
    {
        let mut command = hermetic(Path::new(PROGRAM), folder.path());
        let command = command.env("TMPDIR", folder.path()).env("CHESTNUT_NOW", day).arg("demo");
        let began = std::time::Instant::now();
        let told = Told::of(command.output().expect("it runs"));
        assert_eq!(told.code, 0, "on {day}: {}", told.out);
        // One story, on a screen of the usual width, while somebody watches.
        assert!(began.elapsed() < std::time::Duration::from_secs(20), "{:?}", began.elapsed());
        assert!(told.out.lines().count() <= 120, "on {day}: {} lines", told.out.lines().count());
        let widest = told.out.lines().max_by_key(|line| line.width()).expect("lines");
        assert!(widest.width() <= 80, "on {day}: {widest}");
    }
    let steps = run(&["demo", "--json"]).json();
    assert_eq!(steps["steps"].as_array().map(Vec::len), Some(13));
}

#[test]
fn kept_it_can_be_explored_with_the_ordinary_commands() {
    let folder = TempDir::new().expect("a folder");
    let mut demo = hermetic(Path::new(PROGRAM), folder.path())
        .args(["demo", "orchard", "--keep"])
        .stdout(Stdio::piped())
        .spawn()
        .expect("it starts");
    let lines = BufReader::new(demo.stdout.take().expect("its output")).lines();
    let told: Vec<String> =
        lines.map_while(Result::ok).take_while(|line| !line.contains("Press Ctrl-C")).collect();
    assert!(told.iter().any(|line| line.starts_with("  chestnut status ")), "{told:#?}");
    let status = hermetic(Path::new(PROGRAM), &folder.path().join("orchard")).arg("sync").output();
    let status = Told::of(status.expect("it runs"));
    demo.kill().expect("it is stopped");
    demo.wait().expect("it ends");
    assert_eq!(status.code, 0, "{status:?}");
    assert!(status.out.contains("nothing to do") && status.out.contains("paused"), "{status:?}");
    // A second demonstration does not overwrite what is there.
    let again = hermetic(Path::new(PROGRAM), folder.path()).args(["demo", "orchard"]).output();
    assert_eq!(Told::of(again.expect("it runs")).code, 2);
}
